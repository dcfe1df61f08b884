//! The six servers of docs/family-design.md: their files are read, and items placed and wired, values in, values out.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // a test may stop where it fails

use std::collections::{BTreeMap, BTreeSet};

use yalotheca_core::changes::{self, Before, Seen, Step};
use yalotheca_core::facts::ServerFacts;
use yalotheca_core::family::{Caught, Family};
use yalotheca_core::id::{Digest, ItemId};
use yalotheca_core::manifest::{self, Look, Member, tell_kind};
use yalotheca_core::place::{Places, place};
use yalotheca_core::scene::{Choices, Item, Scene};
use yalotheca_core::slot::Claim;
use yalotheca_core::wire::wire;

/// The family file of that name on the page.
fn family(name: &str) -> Family {
    let page = include_str!("../../../docs/family-design.md");
    let blocks = page.split("```toml\n").skip(1).filter_map(|b| b.split("```").next());
    let text = blocks.into_iter().find(|b| b.contains(&format!("name = {name:?}"))).unwrap();
    let (family, faults) = Family::check(text);
    family.unwrap_or_else(|| panic!("{name}: {faults:?}"))
}

fn look(name: &str, files: &[(&str, &str)]) -> Look {
    let member = |(path, bytes): &(&str, &str)| Member {
        path: (*path).to_owned(),
        bytes: bytes.len() as u64,
        sha256: Digest::of(bytes.as_bytes()),
    };
    let members = files.iter().map(member).collect();
    Look { name: name.to_owned(), sha256: Digest::of(name.as_bytes()), bytes: 9, members: Some(members) }
}

/// Places and wires one download as the item with this position.
fn done(
    family: &Family,
    game: Option<&str>,
    look: &Look,
    files: &[(&str, &str)],
    order: usize,
    take: &dyn Fn(&Caught) -> bool,
) -> (Places, Vec<Claim>) {
    let (word, real) = tell_kind(family, look, None).unwrap();
    let kind = &family.rules.kind[word];
    let read = |path: &str| files.iter().find(|(p, _)| *p == path).map(|(_, b)| b.as_bytes().to_vec());
    let members = look.members.clone().unwrap();
    let found = manifest::read(kind, look, &real, &members, &read).unwrap();
    let mut facts = ServerFacts::default();
    if let Some(game) = game {
        facts.set("game", vec![game.to_owned()]);
    }
    let (none, choices) = (BTreeMap::new(), Choices::new());
    let scene = Scene { family, server: &facts, files: &none, play: None, choices: &choices };
    let entries: Vec<Caught> = found.entries.iter().filter(|e| take(e)).cloned().collect();
    let name = real.name(look);
    let item = Item {
        id: &found.id,
        kind,
        version: &found.facts.version,
        name: &name,
        title: &found.title,
        number: None,
        fields: &found.fields,
        entries: &entries,
        order,
    };
    (place(&item, look, &real, &scene).unwrap(), wire(&[item], &scene, &[], None).unwrap().claims)
}

fn paths(places: &Places) -> Vec<String> {
    places.files.iter().map(|f| f.path.to_string()).collect()
}

fn said(claims: &[Claim]) -> Vec<String> {
    claims.iter().map(|c| format!("{}: {}", c.key, c.value.shown())).collect()
}

#[test]
fn roots_beside_the_server() {
    let files = [("oak.bwm", "oak"), ("notes.txt", "n")];
    let (places, claims) = done(&family("brackwater"), None, &look("oak.zip", &files), &files, 1, &|_| true);
    assert_eq!(paths(&places), ["install:wheels/oak.bwm"]);
    assert_eq!(places.left, ["notes.txt"]);
    assert_eq!(said(&claims), ["profile:wheels.ini wheels.load: oak"]);
}

#[test]
fn order_in_file_names() {
    let files = [("Reed Bed/reed.ssp", "reed"), ("Reed Bed/reed.seal", "seal"), ("Reed Bed/other.seal", "no")];
    let sedge = family("sedge");
    let (places, _) = done(&sedge, None, &look("reed.zip", &files), &files, 7, &|_| true);
    assert_eq!(paths(&places), ["packs/007-reed.ssp", "packs/007-reed.seal"]);
    let (places, _) = done(&sedge, None, &look("reed.zip", &files), &files, 12, &|_| true);
    assert_eq!(paths(&places), ["packs/012-reed.ssp", "packs/012-reed.seal"]);
}

