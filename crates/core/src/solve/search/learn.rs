//! What is learnt from a conflict, and from which rules a conflict follows that stands whatever is decided.

use super::super::runs::{Run, Runs, apart, both, either, inside, rest};
use super::{LEARNT, NONE, Origin, Search, Term};

/// Of a parent: not a clause, but an entry of the trail that needs no decision.
const ENTRY: u32 = 1 << 31;
/// Of a parent: where an item can never be.
const BARRED: u32 = 1 << 30;

/// A term of the clause that is learnt: false since an entry.
struct Part {
    item: u32,
    places: Runs,
    since: u32,
}

/// The parts of the clause that is learnt.
type Parts = Vec<Part>;

impl Search {
    /// The earliest entry since which an item is at none of some places; none where it never could be.
    fn gone_since(&self, item: u32, places: &[Run]) -> Option<u32> {
        let mut at = self.items[item as usize].last;
        while at != NONE {
            let entry = self.trail[at as usize];
            if !apart(self.places(entry.before), places) {
                return Some(at);
            }
            at = entry.previous;
        }
        None
    }

    pub(super) fn false_since(&self, term: Term) -> Option<u32> {
        self.gone_since(term.item, self.places(term.set))
    }

    pub(super) fn level_of(&self, since: Option<u32>) -> u32 {
        since.map_or(0, |at| self.trail[at as usize].level)
    }

    /// Returns the clause learnt from a conflict (its first term follows at once), what it follows from, and the level to
    /// go back to.
    pub(super) fn analyse(&mut self, conflict: u32) -> (Vec<Term>, (u32, u32), usize) {
        let here = self.levels.len() as u32;
        let begin = self.parents.len();
        let mut parts: Parts = Vec::new();
        self.parents.push(conflict);
        for at in 0..self.clauses[conflict as usize].len {
            let term = self.term(conflict, at);
            self.join(&mut parts, term);
        }
        loop {
            let latest = parts.iter().enumerate().filter(|(_, p)| self.trail[p.since as usize].level == here);
            let mut of_here = 0;
            let mut top = (0, 0);
            for (at, part) in latest {
                of_here += 1;
                top = top.max((part.since, at));
            }
            if of_here <= 1 {
                break;
            }
            self.resolve(&mut parts, top.1);
        }
        self.shorten(&mut parts, here);
        for part in &parts {
            self.seat[part.item as usize] = NONE;
        }
        parts.sort_by_key(|p| std::cmp::Reverse(p.since));
        let back = parts.get(1).map_or(0, |p| self.trail[p.since as usize].level);
        let learnt = parts.into_iter().map(|p| Term { item: p.item, set: self.set(p.places) }).collect();
        let mut parents = self.parents.split_off(begin);
        parents.sort_unstable();
        parents.dedup();
        self.parents.extend(&parents);
        (learnt, (begin as u32, parents.len() as u32), back as usize)
    }

    fn term(&self, clause: u32, at: u32) -> Term {
        self.terms[(self.clauses[clause as usize].start + at) as usize]
    }

    /// Adds a term that is false now.
    fn join(&mut self, parts: &mut Parts, term: Term) {
        let Some(since) = self.false_since(term).filter(|at| self.trail[*at as usize].level > 0) else {
            let since = self.false_since(term);
            return self.need_no_decision(term.item, since);
        };
        let seat = self.seat[term.item as usize];
        if let Some(part) = parts.get_mut(seat as usize) {
            part.places = either(&part.places, self.places(term.set));
            part.since = part.since.max(since);
        } else {
            self.seat[term.item as usize] = parts.len() as u32;
            parts.push(Part { item: term.item, places: Runs::from_slice(self.places(term.set)), since });
        }
    }

    /// What is false whatever is decided is left out, but has its reasons.
    fn need_no_decision(&mut self, item: u32, since: Option<u32>) {
        match since {
            Some(at) => self.parents.push(ENTRY | at),
            None if self.items[item as usize].barred.1 > 0 => self.parents.push(BARRED | item),
            None => {}
        }
    }

