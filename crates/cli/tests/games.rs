//! Each game from a bare server to a clean start, through changes, and back beside a twin that never saw the program.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // a test may stop where it fails

mod club;

use std::collections::BTreeMap;
use std::fs;
use std::io::Write as _;

use club::{Club, differ, tree};
use yalotheca_standin::club::signed;
use yalotheca_standin::games::capstan::arena;
use yalotheca_standin::games::coldrail::Signer;

/// What differs from the twin, but for our own state and what the server itself leaves behind.
fn unlike(twin: &BTreeMap<String, Vec<u8>>, club: &Club) -> Vec<String> {
    let mut out = differ(twin, &club.tree());
    out.retain(|name| name != "roster.toml");
    out
}

fn codes(club: &Club) -> Vec<String> {
    let found = club.run("check --json").json();
    let code = |f: &serde_json::Value| f["code"].as_str().unwrap().to_owned();
    found["findings"].as_array().unwrap().iter().map(code).collect()
}

#[test]
fn arenas_come_and_go() {
    let club = Club::of("capstan");
    let twin = club.tree();
    club.ok("adopt --catalogue HOST --quiet");
    assert_eq!(codes(&club), Vec::<String>::new());
    // from a zip with junk beside it, from a packed file, from a folder
    fs::create_dir_all(club.dir.path().join("from Bo/maps")).unwrap();
    fs::write(club.dir.path().join("from Bo/maps/net-loft.cma"), arena("net-loft", 9_000)).unwrap();
    fs::write(club.dir.path().join("from Bo/notes.txt"), "have fun\n").unwrap();
    club.ok("want pier-rush winch-yard long-breakwater");
    let mut folder = club.command("want");
    folder.arg("../from Bo");
    let ran = club.ran("want '../from Bo'", folder);
    assert_eq!(ran.code, 0, "{}", ran.text);
    club.ok("settle --yes");
    let maps: Vec<String> = tree(&club.path("arenas")).into_keys().collect();
    assert_eq!(
        maps,
        [
            "long-breakwater.cma",
            "long-breakwater.trails",
            "net-loft.cma",
            "old-pier.cma",
            "old-pier.trails",
            "pier-rush.cma",
            "pier-rush.trails",
            "winch-yard.cma",
        ]
    );
    let list = club.read("arenas.list");
    assert!(list.starts_with("# name  in|out  turns\nold-pier in 5\n"), "{list}");
    for line in ["pier-rush in 3", "winch-yard in 3", "long-breakwater in 3", "net-loft in 3"] {
        assert_eq!(list.matches(&format!("{line}\n")).count(), 1, "{list}");
    }
    assert!(club.read("capstan.cfg").contains("send_limit_mb \"4\""));
    assert!(
        club.visit().ends_with("in: old-pier, long-breakwater, net-loft, pier-rush, winch-yard\n"),
        "{}",
        club.visit()
    );
    let ran = club.ok("trial");
    assert!(ran.text.contains("Clean:"), "{}", ran.text);
    assert!(club.ok("settle").text.contains("Nothing to do"));
    // who is in, and for how many turns
    club.ok("maps rotation pier-rush out 7 --quiet");
    club.ok("settle --yes");
    assert!(club.read("arenas.list").contains("pier-rush out 7\n"));
    // what cannot be chosen is refused with what can
    let ran = club.run("maps rotation pier-rush in 200");
    assert!(ran.code == 2 && ran.text.contains("is a number, 99 or less"), "{}", ran.text);
    let ran = club.run("want pier-rush --set turn=2");
    assert!(ran.code == 2 && ran.text.contains("did you mean `turns`?"), "{}", ran.text);
    let ran = club.run("want pier-rush --kind areena");
    assert!(ran.code == 2 && ran.text.contains("did you mean `arena`?"), "{}", ran.text);
    // a name that stands twice is found
    let good = club.read("arenas.list");
    club.write("arenas.list", format!("{good}pier-rush in 2\n"));
    assert!(codes(&club).contains(&"stands-twice".to_owned()), "{:?}", codes(&club));
    club.write("arenas.list", good);
    // a line changed by hand stays, and one of somebody else's too
    club.write("arenas.list", club.read("arenas.list").replace("winch-yard in 3", "winch-yard in 9"));
    assert_eq!(codes(&club), ["changed-by-hand"]);
    assert!(club.ok("settle").text.contains("Nothing to do"));
    let ran = club.run("maps rotation old-peir in 2");
    assert!(ran.text.replace("\n      ", "").contains("did you mean `old-pier`?"), "{}", ran.text);
    club.ok("drop pier-rush winch-yard long-breakwater net-loft --quiet");
    club.ok("settle --yes");
    assert_eq!(unlike(&twin, &club), Vec::<String>::new());
    // and forth again
    club.ok("undo --yes");
    assert!(club.visit().contains("arena winch-yard loaded, in for 9 turns"));
}

