//! Why an item is on the server, why in this version, why at this place in the load order, and what it set.

use std::collections::BTreeSet;

use yalotheca_core::id::ItemId;
use yalotheca_core::ledger::{Held, Ledger};
use yalotheca_core::slot::Owner;
use yalotheca_core::text::clean;
use yalotheca_core::version::{Range, Version};

use crate::order::{Line, lines};
use crate::renew::{forced, said};
use crate::server::Server;
use crate::settle::{Asking, Options, Renew};
use crate::{Error, state};

/// So many ways from the roster to an item are told.
pub const MOST_CHAINS: usize = 12;

/// One step of a chain: who asks for what.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Link {
    /// Who asks: `None` for the roster.
    pub owner: Option<(ItemId, Version)>,
    /// The roster's line, where it is the roster.
    pub line: usize,
    /// What is asked for, in words.
    pub asks: String,
}

/// What stands against a version.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Against {
    /// The version.
    pub version: Version,
    /// Why it is not taken; nothing where it could be.
    pub why: Vec<String>,
}

/// Everything about one item.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Because {
    /// The item.
    pub id: ItemId,
    /// Its version on the server, and its kind's title; `None` where it is not on it.
    pub here: Option<(Version, String)>,
    /// Every way from the roster to it, shortest first.
    pub chains: Vec<Vec<Link>>,
    /// How many more there are.
    pub more: usize,
    /// The newest version, where it is not that one, or the version that was asked about.
    pub against: Option<Against>,
    /// Its place in the load order, from 1, and the line.
    pub place: Option<(usize, Line)>,
    /// What it set: file, path, value.
    pub set: Vec<(String, String, String)>,
}

/// Explains an item; with `version`, why that one is not taken.
///
/// # Errors
/// Nobody offers it, or a catalogue cannot be asked.
pub fn why(server: &Server, id: &ItemId, version: Option<&Range>) -> Result<Because, Error> {
    let ledger = state::head(server.tree.as_ref())?;
    let held = ledger.items.get(id);
    let (chains, more) = chains(server, &ledger, id);
    let options = Options { renew: Renew::These(BTreeSet::from([id.clone()])), ..Options::default() };
    let facts = server.facts()?;
    let mut asking = Asking::new(server, &options, &ledger, &facts)?;
    let mut problem = asking.solver.problem().clone();
    let line = problem.wants.iter().position(|w| w.id == *id);
    if line.is_none() {
        let range = Range::any();
        problem.wants.push(yalotheca_core::solve::Wanted { id: id.clone(), range, beta: false, line: 0 });
    }
    // so that it and what it needs is known
    asking.with(problem)?.ok();
    let offered: Vec<Version> =
        asking.solver.versions(id).map(|(v, _)| v.iter().map(|f| f.version.clone()).collect()).unwrap_or_default();
    let scheme = asking.solver.versions(id).map(|(_, s)| s).unwrap_or_default();
    let asked = match version {
        Some(range) => {
            let found = offered.iter().find(|v| range.holds(v, scheme)).cloned();
            Some(found.ok_or_else(|| {
                let all: Vec<String> = offered.iter().take(8).map(ToString::to_string).collect();
                Error::Choice(format!("{id} has no version {range}; there is {}", clean(&all.join(", "), 200)))
            })?)
        }
        None => offered.first().filter(|v| held.is_none_or(|h| h.facts.version != **v)).cloned(),
    };
    let against = match asked {
        Some(version) => {
            let why = match forced(&mut asking, id, &version)? {
                Ok(()) => Vec::new(),
                Err(way) => said(&way).into_iter().filter(|l| !l.starts_with("you want ")).collect(),
            };
            Some(Against { version, why })
        }
        None => None,
    };
    let place = lines(server)?.lines.into_iter().enumerate().find(|(_, l)| l.id == *id).map(|(at, l)| (at + 1, l));
    let owner = Owner::Item(id.clone());
    let slots =
        ledger.slots.iter().flat_map(|s| s.claims.iter().filter(|(o, _)| *o == owner).map(move |(_, v)| (s, v)));
    let set = slots.map(|(s, v)| {
        let at = s.key.at.clone().unwrap_or_default();
        (s.key.path.to_string(), at, clean(&v.shown(), 80))
    });
    Ok(Because {
        id: id.clone(),
        here: held.map(|h| (h.facts.version.clone(), server.family.kind_title(&h.kind).to_owned())),
        chains,
        more,
        against,
        place,
        set: set.collect(),
    })
}

