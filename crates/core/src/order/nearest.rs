//! The order that holds every edge and is nearest to a given one: as few pairs as possible stand the other way round.
//!
//! What no edge pulls apart stays as it is, so only the stretches between the ends of broken edges are looked at. A short one
//! is solved exactly, over all subsets; a long one is begun in two ways and improved until moving one item helps no more.

use std::collections::BTreeSet;

use super::graph::Graph;

/// Stretches up to so many items are solved exactly.
const MOST_EXACT: usize = 14;
/// Where one in so many stands before what it must stand behind, the present order is kept as far as it goes.
const FEW_LATE: usize = 10;
/// A longer one than this is left as it was begun.
const MOST_IMPROVED: usize = 6_000;

/// Returns the items of `base` in the nearest order that holds every edge; `stands` says where each stands at present, if it
/// does.
pub(super) fn nearest(base: &[usize], graph: &Graph, stands: impl Fn(usize) -> Option<usize>) -> Vec<usize> {
    let mut spot: Vec<usize> = vec![0; base.len()];
    base.iter().enumerate().for_each(|(at, id)| spot[*id] = at);
    let ahead = |at: usize| graph.before(base[at]).iter().map(|from| spot[*from]);
    let broken = (0..base.len()).filter_map(|at| Some((at, ahead(at).max().filter(|from| *from > at)?)));
    let mut stretches: Vec<(usize, usize)> = Vec::new();
    for (start, end) in broken {
        match stretches.last_mut() {
            Some((_, last)) if start <= *last => *last = end.max(*last),
            _ => stretches.push((start, end)),
        }
    }
    let mut out = base.to_vec();
    for (start, end) in stretches {
        // within a stretch, items are known by their place in it
        let inside = |at: usize| ahead(at).filter(|from| (start..=end).contains(from)).map(|from| from - start);
        let before: Vec<Vec<usize>> = (start..=end).map(|at| inside(at).collect()).collect();
        let sorted = if before.len() <= MOST_EXACT {
            exact(&before)
        } else {
            let mut old: Vec<usize> = (0..before.len()).filter(|at| stands(base[start + at]).is_some()).collect();
            old.sort_by_key(|at| stands(base[start + at]));
            long(&old, &before)
        };
        for (at, one) in sorted.into_iter().enumerate() {
            out[start + at] = base[start + one];
        }
    }
    out
}

/// The best of all orders, over which items are read already.
fn exact(before: &[Vec<usize>]) -> Vec<usize> {
    let count = before.len();
    let needs: Vec<usize> = before.iter().map(|b| b.iter().fold(0, |m, at| m | 1 << at)).collect();
    let full = (1usize << count) - 1;
    // for each set of items read: the least cost of reading the rest, and what is read next
    let mut best: Vec<(u32, u8)> = vec![(u32::MAX, 0); full + 1];
    best[full] = (0, 0);
    for read in (0..full).rev() {
        for (next, needed) in needs.iter().enumerate() {
            let bit = 1 << next;
            if read & bit != 0 || needed & !read != 0 || best[read | bit].0 == u32::MAX {
                continue;
            }
            // those that stood before it and are read after it
            let passed = (!read & (bit - 1)).count_ones();
            let cost = passed + best[read | bit].0;
            if cost < best[read].0 {
                best[read] = (cost, next as u8);
            }
        }
    }
    let (mut read, mut out) = (0, Vec::with_capacity(count));
    while read != full {
        let next = usize::from(best[read].1);
        out.push(next);
        read |= 1 << next;
    }
    out
}

/// A good order. Where the present one (nearly) holds the edges, it is kept, and only what must or is better off alone moves.
fn long(old: &[usize], before: &[Vec<usize>]) -> Vec<usize> {
    // what is there already, by its place at present
    let mut place: Vec<Option<usize>> = vec![None; before.len()];
    old.iter().enumerate().for_each(|(at, one)| place[*one] = Some(at));
    let needs: Vec<Vec<usize>> =
        old.iter().map(|one| before[*one].iter().filter_map(|n| place[*n]).collect()).collect();
    let late = needs.iter().enumerate().filter(|(at, needs)| needs.iter().any(|need| need > at)).count();
    let mended = if late == 0 { (0..old.len()).collect() } else { nearer(pushed(&needs), pulled(&needs)) };
    let kept = improved(mended.into_iter().map(|at| old[at]).collect(), before);
    match with_new(kept, before) {
        Some(kept) if late * FEW_LATE <= old.len() && !old.is_empty() => kept,
        Some(kept) => nearer(kept, begun(before)),
        None => begun(before),
    }
}