#[test]
fn an_arena_that_is_too_large_is_told() {
    let club = Club::adopted_of("capstan");
    club.ok("want pier-rush --quiet");
    club.ok("settle --yes");
    let huge = fs::File::create(club.path("arenas/ocean.cma")).unwrap();
    huge.set_len(230_000_000).unwrap();
    let ran = club.run("settle --dry-run");
    assert!(ran.text.contains("bound-too-large") && ran.text.contains("would have to be 230"), "{}", ran.text);
    fs::remove_file(club.path("arenas/ocean.cma")).unwrap();
    // what somebody set by hand is kept, and told when it is too low
    club.ok("want long-breakwater --quiet");
    club.ok("settle --yes");
    club.write("capstan.cfg", club.read("capstan.cfg").replace("send_limit_mb \"4\"", "send_limit_mb \"3\""));
    let ran = club.run("settle --dry-run");
    assert!(ran.text.contains("bound-too-low") && ran.text.contains("'send_limit_mb=4'"), "{}", ran.text);
    assert!(club.visit().contains("not in: arena long-breakwater"));
}

#[test]
fn archives_and_strange_arenas_are_found() {
    let club = Club::adopted_of("capstan");
    club.ok("want pier-rush --quiet");
    club.ok("settle --yes");
    // half of a map, and one whose name lost its case
    let whole = fs::read(club.path("arenas/pier-rush.cma")).unwrap();
    club.write("arenas/pier-rush.cma", &whole[..1_000]);
    assert_eq!(codes(&club), ["half-copied"]);
    club.ok("settle --yes --put-back arenas/pier-rush.cma");
    fs::rename(club.path("arenas/pier-rush.cma"), club.path("arenas/Pier-Rush.cma")).unwrap();
    assert_eq!(codes(&club), ["case", "missing-file"]);
    fs::rename(club.path("arenas/Pier-Rush.cma"), club.path("arenas/pier-rush.cma")).unwrap();
    club.write("arenas.list", format!("{}Pier-Rush in 1\n", club.read("arenas.list")));
    assert!(codes(&club).contains(&"case".to_owned()), "{:?}", codes(&club));
    club.write("arenas.list", club.read("arenas.list").replace("Pier-Rush in 1\n", ""));
    // half of one put there by hand: the catalogue knows how many bytes it has
    club.write("arenas/winch-yard.cma", arena("winch-yard", 12_000));
    assert_eq!(codes(&club), ["half-copied"]);
    let text = club.run("check").text;
    assert!(text.contains("bytes, and the catalogue's has 39994 (2)"), "{text}");
    club.write("arenas/winch-yard.cma", arena("winch-yard", 40_000));
    assert_eq!(codes(&club), ["unknown-file"]);
    fs::remove_file(club.path("arenas/winch-yard.cma")).unwrap();
    club.write("arenas/upload.zip", b"PK\x03\x04");
    club.write("arenas/stray.cma", arena("stray", 900));
    let found = codes(&club);
    assert_eq!(found, ["unknown-file", "unknown-file"]);
    let text = club.run("check").text;
    assert!(text.contains("yalotheca want ./arenas/upload.zip"), "{text}");
    assert!(text.contains("yalotheca want ./arenas/stray.cma"), "{text}");
    // two candidates for the one real file
    let mut zip = zip::ZipWriter::new(fs::File::create(club.path("two.zip")).unwrap());
    for name in ["a.cma", "b.cma"] {
        zip.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(&arena(name, 400)).unwrap();
    }
    zip.finish().unwrap();
    let ran = club.run("want ./two.zip");
    assert_eq!(ran.code, 3);
    assert!(ran.text.contains("the arena `a.cma` or the arena `b.cma`"), "{}", ran.text);
    // an archive in an archive
    let mut inner = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    inner.start_file("deep.cma", zip::write::SimpleFileOptions::default()).unwrap();
    inner.write_all(&arena("deep", 500)).unwrap();
    let inner = inner.finish().unwrap().into_inner();
    let mut outer = zip::ZipWriter::new(fs::File::create(club.path("outer.zip")).unwrap());
    for (name, bytes) in [("map/deep.zip", inner.as_slice()), ("map/license.txt", b"free\n")] {
        outer.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        outer.write_all(bytes).unwrap();
    }
    outer.finish().unwrap();
    let ran = club.ok("want ./outer.zip");
    assert!(ran.text.contains("arenas/deep.cma") && ran.text.contains("map/license.txt"), "{}", ran.text);
}

