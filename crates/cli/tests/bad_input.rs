//! What comes from outside is late, cut, wrong or hostile: one clear error each, and nothing changed.

mod club;

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::process::Stdio;
use std::time::Duration;

use club::Club;
use snapbox::{assert_data_eq, str};
use yalotheca_standin::host::Mood;

#[test]
fn a_slip_on_the_roster_names_line_and_nearest_word() {
    let club = Club::adopted();
    let good = club.read("roster.toml");
    let mut told = String::new();
    for (from, to) in [
        ("family =", "famly ="),
        ("[items]", "[item]"),
        ("\"*\"", "\"^\""),
        ("format = 1", "format = 7"),
        ("catalogues = [", "catalogues = "),
    ] {
        club.write("roster.toml", good.replacen(from, to, 1));
        told.push_str(&club.run("settle").text);
    }
    club.write("roster.toml", b"\xff\xfe");
    told.push_str(&club.run("settle").text);
    fs::remove_file(club.path("roster.toml")).unwrap();
    told.push_str(&club.run("settle").text);
    assert_data_eq!(
        told,
        str![[r#"
$ yalotheca settle
--- stderr
error: roster.toml:9:1: `famly` is no word here, did you mean `family`?
    ╭─[roster.toml:9:1]
  8 │ [server]
  9 │ famly = "quarrywake"
    · ──┬──
    ·   ╰── here
 10 │ at = "."    # the server's folder, from here, or a rented host
    ╰────
  fix: mend that line and try again; nothing was changed
--- exit 2
$ yalotheca settle
--- stderr
error: roster.toml:13:2: `item` is no word here, did you mean `items`?
    ╭─[roster.toml:13:2]
 12 │ # One line an item: the versions it may have ("*" any, "^2" 2 and up but below 3, "=2.1.0").
 13 │ [item]
    ·  ──┬─
    ·    ╰── here
 14 │ ferrite = "*"
    ╰────
  fix: mend that line and try again; nothing was changed
--- exit 2
$ yalotheca settle
Nothing to do: the server matches the roster.
--- exit 0
$ yalotheca settle
--- stderr
error: roster.toml:3:1: format is 7, and this program knows 1
   ╭─[roster.toml:3:1]
 2 │ # `yalotheca drop`; comments and order are kept. `yalotheca settle` makes the server match it.
 3 │ format = 7
   · ───┬──
   ·    ╰── here
 4 │
   ╰────
  fix: mend that line and try again; nothing was changed
--- exit 2
$ yalotheca settle
--- stderr
error: roster.toml:6:39: unexpected key or value, expected newline, `#`
   ╭─[roster.toml:6:39]
 5 │ # Where items are looked for, first one first: addresses or folders.
 6 │ catalogues = "http://HOST/"]
   ·                                       ┬
   ·                                       ╰── here
 7 │
   ╰────
  fix: mend that line and try again; nothing was changed
--- exit 2
$ yalotheca settle
--- stderr
error: `roster.toml` is not UTF-8 text: invalid utf-8 sequence of 1 bytes
       from index 0
  fix: save it as UTF-8 text and try again
--- exit 4
$ yalotheca settle
--- stderr
error: there is no roster `roster.toml`
  fix: go to the folder of your roster, name it with --roster FILE, or
       begin with: yalotheca adopt
--- exit 2

"#]]
    );
}

#[test]
fn a_slip_in_a_family_file_names_line_and_nearest_word() {
    let club = Club::adopted();
    let good =
        fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../families/quarrywake.family.toml")).unwrap();
    let own = club.home().join("families/mine.family.toml");
    fs::create_dir_all(own.parent().unwrap()).unwrap();
    let mut told = String::new();
    for (from, to) in [
        ("needs-capability", "needs-capabilty"),
        ("role = \"core\"", "role = \"cor\""),
        ("plugins/{id}.qpl", "plugins/{idd}.qpl"),
        ("core/{core-file}\"", "core/{core-fle}\""),
        ("'^quarrywake is up'", "'^quarrywake (is up'"),
        ("wanted = \"terms\"", "wanted = \"term\""),
        ("sure = 70", "sure = 1"),
        (
            "file = \"start.conf\"\nformat = \"properties\"\nat = \"core.file\"\nvalue",
            "file = \"../start.conf\"\nformat = \"properties\"\nat = \"core.file\"\nvalue",
        ),
    ] {
        assert!(good.contains(from), "{from}");
        fs::write(
            &own,
            good.replace(from, to).replace("sure = 60", if to == "sure = 1" { "sure = 1" } else { "sure = 60" }),
        )
        .unwrap();
        told.push_str(&club.run("check").text);
    }
    assert_data_eq!(
        told,
        str![[r#"
$ yalotheca check
--- stderr
error: DIR/home/families/mine.family.toml:110:1:
       `needs-capabilty` is no word here, did you mean
       `needs-capability`?
     ╭─[DIR/home/families/mine.family.toml:110:1]
 109 │ file = "*.qpl"
 110 │ needs-capabilty = "plugins"
     · ───────┬───────
     ·        ╰── here
 111 │ place = [
     ╰────
  fix: mend that line of the family file and try again
--- exit 2
$ yalotheca check
--- stderr
error: DIR/home/families/mine.family.toml:91:8: `cor` is no
       word here, did you mean `core`?
    ╭─[DIR/home/families/mine.family.toml:91:8]
 90 │ [kind.core]
 91 │ role = "cor"
    ·        ──┬──
    ·          ╰── here
 92 │ title = "core"
    ╰────
  fix: mend that line of the family file and try again
--- exit 2
$ yalotheca check
--- stderr
error: DIR/home/families/mine.family.toml:112:26: the
       template `plugins/{idd}.qpl` names `idd`, which nothing fills
       here, did you mean `id`? (there are `id`, `version`, `title`,
       `name`, `stem`, `path`, `number`, `order`, `link`, `bytes`,
       `sha256`, `capabilities`, `core`, `core-file`, `core-release`,
       `game`, `runtime`, `runtime-least`, `terms`, `terms-accepted`)
     ╭─[DIR/home/families/mine.family.toml:112:26]
 111 │ place = [
 112 │   { take = "real", to = "plugins/{idd}.qpl" },
     ·                          ────────┬────────
     ·                                  ╰── here
 113 │   { take = "lib/*.qlib", to = "plugins/lib/{name}" },
     ╰────
  fix: mend that line of the family file and try again
--- exit 2
$ yalotheca check
--- stderr
error: DIR/home/families/mine.family.toml:54:9: the template
       `core/{core-fle}` names `core-fle`, which nothing fills here, did
       you mean `core-file`? (there are `capabilities`, `core`,
       `core-file`, `core-release`, `game`, `runtime`, `runtime-least`,
       `terms`, `terms-accepted`)
    ╭─[DIR/home/families/mine.family.toml:54:9]
 53 │ [fact.core]
 54 │ file = "core/{core-fle}"
    ·         ───────┬───────
    ·                ╰── here
 55 │ inside = "core.json"
    ╰────
  fix: mend that line of the family file and try again
--- exit 2
$ yalotheca check
--- stderr
error: DIR/home/families/mine.family.toml:269:12: the
       pattern cannot be read: found open group without closing ')'
     ╭─[DIR/home/families/mine.family.toml:269:12]
 268 │ means = "ready"
 269 │ pattern = '^quarrywake (is up'
     ·            ─────────┬────────
     ·                     ╰── here
 270 │
     ╰────
  fix: mend that line of the family file and try again
--- exit 2
$ yalotheca check
--- stderr
error: DIR/home/families/mine.family.toml:255:11: no
       `[fact.term]` stands in this file, did you mean `terms`?
     ╭─[DIR/home/families/mine.family.toml:255:11]
 254 │ [terms]
 255 │ wanted = "term"
     ·           ──┬─
     ·             ╰── here
 256 │ accepted = "terms-accepted"
     ╰────
  fix: mend that line of the family file and try again
--- exit 2
$ yalotheca check
--- stderr
error: DIR/home/families/mine.family.toml:24:3: the marks
       together never reach 100, so no server would be recognised
    ╭─[DIR/home/families/mine.family.toml:24:3]
 23 │ # What gives the family away in a folder; marks add up, 100 is certain.
 24 │ [[recognise]]
    ·   ────┬────
    ·       ╰── here
 25 │ path = "start.conf"
    ╰────
  fix: mend that line of the family file and try again
--- exit 2
$ yalotheca check
--- stderr
error: DIR/home/families/mine.family.toml:100:9:
       `../start.conf` is no path inside the server's folder
     ╭─[DIR/home/families/mine.family.toml:100:9]
  99 │ [[kind.core.wire]]
 100 │ file = "../start.conf"
     ·         ──────┬──────
     ·               ╰── here
 101 │ format = "properties"
     ╰────
  fix: mend that line of the family file and try again
--- exit 2

"#]]
    );
}

#[test]
fn without_write_permission_nothing_happens() {
    let club = Club::adopted();
    club.ok("want chest-locks");
    let before = club.tree();
    let plugins = club.path("plugins");
    fs::set_permissions(&plugins, fs::Permissions::from_mode(0o555)).unwrap();
    // root may write anywhere: then there is nothing to see here
    let root = fs::write(plugins.join("probe"), "").is_ok();
    if root {
        fs::remove_file(plugins.join("probe")).unwrap();
        eprintln!("skipped: this user may write to read-only folders");
    } else {
        let ran = club.run("settle --yes");
        assert_eq!(ran.code, 4, "{}", ran.text);
        assert!(ran.text.contains("write permission"), "{}", ran.text);
        assert_eq!(before, club.tree());
    }
    fs::set_permissions(&plugins, fs::Permissions::from_mode(0o755)).unwrap();
}

#[test]
fn a_folder_in_the_way_is_told() {
    let club = Club::adopted();
    fs::create_dir(club.path("plugins/chest-locks.qpl")).unwrap();
    club.run("want chest-locks");
    assert_data_eq!(
        club.run("settle --yes").text,
        str![[r#"
$ yalotheca settle --yes
--- stderr
error: this needs your decision first
error  plugins/chest-locks.qpl  in-the-way
    chest-locks needs this place for a file, and a folder stands there
    fix: move it elsewhere, then settle again
--- exit 6

"#]]
    );
}

#[test]
fn a_link_on_the_way_is_not_followed() {
    let club = Club::adopted();
    let elsewhere = club.dir.path().join("elsewhere");
    fs::create_dir(&elsewhere).unwrap();
    fs::rename(club.path("addpacks"), club.path("addpacks-real")).unwrap();
    std::os::unix::fs::symlink(&elsewhere, club.path("addpacks")).unwrap();
    assert_data_eq!(
        club.run("want quarry-moss").text,
        str![[r#"
$ yalotheca want quarry-moss
--- stderr
error: `addpacks/quarry-moss/addpack.json` leads through a link, which is
       not followed; put a real folder there
--- exit 5

"#]]
    );
    assert_eq!(fs::read_dir(&elsewhere).unwrap().count(), 0);
}

#[test]
fn ctrl_c_stops_a_download_and_changes_nothing() {
    let club = Club::adopted();
    let before = club.tree();
    club.host.mood("files/chest-locks-2.1.0.qpl", Some(Mood::Slow(Duration::from_secs(20))));
    club.host.asked();
    let mut child = club.command("want chest-locks").stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    while !club.host.asked().iter().any(|p| p.ends_with("chest-locks-2.1.0.qpl")) {
        assert!(child.try_wait().unwrap().is_none(), "it ended before it was stopped");
        std::thread::yield_now();
    }
    let pid = child.id().to_string();
    assert!(std::process::Command::new("kill").args(["-INT", &pid]).status().unwrap().success());
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(4));
    assert_data_eq!(
        String::from_utf8(output.stderr).unwrap(),
        str![[r#"
error: stopped: nothing was changed

"#]]
    );
    assert_eq!(before, club.tree());
}
