//! Turns what is known into clauses, a version at a time: what a version asks for is looked at once it is to be taken.

mod unfit;

use std::collections::{BTreeMap, HashMap};

use smallvec::{SmallVec, smallvec};

use super::Problem;
use super::runs::{self, Run, Runs};
use super::search::{Origin, Search, Term};
use super::told::{Id, Known, Told, provides};
use crate::facts::{Need, Target, VersionFacts};
use crate::version::Range;

pub(super) use unfit::misfit;
use unfit::{Unfit, unfit};

/// Versions of one item that follow one another, by the places of the first and the last.
pub(super) type Versions = Run;

/// A rule, by where it stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(super) enum Rule {
    /// A line of the roster: its place among the wants.
    Wanted(u32),
    /// Versions that cannot run here.
    Misfit(Id, Versions),
    /// Versions that are never to be taken: their place among the refusals.
    Never(u32, Id, Versions),
    /// Versions that are others than the one that is held.
    Held(Id, Versions),
    /// A need of versions, by its place.
    Need(Id, Versions, u32),
    /// Versions that cannot stand beside others.
    Apart(Id, Versions, List, u32),
}

impl Rule {
    /// Returns the item and the versions that the rule is of; none for a line of the roster.
    pub(super) fn of(self) -> Option<(Id, Versions)> {
        match self {
            Rule::Wanted(_) => None,
            Rule::Misfit(id, versions)
            | Rule::Never(_, id, versions)
            | Rule::Held(id, versions)
            | Rule::Need(id, versions, _)
            | Rule::Apart(id, versions, ..) => Some((id, versions)),
        }
    }

    /// Returns the same rule of some of its versions.
    pub(super) fn only(mut self, some: Versions) -> Self {
        match &mut self {
            Rule::Wanted(_) => {}
            Rule::Misfit(_, versions)
            | Rule::Never(_, _, versions)
            | Rule::Held(_, versions)
            | Rule::Need(_, versions, _)
            | Rule::Apart(_, versions, ..) => *versions = some,
        }
        self
    }
}

/// The lists of what a version cannot stand beside.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
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

/// Versions that cannot stand beside a target.
#[derive(Debug, Clone)]
struct Apart {
    item: u32,
    versions: Versions,
    range: Range,
    welcome: bool,
    origin: Origin,
}

/// What was looked into of a version.
#[derive(Debug, Clone)]
struct Opened {
    place: u32,
    /// When it was last looked into.
    round: u32,
    /// What it asks for, need by need; [`NONE`] stands for what is not known yet.
    asks: SmallVec<[u32; 4]>,
    /// What those speak of that are not known yet.
    unknown: Vec<Id>,
}

/// Where a rule stands in a version: its list (none for needs) and the place in it.
type Spot = (Option<List>, u32);

/// An item that was reached.
#[derive(Debug, Clone)]
struct Item {
    id: Id,
    /// The place of the version that the ledger has, 0 for none.
    kept: u32,
    opened: SmallVec<[Opened; 1]>,
    /// Rules that were seen to for all versions that share them, by where they stand and the last of the versions: the first
    /// of them, and what they ask for.
    shared: BTreeMap<(Spot, u32), (u32, u32)>,
}

/// What would do, each with whether it is on the server.
type Fits = SmallVec<[(bool, Term); 4]>;

const NONE: u32 = u32::MAX;

/// The clauses of what is known, with what they are of.
#[derive(Clone, Default)]
pub(super) struct Rules {
    pub(super) search: Search,
    /// Of each id: its number in the search.
    number: Vec<u32>,
    /// By that number.
    items: Vec<Item>,
    /// What is asked for: where the versions that would do begin, and how many parts they have.
    asks: Vec<(u32, u32)>,
    fits: Vec<Term>,
    /// For each id: which versions that were looked into cannot stand beside it.
    apart: HashMap<Id, Vec<Apart>>,
    /// For each id: which items that were reached have versions that provide it.
    offers: HashMap<Id, Vec<Id>>,
    /// The rules, by the origin of their clauses.
    origins: Vec<Rule>,
    /// So often facts were told.
    round: u32,
}

