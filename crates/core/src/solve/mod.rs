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
mod runs;
mod search;
mod tell;
mod told;

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::sync::Arc;

use agenda::{Agenda, Ended, Pick};
use rules::Rules;
use told::{Known, Told};

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
    /// It was given up after very many conflicts: what these items ask of each other is too tangled.
    TooHard,
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
    pub facts: Facts,
    /// Whether the roster names it.
    pub wanted: bool,
}

/// What is known of one version, shared with whoever told it.
#[derive(Clone)]
pub struct Facts {
    known: Arc<Known>,
    place: u32,
}

impl std::ops::Deref for Facts {
    type Target = VersionFacts;
    fn deref(&self) -> &VersionFacts {
        &self.known.versions[self.place as usize - 1]
    }
}

impl PartialEq for Facts {
    fn eq(&self, other: &Self) -> bool {
        **self == **other
    }
}

impl Eq for Facts {}

impl std::fmt::Debug for Facts {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        (**self).fmt(f)
    }
}

/// After so many conflicts a search is given up: ordinary ones meet far fewer.
pub const MOST_CONFLICTS: usize = 50_000;

/// The solver: a problem, the facts told so far, and what was learnt from them.
#[derive(Clone)]
pub struct Solver {
    problem: Problem,
    told: Told,
    rules: Rules,
    agenda: Agenda,
    patience: usize,
}

impl Solver {
    /// Returns a solver that knows nothing yet.
    pub fn new(problem: Problem) -> Self {
        let agenda = Agenda::new(problem.wants.len());
        Self { problem, told: Told::default(), rules: Rules::default(), agenda, patience: MOST_CONFLICTS }
    }

    /// Returns a solver of another problem that knows the same facts.
    pub fn again(&self, problem: Problem) -> Self {
        Self { told: self.told.clone(), patience: self.patience, ..Self::new(problem) }
    }

    /// Returns the solver with another number of conflicts than [`MOST_CONFLICTS`] after which it gives up.
    pub fn with_patience(self, conflicts: usize) -> Self {
        Self { patience: conflicts, ..self }
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
        self.agenda = Agenda::new(self.problem.wants.len());
    }

    /// Takes the next step with what is known.
    pub fn step(&mut self) -> Step {
        let Self { problem, told, rules, agenda, patience } = self;
        rules.next_round();
        match agenda.search(rules, told, problem, *patience) {
            Ended::TooHard => Step::TooHard,
            Ended::Open(questions) => Step::Need(questions),
            Ended::Found => Step::Answer(self.answer()),
            Ended::Impossible(faults) => Step::Impossible(reasons::smallest(problem, told, rules, &faults)),
        }
    }

    /// Drops what nothing needs, last first, until nothing can be spared: what went may have been the only one to need
    /// another.
    fn answer(&self) -> Answer {
        let (rules, told, chosen) = (&self.rules, &self.told, self.agenda.chosen());
        let place: HashMap<u32, usize> = chosen.iter().enumerate().map(|(at, (item, _))| (*item, at)).collect();
        // each need of each that is there, with how many meet it
        let mut asks: Vec<(usize, u32)> = Vec::new();
        let mut meets: Vec<Vec<usize>> = vec![Vec::new(); chosen.len()];
        let mut count: Vec<usize> = Vec::new();
        let needs = chosen.iter().enumerate();
        let needs = needs.flat_map(|(at, (item, place))| rules.asks_of(*item, *place).map(move |ask| (at, ask)));
        for (owner, ask) in needs.chain(self.agenda.wishes()) {
            let before = asks.len();
            let mut by = 0;
            for part in rules.fits(ask) {
                let at = place.get(&part.item).filter(|at| runs::has(rules.search.places(part.set), chosen[**at].1));
                // two parts may be of one item
                if let Some(at) = at.filter(|at| meets[**at].last() != Some(&before)) {
                    meets[*at].push(before);
                    by += 1;
                }
            }
            count.push(by);
            asks.push((owner, ask));
        }
        let wants: HashSet<u32> = self.problem.wants.iter().filter_map(|w| rules.item(told.find(&w.id)?)).collect();
        let is_wanted = |(item, _): &Pick| wants.contains(item);
        let mut gone = vec![false; chosen.len()];
        loop {
            let mut any = false;
            for at in (0..chosen.len()).rev().filter(|at| !is_wanted(&chosen[*at])) {
                let alone = |ask: &usize| {
                    let owner = asks[*ask].0;
                    count[*ask] < 2 && owner != at && !gone[owner]
                };
                if gone[at] || meets[at].iter().any(alone) {
                    continue;
                }
                (gone[at], any) = (true, true);
                for ask in &meets[at] {
                    count[*ask] = count[*ask].saturating_sub(1);
                }
            }
            if !any {
                break;
            }
        }
        let one = |(pick, _): (&Pick, &bool)| {
            let id = rules.id(pick.0);
            let facts = Facts { known: told.known(id)?.clone(), place: pick.1 };
            Some(Chosen { id: told.name(id).clone(), facts, wanted: is_wanted(pick) })
        };
        Answer { chosen: chosen.iter().zip(&gone).filter(|(_, gone)| !**gone).filter_map(one).collect() }
    }
}

#[cfg(test)]
mod tests;
