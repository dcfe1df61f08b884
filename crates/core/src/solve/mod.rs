//! Which items, in which versions: a solver that does no reading.
//!
//! [`Solver::step`] returns questions, an answer, or why there is none. The caller answers as many questions at
//! once as it likes and steps again; facts found by opening archives enter through [`Solver::tell`] too and
//! replace what a catalogue said.
//!
//! The answer satisfies every rule, holds nothing that nothing needs, and is the best by the rule of
//! `docs/solving.md`: the wanted items in roster order, then what was chosen for them needs, breadth first. Each in turn
//! gets the first of what would do that still leaves an answer: what the ledger has ([`Problem::prefer`]), else the
//! newest; among alternatives one that is on the server, else the first named, itself before what stands in for it. What
//! was chosen already is taken for a need that it meets. Wishes come last, where they do no harm. At last what turned out
//! to be needed by nothing goes.

mod agenda;
mod helps;
mod reasons;
mod rules;
mod sat;
mod tell;
mod told;

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use agenda::{Agenda, Ended};
use rules::{Rule, Rules};
use told::Told;

pub use helps::{Help, Helped, MOST_HELPS, OtherCore};
pub use reasons::{Reason, Reasons};
pub use tell::{MOST_TOLD, tell};

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

/// Versions that are never to be taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Never {
    /// The item.
    pub id: ItemId,
    /// Its versions.
    pub range: Range,
    /// The roster's line, from 1.
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
    /// Items that are on the server: among alternatives they come first, in whatever version.
    pub there: BTreeSet<ItemId>,
    /// What is never to be taken.
    pub never: Vec<Never>,
    /// Items that are held: no other version than this, if any.
    pub held: BTreeMap<ItemId, Version>,
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

/// The solver: a problem, the facts told so far, and what was learnt from them.
#[derive(Clone)]
pub struct Solver {
    problem: Problem,
    told: Told,
    rules: Rules,
    /// Of each want: what it asks for, once everything about it is known.
    wants: Vec<Option<u32>>,
}

impl Solver {
    /// Returns a solver that knows nothing yet.
    pub fn new(problem: Problem) -> Self {
        let wants = vec![None; problem.wants.len()];
        Self { problem, told: Told::default(), rules: Rules::default(), wants }
    }

    /// Returns a solver of another problem that knows the same facts.
    pub fn again(&self, problem: Problem) -> Self {
        Self { told: self.told.clone(), ..Self::new(problem) }
    }

    /// Returns the problem.
    pub fn problem(&self) -> &Problem {
        &self.problem
    }

    /// Returns what is known of an item: its versions, newest first, and how they are in order; `None` where nobody was
    /// asked.
    pub fn versions(&self, id: &ItemId) -> Option<(&[VersionFacts], Scheme)> {
        let known = self.told.known(self.told.find(id)?)?;
        Some((known.versions.as_slice(), known.scheme))
    }

    /// Answers a question. A later answer replaces an earlier one.
    pub fn tell(&mut self, question: Question, fact: Fact) {
        if self.told.tell(question, fact) {
            self.begin_anew();
        }
    }

    /// Replaces what is known of one version by what was found inside its archive. Returns whether that
    /// changed anything the answer depends on.
    pub fn learn(&mut self, id: &ItemId, found: VersionFacts) -> bool {
        let news = self.told.learn(id, found);
        if news {
            self.begin_anew();
        }
        news
    }

    /// Forgets what followed from facts that were replaced.
    fn begin_anew(&mut self) {
        self.rules = Rules::default();
        self.wants = vec![None; self.problem.wants.len()];
    }