impl Rules {
    /// New facts may make known what was not.
    pub(super) fn next_round(&mut self) {
        self.round += 1;
    }

    /// Returns the id of an item of the search.
    pub(super) fn id(&self, item: u32) -> Id {
        self.items[item as usize].id
    }

    /// Returns the number of an id in the search.
    pub(super) fn item(&self, id: Id) -> Option<u32> {
        self.number.get(id as usize).copied().filter(|n| *n != NONE)
    }

    /// Returns the rule that clauses come from.
    pub(super) fn rule(&self, origin: Origin) -> Option<Rule> {
        self.origins.get(origin as usize).copied()
    }

    /// Returns what would do for an ask: parts in the order of the rule, versions of an item each.
    pub(super) fn fits(&self, ask: u32) -> &[Term] {
        let (start, len) = self.asks[ask as usize];
        &self.fits[start as usize..(start + len) as usize]
    }

    /// Returns the first version of a part that is not ruled out: the one that the ledger has, then the newest.
    pub(super) fn first_of(&self, part: Term) -> Option<u32> {
        let (open, places) = (self.search.open(part.item), self.search.places(part.set));
        let kept = self.items[part.item as usize].kept;
        if kept > 0 && runs::has(open, kept) && runs::has(places, kept) {
            return Some(kept);
        }
        runs::both(open, places).next().map(|run| run.0)
    }

    /// Returns what a version asks for, need by need, as far as it was looked into.
    fn opened(&self, item: u32, place: u32) -> Option<&Opened> {
        let all = &self.items[item as usize].opened;
        all.binary_search_by_key(&place, |o| o.place).ok().map(|at| &all[at])
    }

    /// Whether there is nothing to look into in a version, until more is told.
    pub(super) fn is_open(&self, item: u32, place: u32) -> bool {
        self.opened(item, place).is_some_and(|o| o.round == self.round || !o.asks.contains(&NONE))
    }

    /// Returns what a version asks for as its need of a place; `Err` where that is not known yet, `None` after the last.
    pub(super) fn ask_of(&self, item: u32, place: u32, need: usize) -> Option<Result<u32, ()>> {
        let ask = *self.opened(item, place)?.asks.get(need)?;
        Some(if ask == NONE { Err(()) } else { Ok(ask) })
    }

