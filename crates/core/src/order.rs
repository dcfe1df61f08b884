//! The load order: in which order the server reads the items.
//!
//! Needs always hold, and so does what the roster pins. Hints (`after`, `before`) give way where they would close a circle or
//! stand against a pin, those that only one side gives before those that both give. Among all orders that the edges allow, the
//! one nearest to what would be without them is taken: pinned first and last, kinds by rank, then the present order, then new
//! items by id. So an unrelated addition moves nothing.

mod graph;
mod nearest;
mod pins;

use std::collections::{BTreeMap, BTreeSet};

use thiserror::Error;

use graph::Graph;
pub use pins::pins_for;

use crate::id::ItemId;
use crate::roster::Pins;
use crate::text::listed;

/// An item to be put in order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// The item.
    pub id: ItemId,
    /// Its kind's rank: lower is read first.
    pub rank: i32,
    /// Items that must be read before it.
    pub needs: Vec<ItemId>,
    /// Items that should be read before it.
    pub after: Vec<ItemId>,
    /// Items that should be read after it.
    pub before: Vec<ItemId>,
}

/// Why an item stands where it stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Why {
    /// The roster pins it to the front.
    First,
    /// The roster pins it to the end.
    Last,
    /// The roster pins it behind this one.
    Pinned(ItemId),
    /// The roster pins it before this one.
    Ahead(ItemId),
    /// It needs this one.
    Needs(ItemId),
    /// It, or this one, asks for it.
    Asked(ItemId),
    /// The kind before it is read first.
    Kind,
    /// It was there.
    Stays,
    /// It is new, and nothing says more.
    New,
}

/// The load order.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Ordered {
    /// The items, first read first.
    pub order: Vec<ItemId>,
    /// Why each stands where it stands.
    pub why: Vec<Why>,
    /// Hints that gave way: (earlier, later).
    pub given_way: Vec<(ItemId, ItemId)>,
}

/// What cannot be put in order.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum Circle {
    /// Needs go in a circle.
    #[error("{} need each other in a circle ({}), so none can be read first; drop one of them, or take a version without that need", listed(&.members.iter().map(ToString::to_string).collect::<Vec<_>>()), edges_said(.edges))]
    Needs {
        /// Its members.
        members: Vec<ItemId>,
        /// Who needs whom.
        edges: Vec<(ItemId, ItemId)>,
    },
    /// The roster pins an item before one that it needs.
    #[error(
        "the roster's [order] puts {before} before {after}, and {before} needs {after}; take one of them out of that list"
    )]
    Pin {
        /// The item that is pinned.
        before: ItemId,
        /// What it needs.
        after: ItemId,
    },
    /// The roster's pins stand against each other.
    #[error("the roster's [order] goes in a circle over {}; take one of them out", listed(&.0.iter().map(ToString::to_string).collect::<Vec<_>>()))]
    Pins(Vec<ItemId>),
}

fn edges_said(edges: &[(ItemId, ItemId)]) -> String {
    edges.iter().map(|(a, b)| format!("{a} needs {b}")).collect::<Vec<_>>().join(", ")
}

type Edges = BTreeSet<(usize, usize)>;
/// Tells the places of two items, where both are there and are not the same.
type Pair<'a> = dyn Fn(&ItemId, &ItemId) -> Option<(usize, usize)> + 'a;

