//! A run that is stopped dead at any effect: the next command leaves the server as it was before, or as it was to
//! be, byte for byte. Here and on rented hosts.
//!
//! `cargo test` tries some of the points; `cargo test --test sweep -- --ignored` tries each.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stdout)]

mod club;

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use club::{Club, differ};
use yalotheca_standin::rented::{Habits, Host};

#[derive(Debug, Clone, Copy, PartialEq)]
enum Doing {
    Adopt,
    Settle,
    Drop,
    Tune,
    Undo,
}

const EACH: [Doing; 5] = [Doing::Adopt, Doing::Settle, Doing::Drop, Doing::Tune, Doing::Undo];

struct World {
    club: Club,
    _host: Option<Host>,
    adopt: String,
}

fn copy(from: &Path, to: &Path) {
    let _ = fs::remove_dir_all(to);
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let there = to.join(entry.file_name());
        if entry.file_type().unwrap().is_dir() {
            copy(&entry.path(), &there);
        } else {
            fs::copy(entry.path(), there).unwrap();
        }
    }
}

impl World {
    fn new(place: &str) -> Self {
        let club = Club::new();
        let (host, at) = match place {
            "here" => (None, "../quarry".to_owned()),
            // a host that renames over files, and one that cannot
            protocol => {
                let habits = Habits { no_rename_over: protocol == "ftp", ..Habits::default() };
                let host = Host::start(protocol, club.dir.path(), habits, &[]).unwrap();
                let at = format!("{} --trust-host {}", host.address("quarry"), host.fingerprint());
                (Some(host), at)
            }
        };
        Self { club, _host: host, adopt: format!("adopt {at} --catalogue HOST") }
    }

    fn ok(&self, words: &str) {
        self.club.ok_away("desk", words);
    }

    /// Makes everything ready; returns what is then to be done.
    fn prepare(&self, doing: Doing) -> &str {
        self.club.desk("desk");
        if doing == Doing::Adopt {
            return &self.adopt;
        }
        self.ok(&self.adopt);
        match doing {
            Doing::Settle => {
                self.ok("want deep-winch rope-ladders quarry-moss slate-nights tide-biome");
                "settle --yes"
            }
            Doing::Drop => {
                self.ok("want deep-winch rope-ladders quarry-moss slate-nights tide-biome");
                self.ok("settle --yes");
                self.ok("drop deep-winch");
                self.ok("drop quarry-moss");
                "settle --yes"
            }
            Doing::Tune => {
                self.ok("want deep-winch");
                "tune start.conf door.name=Slack_Water players.most=30 --yes"
            }
            _ => {
                self.ok("want deep-winch rope-ladders quarry-moss slate-nights");
                self.ok("settle --yes");
                "undo --yes"
            }
        }
    }

    /// The server without our own state, and the roster.
    fn seen(&self) -> BTreeMap<String, Vec<u8>> {
        let mut tree = self.club.tree();
        let roster = fs::read(self.club.desk("desk").join("roster.toml")).unwrap_or_default();
        tree.insert("the roster".to_owned(), roster);
        tree
    }

    fn keep(&self) {
        for name in ["quarry", "desk"] {
            copy(&self.club.dir.path().join(name), &self.club.dir.path().join(format!("{name}.before")));
        }
    }

    fn back(&self) {
        for name in ["quarry", "desk"] {
            copy(&self.club.dir.path().join(format!("{name}.before")), &self.club.dir.path().join(name));
        }
    }

    /// Whether nothing of a run is left lying.
    fn tidy(&self) -> bool {
        let empty = |name: &str| {
            let folder = self.club.path(&format!(".yalotheca/{name}"));
            !folder.exists() || fs::read_dir(folder).unwrap().next().is_none()
        };
        // a dead run's hold is taken over by the next one that needs it
        ["staging", "plans"].iter().all(|name| empty(name))
    }
}

