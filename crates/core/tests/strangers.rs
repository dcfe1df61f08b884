//! Whatever strangers write, reading it ends in a value or an error, never in a panic; and what is read can be written
//! back with the same bytes.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use proptest::prelude::*;
use yalotheca_core::catalogue::{Root, parse_item, parse_items_shard, parse_shard};
use yalotheca_core::family::Family;
use yalotheca_core::id::{Digest, ItemId, ServerPath};
use yalotheca_core::ledger::{Ledger, parse_rows};
use yalotheca_core::manifest;
use yalotheca_core::roster::{Roster, merge_back, put_item, take_item};
use yalotheca_core::settings::{Document, Format, Value};

const FAMILY: &str = include_str!("../../../families/quarrywake.family.toml");
const ROSTER: &str = "format = 1\ncatalogues = []\n[server]\nfamily = \"f\"\n\n[items]\na = \"^1\" # one\nb = { file = \"x\", sha256 = \"ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad\" }\n";
const ITEM: &str = r#"{"format":1,"id":"a","family":"f","kind":"k","versions":[{"version":"1","needs":[{"id":"b","range":"^1"},{"any":[{"id":"c"}]}],"files":[{"name":"x","bytes":1,"sha256":"ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad","addresses":["x"]}]}]}"#;
const ABOUT: &str = "id: net\nrelease: \"1.0\"\nneeds:\n  lock-core: \"^1\"\n  map: '>=1 <2'\nafter: [a, b]\n";

/// A good text with a few of its bytes changed, taken out or doubled.
fn mutated(text: &'static str) -> impl Strategy<Value = Vec<u8>> {
    let change = (0..text.len(), 0..4usize, any::<u8>());
    prop::collection::vec(change, 1..6).prop_map(move |changes| {
        let mut bytes = text.as_bytes().to_vec();
        for (at, how, byte) in changes {
            if bytes.is_empty() {
                break;
            }
            let at = at % bytes.len();
            match how {
                0 => bytes[at] = byte,
                1 => drop(bytes.remove(at)),
                2 => bytes.insert(at, byte),
                _ => bytes.truncate(at.max(1)),
            }
        }
        bytes
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    #[test]
    fn rosters(bytes in mutated(ROSTER), id in "[a-z][a-z.-]{0,8}") {
        let text = String::from_utf8_lossy(&bytes).into_owned();
        let read = Roster::parse(&text);
        if let (Ok(_), Ok(id)) = (read, ItemId::new(&id)) {
            let known = Roster::parse(&text).unwrap().want(&id).is_some();
            if let Ok(put) = put_item(&text, &id, "\"*\"") {
                prop_assert!(Roster::parse(&put).unwrap().want(&id).is_some());
                prop_assert_eq!(merge_back(&text, &put, &put).unwrap(), text.clone());
                if !known && text.ends_with('\n') && text.contains("[items]\n") {
                    let taken = take_item(&put, &id).unwrap().unwrap();
                    prop_assert_eq!(taken.trim_end(), text.trim_end());
                }
            }
        }
    }

    #[test]
    fn families(bytes in mutated(FAMILY)) {
        let text = String::from_utf8_lossy(&bytes).into_owned();
        if let Err(e) = Family::parse(&text) {
            prop_assert!(e.line >= 1 && e.span.0 <= text.len());
        }
    }

    #[test]
    fn catalogues(bytes in mutated(ITEM)) {
        let _ = parse_item(&ItemId::new("a").unwrap(), &bytes);
        let _ = Root::parse(&bytes);
        let _ = parse_shard("x", &bytes);
        let _ = parse_items_shard("x", &bytes);
        let _ = Ledger::parse(&bytes);
        let _ = parse_rows(&Digest::of(&bytes), &bytes);
    }

    #[test]
    fn manifests(bytes in mutated(ABOUT)) {
        let family = Family::parse(FAMILY).unwrap();
        for kind in family.rules.kind.values() {
            let path = kind.manifest.inside.as_ref().map_or_else(|| "x".to_owned(), ToString::to_string);
                let member = manifest::Member { path, bytes: bytes.len() as u64, sha256: Digest::of(&bytes) };
                let members = vec![member];
                let look = manifest::Look {
                    name: "x.qpl".to_owned(),
                    sha256: Digest::of(&bytes),
                    bytes: bytes.len() as u64,
                    members: Some(members.clone()),
                };
                let read = |_: &str| Some(bytes.to_vec());
                let _ = manifest::read(kind, &look, &manifest::Real::Itself, &members, &read);
        }
    }

    #[test]
    fn settings(bytes in prop::collection::vec(any::<u8>(), 0..80)) {
        for format in Format::ALL {
            if let Ok(doc) = Document::parse(format, &bytes) {
                prop_assert_eq!(doc.render(), bytes.clone());
            }
            let _ = Value::read(format, &bytes);
        }
    }

    #[test]
    fn paths(text in "\\PC{0,30}") {
        if let Ok(path) = ServerPath::server(&text) {
            prop_assert_eq!(ServerPath::try_from(path.to_string()).unwrap(), path.clone());
            prop_assert!(!path.path().split('/').any(|p| p == ".." || p.is_empty()));
        }
    }
}

#[test]
fn nesting_without_end_is_refused() {
    for (format, text) in [(Format::Json, "["), (Format::Yaml, "["), (Format::Yaml, "- "), (Format::Toml, "a = [")] {
        let deep = text.repeat(100_000);
        assert!(Value::read(format, deep.as_bytes()).is_err(), "{format:?}");
    }
    let alias = "a: &a [x, x]\nb: [*a, *a]\n";
    assert!(Value::read(Format::Yaml, alias.as_bytes()).unwrap_err().why.contains("alias"));
}
