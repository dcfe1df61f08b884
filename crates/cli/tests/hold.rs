//! Two runs on one server: one works, the other is told who does. What a dead run holds is taken over.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod club;

use std::fs;
use std::time::{Duration, SystemTime};

use club::Club;
use snapbox::{assert_data_eq, str};

/// Holds the server as a run of some machine would.
fn held(club: &Club, machine: &str, pid: u32, began: u64, silent: Duration) {
    let note = format!(
        r#"{{"who":"mira on {machine}","machine":"{machine}","pid":{pid},"began":{began},"since":"2026-11-23T11:58:00Z"}}"#
    );
    club.write(".yalotheca/locks/held/holder.json", note);
    let file = fs::File::options().write(true).open(club.path(".yalotheca/locks/held/holder.json")).unwrap();
    file.set_modified(SystemTime::now() - silent).unwrap();
}

fn this_machine() -> String {
    fs::read_to_string("/proc/sys/kernel/hostname").unwrap().trim().to_owned()
}

/// When this very process began, as the system counts.
fn began() -> u64 {
    let line = fs::read_to_string("/proc/self/stat").unwrap();
    line.rsplit_once(')').unwrap().1.split_whitespace().nth(19).unwrap().parse().unwrap()
}

#[test]
fn another_machine_at_work_is_told() {
    let club = Club::adopted();
    club.ok("want chest-locks");
    let before = club.tree();
    held(&club, "harbour", 4711, 1, Duration::from_secs(125));
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

--- stderr
error: another run holds this server: mira on harbour, process 4711,
       since 2026-11-23 11:58:00 UTC; if that run died, its hold ends in
       13 min
  fix: wait until it has ended, then run the same command again
--- exit 4

"#]]
    );
    assert_eq!(before, club.tree());
    // nothing of ours is left beside the other's hold
    let left: Vec<_> = fs::read_dir(club.path(".yalotheca/locks")).unwrap().map(|e| e.unwrap().file_name()).collect();
    assert_eq!(left, ["held"]);
}

#[test]
fn a_run_of_this_machine_that_lives_is_not_disturbed() {
    let club = Club::adopted();
    club.ok("want chest-locks");
    held(&club, &this_machine(), std::process::id(), began(), Duration::from_secs(5));
    let ran = club.run("settle --yes");
    assert_eq!(ran.code, 4, "{}", ran.text);
    assert!(ran.err.contains("another run holds this server"), "{}", ran.text);
}

#[test]
fn what_a_dead_run_holds_is_taken_over() {
    // its number is another process's now; or nobody's
    for (pid, began) in [(std::process::id(), 1), (4_000_000, 1)] {
        let club = Club::adopted();
        club.ok("want chest-locks");
        held(&club, &this_machine(), pid, began, Duration::from_secs(5));
        club.ok("settle --yes");
        assert!(!club.path(".yalotheca/locks/held").exists());
    }
}

#[test]
fn a_machine_that_was_silent_too_long_is_given_up() {
    let club = Club::adopted();
    club.ok("want chest-locks");
    held(&club, "harbour", 4711, 1, Duration::from_secs(16 * 60));
    club.ok("settle --yes");
    assert_eq!(fs::read_dir(club.path(".yalotheca/locks")).unwrap().count(), 0, "and nothing is left of it");
}

#[test]
fn a_holder_that_cannot_be_read_is_believed_for_a_while() {
    let club = Club::adopted();
    club.ok("want chest-locks");
    club.write(".yalotheca/locks/held/holder.json", "gull");
    let ran = club.run("settle --yes");
    assert!(ran.err.contains("somebody who left no name"), "{}", ran.text);
    assert_eq!(ran.code, 4);
}
