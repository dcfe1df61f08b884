//! Turns what is known into clauses, a version at a time: what a version asks for is looked at once it is true.

use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash as _, Hasher as _};

use super::Problem;
use super::sat::{DEFINED, Lit, Origin, Sat};
use super::told::{Id, Known, Told, provides};
use crate::facts::{Misfit, Need, Target, VersionFacts};
use crate::version::Range;

/// A rule, by where it stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(super) enum Rule {
    /// A line of the roster: its place among the wants.
    Wanted(u32),
    /// A version that cannot run here.
    Misfit(Id, u32),
    /// A version that is never to be taken: its place among the refusals.
    Never(u32, Id, u32),
    /// A version that is another than the one that is held.
    Held(Id, u32),
    /// A need of a version, by its place.
    Need(Id, u32, u32),
    /// A version that cannot stand beside others.
    Apart(Id, u32, List, u32),
}

/// The lists of what a version cannot stand beside.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(super) enum List {
    Clashes,
    Replaces,
    /// Only in another version than this.
    Welcomes,
}

impl List {
    pub(super) fn of(self, facts: &VersionFacts) -> &[Target] {
        match self {
            List::Clashes => &facts.clashes,
            List::Replaces => &facts.replaces,
            List::Welcomes => &facts.welcomes,
        }
    }
}

/// Where a need stands: item, version, its place, and whether it is a wish.
pub(super) type Place = (Id, u32, u32, bool);

/// What is asked for: the versions that would do, in the order of the rule.
#[derive(Debug, Clone, Default)]
pub(super) struct Ask {
    pub(super) fits: Vec<u32>,
    /// A variable that is true only when one of them is.
    met: Option<u32>,
}

#[derive(Debug, Clone)]
struct Apart {
    var: u32,
    range: Range,
    welcome: bool,
    origin: Origin,
}

/// Versions that fit a need are few: they stand in its clause. More get a variable of their own, once.
const FEW: usize = 3;

const NONE: u32 = u32::MAX;

/// The clauses of what is known, with the variables behind them.
#[derive(Clone, Default)]
pub(super) struct Rules {
    pub(super) sat: Sat,
    /// Of each id: its first version's variable.
    first: Vec<u32>,
    /// Of each variable: its item and version.
    what: Vec<(Id, u32)>,
    /// Of each variable: what it asks for, once it was opened; `NONE` stands for what is not known yet.
    opened: Vec<Option<Vec<u32>>>,
    pub(super) asks: Vec<Ask>,
    /// By the hash of a need: what is asked for, and where such a need stands.
    ask_of: HashMap<u64, Vec<(u32, Place)>>,
    /// For each id: which opened versions cannot stand beside it.
    apart: HashMap<Id, Vec<Apart>>,
    /// For each id: which items with variables have versions that provide it.
    offers: HashMap<Id, Vec<Id>>,
    inside: HashMap<(Id, Id, Range, bool), u32>,
    /// The rules, by the origin of their clauses.
    pub(super) origins: Vec<Rule>,
}

impl Rules {
    /// Returns the item and the version of a variable; `None` for one that only helps.
    pub(super) fn what(&self, var: u32) -> Option<(Id, u32)> {
        self.what.get(var as usize).copied().filter(|(id, _)| *id != NONE)
    }

    /// Returns what a version asks for: `None` where it was not opened, or not everything is known.
    pub(super) fn asks_of(&self, var: u32) -> Option<&[u32]> {
        self.opened.get(var as usize)?.as_deref().filter(|asks| !asks.contains(&NONE))
    }

