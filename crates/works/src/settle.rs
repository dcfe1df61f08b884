//! The way of one settle, up to the changes: solve and learn in turn, then order, place, wire.
//!
//! [`plan`] changes nothing; [`crate::apply::carry_out`] does what a plan says.

mod choose;
mod derive;
mod hand;
mod helps;
pub mod like;
mod number;
mod obtain;
mod placing;
mod settings;
pub mod slate;
mod sources;
mod trust;

use std::collections::{BTreeMap, BTreeSet};

use yalotheca_core::changes::{self, Before, FileChanges, Seen, Step, WantedFile};
use yalotheca_core::facts::ServerFacts;
use yalotheca_core::finding::Finding;
use yalotheca_core::id::{Digest, ItemId, ServerPath};
use yalotheca_core::ledger::{Act, FileRow, Held, Ledger, render_rows};

use yalotheca_core::place::Source;
use yalotheca_core::slot::{self, DocChange, Slots};
use yalotheca_core::wire::{self, Wires};

use crate::Error;
use crate::scene::{Around, Taken, named_entries};
use crate::server::{Overlay, Server, facts};
use crate::{history, links, running, state};
use choose::Picked;
pub(crate) use choose::{Asking, opener};
pub(crate) use helps::written;
pub use helps::{NoWay, take_help};
pub(crate) use number::number_in;
use placing::{AllPlaced, place_all, placed_anew, places_of, with_sources};
use settings::Settings;
pub(crate) use settings::{bounded, map_findings};
pub use trust::vouch;

/// A core that is changed changes what fits: so often the way is gone again before we give up.
const MOST_ROUNDS: usize = 4;

/// What is to be decided beforehand.
#[derive(Debug, Clone, Default)]
pub struct Options {
    /// Hand-changed files that give way to what the roster wants.
    pub put_back: BTreeSet<ServerPath>,
    /// The number of the terms to accept, when that is the point (see [`crate::trial::accept_terms`]).
    pub accept_terms: Option<String>,
    /// Another server's ledger, whose versions and order are taken where they can be.
    pub like: Option<Box<Ledger>>,
    /// What was entered by hand as it was asked for, by name.
    pub done: BTreeSet<String>,
    /// What moves to its newest version that fits.
    pub renew: Renew,
    /// What the server will say instead of what it says now, to see what would be: `game` and its version.
    pub suppose: BTreeMap<String, String>,
}

/// What moves to the newest version that fits; everything else moves only as far as it must.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum Renew {
    /// Nothing.
    #[default]
    Nothing,
    /// These items.
    These(BTreeSet<ItemId>),
    /// Everything that is not held.
    All,
}

impl Renew {
    /// Whether an item is to move.
    pub fn moves(&self, id: &ItemId) -> bool {
        match self {
            Renew::Nothing => false,
            Renew::These(items) => items.contains(id),
            Renew::All => true,
        }
    }
}

/// An item's change.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ItemChange {
    /// The item.
    pub id: ItemId,
    /// Its kind's title.
    pub kind: String,
    /// The version before.
    pub before: Option<String>,
    /// The version after.
    pub after: Option<String>,
    /// Why it is there: `wanted`, or the items that need it.
    pub why: String,
    /// What is written for it, in bytes.
    pub bytes: u64,
}

/// The changes, ready to be shown and carried out.
#[must_use = "a plan changes nothing until it is carried out"]
#[derive(Debug)]
pub struct Plan {
    /// What is done.
    pub act: Act,
    /// The ledger before.
    pub before: Ledger,
    /// The ledger after, but for its generation.
    pub after: Ledger,
    /// The items' files after.
    pub rows: BTreeMap<ItemId, Vec<FileRow>>,
    /// The steps on files.
    pub steps: Vec<Step>,
    /// The settings files that change.
    pub docs: Vec<DocChange>,
    /// The items that change.
    pub items: Vec<ItemChange>,
    /// What the administrator did since, told.
    pub findings: Vec<Finding>,
    /// What of the downloads is left out.
    pub left: Vec<(ItemId, Vec<String>)>,
    /// Bytes that are kept under the ledger's own folder: defaults for a later merge.
    pub keep: Vec<Vec<u8>>,
    /// The roster's text after, when the act changes it.
    pub roster_after: Option<String>,
    /// What is known of the server once it is done.
    pub facts: ServerFacts,
}

