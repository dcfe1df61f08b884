//! `want` and `drop`: the roster's lines, and what a settle would do.

mod club;

use std::fs;

use club::Club;
use snapbox::{assert_data_eq, str};
use yalotheca_standin::club::{pack, plugin};

#[test]
fn an_item_of_a_catalogue_goes_onto_the_roster() {
    let club = Club::adopted();
    let hand = club.read("roster.toml").replace("[items]\n", "[items]\n# ours:\n");
    club.write("roster.toml", &hand);
    assert_data_eq!(
        club.run("want chest-locks@^2").text,
        str![[r#"
$ yalotheca want chest-locks@^2
chest-locks is on the roster: chest-locks = "^2"

`yalotheca settle` would do this:
items
  + chest-locks  2.1.0  plugin  wanted
  + lock-core    1.4.2  plugin  needed by chest-locks
files
  + plugins/chest-locks.qpl  345 B
  + plugins/lock-core.qpl    319 B
--- exit 0

"#]]
    );
    assert_eq!(club.read("roster.toml"), format!("{hand}chest-locks = \"^2\"\n"));
    assert_data_eq!(
        club.run("want chest-locks@2.0.0").text,
        str![[r#"
$ yalotheca want chest-locks@2.0.0
chest-locks is on the roster: chest-locks = "2.0.0"

`yalotheca settle` would do this:
items
  + chest-locks  2.0.0  plugin  wanted
  + lock-core    1.4.2  plugin  needed by chest-locks
files
  + plugins/chest-locks.qpl  345 B
  + plugins/lock-core.qpl    319 B
--- exit 0

"#]]
    );
    assert_eq!(club.read("roster.toml"), format!("{hand}chest-locks = \"2.0.0\"\n"));
    assert_data_eq!(
        club.run("drop chest-locks").text,
        str![[r#"
$ yalotheca drop chest-locks
chest-locks is off the roster

Nothing to do: the server matches the roster.
--- exit 0

"#]]
    );
    assert_eq!(club.read("roster.toml"), hand);
}

#[test]
fn a_dry_run_writes_no_roster() {
    let club = Club::adopted();
    let before = club.read("roster.toml");
    assert_eq!(club.run("want tide-biome --dry-run").code, 1);
    assert_eq!(club.run("drop gull-counter --dry-run").code, 1);
    assert_eq!(club.read("roster.toml"), before);
}

#[test]
fn a_file_is_opened_and_its_one_real_file_found() {
    let club = Club::adopted();
    let real = plugin("net-mender", "1.2.0", "^1.8", &[("lock-core", "^1")], "libraries: [ropes.qlib]\n");
    let zip = pack(&[
        ("net-mender-1.2/net-mender.qpl", &real),
        ("net-mender-1.2/lib/ropes.qlib", b"ropes"),
        ("net-mender-1.2/READ ME.txt", b"hi"),
    ]);
    fs::write(club.path("../net-mender.zip"), zip).unwrap();
    assert_data_eq!(
        club.run("want ../net-mender.zip").text,
        str![[r#"
$ yalotheca want ../net-mender.zip
net-mender is on the roster: net-mender = { file = "../net-mender.zip", sha256 = "DIGEST" }

`yalotheca settle` would do this:
items
  + net-mender  1.2.0  plugin  wanted
  + lock-core   1.4.2  plugin  needed by net-mender
files
  + plugins/lib/ropes.qlib  5 B
  + plugins/lock-core.qpl   319 B
  + plugins/net-mender.qpl  361 B
left out of the downloads
    net-mender: net-mender-1.2/READ ME.txt
--- exit 0

"#]]
    );
    club.ok("settle --yes");
    assert_eq!(fs::read(club.path("plugins/net-mender.qpl")).unwrap(), real);
    // the file may go now: the store has it
    fs::remove_file(club.path("../net-mender.zip")).unwrap();
    fs::remove_file(club.path("plugins/net-mender.qpl")).unwrap();
    club.ok("settle --yes");
    assert_eq!(fs::read(club.path("plugins/net-mender.qpl")).unwrap(), real);
}

#[test]
fn a_link_is_fetched_and_remembered_by_its_digest() {
    let club = Club::adopted();
    assert_data_eq!(
        club.run("want HOSTfiles/tide-biome-1.4.0.qpl").text,
        str![[r#"
$ yalotheca want HOSTfiles/tide-biome-1.4.0.qpl
tide-biome is on the roster: tide-biome = { link = "http://HOST/files/tide-biome-1.4.0.qpl", sha256 = "DIGEST" }

`yalotheca settle` would do this:
items
  + tide-biome  1.4.0  plugin  wanted
files
  + plugins/tide-biome.qpl  324 B
--- exit 0

"#]]
    );
    club.ok("settle --yes");
    assert!(club.path("plugins/tide-biome.qpl").exists());
}

#[test]
fn what_is_no_item_is_refused_with_its_reason() {
    let club = Club::adopted();
    let before = club.read("roster.toml");
    let put = |name: &str, bytes: &[u8]| fs::write(club.path("..").join(name), bytes).unwrap();
    let good = plugin("net-mender", "1.2.0", "^1.8", &[], "");
    put("page.qpl", b"<!doctype html>");
    put("empty.qpl", b"");
    put("cut.qpl", &good[..good.len() / 2]);
    put("photo.png", b"\x89PNG");
    put("no-manifest.qpl", &pack(&[("readme.txt", b"x")]));
    put("bad-manifest.qpl", &pack(&[("about.yaml", b"id: [net\n")]));
    put("no-version.qpl", &pack(&[("about.yaml", b"id: net-mender\n")]));
    put("bad-range.qpl", &pack(&[("about.yaml", b"id: a\nrelease: 1.10\nneeds: {b: '>>1'}\n")]));
    put("two.zip", &pack(&[("a.qpl", &good), ("b.qpl", &good)]));
    put("out.zip", &pack(&[("../../etc/evil.qpl", &good)]));
    let mut told = String::new();
    for what in [
        "../page.qpl",
        "../empty.qpl",
        "../cut.qpl",
        "../photo.png",
        "../no-manifest.qpl",
        "../bad-manifest.qpl",
        "../no-version.qpl",
        "../bad-range.qpl",
        "../two.zip",
        "../out.zip",
        "../absent.zip",
        "./worlds/",
        "chest-locks@^^",
        "chest-locs",
        "HOSTnothing.zip",
        "ftp:x",
        "chest-locks@>=9",
    ] {
        told.push_str(&club.run(&format!("want {what}")).text);
    }
    assert_data_eq!(
        told,
        str![[r#"
$ yalotheca want ../page.qpl
--- stderr
error: `page.qpl` is a web page, not the file itself; look on that page
       for the direct link
--- exit 3
$ yalotheca want ../empty.qpl
--- stderr
error: `empty.qpl` has no `about.yaml`, so nobody can say what it is; it
       may be cut, or not a plugin at all
--- exit 3
$ yalotheca want ../cut.qpl
--- stderr
error: cut.qpl: the archive is broken or cut short: invalid Zip archive:
       Could not find EOCD; fetch it again, or ask its author
--- exit 5
$ yalotheca want ../photo.png
--- stderr
error: `photo.png` is nothing that Quarrywake takes: expected a core
       (`*.qcore`, or an archive with one), a data pack (an archive with
       `addpack.json`), a kit (an archive with `kit.json`), a resource
       pack (an archive with `look.json`), a players' kit (an archive
       with `players.json`) and a plugin (`*.qpl`, or an archive with
       one)
--- exit 3
$ yalotheca want ../no-manifest.qpl
--- stderr
error: `no-manifest.qpl` has no `about.yaml`, so nobody can say what it
       is; it may be cut, or not a plugin at all
--- exit 3
$ yalotheca want ../bad-manifest.qpl
--- stderr
error: `about.yaml` in `bad-manifest.qpl` cannot be read: line 2, column
       1: this cannot be read (while parsing a flow sequence, expected
       ',' or ']')
--- exit 3
$ yalotheca want ../no-version.qpl
--- stderr
error: `about.yaml` in `no-version.qpl` does not say its `release`
--- exit 3
$ yalotheca want ../bad-range.qpl
--- stderr
error: `about.yaml` in `bad-range.qpl` is wrong: `>>1` is no version
       range (`>1` is no version); write for example `^2`, `~1.4`, `>=1.2
       <2`, `1.x`, `=2.1.0` or `*`
--- exit 3
$ yalotheca want ../two.zip
--- stderr
error: `two.zip` could be the plugin `a.qpl` or the plugin `b.qpl`; give
       the one file you mean by itself
--- exit 3
$ yalotheca want ../out.zip
--- stderr
error: out.zip: its member `../../etc/evil.qpl` leads out of the folder;
       this archive is not safe and nothing of it was unpacked
--- exit 5
$ yalotheca want ../absent.zip
--- stderr
error: `../absent.zip` cannot be read: No such file or directory (os
       error 2)
  fix: check the path
--- exit 4
$ yalotheca want ./worlds/
--- stderr
error: `worlds.zip` is nothing that Quarrywake takes: expected a core
       (`*.qcore`, or an archive with one), a data pack (an archive with
       `addpack.json`), a kit (an archive with `kit.json`), a resource
       pack (an archive with `look.json`), a players' kit (an archive
       with `players.json`) and a plugin (`*.qpl`, or an archive with
       one)
--- exit 3
$ yalotheca want chest-locks@^^
--- stderr
error: `^^` is no version range (`^` is no version); write for example
       `^2`, `~1.4`, `>=1.2 <2`, `1.x`, `=2.1.0` or `*`
--- exit 2
$ yalotheca want chest-locs
--- stderr
error: no catalogue has `chest-locs`, did you mean `chest-locks`?
  fix: search with: yalotheca find WORDS
--- exit 3
$ yalotheca want HOSTnothing.zip
--- stderr
error: http://HOST/nothing.zip answers 404 Not Found
  fix: check the address; there is nothing at it
--- exit 4
$ yalotheca want ftp:x
--- stderr
error: `ftp:x` is no item id: use letters, digits, `.`, `_` and `-`,
       beginning with a letter or digit
--- exit 2
$ yalotheca want chest-locks@>=9
--- stderr
error: no set of versions fits
  - you want chest-locks >=9, and there is only 1.4.0 to 3.0.0 (4 versions)
  what would help:
    1. take `chest-locks` 2.1.0 instead of >=9
    2. do without `chest-locks`
  fix: run the same command again with --take 1, or the number of another
--- exit 3

"#]]
    );
    assert_eq!(club.read("roster.toml"), before);
}

#[test]
fn dropping_what_is_not_there_names_the_nearest() {
    let club = Club::adopted();
    assert_data_eq!(
        club.run("drop gul-counter").text,
        str![[r#"
$ yalotheca drop gul-counter
--- stderr
error: `gul-counter` is not on the roster, did you mean `gull-counter`?
  fix: see what is on it: the [items] of roster.toml
--- exit 2

"#]]
    );
}

#[test]
fn a_plugin_for_another_game_is_told() {
    let club = Club::adopted();
    let mut files = yalotheca_standin::catalogue::write("Other", "mirelands", 1, &yalotheca_standin::club::items());
    // the same ids, for another family
    files.remove("");
    club.host.replace(files);
    assert_data_eq!(
        club.run("want tide-biome").text,
        str![[r#"
$ yalotheca want tide-biome
--- stderr
error: `tide-biome` is for mirelands, and this server is quarrywake
  fix: look for the same thing made for this game: yalotheca find WORDS
--- exit 3

"#]]
    );
}
