//! Claims of every form of wiring: whatever the order in which three items come and go, and whenever somebody edits the
//! file by hand in between, what is left in the end is what stood there before, with that edit.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // a test may stop where it fails

use std::collections::{BTreeMap, BTreeSet};

use yalotheca_core::container::Shape;
use yalotheca_core::derive::{self, Derived, EntryClaim, Known, Written};
use yalotheca_core::family::Family;
use yalotheca_core::id::{Digest, ItemId, ServerPath};
use yalotheca_core::manifest::plain_id;
use yalotheca_core::scene::{Choices, Item, Scene};
use yalotheca_core::settings::Format;
use yalotheca_core::slot::{self, Around, Slot};
use yalotheca_core::version::Version;
use yalotheca_core::wire::wire;

/// A form of wiring: its rule, a file before us, and what somebody does to it by hand.
struct Form {
    rule: &'static str,
    before: &'static str,
    hands: &'static [(&'static str, &'static str)],
}

const FORMS: [Form; 9] = [
    Form {
        rule: "format = 'lines'\nvalue = '--with={id}'",
        before: "--port=1\n",
        hands: &[("", ""), ("--port=1\n", "--port=1\n--hand\n"), ("--port=1\n", "--port=2\n")],
    },
    Form {
        rule: "format = 'columns'\nvalue = ['{id}', 'in', '3']\nby = '1'",
        before: "# name state turns\nold  in 5\n",
        hands: &[("", ""), ("old  in 5\n", "old  out 5\n"), ("old  in 5\n", "hand in 1\nold  in 5\n")],
    },
    Form {
        rule: "format = 'columns'\nvalue = ['', '{id}', 'open']\nby = '2'\nnumber = '1'",
        before: "2 old open\n",
        hands: &[("", ""), ("2 old open\n", "1 hand shut\n2 old open\n"), ("2 old open\n", "2 old shut\n")],
    },
    Form {
        rule: "format = 'json'\nat = ''\nby = 'place'\nvalue = { place = '{id}', points = 'p/{id}.json' }",
        before: "[\n  { \"place\": \"old\", \"points\": \"old.json\" }\n]\n",
        hands: &[("", ""), ("old.json", "hand.json"), ("[\n", "[\n  { \"place\": \"hand\", \"points\": \"h\" },\n")],
    },
    Form {
        rule: "format = 'json'\nat = 'fetch.{id}'\nvalue = 'latest'",
        before: "{\n  \"fetch\": {\n    \"old\": \"latest\"\n  },\n  \"fog\": 3\n}\n",
        hands: &[("", ""), ("\"fog\": 3", "\"fog\": 4"), ("\"old\": \"latest\"", "\"old\": \"never\"")],
    },
    Form {
        rule: "format = 'ini'\nat = '\"item {id}\".on'\nvalue = 'yes'",
        before: "; mine\n[world]\nfog = 3\n",
        hands: &[("", ""), ("fog = 3", "fog = 4"), ("[world]\n", "[world]\nhand = 1\n")],
    },
    Form {
        rule: "format = 'ini'\nat = 'world.sequence'\nbetween = ' | '\nseat = 'before Old Harbour'\nvalue = '{id}'",
        before: "[world]\nsequence = Old Harbour\nfog = 3\n",
        hands: &[("", ""), ("fog = 3", "fog = 4"), ("Old Harbour\n", "Old Harbour | Hand\n")],
    },
    Form {
        rule: "format = 'blocks'\nat = 'memory.pool_mb'\nvalue = '9'",
        before: "memory {\n    pool_mb = 4   # keep\n}\n",
        hands: &[("", ""), ("# keep", "# hand")],
    },
    Form {
        rule: "format = 'yaml'\nat = 'load'\nlist = true\nvalue = '{id}'",
        before: "# order\nload:\n  - old\nfog: 3\n",
        hands: &[("", ""), ("fog: 3", "fog: 4"), ("  - old\n", "  - old\n  - hand\n")],
    },
];

