//! What a server is to be when one entry of its history is taken back and the later ones stay.

use std::collections::BTreeSet;

use crate::id::{ItemId, ServerPath};
use crate::ledger::{Entry, Held, Ledger};
use crate::settings::Value;
use crate::slot::{Owner, Slot, SlotKey};

/// A later entry that stands on the one that is to be taken back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StandsOn {
    /// The later entry's number; 0 when no entry is known for it.
    pub entry: u64,
    /// What of it: `it moved chest-locks to 2.1.0`.
    pub what: String,
}

/// Returns the ledger without what `target` did: `from` is the one before it, `at` the one it made, `now` the newest,
/// and `later` the entries after it, oldest first.
///
/// # Errors
/// Everything that stands on it: items, files or settings that a later entry changed again, and needs that would not be met.
pub fn take_back(
    now: &Ledger,
    target: &Entry,
    from: &Ledger,
    at: &Ledger,
    later: &[&Entry],
) -> Result<Ledger, Vec<StandsOn>> {
    let mut against = Vec::new();
    let mut goal = now.clone();
    items(&mut goal, now, target, from, at, later, &mut against);
    files(target, &[from, at, now], later, &mut against);
    needs(&goal, now, target, later, &mut against);
    slots(&mut goal, now, from, at, later, &mut against);
    if now.terms == at.terms {
        goal.terms.clone_from(&from.terms);
    }
    against.dedup();
    if against.is_empty() { Ok(goal) } else { Err(against) }
}

fn items(
    goal: &mut Ledger,
    now: &Ledger,
    target: &Entry,
    from: &Ledger,
    at: &Ledger,
    later: &[&Entry],
    against: &mut Vec<StandsOn>,
) {
    let same = |a: Option<&Held>, b: Option<&Held>| match (a, b) {
        (Some(a), Some(b)) => a.download == b.download && a.facts.version == b.facts.version,
        (a, b) => a.is_none() && b.is_none(),
    };
    for (id, ..) in &target.items {
        if !same(now.items.get(id), at.items.get(id)) {
            let by = later.iter().find(|e| e.items.iter().any(|(i, ..)| i == id));
            let what = format!("it changed {id} again");
            against.push(StandsOn { entry: by.map_or(0, |e| e.number), what });
            continue;
        }
        match from.items.get(id) {
            Some(held) => drop(goal.items.insert(id.clone(), held.clone())),
            None => drop(goal.items.remove(id)),
        }
    }
    goal.order.retain(|id| goal.items.contains_key(id));
    for (place, id) in from.order.iter().enumerate() {
        if !goal.items.contains_key(id) || goal.order.contains(id) {
            continue;
        }
        // after the nearest that stood before it
        let earlier = from.order.get(..place).unwrap_or_default();
        let after = earlier.iter().rev().find_map(|e| goal.order.iter().position(|o| o == e));
        goal.order.insert(after.map_or(0, |p| p + 1), id.clone());
    }
}

/// Files that are no settings and that a later entry touched too.
fn files(target: &Entry, ledgers: &[&Ledger], later: &[&Entry], against: &mut Vec<StandsOn>) {
    let settings: BTreeSet<&ServerPath> =
        ledgers.iter().flat_map(|l| l.slots.iter().map(|s| &s.key.path).chain(&l.made)).collect();
    for (path, ..) in target.files.iter().filter(|(p, ..)| !settings.contains(p)) {
        if let Some(by) = later.iter().find(|e| e.files.iter().any(|(p, ..)| p == path)) {
            against.push(StandsOn { entry: by.number, what: format!("it changed {path} again") });
        }
    }
}

/// Needs that are met now and would not be any more.
fn needs(goal: &Ledger, now: &Ledger, target: &Entry, later: &[&Entry], against: &mut Vec<StandsOn>) {
    let met = |ledger: &Ledger, id: &ItemId| {
        let provides =
            |h: &Held| h.facts.provides.iter().any(|p| p.id == *id) || h.facts.replaces.iter().any(|r| r.id == *id);
        ledger.items.contains_key(id) || ledger.items.values().any(provides)
    };
    for (id, held) in &goal.items {
        for need in &held.facts.needs {
            let any = |ledger| need.targets().iter().any(|t| met(ledger, &t.id));
            if any(now) && !any(goal) {
                let brought = |e: &&&Entry| e.items.iter().any(|(i, _, after)| i == id && after.is_some());
                let entry = later.iter().find(brought).map_or(0, |e| e.number);
                let gone: Vec<String> = need.targets().iter().map(|t| t.id.to_string()).collect();
                let what = format!("{id} needs {}, which entry {} brought", gone.join(" or "), target.number);
                against.push(StandsOn { entry, what });
            }
        }
    }
}

fn slots(goal: &mut Ledger, now: &Ledger, from: &Ledger, at: &Ledger, later: &[&Entry], against: &mut Vec<StandsOn>) {
    let keys: BTreeSet<&SlotKey> = [now, from, at].iter().flat_map(|l| l.slots.iter().map(|s| &s.key)).collect();
    goal.slots.clear();
    for key in keys {
        let of = |ledger: &Ledger| ledger.slots.iter().find(|s| s.key == *key).cloned();
        let (current, before, made) = (of(now), of(from), of(at));
        let claims = |slot: &Option<Slot>| slot.as_ref().map(|s| s.claims.clone()).unwrap_or_default();
        let (mut wanted, before, made) = (claims(&current), claims(&before), claims(&made));
        let owners: BTreeSet<Owner> = before.iter().chain(&made).map(|(o, _)| o.clone()).collect();
        for owner in owners {
            let mine = |claims: &[(Owner, Value)]| -> Vec<Value> {
                claims.iter().filter(|(o, _)| *o == owner).map(|(_, v)| v.clone()).collect()
            };
            let (was, became) = (mine(&before), mine(&made));
            if was == became {
                continue;
            }
            if mine(&wanted) != became {
                let by = later.iter().find(|e| e.files.iter().any(|(p, ..)| *p == key.path));
                let at = key.at.as_deref().unwrap_or("the list");
                let what = format!("it set {at} of {} again", key.path);
                against.push(StandsOn { entry: by.map_or(0, |e| e.number), what });
                continue;
            }
            wanted.retain(|(o, _)| *o != owner);
            wanted.extend(was.into_iter().map(|v| (owner.clone(), v)));
        }
        if wanted.is_empty() {
            continue;
        }
        // items in load order, then what stands above them
        let place = |owner: &Owner| match owner {
            Owner::Family => 0,
            Owner::Item(id) => 1 + goal.order.iter().position(|o| o == id).unwrap_or(goal.order.len()),
            _ => usize::MAX,
        };
        wanted.sort_by_key(|(owner, _)| place(owner));
        let mut slot = current.unwrap_or_else(|| Slot::new(key.clone()));
        slot.claims = wanted;
        goal.slots.push(slot);
    }
}
