//! A conflict-driven search over items, each of which ends at one of its places (see [`super::runs`]): it learns from
//! conflicts, jumps back over what is not at fault, and knows of everything it learnt from which rules it follows.
//!
//! A *term* says that an item is at one of some places; a *clause*, that one of its terms holds. Each item stands in a
//! clause once. Clauses may be added at any time, also while something is decided. What is decided next is the caller's
//! business: [`Search::follow`] goes on until nothing follows of itself any more.

mod learn;
mod least;

use std::collections::HashMap;

use smallvec::{SmallVec, smallvec};

use super::runs::{Run, Runs, apart, both, inside, only};

pub(super) use least::{Claim, PATIENCE, least};

/// The rule that a clause comes from.
pub(super) type Origin = u32;

const LEARNT: Origin = u32::MAX;
const NONE: u32 = u32::MAX;
/// Of a set: it lies with what is taken back.
const LOOSE: u32 = 1 << 31;

/// Some places, by where their runs lie.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Set {
    start: u32,
    len: u32,
}

/// An item is at one of these places.
#[derive(Debug, Clone, Copy)]
pub(super) struct Term {
    pub(super) item: u32,
    pub(super) set: Set,
}

#[derive(Clone, Copy)]
struct Clause {
    start: u32,
    len: u32,
    /// A rule, or [`LEARNT`].
    origin: Origin,
    /// For a learnt clause: where its parents begin, and how many they are.
    parents: (u32, u32),
}

#[derive(Clone, Copy)]
struct Watch {
    clause: u32,
    set: Set,
}

/// How an item came to where it stands.
#[derive(Clone, Copy)]
struct Entry {
    item: u32,
    /// The clause that it follows from; [`NONE`] for a decision.
    why: u32,
    level: u32,
    /// What was open to it before, and the entry that it had come from.
    before: Set,
    previous: u32,
}

#[derive(Clone, Copy)]
struct Now {
    open: Set,
    /// Its newest entry; [`NONE`] before the first.
    last: u32,
    /// So many places it has.
    count: u32,
    /// The clauses that say where it can never be: the first, and how many.
    barred: (u32, u32),
}

/// What came of following.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Followed {
    /// Nothing more follows.
    Rest,
    /// There was a conflict; this level was gone back to, and what was learnt holds now.
    Back(usize),
    /// There is no way; the rules that are at fault.
    Impossible(Vec<Origin>),
}

/// The clauses, and what is open to each item at present.
#[derive(Clone, Default)]
pub(super) struct Search {
    /// The runs of sets that stay.
    runs: Vec<Run>,
    /// The runs of sets that are taken back with the decisions they follow from.
    loose: Vec<Run>,
    terms: Vec<Term>,
    clauses: Vec<Clause>,
    parents: Vec<u32>,
    items: Vec<Now>,
    watches: Vec<Vec<Watch>>,
    trail: Vec<Entry>,
    /// Before each decision: how long the trail and the loose runs were.
    levels: Vec<(u32, u32)>,
    next: usize,
    /// A clause that is false whatever is decided.
    broken: Option<u32>,
    /// New clauses that were false when they came.
    waiting: Vec<u32>,
    /// Clauses of one term that came while something was decided: they hold again after each step back.
    units: Vec<u32>,
    /// For [`Search::analyse`]: where an item stands in the clause that is learnt.
    seat: Vec<u32>,
}

impl Search {
    /// Returns a search with room for so many clauses.
    fn with_room(clauses: usize) -> Self {
        let mut out = Self::default();
        out.clauses.reserve(clauses);
        out.terms.reserve(clauses * 2);
        out.runs.reserve(clauses * 4);
        out
    }

