//! Finds a smallest set of rules that cannot all hold, by taking away whatever leaves it impossible: large pieces first,
//! at last one by one. Each try is over the clauses of those rules alone, so it is quick however large the world is.

use std::collections::{BTreeMap, BTreeSet};

use super::{DEFINED, Followed, LEARNT, Lit, NONE, Origin, Sat};

/// After so many conflicts in all, what is found is left as it is: a few rules too many are told then.
const MOST_CONFLICTS: usize = 3_000;

/// The clauses of some rules, and those that define the variables in them.
struct Piece {
    rules: Vec<(Origin, Vec<Lit>)>,
    defined: Vec<Vec<Lit>>,
}

impl Sat {
    /// Returns the rules of a smallest set of `units` that cannot all hold: without any one of them the others can.
    pub(in crate::solve) fn narrow(&self, units: &[Vec<Origin>]) -> Vec<Origin> {
        let all: Vec<Origin> = units.iter().flatten().copied().collect();
        let piece = self.piece(&all);
        let mut kept: Vec<&[Origin]> = units.iter().map(Vec::as_slice).collect();
        let mut size = kept.len().div_ceil(2).max(1);
        let mut budget = MOST_CONFLICTS;
        loop {
            let mut from = 0;
            while from < kept.len() && budget > 0 {
                let end = (from + size).min(kept.len());
                let left = kept.iter().enumerate().filter(|(at, _)| *at < from || *at >= end);
                let fewer: BTreeSet<Origin> = left.flat_map(|(_, unit)| unit.iter().copied()).collect();
                match self.try_with(&piece, &fewer, &mut budget) {
                    // those in front are needed: they were tried already
                    Some(core) => {
                        let is_kept = |unit: &&[Origin]| unit.iter().any(|o| core.contains(o));
                        let needed = kept.iter().take(from).filter(|u| is_kept(u)).count();
                        kept.retain(|u| is_kept(u));
                        from = needed;
                    }
                    None => from = end,
                }
            }
            if size == 1 {
                return kept.into_iter().flatten().copied().collect();
            }
            size = size.div_ceil(2);
        }
    }

    fn piece(&self, faults: &[Origin]) -> Piece {
        let wanted: BTreeSet<Origin> = faults.iter().copied().collect();
        let mut piece = Piece { rules: Vec::new(), defined: Vec::new() };
        let mut vars: BTreeSet<u32> = BTreeSet::new();
        let mut defining: BTreeMap<u32, Vec<u32>> = BTreeMap::new();
        for (at, clause) in self.clauses.iter().enumerate() {
            match clause.origin {
                LEARNT => {}
                DEFINED => {
                    // the variable that is defined stands in no group
                    let lits = self.clause_lits(at as u32);
                    let helper = lits.iter().find(|l| self.group_of[l.var() as usize] == NONE);
                    defining.entry(helper.map_or(NONE, |l| l.var())).or_default().push(at as u32);
                }
                rule if wanted.contains(&rule) => {
                    let lits = self.clause_lits(at as u32).to_vec();
                    vars.extend(lits.iter().map(|l| l.var()));
                    piece.rules.push((rule, lits));
                }
                _ => {}
            }
        }
        for var in vars {
            for clause in defining.get(&var).into_iter().flatten() {
                piece.defined.push(self.clause_lits(*clause).to_vec());
            }
        }
        piece
    }

    /// Searches with some of the rules; the ones at fault where there is no way.
    fn try_with(&self, piece: &Piece, kept: &BTreeSet<Origin>, budget: &mut usize) -> Option<BTreeSet<Origin>> {
        let rules: Vec<&(Origin, Vec<Lit>)> = piece.rules.iter().filter(|(o, _)| kept.contains(o)).collect();
        let all = rules.iter().map(|(_, l)| l).chain(&piece.defined);
        let vars: BTreeSet<u32> = all.flatten().map(|l| l.var()).collect();
        let mut groups: BTreeMap<u32, Vec<u32>> = BTreeMap::new();
        let mut number: BTreeMap<u32, u32> = BTreeMap::new();
        let mut small = Sat::default();
        for var in vars {
            match self.group_of[var as usize] {
                NONE => {
                    number.insert(var, small.variable());
                }
                group => groups.entry(group).or_default().push(var),
            }
        }
        for members in groups.values() {
            let first = small.group(members.len());
            number.extend(members.iter().zip(first..).map(|(var, new)| (*var, new)));
        }
        let renamed = |lits: &[Lit]| -> Vec<Lit> {
            let lit = |l: &Lit| {
                let var = number.get(&l.var()).copied().unwrap_or(0);
                if l.is_yes() { Lit::yes(var) } else { Lit::no(var) }
            };
            lits.iter().map(lit).collect()
        };
        piece.defined.iter().for_each(|lits| small.clause(&renamed(lits), DEFINED));
        rules.iter().for_each(|(origin, lits)| small.clause(&renamed(lits), *origin));
        let mut at = 0;
        loop {
            match small.follow() {
                Followed::Impossible(core) => return Some(core.into_iter().collect()),
                // where it takes too long, what is known to be at fault is left as it is
                Followed::Back(_) if *budget == 0 => return None,
                Followed::Back(_) => {
                    *budget -= 1;
                    at = 0;
                }
                Followed::Rest => {
                    let var = (at..number.len() as u32).find(|v| small.holds(Lit::yes(*v)).is_none())?;
                    at = var;
                    small.decide(Lit::no(var));
                }
            }
        }
    }
}
