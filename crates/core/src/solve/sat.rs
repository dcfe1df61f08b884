//! A conflict-driven search over clauses: learns from conflicts, jumps back over what is not at fault, and knows of
//! everything it learnt from which rules it follows.
//!
//! Variables may stand in *groups* of which at most one is true (the versions of an item). Clauses may be added at any
//! time, also while something is decided. What is decided next is the caller's business: [`Sat::follow`] goes on until
//! nothing follows of itself any more.

mod learn;
mod narrow;

/// A variable with its sign: `2 * var` is true, `2 * var + 1` is false.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) struct Lit(u32);

impl Lit {
    pub(super) fn yes(var: u32) -> Self {
        Lit(var * 2)
    }
    pub(super) fn no(var: u32) -> Self {
        Lit(var * 2 + 1)
    }
    pub(super) fn var(self) -> u32 {
        self.0 / 2
    }
    pub(super) fn is_yes(self) -> bool {
        self.0 & 1 == 0
    }
    fn not(self) -> Self {
        Lit(self.0 ^ 1)
    }
    fn at(self) -> usize {
        self.0 as usize
    }
}

/// The rule that a clause comes from.
pub(super) type Origin = u32;

/// The origin of a clause that only defines a variable: no rule, and never at fault.
pub(super) const DEFINED: Origin = u32::MAX;
const LEARNT: Origin = u32::MAX - 1;
const NONE: u32 = u32::MAX;
/// Of a variable's reason: another one of its group is true.
const GROUP: u32 = u32::MAX - 1;

#[derive(Clone, Copy)]
struct Clause {
    start: u32,
    len: u32,
    /// A rule, [`DEFINED`], or [`LEARNT`].
    origin: Origin,
    /// For a learnt clause: where its parents begin, and how many they are.
    parents: (u32, u32),
}

#[derive(Clone, Copy)]
struct Watch {
    clause: u32,
    /// Another literal of it: where that holds, the clause need not be looked at.
    other: Lit,
}

/// What stands against the present assignment.
#[derive(Debug, Clone, Copy)]
enum Conflict {
    Clause(u32),
    /// Two of one group are true.
    Pair(Lit, Lit),
}

/// What came of following.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Followed {
    /// Nothing more follows.
    Rest,
    /// There was a conflict; this level was gone back to, and what was learnt holds now.
    Back(usize),
    /// There is no assignment; the rules that are at fault.
    Impossible(Vec<Origin>),
}

/// The clauses and the present assignment.
#[derive(Clone, Default)]
pub(super) struct Sat {
    lits: Vec<Lit>,
    clauses: Vec<Clause>,
    parents: Vec<u32>,
    watches: Vec<Vec<Watch>>,
    group_of: Vec<u32>,
    /// First variable and number of each group: they stand side by side.
    groups: Vec<(u32, u32)>,
    /// Per literal: 1 true, -1 false, 0 open.
    value: Vec<i8>,
    level: Vec<u32>,
    why: Vec<u32>,
    /// For a variable of a group: the one that is true instead.
    instead: Vec<u32>,
    trail: Vec<Lit>,
    levels: Vec<u32>,
    next: usize,
    /// A clause that is false whatever is decided.
    broken: Option<u32>,
    /// New clauses that were false when they came.
    waiting: Vec<u32>,
    /// Clauses of one literal that came while something was decided: they hold again after each step back.
    units: Vec<(Lit, u32)>,
    seen: Vec<bool>,
}

impl Sat {
    /// Adds a variable that stands in no group.
    pub(super) fn variable(&mut self) -> u32 {
        let var = self.group_of.len() as u32;
        self.group_of.push(NONE);
        self.value.extend([0, 0]);
        self.watches.extend([Vec::new(), Vec::new()]);
        self.level.push(0);
        self.why.push(NONE);
        self.instead.push(NONE);
        self.seen.push(false);
        var
    }

    /// Adds a group of variables of which at most one is true; returns the first.
    pub(super) fn group(&mut self, count: usize) -> u32 {
        let first = self.group_of.len() as u32;
        let group = self.groups.len() as u32;
        for _ in 0..count {
            let var = self.variable();
            self.group_of[var as usize] = group;
        }
        self.groups.push((first, count as u32));
        first
    }