    /// Adds an item of so many places; with each rule, the places where it can never be.
    pub(super) fn item(&mut self, count: u32, barred: impl IntoIterator<Item = (Runs, Origin)>) -> u32 {
        let item = self.items.len() as u32;
        let mut open: Runs = smallvec![(0, count.saturating_sub(1))];
        let first = self.clauses.len() as u32;
        for (places, origin) in barred {
            let set = super::runs::rest(&places, count);
            open = both(&open, &set).collect();
            let set = self.set(set);
            self.terms.push(Term { item, set });
            let start = self.terms.len() as u32 - 1;
            self.clauses.push(Clause { start, len: 1, origin, parents: (0, 0) });
        }
        let barred = (first, self.clauses.len() as u32 - first);
        let open = self.set(open);
        self.items.push(Now { open, last: NONE, count, barred });
        self.watches.push(Vec::new());
        self.seat.push(NONE);
        item
    }

    /// Keeps a set for good.
    pub(super) fn set(&mut self, runs: impl IntoIterator<Item = Run>) -> Set {
        let start = self.runs.len() as u32;
        self.runs.extend(runs);
        Set { start, len: self.runs.len() as u32 - start }
    }

    /// Returns the runs of a set.
    pub(super) fn places(&self, set: Set) -> &[Run] {
        let all = if set.start & LOOSE == 0 { &self.runs } else { &self.loose };
        let start = (set.start & !LOOSE) as usize;
        &all[start..start + set.len as usize]
    }

    /// Returns what is open to an item.
    pub(super) fn open(&self, item: u32) -> &[Run] {
        self.places(self.items[item as usize].open)
    }

    /// Returns the place of an item that has no other; 0 says that it is not there.
    pub(super) fn place(&self, item: u32) -> Option<u32> {
        only(self.open(item))
    }

    /// Returns how many places an item has.
    pub(super) fn count(&self, item: u32) -> u32 {
        self.items[item as usize].count
    }

