//! Catalogues and hosts that are down, slow, cut, lying or endless: one clear error each, and nothing changed.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod club;

use std::time::Duration;

use club::Club;
use snapbox::{assert_data_eq, str};
use yalotheca_standin::host::Mood;

/// A roster that is patient for one second only.
fn impatient(club: &Club) {
    let text =
        club.read("roster.toml").replace("[server]", "[limits]\nsilence-seconds = 1\ndownload-mb = 5\n\n[server]");
    club.write("roster.toml", text);
}

#[test]
fn a_catalogue_that_misbehaves_is_told() {
    let club = Club::adopted();
    impatient(&club);
    let before = club.tree();
    let mut told = String::new();
    for (path, mood) in [
        ("catalogue.json", Mood::Down),
        ("catalogue.json", Mood::Babble),
        ("catalogue.json", Mood::Cut),
        ("catalogue.json", Mood::Slow(Duration::from_secs(3))),
        ("catalogue.json", Mood::Endless),
        ("items/chest-locks.json", Mood::Other),
        ("items/chest-locks.json", Mood::Babble),
        ("items/chest-locks.json", Mood::Down),
    ] {
        club.host.mood(path, Some(mood));
        told.push_str(&format!("# {path} {mood:?}\n{}", club.run("want chest-locks").text));
        club.host.mood(path, None);
    }
    assert_data_eq!(
        told,
        str![[r#"
# catalogue.json Down
$ yalotheca want chest-locks
--- stderr
error: http://HOST/catalogue.json answers 500 Internal Server
       Error
  fix: check the address and the network, or go on with what is here:
       --offline
--- exit 4
# catalogue.json Babble
$ yalotheca want chest-locks
--- stderr
error: catalogue http://HOST/: `catalogue.json` is not in the
       catalogue format: expected value at line 1 column 1
  fix: try again later, or tell the catalogue's keeper
--- exit 5
# catalogue.json Cut
$ yalotheca want chest-locks
--- stderr
error: http://HOST/catalogue.json was cut short: 1.9 KB of 3.9
       KB came; try again later
--- exit 4
# catalogue.json Slow(3s)
$ yalotheca want chest-locks
--- stderr
error: http://HOST/catalogue.json does not answer: nothing
       came for 1 seconds
  fix: check the address and the network, or go on with what is here:
       --offline
--- exit 4
# catalogue.json Endless
$ yalotheca want chest-locks
--- stderr
error: http://HOST/catalogue.json sends more than 16.0 MB,
       which no file of a catalogue has; refused
--- exit 5
# items/chest-locks.json Other
$ yalotheca want chest-locks
--- stderr
error: catalogue http://HOST/: `items/chest-locks.json` is not
       the file that catalogue.json names: its sha256 is 862d1780cdd1,
       not 773e69ff1659
  fix: try again later, or tell the catalogue's keeper
--- exit 5
# items/chest-locks.json Babble
$ yalotheca want chest-locks
--- stderr
error: catalogue http://HOST/: `items/chest-locks.json` is not
       the file that catalogue.json names: its sha256 is d4d3b8634bd2,
       not 773e69ff1659
  fix: try again later, or tell the catalogue's keeper
--- exit 5
# items/chest-locks.json Down
$ yalotheca want chest-locks
--- stderr
error: http://HOST/items/chest-locks.json answers 500 Internal
       Server Error
  fix: check the address and the network, or go on with what is here:
       --offline
--- exit 4

"#]]
    );
    assert_eq!(before, club.tree());
    club.ok("want chest-locks");
}

#[test]
fn a_download_that_lies_is_refused_and_a_cut_one_taken_up_again() {
    let club = Club::adopted();
    impatient(&club);
    let before = club.tree();
    let file = "files/chest-locks-2.1.0.qpl";
    let mut told = String::new();
    for mood in [
        Mood::Down,
        Mood::Cut,
        Mood::Longer,
        Mood::Other,
        Mood::Page,
        Mood::Slow(Duration::from_secs(3)),
        Mood::Endless,
    ] {
        club.host.mood(file, Some(mood));
        told.push_str(&format!("# {mood:?}\n{}", club.run("want chest-locks").text));
    }
    assert_data_eq!(
        told,
        str![[r#"
# Down
$ yalotheca want chest-locks
--- stderr
error: http://HOST/files/chest-locks-2.1.0.qpl answers 500
       Internal Server Error
  fix: check the address and the network, or go on with what is here:
       --offline
--- exit 4
# Cut
$ yalotheca want chest-locks
--- stderr
error: http://HOST/files/chest-locks-2.1.0.qpl was cut short:
       172 B of 345 B came; try again later
--- exit 4
# Longer
$ yalotheca want chest-locks
--- stderr
error: http://HOST/files/chest-locks-2.1.0.qpl is not the file
       that was promised: it is larger than 345 bytes; refused
  fix: do not use that file; take another version, or tell its keeper
--- exit 5
# Other
$ yalotheca want chest-locks
--- stderr
error: http://HOST/files/chest-locks-2.1.0.qpl is not the file
       that was promised: its sha256 is d6c0168a55eb…, not 2e4bbd830027…;
       refused
  fix: do not use that file; take another version, or tell its keeper
--- exit 5
# Page
$ yalotheca want chest-locks
--- stderr
error: http://HOST/files/chest-locks-2.1.0.qpl is a web page,
       not a file; look on that page for the direct link
--- exit 5
# Slow(3s)
$ yalotheca want chest-locks
--- stderr
error: http://HOST/files/chest-locks-2.1.0.qpl does not
       answer: nothing came for 1 seconds
  fix: check the address and the network, or go on with what is here:
       --offline
--- exit 4
# Endless
$ yalotheca want chest-locks
--- stderr
error: http://HOST/files/chest-locks-2.1.0.qpl is not the file
       that was promised: it is larger than 345 bytes; refused
  fix: do not use that file; take another version, or tell its keeper
--- exit 5

"#]]
    );
    assert_eq!(before, club.tree());
    club.host.mood(file, Some(Mood::CutOnce));
    club.ok("want chest-locks");
    club.ok("settle --yes");
    club.host.mood("files/tide-biome-1.4.0.qpl", Some(Mood::Endless));
    let endless = club.run("want HOSTfiles/tide-biome-1.4.0.qpl");
    let said = endless.text.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(said.contains("sends more than 5.0 MB; refused"), "{said}");
}

#[test]
fn the_second_address_helps_when_the_first_fails() {
    let club = Club::adopted();
    let mut files = yalotheca_standin::catalogue::write("Club", "quarrywake", 20, &yalotheca_standin::club::items());
    let text = String::from_utf8(files["items/tide-biome.json"].clone()).unwrap();
    let text = text.replace("\"files/tide-biome-1.4.0.qpl\"", "\"files/gone.qpl\", \"files/tide-biome-1.4.0.qpl\"");
    let old = yalotheca_standin::catalogue::sha256(&files["items/tide-biome.json"]);
    let new = yalotheca_standin::catalogue::sha256(text.as_bytes());
    files.insert("items/tide-biome.json".to_owned(), text.into_bytes());
    // carry the new digest up to the root
    let shards: Vec<String> = files.keys().filter(|k| k.starts_with("index/items/")).cloned().collect();
    for shard in shards {
        let before = files[&shard].clone();
        let after = String::from_utf8(before.clone()).unwrap().replace(&old, &new).into_bytes();
        let root = String::from_utf8(files["catalogue.json"].clone()).unwrap();
        let root =
            root.replace(&yalotheca_standin::catalogue::sha256(&before), &yalotheca_standin::catalogue::sha256(&after));
        files.insert("catalogue.json".to_owned(), root.into_bytes());
        files.insert(shard, after);
    }
    club.host.replace(files);
    club.ok("want tide-biome");
    club.ok("settle --yes");
    assert!(club.path("plugins/tide-biome.qpl").exists());
}

#[test]
fn an_archive_that_is_not_what_the_catalogue_says_is_refused() {
    let club = Club::adopted();
    let mut items = yalotheca_standin::club::items();
    let tide = items.iter_mut().find(|i| i.id == "tide-biome").unwrap();
    let mut told = String::new();
    for other in [
        yalotheca_standin::club::plugin("tide-biome", "9.9.9", "^1.8", &[], ""),
        yalotheca_standin::club::plugin("sand-biome", "1.4.0", "^1.8", &[], ""),
    ] {
        tide.releases[0].bytes = other;
        let one = [tide.clone()];
        club.host.replace(yalotheca_standin::catalogue::write("Club", "quarrywake", 30, &one));
        told.push_str(&club.run("want tide-biome").text);
    }
    assert_data_eq!(
        told,
        str![[r#"
$ yalotheca want tide-biome
--- stderr
error: tide-biome 1.4.0: the catalogue and what came from it disagree:
       inside it calls itself version 9.9.9
  fix: take another version, and tell the catalogue's keeper
--- exit 5
$ yalotheca want tide-biome
--- stderr
error: tide-biome 1.4.0: the catalogue and what came from it disagree:
       inside it calls itself sand-biome
  fix: take another version, and tell the catalogue's keeper
--- exit 5

"#]]
    );
}
