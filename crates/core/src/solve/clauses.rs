//! Turns what is known into clauses, and decides in the order of the rule.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use super::reasons::Reason;
use super::sat::{Decision, Ended, Lit, Sat};
use super::{Known, Question, Solver};
use crate::facts::{Misfit, Need, VersionFacts};
use crate::id::ItemId;

/// How a search over the clauses ended.
pub(super) enum Outcome {
    /// These must be known first.
    Open(Vec<Question>),
    /// The picked version (its place in the known list) of each item.
    Found(BTreeMap<ItemId, usize>),
    /// No choice satisfies everything known.
    Impossible,
}

/// The clauses of what is known, with the variables behind them.
pub(super) struct Clauses {
    sat: Sat,
    /// The first variable of each item; its versions follow in the known order.
    first: BTreeMap<ItemId, usize>,
    /// Which versions stand for an id: the item itself and all that provide it.
    offers: BTreeMap<ItemId, Vec<(ItemId, usize)>>,
    /// Why each clause that may be at fault stands there, in the order they were built.
    pub(super) reasons: Vec<Reason>,
}

impl Clauses {
    /// Builds the clauses of everything known that can be reached from the wants.
    pub(super) fn build(solver: &Solver) -> Self {
        Self::build_with(solver, |_| true)
    }

    /// The same, with only those rules (by their place in `reasons`) that `keep` lets stand: for finding out which
    /// are at fault.
    pub(super) fn build_with(solver: &Solver, keep: impl Fn(usize) -> bool) -> Self {
        let mut out = Clauses { sat: Sat::new(), first: BTreeMap::new(), offers: BTreeMap::new(), reasons: Vec::new() };
        let reached = out.variables(solver);
        let mut needs: HashMap<Need, usize> = HashMap::new();
        for want in &solver.problem.wants {
            let reason = Reason::Wanted { id: want.id.clone(), range: want.range.clone(), line: want.line };
            let Some(known) = solver.known.get(&want.id) else { continue };
            let fits = known.versions.iter().enumerate().filter(|(_, v)| want.range.holds(&v.version, known.scheme));
            let lits = fits.filter_map(|(at, _)| out.var(&want.id, at)).map(Lit::yes).collect();
            out.rule(reason, lits, &keep);
        }
        for id in &reached {
            let Some(known) = solver.known.get(id) else { continue };
            for (at, facts) in known.versions.iter().enumerate() {
                let Some(var) = out.var(id, at) else { continue };
                if let Some(misfit) = out.misfit(solver, id, known, facts) {
                    let reason = Reason::Misfit { id: id.clone(), version: facts.version.clone(), misfit };
                    out.rule(reason, vec![Lit::no(var)], &keep);
                }
                for need in &facts.needs {
                    if need.targets().iter().any(|t| !solver.unasked(&t.id).is_empty()) {
                        continue;
                    }
                    let met = match needs.get(need) {
                        Some(met) => *met,
                        None => {
                            let met = out.define_need(solver, need);
                            needs.insert(need.clone(), met);
                            met
                        }
                    };
                    let reason = Reason::Need { id: id.clone(), version: facts.version.clone(), need: need.clone() };
                    out.rule(reason, vec![Lit::no(var), Lit::yes(met)], &keep);
                }
                out.exclusions(solver, id, facts, var, &keep);
            }
        }
        out
    }

    /// Searches for the best choice by the rule.
    pub(super) fn search(&mut self, solver: &Solver) -> Outcome {
        let first = std::mem::take(&mut self.first);
        let mut open = Vec::new();
        let ended = self.sat.search(|sat| decide(solver, &first, sat, &mut open));
        let outcome = match ended {
            Ended::Impossible => Outcome::Impossible,
            Ended::Stopped => Outcome::Open(open),
            Ended::Done => {
                let picked = |id: &ItemId| picked(solver, &first, &self.sat, id);
                Outcome::Found(first.keys().filter_map(|id| Some((id.clone(), picked(id)?))).collect())
            }
        };
        self.first = first;
        outcome
    }