#[test]
fn lands_have_numbers_and_walk_grids() {
    let club = Club::of("thornmere");
    let twin = club.tree();
    club.ok("adopt --catalogue HOST --quiet");
    assert_eq!(differ(&twin, &club.tree()), ["roster.toml"]);
    club.ok("want low-moor@=1 far-tarn --quiet");
    club.ok("settle --yes");
    assert_eq!(club.read("lands.tbl"), "# number name state\n3 stone-ring open\n4 far-tarn open\n5 low-moor open\n");
    assert!(club.visit().contains("thornmere is up"), "{}", club.visit());
    // the newer floor: one entry is replaced, the others stay byte for byte
    let packed = |name: &str| {
        let mut zip = zip::ZipArchive::new(fs::File::open(club.path("regions/west.pack")).unwrap()).unwrap();
        let mut raw = Vec::new();
        std::io::copy(&mut zip.by_name(name).unwrap(), &mut raw).unwrap();
        raw
    };
    let ring = packed("stone-ring.grid");
    club.ok("want low-moor@=2 bramble-gate --quiet");
    club.ok("settle --yes");
    assert_eq!(packed("stone-ring.grid"), ring);
    assert_eq!(packed("low-moor.grid"), b"floor of low moor, drained");
    club.ok("maps rotation low-moor out --quiet");
    club.ok("settle --yes");
    assert!(club.read("lands.tbl").contains("5 low-moor shut\n6 bramble-gate open\n"), "{}", club.read("lands.tbl"));
    let log = yalotheca_standin::games::visit("thornmere", &club.server(), &["low-moor"]);
    assert!(log.ends_with("not in: land low-moor is shut\n"), "{log}");
    let ran = club.ok("trial");
    assert!(ran.text.contains("Clean:"), "{}", ran.text);
    club.ok("drop far-tarn --quiet");
    club.ok("settle --yes");
    club.ok("drop low-moor bramble-gate --quiet");
    club.ok("settle --yes");
    assert_eq!(unlike(&twin, &club), Vec::<String>::new());
    // a land without one of its files is refused
    let half = club.dir.path().join("half-land");
    fs::create_dir_all(&half).unwrap();
    fs::write(half.join("floor.bin"), "floor").unwrap();
    fs::write(half.join("about.ini"), "[land]\nregion = west\n").unwrap();
    let ran = club.run("want ../half-land");
    assert_eq!(ran.code, 3, "{}", ran.text);
    assert!(ran.text.contains("has no `props.bin`, which a land needs"), "{}", ran.text);
}

