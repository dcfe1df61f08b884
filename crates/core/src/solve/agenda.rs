//! What is decided next, in the order of the rule: the wants, then breadth first what was chosen for them needs, wishes
//! last. Each in turn gets the first of what would do that was not ruled out.

use super::rules::Rules;
use super::sat::{Followed, Lit, Origin};
use super::told::{Id, Told};
use super::{Problem, Question};
use crate::facts::{Need, VersionFacts};

/// One thing that must be met, or may be.
#[derive(Debug, Clone, Copy)]
struct Slot {
    ask: u32,
    /// For a wish, whose it is: it is taken where it does no harm.
    wish: Option<u32>,
}

/// Where the agenda stood before a decision.
#[derive(Debug, Clone, Copy)]
struct Mark {
    at: usize,
    slots: usize,
    chosen: usize,
    wished: bool,
}

/// How a search ended.
pub(super) enum Ended {
    /// These must be known first.
    Open(Vec<Question>),
    /// The chosen versions, in the order in which they were chosen.
    Found(Vec<u32>),
    /// The rules that are at fault.
    Impossible(Vec<Origin>),
}

/// The search: where it stands, and how it got there.
#[derive(Clone, Default)]
pub(super) struct Agenda {
    slots: Vec<Slot>,
    at: usize,
    /// Chosen versions.
    chosen: Vec<u32>,
    /// Of each id: whether one of its versions is chosen.
    is_chosen: Vec<bool>,
    /// Whether wishes were put on it.
    wished: bool,
    marks: Vec<Mark>,
    /// How much of what is assigned was looked at.
    looked: usize,
}

impl Agenda {
    /// Begins with what is wanted.
    pub(super) fn new(wants: impl IntoIterator<Item = u32>) -> Self {
        let slots = wants.into_iter().map(|ask| Slot { ask, wish: None }).collect();
        Self { slots, ..Self::default() }
    }

    /// Searches for the best choice by the rule.
    pub(super) fn search(&mut self, rules: &mut Rules, told: &Told, problem: &Problem) -> Ended {
        loop {
            match rules.sat.follow() {
                Followed::Impossible(faults) => return Ended::Impossible(faults),
                Followed::Back(level) => {
                    self.back_to(level, rules);
                    continue;
                }
                Followed::Rest => {}
            }
            if self.look(rules, told, problem) {
                continue;
            }
            match self.next(rules, told, problem) {
                Next::Again => {}
                Next::Try(lit) => {
                    let (slots, chosen) = (self.slots.len(), self.chosen.len());
                    self.marks.push(Mark { at: self.at, slots, chosen, wished: self.wished });
                    rules.sat.decide(lit);
                }
                Next::Done(open) if open.is_empty() => return Ended::Found(self.chosen.clone()),
                Next::Done(open) => return Ended::Open(open),
            }
        }
    }

    /// Opens what came to be true: what it asks for may rule out more. Returns whether clauses were added.
    fn look(&mut self, rules: &mut Rules, told: &Told, problem: &Problem) -> bool {
        let mut news = false;
        self.looked = self.looked.min(rules.sat.trail().len());
        while let Some(lit) = rules.sat.trail().get(self.looked).copied() {
            self.looked += 1;
            if lit.is_yes() && rules.what(lit.var()).is_some() && rules.asks_of(lit.var()).is_none() {
                rules.open(told, problem, lit.var());
                news = true;
            }
        }
        news
    }