    /// Gives every version of every reachable known item a variable; returns the reachable items.
    fn variables(&mut self, solver: &Solver) -> Vec<ItemId> {
        let mut queue: Vec<ItemId> = solver.problem.wants.iter().map(|w| w.id.clone()).collect();
        let mut seen: BTreeSet<ItemId> = queue.iter().cloned().collect();
        let mut at = 0;
        while let Some(id) = queue.get(at).cloned() {
            at += 1;
            let Some(known) = solver.known.get(&id) else { continue };
            let group = self.sat.group();
            for (number, facts) in known.versions.iter().enumerate() {
                let var = self.sat.variable(Some(group));
                if number == 0 {
                    self.first.insert(id.clone(), var);
                }
                for offered in std::iter::once(&id).chain(facts.provides.iter().map(|p| &p.id)) {
                    self.offers.entry(offered.clone()).or_default().push((id.clone(), number));
                }
                for target in facts.needs.iter().flat_map(Need::targets) {
                    let stand_ins = solver.stand_ins(&target.id).cloned();
                    for next in std::iter::once(target.id.clone()).chain(stand_ins) {
                        if seen.insert(next.clone()) {
                            queue.push(next);
                        }
                    }
                }
            }
        }
        queue
    }

    fn var(&self, id: &ItemId, version: usize) -> Option<usize> {
        self.first.get(id).map(|first| first + version)
    }

    fn misfit(&self, solver: &Solver, id: &ItemId, known: &Known, facts: &VersionFacts) -> Option<Misfit> {
        facts.misfit(&solver.problem.server, known.scheme).or_else(|| {
            let want = solver.problem.wants.iter().find(|w| w.id == *id);
            let taken = want.is_some_and(|w| w.beta || w.range.names(&facts.version))
                || solver.problem.prefer.get(id) == Some(&facts.version);
            (facts.channel != "stable" && !taken).then_some(Misfit::Beta)
        })
    }

    fn rule(&mut self, reason: Reason, lits: Vec<Lit>, keep: &impl Fn(usize) -> bool) {
        if keep(self.reasons.len()) {
            self.sat.clause(lits);
        }
        self.reasons.push(reason);
    }

    /// Adds a variable that is true only when the need is met.
    fn define_need(&mut self, solver: &Solver, need: &Need) -> usize {
        let met = self.sat.variable(None);
        let mut lits = vec![Lit::no(met)];
        for (id, at) in candidates(solver, need) {
            lits.extend(self.var(&id, at).map(Lit::yes));
        }
        self.sat.clause(lits);
        met
    }

    /// Clashes, replaced items, and welcomed items in the wrong version.
    fn exclusions(
        &mut self,
        solver: &Solver,
        id: &ItemId,
        facts: &VersionFacts,
        var: usize,
        keep: &impl Fn(usize) -> bool,
    ) {
        let lists = [(&facts.clashes, false), (&facts.replaces, false), (&facts.welcomes, true)];
        for (target, welcome) in lists.iter().flat_map(|(list, welcome)| list.iter().map(move |t| (t, *welcome))) {
            // an id may be there itself or in the shape of what provides it
            for (other, at) in self.offers.get(&target.id).cloned().unwrap_or_default() {
                let Some(known) = solver.known.get(&other) else { continue };
                let Some(theirs) = known.versions.get(at) else { continue };
                let itself = other == target.id;
                if other == *id || (welcome && !itself) {
                    continue;
                }
                if target.range.holds(&theirs.version, known.scheme) == welcome {
                    continue;
                }
                if let Some(theirs_var) = self.var(&other, at) {
                    let (target, version) = (target.clone(), facts.version.clone());
                    let reason = Reason::Apart { id: id.clone(), version, target, welcome };
                    self.rule(reason, vec![Lit::no(var), Lit::no(theirs_var)], keep);
                }
            }
        }
    }
}