#[test]
fn a_stock_land_can_be_dropped_and_taken_back() {
    let club = Club::adopted_of("thornmere");
    let twin = club.tree();
    assert!(club.read("roster.toml").contains("stone-ring"), "{}", club.read("roster.toml"));
    club.ok("want far-tarn --quiet");
    club.ok("settle --yes");
    club.ok("drop stone-ring --quiet");
    club.ok("settle --yes");
    assert_eq!(club.read("lands.tbl"), "# number name state\n4 far-tarn open\n");
    club.ok("undo --yes");
    club.ok("undo 2 --yes");
    assert_eq!(unlike(&twin, &club), Vec::<String>::new());
}

#[test]
fn signed_mods_and_the_land_that_is_played() {
    let club = Club::of("coldrail");
    let twin = club.tree();
    club.ok("adopt --catalogue HOST --quiet");
    club.ok("want high-pass salt-flats snow-plough --quiet");
    club.ok("settle --yes");
    // no land is loaded before one is played; frameworks come first
    assert_eq!(club.read("launch.args"), "--port=2710\n--with=bogie\n--with=snow-plough\n");
    assert!(club.read("coldrail.conf").contains("    pool_mb = 6\n"));
    assert!(club.visit().contains("in: first-thaw"), "{}", club.visit());
    club.ok("maps use night-mail --quiet");
    club.ok("settle --yes");
    assert_eq!(club.read("tonight.yaml"), "# what is played\nland: High Pass\nstory: night-mail\n");
    assert!(club.visit().ends_with("in: night-mail, visit 1\n"), "{}", club.visit());
    let away = yalotheca_standin::games::visit("coldrail", &club.server(), &["bogie"]);
    assert!(away.contains("not in: you lack mod"), "{away}");
    // there and back: what was saved stays
    club.ok("maps use salt-flats --quiet");
    club.ok("settle --yes");
    assert!(club.visit().ends_with("in: white-run, visit 1\n"), "{}", club.visit());
    club.ok("maps use high-pass --quiet");
    club.ok("settle --yes");
    assert!(club.visit().ends_with("in: night-mail, visit 2\n"), "{}", club.visit());
    let listed = club.ok("maps").text;
    assert!(listed.contains("first-thaw") && listed.contains("was there before"), "{listed}");
    // the stock one again, without naming an item
    club.ok("maps use first-thaw --quiet");
    club.ok("settle --yes");
    assert_eq!(club.read("tonight.yaml"), "# what is played\nland: Old Spur\nstory: first-thaw\n");
    club.ok("maps use night-mail --quiet");
    club.ok("settle --yes");
    club.ok("drop high-pass salt-flats snow-plough --quiet");
    club.ok("settle --yes");
    let mut left = unlike(&twin, &club);
    left.retain(|name| !name.starts_with("saves/"));
    assert_eq!(left, Vec::<String>::new());
}

#[test]
fn what_asks_for_a_second_start_gets_one() {
    let club = Club::adopted_of("coldrail");
    club.ok("want warm-cab --quiet");
    club.ok("settle --yes");
    let ran = club.ok("trial");
    assert!(ran.text.contains("It was started 2 times:"), "{}", ran.text);
    assert!(ran.text.contains("warm-cab") && ran.text.contains("Clean:"), "{}", ran.text);
}

