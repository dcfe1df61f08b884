//! Sets of places, as runs: what a term of a clause allows an item, or what is still open to it.
//!
//! An item's versions have the places 1, 2, 3… newest first; place 0 says that it is not there. A set is a list of runs
//! that ascend and neither touch nor overlap, so a range of five thousand versions is two numbers.

use smallvec::SmallVec;

/// Places from one to another, both included.
pub(super) type Run = (u32, u32);

/// A set of places: most are one run.
pub(super) type Runs = SmallVec<[Run; 2]>;

/// Whether no place is in both.
#[inline]
pub(super) fn apart(a: &[Run], b: &[Run]) -> bool {
    if let ([x], [y]) = (a, b) {
        return x.1 < y.0 || y.1 < x.0;
    }
    let (mut i, mut j) = (0, 0);
    while let (Some(x), Some(y)) = (a.get(i), b.get(j)) {
        if x.1 < y.0 {
            i += 1;
        } else if y.1 < x.0 {
            j += 1;
        } else {
            return false;
        }
    }
    true
}

/// Whether every place of the first is in the second.
#[inline]
pub(super) fn inside(a: &[Run], b: &[Run]) -> bool {
    if let ([x], [y]) = (a, b) {
        return y.0 <= x.0 && x.1 <= y.1;
    }
    let mut j = 0;
    a.iter().all(|x| {
        while b.get(j).is_some_and(|y| y.1 < x.0) {
            j += 1;
        }
        b.get(j).is_some_and(|y| y.0 <= x.0 && x.1 <= y.1)
    })
}

/// Whether a place is in it.
pub(super) fn has(a: &[Run], place: u32) -> bool {
    a.iter().any(|r| r.0 <= place && place <= r.1)
}

/// The one place that is left, if there is only one.
pub(super) fn only(a: &[Run]) -> Option<u32> {
    match a {
        [(first, last)] if first == last => Some(*first),
        _ => None,
    }
}

/// Returns the places that are in both.
pub(super) fn both<'a>(a: &'a [Run], b: &'a [Run]) -> impl Iterator<Item = Run> + 'a {
    let (mut i, mut j) = (0, 0);
    std::iter::from_fn(move || {
        while let (Some(x), Some(y)) = (a.get(i), b.get(j)) {
            let run = (x.0.max(y.0), x.1.min(y.1));
            if x.1 < y.1 {
                i += 1
            } else {
                j += 1
            }
            if run.0 <= run.1 {
                return Some(run);
            }
        }
        None
    })
}

/// Returns the places that are in either.
pub(super) fn either(a: &[Run], b: &[Run]) -> Runs {
    if a.is_empty() || b.is_empty() {
        return SmallVec::from_slice(if a.is_empty() { b } else { a });
    }
    let mut all: Runs = a.iter().chain(b).copied().collect();
    all.sort_unstable();
    let mut out = Runs::new();
    for run in all {
        match out.last_mut().filter(|last| run.0 <= last.1.saturating_add(1)) {
            Some(last) => last.1 = last.1.max(run.1),
            None => out.push(run),
        }
    }
    out
}

/// Returns the others of the places below `count`.
pub(super) fn rest(a: &[Run], count: u32) -> Runs {
    let mut out = Runs::new();
    let mut from = 0;
    for run in a {
        if run.0 > from {
            out.push((from, run.0 - 1));
        }
        from = run.1 + 1;
    }
    if from < count {
        out.push((from, count - 1));
    }
    out
}

/// Returns ascending places as runs.
pub(super) fn of(places: impl IntoIterator<Item = u32>) -> Runs {
    let mut out = Runs::new();
    for place in places {
        match out.last_mut().filter(|last| last.1 + 1 >= place) {
            Some(last) => last.1 = place,
            None => out.push((place, place)),
        }
    }
    out
}
