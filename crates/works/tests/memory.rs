//! A settle over a tree in memory: how many round trips it takes, and what is left when an effect fails.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, OnceLock};

use yalotheca_core::id::ServerPath;
use yalotheca_core::roster::{Roster, put_item, take_item};
use yalotheca_standin::{catalogue, club};
use yalotheca_works::apply::carry_out;
use yalotheca_works::home::Home;
use yalotheca_works::progress::Silent;
use yalotheca_works::server::{Server, Surroundings};
use yalotheca_works::settle::{Options, plan};
use yalotheca_works::tree::memory::MemoryTree;
use yalotheca_works::tree::{Access, Tree};
use yalotheca_works::{Error, state, undo};

/// What all worlds share: the catalogue, the store, and the server's files to copy from.
fn shared() -> &'static Path {
    static SHARED: OnceLock<tempfile::TempDir> = OnceLock::new();
    let dir = SHARED.get_or_init(|| {
        let dir = tempfile::tempdir().unwrap();
        catalogue::lay(&catalogue::write("Club", "quarrywake", 1, &club::items()), &dir.path().join("shelf")).unwrap();
        std::fs::create_dir(dir.path().join("quarry")).unwrap();
        club::lay_quarrywake(&dir.path().join("quarry")).unwrap();
        dir
    });
    dir.path()
}

struct World {
    dir: &'static Path,
    own: tempfile::TempDir,
    tree: Arc<MemoryTree>,
    text: String,
    stop: Arc<AtomicBool>,
}

impl World {
    fn new() -> Self {
        let dir = shared();
        let tree = Arc::new(MemoryTree::new());
        let real = dir.join("quarry");
        for path in ["core/ferrite.qcore", "start.conf", "settings/gull-counter.yaml"] {
            tree.put(&ServerPath::server(path).unwrap(), &std::fs::read(real.join(path)).unwrap());
        }
        tree.put(&ServerPath::server("addpacks/order.list").unwrap(), b"mine\n");
        tree.put(&ServerPath::server("plugins/tide-biome.qpl").unwrap(), b"somebody's own");
        let text = "format = 1\ncatalogues = [\"../shelf\"]\n[server]\nfamily = \"quarrywake\"\n\n[items]\n".to_owned();
        Self { dir, own: tempfile::tempdir_in(dir).unwrap(), tree, text, stop: Arc::default() }
    }

    fn server(&self) -> Server {
        let roster_path: PathBuf = self.own.path().join("roster.toml");
        std::fs::write(&roster_path, &self.text).unwrap();
        let around = Surroundings {
            home: Home::new(self.dir.join("home")),
            offline: false,
            stop: self.stop.clone(),
            progress: Arc::new(Silent),
            now: "2026-11-23T12:00:00Z".to_owned(),
            who: "mira on workshop".to_owned(),
            machine: "workshop".to_owned(),
            verify: false,
            stopped: false,
            access: Access::none(),
        };
        Server::in_tree(&roster_path, self.text.clone(), Roster::parse(&self.text).unwrap(), self.tree.clone(), &around)
            .unwrap()
    }

    fn want(&mut self, items: &[&str]) {
        for item in items {
            let id = yalotheca_core::id::ItemId::new(item).unwrap();
            self.text = put_item(&self.text, &id, "\"*\"").unwrap();
        }
    }

    fn drop(&mut self, item: &str) {
        let id = yalotheca_core::id::ItemId::new(item).unwrap();
        self.text = take_item(&self.text, &id).unwrap().unwrap();
    }

    fn settle(&self) -> Result<(), Error> {
        let server = self.server();
        carry_out(&server, plan(&server, &Options::default())?).map(|_| ())
    }

    fn seen(&self) -> Seen {
        let head = state::head(self.tree.as_ref()).unwrap();
        (self.tree.files(), head.generation)
    }
}

const ITEMS: [&str; 5] = ["chest-locks", "tide-biome", "deep-winch", "quarry-moss", "slate-nights"];

#[test]
fn a_settle_takes_few_round_trips_however_many_files() {
    let mut world = World::new();
    world.want(&ITEMS);
    let before = world.tree.trips();
    world.settle().unwrap();
    let first = world.tree.trips() - before;
    assert!(first <= 40, "{first} round trips for a settle of five items");
    let before = world.tree.trips();
    assert!(plan(&world.server(), &Options::default()).unwrap().is_empty());
    let nothing = world.tree.trips() - before;
    assert!(nothing <= 20, "{nothing} round trips to find nothing to do");
    // many more items cost no more trips
    world.want(&["pier-lights", "rope-ladders", "harbour-bell"]);
    let before = world.tree.trips();
    world.settle().unwrap();
    let more = world.tree.trips() - before;
    assert!(more <= first + 2, "{more} round trips, {first} the first time, when there were no lists to read");
}

/// Compares two states and names only what differs.
fn same(a: &Seen, b: &Seen, what: &str) {
    let names: std::collections::BTreeSet<_> = a.0.keys().chain(b.0.keys()).collect();
    let differ: Vec<String> = names.into_iter().filter(|n| a.0.get(n) != b.0.get(n)).map(ToString::to_string).collect();
    assert!(differ.is_empty() && a.1 == b.1, "{what}: {differ:?} (generations {} and {})", a.1, b.1);
}