#[test]
fn signers_are_trusted_by_somebodys_word_only() {
    let club = Club::adopted_of("coldrail");
    let foreign = Signer::number(7).unwrap().fingerprint();
    let ran = club.run("want ice-lantern");
    assert_eq!(ran.code, 6, "{}", ran.text);
    assert!(ran.text.contains("unknown-signer") && ran.text.contains(&foreign), "{}", ran.text);
    let ran = club.run("settle --yes");
    assert_eq!(ran.code, 6, "{}", ran.text);
    assert!(!club.path("vouched").exists());
    // a dry run vouches for nobody
    assert_eq!(club.run(&format!("settle --dry-run --vouch {foreign}")).code, 1);
    assert!(!club.read("roster.toml").contains(&foreign));
    club.ok(&format!("settle --yes --vouch {foreign}"));
    assert!(club.read("roster.toml").contains(&foreign));
    assert!(club.visit().contains("mod ice-lantern loaded"), "{}", club.visit());
    // another signer of a known item is asked about
    let other = signed("ice-lantern", "1.1", &serde_json::json!({}), b"lantern 2", &[], 8);
    club.write("ice.zip", other);
    let ran = club.run("want ./ice.zip");
    assert!(ran.text.contains("changed-signer"), "{}", ran.text);
    // one whose content is not what was signed is refused, whoever vouches
    let good = signed("far-horn", "1.0", &serde_json::json!({}), b"horn", &[], 7);
    let mut old = zip::ZipArchive::new(std::io::Cursor::new(good)).unwrap();
    let mut bad = zip::ZipWriter::new(fs::File::create(club.path("bad.zip")).unwrap());
    for at in 0..old.len() {
        let mut member = old.by_index(at).unwrap();
        let name = member.name().unwrap().into_owned();
        let mut bytes = Vec::new();
        std::io::copy(&mut member, &mut bytes).unwrap();
        if name.ends_with(".cra") {
            bytes.push(b'!');
        }
        bad.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        bad.write_all(&bytes).unwrap();
    }
    bad.finish().unwrap();
    let ran = club.run("want ./bad.zip");
    assert_eq!(ran.code, 5, "{}", ran.text);
    assert!(ran.text.replace("\n       ", " ").contains("is not the file that was signed"), "{}", ran.text);
    // the key taken away by hand is found
    fs::remove_file(club.path(&format!("vouched/{foreign}.pub"))).unwrap();
    let ran = club.run("check");
    assert!(ran.text.contains("missing-file") && ran.text.contains("vouched/"), "{}", ran.text);
}

#[test]
fn mods_put_there_by_hand_are_held_against_their_signers() {
    let club = Club::adopted_of("coldrail");
    let put = |name: &str, archive: Vec<u8>| {
        let mut zip = zip::ZipArchive::new(std::io::Cursor::new(archive)).unwrap();
        for at in 0..zip.len() {
            let mut member = zip.by_index(at).unwrap();
            let path = member.name().unwrap().into_owned();
            let mut bytes = Vec::new();
            std::io::copy(&mut member, &mut bytes).unwrap();
            club.write(&format!("mods/{name}/{path}"), bytes);
        }
    };
    // foreign: signed well, and nobody vouches
    let signer = Signer::number(7).unwrap();
    put("far-horn", signed("far-horn", "1.0", &serde_json::json!({}), b"horn", &[], 7));
    assert_eq!(codes(&club), ["unknown-signer"]);
    let text = club.run("check").text.replace("\n    ", " ");
    assert!(text.contains(&format!("settle --vouch {}", signer.fingerprint())), "{text}");
    // somebody vouched for it by hand
    let key = |signer: &Signer| format!("coldrail-key {}\n", signer.key());
    club.write(&format!("vouched/{}.pub", signer.fingerprint()), key(&signer));
    assert_eq!(codes(&club), ["unknown-file"]);
    // stale: its content is newer than its seals
    club.write("mods/far-horn/content/far-horn.cra", b"a louder horn");
    assert_eq!(codes(&club), ["unsound"]);
    assert!(club.run("check").text.replace("\n    ", " ").contains("is not the file that was signed"));
    // missing: no seals at all
    fs::remove_file(club.path("mods/far-horn/seals.json")).unwrap();
    assert_eq!(codes(&club), ["unsound"]);
    assert!(club.run("check").text.contains("`seals.json` is not in it"), "{}", club.run("check").text);
}

