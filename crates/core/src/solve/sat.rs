//! A small conflict-driven search over clauses: learns from conflicts and jumps back over what is not at fault.
//!
//! Variables may stand in *groups* of which at most one is true (the versions of an item). Each clause carries a
//! tag of where it came from; a tag of 0 is a definition that needs no reason.

/// A variable with its sign: `2 * var` is true, `2 * var + 1` is false.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) struct Lit(u32);

impl Lit {
    pub(super) fn yes(var: usize) -> Self {
        Lit(var as u32 * 2)
    }
    pub(super) fn no(var: usize) -> Self {
        Lit(var as u32 * 2 + 1)
    }
    pub(super) fn var(self) -> usize {
        (self.0 / 2) as usize
    }
    fn not(self) -> Self {
        Lit(self.0 ^ 1)
    }
    fn at(self) -> usize {
        self.0 as usize
    }
    fn is_yes(self) -> bool {
        self.0 & 1 == 0
    }
}

/// What the caller decides next.
pub(super) enum Decision {
    /// Try this.
    Try(Lit),
    /// Everything that matters is decided.
    Done,
    /// The caller cannot go on.
    Stop,
}

/// How the search ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Ended {
    Done,
    Stopped,
    Impossible,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Why {
    Decided,
    Clause(usize),
    /// Another variable of the group is true.
    Group(Lit),
}

/// The clauses and the present assignment.
pub(super) struct Sat {
    clauses: Vec<Vec<Lit>>,
    watches: Vec<Vec<usize>>,
    group_of: Vec<Option<usize>>,
    groups: Vec<Vec<usize>>,
    value: Vec<Option<bool>>,
    level: Vec<u32>,
    why: Vec<Why>,
    trail: Vec<Lit>,
    levels: Vec<usize>,
    next: usize,
    broken: bool,
}

enum Conflict {
    Clause(usize),
    /// Two of one group are true.
    Pair(Lit, Lit),
}

impl Sat {
    pub(super) fn new() -> Self {
        Self {
            clauses: Vec::new(),
            watches: Vec::new(),
            group_of: Vec::new(),
            groups: Vec::new(),
            value: Vec::new(),
            level: Vec::new(),
            why: Vec::new(),
            trail: Vec::new(),
            levels: Vec::new(),
            next: 0,
            broken: false,
        }
    }

    /// Adds a variable, in a group or not.
    pub(super) fn variable(&mut self, group: Option<usize>) -> usize {
        let var = self.value.len();
        self.value.push(None);
        self.level.push(0);
        self.why.push(Why::Decided);
        self.watches.push(Vec::new());
        self.watches.push(Vec::new());
        self.group_of.push(group);
        if let Some(members) = group.and_then(|g| self.groups.get_mut(g)) {
            members.push(var);
        }
        var
    }

    /// Adds a group of which at most one variable is true.
    pub(super) fn group(&mut self) -> usize {
        self.groups.push(Vec::new());
        self.groups.len() - 1
    }

    /// Adds a clause: one of its literals must hold.
    pub(super) fn clause(&mut self, mut lits: Vec<Lit>) {
        lits.sort_unstable();
        lits.dedup();
        if lits.windows(2).any(|w| matches!(w, [a, b] if a.not() == *b)) {
            return;
        }
        match lits.as_slice() {
            [] => self.broken = true,
            [one] => match self.holds(*one) {
                Some(false) => self.broken = true,
                Some(true) => {}
                None => self.assign(*one, Why::Decided),
            },
            _ => {
                self.attach(lits);
            }
        }
    }

    /// Whether a literal is true or false, if that is settled.
    pub(super) fn holds(&self, lit: Lit) -> Option<bool> {
        self.value.get(lit.var()).copied().flatten().map(|v| v == lit.is_yes())
    }

    /// Searches, asking `decide` what to try next whenever nothing follows of itself.
    pub(super) fn search(&mut self, mut decide: impl FnMut(&Self) -> Decision) -> Ended {
        if self.broken {
            return Ended::Impossible;
        }
        // Clauses added before some unit was known may already be short: look at all of them once.
        loop {
            if let Some(conflict) = self.propagate() {
                if self.levels.is_empty() {
                    return Ended::Impossible;
                }
                let (learnt, back) = self.analyse(conflict);
                self.back_to(back);
                match learnt.as_slice() {
                    [] => return Ended::Impossible,
                    [one] => self.assign(*one, Why::Decided),
                    [first, ..] => {
                        let first = *first;
                        let at = self.attach(learnt);
                        self.assign(first, Why::Clause(at));
                    }
                }
                continue;
            }
            match decide(self) {
                Decision::Done => return Ended::Done,
                Decision::Stop => return Ended::Stopped,
                Decision::Try(lit) if self.holds(lit).is_none() => {
                    self.levels.push(self.trail.len());
                    self.assign(lit, Why::Decided);
                }
                // A decision that is settled already would never end.
                Decision::Try(_) => return Ended::Stopped,
            }
        }
    }