/// Puts what is new where it is best, among what is there; none where that must move for it.
fn with_new(mut out: Vec<usize>, before: &[Vec<usize>]) -> Option<Vec<usize>> {
    let there: BTreeSet<usize> = out.iter().copied().collect();
    let mut after: Vec<Vec<usize>> = vec![Vec::new(); before.len()];
    for (at, needs) in before.iter().enumerate() {
        needs.iter().for_each(|need| after[*need].push(at));
    }
    for one in pulled(before).into_iter().filter(|one| !there.contains(one)) {
        let from = out.iter().rposition(|o| before[one].contains(o)).map_or(0, |at| at + 1);
        let to = out.iter().position(|o| after[one].contains(o)).unwrap_or(out.len());
        // so many stand the other way round: those before it that are behind it in the base, and the other way
        let mut cost = out.iter().filter(|o| **o < one).count() as i64;
        let mut best = (i64::MAX, from);
        for (at, other) in out.iter().copied().chain(std::iter::once(usize::MAX)).enumerate() {
            if (from..=to).contains(&at) {
                best = best.min((cost, at));
            }
            cost += if other > one { 1 } else { -1 };
        }
        if from > to {
            return None;
        }
        out.insert(best.1, one);
    }
    Some(out)
}

/// A good order: what is late is pushed back, or what it waits for pulled forward, whichever is nearer; then improved.
fn begun(before: &[Vec<usize>]) -> Vec<usize> {
    let pushed = improved(pushed(before), before);
    let pulled = improved(pulled(before), before);
    nearer(pushed, pulled)
}

/// Returns the one in which fewer pairs stand the other way round, else the first.
fn nearer(a: Vec<usize>, b: Vec<usize>) -> Vec<usize> {
    if apart(&b) < apart(&a) { b } else { a }
}

fn pushed(before: &[Vec<usize>]) -> Vec<usize> {
    let mut after: Vec<Vec<usize>> = vec![Vec::new(); before.len()];
    for (at, needs) in before.iter().enumerate() {
        needs.iter().for_each(|need| after[*need].push(at));
    }
    let mut waits: Vec<usize> = before.iter().map(Vec::len).collect();
    let mut ready: BTreeSet<usize> = (0..before.len()).filter(|at| waits[*at] == 0).collect();
    let mut out = Vec::with_capacity(before.len());
    while let Some(next) = ready.pop_first() {
        out.push(next);
        for at in &after[next] {
            waits[*at] -= 1;
            if waits[*at] == 0 {
                ready.insert(*at);
            }
        }
    }
    out
}

fn pulled(before: &[Vec<usize>]) -> Vec<usize> {
    let mut out: Vec<usize> = Vec::with_capacity(before.len());
    let mut done = vec![false; before.len()];
    for at in 0..before.len() {
        let mut open = vec![at];
        while let Some(top) = open.last().copied() {
            match before[top].iter().copied().filter(|n| !done[*n]).min() {
                Some(next) => open.push(next),
                None => {
                    open.pop();
                    if !std::mem::replace(&mut done[top], true) {
                        out.push(top);
                    }
                }
            }
        }
    }
    out
}