    /// Whether a literal is true or false, if that is settled.
    pub(super) fn holds(&self, lit: Lit) -> Option<bool> {
        match self.value[lit.at()] {
            0 => None,
            v => Some(v > 0),
        }
    }

    /// Returns what is assigned, in order.
    pub(super) fn trail(&self) -> &[Lit] {
        &self.trail
    }

    /// Adds a clause: one of its literals must hold.
    pub(super) fn clause(&mut self, lits: &[Lit], origin: Origin) {
        let mut lits = lits.to_vec();
        if lits.len() <= 16 {
            lits.sort_unstable();
            lits.dedup();
            if lits.windows(2).any(|w| w[0].not() == w[1]) {
                return;
            }
        } else if let Some(first) = lits.first().copied()
            // long ones are lists of versions, each once, behind what they are for
            && lits.contains(&first.not())
        {
            return;
        }
        let at = self.keep(&mut lits, origin, (0, 0));
        self.heed(at);
    }

    /// Decides.
    pub(super) fn decide(&mut self, lit: Lit) {
        self.levels.push(self.trail.len() as u32);
        self.assign(lit, NONE);
    }

    /// Takes decisions back until so many stand.
    pub(super) fn back_to(&mut self, level: usize) {
        let Some(keep) = self.levels.get(level).copied() else { return };
        for lit in self.trail.drain(keep as usize..) {
            self.value[lit.at()] = 0;
            self.value[lit.not().at()] = 0;
        }
        self.levels.truncate(level);
        self.next = self.next.min(self.trail.len());
        for (lit, clause) in std::mem::take(&mut self.units) {
            if level > 0 {
                self.units.push((lit, clause));
            }
            match self.value[lit.at()] {
                0 => self.assign(lit, clause),
                v if v < 0 => self.waiting.push(clause),
                _ => {}
            }
        }
    }

    /// Goes on until nothing follows of itself, or one conflict was learnt from.
    pub(super) fn follow(&mut self) -> Followed {
        if let Some(clause) = self.broken {
            return Followed::Impossible(self.faults(Conflict::Clause(clause)));
        }
        let conflict = self.late().or_else(|| self.propagate());
        let Some(conflict) = conflict else { return Followed::Rest };
        // a clause that came late may be false since an earlier level
        let deepest = self.of(conflict).iter().map(|l| self.level[l.var() as usize]).max().unwrap_or(0);
        if deepest == 0 {
            return Followed::Impossible(self.faults(conflict));
        }
        self.back_to(deepest as usize);
        let (mut learnt, parents, back) = self.analyse(conflict);
        self.back_to(back);
        let first = learnt[0];
        let at = self.keep(&mut learnt, LEARNT, parents);
        self.assign(first, at);
        Followed::Back(back)
    }

    /// A clause that came late and is still false.
    fn late(&mut self) -> Option<Conflict> {
        while let Some(clause) = self.waiting.pop() {
            if self.clause_lits(clause).iter().all(|l| self.value[l.at()] < 0) {
                return Some(Conflict::Clause(clause));
            }
        }
        None
    }

    fn of(&self, conflict: Conflict) -> Vec<Lit> {
        match conflict {
            Conflict::Clause(c) => self.clause_lits(c).to_vec(),
            Conflict::Pair(a, b) => vec![a.not(), b.not()],
        }
    }

    fn clause_lits(&self, at: u32) -> &[Lit] {
        let clause = self.clauses[at as usize];
        &self.lits[clause.start as usize..(clause.start + clause.len) as usize]
    }

