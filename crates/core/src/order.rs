//! The load order: in which order the server reads the items.
//!
//! Hard edges (an item's needs) always hold; soft edges (`after`, `before` hints) give way, the later item's
//! first, when they would close a circle. Among what the edges allow: kinds by rank, then the present order,
//! then new items by id. So an unrelated addition moves nothing.

use std::collections::{BTreeMap, BTreeSet};

use thiserror::Error;

use crate::id::ItemId;

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

/// The load order.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Ordered {
    /// The items, first read first.
    pub order: Vec<ItemId>,
    /// Hints that gave way: (earlier, later).
    pub given_way: Vec<(ItemId, ItemId)>,
}

/// Needs that go in a circle.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{} need each other in a circle, so none can be read first; drop one of them, or take a version without that need", crate::text::listed(&.members.iter().map(ToString::to_string).collect::<Vec<_>>()))]
pub struct Circle {
    /// Its members.
    pub members: Vec<ItemId>,
}

/// Puts items in load order; `present` is the order they have now.
///
/// # Errors
/// [`Circle`] when needs alone go in a circle.
pub fn order(entries: &[Entry], present: &[ItemId]) -> Result<Ordered, Circle> {
    let known: BTreeSet<&ItemId> = entries.iter().map(|e| &e.id).collect();
    let mut edges: BTreeSet<(ItemId, ItemId)> = BTreeSet::new();
    let add = |edges: &mut BTreeSet<(ItemId, ItemId)>, from: &ItemId, to: &ItemId| {
        if from != to && known.contains(from) && known.contains(to) {
            edges.insert((from.clone(), to.clone()));
        }
    };
    for entry in entries {
        for need in &entry.needs {
            add(&mut edges, need, &entry.id);
        }
    }
    let hard = edges.clone();
    if let Err(members) = sort(entries, &hard, present) {
        return Err(Circle { members });
    }
    let mut soft: Vec<(ItemId, ItemId)> = Vec::new();
    let mut by_id: Vec<&Entry> = entries.iter().collect();
    by_id.sort_by(|a, b| a.id.cmp(&b.id));
    for entry in by_id {
        soft.extend(entry.after.iter().map(|a| (a.clone(), entry.id.clone())));
        soft.extend(entry.before.iter().map(|b| (entry.id.clone(), b.clone())));
    }
    let mut given_way = Vec::new();
    for (from, to) in soft {
        if reaches(&edges, &to, &from) {
            given_way.push((from, to));
        } else {
            add(&mut edges, &from, &to);
        }
    }
    let order = sort(entries, &edges, present).map_err(|members| Circle { members })?;
    Ok(Ordered { order, given_way })
}

fn reaches(edges: &BTreeSet<(ItemId, ItemId)>, from: &ItemId, to: &ItemId) -> bool {
    let mut seen = BTreeSet::from([from.clone()]);
    let mut open = vec![from.clone()];
    while let Some(at) = open.pop() {
        if at == *to {
            return true;
        }
        for (_, next) in edges.range((at.clone(), first_id())..).take_while(|(f, _)| *f == at) {
            if seen.insert(next.clone()) {
                open.push(next.clone());
            }
        }
    }
    false
}

/// The least id there is, to begin a range with.
fn first_id() -> ItemId {
    ItemId::least()
}

/// Reads out what nothing unread stands before, the first by rank, present place and id; or the members of a circle.
fn sort(entries: &[Entry], edges: &BTreeSet<(ItemId, ItemId)>, present: &[ItemId]) -> Result<Vec<ItemId>, Vec<ItemId>> {
    let place: BTreeMap<&ItemId, usize> = present.iter().enumerate().map(|(at, id)| (id, at)).collect();
    let mut waits: BTreeMap<&ItemId, usize> = entries.iter().map(|e| (&e.id, 0)).collect();
    for (_, to) in edges {
        if let Some(count) = waits.get_mut(to) {
            *count += 1;
        }
    }
    let key = |e: &Entry| (e.rank, place.get(&e.id).copied().unwrap_or(usize::MAX), e.id.clone());
    let keys: BTreeMap<&ItemId, _> = entries.iter().map(|e| (&e.id, key(e))).collect();
    let mut ready: BTreeSet<_> = waits.iter().filter(|(_, c)| **c == 0).filter_map(|(id, _)| keys.get(*id)).collect();
    let mut out = Vec::new();
    while let Some(next) = ready.pop_first() {
        let id = &next.2;
        out.push(id.clone());
        for (_, to) in edges.range((id.clone(), first_id())..).take_while(|(from, _)| from == id) {
            if let Some(count) = waits.get_mut(to) {
                *count -= 1;
                if *count == 0 {
                    ready.extend(keys.get(to));
                }
            }
        }
    }
    if out.len() == waits.len() {
        return Ok(out);
    }
    // what is left and reaches itself is in a circle
    let left = waits.keys().filter(|id| !out.contains(id));
    Err(left
        .filter(|id| {
            edges
                .range(((**id).clone(), first_id())..)
                .take_while(|(f, _)| f == **id)
                .any(|(_, to)| reaches(edges, to, id))
        })
        .map(|id| (*id).clone())
        .collect())
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
        assert_eq!(names(&order(&entries, &[]).unwrap()), ["z", "a", "b"]);
    }

    #[test]
    fn an_unrelated_addition_moves_nothing() {
        let present = [id("m"), id("b"), id("x")];
        let mut entries = vec![entry("b", &[], &[]), entry("m", &[], &[]), entry("x", &[], &[])];
        assert_eq!(names(&order(&entries, &present).unwrap()), ["m", "b", "x"]);
        entries.push(entry("a", &[], &[]));
        assert_eq!(names(&order(&entries, &present).unwrap()), ["m", "b", "x", "a"]);
    }

    #[test]
    fn a_hint_gives_way_and_a_need_does_not() {
        let entries = [entry("a", &["b"], &[]), entry("b", &[], &["a"])];
        let ordered = order(&entries, &[]).unwrap();
        assert_eq!(names(&ordered), ["b", "a"]);
        assert_eq!(ordered.given_way, [(id("a"), id("b"))]);
        let circle =
            order(&[entry("a", &["b"], &[]), entry("b", &["a"], &[]), entry("c", &["a"], &[])], &[]).unwrap_err();
        assert_eq!(circle.members, [id("a"), id("b")]);
        assert!(circle.to_string().starts_with("a and b need each other in a circle"));
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
            let ordered = order(&entries, &present).unwrap();
            let place = |i: &ItemId| ordered.order.iter().position(|o| o == i).unwrap();
            prop_assert_eq!(ordered.order.len(), 12);
            for e in &entries {
                for need in &e.needs {
                    prop_assert!(place(need) < place(&e.id));
                }
            }
            let mut shuffled = entries.clone();
            shuffled.reverse();
            prop_assert_eq!(&order(&shuffled, &present).unwrap().order, &ordered.order);
            prop_assert_eq!(&order(&entries, &ordered.order).unwrap().order, &ordered.order, "an order stays");
        }
    }
}