/// Moves single items as far as it helps and the edges allow, until none helps.
fn improved(mut order: Vec<usize>, before: &[Vec<usize>]) -> Vec<usize> {
    if order.len() > MOST_IMPROVED {
        return order;
    }
    // of each item: how many smaller ones stand behind it, and how many greater ones before it
    let (mut behind, mut ahead) = (vec![0i64; before.len()], vec![0i64; before.len()]);
    for (at, one) in order.iter().enumerate() {
        for other in order.iter().skip(at + 1).filter(|other| *other < one) {
            behind[*one] += 1;
            ahead[*other] += 1;
        }
    }
    for _ in 0..order.len() {
        let mut moved = false;
        for at in 0..order.len() {
            let one = order[at];
            let (mut best, mut to) = (0i64, at);
            // forward: past those behind it, as long as none waits for it and there is something to be gained
            let (mut gain, mut left) = (0i64, behind[one]);
            for (next, other) in order.iter().enumerate().skip(at + 1) {
                if gain + left <= best || before[*other].contains(&one) {
                    break;
                }
                if *other < one {
                    (gain, left) = (gain + 1, left - 1)
                } else {
                    gain -= 1
                }
                if gain > best {
                    (best, to) = (gain, next);
                }
            }
            (gain, left) = (0, ahead[one]);
            for (next, other) in order.iter().enumerate().take(at).rev() {
                if gain + left <= best || before[one].contains(other) {
                    break;
                }
                if *other > one {
                    (gain, left) = (gain + 1, left - 1)
                } else {
                    gain -= 1
                }
                if gain > best {
                    (best, to) = (gain, next);
                }
            }
            if best == 0 {
                continue;
            }
            moved = true;
            for other in order[at.min(to)..=at.max(to)].iter().copied().filter(|o| *o != one) {
                // whether the two stood right before
                let right = (other > one) == (to > at);
                let (less, more) = (one.min(other), one.max(other));
                let change = if right { 1 } else { -1 };
                behind[more] += change;
                ahead[less] += change;
            }
            order.remove(at);
            order.insert(to, one);
        }
        if !moved {
            break;
        }
    }
    order
}

/// How many pairs stand the other way round.
fn apart(order: &[usize]) -> usize {
    let later = |at: usize| order.iter().skip(at + 1).filter(|o| **o < order[at]).count();
    (0..order.len()).map(later).sum()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn permutations(of: Vec<usize>) -> Vec<Vec<usize>> {
        if of.len() < 2 {
            return vec![of];
        }
        let mut out = Vec::new();
        for at in 0..of.len() {
            let mut rest = of.clone();
            let one = rest.remove(at);
            out.extend(permutations(rest).into_iter().map(|p| [vec![one], p].concat()));
        }
        out
    }

    fn holds(order: &[usize], edges: &BTreeSet<(usize, usize)>) -> bool {
        let place = |id: usize| order.iter().position(|o| *o == id);
        edges.iter().all(|(from, to)| place(*from) < place(*to))
    }

    proptest! {
        #[test]
        fn nothing_nearer_holds_the_edges(pairs in prop::collection::vec((0..6usize, 0..6usize), 0..7), shuffled in Just((0..6usize).collect::<Vec<_>>()).prop_shuffle()) {
            let edges: BTreeSet<(usize, usize)> = pairs.into_iter().filter(|(a, b)| a < b).collect();
            let graph = Graph::of(6, edges.iter().copied()).unwrap();
            let found = nearest(&shuffled, &graph, |_| None);
            prop_assert!(holds(&found, &edges));
            let rank = |order: &[usize]| {
                apart(&order.iter().map(|o| shuffled.iter().position(|s| s == o).unwrap()).collect::<Vec<_>>())
            };
            let least = permutations((0..6).collect()).into_iter().filter(|p| holds(p, &edges)).map(|p| rank(&p)).min();
            prop_assert_eq!(Some(rank(&found)), least);
        }

        #[test]
        fn what_is_begun_and_improved_holds_and_is_near(pairs in prop::collection::vec((0..9usize, 0..9usize), 1..9), shuffled in Just((0..9usize).collect::<Vec<_>>()).prop_shuffle()) {
            // items by their place in the shuffled order
            let place = |id: usize| shuffled.iter().position(|s| *s == id).unwrap();
            let mut before = vec![Vec::new(); 9];
            for (a, b) in pairs.iter().filter(|(a, b)| a < b) {
                before[place(*b)].push(place(*a));
            }
            let (long, short) = (begun(&before), exact(&before));
            let all: BTreeSet<(usize, usize)> = before.iter().enumerate().flat_map(|(to, b)| b.iter().map(move |f| (*f, to))).collect();
            prop_assert!(holds(&long, &all));
            prop_assert!(apart(&long) <= 2 * apart(&short) + 1, "{} {}", apart(&long), apart(&short));
        }
    }
}
