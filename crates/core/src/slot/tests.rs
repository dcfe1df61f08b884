use super::*;
use crate::changes::{self, Before, Seen, WantedFile};
use crate::id::Digest;
use crate::place::{Placed, Source};

fn path(text: &str) -> ServerPath {
    ServerPath::server(text).unwrap()
}

fn id(text: &str) -> ItemId {
    ItemId::new(text).unwrap()
}

fn list_key() -> SlotKey {
    SlotKey::lines(path("order.list"), Format::Lines)
}

fn value_key() -> SlotKey {
    SlotKey::value(path("start.conf"), Format::Properties, "mode")
}

/// A made-up server: files in memory, a ledger of slots and of one shared file.
#[derive(Clone)]
struct World {
    files: BTreeMap<ServerPath, Vec<u8>>,
    slots: Vec<Slot>,
    made: BTreeSet<ServerPath>,
    ours: BTreeMap<ServerPath, Digest>,
    bases: BTreeMap<ServerPath, Digest>,
    kept: BTreeMap<Digest, Vec<u8>>,
    items: Vec<ItemId>,
}

impl World {
    fn new(files: &[(&str, &str)]) -> Self {
        World {
            files: files.iter().map(|(p, b)| (path(p), b.as_bytes().to_vec())).collect(),
            slots: Vec::new(),
            made: BTreeSet::new(),
            ours: BTreeMap::new(),
            bases: BTreeMap::new(),
            kept: BTreeMap::new(),
            items: Vec::new(),
        }
    }

    fn settle(&mut self) {
        let mut claims = Vec::new();
        for item in &self.items {
            claims.push(Claim::new(list_key(), Owner::Item(item.clone()), format!("line of {item}")));
            claims.push(Claim::new(value_key(), Owner::Item(item.clone()), format!("{item}")));
        }
        let out = settle(&self.slots, &self.made, &claims, &self.files, &Around::default()).unwrap();
        self.slots = out.slots;
        self.made = out.made;
        for doc in out.docs {
            match doc.after {
                Some(bytes) => self.files.insert(doc.path, bytes),
                None => self.files.remove(&doc.path),
            };
        }
        let shared = |item: &ItemId| {
            let bytes = b"shared library".to_vec();
            let sha256 = Digest::of(&bytes);
            (
                item.clone(),
                Placed {
                    path: path("lib/x"),
                    source: Source::Store(sha256.clone()),
                    sha256,
                    bytes: 14,
                    settings: false,
                    once: false,
                    layer: false,
                },
            )
        };
        let wanted: BTreeMap<ServerPath, WantedFile> = changes::gather(self.items.iter().map(shared)).unwrap();
        let seen = [path("lib/x")].into_iter().map(|p| {
            let seen = self.files.get(&p).map_or(Seen::Absent, |b| Seen::File(Digest::of(b)));
            (p, seen)
        });
        let before = Before {
            ours: self.ours.clone(),
            bases: self.bases.clone(),
            seen: seen.collect(),
            put_back: BTreeSet::new(),
        };
        let changes = changes::files(&before, &wanted);
        assert!(changes.blocked.is_empty());
        for step in changes.steps {
            let (was, becomes) = step.digests();
            if let (Some(was), Some(bytes)) = (was, self.files.remove(step.path())) {
                self.kept.insert(was, bytes);
            }
            if let Some(becomes) = becomes {
                let bytes = self.kept.get(&becomes).cloned().unwrap_or_else(|| b"shared library".to_vec());
                self.files.insert(step.path().clone(), bytes);
            }
        }
        self.bases = changes.bases;
        self.ours = wanted.into_iter().map(|(p, f)| (p, f.sha256)).collect();
    }

    fn text(&self, file: &str) -> Option<String> {
        self.files.get(&path(file)).map(|b| String::from_utf8(b.clone()).unwrap())
    }
}

/// All orders of adding and dropping three items: `+a` must stand before `-a`.
fn orders() -> Vec<Vec<(bool, ItemId)>> {
    fn go(done: &mut Vec<(bool, ItemId)>, out: &mut Vec<Vec<(bool, ItemId)>>) {
        if done.len() == 6 {
            out.push(done.clone());
            return;
        }
        for name in ["a", "b", "c"] {
            let item = id(name);
            let added = done.contains(&(true, item.clone()));
            let dropped = done.contains(&(false, item.clone()));
            if !dropped {
                done.push((!added, item));
                go(done, out);
                done.pop();
            }
        }
    }
    let mut out = Vec::new();
    go(&mut Vec::new(), &mut out);
    out
}

#[derive(Clone, Copy, PartialEq, Debug)]
enum Hand {
    Nothing,
    LineFirst,
    LineLast,
    LineGone,
    Scalar,
    OtherKey,
    File,
}