    /// Returns what a version asks for, as far as it is known.
    pub(super) fn known_asks(&self, var: u32) -> impl Iterator<Item = u32> + '_ {
        self.opened.get(var as usize).into_iter().flatten().flatten().copied().filter(|ask| *ask != NONE)
    }

    /// Returns what rules are told together: those of one item that say the same.
    pub(super) fn unit(&self, origin: Origin) -> (u8, u32, u32, u32) {
        match self.origins.get(origin as usize) {
            Some(Rule::Need(id, version, at)) => {
                let var = self.first.get(*id as usize).map_or(NONE, |f| f + version);
                let asks = self.opened.get(var as usize).and_then(Option::as_ref);
                (0, *id, asks.and_then(|a| a.get(*at as usize)).copied().unwrap_or(NONE), 0)
            }
            Some(Rule::Misfit(id, _)) => (1, *id, 0, 0),
            Some(Rule::Never(at, id, _)) => (2, *id, *at, 0),
            Some(Rule::Held(id, _)) => (3, *id, 0, 0),
            Some(Rule::Apart(id, version, list, at)) => (4 + *list as u8, *id, *version, *at),
            Some(Rule::Wanted(at)) => (9, *at, 0, 0),
            None => (10, origin, 0, 0),
        }
    }

    fn origin(&mut self, rule: Rule) -> Origin {
        self.origins.push(rule);
        self.origins.len() as Origin - 1
    }

    /// Returns the variable of an item's first version; its versions follow. Makes them where there are none.
    pub(super) fn reach(&mut self, told: &Told, problem: &Problem, id: Id) -> Option<u32> {
        if self.first.len() <= id as usize {
            self.first.resize(id as usize + 1, NONE);
        }
        if self.first[id as usize] != NONE {
            return Some(self.first[id as usize]);
        }
        let known = told.known(id)?;
        let first = self.sat.group(known.versions.len());
        self.first[id as usize] = first;
        self.what.extend((0..known.versions.len() as u32).map(|v| (id, v)));
        self.opened.resize(self.what.len(), None);
        for (at, facts) in known.versions.iter().enumerate() {
            for provided in &facts.provides {
                if let Some(other) = told.find(&provided.id).filter(|o| *o != id) {
                    let list = self.offers.entry(other).or_default();
                    if !list.contains(&id) {
                        list.push(id);
                    }
                }
            }
            if let Some(rule) = unfit(told, problem, id, at as u32, known, facts) {
                let origin = self.origin(rule);
                self.sat.clause(&[Lit::no(first + at as u32)], origin);
            }
        }
        // what was opened before may not stand beside it
        let mut ids: Vec<Id> = vec![id];
        ids.extend(known.versions.iter().flat_map(|v| &v.provides).filter_map(|p| told.find(&p.id)));
        ids.sort_unstable();
        ids.dedup();
        for target in ids {
            for apart in self.apart.get(&target).cloned().unwrap_or_default() {
                self.exclude(told, target, id, &apart);
            }
        }
        Some(first)
    }

    /// Adds the clauses of a version that is true now; `NONE` for a need stands where not everything is known yet.
    pub(super) fn open(&mut self, told: &Told, problem: &Problem, var: u32) {
        let Some((id, version)) = self.what(var) else { return };
        let Some(facts) = told.version(id, version) else { return };
        let done = self.opened[var as usize].take();
        let anew = done.is_none();
        let mut asks = done.unwrap_or_else(|| vec![NONE; facts.needs.len()]);
        for (at, (ask, need)) in asks.iter_mut().zip(&facts.needs).enumerate() {
            if *ask != NONE || !told.is_known(need) {
                continue;
            }
            *ask = self.ask(told, problem, need, (id, version, at as u32, false));
            let origin = self.origin(Rule::Need(id, version, at as u32));
            let clause = self.asked(*ask, Lit::no(var));
            self.sat.clause(&clause, origin);
        }
        self.opened[var as usize] = Some(asks);
        if anew {
            for list in [List::Clashes, List::Replaces, List::Welcomes] {
                self.apart_from(told, (id, version), facts, var, list);
            }
        }
    }

    /// Returns what is asked for by a need whose targets are all known; `place` is where the need stands.
    pub(super) fn ask(&mut self, told: &Told, problem: &Problem, need: &Need, place: Place) -> u32 {
        let mut state = DefaultHasher::new();
        need.hash(&mut state);
        let hash = state.finish();
        let same = |(_, (id, version, at, wish)): &&(u32, Place)| {
            let facts = told.version(*id, *version);
            facts.and_then(|f| if *wish { f.wishes.get(*at as usize) } else { f.needs.get(*at as usize) }) == Some(need)
        };
        if let Some((ask, _)) = self.ask_of.get(&hash).and_then(|all| all.iter().find(same)) {
            return *ask;
        }
        let ask = match need.targets() {
            [target] => self.ask_one(told, problem, target),
            targets => self.ask_any(told, problem, targets),
        };
        self.ask_of.entry(hash).or_default().push((ask, place));
        ask
    }

    /// What most needs are: one target that nothing stands in for.
    fn ask_one(&mut self, told: &Told, problem: &Problem, target: &Target) -> u32 {
        let Some(id) = told.find(&target.id).filter(|id| told.stand_ins(*id).next().is_none()) else {
            return self.ask_any(told, problem, std::slice::from_ref(target));
        };
        let (Some(first), Some(known)) = (self.reach(told, problem, id), told.known(id)) else {
            return self.add_ask(Vec::new());
        };
        let mut fits = kept_first(problem, &target.id, known, known.meeting(&target.id, target));
        fits.iter_mut().for_each(|at| *at += first);
        self.add_ask(fits)
    }

    fn ask_any(&mut self, told: &Told, problem: &Problem, targets: &[Target]) -> u32 {
        let mut fits: Vec<(bool, u32)> = Vec::new();
        let mut seen: Vec<Id> = Vec::new();
        for target in targets {
            let Some(number) = told.find(&target.id) else { continue };
            for id in std::iter::once(number).chain(told.stand_ins(number)) {
                let (Some(first), Some(known)) = (self.reach(told, problem, id), told.known(id)) else { continue };
                let name = told.name(id);
                let again = seen.contains(&id);
                seen.push(id);
                let there = problem.there.contains(name) || problem.prefer.contains_key(name);
                for at in kept_first(problem, name, known, known.meeting(name, target)) {
                    if !again || !fits.iter().any(|(_, v)| *v == first + at) {
                        fits.push((!there, first + at));
                    }
                }
            }
        }
        fits.sort_by_key(|(not_there, _)| *not_there);
        self.add_ask(fits.into_iter().map(|(_, v)| v).collect())
    }

    /// Keeps a list of versions that would do.
    pub(super) fn add_ask(&mut self, fits: Vec<u32>) -> u32 {
        self.asks.push(Ask { fits, met: None });
        self.asks.len() as u32 - 1
    }

    /// The clause that says: if not `unless`, then one of what is asked for.
    fn asked(&mut self, ask: u32, unless: Lit) -> Vec<Lit> {
        let Ask { fits, met } = &self.asks[ask as usize];
        if fits.len() <= FEW {
            return std::iter::once(unless).chain(fits.iter().map(|v| Lit::yes(*v))).collect();
        }
        if let Some(met) = met {
            return vec![unless, Lit::yes(*met)];
        }
        let met = self.helper();
        let ask = &mut self.asks[ask as usize];
        ask.met = Some(met);
        let mut lits = vec![Lit::no(met)];
        lits.extend(ask.fits.iter().map(|v| Lit::yes(*v)));
        self.sat.clause(&lits, DEFINED);
        vec![unless, Lit::yes(met)]
    }

    fn helper(&mut self) -> u32 {
        let var = self.sat.variable();
        self.what.push((NONE, 0));
        self.opened.push(None);
        var
    }

    /// Adds the rule that a list of versions has one that is true.
    pub(super) fn must(&mut self, ask: u32, rule: Rule) {
        let origin = self.origin(rule);
        let lits: Vec<Lit> = self.asks[ask as usize].fits.iter().map(|v| Lit::yes(*v)).collect();
        self.sat.clause(&lits, origin);
    }

    fn apart_from(&mut self, told: &Told, (id, version): (Id, u32), facts: &VersionFacts, var: u32, list: List) {
        for (at, target) in list.of(facts).iter().enumerate() {
            let Some(number) = told.find(&target.id) else { continue };
            let origin = self.origin(Rule::Apart(id, version, list, at as u32));
            let apart = Apart { var, range: target.range.clone(), welcome: list == List::Welcomes, origin };
            let mut others: Vec<Id> = self.offers.get(&number).cloned().unwrap_or_default();
            others.push(number);
            for other in others {
                self.exclude(told, number, other, &apart);
            }
            self.apart.entry(number).or_default().push(apart);
        }
    }

    /// Keeps a version apart from those of an item that are the target.
    fn exclude(&mut self, told: &Told, target: Id, other: Id, apart: &Apart) {
        let itself = other == target;
        let owner = self.what(apart.var).map(|(id, _)| id);
        if owner == Some(other) || (apart.welcome && !itself) {
            return;
        }
        let Some(first) = self.first.get(other as usize).copied().filter(|f| *f != NONE) else { return };
        let key = (other, target, apart.range.clone(), apart.welcome);
        if let Some(inside) = self.inside.get(&key) {
            self.sat.clause(&[Lit::no(apart.var), Lit::no(*inside)], apart.origin);
            return;
        }
        let Some(known) = told.known(other) else { return };
        let asked = Target { id: told.name(target).clone(), range: apart.range.clone() };
        let own = if itself { known.within(&asked.range) } else { Vec::new() };
        let hit = match apart.welcome {
            true => (0..known.versions.len() as u32).filter(|at| own.binary_search(at).is_err()).collect(),
            false => known.with(own, |f| !f.provides.is_empty() && provides(&asked, f, known.scheme)),
        };
        let hit: Vec<u32> = hit.into_iter().map(|at| first + at).collect();
        if hit.len() <= FEW {
            for other in hit {
                self.sat.clause(&[Lit::no(apart.var), Lit::no(other)], apart.origin);
            }
            return;
        }
        let inside = self.helper();
        for other in hit {
            self.sat.clause(&[Lit::no(other), Lit::yes(inside)], DEFINED);
        }
        self.inside.insert(key, inside);
        self.sat.clause(&[Lit::no(apart.var), Lit::no(inside)], apart.origin);
    }
}