    fn next(&mut self, rules: &mut Rules, told: &Told, problem: &Problem) -> Next {
        while let Some(slot) = self.slots.get(self.at).copied() {
            if self.is_met(rules, slot) {
                self.at += 1;
                continue;
            }
            let fits = &rules.asks[slot.ask as usize].fits;
            let first = fits.iter().copied().find(|v| rules.sat.holds(Lit::yes(*v)) != Some(false));
            match first {
                Some(var) if rules.sat.holds(Lit::yes(var)) == Some(true) => {
                    self.at += 1;
                    self.choose(rules, told, problem, var);
                }
                Some(var) => return Next::Try(Lit::yes(var)),
                // a wish that cannot be; what must be and cannot is a conflict that was met before
                None => self.at += 1,
            }
        }
        // what cannot be looked into yet may rule the wishes out
        // most were looked into already
        let all_known = self.chosen.iter().all(|v| rules.asks_of(*v).is_some());
        let open = if all_known { Vec::new() } else { self.unknown(rules, told, |facts| &facts.needs) };
        if self.wished || !open.is_empty() {
            return Next::Done(open);
        }
        let open = self.unknown(rules, told, |facts| &facts.wishes);
        if !open.is_empty() {
            return Next::Done(open);
        }
        self.wished = true;
        for owner in self.chosen.clone() {
            let Some((id, version)) = rules.what(owner) else { continue };
            for (at, need) in told.version(id, version).iter().flat_map(|f| &f.wishes).enumerate() {
                let ask = rules.ask(told, problem, need, (id, version, at as u32, true));
                self.slots.push(Slot { ask, wish: Some(owner) });
            }
        }
        Next::Again
    }

    /// The questions about what the chosen versions ask for.
    fn unknown(&self, rules: &Rules, told: &Told, of: fn(&VersionFacts) -> &[Need]) -> Vec<Question> {
        let mut out = Vec::new();
        for var in &self.chosen {
            let Some((id, version)) = rules.what(*var) else { continue };
            let Some(asked) = told.version(id, version).map(of).filter(|asked| !asked.is_empty()) else { continue };
            for number in asked.iter().flat_map(Need::targets).filter_map(|t| told.find(&t.id)) {
                if told.is_open(number) {
                    told.unasked(number, &mut out);
                }
            }
        }
        out.sort();
        out.dedup();
        out
    }

    /// Whether something that was chosen already meets it.
    fn is_met(&self, rules: &Rules, slot: Slot) -> bool {
        rules.asks[slot.ask as usize]
            .fits
            .iter()
            .any(|v| rules.sat.holds(Lit::yes(*v)) == Some(true) && rules.what(*v).is_some_and(|(id, _)| self.has(id)))
    }

    fn has(&self, id: Id) -> bool {
        self.is_chosen.get(id as usize).copied().unwrap_or(false)
    }

    /// Puts what a chosen version needs on the agenda, as far as it is known.
    fn choose(&mut self, rules: &mut Rules, told: &Told, problem: &Problem, var: u32) {
        let Some((id, _)) = rules.what(var) else { return };
        if self.is_chosen.len() <= id as usize {
            self.is_chosen.resize(id as usize + 1, false);
        }
        self.is_chosen[id as usize] = true;
        self.chosen.push(var);
        if rules.asks_of(var).is_none() {
            rules.open(told, problem, var);
        }
        self.slots.extend(rules.known_asks(var).map(|ask| Slot { ask, wish: None }));
    }

    /// Goes back with the assignment.
    pub(super) fn back_to(&mut self, level: usize, rules: &Rules) {
        let Some(mark) = self.marks.get(level).copied() else { return };
        self.marks.truncate(level);
        for var in self.chosen.drain(mark.chosen..) {
            if let Some((id, _)) = rules.what(var) {
                self.is_chosen[id as usize] = false;
            }
        }
        self.slots.truncate(mark.slots);
        self.at = mark.at;
        self.wished = mark.wished;
        self.looked = 0;
    }

    /// Returns the wishes: whose they are, and what they ask for.
    pub(super) fn wishes(&self) -> impl Iterator<Item = (u32, u32)> + '_ {
        self.slots.iter().filter_map(|s| Some((s.wish?, s.ask)))
    }
}

enum Next {
    Again,
    Try(Lit),
    /// With the questions that are left.
    Done(Vec<Question>),
}