/// Whether one item meets a need of another.
fn meets(id: &ItemId, held: &Held, target: &ItemId) -> bool {
    let facts = &held.facts;
    id == target || facts.provides.iter().any(|p| p.id == *target) || facts.replaces.iter().any(|r| r.id == *target)
}

/// Every way from a line of the roster to an item, shortest first.
fn chains(server: &Server, ledger: &Ledger, id: &ItemId) -> (Vec<Vec<Link>>, usize) {
    let mut out: Vec<Vec<Link>> = Vec::new();
    let mut more = 0;
    // ways back from the item: what was met on it, and where it stands now
    let mut open: Vec<(ItemId, Vec<Link>, Vec<ItemId>)> = vec![(id.clone(), Vec::new(), vec![id.clone()])];
    let mut tried = 0;
    while !open.is_empty() {
        let mut next = Vec::new();
        for (at, way, seen) in open {
            tried += 1;
            if let Some(want) = server.roster.want(&at) {
                let asks = if want.range.is_any() { at.to_string() } else { format!("{at} {}", want.range) };
                let mut whole = vec![Link { owner: None, line: want.line, asks }];
                whole.extend(way.iter().rev().cloned());
                if out.len() < MOST_CHAINS { out.push(whole) } else { more += 1 }
            }
            let Some(target) = ledger.items.get(&at) else { continue };
            for (owner, held) in ledger.items.iter().filter(|(o, _)| !seen.contains(o)) {
                let need = held.facts.needs.iter().find(|n| n.targets().iter().any(|t| meets(&at, target, &t.id)));
                let Some(need) = need.filter(|_| tried < 2_000) else { continue };
                let link =
                    Link { owner: Some((owner.clone(), held.facts.version.clone())), line: 0, asks: need.to_string() };
                let with = |list: &[ItemId]| [list, std::slice::from_ref(owner)].concat();
                next.push((owner.clone(), [way.as_slice(), &[link]].concat(), with(&seen)));
            }
        }
        open = next;
    }
    (out, more)
}

/// A tree of items: what each needs, or who needs each.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Branch {
    /// The item.
    pub id: ItemId,
    /// Its version.
    pub version: Version,
    /// How it is asked for, or what it asks for.
    pub asks: String,
    /// The roster's line, where it stands on it; else 0.
    pub line: usize,
    /// What comes below; nothing where it was told before.
    pub below: Vec<Branch>,
    /// Whether what is below it was told before.
    pub told: bool,
}

/// Returns what an item on the server needs, or with `reverse` who needs it, as a tree; each item's branches once.
///
/// # Errors
/// It is not on the server.
pub fn tree(server: &Server, id: &ItemId, reverse: bool) -> Result<Branch, Error> {
    let ledger = state::head(server.tree.as_ref())?;
    if !ledger.items.contains_key(id) {
        return Err(Error::Choice(format!("{id} is not on the server; see what it would need: yalotheca show {id}")));
    }
    Ok(branch(server, &ledger, id, String::new(), reverse, &mut BTreeSet::new()))
}

fn branch(
    server: &Server,
    ledger: &Ledger,
    id: &ItemId,
    asks: String,
    reverse: bool,
    told: &mut BTreeSet<ItemId>,
) -> Branch {
    let line = server.roster.want(id).map_or(0, |w| w.line);
    let held = ledger.items.get(id);
    let version = held.map_or_else(|| Version::new(""), |h| h.facts.version.clone());
    let mut next: Vec<(ItemId, String)> = Vec::new();
    if let Some(held) = held {
        for (other, theirs) in &ledger.items {
            let (owner, met, target) = if reverse { (theirs, id, held) } else { (held, other, theirs) };
            let need = owner.facts.needs.iter().find(|n| n.targets().iter().any(|t| meets(met, target, &t.id)));
            if let Some(need) = need.filter(|_| other != id) {
                next.push((other.clone(), need.to_string()));
            }
        }
    }
    let before = !told.insert(id.clone()) && !next.is_empty();
    let below = match before {
        true => Vec::new(),
        false => next.into_iter().map(|(id, asks)| branch(server, ledger, &id, asks, reverse, told)).collect(),
    };
    Branch { id: id.clone(), version, asks, line, below, told: before }
}
