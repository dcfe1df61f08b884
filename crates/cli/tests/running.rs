//! A server that runs is not changed under its feet.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod club;

use club::{Club, differ};
use snapbox::{assert_data_eq, str};

#[test]
fn what_a_running_server_would_write_over_waits() {
    let club = Club::adopted();
    club.write("quarry.running", "4711\n");
    let before = club.tree();
    assert_data_eq!(
        club.run("tune start.conf door.name=Slack_Water --yes").text,
        str![[r#"
$ yalotheca tune start.conf door.name=Slack_Water --yes
start.conf
  line 4
    
    # what the door says
  - door.name=The Tidewrack Quarry
  + door.name=Slack_Water
error  server-runs
    the server seems to run (quarry.running is there), and writes start.conf
    anew when it stops
    fix: stop the server, then run the same command again; if it is
         stopped and the sign is a leftover, add --stopped
--- stderr
error: nothing was changed: the server seems to run (quarry.running is
       there), and writes start.conf anew when it stops
  fix: stop the server, then run the same command again; if it is stopped
       and the sign is a leftover, add --stopped
--- exit 6

"#]]
    );
    assert_eq!(differ(&before, &club.tree()), Vec::<String>::new());
    // a sign that a crash left
    club.ok("tune start.conf door.name=Slack_Water --yes --stopped");
    assert!(club.read("start.conf").contains("Slack_Water"));
}

#[test]
fn what_is_heard_only_after_a_restart_is_told() {
    let club = Club::adopted();
    club.ok("want chest-locks");
    club.write("quarry.running", "4711\n");
    assert_data_eq!(
        club.run("settle --yes").text,
        str![[r#"
$ yalotheca settle --yes
items
  + chest-locks  2.1.0  plugin  wanted
  + lock-core    1.4.2  plugin  needed by chest-locks
files
  + plugins/chest-locks.qpl  345 B
  + plugins/lock-core.qpl    319 B

warning  restart-after
    the server seems to run (quarry.running is there), and hears of
    plugins/chest-locks.qpl and plugins/lock-core.qpl only after a restart
    fix: restart it when nobody plays

Done: 2 items and 2 files changed (settle, history entry 2).
--- stderr
To take it back: yalotheca undo. To see whether it starts: yalotheca trial
--- exit 0

"#]]
    );
    std::fs::remove_file(club.path("quarry.running")).unwrap();
    club.ok("want quarry-moss");
    assert!(!club.ok("settle --yes").text.contains("restart"));
}

#[test]
fn while_trial_runs_the_server_nobody_else_changes_it() {
    use std::io::{BufRead as _, BufReader};
    let club = Club::settled("chest-locks");
    club.ok("want quarry-moss");
    club.launcher("--hang");
    let mut trial = club.command("trial --accept-terms 7");
    let mut trial = trial.stderr(std::process::Stdio::piped()).stdout(std::process::Stdio::null()).spawn().unwrap();
    // its log comes line by line: it runs
    let mut lines = BufReader::new(trial.stderr.take().unwrap()).lines();
    assert!(lines.any(|l| l.unwrap().contains("loaded")));
    let ran = club.run("settle --yes");
    assert!(ran.code == 4 || ran.code == 6, "{}", ran.text);
    assert!(ran.err.contains("another run holds") || ran.err.contains("seems to run"), "{}", ran.text);
    let _ = std::process::Command::new("kill").args(["-INT", &trial.id().to_string()]).status();
    let _ = trial.wait();
}