    /// Stores a clause and watches the two literals that were settled last, or not at all.
    fn keep(&mut self, lits: &mut [Lit], origin: Origin, parents: (u32, u32)) -> u32 {
        let at = self.clauses.len() as u32;
        if origin != LEARNT {
            let rank = |sat: &Self, lit: Lit| match sat.value[lit.at()] {
                -1 => sat.level[lit.var() as usize],
                _ => u32::MAX,
            };
            for place in 0..2.min(lits.len()) {
                let best = (place..lits.len()).max_by_key(|i| (rank(self, lits[*i]), usize::MAX - i));
                lits.swap(place, best.unwrap_or(place));
            }
        } else if lits.len() > 2 {
            // the first follows at once; the other to watch is the one that was settled last
            let last = (1..lits.len()).max_by_key(|i| self.level[lits[*i].var() as usize]).unwrap_or(1);
            lits.swap(1, last);
        }
        let (start, len) = (self.lits.len() as u32, lits.len() as u32);
        self.lits.extend_from_slice(lits);
        self.clauses.push(Clause { start, len, origin, parents });
        if let [a, b, ..] = lits {
            self.watches[a.at()].push(Watch { clause: at, other: *b });
            self.watches[b.at()].push(Watch { clause: at, other: *a });
        }
        at
    }

    /// What a new clause comes to under the present assignment.
    fn heed(&mut self, at: u32) {
        let lits = self.clause_lits(at);
        let first = lits.first().copied();
        let rest_false = lits.iter().skip(1).all(|l| self.value[l.at()] < 0);
        let Some(first) = first else {
            self.broken = self.broken.or(Some(at));
            return;
        };
        if self.clauses[at as usize].len == 1 && !self.levels.is_empty() {
            self.units.push((first, at));
        }
        match self.value[first.at()] {
            0 if rest_false => self.assign(first, at),
            v if v < 0 => self.waiting.push(at),
            _ => {}
        }
    }

    fn assign(&mut self, lit: Lit, why: u32) {
        let var = lit.var() as usize;
        self.value[lit.at()] = 1;
        self.value[lit.not().at()] = -1;
        self.level[var] = self.levels.len() as u32;
        self.why[var] = why;
        self.trail.push(lit);
    }

    fn propagate(&mut self) -> Option<Conflict> {
        while let Some(lit) = self.trail.get(self.next).copied() {
            self.next += 1;
            if lit.is_yes()
                && let Some(conflict) = self.propagate_group(lit)
            {
                return Some(conflict);
            }
            let gone = lit.not();
            let mut waiting = std::mem::take(&mut self.watches[gone.at()]);
            let (mut read, mut write) = (0, 0);
            let mut conflict = None;
            'clauses: while read < waiting.len() {
                let watch = waiting[read];
                read += 1;
                if self.value[watch.other.at()] > 0 {
                    waiting[write] = watch;
                    write += 1;
                    continue;
                }
                let Clause { start, len, .. } = self.clauses[watch.clause as usize];
                let (start, end) = (start as usize, (start + len) as usize);
                if self.lits[start] == gone {
                    self.lits.swap(start, start + 1);
                }
                let first = self.lits[start];
                let kept = Watch { clause: watch.clause, other: first };
                if self.value[first.at()] > 0 {
                    waiting[write] = kept;
                    write += 1;
                    continue;
                }
                for place in start + 2..end {
                    let other = self.lits[place];
                    if self.value[other.at()] >= 0 {
                        self.lits.swap(start + 1, place);
                        self.watches[other.at()].push(kept);
                        continue 'clauses;
                    }
                }
                waiting[write] = kept;
                write += 1;
                if self.value[first.at()] < 0 {
                    conflict = Some(Conflict::Clause(watch.clause));
                    break;
                }
                self.assign(first, watch.clause);
            }
            waiting.copy_within(read.., write);
            waiting.truncate(write + waiting.len() - read);
            self.watches[gone.at()] = waiting;
            if conflict.is_some() {
                return conflict;
            }
        }
        None
    }

    fn propagate_group(&mut self, lit: Lit) -> Option<Conflict> {
        let group = self.group_of[lit.var() as usize];
        if group == NONE {
            return None;
        }
        let (first, count) = self.groups[group as usize];
        for var in first..first + count {
            if var == lit.var() {
                continue;
            }
            match self.value[Lit::yes(var).at()] {
                0 => {
                    self.instead[var as usize] = lit.var();
                    self.assign(Lit::no(var), GROUP);
                }
                v if v > 0 => return Some(Conflict::Pair(lit, Lit::yes(var))),
                _ => {}
            }
        }
        None
    }
}