/// Puts items in load order; `present` is the order they have now.
///
/// # Errors
/// [`Circle`] when needs or pins alone go in a circle.
pub fn order(entries: &[Entry], pins: &Pins, present: &[ItemId]) -> Result<Ordered, Circle> {
    // by id, so that the order of the input does not matter
    let mut by_id: Vec<&Entry> = entries.iter().collect();
    by_id.sort_by(|a, b| a.id.cmp(&b.id));
    let place: BTreeMap<&ItemId, usize> = by_id.iter().enumerate().map(|(at, e)| (&e.id, at)).collect();
    let pair = |from: &ItemId, to: &ItemId| Some((*place.get(from)?, *place.get(to)?)).filter(|(a, b)| a != b);
    let name = |at: &usize| by_id[*at].id.clone();
    let hard: Edges = by_id.iter().flat_map(|e| e.needs.iter().filter_map(|n| pair(n, &e.id))).collect();
    let Some(mut needs) = Graph::of(by_id.len(), hard.iter().copied()) else {
        let circle = circle(by_id.len(), &hard);
        let within = |(from, to): &&(usize, usize)| circle.contains(from) && circle.contains(to);
        let edges = hard.iter().filter(within).map(|(from, to)| (name(to), name(from))).collect();
        return Err(Circle::Needs { members: circle.iter().map(name).collect(), edges });
    };
    let pinned = pinned(pins, &pair);
    let mut graph = needs.clone();
    let mut holds = true;
    for (from, to) in &pinned {
        if needs.reaches(*to, *from) {
            // named by the edge that stands against it
            let direct = hard.contains(&(*to, *from));
            return Err(match direct {
                true => Circle::Pin { before: name(from), after: name(to) },
                false => Circle::Pins(vec![name(from), name(to)]),
            });
        }
        holds &= graph.add(*from, *to);
    }
    if !holds {
        let circle = circle(by_id.len(), &hard.union(&pinned).copied().collect());
        return Err(Circle::Pins(circle.iter().map(name).collect()));
    }
    let ends = |list: &[ItemId]| -> BTreeMap<usize, usize> {
        list.iter().enumerate().rev().filter_map(|(at, id)| Some((*place.get(id)?, at))).collect()
    };
    let (first, last) = (ends(&pins.first), ends(&pins.last));
    let class = |at: usize| match (first.get(&at), last.get(&at)) {
        (Some(at), _) => (0, *at),
        (_, Some(at)) => (2, *at),
        _ => (1, 0),
    };
    // hints that both sides give are heard first
    let mut hints: BTreeMap<(usize, usize), usize> = BTreeMap::new();
    for entry in &by_id {
        let asked = entry.after.iter().filter_map(|a| pair(a, &entry.id));
        for edge in asked.chain(entry.before.iter().filter_map(|b| pair(&entry.id, b))) {
            *hints.entry(edge).or_default() += 1;
        }
    }
    let mut hints: Vec<((usize, usize), usize)> = hints.into_iter().collect();
    hints.sort_by_key(|((from, to), sides)| (std::cmp::Reverse(*sides), *to, *from));
    let mut soft = Edges::new();
    let mut given_way = Vec::new();
    for ((from, to), _) in hints {
        let against = class(from).0 > class(to).0;
        if against || !graph.add(from, to) {
            given_way.push((name(&from), name(&to)));
        } else {
            soft.insert((from, to));
        }
    }
    let stands: BTreeMap<&ItemId, usize> = present.iter().enumerate().map(|(at, id)| (id, at)).collect();
    let mut base: Vec<usize> = (0..by_id.len()).collect();
    let at_rest = |at: &usize| {
        let entry = by_id[*at];
        (class(*at), entry.rank, stands.get(&entry.id).copied().unwrap_or(usize::MAX), *at)
    };
    base.sort_by_key(at_rest);
    let sorted = nearest::nearest(&base, &graph, |at| stands.get(&by_id[at].id).copied());
    let mut line_of: Vec<usize> = vec![0; by_id.len()];
    sorted.iter().enumerate().for_each(|(line, at)| line_of[*at] = line);
    let [pinned, hard, soft] = [pinned, hard, soft].map(|set| {
        let mut into: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
        set.iter().for_each(|(from, to)| into.entry(*to).or_default().push(*from));
        into
    });
    // the nearest one before it that an edge names
    let latest = |into: &BTreeMap<usize, Vec<usize>>, at: usize| {
        into.get(&at).into_iter().flatten().copied().max_by_key(|from| line_of[*from])
    };
    // the nearest one that the roster itself has it before
    let ahead = |id: &ItemId| {
        let there = pins.before.get(id).into_iter().flatten().filter_map(|o| place.get(o));
        there.copied().min_by_key(|at| line_of[*at]).map(|at| name(&at))
    };
    let mut why = Vec::new();
    for (line, at) in sorted.iter().enumerate() {
        let entry = by_id[*at];
        let before = line.checked_sub(1).and_then(|l| sorted.get(l)).map(|b| by_id[*b].rank);
        let (pin, need, hint) = (latest(&pinned, *at), latest(&hard, *at), latest(&soft, *at));
        why.push(match (class(*at).0, pin, ahead(&entry.id), need, hint) {
            (0, ..) => Why::First,
            (2, ..) => Why::Last,
            (_, Some(pin), ..) => Why::Pinned(name(&pin)),
            (_, _, Some(other), ..) => Why::Ahead(other),
            (_, _, _, Some(need), _) => Why::Needs(name(&need)),
            (_, _, _, _, Some(hint)) => Why::Asked(name(&hint)),
            _ if before.is_some_and(|b| b < entry.rank) => Why::Kind,
            _ if stands.contains_key(&entry.id) => Why::Stays,
            _ => Why::New,
        });
    }
    Ok(Ordered { order: sorted.iter().map(name).collect(), why, given_way })
}