fn family(rule: &str) -> Family {
    let text = format!(
        "format = 1\nname = \"x\"\ntitle = \"X\"\n[[recognise]]\npath = \"x\"\nsure = 100\n[kind.map]\nrole = \"map\"\n\
         title = \"map\"\nfile = \"*.map\"\nplace = [{{ take = \"real\", to = \"maps/{{name}}\" }}]\n[[kind.map.wire]]\n\
         file = \"list\"\n{rule}\n"
    );
    Family::parse(&text).unwrap_or_else(|e| panic!("{e}: {text}"))
}

/// All orders of adding and dropping three items.
fn orders() -> Vec<Vec<(bool, &'static str)>> {
    fn go(done: &mut Vec<(bool, &'static str)>, out: &mut Vec<Vec<(bool, &'static str)>>) {
        if done.len() == 6 {
            out.push(done.clone());
            return;
        }
        for name in ["ada", "bo", "cy"] {
            if !done.contains(&(false, name)) {
                done.push((!done.contains(&(true, name)), name));
                go(done, out);
                done.pop();
            }
        }
    }
    let mut out = Vec::new();
    go(&mut Vec::new(), &mut out);
    out
}

/// The file's bytes and the slots after a settle with these items.
fn settle(family: &Family, items: &[&str], bytes: &[u8], slots: &[Slot]) -> (Vec<u8>, Vec<Slot>) {
    let (facts, files, choices) = (Default::default(), BTreeMap::new(), Choices::new());
    let scene = Scene { family, server: &facts, files: &files, play: None, choices: &choices };
    let ids: Vec<ItemId> = items.iter().map(|i| ItemId::new(i).unwrap()).collect();
    let (version, fields) = (Version::new("1"), BTreeMap::new());
    let all: Vec<Item<'_>> = ids
        .iter()
        .enumerate()
        .map(|(at, id)| Item {
            id,
            kind: &family.rules.kind["map"],
            version: &version,
            name: "x.map",
            title: "X",
            number: None,
            fields: &fields,
            entries: &[],
            order: at + 1,
        })
        .collect();
    let claims = wire(&all, &scene, &[], None).unwrap().claims;
    let path = ServerPath::server("list").unwrap();
    let docs = [(path, bytes.to_vec())].into();
    let out = slot::settle(slots, &BTreeSet::new(), &claims, &docs, &Around::default()).unwrap();
    let after = out.docs.into_iter().next().map_or(bytes.to_vec(), |d| d.after.unwrap_or_default());
    (after, out.slots)
}

#[test]
fn every_form_ends_with_base_and_hand_edit() {
    let orders = orders();
    assert_eq!(orders.len(), 90);
    let mut runs = 0;
    for form in &FORMS {
        let family = family(form.rule);
        for (from, to) in form.hands {
            let by_hand = |bytes: &[u8]| {
                let text = String::from_utf8(bytes.to_vec()).unwrap();
                assert!(text.contains(from), "{text}");
                if from.is_empty() { text.into_bytes() } else { text.replacen(from, to, 1).into_bytes() }
            };
            let expected = String::from_utf8(by_hand(form.before.as_bytes())).unwrap();
            for order in &orders {
                for at in 0..=order.len() {
                    let (mut bytes, mut slots) = (form.before.as_bytes().to_vec(), Vec::new());
                    let mut items: Vec<&str> = Vec::new();
                    let mut done = false;
                    for (step, (add, item)) in order.iter().enumerate() {
                        // where ours stand between, the same words are elsewhere: a person edits when they can
                        let there = String::from_utf8_lossy(&bytes).contains(from);
                        if step >= at && !done && there {
                            bytes = by_hand(&bytes);
                            done = true;
                        }
                        if *add {
                            items.push(item)
                        } else {
                            items.retain(|i| i != item)
                        }
                        (bytes, slots) = settle(&family, &items, &bytes, &slots);
                        let (again, _) = settle(&family, &items, &bytes, &slots);
                        assert_eq!(again, bytes, "{}: a second settle finds nothing to do", form.rule);
                    }
                    if !done {
                        bytes = by_hand(&bytes);
                    }
                    let left = String::from_utf8(bytes).unwrap();
                    assert_eq!(left, expected, "{}: {from:?} to {to:?} at {at} of {order:?}", form.rule);
                    assert!(slots.is_empty());
                    runs += 1;
                }
            }
        }
    }
    assert_eq!(runs, 26 * 90 * 7);
}

