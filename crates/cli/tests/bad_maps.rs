//! Bad maps, bad lists, and bad words about them: each is one clear error, and nothing is lost.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)] // a test may stop where it fails

mod club;

use std::fs;
use std::io::Write as _;

use club::{Club, differ};
use yalotheca_standin::catalogue;
use yalotheca_standin::club::{Item, Release, signed};
use yalotheca_standin::games::capstan::arena;
use yalotheca_standin::host::Host;

/// Runs it, and looks that it is refused with these words and changes nothing but what `may` names.
fn refused(club: &Club, line: &str, code: i32, words: &[&str]) {
    let before = club.tree();
    let ran = club.run(line);
    let text = ran.text.split_whitespace().collect::<Vec<_>>().join(" ");
    assert_eq!(ran.code, code, "{}", ran.text);
    for word in words {
        assert!(text.contains(word), "{word}: {}", ran.text);
    }
    assert_eq!(differ(&before, &club.tree()), Vec::<String>::new(), "{}", ran.text);
}

fn zip(files: &[(&str, &[u8])]) -> Vec<u8> {
    let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for (path, bytes) in files {
        zip.start_file(*path, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(bytes).unwrap();
    }
    zip.finish().unwrap().into_inner()
}

#[test]
fn lists_that_cannot_be_edited() {
    let club = Club::adopted_of("capstan");
    let list = club.read("arenas.list");
    club.ok("want pier-rush --quiet");
    // in an encoding that is not text to us
    let wide: Vec<u8> = [0xff, 0xfe].into_iter().chain(list.encode_utf16().flat_map(u16::to_le_bytes)).collect();
    club.write("arenas.list", wide);
    refused(&club, "settle --yes", 5, &["arenas.list", "UTF-16"]);
    club.write("arenas.list", b"old-pier in 5\n\x80\xff in 1\n");
    refused(&club, "settle --yes", 5, &["arenas.list", "UTF-8"]);
    // read-only
    club.write("arenas.list", &list);
    let mode = |mode: u32| {
        use std::os::unix::fs::PermissionsExt as _;
        fs::set_permissions(club.path("arenas.list"), fs::Permissions::from_mode(mode)).unwrap();
    };
    mode(0o444);
    refused(&club, "settle --yes", 2, &["arenas.list", "is read-only", "make it writable"]);
    mode(0o644);
    // a folder in its place
    fs::remove_file(club.path("arenas.list")).unwrap();
    fs::create_dir(club.path("arenas.list")).unwrap();
    refused(&club, "settle --yes", 4, &["arenas.list"]);
    fs::remove_dir(club.path("arenas.list")).unwrap();
    // absent: it is made anew, with all that is there
    club.ok("settle --yes --quiet");
    assert_eq!(club.read("arenas.list"), "old-pier in 5\npier-rush in 3\n");
}

#[test]
fn a_land_without_its_companions() {
    let club = Club::adopted_of("thornmere");
    let about = b"[land]\ntitle = Low Fen\nregion = west\n".as_slice();
    for (missing, files) in [
        ("props.bin", vec![("floor.bin", b"f".as_slice()), ("about.ini", about)]),
        ("floor.bin", vec![("props.bin", b"p".as_slice()), ("about.ini", about)]),
    ] {
        fs::write(club.dir.path().join("low-fen.zip"), zip(&files)).unwrap();
        refused(&club, "want ../low-fen.zip", 3, &[missing]);
    }
}

#[test]
fn a_number_twice() {
    let club = Club::adopted_of("thornmere");
    // the stock land's number stands twice in the table
    club.write("lands.tbl", "# number name state\n3 stone-ring open\n3 old-fen open\n");
    club.ok("want far-tarn --quiet");
    club.ok("settle --yes --quiet");
    // ours has a number of its own
    assert_eq!(club.read("lands.tbl"), "# number name state\n3 stone-ring open\n3 old-fen open\n4 far-tarn open\n");
    // one number under two names on the roster of a server that fetches by number
    let club = Club::adopted_of("lanternfall");
    refused(
        &club,
        "want 91230001",
        2,
        &["no catalogue here knows the number 91230001", "--kind place or --kind thing"],
    );
    club.ok("want 91230001 --kind place --quiet");
    club.write(
        "roster.toml",
        format!("{}again = {{ number = \"91230001\", kind = \"place\" }}\n", club.read("roster.toml")),
    );
    refused(&club, "settle --yes", 6, &["91230001", "again", "drop"]);
}

#[test]
fn a_folder_that_lies_about_its_version() {
    let mut club = Club::adopted_of("coldrail");
    let lying = Item {
        id: "snow-fan".to_owned(),
        title: "Snow Fan".to_owned(),
        about: "Blows.".to_owned(),
        kind: "mod".to_owned(),
        names: Vec::new(),
        number: None,
        releases: vec![Release {
            version: "2.0".to_owned(),
            file: "snow-fan-2.0.zip".to_owned(),
            bytes: signed("snow-fan", "1.0", &serde_json::json!({}), b"fan", &[], 1),
            more: Vec::new(),
            facts: serde_json::json!({}),
        }],
    };
    club.host = Host::start(catalogue::write("Other", "coldrail", 1, &[lying])).unwrap();
    let old = club.read("roster.toml");
    let line = old.lines().find(|l| l.starts_with("catalogues")).unwrap();
    club.write("roster.toml", old.replace(line, &format!("catalogues = [\"{}\"]", club.host.address())));
    refused(&club, "want snow-fan", 5, &["snow-fan 2.0", "inside it calls itself version 1.0"]);
}

#[test]
fn a_map_named_like_one_that_was_there_before() {
    let club = Club::adopted_of("capstan");
    fs::write(club.dir.path().join("old-pier.cma"), arena("old-pier", 900)).unwrap();
    refused(&club, "want ../old-pier.cma", 2, &["has the name of `arenas/old-pier.cma`", "yalotheca drop old-pier"]);
}

#[test]
fn a_link_to_a_page() {
    let club = Club::adopted_of("capstan");
    let page = b"<!doctype html><title>pier-rush</title>".to_vec();
    club.host.replace([("pier-rush.zip".to_owned(), page)].into());
    refused(&club, "want HOST/pier-rush.zip", 3, &["is a web page, not the file itself"]);
}
