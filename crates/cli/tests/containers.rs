//! Containers made of files of several items: a tar, records, and what only the server's own program can make.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)] // a test may stop where it fails

mod club;

use std::fs;

use club::{Club, differ};

const FAMILY: &str = r#"
format = 1
name = "knoll"
title = "Knoll"

[[recognise]]
path = "knoll.dat"
sure = 100

[kind.hill]
role = "map"
title = "hill"
file = "*.hill"
place = [{ take = "real", to = "hills/{name}" }]

[[kind.hill.derive]]
file = "packs/grounds.tar"
format = "tar"
entry = "{id}.ground"
take = "*.hill"
digest = { entry = "sums.ini", format = "ini", at = "sums.{id}", value = "{sha256}" }

[[kind.hill.derive]]
file = "packs/index.rec"
format = "records"
layout = { begins = "KN1", count = "u8", record = ["name:u8", "zero:1", "size:u16-be", "data"] }
entry = "{id}"
take = "*.hill"

[[kind.hill.derive]]
file = "packs/all.txt"
format = "command"
command = ["tools/join", "{entries}", "{base}", "{made}"]
entry = "{id}.part"
take = "*.hill"
"#;

/// The server's own program: all parts behind what stood there before, with a count.
const JOIN: &str = "#!/bin/sh\nset -e\n[ ! -f \"$2\" ] || cat \"$2\" > \"$3\"\n\
                    for part in \"$1\"/*; do printf '%s=%s\\n' \"${part##*/}\" \"$(cat \"$part\")\" >> \"$3\"; done\n";

fn program(club: &Club, text: &str) {
    use std::os::unix::fs::PermissionsExt as _;
    club.write("tools/join", text);
    fs::set_permissions(club.path("tools/join"), fs::Permissions::from_mode(0o755)).unwrap();
}

fn club() -> Club {
    let club = Club::empty_of("capstan");
    fs::create_dir_all(club.home().join("families")).unwrap();
    fs::write(club.home().join("families/knoll.family.toml"), FAMILY).unwrap();
    club.write("knoll.dat", "");
    let mut tar = tar::Builder::new(Vec::new());
    let mut header = tar::Header::new_gnu();
    header.set_size(5);
    header.set_mode(0o600);
    tar.append_data(&mut header, "stock.ground", &b"stock"[..]).unwrap();
    club.write("packs/grounds.tar", tar.into_inner().unwrap());
    club.write("packs/index.rec", b"KN1\x01\x05stock\x07\x00\x03abcend");
    program(&club, JOIN);
    for (name, text) in [("tor", "t"), ("fell", "f")] {
        fs::write(club.dir.path().join(format!("{name}.hill")), text).unwrap();
    }
    club
}

#[test]
fn entries_are_put_in_and_taken_out_and_the_rest_stays() {
    let club = club();
    let twin = club.tree();
    club.ok("adopt --quiet");
    // a stranger's family runs nothing before somebody read it
    let ran = club.run("want ../tor.hill");
    assert!(ran.code == 6 && ran.text.contains("would run: tools/join"), "{}", ran.text);
    assert!(ran.text.contains("yalotheca family approve"), "{}", ran.text);
    let digest = yalotheca_standin::catalogue::sha256(FAMILY.as_bytes());
    club.ok(&format!("family approve knoll {digest}"));
    let ran = club.run("family explain knoll");
    assert!(ran.text.contains("is made anew by `tools/join {entries} {base} {made}`"), "{}", ran.text);
    club.ok("want ../tor.hill --quiet");
    club.ok("settle --yes --quiet");
    club.ok("want ../fell.hill --quiet");
    club.ok("settle --yes --quiet");
    assert_eq!(club.read("packs/all.txt"), "fell.part=f\ntor.part=t\n");
    let records = fs::read(club.path("packs/index.rec")).unwrap();
    assert_eq!(records, b"KN1\x03\x05stock\x07\x00\x03abc\x03tor\x00\x00\x01t\x04fell\x00\x00\x01fend");
    let mut tar = tar::Archive::new(fs::File::open(club.path("packs/grounds.tar")).unwrap());
    let names: Vec<String> =
        tar.entries().unwrap().map(|e| e.unwrap().path().unwrap().to_string_lossy().into_owned()).collect();
    assert_eq!(names, ["stock.ground", "sums.ini", "tor.ground", "fell.ground"]);
    assert_eq!(club.run("check").code, 0, "{}", club.run("check").text);
    club.ok("drop tor fell --quiet");
    club.ok("settle --yes --quiet");
    let mut left = club.tree();
    left.remove("roster.toml");
    assert_eq!(differ(&twin, &left), Vec::<String>::new());
}

#[test]
fn what_cannot_be_made_changes_nothing() {
    let club = club();
    club.ok("adopt --quiet");
    club.ok(&format!("family approve knoll {}", yalotheca_standin::catalogue::sha256(FAMILY.as_bytes())));
    let before = club.tree();
    let refused = |word: &str| {
        let ran = club.run("want ../tor.hill");
        assert!(ran.code != 0 && ran.text.replace("\n       ", " ").contains(word), "{word}: {}", ran.text);
    };
    program(&club, "#!/bin/sh\necho first\necho 'no room for hills' >&2\nexit 3\n");
    refused("said: no room for hills");
    program(&club, "#!/bin/sh\nexit 0\n");
    refused("made no file");
    fs::remove_file(club.path("tools/join")).unwrap();
    refused("cannot be run");
    program(&club, JOIN);
    let good = fs::read(club.path("packs/index.rec")).unwrap();
    for (bytes, word) in [
        (&b"KN2"[..], "does not begin with `KN1`"),
        (b"KN1\x02\x05stock\x07\x00\x03abc", "in the middle of record 2"),
        (b"KN1\x01\x02\xff\xfe\x00\x00\x00", "no UTF-8 text"),
        (b"", "does not begin with `KN1`"),
    ] {
        club.write("packs/index.rec", bytes);
        refused(word);
    }
    club.write("packs/index.rec", good);
    assert_eq!(differ(&before, &club.tree()), Vec::<String>::new());
    // what a person did to a container that is made anew as a whole is not lost unasked
    club.ok("want ../tor.hill --quiet");
    club.ok("settle --yes --quiet");
    club.write("packs/all.txt", "mine\n");
    club.ok("settle --yes --quiet");
    assert_eq!(club.read("packs/all.txt"), "mine\n");
    let ran = club.run("want ../fell.hill");
    assert!(ran.code == 6 && ran.text.contains("yalotheca settle --put-back"), "{}", ran.text);
    club.ok("settle --yes --quiet --put-back packs/all.txt");
    assert_eq!(club.read("packs/all.txt"), "fell.part=f\ntor.part=t\n");
}