fn zip(files: &[(&str, &str)]) -> Vec<u8> {
    use std::io::Write as _;
    let mut out = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for (name, text) in files {
        out.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
        out.write_all(text.as_bytes()).unwrap();
    }
    out.finish().unwrap().into_inner()
}

fn unzip(bytes: &[u8]) -> BTreeMap<String, String> {
    let mut archive = zip::ZipArchive::new(std::io::Cursor::new(bytes)).unwrap();
    let count = archive.len();
    let one = |at: usize| {
        let mut file = archive.by_index(at).unwrap();
        let name = file.name().unwrap().into_owned();
        (name, std::io::read_to_string(&mut file).unwrap())
    };
    (0..count).map(one).collect()
}

#[test]
fn containers_end_with_base_and_what_others_put_in() {
    let path = ServerPath::server("west.pack").unwrap();
    let base = zip(&[("old.grid", "old"), ("bo.grid", "stood before"), ("digests.json", "{\n  \"old\": \"1\"\n}\n")]);
    let claim = |name: &str| EntryClaim {
        owner: ItemId::new(&plain_id(name)).unwrap(),
        entry: format!("{name}.grid"),
        sha256: Digest::of(name.as_bytes()),
        written: Some(Written {
            entry: "digests.json".to_owned(),
            format: Format::Json,
            at: name.to_owned(),
            value: Digest::of(name.as_bytes()).hex().to_uppercase(),
        }),
    };
    let made = |claim: &EntryClaim| Some(claim.owner.as_str().as_bytes().to_vec());
    for before in [Some(base), None] {
        for order in orders() {
            for hand in 0..=6 {
                let mut now = before.clone();
                let mut old: Option<Derived> = None;
                let mut items: Vec<&str> = Vec::new();
                let mut edited = false;
                let mut kept: Option<Vec<u8>> = None;
                for (step, (add, item)) in order.iter().enumerate() {
                    if let (true, Some(bytes)) = (step == hand, &now) {
                        let mut all = unzip(bytes);
                        all.insert("hand.grid".to_owned(), "by hand".to_owned());
                        let all: Vec<(&str, &str)> = all.iter().map(|(k, v)| (k.as_str(), v.as_str())).collect();
                        now = Some(zip(&all));
                        edited = true;
                    }
                    if *add {
                        items.push(item)
                    } else {
                        items.retain(|i| i != item)
                    }
                    let claims: Vec<EntryClaim> = items.iter().map(|i| claim(i)).collect();
                    // what stood there when the first of ours came is kept
                    if old.is_none() {
                        kept = now.clone();
                    }
                    let base = kept.clone();
                    let known =
                        Known { shape: &Shape::Zip, old: old.as_ref(), now: now.as_deref(), base: base.as_deref() };
                    let hand = old.as_ref().is_some_and(|o| o.changed(now.as_deref()));
                    now = derive::derive(&path, known, &claims, &made).unwrap();
                    old = (!claims.is_empty()).then(|| Derived {
                        path: path.clone(),
                        shape: Shape::Zip,
                        base: base.as_deref().map(Digest::of),
                        made: Digest::of(now.as_deref().unwrap_or_default()),
                        claims,
                        hand,
                    });
                }
                let mut wanted = before.as_deref().map(unzip).unwrap_or_default();
                let mut found = now.as_deref().map(unzip).unwrap_or_default();
                if edited {
                    wanted.insert("hand.grid".to_owned(), "by hand".to_owned());
                    // an empty list that we made is left beside what is not ours
                    if before.is_none() {
                        found.retain(|name, _| name != "digests.json");
                    }
                } else {
                    assert_eq!(now, before, "byte for byte");
                }
                assert_eq!(found, wanted, "{order:?} {hand}");
            }
        }
    }
}
