//! Kits: items in their very releases, files that their own list sends to their places, and nothing that is run.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)] // a test may stop where it fails

mod club;

use std::fs;

use club::{Club, differ};
use yalotheca_standin::catalogue::sha256;
use yalotheca_standin::club::{kit, pack, players_kit};
use yalotheca_standin::host::Mood;

fn refused(club: &Club, bytes: &[u8], code: i32, words: &str) {
    fs::write(club.dir.path().join("kit.zip"), bytes).unwrap();
    let before = club.tree();
    let ran = club.run("want ../kit.zip");
    let text = ran.text.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(ran.code == code && text.contains(words), "{}", ran.text);
    assert_eq!(differ(&before, &club.tree()), Vec::<String>::new());
}

#[test]
fn a_kit_brings_its_items_and_a_newer_one_keeps_what_is_yours() {
    let club = Club::adopted();
    let twin = club.tree();
    let ran = club.ok("want salvage-kit@=1.0");
    for line in ["+ salvage-kit   1.0    kit", "+ chest-locks   2.0.0  plugin", "+ slate-nights", "+ worlds/camp.map"] {
        let flat = |t: &str| t.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(flat(&ran.text).contains(&flat(line)), "{line}: {}", ran.text);
    }
    assert!(ran.text.contains("install.sh") && ran.text.contains("build.log"), "what is left is listed: {}", ran.text);
    club.ok("settle --yes --quiet");
    assert_eq!(club.read("settings/chest-locks.yaml"), "# salvagers\nloud: true\nreach: 3\n");
    assert_eq!(club.read("worlds/camp.map"), "a camp\n");
    assert_eq!(club.read("addpacks/order.list"), "slate-nights\n");
    assert!(!club.path("install.sh").exists());
    assert_eq!(club.run("trial --accept-terms 7").code, 0, "{}", club.run("trial").text);
    // tuned, changed by hand, and something added; then the newer kit
    club.ok("tune settings/chest-locks.yaml loud=false --yes --quiet");
    club.ok("want quarry-moss --quiet");
    club.ok("want salvage-kit@=1.1 --quiet");
    club.ok("settle --yes --quiet");
    assert_eq!(club.read("settings/chest-locks.yaml"), "# salvagers\nloud: false\nreach: 5\n");
    assert!(club.read("addpacks/order.list").contains("quarry-moss"));
    let shown = club.run("history show 5").text;
    assert!(shown.contains("chest-locks"), "{shown}");
    // another version of one of its items cannot be had beside it
    let ran = club.run("want chest-locks@=2.0.0");
    assert!(ran.code == 3 && ran.text.contains("salvage-kit 1.1 needs chest-locks"), "{}", ran.text);
    // the kit goes, and what only it needed
    club.ok("drop salvage-kit quarry-moss --quiet");
    club.ok("settle --yes --quiet");
    let left: Vec<String> = differ(&twin, &club.tree());
    let mine = ["roster.toml", "settings/chest-locks.yaml", "start.conf", "terms.txt"];
    assert!(
        left.iter().all(|p| mine.contains(&p.as_str()) || p.ends_with('/') || p.starts_with("settings/")),
        "{left:?}"
    );
}