    /// Puts in the place of a part what made it false.
    fn resolve(&mut self, parts: &mut Parts, at: usize) {
        let Part { item, since, .. } = parts[at];
        let why = self.trail[since as usize].why;
        self.parents.push(why);
        for place in 0..self.clauses[why as usize].len {
            let term = self.term(why, place);
            if term.item != item {
                self.join(parts, term);
            }
        }
        let own = self.terms_of(why).iter().find(|t| t.item == item).copied();
        let left: Runs = own.map_or_else(Runs::new, |t| both(&parts[at].places, self.places(t.set)).collect());
        match self.gone_since(item, &left) {
            Some(since) if !left.is_empty() && self.trail[since as usize].level > 0 => {
                (parts[at].places, parts[at].since) = (left, since);
            }
            since => {
                if !left.is_empty() {
                    self.need_no_decision(item, since);
                }
                self.leave(parts, at);
            }
        }
    }

    fn leave(&mut self, parts: &mut Parts, at: usize) {
        let part = parts.swap_remove(at);
        self.seat[part.item as usize] = NONE;
        if let Some(moved) = parts.get(at) {
            self.seat[moved.item as usize] = at as u32;
        }
    }

    /// Leaves out what only repeats the rest.
    fn shorten(&mut self, parts: &mut Parts, here: u32) {
        let mut at = 0;
        while let Some(part) = parts.get(at) {
            let entry = self.trail[part.since as usize];
            let repeats = entry.why != NONE
                && entry.level != here
                && self.terms_of(entry.why).iter().all(|term| {
                    let places = self.places(term.set);
                    if term.item == part.item {
                        return apart(&part.places, places);
                    }
                    let stands = parts.get(self.seat[term.item as usize] as usize);
                    stands.is_some_and(|p| inside(places, &p.places)) || self.level_of(self.false_since(*term)) == 0
                });
            if !repeats {
                at += 1;
                continue;
            }
            self.parents.push(entry.why);
            for place in 0..self.clauses[entry.why as usize].len {
                let term = self.term(entry.why, place);
                let since = self.false_since(term);
                if term.item != entry.item && self.level_of(since) == 0 {
                    self.need_no_decision(term.item, since);
                }
            }
            self.leave(parts, at);
        }
    }

    /// The rules from which a clause follows to be false that is so whatever is decided.
    pub(super) fn faults(&self, clause: u32) -> Vec<Origin> {
        let mut out: Vec<Origin> = Vec::new();
        let mut open: Vec<u32> = vec![clause];
        let tag = |item: u32, since: Option<u32>| since.map_or(BARRED | item, |at| ENTRY | at);
        open.extend(self.terms_of(clause).iter().map(|t| tag(t.item, self.false_since(*t))));
        let (mut clauses, mut entries) = (vec![false; self.clauses.len()], vec![false; self.trail.len()]);
        let mut items = vec![false; self.items.len()];
        while let Some(next) = open.pop() {
            if next & ENTRY != 0 {
                let at = next & !ENTRY;
                let entry = self.trail[at as usize];
                if std::mem::replace(&mut entries[at as usize], true) || entry.why == NONE {
                    continue;
                }
                open.push(entry.why);
                for term in self.terms_of(entry.why) {
                    if term.item != entry.item {
                        open.push(tag(term.item, self.false_since(*term)));
                        continue;
                    }
                    // what the clause alone leaves open and was not open then had its reasons before
                    let count = self.items[term.item as usize].count;
                    let closed = rest(self.after(at), count);
                    let before: Runs = both(&closed, self.places(term.set)).collect();
                    if !before.is_empty() {
                        open.push(tag(term.item, self.gone_since(term.item, &before)));
                    }
                }
            } else if next & BARRED != 0 {
                let item = next & !BARRED;
                if !std::mem::replace(&mut items[item as usize], true) {
                    let (first, count) = self.items[item as usize].barred;
                    open.extend(first..first + count);
                }
            } else if !std::mem::replace(&mut clauses[next as usize], true) {
                let clause = self.clauses[next as usize];
                match clause.origin {
                    LEARNT => {
                        let (start, len) = clause.parents;
                        open.extend(&self.parents[start as usize..(start + len) as usize]);
                    }
                    rule => out.push(rule),
                }
            }
        }
        out.sort_unstable();
        out.dedup();
        out
    }

    /// What was open to an item after an entry.
    fn after(&self, at: u32) -> &[Run] {
        let now = self.items[self.trail[at as usize].item as usize];
        let (mut open, mut entry) = (now.open, now.last);
        while entry != at && entry != NONE {
            open = self.trail[entry as usize].before;
            entry = self.trail[entry as usize].previous;
        }
        self.places(open)
    }
}
