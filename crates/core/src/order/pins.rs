//! A list of the administrator's own, as pins.

use std::collections::{BTreeMap, BTreeSet};

use super::{Entry, order};
use crate::id::ItemId;
use crate::roster::Pins;

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
