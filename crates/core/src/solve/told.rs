//! What the solver was told, with ids as numbers.

use std::collections::HashMap;
use std::sync::{Arc, OnceLock};

use foldhash::fast::RandomState;
use smallvec::{SmallVec, smallvec};

use super::runs::{self, Runs};
use super::{Fact, Question};
use crate::facts::{Need, Target, VersionFacts};
use crate::id::ItemId;
use crate::version::{Range, Scheme};

/// An id as a number.
pub(super) type Id = u32;

/// What is known of one item.
#[derive(Debug, Clone)]
pub(super) struct Known {
    pub(super) scheme: Scheme,
    /// Newest first.
    pub(super) versions: Vec<VersionFacts>,
    /// Whether they are in the order that ranges see (those by date need not be).
    sorted: OnceLock<bool>,
    /// Whether no version stands in for another item.
    pub(super) plain: bool,
}

impl Known {
    fn new(scheme: Scheme, versions: Vec<VersionFacts>) -> Self {
        let plain = versions.iter().all(|f| f.provides.is_empty() && f.replaces.is_empty());
        Self { scheme, versions, sorted: OnceLock::new(), plain }
    }

    fn is_sorted(&self) -> bool {
        let newest_first =
            || self.versions.windows(2).all(|w| w[0].version.compare(&w[1].version, self.scheme).is_ge());
        *self.sorted.get_or_init(newest_first)
    }

    /// Returns the version at a place.
    pub(super) fn at(&self, place: u32) -> Option<&VersionFacts> {
        self.versions.get((place as usize).wrapping_sub(1))
    }

    /// Returns which versions are in a range, by their places.
    pub(super) fn within(&self, range: &Range) -> Runs {
        if self.versions.is_empty() {
            return Runs::new();
        }
        if range.is_any() {
            return smallvec![(1, self.versions.len() as u32)];
        }
        if self.is_sorted() {
            let among = range.among(&self.versions, |f| &f.version, self.scheme);
            return among.into_iter().map(|r| (r.start as u32 + 1, r.end as u32)).collect();
        }
        self.with(Runs::new(), |f| range.holds(&f.version, self.scheme))
    }

    /// Returns which versions of an item meet a target, by their places.
    pub(super) fn meeting(&self, name: &ItemId, target: &Target) -> Runs {
        let own = if *name == target.id { self.within(&target.range) } else { Runs::new() };
        if self.plain {
            return own;
        }
        let stands_in = |f: &VersionFacts| {
            (!f.provides.is_empty() && provides(target, f, self.scheme)) || f.replaces.iter().any(|r| r.id == target.id)
        };
        self.with(own, stands_in)
    }

    /// Returns some versions, and those that pass a test, in their order.
    pub(super) fn with(&self, some: Runs, test: impl Fn(&VersionFacts) -> bool) -> Runs {
        let passing = (1..).zip(&self.versions).filter(|(_, f)| test(f)).map(|(place, _)| place);
        runs::either(&some, &runs::of(passing))
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
    numbers: HashMap<ItemId, Id, RandomState>,
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

    /// Returns the ids that a need names.
    pub(super) fn numbers(&mut self, need: &Need) -> SmallVec<[Id; 4]> {
        need.targets().iter().map(|t| self.number(&t.id)).collect()
    }

    /// Returns an id's number, where it was ever spoken of.
    pub(super) fn find(&self, id: &ItemId) -> Option<Id> {
        self.numbers.get(id).copied()
    }

    pub(super) fn name(&self, id: Id) -> &ItemId {
        &self.names[id as usize]
    }

    pub(super) fn known(&self, id: Id) -> Option<&Arc<Known>> {
        self.all[id as usize].known.as_ref()
    }

    pub(super) fn version(&self, id: Id, place: u32) -> Option<&VersionFacts> {
        self.known(id)?.at(place)
    }

    /// Keeps an answer. Returns whether an earlier one was replaced.
    pub(super) fn tell(&mut self, question: Question, fact: Fact) -> bool {
        let (id, list) = match (question, fact) {
            (Question::Versions(id), Fact::Versions { scheme, versions }) => {
                let number = self.number(&id) as usize;
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

    pub(super) fn has_stand_ins(&self, id: Id) -> bool {
        self.stand_ins(id).next().is_some()
    }

    /// Returns the questions about some ids that nobody answered yet.
    pub(super) fn unasked(&self, ids: &[Id]) -> Vec<Question> {
        let of = |id: &Id| &self.all[*id as usize];
        let mut unknown: Vec<Id> = ids.iter().flat_map(|id| std::iter::once(*id).chain(self.stand_ins(*id))).collect();
        unknown.retain(|id| of(id).known.is_none());
        unknown.sort_unstable();
        unknown.dedup();
        let name = |id: &Id| self.name(*id).clone();
        let versions = unknown.iter().map(|id| Question::Versions(name(id)));
        let provides = ids.iter().filter(|id| of(id).provides.is_none()).map(|id| Question::Provides(name(id)));
        let replaces = ids.iter().filter(|id| of(id).replaces.is_none()).map(|id| Question::Replaces(name(id)));
        versions.chain(provides).chain(replaces).collect()
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