#[test]
fn kits_that_cannot_be() {
    let club = Club::adopted();
    // for players
    let told = "is the players' kit of Salvage Kit; the server's is `salvage-kit-1.1-server.zip`, on the same page";
    refused(&club, &players_kit("1.1"), 3, told);
    // one that says nothing of itself
    let players = pack(&[("salvage/players.json", b"{}"), ("salvage/mods/a.bin", b"x")]);
    refused(&club, &players, 3, "is the players' kit of …");
    // an item that nobody offers, and one in a release that is none
    refused(&club, &kit("1.0", &[("gull-nets", "1.0")], &[]), 3, "gull-nets");
    refused(&club, &kit("1.0", &[("chest-locks", "9.9")], &[]), 3, "needs chest-locks 9.9");
    // a file that it has not, and places where its files do not go
    let kits = [
        ("extra/a.yaml", "../outside.yaml"),
        ("extra/a.yaml", "start.conf"),
        ("extra/a.yaml", "settings/../start.conf"),
        ("extra/a.yaml", "/etc/passwd"),
        ("extra/a.yaml", "plugins/evil.qpl"),
        ("extra/a.yaml", "settings/.yalotheca/heads/000099.json"),
        ("extra/a.yaml", "state:heads/000099.json"),
    ];
    for (from, to) in kits {
        refused(&club, &kit("1.0", &[], &[(from, to, "x")]), 3, "where files of a kit do not go");
    }
    let about =
        br#"{"id": "cut-kit", "release": "1", "items": [], "files": {"extra/gone.yaml": "settings/gone.yaml"}}"#;
    refused(&club, &pack(&[("kit.json", about)]), 3, "names `extra/gone.yaml`, which is not in it");
    // a list that is none
    let about = br#"{"id": "list-kit", "release": "1", "items": [], "files": ["extra/a.yaml"]}"#;
    refused(&club, &pack(&[("kit.json", about)]), 3, "has a `files` that is no map of files to places");
    // for another game version
    let about = br#"{"id": "new-kit", "release": "1", "game": ">=2", "items": [], "files": {}}"#;
    refused(&club, &pack(&[("kit.json", about)]), 3, "fits game >=2");
}

/// A kit with an install script that would fetch a file of the club's host.
fn with_script(lines: &str) -> Vec<u8> {
    let about = br#"{ "id": "script-kit", "release": "1", "items": [], "files": {} }"#;
    let script = format!("#!/bin/sh\nrm -rf worlds\n{lines}");
    pack(&[("script-kit/kit.json", about), ("script-kit/install.sh", script.as_bytes())])
}

#[test]
fn what_an_install_script_would_fetch_is_fetched_and_nothing_is_run() {
    let club = Club::adopted();
    club.host.add("extra/reef.map", b"a reef\n");
    let (link, digest) = (format!("{}extra/reef.map", club.host.address()), sha256(b"a reef\n"));
    let give = |lines: &str| fs::write(club.dir.path().join("kit.zip"), with_script(lines)).unwrap();
    give(&format!("fetch {link} sha256:{digest} worlds/reef.map\n"));
    let ran = club.ok("want ../kit.zip");
    assert!(ran.text.contains("+ worlds/reef.map  7 B") && ran.text.contains("install.sh"), "{}", ran.text);
    club.ok("settle --yes --quiet");
    assert_eq!(club.read("worlds/reef.map"), "a reef\n");
    assert!(club.path("worlds/tidewrack/level.dat").is_file(), "nothing was run");
    // a world is the administrator's from then on
    club.write("worlds/reef.map", "a reef, and a house\n");
    assert!(club.ok("settle").text.contains("Nothing to do"));
    club.ok("drop script-kit --quiet");
    club.ok("settle --yes --quiet");
    assert_eq!(club.read("worlds/reef.map"), "a reef, and a house\n");
    // other bytes than the script says, none at all, a page, no digest, a place that is not for it, no address
    for (lines, code, words) in [
        (format!("fetch {link} sha256:{} worlds/reef.map", sha256(b"other")), 5, "its sha256 is"),
        (format!("fetch {link}x sha256:{} worlds/reef.map", sha256(b"none")), 4, "404"),
        (format!("fetch {link} sha256:unknown worlds/reef.map"), 3, "without saying its sha256"),
        (format!("fetch {link} sha256:{digest} start.conf"), 3, "where files of a kit do not go"),
        (format!("wget -q {link} -O worlds/reef.map"), 3, "speaks of addresses, but says nothing to fetch"),
        (format!("fetch file:///etc/passwd sha256:{digest} worlds/a"), 3, "no address on the web"),
    ] {
        refused(&club, &with_script(&lines), code, words);
    }
    club.host.mood("extra/reef.map", Some(Mood::Cut));
    let lines = format!("fetch {link} sha256:{} worlds/reef.map", sha256(b"a reef, larger\n"));
    refused(&club, &with_script(&lines), 4, "was cut short");
}

