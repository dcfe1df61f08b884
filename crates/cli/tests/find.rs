//! `find` and `show`: catalogues over HTTP and from a folder, asked only for what is needed.

mod club;

use club::Club;
use snapbox::{assert_data_eq, str};

#[test]
fn words_find_items() {
    let club = Club::adopted();
    assert_data_eq!(
        club.run("find lights").text,
        str![[r#"
$ yalotheca find lights
item         fits here  kind    what it does
pier-lights  1.2.0      plugin  Lamps along the pier that come on at dusk.
--- stderr

More of one: yalotheca show ITEM. Take one: yalotheca want ITEM
--- exit 0

"#]]
    );
    assert_data_eq!(
        club.run("find plugin rust").text,
        str![[r#"
$ yalotheca find plugin rust
item         fits here  kind    what it does
rust-anchor  0.4.0      plugin  Anchors that rust. Version 0.4 does not load.
--- stderr

More of one: yalotheca show ITEM. Take one: yalotheca want ITEM
--- exit 0

"#]]
    );
    assert_data_eq!(
        club.run("find submarine").text,
        str![[r#"
$ yalotheca find submarine
Nothing found. Try fewer or other words.
--- exit 0

"#]]
    );
    assert_data_eq!(
        club.run("show chest-locks").text,
        str![[r#"
$ yalotheca show chest-locks
chest-locks  Chest locks
  Locks chests and doors against other players.
  kind       plugin
  also       ChestLocks
  number     30117
  catalogue  http://HOST/
  goes to    plugins/chest-locks.qpl, plugins/lib/*

version  date        size   fits here                             needs
3.0.0    2026-10-30  348 B  no: fits game >=1.9, this server has  lock-core ^2
                            1.8.2
2.1.0    2026-05-20  345 B  yes                                   lock-core ^1
2.0.0    2026-01-14  345 B  yes                                   lock-core ^1
1.4.0    2025-03-02  328 B  yes
--- exit 0

"#]]
    );
    assert_data_eq!(
        club.run("show harbour-bell").text,
        str![[r#"
$ yalotheca show harbour-bell
harbour-bell  Harbour bell
  Rings when a ship comes in.
  kind       plugin
  catalogue  http://HOST/
  goes to    plugins/harbour-bell.qpl, plugins/lib/*

version  date        size   fits here    needs
1.1.0    2026-07-01  329 B  yes, a beta
1.0.0    2026-05-05  329 B  yes
--- exit 0

"#]]
    );
}

#[test]
fn other_names_numbers_and_slips_are_understood() {
    let club = Club::adopted();
    let shown = club.ok("show chest-locks").out;
    assert_eq!(club.ok("show ChestLocks").out, shown);
    assert_eq!(club.ok("show 30117").out, shown);
    assert_data_eq!(
        club.run("show chest-lock").text,
        str![[r#"
$ yalotheca show chest-lock
--- stderr
error: no catalogue has `chest-lock`, did you mean `chest-locks`?
  fix: search with: yalotheca find WORDS
--- exit 3

"#]]
    );
    assert_data_eq!(
        club.run("show 99").text,
        str![[r#"
$ yalotheca show 99
--- stderr
error: no catalogue has `99`
  fix: search with: yalotheca find WORDS
--- exit 3

"#]]
    );
    assert_data_eq!(
        club.run("show ../x").text,
        str![[r#"
$ yalotheca show ../x
--- stderr
error: `../x` is no item id: use letters, digits, `.`, `_` and `-`,
       beginning with a letter or digit
--- exit 2

"#]]
    );
}

#[test]
fn only_what_is_needed_is_asked_for_and_only_once() {
    let club = Club::adopted();
    club.host.asked();
    club.ok("show chest-locks");
    let first = club.host.asked();
    assert_eq!(first.len(), 3, "root (not changed), one shard, one item: {first:?}");
    assert_eq!(first[0], "=catalogue.json");
    assert!(first[1].starts_with("index/items/") && first[2] == "items/chest-locks.json", "{first:?}");
    club.ok("show chest-locks");
    assert_eq!(club.host.asked(), ["=catalogue.json"], "all else is known by its digest");
    club.ok("show chest-locks --offline");
    assert_eq!(club.host.asked(), Vec::<String>::new());
}

#[test]
fn a_renewed_catalogue_is_noticed() {
    let club = Club::adopted();
    club.ok("show chest-locks");
    let mut items = yalotheca_standin::club::items();
    items.retain(|i| i.id != "pier-lights");
    items[0].about = "Locks even better.".to_owned();
    club.host.replace(yalotheca_standin::catalogue::write("Tidewrack Club", "quarrywake", 13, &items));
    assert!(club.ok("show chest-locks").out.contains("Locks even better."));
    assert_eq!(club.run("show pier-lights").code, 3);
}

#[test]
fn a_catalogue_is_a_folder_too() {
    let club = Club::new();
    let files = yalotheca_standin::catalogue::write("Folder", "quarrywake", 1, &yalotheca_standin::club::items());
    yalotheca_standin::catalogue::lay(&files, &club.path("../shelf")).unwrap();
    club.ok("adopt --catalogue ../shelf");
    assert_data_eq!(
        club.run("find lights").text,
        str![[r#"
$ yalotheca find lights
item         fits here  kind    what it does
pier-lights  1.2.0      plugin  Lamps along the pier that come on at dusk.
--- stderr

More of one: yalotheca show ITEM. Take one: yalotheca want ITEM
--- exit 0

"#]]
    );
    club.ok("want chest-locks");
    club.ok("settle --yes");
    assert!(club.path("plugins/chest-locks.qpl").exists());
}