impl Plan {
    /// Whether there is nothing to do on the server.
    pub fn is_empty(&self) -> bool {
        self.steps.is_empty() && self.docs.is_empty() && self.items.is_empty() && self.roster_after.is_none()
    }
}

/// Goes the way of a settle up to the changes.
///
/// # Errors
/// Whatever stops it; nothing was changed.
pub fn plan(server: &Server, options: &Options) -> Result<Plan, Error> {
    let told = server.told.clone();
    let before = state::head(server.tree.as_ref())?;
    let rows = state::rows(server.tree.as_ref(), &before)?;
    let mut known = supposed(server.facts()?, options);
    for _ in 0..MOST_ROUNDS {
        let mut plan = once(server, options, &before, &rows, &known)?;
        if supposed(plan.facts.clone(), options) == known {
            plan.findings.extend(told);
            plan.findings.extend(history::behind(server, &before)?);
            return running::looked(server, plan);
        }
        // what is to be placed changes what fits: go the way again as the server will be
        known = supposed(plan.facts, options);
    }
    Err(Error::Forbidden(vec![Finding::new(
        "restless",
        yalotheca_core::finding::Severity::Error,
        "the core and what fits it could not be brought together",
        "put the core's version on the roster, settle, then the rest",
    )]))
}

/// What the server says, but for what is supposed.
fn supposed(mut facts: ServerFacts, options: &Options) -> ServerFacts {
    for (name, value) in &options.suppose {
        facts.set(name, vec![value.clone()]);
    }
    facts
}

/// Plans what a start has told: wirings that waited for it, on a server that stays otherwise as it was settled.
///
/// # Errors
/// A settings file stands in the way.
pub(crate) fn plan_waiting(server: &Server, before: &Ledger) -> Result<Plan, Error> {
    let mut plan = plan_terms(server, before, &Options { accept_terms: before.terms.clone(), ..Options::default() })?;
    plan.act = Act::Settle;
    Ok(plan)
}

/// Plans the acceptance of terms on a server that stays otherwise as it was settled.
///
/// # Errors
/// A settings file stands in the way.
pub(crate) fn plan_terms(server: &Server, before: &Ledger, options: &Options) -> Result<Plan, Error> {
    let tree = server.tree.as_ref();
    let rows = state::rows(tree, before)?;
    let known = server.facts()?;
    let in_order = before.order.iter().filter_map(|id| Some((id, before.items.get(id)?)));
    let taken: Vec<Taken<'_>> = in_order.map(|(id, h)| Taken::of(server, id, h)).collect();
    let items: Vec<_> = taken.iter().enumerate().filter_map(|(at, t)| t.item(server, at + 1)).collect();
    let tuned: Vec<slot::Claim> = kept_tuned(before);
    let around = Around::of(server, &known)?;
    let claims = wire::wire(&items, &around.scene(), &tuned, options.accept_terms.as_deref())?.claims;
    let slots = slots(server, before, &claims, &options.put_back)?;
    let number = options.accept_terms.clone().unwrap_or_default();
    let mut after =
        Ledger { slots: slots.slots, made: slots.made, terms: options.accept_terms.clone(), ..before.clone() };
    after.roster = before.roster.clone().or_else(|| Some(Digest::of(server.text.as_bytes())));
    Ok(Plan {
        act: Act::AcceptTerms(number),
        before: before.clone(),
        after,
        rows,
        steps: Vec::new(),
        docs: slots.docs,
        items: Vec::new(),
        findings: slots.findings,
        left: Vec::new(),
        keep: Vec::new(),
        roster_after: None,
        facts: known,
    })
}

