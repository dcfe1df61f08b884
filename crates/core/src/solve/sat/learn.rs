//! What is learnt from a conflict, and from which rules a conflict follows that stands whatever is decided.

use super::{Conflict, DEFINED, GROUP, LEARNT, Lit, NONE, Origin, Sat};

/// Of a parent: not a clause, but the chain of reasons of a variable that needs no decision.
const CHAIN: u32 = 1 << 31;

impl Sat {
    /// The literals that were false when a variable was assigned, and so made it follow.
    fn because(&self, pivot: Lit, out: &mut Vec<Lit>) {
        out.clear();
        match self.why[pivot.var() as usize] {
            NONE => {}
            GROUP => out.push(Lit::no(self.instead[pivot.var() as usize])),
            clause => out.extend(self.clause_lits(clause).iter().filter(|l| **l != pivot)),
        }
    }

    /// Returns the clause learnt from a conflict (its first literal follows at once), what it follows from, and the level
    /// to go back to.
    pub(super) fn analyse(&mut self, conflict: Conflict) -> (Vec<Lit>, (u32, u32), usize) {
        let here = self.levels.len() as u32;
        let begin = self.parents.len() as u32;
        let mut learnt: Vec<Lit> = vec![Lit(0)];
        let mut marked: Vec<u32> = Vec::new();
        let mut open = 0usize;
        let mut at = self.trail.len();
        let mut reason = self.of(conflict);
        if let Conflict::Clause(c) = conflict {
            self.parents.push(c);
        }
        loop {
            for lit in &reason {
                let var = lit.var() as usize;
                if self.seen[var] {
                    continue;
                }
                if self.level[var] == 0 {
                    // it needs no decision, but it has its reasons
                    self.seen[var] = true;
                    marked.push(lit.var());
                    self.parents.push(CHAIN | lit.var());
                    continue;
                }
                self.seen[var] = true;
                marked.push(lit.var());
                if self.level[var] == here { open += 1 } else { learnt.push(*lit) }
            }
            let pivot = loop {
                at -= 1;
                let lit = self.trail[at];
                if self.seen[lit.var() as usize] && self.level[lit.var() as usize] == here {
                    break lit;
                }
            };
            open -= 1;
            if open == 0 {
                learnt[0] = pivot.not();
                break;
            }
            let why = self.why[pivot.var() as usize];
            if why < GROUP {
                self.parents.push(why);
            }
            let mut next = std::mem::take(&mut reason);
            self.because(pivot, &mut next);
            reason = next;
        }
        // what only repeats the rest is left out
        let mut because = Vec::new();
        let mut place = 1;
        while place < learnt.len() {
            let lit = learnt[place];
            let why = self.why[lit.var() as usize];
            let repeats = why != NONE && {
                self.because(lit.not(), &mut because);
                because.iter().all(|l| self.seen[l.var() as usize] && self.level[l.var() as usize] > 0)
            };
            if repeats {
                if why < GROUP {
                    self.parents.push(why);
                }
                learnt.remove(place);
            } else {
                place += 1;
            }
        }
        for var in marked {
            self.seen[var as usize] = false;
        }
        let back = learnt.iter().skip(1).map(|l| self.level[l.var() as usize]).max().unwrap_or(0);
        (learnt, (begin, self.parents.len() as u32 - begin), back as usize)
    }

    /// The rules from which a conflict that stands whatever is decided follows.
    pub(super) fn faults(&self, conflict: Conflict) -> Vec<Origin> {
        let mut out: Vec<Origin> = Vec::new();
        let mut clauses: Vec<u32> = Vec::new();
        let mut vars: Vec<u32> = self.of(conflict).iter().map(|l| l.var()).collect();
        if let Conflict::Clause(c) = conflict {
            clauses.push(c);
        }
        let (mut seen, mut met) = (vec![false; self.clauses.len()], vec![false; self.group_of.len()]);
        loop {
            if let Some(c) = clauses.pop() {
                if std::mem::replace(&mut seen[c as usize], true) {
                    continue;
                }
                let clause = self.clauses[c as usize];
                match clause.origin {
                    LEARNT => {
                        let (start, len) = clause.parents;
                        for parent in &self.parents[start as usize..(start + len) as usize] {
                            if parent & CHAIN == 0 { clauses.push(*parent) } else { vars.push(parent & !CHAIN) }
                        }
                    }
                    DEFINED => {}
                    rule => out.push(rule),
                }
            } else if let Some(var) = vars.pop() {
                if std::mem::replace(&mut met[var as usize], true) || self.level[var as usize] > 0 {
                    continue;
                }
                match self.why[var as usize] {
                    NONE => {}
                    GROUP => vars.push(self.instead[var as usize]),
                    c => {
                        clauses.push(c);
                        vars.extend(self.clause_lits(c).iter().map(|l| l.var()));
                    }
                }
            } else {
                break;
            }
        }
        out.sort_unstable();
        out.dedup();
        out
    }
}
