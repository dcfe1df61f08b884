//! Kits: items in their very releases, files that their own list sends to their places, and nothing that is run.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)] // a test may stop where it fails

mod club;

use std::fs;

use club::{Club, differ};
use yalotheca_standin::club::{kit, pack};

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
    let players = pack(&[("salvage/players.json", b"{}"), ("salvage/mods/a.bin", b"x")]);
    refused(&club, &players, 3, "is the players' kit; the server's is on the same page");
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
    ];
    for (from, to) in kits {
        refused(&club, &kit("1.0", &[], &[(from, to, "x")]), 3, "where files of a kit do not go");
    }
    let about =
        br#"{"id": "cut-kit", "release": "1", "items": [], "files": {"extra/gone.yaml": "settings/gone.yaml"}}"#;
    refused(&club, &pack(&[("kit.json", about)]), 3, "names `extra/gone.yaml`, which is not in it");
    // for another game version
    let about = br#"{"id": "new-kit", "release": "1", "game": ">=2", "items": [], "files": {}}"#;
    refused(&club, &pack(&[("kit.json", about)]), 3, "fits game >=2");
}