    /// Keeps a clause of two or more literals; the two watched ones stand first.
    fn attach(&mut self, lits: Vec<Lit>) -> usize {
        let at = self.clauses.len();
        let mut lits = lits;
        // Watch what is not false yet, else what was falsified last: backjumping then wakes the clause.
        let rank = |sat: &Self, lit: Lit| match sat.holds(lit) {
            Some(false) => sat.level.get(lit.var()).copied().unwrap_or(0),
            _ => u32::MAX,
        };
        for place in 0..2.min(lits.len()) {
            let best = (place..lits.len()).max_by_key(|i| lits.get(*i).map_or(0, |l| rank(self, *l)));
            if let Some(best) = best {
                lits.swap(place, best);
            }
        }
        for lit in lits.iter().take(2) {
            if let Some(list) = self.watches.get_mut(lit.at()) {
                list.push(at);
            }
        }
        let unit = match (lits.first(), lits.get(1)) {
            (Some(a), Some(b)) if self.levels.is_empty() && self.holds(*b) == Some(false) => Some(*a),
            _ => None,
        };
        self.clauses.push(lits);
        if let Some(lit) = unit {
            match self.holds(lit) {
                Some(false) => self.broken = true,
                None => self.assign(lit, Why::Clause(at)),
                Some(true) => {}
            }
        }
        at
    }

    fn assign(&mut self, lit: Lit, why: Why) {
        let (var, level) = (lit.var(), self.levels.len() as u32);
        if let (Some(value), Some(at), Some(reason)) =
            (self.value.get_mut(var), self.level.get_mut(var), self.why.get_mut(var))
        {
            *value = Some(lit.is_yes());
            *at = level;
            *reason = why;
            self.trail.push(lit);
        }
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
            let waiting = self.watches.get_mut(gone.at()).map(std::mem::take).unwrap_or_default();
            let mut kept = Vec::with_capacity(waiting.len());
            let mut conflict = None;
            for (seen, at) in waiting.iter().copied().enumerate() {
                let Some(clause) = self.clauses.get_mut(at) else { continue };
                if clause.first() == Some(&gone) {
                    clause.swap(0, 1);
                }
                let Some(first) = clause.first().copied() else { continue };
                let value = |l: Lit| self.value.get(l.var()).copied().flatten().map(|v| v == l.is_yes());
                if value(first) == Some(true) {
                    kept.push(at);
                    continue;
                }
                if let Some(other) =
                    (2..clause.len()).find(|i| clause.get(*i).is_some_and(|l| value(*l) != Some(false)))
                {
                    clause.swap(1, other);
                    if let Some(list) = clause.get(1).copied().and_then(|l| self.watches.get_mut(l.at())) {
                        list.push(at);
                    }
                    continue;
                }
                kept.push(at);
                if value(first) == Some(false) {
                    kept.extend(waiting.iter().skip(seen + 1));
                    conflict = Some(Conflict::Clause(at));
                    break;
                }
                self.assign(first, Why::Clause(at));
            }
            if let Some(list) = self.watches.get_mut(gone.at()) {
                list.append(&mut kept);
            }
            if conflict.is_some() {
                return conflict;
            }
        }
        None
    }

    fn propagate_group(&mut self, lit: Lit) -> Option<Conflict> {
        let group = self.group_of.get(lit.var()).copied().flatten()?;
        let count = self.groups.get(group).map_or(0, Vec::len);
        for at in 0..count {
            let var = self.groups.get(group).and_then(|g| g.get(at)).copied()?;
            if var == lit.var() {
                continue;
            }
            match self.value.get(var).copied().flatten() {
                None => self.assign(Lit::no(var), Why::Group(lit)),
                Some(true) => return Some(Conflict::Pair(lit, Lit::yes(var))),
                Some(false) => {}
            }
        }
        None
    }

    /// Returns the clause learnt from a conflict (its first literal follows at once) and the level to go back to.
    fn analyse(&self, conflict: Conflict) -> (Vec<Lit>, usize) {
        let here = self.levels.len() as u32;
        let mut seen = vec![false; self.value.len()];
        let mut learnt: Vec<Lit> = Vec::new();
        let mut open = 0usize;
        let mut at = self.trail.len();
        let mut reason: Vec<Lit> = match conflict {
            Conflict::Clause(c) => self.clauses.get(c).cloned().unwrap_or_default(),
            Conflict::Pair(a, b) => vec![a.not(), b.not()],
        };
        loop {
            for lit in reason.drain(..) {
                let var = lit.var();
                let level = self.level.get(var).copied().unwrap_or(0);
                if level == 0 || seen.get(var).copied().unwrap_or(true) {
                    continue;
                }
                if let Some(mark) = seen.get_mut(var) {
                    *mark = true;
                }
                if level == here {
                    open += 1;
                } else {
                    learnt.push(lit);
                }
            }
            let pivot = loop {
                let Some(before) = at.checked_sub(1) else { break None };
                at = before;
                if let Some(lit) = self.trail.get(at).copied().filter(|l| seen.get(l.var()).copied().unwrap_or(false)) {
                    break Some(lit);
                }
            };
            let Some(pivot) = pivot else { break };
            open = open.saturating_sub(1);
            if open == 0 {
                learnt.insert(0, pivot.not());
                break;
            }
            reason = match self.why.get(pivot.var()).copied() {
                Some(Why::Clause(c)) => {
                    self.clauses.get(c).map(|l| l.iter().copied().filter(|l| *l != pivot).collect()).unwrap_or_default()
                }
                Some(Why::Group(lit)) => vec![lit.not()],
                _ => Vec::new(),
            };
        }
        let back = learnt.iter().skip(1).map(|l| self.level.get(l.var()).copied().unwrap_or(0)).max().unwrap_or(0);
        (learnt, back as usize)
    }

    fn back_to(&mut self, level: usize) {
        let Some(keep) = self.levels.get(level).copied() else { return };
        for lit in self.trail.drain(keep..) {
            if let Some(value) = self.value.get_mut(lit.var()) {
                *value = None;
            }
        }
        self.levels.truncate(level);
        self.next = self.next.min(self.trail.len());
    }
}