#[test]
fn a_clean_slate_keeps_worlds_and_comes_back_whole() {
    let club = Club::settled("deep-winch quarry-moss");
    club.run("trial --accept-terms 7");
    club.write("plugins/by-hand.qpl", "something somebody put there");
    club.write("players/mira.json", "{}\n");
    club.write("settings/chest-locks.yaml", "# from before\nloud: true\n");
    club.write("addpacks/order.list", format!("# ours\n{}hand-pack\n", club.read("addpacks/order.list")));
    club.ok("tune settings/gull-counter.yaml gulls=77 --yes --quiet");
    club.ok("tune start.conf door.name=Salt --yes --quiet");
    let before = club.tree();
    // only shown first
    let ran = club.run("settle --clean-slate salvage-kit@=1.1 --dry-run");
    assert_eq!(ran.code, 1, "{}", ran.text);
    for line in ["- deep-winch", "- plugins/by-hand.qpl", "+ salvage-kit", "~ settings/chest-locks.yaml"] {
        assert!(ran.text.contains(line), "{line}: {}", ran.text);
    }
    assert_eq!(differ(&before, &club.tree()), Vec::<String>::new());
    club.ok("settle --clean-slate salvage-kit@=1.1 --yes");
    let after = club.tree();
    let files: Vec<&String> = after.keys().filter(|p| !p.ends_with('/')).collect();
    assert_eq!(
        files,
        [
            "addpacks/order.list",
            "addpacks/slate-nights/addpack.json",
            "addpacks/slate-nights/stones/slate-nights.json",
            "core/ferrite.qcore",
            "players/mira.json",
            "plugins/chest-locks.qpl",
            "plugins/lock-core.qpl",
            "plugins/notes from Ada.txt",
            "quarrywake",
            "roster.toml",
            "settings/chest-locks.yaml",
            "start.conf",
            "worlds/camp.map",
            "worlds/tidewrack/level.dat",
        ]
    );
    assert_eq!(club.read("addpacks/order.list"), "slate-nights\n");
    assert_eq!(club.read("settings/chest-locks.yaml"), "# salvagers\nloud: true\nreach: 5\n");
    assert!(club.read("start.conf").contains("door.name=Salt"), "what is not cleared stays tuned");
    let roster = club.read("roster.toml");
    assert!(roster.contains("salvage-kit = \"=1.1\"") && !roster.contains("deep-winch"), "{roster}");
    assert!(!roster.contains("gulls"), "{roster}");
    assert!(club.ok("settle").text.contains("Nothing to do"));
    assert!(club.visit().contains("quarrywake is up"), "{}", club.visit());
    // one transaction: one undo
    fs::remove_dir_all(club.path("settings")).unwrap();
    for (path, bytes) in after.iter().filter(|(p, _)| p.starts_with("settings/") && !p.ends_with('/')) {
        club.write(path, bytes);
    }
    club.ok("undo --yes --quiet");
    assert_eq!(differ(&before, &club.tree()), Vec::<String>::new());
    // what has no clean slate
    let ran = club.run("settle --clean-slate deep-winch");
    assert!(ran.code == 2 && ran.text.contains("is a plugin, for which nothing is cleared"), "{}", ran.text);
    assert_ne!(club.run("settle --clean-slate nowhere-kit").code, 0);
}