/// The way, for what is known of the server.
fn once(
    server: &Server,
    options: &Options,
    before: &Ledger,
    old_rows: &BTreeMap<ItemId, Vec<FileRow>>,
    known: &ServerFacts,
) -> Result<Plan, Error> {
    let mut picked = choose::choose(server, options, before, known)?;
    sources::agreed(server, before, &picked)?;
    number::give(server, before, &mut picked)?;
    picked.iter().try_for_each(|p| named_entries(server, &p.id, &p.held))?;
    choose::numbers_once(&picked)?;
    choose::one_only(server, &picked)?;
    let present = options.like.as_ref().map_or(&before.order, |l| &l.order);
    let (order, gave_way) = crate::order::load_order(server, picked.iter().map(|p| (&p.id, &p.held)), present)?;
    let around = Around::of(server, known)?;
    trust::trusted(server, before, &picked)?;
    // what of an item is taken may be another now
    let entries = |p: &Picked| placed_anew(server, &p.held.kind);
    let same = picked.len() == before.items.len()
        && !picked.iter().any(entries)
        && picked.iter().all(|p| {
            let stays = |h: &Held| h.facts.version == p.held.facts.version;
            p.learnt.is_none() && before.items.get(&p.id).is_some_and(stays)
        });
    let (changes, rows, left) = if same {
        (moved_files(server, options, before, old_rows)?, old_rows.clone(), Vec::new())
    } else {
        let AllPlaced { files, rows, left } = place_all(&around, &picked, &order, old_rows)?;
        (file_changes(server, options, before, old_rows, &files)?, rows, left)
    };
    let changes = with_sources(&around, changes, &picked)?;
    let Settings { slots, keep, findings: told, text } =
        settings::settle(&around, options, before, old_rows, &rows, &picked, &order)?;
    let derive::Made { derived, docs: containers, keep: bases, findings: kept } =
        derive::settle(&around, options, before, &picked, &order)?;
    let keep = keep.into_iter().chain(bases).collect();
    let mut slots = slots;
    slots.docs.extend(containers);
    let items = item_changes(server, before, &picked, &changes);
    let mut after = Ledger {
        generation: before.generation,
        family: server.family.rules.name.clone(),
        roster: Some(Digest::of(server.text.as_bytes())),
        items: BTreeMap::new(),
        order,
        slots: slots.slots,
        made: slots.made,
        folders: before.folders.clone(),
        bases: changes.bases,
        terms: before.terms.clone(),
        derived,
    };
    for one in picked {
        // an item that stays may stand elsewhere all the same
        let files = match one.learnt {
            None if one.held.files != Digest::of(b"") && rows.get(&one.id) == old_rows.get(&one.id) => {
                one.held.files.clone()
            }
            _ => render_rows(rows.get(&one.id).map_or(&[], Vec::as_slice))?.0,
        };
        after.items.insert(one.id, Held { files, ..one.held });
    }
    let facts = facts(&server.family, server.tree.as_ref(), &overlay(server, &changes.steps, &slots.docs))?;
    let twice = links::ahead(server, &changes.steps)?;
    let findings = changes
        .findings
        .into_iter()
        .chain(kept)
        .chain(twice)
        .chain(told)
        .chain(gave_way)
        .chain(slots.findings)
        .collect();
    if let Some(text) = &text {
        after.roster = Some(Digest::of(text.as_bytes()));
    }
    Ok(Plan {
        act: Act::Settle,
        before: before.clone(),
        after,
        rows,
        steps: changes.steps,
        docs: slots.docs,
        items,
        findings,
        left,
        keep,
        roster_after: text,
        facts,
    })
}

type Rows = BTreeMap<ItemId, Vec<FileRow>>;