    /// Takes the next step with what is known.
    pub fn step(&mut self) -> Step {
        let Self { problem, told, rules, wants } = self;
        rules.sat.back_to(0);
        let mut open = Vec::new();
        for (at, want) in problem.wants.iter().enumerate() {
            let id = told.number(&want.id);
            told.unasked(id, &mut open);
            let slot = wants.get_mut(at).filter(|w| w.is_none());
            let (Some(slot), Some(known)) = (slot, told.known(id)) else { continue };
            let order = rules::kept_first(problem, &want.id, known, known.within(&want.range));
            let Some(first) = rules.reach(told, problem, id) else { continue };
            let ask = rules.add_ask(order.into_iter().map(|v| first + v).collect());
            rules.must(ask, Rule::Wanted(at as u32));
            *slot = Some(ask);
        }
        let mut agenda = Agenda::new(wants.iter().flatten().copied());
        match agenda.search(rules, told, problem) {
            Ended::Open(questions) => {
                open.extend(questions);
                open.sort();
                open.dedup();
                Step::Need(open)
            }
            Ended::Found(_) if !open.is_empty() => {
                open.sort();
                open.dedup();
                Step::Need(open)
            }
            Ended::Found(chosen) => {
                let wishes: Vec<(u32, u32)> = agenda.wishes().collect();
                Step::Answer(self.answer(chosen, &wishes))
            }
            Ended::Impossible(faults) => {
                Step::Impossible(reasons::smallest(&self.problem, &self.told, &self.rules, &faults))
            }
        }
    }

    /// Drops what nothing needs, last first, until nothing can be spared: what went may have been the only one to need
    /// another.
    fn answer(&self, mut chosen: Vec<u32>, wishes: &[(u32, u32)]) -> Answer {
        let (rules, told) = (&self.rules, &self.told);
        let place: HashMap<u32, usize> = chosen.iter().enumerate().map(|(at, v)| (*v, at)).collect();
        // each need of each that is there, with how many meet it
        let mut asks: Vec<(usize, u32)> = Vec::new();
        let mut meets: Vec<Vec<usize>> = vec![Vec::new(); chosen.len()];
        let mut count: Vec<usize> = Vec::new();
        let wishing = wishes.iter().filter_map(|(owner, ask)| Some((*place.get(owner)?, *ask)));
        let needs = chosen.iter().enumerate().flat_map(|(at, v)| rules.known_asks(*v).map(move |ask| (at, ask)));
        for (owner, ask) in needs.chain(wishing) {
            let by: Vec<usize> = rules.asks[ask as usize].fits.iter().filter_map(|v| place.get(v).copied()).collect();
            for at in &by {
                meets[*at].push(asks.len());
            }
            count.push(by.len());
            asks.push((owner, ask));
        }
        let wants: HashSet<u32> = self.problem.wants.iter().filter_map(|w| told.find(&w.id)).collect();
        let is_wanted = |v: &u32| rules.what(*v).is_some_and(|(id, _)| wants.contains(&id));
        let wanted: Vec<bool> = chosen.iter().map(is_wanted).collect();
        let mut gone = vec![false; chosen.len()];
        loop {
            let before = gone.iter().filter(|g| **g).count();
            for at in (0..chosen.len()).rev().filter(|at| !wanted[*at]) {
                let alone = |ask: &usize| {
                    let owner = asks[*ask].0;
                    count[*ask] < 2 && owner != at && !gone[owner]
                };
                if gone[at] || meets[at].iter().any(alone) {
                    continue;
                }
                gone[at] = true;
                for ask in &meets[at] {
                    count[*ask] = count[*ask].saturating_sub(1);
                }
            }
            if gone.iter().filter(|g| **g).count() == before {
                break;
            }
        }
        let mut at = 0;
        chosen.retain(|_| {
            at += 1;
            !gone[at - 1]
        });
        let one = |var: &u32| {
            let (id, version) = rules.what(*var)?;
            Some(Chosen {
                id: told.name(id).clone(),
                facts: told.version(id, version)?.clone(),
                wanted: is_wanted(var),
            })
        };
        Answer { chosen: chosen.iter().filter_map(one).collect() }
    }
}

#[cfg(test)]
mod tests;
