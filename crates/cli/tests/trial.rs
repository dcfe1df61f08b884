//! `trial`: a supervised start, its log read, and a verdict.

mod club;

use std::fs;

use club::Club;
use snapbox::{assert_data_eq, str};

#[test]
fn terms_are_never_accepted_unasked() {
    let club = Club::adopted();
    assert_data_eq!(
        club.run("trial --yes").text,
        str![[r#"
$ yalotheca trial --yes
Terms: the server stopped, because nobody accepted its terms yet:
  "terms number 7 not accepted: read terms.txt, then set
  terms.accepted=7 in start.conf"
  fix: read terms.txt in the server's folder; if you accept, run:
       yalotheca trial --accept-terms 7
--- stderr
  | terms number 7 not accepted: read terms.txt, then set terms.accepted=7 in start.conf
--- exit 6

"#]]
    );
    assert!(!club.read("start.conf").contains("terms.accepted"));
    assert_data_eq!(
        club.run("trial --accept-terms 6").text,
        str![[r#"
$ yalotheca trial --accept-terms 6
--- stderr
error: the terms in force have the number 7, not 6
  fix: read the terms, then: yalotheca trial --accept-terms 7
--- exit 2

"#]]
    );
    assert_data_eq!(
        club.run("trial --accept-terms 7").text,
        str![[r#"
$ yalotheca trial --accept-terms 7
item          verdict  why
ferrite       loaded
gull-counter  loaded
harbour-bell  loaded

Clean: the server came up and nothing failed.
--- stderr
Accepted the terms number 7 (history entry 2).
  | core ferrite 3.4.0 for game 1.8.2
  | ignored plugins/notes from Ada.txt: not a .qpl file
  | plugin gull-counter 0.3.0 loaded
  | plugin harbour-bell 1.0.0 loaded
  | first start: wrote settings/harbour-bell.yaml
  | quarrywake is up
  | quarrywake has stopped
--- exit 0

"#]]
    );
    assert!(club.read("start.conf").ends_with("terms.accepted=7\n"));
    // accepted is accepted: settles and starts leave it alone
    club.ok("settle");
    assert_eq!(club.run("trial").code, 0);
    assert!(club.ok("history").out.contains("accepted the terms number 7"));
}

#[test]
fn a_failing_plugin_is_named_with_its_line() {
    let club = Club::settled("chest-locks rust-anchor");
    assert_data_eq!(
        club.run("trial --accept-terms 7").text,
        str![[r#"
$ yalotheca trial --accept-terms 7
item          verdict  why
ferrite       loaded
gull-counter  loaded
harbour-bell  loaded
lock-core     loaded
chest-locks   loaded
rust-anchor   FAILED   log line 10: "plugin rust-anchor not loaded: anchor
                       table has no row 7"

Not clean: the server came up, and something was not loaded.
  fix: see why above; yalotheca check tells more
--- stderr
Accepted the terms number 7 (history entry 3).
  | core ferrite 3.4.0 for game 1.8.2
  | ignored plugins/notes from Ada.txt: not a .qpl file
  | plugin gull-counter 0.3.0 loaded
  | plugin harbour-bell 1.0.0 loaded
  | first start: wrote settings/harbour-bell.yaml
  | plugin lock-core 1.4.2 loaded
  | first start: wrote settings/lock-core.yaml
  | plugin chest-locks 2.1.0 loaded
  | first start: wrote settings/chest-locks.yaml
  | plugin rust-anchor not loaded: anchor table has no row 7
  | quarrywake is up
  | quarrywake has stopped
--- exit 1

"#]]
    );
    let verdict = club.run("trial --json").json();
    assert_eq!(verdict["start"], "unclean");
    let failed: Vec<_> = verdict["items"].as_array().unwrap().iter().filter(|i| i["state"] == "failed").collect();
    assert_eq!(failed.len(), 1);
    assert_eq!(failed[0]["item"], "rust-anchor");
}

#[test]
fn a_slow_start_is_waited_for() {
    let club = Club::adopted();
    club.launcher("--slow 0.4");
    assert_eq!(club.run("trial --accept-terms 7").code, 0);
}

#[test]
fn ctrl_c_stops_the_server_too() {
    let club = Club::adopted();
    club.run("trial --accept-terms 7");
    club.launcher("--hang");
    let mut child = club.command("trial").stderr(std::process::Stdio::piped()).spawn().unwrap();
    let mut log = std::io::BufReader::new(child.stderr.take().unwrap());
    let mut line = String::new();
    // its last word before it hangs
    while !line.contains("harbour-bell") {
        line.clear();
        assert!(std::io::BufRead::read_line(&mut log, &mut line).unwrap() > 0);
    }
    assert!(std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap().success());
    let mut rest = String::new();
    std::io::Read::read_to_string(&mut log, &mut rest).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(4));
    assert!(rest.contains("quarrywake has stopped") && rest.contains("stopped: nothing was changed"), "{rest}");
}

#[test]
fn a_start_that_crashes_hangs_or_cannot_run_is_told() {
    let club = Club::adopted();
    club.launcher("--crash");
    assert_data_eq!(
        club.run("trial").text,
        str![[r#"
$ yalotheca trial
Did not start: it stopped by itself (exit status 3). Its word: "cannot start:
  the pump house is flooded"
  fix: yalotheca check tells what stands in the way
--- stderr
  | cannot start: the pump house is flooded
--- exit 1

"#]]
    );
    fs::remove_file(club.path("quarrywake")).unwrap();
    assert_data_eq!(
        club.run("trial").text,
        str![[r#"
$ yalotheca trial
--- stderr
error: `./quarrywake` could not be run: No such file or directory (os
       error 2)
  fix: check that the server's program is there and may be run
--- exit 4

"#]]
    );
    // a family of the user's own with little patience
    let own =
        fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../families/quarrywake.family.toml")).unwrap();
    fs::create_dir_all(club.home().join("families")).unwrap();
    fs::write(club.home().join("families/mine.family.toml"), own.replace("seconds = 60", "seconds = 1")).unwrap();
    club.launcher("--hang");
    let asked = club.run("trial --yes");
    assert_eq!(asked.code, 6, "a stranger's command is not run by --yes: {}", asked.text);
    let real = yalotheca_standin::catalogue::sha256(own.replace("seconds = 60", "seconds = 1").as_bytes());
    assert_data_eq!(
        asked.text.replace(&real[..12], "SHORT"),
        str![[r#"
$ yalotheca trial --yes
--- stderr
error: the family `quarrywake` (sha256 SHORT) would run:
       ./quarrywake
  fix: read the family file; if it may run that: yalotheca family approve
       quarrywake SHORT
--- exit 6

"#]]
    );
    assert_eq!(club.run("family approve quarrywake 0123456789").code, 6);
    club.ok(&format!("family approve quarrywake {}", &real[..12]));
    club.run("trial --accept-terms 7");
    // approved once, it is not asked again
    assert_data_eq!(
        club.run("trial").text,
        str![[r#"
$ yalotheca trial
Not up in time: it was stopped after 1 seconds. Its last word: "plugin
  harbour-bell 1.0.0 loaded"
  fix: if it only needs longer, raise `seconds` under [start] in the
       family file
--- stderr
  | core ferrite 3.4.0 for game 1.8.2
  | ignored plugins/notes from Ada.txt: not a .qpl file
  | plugin gull-counter 0.3.0 loaded
  | plugin harbour-bell 1.0.0 loaded
  | quarrywake has stopped
--- exit 1

"#]]
    );
}