/// Every version that meets a need, in the order of the rule: what the ledger has, then the alternatives as
/// named, of each the newest first, and what stands in for it after it.
fn candidates(solver: &Solver, need: &Need) -> Vec<(ItemId, usize)> {
    let mut out = Vec::new();
    for target in need.targets() {
        for id in std::iter::once(&target.id).chain(solver.stand_ins(&target.id)) {
            let Some(known) = solver.known.get(id) else { continue };
            let fitting = known.versions.iter().enumerate();
            let fitting = fitting.filter(|(_, v)| solver.satisfies(target, id, v, known.scheme));
            out.extend(preferred_first(solver, id, known, fitting.map(|(at, _)| at)));
        }
    }
    let there = |id: &ItemId| solver.problem.prefer.contains_key(id);
    out.sort_by_key(|(id, _)| !there(id));
    out
}

fn preferred_first(
    solver: &Solver,
    id: &ItemId,
    known: &Known,
    versions: impl Iterator<Item = usize>,
) -> Vec<(ItemId, usize)> {
    let kept = solver.problem.prefer.get(id);
    let mut out: Vec<(ItemId, usize)> = versions.map(|at| (id.clone(), at)).collect();
    out.sort_by_key(|(_, at)| known.versions.get(*at).map(|v| &v.version) != kept);
    out
}

fn picked(solver: &Solver, first: &BTreeMap<ItemId, usize>, sat: &Sat, id: &ItemId) -> Option<usize> {
    let (start, known) = (*first.get(id)?, solver.known.get(id)?);
    (0..known.versions.len()).find(|at| sat.holds(Lit::yes(start + at)) == Some(true))
}

/// Decides by the rule: the wants in order, then breadth first what the picked versions need.
fn decide(solver: &Solver, first: &BTreeMap<ItemId, usize>, sat: &Sat, open: &mut Vec<Question>) -> Decision {
    let try_one = |options: Vec<(ItemId, usize)>| {
        options.into_iter().find_map(|(id, at)| {
            let lit = Lit::yes(first.get(&id)? + at);
            sat.holds(lit).is_none().then_some(lit)
        })
    };
    open.clear();
    let mut queue: Vec<ItemId> = Vec::new();
    for want in &solver.problem.wants {
        open.extend(solver.unasked(&want.id));
        let Some(known) = solver.known.get(&want.id) else { continue };
        if picked(solver, first, sat, &want.id).is_none() {
            let fitting = known.versions.iter().enumerate();
            let fitting = fitting.filter(|(_, v)| want.range.holds(&v.version, known.scheme)).map(|(at, _)| at);
            if let Some(lit) = try_one(preferred_first(solver, &want.id, known, fitting)) {
                return Decision::Try(lit);
            }
        }
        queue.push(want.id.clone());
    }
    let mut at = 0;
    while let Some(id) = queue.get(at).cloned() {
        at += 1;
        let facts = picked(solver, first, sat, &id).and_then(|v| solver.known.get(&id)?.versions.get(v));
        for need in facts.into_iter().flat_map(|f| &f.needs) {
            let unasked: Vec<Question> = need.targets().iter().flat_map(|t| solver.unasked(&t.id)).collect();
            if !unasked.is_empty() {
                open.extend(unasked);
                continue;
            }
            let options = candidates(solver, need);
            let met = options.iter().find(|(id, v)| picked(solver, first, sat, id) == Some(*v));
            match met {
                Some((id, _)) => {
                    if !queue.contains(id) {
                        queue.push(id.clone());
                    }
                }
                None => {
                    if let Some(lit) = try_one(options) {
                        return Decision::Try(lit);
                    }
                }
            }
        }
    }
    if open.is_empty() { Decision::Done } else { Decision::Stop }
}