#[test]
fn a_resource_pack_is_offered_by_its_link() {
    let club = Club::adopted();
    let bare = club.tree();
    club.run("trial --accept-terms 7");
    assert!(club.visit().ends_with("in: without a pack\n"), "{}", club.visit());
    club.ok("want wet-stone@=1.0 --quiet");
    club.ok("settle --yes --quiet");
    let line = club.read("offers.list");
    assert!(line.starts_with("must ") && line.lines().count() == 1, "{line}");
    assert!(line.contains(" sha256:") && line.contains(&format!("{}files/wet-stone-1.0.zip", club.host.address())));
    let good = club.visit();
    assert!(good.contains("in: with the pack of"), "{good}");
    // a newer one, and players may leave it
    club.ok("want wet-stone@=1.1 --set offer=may --quiet");
    club.ok("settle --yes --quiet");
    let line = club.read("offers.list");
    assert!(line.starts_with("may ") && line.contains("wet-stone-1.1.zip"), "{line}");
    assert!(club.visit().contains("in: with the pack of"), "{}", club.visit());
    // no part of the line is decorative
    club.ok("want wet-stone@=1.1 --set offer=must --quiet");
    club.ok("settle --yes --quiet");
    let line = club.read("offers.list");
    let words: Vec<&str> = line.split_whitespace().collect();
    for at in 0..words.len() {
        let mut bad = words.clone();
        let misspelt = format!("{}9", words[at]);
        bad[at] = &misspelt;
        club.write("offers.list", format!("{}\n", bad.join(" ")));
        let log = club.visit();
        assert!(log.contains("offer ignored") || log.contains("not in: "), "{misspelt}: {log}");
    }
    club.write("offers.list", &line);
    // the host shows a page, or is gone
    for mood in [Mood::Page, Mood::Down] {
        club.host.mood("files/wet-stone-1.1.zip", Some(mood));
        assert!(club.visit().contains("not in: http://"), "{}", club.visit());
    }
    club.host.mood("files/wet-stone-1.1.zip", None);
    // one only
    let before = club.tree();
    let ran = club.run("want old-lanterns");
    let text = ran.text.split_whitespace().collect::<Vec<_>>().join(" ");
    let told = "wet-stone and old-lanterns are each a resource pack, and one is offered to players";
    assert!(ran.code == 3 && text.contains(told) && text.contains("yalotheca drop wet-stone"), "{}", ran.text);
    // from a file nobody can fetch it
    fs::write(club.dir.path().join("mine.zip"), yalotheca_standin::club::look("mine", "1")).unwrap();
    club.ok("drop wet-stone --quiet");
    let ran = club.run("want ../mine.zip");
    assert!(ran.code == 3 && ran.text.contains("nobody names a link"), "{}", ran.text);
    club.ok("want HOSTfiles/old-lanterns-2.0.zip --quiet");
    club.ok("settle --yes --quiet");
    assert!(club.read("offers.list").ends_with("files/old-lanterns-2.0.zip\n"), "{}", club.read("offers.list"));
    assert!(before.contains_key("offers.list") && club.visit().contains("in: with the pack of"), "{}", club.visit());
    club.ok("drop old-lanterns --quiet");
    club.ok("settle --yes --quiet");
    let mine = ["roster.toml", "start.conf", "terms.txt"];
    let left = differ(&bare, &club.tree());
    assert!(left.iter().all(|p| mine.contains(&p.as_str()) || p.starts_with("settings/")), "{left:?}");
}

#[test]
fn everything_is_checked_again_when_the_core_is_another() {
    let club = Club::settled("chest-locks salvage-kit");
    let before = club.tree();
    // one that takes no plugins: the kit's plugins cannot be, and it is said why
    let ran = club.run("want bare-slate");
    let text = ran.text.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(ran.code == 3 && text.contains("one-only"), "{}", ran.text);
    club.write("roster.toml", club.read("roster.toml").replace("ferrite = ", "# ferrite = "));
    let ran = club.run("want bare-slate");
    let text = ran.text.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(ran.code == 3 && text.contains("plugins") && text.contains("bare-slate"), "{}", ran.text);
    club.write("roster.toml", &before["roster.toml"]);
    assert_eq!(differ(&before, &club.tree()), Vec::<String>::new());
    // a newer release of the core: the setting that names it, its terms, and what fits are as it says
    let ran = club.run("want ferrite");
    assert!(ran.text.contains("ferrite"), "{}", ran.text);
}