fn file_changes(
    server: &Server,
    options: &Options,
    before: &Ledger,
    old: &Rows,
    wanted: &BTreeMap<ServerPath, WantedFile>,
) -> Result<FileChanges, Error> {
    // settings files are the administrator's once they are there: they are merged, not replaced
    let plain = old.values().flatten().filter(|row| row.is_plain());
    let ours: BTreeMap<ServerPath, Digest> = plain.map(|row| (row.path.clone(), row.sha256.clone())).collect();
    let mut wanted: BTreeMap<ServerPath, WantedFile> =
        wanted.iter().filter(|(_, f)| !f.settings || f.once).map(|(p, f)| (p.clone(), f.clone())).collect();
    let paths: BTreeSet<ServerPath> = ours.keys().chain(wanted.keys()).cloned().collect();
    let mut seen = state::seen_by_path(server.tree.as_ref(), paths)?;
    // a new default of what is the administrator's as a whole goes beside it
    let renewed = |(path, file): (&ServerPath, &WantedFile)| {
        let differs = ours.get(path).is_some_and(|o| *o != file.sha256);
        let there = matches!(seen.get(path), Some(Seen::File(now)) if *now != file.sha256);
        (file.once && differs && there)
            .then(|| Some((settings::new_beside(path)?, WantedFile { once: false, ..file.clone() })))?
    };
    let beside: Vec<(ServerPath, WantedFile)> = wanted.iter().filter_map(renewed).collect();
    seen.extend(state::seen_by_path(server.tree.as_ref(), beside.iter().map(|(p, _)| p.clone()).collect())?);
    wanted.extend(beside);
    let known = Before { ours, bases: before.bases.clone(), seen, put_back: options.put_back.clone() };
    let changes = changes::files(&known, &wanted);
    if changes.blocked.is_empty() { Ok(changes) } else { Err(Error::Undecided(changes.blocked)) }
}

/// The same where no item comes, goes or changes: only files that are not as the ledger has them need a thought.
fn moved_files(server: &Server, options: &Options, before: &Ledger, rows: &Rows) -> Result<FileChanges, Error> {
    let all: Vec<(&ItemId, &FileRow)> = rows
        .iter()
        .flat_map(|(id, rows)| rows.iter().map(move |r| (id, r)))
        .filter(|(_, row)| row.is_plain())
        .collect();
    let paths: Vec<ServerPath> = all.iter().map(|(_, row)| row.path.clone()).collect();
    let seen = state::seen(server.tree.as_ref(), &paths)?;
    let mut known = Before { put_back: options.put_back.clone(), bases: before.bases.clone(), ..Before::default() };
    let mut wanted: BTreeMap<ServerPath, WantedFile> = BTreeMap::new();
    for ((id, row), seen) in all.into_iter().zip(seen) {
        if matches!(&seen, Seen::File(digest) if row.once || *digest == row.sha256) {
            continue;
        }
        known.ours.insert(row.path.clone(), row.sha256.clone());
        known.seen.insert(row.path.clone(), seen);
        let source = Source::Kept(row.sha256.clone());
        let (sha256, bytes) = (row.sha256.clone(), row.bytes);
        let (owners, once, layer) = (BTreeSet::new(), row.once, row.layer);
        let file = WantedFile { sha256, bytes, source, owners, settings: false, once, layer };
        wanted.entry(row.path.clone()).or_insert(file).owners.insert(id.clone());
    }
    let mut changes = changes::files(&known, &wanted);
    changes.bases = before.bases.clone();
    if changes.blocked.is_empty() { Ok(changes) } else { Err(Error::Undecided(changes.blocked)) }
}

/// The claims of items, defaults, what is tuned, and accepted terms.
fn claims(
    around: &Around<'_>,
    before: &Ledger,
    picked: &[Picked],
    order: &[ItemId],
    tuned: &[slot::Claim],
) -> Result<Wires, Error> {
    let server = around.server;
    let in_order = order.iter().filter_map(|id| picked.iter().find(|p| p.id == *id));
    let taken: Vec<Taken<'_>> = in_order.map(|p| Taken::of(server, &p.id, &p.held)).collect();
    let items: Vec<_> = taken.iter().enumerate().filter_map(|(at, t)| t.item(server, at + 1)).collect();
    Ok(wire::wire(&items, &around.scene(), tuned, before.terms.as_deref())?)
}