/// Stops a run dead at its effects, `every` so many; returns how many points there were.
fn sweep(place: &str, doing: Doing, every: usize) -> usize {
    let world = World::new(place);
    let words = world.prepare(doing).to_owned();
    world.keep();
    let before = world.seen();
    world.ok(&words);
    let after = world.seen();
    let mut points = 0;
    // not always the same ones, whatever the stride
    let first = (doing as usize * 3 + place.len()) % every;
    for at in (first..).step_by(every) {
        world.back();
        let mut run = world.club.away("desk", &words);
        run.env("YALOTHECA_DIE_AT", at.to_string());
        let ended = run.output().unwrap();
        if ended.status.code().is_some() {
            assert!(ended.status.success(), "{place} {doing:?} {at}: {}", String::from_utf8_lossy(&ended.stderr));
            break;
        }
        points += 1;
        // the next command, whatever it is
        let next = if fs::exists(world.club.desk("desk").join("roster.toml")).unwrap() {
            let ran = world.club.run_away("desk", "check");
            assert!(ran.code < 2, "{place} {doing:?} {at}: {}", ran.text);
            ran.text
        } else {
            let ran = world.club.run_away("desk", &format!("{} --dry-run", world.adopt));
            assert_eq!(ran.code, 0, "{place} {doing:?} {at}: {}", ran.text);
            ran.text
        };
        let seen = world.seen();
        let (off_before, off_after) = (differ(&before, &seen), differ(&after, &seen));
        assert!(
            off_before.is_empty() || off_after.is_empty(),
            "{place} {doing:?} {at}: neither as before {off_before:?} nor as after {off_after:?}\n{next}"
        );
        assert!(world.tidy(), "{place} {doing:?} {at}: something was left lying\n{next}");
        if !off_after.is_empty() {
            world.ok(&words);
            assert!(differ(&after, &world.seen()).is_empty(), "{place} {doing:?} {at}: the second try");
        }
    }
    points
}

fn all(place: &str, every: usize) -> usize {
    EACH.iter().map(|doing| sweep(place, *doing, every)).sum()
}

#[test]
fn a_run_that_is_stopped_dead_here() {
    assert!(all("here", 23) > 15);
}

#[test]
fn a_run_that_is_stopped_dead_over_sftp() {
    assert!(all("sftp", 29) > 10);
}

#[test]
fn a_run_that_is_stopped_dead_over_ftp() {
    assert!(all("ftp", 29) > 10);
}

#[test]
#[ignore = "every point takes minutes: .ci/run does it"]
fn a_run_that_is_stopped_dead_at_each_point() {
    let points: usize = std::thread::scope(|scope| {
        let threads: Vec<_> =
            ["here", "sftp", "ftp"].into_iter().map(|place| scope.spawn(move || all(place, 1))).collect();
        threads.into_iter().map(|t| t.join().unwrap()).sum()
    });
    println!("{points} points, each left the server as before or as after");
    assert!(points >= 1_000, "{points}");
}

#[test]
#[ignore = "200 kills take minutes: .ci/run does it"]
fn a_run_that_is_killed_at_any_moment() {
    let mut seed = 0x2545_f491_4f6c_dd1du64;
    let mut random = move |below: u64| {
        seed ^= seed << 13;
        seed ^= seed >> 7;
        seed ^= seed << 17;
        seed % below
    };
    let (mut killed, mut kept, mut made) = (0, 0, 0);
    for (place, times) in [("here", 100), ("sftp", 60), ("ftp", 40)] {
        let world = World::new(place);
        let words = world.prepare(Doing::Settle).to_owned();
        world.keep();
        let before = world.seen();
        let begun = std::time::Instant::now();
        world.ok(&words);
        let whole = begun.elapsed();
        let after = world.seen();
        for time in 0..times {
            world.back();
            let mut run = world.club.away("desk", &words);
            let mut run = run.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null()).spawn().unwrap();
            // the moment is the point of it: anywhere in the run
            let most = u64::try_from(whole.as_micros()).unwrap() * 11 / 10;
            std::thread::sleep(std::time::Duration::from_micros(random(most.max(1))));
            let _ = run.kill();
            killed += u32::from(run.wait().unwrap().code().is_none());
            let next = world.club.run_away("desk", "check");
            assert!(next.code < 2, "{place} {time}: {}", next.text);
            let seen = world.seen();
            let (as_before, as_after) = (differ(&before, &seen).is_empty(), differ(&after, &seen).is_empty());
            assert!(as_before || as_after, "{place} {time}: {:?}\n{}", differ(&before, &seen), next.text);
            assert!(world.tidy(), "{place} {time}: something was left lying");
            kept += u32::from(as_before);
            made += u32::from(as_after);
        }
    }
    println!("200 kills, {killed} in time: {kept} times as before, {made} times as after");
}