/// The edges that the roster pins.
fn pinned(pins: &Pins, pair: &Pair<'_>) -> Edges {
    // those that are not there are passed over
    let there = |id: &&ItemId| pins.fixed.iter().any(|o| o != *id && pair(id, o).is_some());
    let fixed: Vec<&ItemId> = pins.fixed.iter().filter(there).collect();
    let chain = fixed.windows(2).filter_map(|w| pair(w[0], w[1]));
    let ends = pins.first.windows(2).chain(pins.last.windows(2)).filter_map(|w| pair(&w[0], &w[1]));
    let before = pins.before.iter().flat_map(|(id, all)| all.iter().filter_map(move |o| pair(id, o)));
    let after = pins.after.iter().flat_map(|(id, all)| all.iter().filter_map(move |o| pair(o, id)));
    chain.chain(ends).chain(before).chain(after).collect()
}

/// The members of a circle, where there is one.
fn circle(count: usize, edges: &Edges) -> Vec<usize> {
    let mut onward: Vec<Vec<usize>> = vec![Vec::new(); count];
    let mut waits = vec![0usize; count];
    for (from, to) in edges {
        onward[*from].push(*to);
        waits[*to] += 1;
    }
    let mut ready: Vec<usize> = (0..count).filter(|at| waits[*at] == 0).collect();
    while let Some(at) = ready.pop() {
        for to in &onward[at] {
            waits[*to] -= 1;
            if waits[*to] == 0 {
                ready.push(*to);
            }
        }
    }
    // what is left and reaches itself
    let reached = |from: usize| {
        let (mut seen, mut open) = (BTreeSet::new(), vec![from]);
        while let Some(at) = open.pop() {
            open.extend(onward[at].iter().copied().filter(|n| seen.insert(*n)));
        }
        seen
    };
    let left = (0..count).filter(|at| waits[*at] > 0);
    let first = left.map(|at| (at, reached(at))).find(|(at, all)| all.contains(at));
    let Some((first, all)) = first else { return Vec::new() };
    all.into_iter().filter(|at| reached(*at).contains(&first)).collect()
}

/// Returns the needs that a list of items in another order would break: (the item, what it needs).
pub fn broken(entries: &[Entry], list: &[ItemId]) -> Vec<(ItemId, ItemId)> {
    let place: BTreeMap<&ItemId, usize> = list.iter().enumerate().map(|(at, id)| (id, at)).collect();
    let of = |e: &Entry| {
        let late = |n: &&ItemId| matches!((place.get(n), place.get(&e.id)), (Some(n), Some(e)) if n > e);
        e.needs.iter().filter(late).map(|n| (e.id.clone(), n.clone())).collect::<Vec<_>>()
    };
    entries.iter().flat_map(of).collect()
}

#[cfg(test)]
mod tests;