    /// Returns the items that were narrowed down, in order, from the `from`-th on.
    pub(super) fn narrowed(&self, from: usize) -> impl Iterator<Item = u32> + '_ {
        self.trail.iter().skip(from).map(|e| e.item)
    }

    /// Returns how often items were narrowed down.
    pub(super) fn steps(&self) -> usize {
        self.trail.len()
    }

    fn is_false(&self, term: Term) -> bool {
        apart(self.open(term.item), self.places(term.set))
    }

    fn is_true(&self, term: Term) -> bool {
        inside(self.open(term.item), self.places(term.set))
    }

    /// Adds a clause: one of its terms must hold. Terms of one item are joined.
    pub(super) fn clause(&mut self, terms: &[Term], origin: Origin) {
        let mut all: SmallVec<[Term; 4]> = SmallVec::from_slice(terms);
        all.sort_by_key(|t| t.item);
        for at in (1..all.len()).rev() {
            if all[at].item == all[at - 1].item {
                let runs = super::runs::either(self.places(all[at - 1].set), self.places(all[at].set));
                all[at - 1].set = self.set(runs);
                // emptied, and left out below
                all[at].set = Set { start: 0, len: 0 };
            }
        }
        if all.iter().any(|t| *self.places(t.set) == [(0, self.count(t.item) - 1)]) {
            return;
        }
        all.retain(|t| t.set.len > 0);
        let at = self.keep(&mut all, origin, (0, 0));
        self.heed(at);
    }

    /// Decides that an item is at a place that is open to it.
    pub(super) fn decide(&mut self, item: u32, place: u32) {
        self.levels.push((self.trail.len() as u32, self.loose.len() as u32));
        let start = self.loose.len() as u32;
        self.loose.push((place, place));
        self.move_to(item, Set { start: start | LOOSE, len: 1 }, NONE);
    }

    /// Takes decisions back until so many stand.
    pub(super) fn back_to(&mut self, level: usize) {
        let Some((keep, loose)) = self.levels.get(level).copied() else { return };
        while self.trail.len() > keep as usize {
            let Some(entry) = self.trail.pop() else { break };
            let now = &mut self.items[entry.item as usize];
            (now.open, now.last) = (entry.before, entry.previous);
        }
        self.loose.truncate(loose as usize);
        self.levels.truncate(level);
        self.next = self.next.min(self.trail.len());
        for clause in std::mem::take(&mut self.units) {
            if level > 0 {
                self.units.push(clause);
            }
            self.apply(clause);
        }
    }

    /// Goes on until nothing follows of itself, or one conflict was learnt from.
    pub(super) fn follow(&mut self) -> Followed {
        if let Some(clause) = self.broken {
            return Followed::Impossible(self.faults(clause));
        }
        let Some(conflict) = self.late().or_else(|| self.propagate()) else { return Followed::Rest };
        // a clause that came late may be false since an earlier level
        let deepest = self.terms_of(conflict).iter().map(|t| self.level_of(self.false_since(*t))).max().unwrap_or(0);
        if deepest == 0 {
            self.broken = Some(conflict);
            return Followed::Impossible(self.faults(conflict));
        }
        self.back_to(deepest as usize);
        let (mut learnt, parents, back) = self.analyse(conflict);
        self.back_to(back);
        let at = self.keep(&mut learnt, LEARNT, parents);
        if let Some(first) = learnt.first() {
            self.narrow(*first, at);
        }
        Followed::Back(back)
    }

    /// A clause that came late and is still false.
    fn late(&mut self) -> Option<u32> {
        while let Some(clause) = self.waiting.pop() {
            if self.terms_of(clause).iter().all(|t| self.is_false(*t)) {
                return Some(clause);
            }
            if self.terms_of(clause).len() == 1 {
                self.apply(clause);
                continue;
            }
            self.watch_anew(clause);
            self.heed(clause);
        }
        None
    }

    /// Returns the clauses of some rules, by themselves.
    pub(super) fn claims(&self, origins: &[Origin]) -> HashMap<Origin, Vec<Claim>> {
        let mut out: HashMap<Origin, Vec<Claim>> = origins.iter().map(|o| (*o, Vec::new())).collect();
        for (at, clause) in self.clauses.iter().enumerate() {
            if let Some(claims) = out.get_mut(&clause.origin) {
                let terms = self.terms_of(at as u32).iter();
                let mut claim: Claim = terms.map(|t| (t.item, Runs::from_slice(self.places(t.set)))).collect();
                claim.sort_unstable();
                claims.push(claim);
            }
        }
        out
    }

    fn terms_of(&self, clause: u32) -> &[Term] {
        let Clause { start, len, .. } = self.clauses[clause as usize];
        &self.terms[start as usize..(start + len) as usize]
    }

    /// Keeps a clause and watches its first two terms.
    fn keep(&mut self, terms: &mut [Term], origin: Origin, parents: (u32, u32)) -> u32 {
        if origin != LEARNT {
            self.put_in_order(terms);
        }
        let at = self.clauses.len() as u32;
        let start = self.terms.len() as u32;
        self.terms.extend_from_slice(terms);
        self.clauses.push(Clause { start, len: terms.len() as u32, origin, parents });
        self.watch(at);
        at
    }

    /// Puts first what is true, then what is open, then what is false since the latest.
    fn put_in_order(&self, terms: &mut [Term]) {
        let key = |t: &Term| match (self.is_false(*t), self.is_true(*t)) {
            (false, true) => (0, 0),
            (false, _) => (1, 0),
            _ => (2, NONE - self.false_since(*t).map_or(0, |e| e + 1)),
        };
        match terms {
            [] | [_] => {}
            [first, second] => {
                if key(second) < key(first) {
                    terms.swap(0, 1);
                }
            }
            _ => terms.sort_by_cached_key(key),
        }
    }

    /// Watches the first two terms of a clause.
    fn watch(&mut self, clause: u32) {
        if let [first, second, ..] = *self.terms_of(clause) {
            for term in [first, second] {
                self.watches[term.item as usize].push(Watch { clause, set: term.set });
            }
        }
    }

    /// Watches others of a clause's terms where decisions were taken back meanwhile.
    fn watch_anew(&mut self, clause: u32) {
        let mut terms = self.terms_of(clause).to_vec();
        for term in &terms {
            self.watches[term.item as usize].retain(|w| w.clause != clause);
        }
        self.put_in_order(&mut terms);
        let start = self.clauses[clause as usize].start as usize;
        self.terms[start..start + terms.len()].copy_from_slice(&terms);
        self.watch(clause);
    }

    /// Lets follow what a clause that came now says already.
    fn heed(&mut self, clause: u32) {
        match *self.terms_of(clause) {
            [] => self.broken = Some(clause),
            [_] => {
                if !self.levels.is_empty() {
                    self.units.push(clause);
                }
                self.apply(clause);
            }
            [first, second, ..] => {
                if self.is_false(first) {
                    self.waiting.push(clause);
                } else if self.is_false(second) {
                    self.narrow(first, clause);
                }
            }
        }
    }

    /// Lets a clause of one term hold.
    fn apply(&mut self, clause: u32) {
        if let Some(term) = self.terms_of(clause).first().copied() {
            if self.is_false(term) {
                self.waiting.push(clause);
            } else {
                self.narrow(term, clause);
            }
        }
    }

    /// Leaves open to an item only what a term says; the term is not false.
    fn narrow(&mut self, term: Term, why: u32) {
        let open = self.items[term.item as usize].open;
        let (now, to) = (self.places(open), self.places(term.set));
        if inside(now, to) {
            return;
        }
        // most are one run each
        let left: Set = if let (&[a], &[b]) = (now, to) {
            let start = self.loose.len() as u32;
            self.loose.push((a.0.max(b.0), a.1.min(b.1)));
            Set { start: start | LOOSE, len: 1 }
        } else {
            let both: Runs = both(now, to).collect();
            let start = self.loose.len() as u32;
            self.loose.extend_from_slice(&both);
            Set { start: start | LOOSE, len: both.len() as u32 }
        };
        self.move_to(term.item, left, why);
    }

    fn move_to(&mut self, item: u32, open: Set, why: u32) {
        let level = self.levels.len() as u32;
        let at = self.trail.len() as u32;
        let now = &mut self.items[item as usize];
        self.trail.push(Entry { item, why, level, before: now.open, previous: now.last });
        (now.open, now.last) = (open, at);
    }

    fn propagate(&mut self) -> Option<u32> {
        while let Some(Entry { item, .. }) = self.trail.get(self.next).copied() {
            self.next += 1;
            // a later entry looks at the same clauses, with less left open
            if self.items[item as usize].last >= self.next as u32 {
                continue;
            }
            let mut waiting = std::mem::take(&mut self.watches[item as usize]);
            // nothing below narrows this very item: it stands in a clause once
            let open = Runs::from_slice(self.open(item));
            let (mut read, mut write) = (0, 0);
            let mut conflict = None;
            'clauses: while let Some(watch) = waiting.get(read).copied() {
                read += 1;
                waiting[write] = watch;
                write += 1;
                if !apart(&open, self.places(watch.set)) {
                    continue;
                }
                let Clause { start, len, .. } = self.clauses[watch.clause as usize];
                let (start, end) = (start as usize, (start + len) as usize);
                if self.terms[start].item == item {
                    self.terms.swap(start, start + 1);
                }
                let first = self.terms[start];
                let (now, to) = (self.open(first.item), self.places(first.set));
                if inside(now, to) {
                    continue;
                }
                let is_false = apart(now, to);
                for place in start + 2..end {
                    let other = self.terms[place];
                    if !self.is_false(other) {
                        self.terms.swap(start + 1, place);
                        self.watches[other.item as usize].push(Watch { clause: watch.clause, set: other.set });
                        write -= 1;
                        continue 'clauses;
                    }
                }
                if is_false {
                    conflict = Some(watch.clause);
                    break;
                }
                self.narrow(first, watch.clause);
            }
            waiting.copy_within(read.., write);
            waiting.truncate(write + waiting.len() - read);
            self.watches[item as usize] = waiting;
            if conflict.is_some() {
                return conflict;
            }
        }
        None
    }
}

#[cfg(test)]
mod tests;
