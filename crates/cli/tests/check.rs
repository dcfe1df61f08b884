//! `check`: everything that would stop a clean start, as findings.

mod club;

use club::Club;
use snapbox::{assert_data_eq, str};

#[test]
fn a_clean_server_has_no_findings() {
    let club = Club::settled("chest-locks");
    std::fs::remove_file(club.path("plugins/notes from Ada.txt")).unwrap();
    club.run("trial --accept-terms 7");
    assert_data_eq!(
        club.run("check").text,
        str![[r#"
$ yalotheca check
Good: nothing stands in the way of a clean start.
--- exit 0

"#]]
    );
}

#[test]
fn each_daily_mistake_is_a_finding() {
    let club = Club::settled("chest-locks quarry-moss");
    // changed, taken away, put into the wrong place, never opened
    club.write("plugins/chest-locks.qpl", "mine");
    std::fs::remove_file(club.path("addpacks/quarry-moss/stones/quarry-moss.json")).unwrap();
    club.write("plugins/deep-winch-2.2.1.zip", "PK");
    club.write("plugins/net-mender.qpl", "x");
    club.write("backup/old.txt", "x");
    club.write("backup/older.txt", "x");
    // the line that makes the pack load is gone
    club.write("addpacks/order.list", "# empty again\n");
    // a want that was never settled
    let roster = club.read("roster.toml") + "tide-biome = \"*\"\n";
    club.write("roster.toml", roster);
    assert_data_eq!(
        club.run("check").text,
        str![[r#"
$ yalotheca check
error  plugins/chest-locks.qpl  half-copied
    it has 4 bytes of 345: it was copied by half, cut, or changed by hand
    fix: have it whole again: yalotheca settle --put-back
         plugins/chest-locks.qpl
error  addpacks/quarry-moss/stones/quarry-moss.json  missing-file
    this file of quarry-moss is gone
    fix: yalotheca settle puts it back
error  start.conf  terms-not-accepted
    the terms number 7 are not accepted (none were accepted so far), and the
    server will not start
    fix: read terms.txt (the first yalotheca trial brings it), then:
         yalotheca trial --accept-terms 7
warning  addpacks/order.list  missing-setting
    the line `quarry-moss` was taken out by hand, and the roster wants it
    fix: yalotheca settle puts it back; to leave it out, drop its item
warning  tide-biome  not-settled
    tide-biome is on the roster and not on the server yet
    fix: yalotheca settle
warning  plugins/deep-winch-2.2.1.zip  unknown-file
    the server does not read this file here: it reads `plugins/*.qpl` and
    `plugins/lib/*`
    fix: if it holds an item: yalotheca want
         ./plugins/deep-winch-2.2.1.zip, then remove it from here
warning  plugins/net-mender.qpl  unknown-file
    this plugin is on the server and not on the roster
    fix: take it under care: yalotheca want ./plugins/net-mender.qpl;
         or remove it
warning  plugins/notes from Ada.txt  unknown-file
    the server does not read this file here: it reads `plugins/*.qpl` and
    `plugins/lib/*`
    fix: remove it, or give it the right name
note  backup/  unknown-file
    2 files here that nobody knows
    fix: nothing to do if it is yours

3 errors, 5 warnings and 1 note.
--- exit 1

"#]]
    );
    let found = club.run("check --json").json();
    assert_eq!(found["findings"][0]["severity"], "error");
    assert_eq!(found["errors"], 3);
}

#[test]
fn another_core_makes_findings_of_what_no_longer_fits() {
    let club = Club::settled("chest-locks pier-lights");
    // somebody uploads another core by hand and names it
    let items = yalotheca_standin::club::items();
    let core = |id: &str, version: &str| {
        let item = items.iter().find(|i| i.id == id).unwrap();
        item.releases.iter().find(|r| r.version == version).unwrap().bytes.clone()
    };
    club.write("core/bare-slate.qcore", core("bare-slate", "1.0.0"));
    let conf = club.read("start.conf").replace("ferrite.qcore", "bare-slate.qcore").replace("runtime=17", "runtime=16");
    club.write("start.conf", conf);
    assert_data_eq!(
        club.run("check").text,
        str![[r#"
$ yalotheca check
error  chest-locks  no-capability
    chest-locks 2.1.0 needs a core that takes plugins, and this one does not
    fix: yalotheca settle takes a version that fits, if there is one;
         else yalotheca drop chest-locks
error  gull-counter  no-capability
    gull-counter 0.3.0 needs a core that takes plugins, and this one does
    not
    fix: yalotheca settle takes a version that fits, if there is one;
         else yalotheca drop gull-counter
error  lock-core  no-capability
    lock-core 1.3.0 needs a core that takes plugins, and this one does not
    fix: yalotheca settle takes a version that fits, if there is one;
         else yalotheca drop lock-core
error  pier-lights  no-capability
    pier-lights 1.2.0 needs a core that takes plugins, and this one does not
    fix: yalotheca settle takes a version that fits, if there is one;
         else yalotheca drop pier-lights
error  runtime-too-old
    the core needs runtime 17, and this server has 16
    fix: ask your host for runtime 17, or take an older core
error  ferrite  runtime-too-old
    ferrite 3.4.0 needs runtime 17, this server has 16
    fix: yalotheca settle takes a version that fits, if there is one;
         else yalotheca drop ferrite
error  start.conf  terms-not-accepted
    the terms number 7 are not accepted (none were accepted so far), and the
    server will not start
    fix: read terms.txt (the first yalotheca trial brings it), then:
         yalotheca trial --accept-terms 7
warning  start.conf:2  changed-by-hand
    ferrite wants `core.file` to be `ferrite.qcore`, and it was set by hand
    to `bare-slate.qcore`: kept
    fix: to set it again: yalotheca settle --put-back start.conf
warning  plugins/notes from Ada.txt  unknown-file
    the server does not read this file here: it reads `plugins/*.qpl` and
    `plugins/lib/*`
    fix: remove it, or give it the right name

7 errors and 2 warnings.
--- exit 1

"#]]
    );
}

#[test]
fn a_settings_file_in_doubt_names_its_line() {
    let club = Club::adopted();
    club.run("trial --accept-terms 7");
    let conf = club.read("start.conf") + "runtime=18\n";
    club.write("start.conf", conf);
    assert_data_eq!(
        club.run("check").text,
        str![[r#"
$ yalotheca check
error  start.conf:8  unreadable-settings
    it cannot be read without doubt, so it is left alone: `runtime` stands
    here and on line 3; keep one of the two
    fix: correct that line by hand, then run the same command again
warning  plugins/notes from Ada.txt  unknown-file
    the server does not read this file here: it reads `plugins/*.qpl` and
    `plugins/lib/*`
    fix: remove it, or give it the right name

1 error and 1 warning.
--- exit 1

"#]]
    );
    let before = club.tree();
    assert_data_eq!(
        club.run("settle --yes").text,
        str![[r#"
$ yalotheca settle --yes
--- stderr
error: start.conf is left alone: line 8, column 1: `runtime` stands here
       and on line 3; keep one of the two
  fix: mend that line by hand, then run the same command again
--- exit 5

"#]]
    );
    assert_eq!(before, club.tree());
}

#[test]
fn a_need_that_went_missing_is_named() {
    let club = Club::settled("chest-locks");
    // the ledger of a server whose needs are not met: the need is dropped from the roster's reach by hand
    let lone = yalotheca_standin::club::plugin("lone-buoy", "1.0.0", "^1.8", &[("fog-horn", "^2")], "");
    club.write("plugins/lone-buoy.qpl", &lone);
    std::fs::remove_file(club.path("roster.toml")).unwrap();
    std::fs::remove_dir_all(club.path(".yalotheca")).unwrap();
    club.ok("adopt --catalogue HOST");
    let ran = club.run("check");
    assert!(ran.text.contains("lone-buoy 1.0.0 needs fog-horn ^2, which is not on the server"), "{}", ran.text);
    assert_eq!(ran.code, 1);
}