type Seen = (BTreeMap<ServerPath, Vec<u8>>, u64);

/// Makes each effect of a change fail in turn; after each the tree must be as before, and the change must still go.
fn fail_everywhere(prepare: impl Fn(&mut World), change: impl Fn(&World) -> Result<(), Error>) -> usize {
    let mut never = World::new();
    prepare(&mut never);
    change(&never).unwrap();
    let mut at = 0;
    loop {
        let mut world = World::new();
        prepare(&mut world);
        let before = world.seen();
        let folders = world.tree.folders();
        world.tree.fail_at(Some(at));
        let result = change(&world);
        let happened = result.is_err();
        if happened {
            same(&world.seen(), &before, &format!("effect {at}: the server is as it was"));
            assert_eq!(world.tree.folders(), folders, "effect {at}: its folders too");
            world.tree.fail_at(None);
            change(&world).unwrap_or_else(|e| panic!("after effect {at} failed it still fails: {e}"));
        }
        let after = world.seen();
        same(&after, &never.seen(), &format!("effect {at}: the same end as if nothing had failed"));
        if !happened && at > 20 {
            return at;
        }
        at += 1;
    }
}

/// Ends a run at each effect in turn, as a kill would: the next command finds the server as it was, or as it was to
/// be, and ends where it should.
fn die_everywhere(prepare: impl Fn(&mut World), change: impl Fn(&World) -> Result<(), Error>) -> usize {
    let mut never = World::new();
    prepare(&mut never);
    let before = never.seen();
    change(&never).unwrap();
    let after = never.seen();
    let mut at = 0;
    loop {
        let mut world = World::new();
        prepare(&mut world);
        world.tree.die_at(Some(at));
        let ended = change(&world).is_err();
        world.tree.die_at(None);
        world.server().recovered().unwrap();
        let seen = world.seen();
        if seen.1 == before.1 {
            same(&seen, &before, &format!("killed at {at}: as it was"));
            change(&world).unwrap_or_else(|e| panic!("after a kill at {at}: {e}"));
        }
        same(&world.seen(), &after, &format!("killed at {at}: as it was to be"));
        if !ended {
            return at;
        }
        at += 1;
    }
}

#[test]
fn a_run_killed_at_any_effect_of_a_settle_is_taken_back() {
    let effects = die_everywhere(|w| w.want(&ITEMS), World::settle);
    assert!(effects > 30, "{effects}");
}

#[test]
fn a_run_killed_at_any_effect_of_a_drop_is_taken_back() {
    die_everywhere(
        |w| {
            w.want(&ITEMS);
            w.settle().unwrap();
            w.drop("tide-biome");
            w.drop("quarry-moss");
        },
        World::settle,
    );
}

#[test]
fn a_failure_at_any_effect_of_a_settle_is_taken_back() {
    let effects = fail_everywhere(|w| w.want(&ITEMS), World::settle);
    assert!(effects > 30, "{effects}");
}

#[test]
fn a_failure_at_any_effect_of_a_drop_is_taken_back() {
    fail_everywhere(
        |w| {
            w.want(&ITEMS);
            w.settle().unwrap();
            w.drop("tide-biome");
            w.drop("quarry-moss");
        },
        World::settle,
    );
}

#[test]
fn a_failure_at_any_effect_of_an_undo_is_taken_back() {
    fail_everywhere(
        |w| {
            w.settle().unwrap();
            w.want(&ITEMS);
            w.settle().unwrap();
        },
        |w| {
            let server = w.server();
            carry_out(&server, undo::plan(&server, undo::Back::default(), &Options::default())?).map(|_| ())
        },
    );
}

#[test]
fn a_stop_before_the_switch_changes_nothing() {
    let mut world = World::new();
    world.want(&ITEMS);
    let before = world.seen();
    let server = world.server();
    let plan = plan(&server, &Options::default()).unwrap();
    world.stop.store(true, Ordering::Relaxed);
    assert!(matches!(carry_out(&server, plan), Err(Error::Stopped)));
    same(&world.seen(), &before, "stopped");
    world.stop.store(false, Ordering::Relaxed);
    world.settle().unwrap();
}

#[test]
fn what_moved_between_plan_and_apply_stops_it() {
    let mut world = World::new();
    world.want(&ITEMS);
    for (path, bytes) in [
        ("plugins/chest-locks.qpl", &b"new by hand"[..]),
        ("addpacks/order.list", b"mine\nand more\n"),
        ("plugins/tide-biome.qpl", b"another"),
    ] {
        let server = world.server();
        let plan = plan(&server, &Options::default()).unwrap();
        world.tree.put(&ServerPath::server(path).unwrap(), bytes);
        let before = world.seen();
        assert!(matches!(carry_out(&server, plan), Err(Error::Moved { .. })), "{path}");
        same(&world.seen(), &before, path);
    }
    // another run settled meanwhile
    let server = world.server();
    let late = plan(&server, &Options::default()).unwrap();
    world.settle().unwrap();
    assert!(matches!(carry_out(&server, late), Err(Error::Moved { .. })));
}

#[test]
fn the_double_says_what_stands_where() {
    let tree = MemoryTree::new();
    let path = ServerPath::server("a/b").unwrap();
    tree.put(&path, b"x");
    assert_eq!(tree.walk().unwrap().len(), 1);
    assert_eq!(tree.effects(), 0);
}