/// What a person does to the files by hand, wherever they stand now.
fn by_hand(world: &mut World, hand: Hand) {
    // a person's editor goes on in the file's own line ends, and takes a last line with the break before it
    let edit = |text: Option<String>, hand: Hand| {
        let text = text.unwrap_or_default();
        let end = if text.contains("\r\n") { "\r\n" } else { "\n" };
        let gap = if text.is_empty() || text.ends_with('\n') { "" } else { end };
        match hand {
            Hand::LineFirst => format!("hand first{end}{text}"),
            Hand::LineLast => format!("{text}{gap}hand last{end}"),
            _ => {
                let left: String = text.split_inclusive('\n').filter(|l| !l.starts_with("old two")).collect();
                if text.ends_with('\n') { left } else { left.trim_end().to_owned() }
            }
        }
    };
    match hand {
        Hand::Nothing => {}
        Hand::LineGone if world.text("order.list").is_none() => {}
        Hand::LineFirst | Hand::LineLast | Hand::LineGone => {
            let text = edit(world.text("order.list"), hand);
            world.files.insert(path("order.list"), text.into_bytes());
        }
        Hand::Scalar => {
            let text = world.text("start.conf").unwrap_or_default();
            let mut doc = Document::parse(Format::Properties, text.as_bytes()).unwrap();
            doc.set(&Path::parse("mode").unwrap(), "by hand".into(), None).unwrap();
            world.files.insert(path("start.conf"), doc.render());
        }
        Hand::OtherKey => {
            let text = world.text("start.conf").unwrap_or_default();
            let end = if text.contains("\r\n") { "\r\n" } else { "\n" };
            let gap = if text.is_empty() || text.ends_with('\n') { "" } else { end };
            world.files.insert(path("start.conf"), format!("{text}{gap}other = 1{end}").into_bytes());
        }
        Hand::File => {
            world.files.insert(path("lib/x"), b"by hand".to_vec());
        }
    }
}

#[test]
fn every_order_of_adding_and_dropping_ends_with_base_and_hand_edit() {
    let bases: [&[(&str, &str)]; 4] = [
        &[],
        &[
            ("order.list", "# mine\nold one # stays\n\nold two\n"),
            ("start.conf", "# conf\nmode = base\nname=club\n"),
            ("lib/x", "base library"),
        ],
        &[("order.list", "old one\r\nold two"), ("start.conf", "name=club\r\nport: 4"), ("lib/x", "shared library")],
        &[("order.list", "line of b\nold two\n"), ("start.conf", "mode=b")],
    ];
    let hands =
        [Hand::Nothing, Hand::LineFirst, Hand::LineLast, Hand::LineGone, Hand::Scalar, Hand::OtherKey, Hand::File];
    let orders = orders();
    assert_eq!(orders.len(), 90);
    let mut runs = 0;
    for base in bases {
        for hand in hands {
            // what a person who never had the items ends with
            let mut expected = World::new(base);
            by_hand(&mut expected, hand);
            for order in &orders {
                for at in 0..=order.len() {
                    let mut world = World::new(base);
                    for (step, (add, item)) in order.iter().enumerate() {
                        if step == at {
                            by_hand(&mut world, hand);
                        }
                        if *add {
                            world.items.push(item.clone());
                        } else {
                            world.items.retain(|i| i != item);
                        }
                        world.settle();
                        let twice = world.files.clone();
                        world.settle();
                        assert_eq!(twice, world.files, "a second settle finds nothing to do");
                    }
                    if at == order.len() {
                        by_hand(&mut world, hand);
                    }
                    for file in ["order.list", "start.conf", "lib/x"] {
                        assert_eq!(
                            world.text(file),
                            expected.text(file),
                            "{file}: {base:?} {hand:?} at {at} of {order:?}"
                        );
                    }
                    assert!(world.slots.is_empty() && world.made.is_empty());
                    runs += 1;
                }
            }
        }
    }
    assert_eq!(runs, 4 * 7 * 90 * 7);
}

#[test]
fn a_value_set_by_hand_is_kept_and_told_until_it_is_put_back() {
    let claims = [Claim::new(value_key(), Owner::Item(id("a")), "a".to_owned())];
    let docs = |text: &str| [(path("start.conf"), text.as_bytes().to_vec())].into();
    let none = BTreeSet::new();
    let first = settle(&[], &none, &claims, &docs("mode=base\n"), &Around::default()).unwrap();
    assert_eq!(first.docs[0].after.as_deref(), Some(&b"mode=a\n"[..]));
    assert_eq!(first.docs[0].notes, ["mode: `base` → `a`"]);
    let second = settle(&first.slots, &none, &claims, &docs("mode=mine\n"), &Around::default()).unwrap();
    assert!(second.docs.is_empty());
    assert_eq!(second.findings[0].code, "changed-by-hand");
    let third = settle(
        &second.slots,
        &none,
        &claims,
        &docs("mode=mine\n"),
        &Around { put_back: [path("start.conf")].into(), ..Around::default() },
    )
    .unwrap();
    assert_eq!(third.docs[0].after.as_deref(), Some(&b"mode=a\n"[..]));
    assert_eq!(third.slots[0].base, [Value::from("base")]);
}

#[test]
fn a_default_fills_a_gap_and_no_more() {
    let claims = [Claim::new(value_key(), Owner::Family, "default".to_owned())];
    let docs = |text: &str| [(path("start.conf"), text.as_bytes().to_vec())].into();
    let none = BTreeSet::new();
    assert!(settle(&[], &none, &claims, &docs("mode=base"), &Around::default()).unwrap().docs.is_empty());
    let filled = settle(&[], &none, &claims, &docs("x : 1"), &Around::default()).unwrap();
    assert_eq!(filled.docs[0].after.as_deref(), Some(&b"x : 1\nmode : default"[..]));
}

#[test]
fn a_file_in_doubt_is_left_alone() {
    let claims = [Claim::new(value_key(), Owner::Item(id("a")), "a".to_owned())];
    let none = BTreeSet::new();
    for (text, line) in [("mode=1\nmode=2\n", 2), ("just words\n", 1), ("x=1\nno sign\n", 2)] {
        let docs = [(path("start.conf"), text.as_bytes().to_vec())].into();
        let error = settle(&[], &none, &claims, &docs, &Around::default()).unwrap_err();
        let SlotFault::Settings(source) = *error.source else { panic!("{error}") };
        assert_eq!(source.line, line, "{text}");
    }
}
