//! What the solver was told, with ids as numbers.

use std::collections::HashMap;
use std::sync::Arc;

use super::{Fact, Question};
use crate::facts::{Need, Target, VersionFacts};
use crate::id::ItemId;
use crate::version::{Range, Scheme, Version, is_newest_first};

/// An id as a number.
pub(super) type Id = u32;

/// What is known of one item.
#[derive(Debug, Clone)]
pub(super) struct Known {
    pub(super) scheme: Scheme,
    /// Newest first.
    pub(super) versions: Vec<VersionFacts>,
    /// Whether they are in the order that ranges see (those by date need not be).
    sorted: bool,
    /// Whether no version stands in for another item.
    plain: bool,
}

impl Known {
    fn new(scheme: Scheme, versions: Vec<VersionFacts>) -> Self {
        let all: Vec<&Version> = versions.iter().map(|f| &f.version).collect();
        let sorted = is_newest_first(&all, scheme);
        let plain = versions.iter().all(|f| f.provides.is_empty() && f.replaces.is_empty());
        Self { scheme, versions, sorted, plain }
    }

    /// Returns which versions are in a range, by their places.
    pub(super) fn within(&self, range: &Range) -> Vec<u32> {
        if range.is_any() {
            return (0..self.versions.len() as u32).collect();
        }
        if self.sorted {
            return range.among(&self.versions, |f| &f.version, self.scheme);
        }
        let holds = |(_, f): &(usize, &VersionFacts)| range.holds(&f.version, self.scheme);
        self.versions.iter().enumerate().filter(holds).map(|(at, _)| at as u32).collect()
    }

    /// Returns which versions of an item meet a target, by their places.
    pub(super) fn meeting(&self, name: &ItemId, target: &Target) -> Vec<u32> {
        let own = if *name == target.id { self.within(&target.range) } else { Vec::new() };
        if self.plain {
            return own;
        }
        let stands_in = |f: &VersionFacts| {
            (!f.provides.is_empty() && provides(target, f, self.scheme)) || f.replaces.iter().any(|r| r.id == target.id)
        };
        self.with(own, stands_in)
    }

    /// Returns some versions, and those that pass a test, in their order.
    pub(super) fn with(&self, mut some: Vec<u32>, test: impl Fn(&VersionFacts) -> bool) -> Vec<u32> {
        let before = some.len();
        let passing = self.versions.iter().enumerate().filter(|(_, f)| test(f)).map(|(at, _)| at as u32);
        some.extend(passing);
        if some.len() > before && before > 0 {
            some.sort_unstable();
            some.dedup();
        }
        some
    }
}

#[derive(Debug, Clone, Default)]
struct One {
    known: Option<Arc<Known>>,
    provides: Option<Vec<Id>>,
    replaces: Option<Vec<Id>>,
}

/// Everything told so far.
#[derive(Debug, Clone, Default)]
pub(super) struct Told {
    numbers: HashMap<ItemId, Id>,
    names: Vec<ItemId>,
    all: Vec<One>,
}

impl Told {
    /// Returns an id's number; a new one for a new id.
    pub(super) fn number(&mut self, id: &ItemId) -> Id {
        if let Some(number) = self.numbers.get(id) {
            return *number;
        }
        let number = self.names.len() as Id;
        self.numbers.insert(id.clone(), number);
        self.names.push(id.clone());
        self.all.push(One::default());
        number
    }

    /// Whatever a version speaks of has a number from the day it is known.
    fn number_all(&mut self, facts: &VersionFacts) {
        let lists = [&facts.welcomes, &facts.clashes, &facts.replaces];
        let needs = facts.needs.iter().chain(&facts.wishes).flat_map(Need::targets);
        for target in needs.chain(lists.into_iter().flatten()) {
            self.number(&target.id);
        }
        for provided in &facts.provides {
            self.number(&provided.id);
        }
    }

    /// Whether everything about a need is known.
    pub(super) fn is_known(&self, need: &Need) -> bool {
        need.targets().iter().all(|t| self.find(&t.id).is_some_and(|id| !self.is_open(id)))
    }

