//! The load order: in which order the server reads the items.
//!
//! Needs always hold, and so does what the roster pins. Hints (`after`, `before`) give way where they would close a circle or
//! stand against a pin, those that only one side gives before those that both give. Among all orders that the edges allow, the
//! one nearest to what would be without them is taken: pinned first and last, kinds by rank, then the present order, then new
//! items by id. So an unrelated addition moves nothing.

mod graph;
mod nearest;

use std::collections::{BTreeMap, BTreeSet};

use thiserror::Error;

use graph::Graph;

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

/// So many pins more are tried for an item that moved.
const MORE_PINS: usize = 3;

/// Returns pins that bring a list of all items out in its order, with few words: what was moved is pinned behind, or before,
/// its neighbour, beside what is pinned already. `None` where the list itself says it better.
pub fn pins_for(entries: &[Entry], pins: &Pins, present: &[ItemId], list: &[ItemId]) -> Option<Pins> {
    let stood = order(entries, pins, present).ok()?.order;
    let stood: BTreeMap<&ItemId, usize> = stood.iter().enumerate().map(|(at, id)| (id, at)).collect();
    let was: Vec<usize> = list.iter().filter_map(|id| stood.get(id).copied()).collect();
    let stays = longest_ascending(&was);
    let moved: Vec<usize> = (0..was.len()).filter(|at| !stays.contains(at)).collect();
    if was.len() != list.len() || moved.len() > (list.len() / 4).max(3) {
        return None;
    }
    let mut out = pins.clone();
    for at in &moved {
        // behind the two before it, or before the two behind it: with one alone, that one could move instead
        let (id, later) = (list[*at].clone(), *at > was[*at]);
        let beside = if later { at.saturating_sub(2)..*at } else { at + 1..(at + 3).min(list.len()) };
        let side = if later { &mut out.after } else { &mut out.before };
        side.entry(id).or_default().extend_from_slice(&list[beside]);
    }
    let place: BTreeMap<&ItemId, usize> = list.iter().enumerate().map(|(at, id)| (id, at)).collect();
    for _ in 0..=moved.len() * MORE_PINS {
        let found = order(entries, &out, present).ok()?.order;
        if found == list {
            return Some(out);
        }
        // what still stands on the wrong side of one that moved: the farthest says the most
        let places: Vec<usize> = found.iter().filter_map(|id| place.get(id).copied()).collect();
        let pair = |(at, one): (usize, usize)| {
            let wrong = places.iter().enumerate().filter(|(other, place)| (*other < at) != (**place < one));
            wrong.map(|(_, other)| (other.abs_diff(one), one, *other)).max()
        };
        let of_moved = places.iter().copied().enumerate().filter(|(_, one)| moved.contains(one));
        let (_, one, other) = of_moved.filter_map(pair).max()?;
        let side = if other < one { &mut out.after } else { &mut out.before };
        side.entry(list[one].clone()).or_default().push(list[other].clone());
    }
    None
}