#[test]
fn layers_over_stock_files() {
    let files = [("look.json", r#"{ "id": "soot", "release": "1" }"#), ("data/walls/a.tex", "sooty")];
    let (places, _) = done(&family("ember"), None, &look("soot.zip", &files), &files, 1, &|_| true);
    assert_eq!(paths(&places), ["data/walls/a.tex"]);
    let id = ItemId::new("soot").unwrap();
    let wanted = changes::gather(places.files.iter().map(|f| (id.clone(), f.clone()))).unwrap();
    let path = places.files[0].path.clone();
    let (ours, stock) = (places.files[0].sha256.clone(), Digest::of(b"clean"));
    let told = |now: &Digest| {
        let before = Before {
            ours: [(path.clone(), ours.clone())].into(),
            bases: [(path.clone(), stock.clone())].into(),
            seen: [(path.clone(), Seen::File(now.clone()))].into(),
            put_back: BTreeSet::new(),
        };
        let changes = changes::files(&before, &wanted);
        let again = changes.steps.iter().any(|s| matches!(s, Step::Place { .. }));
        (again, changes.findings.first().map(|f| f.code))
    };
    assert_eq!(told(&ours), (false, None));
    assert_eq!(told(&stock), (true, Some("stock-put-back")));
    assert_eq!(told(&Digest::of(b"mine")), (false, Some("changed-by-hand")));
}

#[test]
fn entries_of_which_some_are_taken() {
    let files = [
        ("maps/reef/floor.dat", "f"),
        ("maps/reef/modes/race.mode", "r"),
        ("maps/reef/modes/hunt.mode", "h"),
        ("maps/cave/floor.dat", "c"),
        ("maps/cave/modes/race.mode", "cr"),
    ];
    let race_on_reef = |e: &Caught| e["map"] == "reef" && e["mode"] == "race";
    let gannet = family("gannet");
    let (places, claims) = done(&gannet, None, &look("coves.zip", &files), &files, 1, &race_on_reef);
    assert_eq!(paths(&places), ["maps/reef/modes/race.mode", "maps/reef/floor.dat"]);
    assert_eq!(said(&claims), [r#"cove.json playlist: {"map": "reef", "mode": "race"}"#]);
    let (places, claims) = done(&gannet, None, &look("coves.zip", &files), &files, 1, &|_| true);
    assert_eq!((places.files.len(), claims.len()), (5, 3));
}

#[test]
fn a_launch_line_by_hand() {
    let files = [("peat.bog", "p")];
    let (_, claims) = done(&family("hollow"), None, &look("peat.zip", &files), &files, 1, &|_| true);
    assert_eq!(said(&claims), ["hand:start-line: -bog=peat"]);
}

#[test]
fn folders_that_change_by_version() {
    let files = [("oak.perch", "o")];
    let rook = family("rook");
    let (old, old_claims) = done(&rook, Some("1.9"), &look("oak.zip", &files), &files, 1, &|_| true);
    let (new, new_claims) = done(&rook, Some("2.1"), &look("oak.zip", &files), &files, 1, &|_| true);
    assert_eq!(paths(&old), ["perches/oak.perch"]);
    assert_eq!(paths(&new), ["content/perches/oak.perch"]);
    assert_eq!(said(&old_claims), ["tally.ini load.perch: oak"]);
    assert_eq!(said(&new_claims), ["tally.lua return.perches: oak"]);
    let text = b"built by rooks\ngame 2.1\n";
    let source = &rook.rules.fact["game"].0[0];
    let value = manifest::value_at(source.format, text, &source.at).and_then(|v| v.text());
    assert_eq!(value.as_deref(), Some("2.1"));
}

#[test]
fn the_tutorial_builds_a_family() {
    let page = include_str!("../../../docs/family-tutorial.md");
    let text: String = page.split("```toml\n").skip(1).filter_map(|b| b.split("```").next()).collect();
    let (family, faults) = Family::check(&text);
    assert!(family.is_some(), "{faults:?}");
    // a misspelt word hides no other fault, and makes none
    let wrong = text.replace("\"map\"", "\"mup\"").replace("list = true", "list = 1").replace("{stem}", "{stam}");
    let (_, faults) = Family::check(&wrong);
    let lines: Vec<&str> = faults.iter().map(|f| wrong.lines().nth(f.line - 1).unwrap()).collect();
    assert_eq!(lines, ["role = \"mup\"", "list = 1", "value = \"{stam}\""]);
    // what is wrong is told at once, with the nearest word
    let wrong = text.replace("title = \"pond\"", "titel = \"pond\"").replace("ponds/{name}", "ponds/{nam}");
    let (_, faults) = Family::check(&wrong);
    let told: Vec<String> = faults.iter().map(|f| f.why.chars().take(60).collect()).collect();
    assert_eq!(
        told,
        [
            "`titel` is no word here, did you mean `title`?",
            "the template `ponds/{nam}` names `nam`, which nothing fills ",
        ]
    );
}