    /// Returns an id's number, where it was ever spoken of.
    pub(super) fn find(&self, id: &ItemId) -> Option<Id> {
        self.numbers.get(id).copied()
    }

    pub(super) fn name(&self, id: Id) -> &ItemId {
        &self.names[id as usize]
    }

    pub(super) fn known(&self, id: Id) -> Option<&Known> {
        self.all[id as usize].known.as_deref()
    }

    pub(super) fn version(&self, id: Id, version: u32) -> Option<&VersionFacts> {
        self.known(id)?.versions.get(version as usize)
    }

    /// Keeps an answer. Returns whether an earlier one was replaced.
    pub(super) fn tell(&mut self, question: Question, fact: Fact) -> bool {
        let (id, list) = match (question, fact) {
            (Question::Versions(id), Fact::Versions { scheme, versions }) => {
                let number = self.number(&id) as usize;
                versions.iter().for_each(|v| self.number_all(v));
                return self.all[number].known.replace(Arc::new(Known::new(scheme, versions))).is_some();
            }
            (Question::Provides(id), Fact::Items(items)) => (id, (items, true)),
            (Question::Replaces(id), Fact::Items(items)) => (id, (items, false)),
            _ => return false,
        };
        let number = self.number(&id);
        let mut items: Vec<Id> = list.0.iter().map(|i| self.number(i)).filter(|i| *i != number).collect();
        // whatever order they were told in
        items.sort_by(|a, b| self.name(*a).cmp(self.name(*b)));
        let one = &mut self.all[number as usize];
        let place = if list.1 { &mut one.provides } else { &mut one.replaces };
        place.replace(items).is_some()
    }

    /// Replaces what is known of one version. Returns whether that changed anything.
    pub(super) fn learn(&mut self, id: &ItemId, found: VersionFacts) -> bool {
        let number = self.number(id) as usize;
        self.number_all(&found);
        let none = || Arc::new(Known::new(Scheme::Plain, Vec::new()));
        let known = Arc::make_mut(self.all[number].known.get_or_insert_with(none));
        match known.versions.iter_mut().find(|v| v.version == found.version) {
            Some(was) if *was == found => return false,
            Some(was) => *was = found,
            None => known.versions.push(found),
        }
        *known = Known::new(known.scheme, std::mem::take(&mut known.versions));
        true
    }

    /// Items that may stand in for an id: those that provide it, then those that replace it.
    pub(super) fn stand_ins(&self, id: Id) -> impl Iterator<Item = Id> + '_ {
        let one = &self.all[id as usize];
        let first = one.provides.iter().flatten().copied();
        let rest = one.replaces.iter().flatten().copied();
        first.chain(rest.filter(move |r| !one.provides.iter().flatten().any(|p| p == r)))
    }

    /// Adds the questions about an id that nobody answered yet.
    pub(super) fn unasked(&self, id: Id, out: &mut Vec<Question>) {
        let (one, name) = (&self.all[id as usize], self.name(id));
        if one.known.is_none() {
            out.push(Question::Versions(name.clone()));
        }
        if one.provides.is_none() {
            out.push(Question::Provides(name.clone()));
        }
        if one.replaces.is_none() {
            out.push(Question::Replaces(name.clone()));
        }
        for other in self.stand_ins(id) {
            if self.all[other as usize].known.is_none() {
                out.push(Question::Versions(self.name(other).clone()));
            }
        }
    }

    /// Whether everything about an id is known.
    pub(super) fn is_open(&self, id: Id) -> bool {
        let one = &self.all[id as usize];
        one.known.is_none()
            || one.provides.is_none()
            || one.replaces.is_none()
            || self.stand_ins(id).any(|o| self.all[o as usize].known.is_none())
    }
}

/// Whether a version provides a target's id, as a version in its range.
pub(super) fn provides(target: &Target, facts: &VersionFacts, scheme: Scheme) -> bool {
    let as_version = |p: &crate::facts::Provided| {
        p.id == target.id && target.range.holds(p.version.as_ref().unwrap_or(&facts.version), scheme)
    };
    facts.provides.iter().any(as_version)
}