/// Returns versions in the order of the rule: the one that the ledger has, then the newest first.
pub(super) fn kept_first(problem: &Problem, name: &crate::id::ItemId, known: &Known, mut out: Vec<u32>) -> Vec<u32> {
    let kept = problem.prefer.get(name);
    if kept.is_some() {
        out.sort_by_key(|at| known.versions.get(*at as usize).map(|v| &v.version) != kept);
    }
    out
}

/// Why a version cannot be taken here, whatever else is taken.
fn unfit(told: &Told, problem: &Problem, id: Id, version: u32, known: &Known, facts: &VersionFacts) -> Option<Rule> {
    let name = told.name(id);
    if problem.held.get(name).is_some_and(|held| *held != facts.version) {
        return Some(Rule::Held(id, version));
    }
    let never = |n: &super::Never| n.id == *name && n.range.holds(&facts.version, known.scheme);
    if let Some(at) = problem.never.iter().position(never) {
        return Some(Rule::Never(at as u32, id, version));
    }
    misfit(problem, name, known, facts).map(|_| Rule::Misfit(id, version))
}

/// Why a version cannot run here.
pub(super) fn misfit(
    problem: &Problem,
    name: &crate::id::ItemId,
    known: &Known,
    facts: &VersionFacts,
) -> Option<Misfit> {
    facts.misfit(&problem.server, known.scheme).or_else(|| {
        if facts.channel == "stable" {
            return None;
        }
        let want = problem.wants.iter().find(|w| w.id == *name);
        let taken = want.is_some_and(|w| w.beta || w.range.names(&facts.version))
            || problem.prefer.get(name) == Some(&facts.version);
        (!taken).then_some(Misfit::Beta)
    })
}