    /// Returns all that a version asks for, as far as it is known.
    pub(super) fn asks_of(&self, item: u32, place: u32) -> impl Iterator<Item = u32> + '_ {
        self.opened(item, place).into_iter().flat_map(|o| &o.asks).copied().filter(|ask| *ask != NONE)
    }

    /// Returns what a version speaks of in its needs that are not known yet.
    pub(super) fn unknown(&self, item: u32, place: u32) -> &[Id] {
        self.opened(item, place).map_or(&[], |o| &o.unknown)
    }

    fn origin(&mut self, rule: Rule) -> Origin {
        self.origins.push(rule);
        self.origins.len() as Origin - 1
    }

    /// Returns the number of an item in the search. Makes it one where its versions are known.
    pub(super) fn reach(&mut self, told: &mut Told, problem: &Problem, id: Id) -> Option<u32> {
        if self.number.len() <= id as usize {
            self.number.resize(id as usize + 1, NONE);
        }
        if self.number[id as usize] != NONE {
            return Some(self.number[id as usize]);
        }
        let known = told.known(id)?.clone();
        let name = told.name(id).clone();
        let mut barred = Vec::new();
        for (versions, why) in unfit(problem, &name, &known) {
            let rule = match why {
                Unfit::Misfit(_) => Rule::Misfit(id, versions),
                Unfit::Never(at) => Rule::Never(at, id, versions),
                Unfit::Held => Rule::Held(id, versions),
            };
            barred.push((smallvec![versions], self.origin(rule)));
        }
        let item = self.search.item(known.versions.len() as u32 + 1, barred);
        self.number[id as usize] = item;
        let kept = problem.prefer.get(&name).and_then(|kept| known.versions.iter().position(|f| f.version == *kept));
        self.items.push(Item {
            id,
            kept: kept.map_or(0, |at| at as u32 + 1),
            opened: SmallVec::new(),
            shared: BTreeMap::new(),
        });
        let mut names: Vec<Id> = vec![id];
        if !known.plain {
            names.extend(known.versions.iter().flat_map(|f| &f.provides).map(|p| told.number(&p.id)));
            names.sort_unstable();
            names.dedup();
        }
        for other in names {
            if other != id {
                self.offers.entry(other).or_default().push(id);
            }
            // what was looked into before may not stand beside it
            for apart in self.apart.get(&other).cloned().unwrap_or_default() {
                self.exclude(told, other, id, &apart);
            }
        }
        Some(item)
    }

    /// Adds the clauses of a version, as far as what they speak of is known.
    pub(super) fn open(&mut self, told: &mut Told, problem: &Problem, item: u32, place: u32) {
        let id = self.id(item);
        let Some(known) = told.known(id).cloned() else { return };
        let Some(facts) = known.versions.get((place as usize).wrapping_sub(1)) else { return };
        let all = &mut self.items[item as usize].opened;
        let (anew, mut asks) = match all.binary_search_by_key(&place, |o| o.place) {
            Ok(at) => (false, std::mem::take(&mut all[at].asks)),
            Err(at) => {
                all.insert(at, Opened { place, round: 0, asks: SmallVec::new(), unknown: Vec::new() });
                (true, smallvec![NONE; facts.needs.len()])
            }
        };
        let mut unknown: Vec<Id> = Vec::new();
        for (at, (ask, need)) in asks.iter_mut().zip(&facts.needs).enumerate() {
            if *ask != NONE {
                continue;
            }
            if let Some(shared) = self.shared(item, place, (None, at as u32)) {
                *ask = shared;
                continue;
            }
            let ids = told.numbers(need);
            if ids.iter().any(|id| told.is_open(*id)) {
                unknown.extend(ids);
                continue;
            }
            *ask = self.ask(told, problem, need, &ids);
            let versions = alike(&known.versions, place, |f| f.needs.get(at) == Some(need));
            let origin = self.origin(Rule::Need(id, versions, at as u32));
            let mut clause: SmallVec<[Term; 4]> = smallvec![self.none_of(item, versions)];
            clause.extend(self.fits(*ask).iter().copied());
            self.search.clause(&clause, origin);
            self.share(item, (None, at as u32), versions, *ask);
        }
        let round = self.round;
        let all = &mut self.items[item as usize].opened;
        if let Ok(at) = all.binary_search_by_key(&place, |o| o.place) {
            all[at] = Opened { place, round, asks, unknown };
        }
        if anew {
            for list in [List::Clashes, List::Replaces, List::Welcomes] {
                self.apart_from(told, &known, item, place, list);
            }
        }
    }

    fn shared(&self, item: u32, place: u32, spot: Spot) -> Option<u32> {
        let mut from = self.items[item as usize].shared.range((spot, place)..=(spot, u32::MAX));
        from.next().filter(|(_, (first, _))| *first <= place).map(|(_, (_, ask))| *ask)
    }

    /// What only one version says needs no memory.
    fn share(&mut self, item: u32, spot: Spot, versions: Versions, ask: u32) {
        if versions.0 < versions.1 {
            self.items[item as usize].shared.insert((spot, versions.1), (versions.0, ask));
        }
    }

    /// The term that says that an item is at none of some versions.
    fn none_of(&mut self, item: u32, versions: Versions) -> Term {
        let others = runs::rest(&[versions], self.search.count(item));
        Term { item, set: self.search.set(others) }
    }

    /// Returns what is asked for by a need whose targets, these ids, are all known.
    pub(super) fn ask(&mut self, told: &mut Told, problem: &Problem, need: &Need, ids: &[Id]) -> u32 {
        let start = self.fits.len();
        // whether it is on the server, and what would do
        let mut fits: Fits = SmallVec::new();
        for (target, number) in need.targets().iter().zip(ids.iter().copied()) {
            if told.has_stand_ins(number) {
                let all: Vec<Id> = std::iter::once(number).chain(told.stand_ins(number)).collect();
                all.into_iter().for_each(|id| self.fit(told, problem, (id, target), &mut fits));
            } else {
                self.fit(told, problem, (number, target), &mut fits);
            }
        }
        if fits.len() > 1 {
            fits.sort_by_key(|(there, _)| !there);
        }
        self.fits.extend(fits.into_iter().map(|(_, term)| term));
        self.add_ask(start)
    }

    /// Adds the versions of an item that meet a target.
    fn fit(&mut self, told: &mut Told, problem: &Problem, (id, target): (Id, &Target), fits: &mut Fits) {
        let Some(item) = self.reach(told, problem, id) else { return };
        let Some(known) = told.known(id) else { return };
        let name = told.name(id);
        let places = known.meeting(name, target);
        if places.is_empty() {
            return;
        }
        let there = problem.there.contains(name) || problem.prefer.contains_key(name);
        let set = self.search.set(places);
        fits.push((there, Term { item, set }));
    }

    /// Keeps what would do, from a place on.
    fn add_ask(&mut self, start: usize) -> u32 {
        self.asks.push((start as u32, (self.fits.len() - start) as u32));
        self.asks.len() as u32 - 1
    }

    /// Adds a line of the roster, by its place among the wants: the item is there, in that range. `None` where its
    /// versions are not known yet.
    pub(super) fn want(&mut self, told: &mut Told, problem: &Problem, id: Id, at: u32) -> Option<u32> {
        let item = self.reach(told, problem, id)?;
        let places = told.known(id)?.within(&problem.wants.get(at as usize)?.range);
        let set = self.search.set(places);
        self.fits.push(Term { item, set });
        let origin = self.origin(Rule::Wanted(at));
        self.search.clause(&[Term { item, set }], origin);
        Some(self.add_ask(self.fits.len() - 1))
    }

    fn apart_from(&mut self, told: &mut Told, known: &Known, item: u32, place: u32, list: List) {
        let Some(facts) = known.versions.get((place as usize).wrapping_sub(1)) else { return };
        for (at, target) in list.of(facts).iter().enumerate() {
            let here = (Some(list), at as u32);
            if self.shared(item, place, here).is_some() {
                continue;
            }
            let number = told.number(&target.id);
            let versions = alike(&known.versions, place, |f| list.of(f).get(at) == Some(target));
            self.share(item, here, versions, NONE);
            let origin = self.origin(Rule::Apart(self.id(item), versions, list, at as u32));
            let welcome = list == List::Welcomes;
            let apart = Apart { item, versions, range: target.range.clone(), welcome, origin };
            let mut others: Vec<Id> = self.offers.get(&number).cloned().unwrap_or_default();
            others.push(number);
            for other in others {
                self.exclude(told, number, other, &apart);
            }
            self.apart.entry(number).or_default().push(apart);
        }
    }

    /// Keeps versions apart from those of an item that are the target.
    fn exclude(&mut self, told: &Told, target: Id, other: Id, apart: &Apart) {
        let itself = other == target;
        let Some(item) = self.item(other) else { return };
        if apart.item == item || (apart.welcome && !itself) {
            return;
        }
        let Some(known) = told.known(other) else { return };
        let mut hit = if itself { known.within(&apart.range) } else { Runs::new() };
        if apart.welcome {
            hit = runs::rest(&runs::either(&[(0, 0)], &hit), self.search.count(item));
        } else if !known.plain {
            let asked = Target { id: told.name(target).clone(), range: apart.range.clone() };
            hit = known.with(hit, |f| provides(&asked, f, known.scheme));
        }
        if hit.is_empty() {
            return;
        }
        let others = runs::rest(&hit, self.search.count(item));
        let set = self.search.set(others);
        let none = self.none_of(apart.item, apart.versions);
        self.search.clause(&[none, Term { item, set }], apart.origin);
    }
}

/// Returns the versions around a place that pass a test, one after the other.
fn alike(versions: &[VersionFacts], place: u32, test: impl Fn(&VersionFacts) -> bool) -> Versions {
    let at = place as usize - 1;
    let before = versions[..at].iter().rev().take_while(|f| test(f)).count() as u32;
    let after = versions[at + 1..].iter().take_while(|f| test(f)).count() as u32;
    (place - before, place + after)
}
