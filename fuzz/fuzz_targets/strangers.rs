//! One target per sort of bytes that come from strangers: the program's name says which.
#![no_main]

use std::io::Write as _;
use std::sync::OnceLock;

use libfuzzer_sys::fuzz_target;
use yalotheca_core::catalogue::{Root, parse_item, parse_items_shard, parse_shard};
use yalotheca_core::family::Family;
use yalotheca_core::id::{Digest, ItemId};
use yalotheca_core::ledger::{Entry, Ledger, render_rows};
use yalotheca_core::manifest;
use yalotheca_core::roster::Roster;
use yalotheca_works::archive::{self, Packing, Sort};
use yalotheca_works::recover::Way;
use yalotheca_works::tree::remote::{Address, listed};

fn target() -> &'static str {
    static TARGET: OnceLock<String> = OnceLock::new();
    TARGET.get_or_init(|| {
        let program = std::env::args().next().unwrap_or_default();
        program.rsplit('/').next().unwrap_or_default().to_owned()
    })
}

/// No archive may unpack to more than this here (bytes).
const MOST: u64 = 4_000_000;

fn unpack(bytes: &[u8], sort: Sort) {
    let mut file = tempfile::NamedTempFile::new_in("/dev/shm").expect("a file");
    file.write_all(bytes).expect("room");
    if sort == Sort::Zip {
        let _ = archive::list(file.path(), MOST);
        return;
    }
    let mut turned = tempfile::NamedTempFile::new_in("/dev/shm").expect("a file");
    if archive::unify(file.path(), sort, "content", Some("night boat"), MOST, turned.as_file_mut()).is_ok() {
        // what was taken is safe by the same rules; two empty names are all that can be wrong with it
        let _ = archive::list(turned.path(), MOST).expect("what was turned into a zip is a good one");
    }
}

fuzz_target!(|bytes: &[u8]| {
    let text = String::from_utf8_lossy(bytes);
    match target() {
        "zip" => unpack(bytes, Sort::Zip),
        "tar" => unpack(bytes, Sort::Tar),
        "gzip" => unpack(bytes, Sort::Packed(Packing::Gzip)),
        "seven" => unpack(bytes, Sort::SevenZ),
        "listing" => {
            for line in text.lines() {
                let _ = (listed(line, true), listed(line, false));
            }
            let _ = Address::parse(&text);
        }
        "ledger" => {
            if let Ok(ledger) = Ledger::parse(bytes) {
                let again = Ledger::parse(&ledger.render().expect("a head is written")).expect("and read");
                assert_eq!(again, ledger);
            }
            let _ = serde_json::from_slice::<Entry>(bytes);
            let _ = serde_json::from_slice::<Way>(bytes);
            if let Ok(rows) = serde_json::from_slice::<Vec<yalotheca_core::ledger::FileRow>>(bytes) {
                let _ = render_rows(&rows);
            }
        }
        "catalogue" => {
            let _ = Root::parse(bytes);
            let _ = parse_items_shard("a", bytes);
            let _ = parse_shard("a", bytes);
            let _ = parse_item(&ItemId::new("rope").expect("an id"), bytes);
        }
        "manifest" => {
            static FAMILY: OnceLock<Family> = OnceLock::new();
            let family = FAMILY.get_or_init(|| {
                Family::parse(include_str!("../../families/quarrywake.family.toml")).expect("the family reads")
            });
            for kind in family.rules.kind.values() {
                let path = kind.manifest.inside.as_ref().map_or_else(|| "x".to_owned(), ToString::to_string);
                let member = manifest::Member { path, bytes: bytes.len() as u64, sha256: Digest::of(bytes) };
                let members = vec![member];
                let look = manifest::Look {
                    name: "x.qpl".to_owned(),
                    sha256: Digest::of(bytes),
                    bytes: bytes.len() as u64,
                    members: Some(members.clone()),
                };
                let read = |_: &str| Some(bytes.to_vec());
                let _ = manifest::read(kind, &look, &manifest::Real::Itself, &members, &read);
            }
        }
        "family" => drop(Family::parse(&text)),
        "roster" => drop(Roster::parse(&text)),
        other => panic!("no target is called {other}"),
    }
});