/// Returns the places of a longest ascending part.
fn longest_ascending(of: &[usize]) -> BTreeSet<usize> {
    // of each length, the place of the least end; of each place, the one before it
    let mut ends: Vec<usize> = Vec::new();
    let mut before: Vec<Option<usize>> = Vec::new();
    for (at, value) in of.iter().enumerate() {
        let len = ends.partition_point(|end| of[*end] < *value);
        before.push(len.checked_sub(1).map(|l| ends[l]));
        if len == ends.len() { ends.push(at) } else { ends[len] = at }
    }
    std::iter::successors(ends.last().copied(), |at| before[*at]).collect()
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
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn id(text: &str) -> ItemId {
        ItemId::new(text).unwrap()
    }

    fn entry(name: &str, needs: &[&str], after: &[&str]) -> Entry {
        let ids = |list: &[&str]| list.iter().map(|n| id(n)).collect();
        Entry { id: id(name), rank: 0, needs: ids(needs), after: ids(after), before: Vec::new() }
    }

    fn names(ordered: &Ordered) -> Vec<&str> {
        ordered.order.iter().map(ItemId::as_str).collect()
    }

    #[test]
    fn needs_come_first_and_hints_are_heard() {
        let entries = [entry("a", &["z"], &[]), entry("b", &[], &["a"]), entry("z", &[], &["nobody"])];
        assert_eq!(names(&order(&entries, &Pins::default(), &[]).unwrap()), ["z", "a", "b"]);
    }

    #[test]
    fn an_unrelated_addition_moves_nothing() {
        let present = [id("m"), id("b"), id("x")];
        let mut entries = vec![entry("b", &[], &[]), entry("m", &[], &[]), entry("x", &[], &[])];
        assert_eq!(names(&order(&entries, &Pins::default(), &present).unwrap()), ["m", "b", "x"]);
        entries.push(entry("a", &[], &[]));
        assert_eq!(names(&order(&entries, &Pins::default(), &present).unwrap()), ["m", "b", "x", "a"]);
    }

    #[test]
    fn a_hint_gives_way_and_a_need_does_not() {
        let entries = [entry("a", &["b"], &[]), entry("b", &[], &["a"])];
        let ordered = order(&entries, &Pins::default(), &[]).unwrap();
        assert_eq!(names(&ordered), ["b", "a"]);
        assert_eq!(ordered.given_way, [(id("a"), id("b"))]);
        let circle =
            order(&[entry("a", &["b"], &[]), entry("b", &["a"], &[]), entry("c", &["a"], &[])], &Pins::default(), &[])
                .unwrap_err();
        assert!(matches!(&circle, Circle::Needs { members, .. } if *members == [id("a"), id("b")]));
        assert!(
            circle.to_string().starts_with("a and b need each other in a circle (b needs a, a needs b), so"),
            "{circle}"
        );
    }

    #[test]
    fn pins_beat_hints_and_not_needs() {
        let entries = [entry("a", &[], &["c"]), entry("b", &[], &[]), entry("c", &[], &[]), entry("d", &["b"], &[])];
        let ids = |list: &[&str]| list.iter().map(|n| id(n)).collect::<Vec<_>>();
        let mut pins = Pins { first: ids(&["a"]), ..Pins::default() };
        let ordered = order(&entries, &pins, &[]).unwrap();
        assert_eq!(names(&ordered), ["a", "b", "c", "d"]);
        assert_eq!((&ordered.why[0], &ordered.why[3]), (&Why::First, &Why::Needs(id("b"))));
        assert_eq!(ordered.given_way, [(id("c"), id("a"))], "the hint gives way to the roster");
        pins = Pins { last: ids(&["b"]), after: [(id("c"), ids(&["d", "gone"]))].into(), ..Pins::default() };
        assert_eq!(names(&order(&entries, &pins, &[]).unwrap()), ["b", "d", "c", "a"]);
        pins = Pins { fixed: ids(&["d", "gone", "c", "b"]), ..Pins::default() };
        let against = order(&entries, &pins, &[]).unwrap_err().to_string();
        assert!(against.contains("[order]") && against.contains('d') && against.contains('b'), "{against}");
        pins = Pins { fixed: ids(&["d", "b"]), ..Pins::default() };
        let against = order(&entries, &pins, &[]).unwrap_err();
        assert_eq!(against, Circle::Pin { before: id("d"), after: id("b") });
        pins = Pins { before: [(id("a"), ids(&["b"])), (id("b"), ids(&["a"]))].into(), ..Pins::default() };
        assert_eq!(order(&entries, &pins, &[]).unwrap_err(), Circle::Pins(ids(&["a", "b"])));
        assert_eq!(broken(&entries, &ids(&["d", "b"])), [(id("d"), id("b"))]);
    }

    #[test]
    fn a_data_pack_to_the_front() {
        let mut entries = vec![
            entry("core", &[], &[]),
            entry("gull", &[], &[]),
            entry("lock", &[], &[]),
            entry("chest", &["lock"], &[]),
            entry("quarry", &[], &[]),
            entry("slate", &[], &["quarry"]),
        ];
        entries[0].rank = -1;
        entries[4].rank = 2;
        entries[5].rank = 2;
        let ids = |list: &[&str]| list.iter().map(|n| id(n)).collect::<Vec<_>>();
        let stood = ids(&["core", "gull", "lock", "chest", "quarry", "slate"]);
        let list = ids(&["slate", "core", "gull", "lock", "chest", "quarry"]);
        let pins = pins_for(&entries, &Pins::default(), &stood, &list);
        let pins = pins.unwrap();
        assert_eq!(pins.before, [(id("slate"), ids(&["core", "gull", "quarry"]))].into());
        let why = order(&entries, &pins, &stood).unwrap().why;
        assert_eq!((&why[0], &why[1]), (&Why::Ahead(id("core")), &Why::Pinned(id("slate"))));
    }

    #[test]
    fn a_list_of_ones_own_becomes_few_pins() {
        let (entries, present) = many(97);
        let stood = order(&entries, &Pins::default(), &present).unwrap().order;
        let (mut tried, mut allowed) = (0, 0);
        for (from, to) in (0..97).flat_map(|from| [(from, (from * 31 + 5) % 97), (from, (from + 1) % 97)]) {
            let mut list = stood.clone();
            let one = list.remove(from);
            list.insert(to, one);
            if !broken(&entries, &list).is_empty() {
                continue;
            }
            allowed += 1;
            if let Some(pins) = pins_for(&entries, &Pins::default(), &stood, &list) {
                tried += 1;
                assert_eq!(order(&entries, &pins, &stood).unwrap().order, list);
                assert!(pins.fixed.is_empty() && pins.after.len() + pins.before.len() <= 4, "{pins:?}");
            }
        }
        assert!(allowed > 40 && tried * 3 > allowed * 2, "{tried} of {allowed}");
        let backwards: Vec<ItemId> = (0..9).rev().map(|n| id(&format!("i{n}"))).collect();
        let plain: Vec<Entry> = (0..9).map(|n| entry(&format!("i{n}"), &[], &[])).collect();
        assert_eq!(pins_for(&plain, &Pins::default(), &[], &backwards), None, "the list says it better");
    }

    /// A server of very many items, with needs, hints and kinds; the present order is by id.
    fn many(count: usize) -> (Vec<Entry>, Vec<ItemId>) {
        let name = |n: usize| format!("i{n:05}");
        let one = |n: usize| {
            let other = |times: usize| name((n * times + 7) % count);
            let mut out = entry(&name(n), &[], &[]);
            out.rank = (n % 3) as i32;
            // needs lead to what has a smaller number times 7, so they go in no circle
            let deep = |n: usize| (n * 7919) % count;
            out.needs.extend(
                [other(31), other(57)].iter().filter(|o| deep(o[1..].parse().unwrap()) < deep(n)).map(|o| id(o)),
            );
            out.after.extend(n.is_multiple_of(4).then(|| id(&other(13))));
            out.before.extend(n.is_multiple_of(5).then(|| id(&other(17))));
            out
        };
        ((0..count).map(one).collect(), (0..count).map(|n| id(&name(n))).collect())
    }

    #[test]
    fn hundreds_and_thousands_are_put_in_order_and_stay_there() {
        for count in [601, 2_003] {
            put_in_order_and_stays(count);
        }
    }

    fn put_in_order_and_stays(count: usize) {
        let (mut entries, present) = many(count);
        let ordered = order(&entries, &Pins::default(), &present).unwrap();
        assert_eq!(broken(&entries, &ordered.order), []);
        let place: BTreeMap<&ItemId, usize> = ordered.order.iter().enumerate().map(|(at, id)| (id, at)).collect();
        let hints = entries.iter().flat_map(|e| {
            let after = e.after.iter().map(|a| (a.clone(), e.id.clone()));
            after.chain(e.before.iter().map(|b| (e.id.clone(), b.clone())))
        });
        let (mut heard, mut gave_way) = (0, 0);
        for hint in hints.filter(|(from, to)| from != to) {
            let holds = place[&hint.0] < place[&hint.1];
            assert!(holds || ordered.given_way.contains(&hint), "{hint:?} is neither heard nor told");
            if holds { heard += 1 } else { gave_way += 1 }
        }
        assert!(heard > count / 4 && gave_way > 2, "{heard} {gave_way}");
        // one more moves nothing
        entries.push(entry("zz", &["i00001"], &[]));
        let again = order(&entries, &Pins::default(), &ordered.order).unwrap();
        let old: Vec<&ItemId> = again.order.iter().filter(|i| i.as_str() != "zz").collect();
        let moved = old.iter().zip(&ordered.order).filter(|(a, b)| **a != *b).count();
        assert_eq!(moved, 0);
    }

    proptest! {
        #[test]
        fn every_hard_edge_holds(pairs in prop::collection::vec((0..12usize, 0..12usize), 0..20), hints in prop::collection::vec((0..12usize, 0..12usize), 0..10), shift in 0..12usize) {
            let name = |n: usize| format!("i{n}");
            let mut entries: Vec<Entry> = (0..12).map(|n| entry(&name(n), &[], &[])).collect();
            for (a, b) in pairs.iter().filter(|(a, b)| a < b) {
                entries[*b].needs.push(id(&name(*a)));
            }
            for (a, b) in &hints {
                entries[*a].before.push(id(&name(*b)));
            }
            let present: Vec<ItemId> = (0..12).map(|n| id(&name((n * 5 + shift) % 12))).collect();
            let ordered = order(&entries, &Pins::default(), &present).unwrap();
            let place = |i: &ItemId| ordered.order.iter().position(|o| o == i).unwrap();
            prop_assert_eq!(ordered.order.len(), 12);
            for e in &entries {
                for need in &e.needs {
                    prop_assert!(place(need) < place(&e.id));
                }
            }
            let mut shuffled = entries.clone();
            shuffled.reverse();
            prop_assert_eq!(&order(&shuffled, &Pins::default(), &present).unwrap().order, &ordered.order);
            prop_assert_eq!(&order(&entries, &Pins::default(), &ordered.order).unwrap().order, &ordered.order, "an order stays");
        }
    }
}
