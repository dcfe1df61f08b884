//! Which items, in which versions: a solver that does no reading.
//!
//! [`Solver::step`] returns questions, an answer, or why there is none. The caller answers as many questions at
//! once as it likes and steps again; facts found by opening archives enter through [`Solver::tell`] too and
//! replace what a catalogue said.
//!
//! The answer satisfies every need, clash and range; holds nothing that nothing needs; and is the best by this
//! rule: the wanted items in roster order, then what they need breadth first, each in turn get the version that
//! [`Problem::prefer`] names (what the ledger has) or else the newest, if that still leaves an answer; among
//! alternatives one that the ledger has, else the first named, then those that provide it.

mod clauses;
mod reasons;
mod sat;
mod tell;

use std::collections::{BTreeMap, BTreeSet};

pub use reasons::{Reason, Reasons};
pub use tell::tell;

use crate::facts::{ServerFacts, VersionFacts};
use crate::id::{Digest, ItemId};
use crate::version::{Range, Scheme, Version};

/// What the solver (or any other stage) wants to know. Whoever reads answers.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Question {
    /// Which versions has this item?
    Versions(ItemId),
    /// Which items provide this id?
    Provides(ItemId),
    /// Which items replace this one?
    Replaces(ItemId),
    /// Which item has this catalogue number?
    Number(String),
    /// Which item has a file with this digest?
    File(Digest),
}

/// What is answered to a [`Question`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fact {
    /// To [`Question::Versions`]: newest first; empty when nobody offers the item.
    Versions {
        /// How they are in order.
        scheme: Scheme,
        /// The versions.
        versions: Vec<VersionFacts>,
    },
    /// To all other questions: the items.
    Items(Vec<ItemId>),
}

/// An item that is wanted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wanted {
    /// The item.
    pub id: ItemId,
    /// The versions it may have.
    pub range: Range,
    /// Whether beta versions may be taken.
    pub beta: bool,
    /// The roster's line, 0 when it is not from the roster.
    pub line: usize,
}

/// What is to be solved.
#[derive(Debug, Clone, Default)]
pub struct Problem {
    /// What is wanted, in roster order.
    pub wants: Vec<Wanted>,
    /// What is known of the server.
    pub server: ServerFacts,
    /// The versions to keep if they fit: what the ledger has.
    pub prefer: BTreeMap<ItemId, Version>,
}

/// What a step comes to.
#[derive(Debug, Clone)]
pub enum Step {
    /// These questions must be answered first.
    Need(Vec<Question>),
    /// This is the answer.
    Answer(Answer),
    /// There is none, and why.
    Impossible(Reasons),
}

/// The chosen items.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Answer {
    /// The chosen version of each item, wanted ones first, then breadth first by need.
    pub chosen: Vec<Chosen>,
}

/// One chosen item.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Chosen {
    /// The item.
    pub id: ItemId,
    /// What is known of its chosen version.
    pub facts: VersionFacts,
    /// Whether the roster names it.
    pub wanted: bool,
}

/// What is known so far of one item.
#[derive(Debug, Clone)]
struct Known {
    scheme: Scheme,
    versions: Vec<VersionFacts>,
}

/// The solver: a problem and the facts told so far.
#[derive(Debug, Clone)]
pub struct Solver {
    problem: Problem,
    known: BTreeMap<ItemId, Known>,
    provides: BTreeMap<ItemId, Vec<ItemId>>,
    replaces: BTreeMap<ItemId, Vec<ItemId>>,
}

impl Solver {
    /// Returns a solver that knows nothing yet.
    pub fn new(problem: Problem) -> Self {
        Self { problem, known: BTreeMap::new(), provides: BTreeMap::new(), replaces: BTreeMap::new() }
    }

    /// Answers a question. A later answer replaces an earlier one.
    pub fn tell(&mut self, question: Question, fact: Fact) {
        match (question, fact) {
            (Question::Versions(id), Fact::Versions { scheme, versions }) => {
                self.known.insert(id, Known { scheme, versions });
            }
            (Question::Provides(id), Fact::Items(items)) => {
                self.provides.insert(id, items);
            }
            (Question::Replaces(id), Fact::Items(items)) => {
                self.replaces.insert(id, items);
            }
            _ => {}
        }
    }

    /// Replaces what is known of one version by what was found inside its archive. Returns whether that
    /// changed anything the answer depends on.
    pub fn learn(&mut self, id: &ItemId, found: VersionFacts) -> bool {
        let known = self.known.entry(id.clone()).or_insert(Known { scheme: Scheme::Plain, versions: Vec::new() });
        match known.versions.iter_mut().find(|v| v.version == found.version) {
            Some(was) if *was == found => false,
            Some(was) => {
                *was = found;
                true
            }
            None => {
                known.versions.push(found);
                true
            }
        }
    }

    /// Takes the next step with what is known.
    pub fn step(&self) -> Step {
        let missing = self.missing();
        let mut built = clauses::Clauses::build(self);
        match built.search(self) {
            clauses::Outcome::Open(questions) => {
                Step::Need(missing.into_iter().chain(questions).collect::<BTreeSet<_>>().into_iter().collect())
            }
            clauses::Outcome::Found(picked) => Step::Answer(self.answer(&picked)),
            clauses::Outcome::Impossible => Step::Impossible(reasons::smallest(self)),
        }
    }