#[test]
fn a_story_is_yours_once_it_is_there() {
    let club = Club::adopted_of("coldrail");
    let signer = Signer::number(2).unwrap().fingerprint();
    let land = |version: &str, chapters: u8| {
        let story = format!("land = \"Tar Cut\"\nchapters = {chapters}\n");
        let files = [
            ("stories/tar-run/story.toml".to_owned(), story.into_bytes()),
            ("stories/tar-run/cast.txt".to_owned(), b"three stokers\n".to_vec()),
        ];
        signed("tar-cut", version, &serde_json::json!({ "land": "Tar Cut" }), b"tar", &files, 2)
    };
    club.write("tar.zip", land("1.0", 3));
    let ran = club.run("want ./tar.zip");
    assert_eq!(ran.code, 6, "{}", ran.text);
    club.ok(&format!("settle --yes --vouch {signer}"));
    let mine = "land = \"Tar Cut\"\nchapters = 3\nmine = true\n";
    club.write("stories/tar-run/story.toml", mine);
    assert_eq!(codes(&club), ["unknown-file"]);
    club.write("tar.zip", land("1.1", 4));
    let ran = club.ok("want ./tar.zip");
    assert!(ran.text.contains("default-changed"), "{}", ran.text);
    assert!(ran.text.contains("- chapters = 3") && ran.text.contains("+ chapters = 4"), "{}", ran.text);
    club.ok("settle --yes");
    assert_eq!(club.read("stories/tar-run/story.toml"), mine);
    assert!(club.read("stories/tar-run/story.toml.new").contains("chapters = 4"));
    assert!(club.ok("settle").text.contains("Nothing to do"));
    // it goes with its item only as far as nobody changed it
    club.ok("drop tar-cut --quiet");
    club.ok("settle --yes");
    assert_eq!(club.read("stories/tar-run/story.toml"), mine);
    assert!(!club.path("stories/tar-run/cast.txt").exists());
}

#[test]
fn places_that_only_a_start_names() {
    let club = Club::of("lanternfall");
    let twin = club.tree();
    club.ok("adopt --catalogue HOST --quiet");
    let ran = club.ok("want 48213077 https://tidewrack.example/items/48213078 brighter-lamps");
    assert!(ran.text.contains("grey-lantern-head") && ran.text.contains("salt-stair"), "{}", ran.text);
    club.ok("settle --yes");
    assert!(club.read("world.ini").contains("sequence = GreyLantern | Old Harbour\n"), "{}", club.read("world.ini"));
    assert!(codes(&club).contains(&"waits-for-start".to_owned()), "{:?}", codes(&club));
    let ran = club.ok("trial");
    assert!(ran.text.contains("It was started 2 times:") && ran.text.contains("Clean:"), "{}", ran.text);
    assert!(club.read("world.ini").contains("sequence = GreyLantern | saltstair | Old Harbour\n"));
    assert!(club.read("arrivals.json").contains("fetched/48213078/saltstair/points.json"));
    assert_eq!(codes(&club), Vec::<String>::new());
    assert!(club.ok("settle").text.contains("Nothing to do"));
    club.ok("maps use saltstair --quiet");
    club.ok("settle --yes");
    assert!(club.visit().ends_with("in: saltstair\n"), "{}", club.visit());
    // a number that no catalogue knows: of two kinds, one must be named
    let ran = club.run("want 48220111");
    assert!(ran.code == 2 && ran.text.contains("--kind place"), "{}", ran.text);
    club.ok("want 48220111 --kind place --quiet");
    club.ok("settle --yes");
    club.ok("trial");
    assert!(club.read("world.ini").contains(" | Deep Bell | Old Harbour\n"), "{}", club.read("world.ini"));
    club.ok("drop grey-lantern-head salt-stair brighter-lamps 48220111 --quiet");
    club.ok("settle --yes");
    // the server itself takes away what it is to fetch no more
    assert!(club.visit().ends_with("in: Old Harbour\n"), "{}", club.visit());
    assert_eq!(unlike(&twin, &club), Vec::<String>::new());
}
