//! The six servers of docs/family-design.md, from the built program: each takes content, and gives all of it back.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)] // a test may stop where it fails

mod club;

use std::collections::BTreeMap;
use std::fs;
use std::io::Write as _;

use club::{Club, differ, tree};

/// A club whose machine knows the families of the page, with a server folder of its own.
fn club(files: &[(&str, &str)]) -> Club {
    let club = Club::empty_of("capstan");
    for below in ["capstan", "start.sh", "launcher.sh"] {
        let _ = fs::remove_file(club.path(below));
    }
    let page = include_str!("../../../docs/family-design.md");
    fs::create_dir_all(club.home().join("families")).unwrap();
    for (at, block) in page.split("```toml\n").skip(1).filter_map(|b| b.split("```").next()).enumerate() {
        fs::write(club.home().join(format!("families/paper-{at}.family.toml")), block).unwrap();
    }
    for (path, text) in files {
        club.write(path, text);
    }
    club
}

fn zip(club: &Club, name: &str, files: &[(&str, &str)]) {
    let mut zip = zip::ZipWriter::new(fs::File::create(club.dir.path().join(name)).unwrap());
    for (path, text) in files {
        zip.start_file(*path, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(text.as_bytes()).unwrap();
    }
    zip.finish().unwrap();
}

/// The tree without what is ours.
fn bare(club: &Club) -> BTreeMap<String, Vec<u8>> {
    club.tree().into_iter().filter(|(path, _)| path != "roster.toml" && !path.ends_with('/')).collect()
}

#[test]
fn one_install_for_several_servers() {
    let club = club(&[("mill.ini", "")]);
    let (install, profile) = (club.dir.path().join("install"), club.dir.path().join("profile"));
    fs::create_dir_all(&install).unwrap();
    let ran = club.run("adopt");
    assert!(ran.code == 2 && ran.text.contains("does not say where `install` is"), "{}", ran.text);
    assert!(ran.text.contains("--root NAME=FOLDER"), "{}", ran.text);
    let ran = club.run("adopt --root install=../install --root profile=../profile");
    assert!(ran.code == 2 && ran.text.contains("there is no such folder"), "{}", ran.text);
    fs::create_dir_all(&profile).unwrap();
    let ran = club.run("adopt --root install=../install --root profile=../profile --root prophile=..");
    assert!(ran.code == 2 && ran.text.contains("did you mean `profile`"), "{}", ran.text);
    fs::write(profile.join("wheels.ini"), "[wheels]\nload = elm\n").unwrap();
    club.ok("adopt --root install=../install --root profile=../profile --quiet");
    assert!(club.read("roster.toml").contains("[roots]\ninstall = \"../install\"\nprofile = \"../profile\"\n"));
    fs::write(club.dir.path().join("oak.bwm"), "o").unwrap();
    let ran = club.ok("want ../oak.bwm");
    assert!(ran.text.contains("install:wheels/oak.bwm"), "{}", ran.text);
    club.ok("settle --yes");
    assert_eq!(fs::read_to_string(install.join("wheels/oak.bwm")).unwrap(), "o");
    assert_eq!(fs::read_to_string(profile.join("wheels.ini")).unwrap(), "[wheels]\nload = elm\nload = oak\n");
    assert_eq!(club.run("check").code, 0);
    fs::remove_file(install.join("wheels/oak.bwm")).unwrap();
    let ran = club.run("check");
    assert!(ran.code == 1 && ran.text.contains("install:wheels/oak.bwm"), "{}", ran.text);
    club.ok("settle --yes");
    club.ok("undo 2 --and-later --yes");
    assert_eq!(tree(&install), BTreeMap::new());
    assert_eq!(fs::read_to_string(profile.join("wheels.ini")).unwrap(), "[wheels]\nload = elm\n");
}

#[test]
fn what_only_a_person_can_enter_waits_for_that_person() {
    let club = club(&[("fen.dat", "")]);
    club.ok("adopt --quiet");
    fs::write(club.dir.path().join("peat.bog"), "p").unwrap();
    fs::write(club.dir.path().join("moss.bog"), "m").unwrap();
    // what stands in the panel already is told on the roster
    club.write("roster.toml", format!("{}\n[hand]\nstart-line = \"-port=4\\n\"\n", club.read("roster.toml")));
    let ran = club.ok("want ../peat.bog");
    assert!(ran.text.contains("in the panel, on the page Start, in the field"), "{}", ran.text);
    let ran = club.ok("settle --yes");
    assert!(ran.text.contains("settle --done start-line"), "{}", ran.text);
    assert!(club.path("bogs/peat.bog").is_file());
    // it stays told until it is done
    for words in ["check", "settle --dry-run"] {
        let ran = club.run(words);
        assert!(ran.text.contains("hand-step") && ran.text.contains("-bog=peat"), "{}", ran.text);
    }
    assert_eq!(club.run("check").code, 1);
    let ran = club.run("settle --done start-lin --yes");
    assert!(ran.code == 2 && ran.text.contains("`start-line`?"), "{}", ran.text);
    club.ok("settle --done start-line --yes");
    assert!(
        club.read("roster.toml").contains("start-line = \"-port=4\\n-bog=peat\\n\""),
        "{}",
        club.read("roster.toml")
    );
    assert_eq!(club.run("check").code, 0);
    // a second one, a line of the person's own meanwhile, and the first goes
    let entered = club.read("roster.toml").replace("-port=4\\n", "-port=4\\n-night\\n");
    club.write("roster.toml", entered);
    club.ok("want ../moss.bog --quiet");
    club.ok("drop peat --quiet");
    club.ok("settle --yes --done start-line");
    let text = club.read("roster.toml");
    assert!(text.contains("start-line = \"-port=4\\n-night\\n-bog=moss\\n\""), "{text}");
    // an undo cannot reach into the panel either
    let ran = club.ok("undo --yes");
    assert!(ran.text.contains("hand-step") && ran.text.contains("-bog=peat"), "{}", ran.text);
    club.ok("settle --yes --done start-line");
    let text = club.read("roster.toml");
    assert!(text.contains("start-line = \"-port=4\\n-night\\n-bog=peat\\n\""), "{text}");
    assert_eq!(club.run("check").code, 0);
}

#[test]
fn names_carry_the_order() {
    let club = club(&[("sedge.cfg", "")]);
    let before = bare(&club);
    club.ok("adopt --quiet");
    zip(&club, "b.zip", &[("b.ssp", "b"), ("b.seal", "of b")]);
    zip(&club, "a.zip", &[("a.ssp", "a"), ("a.seal", "of a")]);
    zip(&club, "c.zip", &[("c.ssp", "c")]);
    club.ok("want ../b.zip --quiet");
    club.ok("settle --yes --quiet");
    club.ok("want ../a.zip --quiet");
    club.ok("settle --yes --quiet");
    let names = |club: &Club| bare(club).into_keys().filter(|p| p.starts_with("packs/")).collect::<Vec<_>>();
    assert_eq!(names(&club), ["packs/001-b.seal", "packs/001-b.ssp", "packs/002-a.seal", "packs/002-a.ssp"]);
    // a companion that must be there is not
    let ran = club.run("want ../c.zip");
    assert!(ran.code != 0 && ran.text.contains("c.seal"), "{}", ran.text);
    // those behind it move up
    club.ok("drop b --quiet");
    club.ok("settle --yes --quiet");
    assert_eq!(names(&club), ["packs/001-a.seal", "packs/001-a.ssp"]);
    assert_eq!(club.read("packs/001-a.ssp"), "a");
    club.ok("drop a --quiet");
    club.ok("settle --yes --quiet");
    assert_eq!(differ(&before, &bare(&club)), Vec::<String>::new());
}

#[test]
fn what_lies_over_stock_files_is_laid_over_them_again() {
    let club = club(&[("data/parish.dat", ""), ("data/sky.img", "stock")]);
    let before = bare(&club);
    club.ok("adopt --quiet");
    zip(&club, "dusk.zip", &[("look.json", "{\"id\": \"dusk\", \"release\": \"1\"}"), ("data/sky.img", "dusk")]);
    club.ok("want ../dusk.zip --quiet");
    club.ok("settle --yes --quiet");
    assert_eq!(club.read("data/sky.img"), "dusk");
    club.write("data/sky.img", "stock");
    let ran = club.run("settle --yes");
    assert!(ran.text.contains("stock-put-back"), "{}", ran.text);
    assert_eq!(club.read("data/sky.img"), "dusk");
    club.write("data/sky.img", "by hand");
    club.ok("settle --yes --quiet");
    assert_eq!(club.read("data/sky.img"), "by hand");
    club.ok("settle --yes --quiet --put-back data/sky.img");
    club.ok("drop dusk --quiet");
    club.ok("settle --yes --quiet");
    assert_eq!(differ(&before, &bare(&club)), Vec::<String>::new());
}

#[test]
fn some_modes_of_some_maps_are_taken() {
    let club = club(&[("cove.json", "{\n  \"playlist\": []\n}\n")]);
    let before = bare(&club);
    club.ok("adopt --quiet");
    let files = [
        ("maps/bay/ground", "g"),
        ("maps/bay/modes/race.mode", "r"),
        ("maps/bay/modes/hunt.mode", "h"),
        ("maps/reef/modes/race.mode", "r"),
    ];
    zip(&club, "coves.zip", &files);
    let ran = club.run("want ../coves.zip --take bay/rase");
    assert!(ran.code == 2 && ran.text.contains("did you mean `bay/race`"), "{}", ran.text);
    club.ok("want ../coves.zip --take bay/race --quiet");
    club.ok("settle --yes --quiet");
    assert!(club.path("maps/bay/modes/race.mode").is_file() && club.path("maps/bay/ground").is_file());
    assert!(!club.path("maps/bay/modes/hunt.mode").exists() && !club.path("maps/reef").exists());
    let list = club.read("cove.json");
    assert!(list.contains("\"race\"") && !list.contains("hunt") && !list.contains("reef"), "{list}");
    // all of them after all
    club.ok("want ../coves.zip --quiet");
    club.ok("settle --yes --quiet");
    assert!(club.path("maps/reef/modes/race.mode").is_file());
    assert_eq!(club.read("cove.json").matches("\"map\"").count(), 3);
    club.ok("drop coves --quiet");
    club.ok("settle --yes --quiet");
    assert_eq!(differ(&before, &bare(&club)), Vec::<String>::new());
}

#[test]
fn another_game_version_has_other_folders() {
    for (game, place, file) in
        [("1.4", "perches/heron.perch", "tally.ini"), ("2.0", "content/perches/heron.perch", "tally.lua")]
    {
        let club = club(&[
            ("version.txt", &format!("game {game}\n")),
            ("tally.lua", "return { perches = { \"wren\" } }\n"),
            ("tally.ini", "[load]\nperch = wren\n"),
        ]);
        let before = bare(&club);
        club.ok("adopt --quiet");
        fs::write(club.dir.path().join("heron.perch"), "h").unwrap();
        club.ok("want ../heron.perch --quiet");
        club.ok("settle --yes --quiet");
        let changed = differ(&before, &bare(&club));
        assert_eq!(
            changed,
            [place.to_owned(), file.to_owned()]
                .into_iter()
                .collect::<std::collections::BTreeSet<_>>()
                .into_iter()
                .collect::<Vec<_>>()
        );
        assert!(club.read(file).contains("heron"), "{}", club.read(file));
        // the game moves on: what is there moves along
        if game == "1.4" {
            club.write("version.txt", "game 2.1\n");
            club.ok("settle --yes --quiet");
            assert!(club.path("content/perches/heron.perch").is_file() && !club.path(place).exists());
            assert_eq!(club.read("tally.ini"), "[load]\nperch = wren\n");
            assert!(club.read("tally.lua").contains("heron"));
            club.write("version.txt", "game 1.4\n");
            club.ok("settle --yes --quiet");
        }
        club.ok("drop heron --quiet");
        club.ok("settle --yes --quiet");
        assert_eq!(differ(&before, &bare(&club)), Vec::<String>::new());
    }
}

#[test]
fn maps_of_one_item_have_turns_of_their_own() {
    let club = club(&[("turns.json", "{\"turns\": []}\n")]);
    let family = "format = 1\nname = \"tern\"\ntitle = \"Tern\"\n[[recognise]]\npath = \"turns.json\"\nsure = 100\n\
        [kind.isle]\nrole = \"map\"\ntitle = \"isle\"\nholds = [\"*.isle\"]\n\
        entry = { path = \"{isle}.isle\", name = \"{isle}\" }\n\
        place = [{ take = \"{isle}.isle\", to = \"isles/{isle}.isle\" }]\n\
        [kind.isle.choice.state]\ntitle = \"in or out\"\ndefault = \"in\"\nvalues = [\"in\", \"out\"]\n\
        [[kind.isle.wire]]\nfile = \"turns.json\"\nformat = \"json\"\nat = \"turns\"\nlist = true\nby = \"isle\"\n\
        value = { isle = \"{isle}\", state = \"{state}\" }\n\
        [rotation]\nfile = \"turns.json\"\nformat = \"json\"\nat = \"turns\"\nname = \"isle\"\nstate = \"state\"\n\
        choice = \"state\"\nin = \"in\"\nout = \"out\"\n";
    fs::write(club.home().join("families/tern.family.toml"), family).unwrap();
    club.ok("adopt --quiet");
    zip(&club, "isles.zip", &[("auk.isle", "a"), ("eider.isle", "e"), ("skua.isle", "s")]);
    club.ok("want ../isles.zip --take auk --take skua --quiet");
    club.ok("settle --yes --quiet");
    let ran = club.run("maps rotation isles out");
    assert!(ran.code == 2 && ran.text.contains("brings several maps; name one: `auk`, `skua`"), "{}", ran.text);
    club.ok("maps rotation skua out --quiet");
    club.ok("settle --yes --quiet");
    let list = club.run("maps --json").json();
    let states: Vec<&str> =
        list["maps"].as_array().unwrap().iter().filter_map(|m| m["rotation"]["state"].as_str()).collect();
    assert_eq!(states, ["in", "out"], "{}", club.read("turns.json"));
    assert!(
        club.read("roster.toml").contains("[choices.\"isles/skua\"]\nstate = \"out\""),
        "{}",
        club.read("roster.toml")
    );
    club.ok("drop isles --quiet");
    assert!(!club.read("roster.toml").contains("choices"));
    club.ok("settle --yes --quiet");
    assert_eq!(club.read("turns.json"), "{\"turns\": []}\n");
}