    /// Everything that wanted items and the likely choices will surely be asked about, found by walking from the
    /// wants through each known item's first fitting version. Asked ahead, so that rounds are few.
    fn missing(&self) -> BTreeSet<Question> {
        let mut out = BTreeSet::new();
        let mut seen = BTreeSet::new();
        let mut queue: Vec<(ItemId, Range)> =
            self.problem.wants.iter().map(|w| (w.id.clone(), w.range.clone())).collect();
        while let Some((id, range)) = queue.pop() {
            if !seen.insert(id.clone()) {
                continue;
            }
            out.extend(self.unasked(&id));
            let first = self.known.get(&id).and_then(|k| {
                k.versions
                    .iter()
                    .find(|v| range.holds(&v.version, k.scheme) && v.misfit(&self.problem.server, k.scheme).is_none())
            });
            for target in first.into_iter().flat_map(|v| &v.needs).flat_map(|n| n.targets().first()) {
                queue.push((target.id.clone(), target.range.clone()));
            }
        }
        out
    }

    /// The questions about an id that nobody answered yet.
    fn unasked(&self, id: &ItemId) -> Vec<Question> {
        let mut out = Vec::new();
        if !self.known.contains_key(id) {
            out.push(Question::Versions(id.clone()));
        }
        if !self.provides.contains_key(id) {
            out.push(Question::Provides(id.clone()));
        }
        if !self.replaces.contains_key(id) {
            out.push(Question::Replaces(id.clone()));
        }
        for stand_in in self.stand_ins(id) {
            if !self.known.contains_key(stand_in) {
                out.push(Question::Versions(stand_in.clone()));
            }
        }
        out
    }

    /// Items that may stand in for `id`: those that provide it, then those that replace it.
    fn stand_ins<'a>(&'a self, id: &'a ItemId) -> impl Iterator<Item = &'a ItemId> + 'a {
        let lists = [self.provides.get(id), self.replaces.get(id)];
        lists.into_iter().flatten().flatten().filter(move |other| *other != id)
    }

    /// Whether this version of `other` satisfies a need of `target`.
    fn satisfies(&self, target: &crate::facts::Target, other: &ItemId, facts: &VersionFacts, scheme: Scheme) -> bool {
        if *other == target.id && target.range.holds(&facts.version, scheme) {
            return true;
        }
        facts
            .provides
            .iter()
            .any(|p| p.id == target.id && target.range.holds(p.version.as_ref().unwrap_or(&facts.version), scheme))
            || facts.replaces.iter().any(|r| r.id == target.id)
    }

    /// Puts the picked versions in the order of the rule and drops what nothing needs.
    fn answer(&self, picked: &BTreeMap<ItemId, usize>) -> Answer {
        let facts = |id: &ItemId| {
            let known = self.known.get(id)?;
            Some((known.versions.get(*picked.get(id)?)?, known.scheme))
        };
        let mut chosen: Vec<Chosen> = Vec::new();
        let add = |id: &ItemId, wanted: bool, chosen: &mut Vec<Chosen>| {
            if let (Some((facts, _)), false) = (facts(id), chosen.iter().any(|c| c.id == *id)) {
                chosen.push(Chosen { id: id.clone(), facts: facts.clone(), wanted });
            }
        };
        for want in &self.problem.wants {
            add(&want.id, true, &mut chosen);
        }
        let mut at = 0;
        while let Some(needs) = chosen.get(at).map(|c| c.facts.needs.clone()) {
            for need in needs {
                let by = |id: &ItemId| {
                    facts(id).is_some_and(|(f, s)| need.targets().iter().any(|t| self.satisfies(t, id, f, s)))
                };
                if !chosen.iter().any(|c| by(&c.id)) {
                    // the alternative named first, itself before what stands in for it
                    let named = need.targets().iter().map(|t| &t.id).find(|id| by(id));
                    if let Some(id) = named.or_else(|| picked.keys().find(|id| by(id))) {
                        add(&id.clone(), false, &mut chosen);
                    }
                }
            }
            at += 1;
        }
        self.drop_unneeded(&mut chosen);
        Answer { chosen }
    }

    /// Takes out, last first, what every need can spare, until nothing can be spared: what went may have been the
    /// only one to need another.
    fn drop_unneeded(&self, chosen: &mut Vec<Chosen>) {
        loop {
            let before = chosen.len();
            self.drop_once(chosen);
            if chosen.len() == before {
                return;
            }
        }
    }

    fn drop_once(&self, chosen: &mut Vec<Chosen>) {
        for at in (0..chosen.len()).rev() {
            let Some(one) = chosen.get(at).filter(|c| !c.wanted).map(|c| c.id.clone()) else { continue };
            let rest: Vec<&Chosen> = chosen.iter().filter(|c| c.id != one).collect();
            let spared = rest.iter().all(|c| {
                c.facts.needs.iter().all(|need| {
                    rest.iter().any(|r| {
                        let scheme = self.known.get(&r.id).map_or(Scheme::Plain, |k| k.scheme);
                        need.targets().iter().any(|t| self.satisfies(t, &r.id, &r.facts, scheme))
                    })
                })
            });
            if spared {
                chosen.remove(at);
            }
        }
    }
}

#[cfg(test)]
mod tests;