/// What was tuned, as it was settled last.
fn kept_tuned(before: &Ledger) -> Vec<slot::Claim> {
    let tuned = |o: &slot::Owner| matches!(o, slot::Owner::Tuned | slot::Owner::TunedOut | slot::Owner::Bound);
    let of = |s: &slot::Slot| {
        let claims = s.claims.iter().filter(|(o, _)| tuned(o));
        claims.map(|(o, v)| slot::Claim::new(s.key.clone(), o.clone(), v.clone())).collect::<Vec<_>>()
    };
    before.slots.iter().flat_map(of).collect()
}

/// Computes the slots for some claims over the settings files as they are.
pub(crate) fn slots(
    server: &Server,
    before: &Ledger,
    claims: &[slot::Claim],
    put_back: &BTreeSet<ServerPath>,
) -> Result<Slots, Error> {
    let docs = settings::docs(server, before, claims)?;
    let around = slot::Around { put_back: put_back.clone(), secret: crate::tune::secrets_of(server, claims) };
    let mut slots = slot::settle(&before.slots, &before.made, claims, &docs, &around)?;
    let waiting = hand::put_off(server, before, &mut slots, &BTreeSet::new(), &mut None)?;
    slots.findings.extend(waiting);
    Ok(slots)
}

/// The server's files as they will be, for reading its facts ahead.
fn overlay(server: &Server, steps: &[Step], docs: &[DocChange]) -> Overlay {
    let mut out = Overlay::default();
    for doc in docs {
        out.docs.insert(doc.path.clone(), doc.after.clone());
    }
    for step in steps {
        match step {
            Step::Place { path, file, .. } => {
                if let Source::Store(digest) = &file.source {
                    out.files.insert(path.clone(), server.around.home.store_path(digest));
                } else if server.around.home.has(&file.sha256) {
                    out.files.insert(path.clone(), server.around.home.store_path(&file.sha256));
                }
            }
            Step::Remove { path, back: None, .. } => {
                out.docs.insert(path.clone(), None);
            }
            Step::Remove { .. } => {}
        }
    }
    out
}

fn item_changes(server: &Server, before: &Ledger, picked: &[Picked], changes: &FileChanges) -> Vec<ItemChange> {
    let bytes = |id: &ItemId| {
        let of = |s: &Step| match s {
            Step::Place { file, .. } if file.owners.contains(id) => file.bytes,
            _ => 0,
        };
        changes.steps.iter().map(of).sum()
    };
    let needed_by = |id: &ItemId| {
        let needs = |p: &&Picked| p.held.facts.needs.iter().flat_map(|n| n.targets()).any(|t| t.id == *id);
        let names: Vec<String> = picked.iter().filter(needs).map(|p| p.id.to_string()).collect();
        if names.is_empty() {
            "stands in for what is needed".to_owned()
        } else {
            format!("needed by {}", yalotheca_core::text::listed(&names))
        }
    };
    let mut out = Vec::new();
    for one in picked {
        let old = before.items.get(&one.id);
        if old.is_some_and(|h| h.facts.version == one.held.facts.version && h.download == one.held.download) {
            continue;
        }
        out.push(ItemChange {
            id: one.id.clone(),
            kind: server.family.kind_title(&one.held.kind).to_owned(),
            before: old.map(|h| h.facts.version.to_string()),
            after: Some(one.held.facts.version.to_string()),
            why: if one.wanted { "wanted".to_owned() } else { needed_by(&one.id) },
            bytes: bytes(&one.id),
        });
    }
    for (id, held) in before.items.iter().filter(|(id, _)| !picked.iter().any(|p| p.id == **id)) {
        out.push(ItemChange {
            id: id.clone(),
            kind: server.family.kind_title(&held.kind).to_owned(),
            before: Some(held.facts.version.to_string()),
            after: None,
            why: "no longer wanted or needed".to_owned(),
            bytes: 0,
        });
    }
    out
}
