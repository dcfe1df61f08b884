//! Finds a smallest set of rules that cannot all hold, by taking away whatever leaves it impossible: large pieces first,
//! at last one by one. Each try is over the clauses of those rules alone, so it is quick however large the world is.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use super::super::runs::Runs;
use super::{Followed, Origin, Search, Term};

/// After so many conflicts in all, what is found is left as it is: a few rules too many are told then.
pub(in crate::solve) const PATIENCE: usize = 100;

/// Of more units than these, several are taken away at once at first.
const MANY: usize = 100;

/// A clause of a rule, by itself: items, and where one of them must be.
pub(in crate::solve) type Claim = Vec<(u32, Runs)>;

/// Returns which of some units (each all the clauses of some rules) cannot all hold, by their places: without any one of
/// them the others can. `count` says how many places an item has.
pub(in crate::solve) fn least(units: &[Vec<Claim>], count: impl Fn(u32) -> u32, budget: &mut usize) -> Vec<usize> {
    let spoken: BTreeSet<u32> = units.iter().flatten().flatten().map(|(item, _)| *item).collect();
    let number: BTreeMap<u32, u32> = spoken.iter().copied().zip(0..).collect();
    let counts: Vec<u32> = spoken.iter().map(|item| count(*item)).collect();
    // what another one says already goes first
    let mut said: HashSet<&[Claim]> = HashSet::new();
    let mut kept: Vec<usize> = (0..units.len()).filter(|unit| said.insert(&units[*unit])).collect();
    let mut size = (kept.len() / MANY).max(1);
    loop {
        let mut from = 0;
        while from < kept.len() && *budget > 0 {
            let end = (from + size).min(kept.len());
            let left = kept.iter().enumerate().filter(|(at, _)| *at < from || *at >= end).map(|(_, unit)| *unit);
            match try_with(units, left, &number, &counts, budget) {
                // those in front are needed: they were tried already
                Some(core) => {
                    let is_kept = |unit: &usize| core.binary_search(&(*unit as Origin)).is_ok();
                    let needed = kept.iter().take(from).filter(|u| is_kept(u)).count();
                    kept.retain(is_kept);
                    from = needed;
                }
                None => from = end,
            }
        }
        if size <= 1 {
            return kept;
        }
        size = size.div_ceil(2);
    }
}

/// Searches with some of the units; the ones at fault, ascending, where there is no way.
fn try_with(
    units: &[Vec<Claim>],
    some: impl Iterator<Item = usize>,
    number: &BTreeMap<u32, u32>,
    counts: &[u32],
    budget: &mut usize,
) -> Option<Vec<Origin>> {
    let mut search = Search::with_room(units.iter().map(Vec::len).sum());
    for count in counts {
        search.item(*count, []);
    }
    for unit in some {
        for claim in &units[unit] {
            let terms: Vec<Term> = claim
                .iter()
                .map(|(item, places)| Term {
                    item: number.get(item).copied().unwrap_or_default(),
                    set: search.set(places.iter().copied()),
                })
                .collect();
            search.clause(&terms, unit as Origin);
        }
    }
    let mut at = 0;
    loop {
        match search.follow() {
            Followed::Impossible(core) => return Some(core),
            // where it takes too long, what is known to be at fault is left as it is
            Followed::Back(_) if *budget == 0 => return None,
            Followed::Back(_) => {
                *budget -= 1;
                at = 0;
            }
            Followed::Rest => {
                let item = (at..counts.len() as u32).find(|item| search.place(*item).is_none())?;
                at = item;
                // what need not be there is not
                let first = search.open(item).first().map_or(0, |run| run.0);
                search.decide(item, first);
            }
        }
    }
}
