//! What is decided next, in the order of the rule: the wants, then breadth first what was chosen for them needs, wishes
//! last. Each in turn gets the first of what would do that was not ruled out.
//!
//! The agenda outlives a step: where something was passed over because it is not known yet, it is gone on from there.

use std::sync::Arc;

use super::rules::Rules;
use super::search::{Followed, Origin, Term};
use super::told::{Id, Known, Told};
use super::{Problem, Question};

/// A chosen version: its item's number in the search, and its place.
pub(super) type Pick = (u32, u32);

/// What is gone through, one after the other.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
enum Stage {
    /// The lines of the roster.
    #[default]
    Wants,
    /// What the chosen need.
    Needs,
    /// What the chosen wish for.
    Wishes,
    /// What those need that a wish brought.
    Brought,
}

/// Something that must be met, or may be, by where it stands: whose it is among the chosen, and its place there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
struct Point {
    stage: Stage,
    owner: usize,
    part: usize,
}

/// Where the agenda stood.
#[derive(Debug, Clone, Copy, Default)]
struct Mark {
    at: Point,
    chosen: usize,
    level: usize,
}

/// So many conflicts stand for a search that was given up.
const GIVEN_UP: usize = usize::MAX;

/// How a search ended.
pub(super) enum Ended {
    /// These must be known first.
    Open(Vec<Question>),
    /// The chosen versions are the answer.
    Found,
    /// The rules that are at fault.
    Impossible(Vec<Origin>),
    /// There were too many conflicts.
    TooHard,
}

/// The search: where it stands, and how it got there.
#[derive(Clone, Default)]
pub(super) struct Agenda {
    at: Point,
    /// Of each want: what it asks for, once everything about it is known.
    wants: Vec<Option<u32>>,
    chosen: Vec<Pick>,
    /// Of each item of the search: whether it is chosen.
    is_chosen: Vec<bool>,
    /// So many were chosen when the wishes began.
    wishing: usize,
    /// What each of those wishes for, once it is that far.
    wishes: Vec<Vec<u32>>,
    /// Before each decision.
    marks: Vec<Mark>,
    /// The first that was passed over because it is not known yet.
    passed: Option<Mark>,
    /// How much of what was narrowed down was looked at.
    looked: usize,
    /// So many conflicts there were.
    conflicts: usize,
}

impl Agenda {
    /// Begins with so many wants.
    pub(super) fn new(wants: usize) -> Self {
        Self { wants: vec![None; wants], ..Self::default() }
    }

    /// Returns what was chosen, in the order of the rule.
    pub(super) fn chosen(&self) -> &[Pick] {
        &self.chosen
    }

    /// Returns the wishes: whose they are among the chosen, and what they ask for.
    pub(super) fn wishes(&self) -> impl Iterator<Item = (usize, u32)> + '_ {
        let of = |(owner, asks): (usize, &Vec<u32>)| asks.iter().map(move |ask| (owner, *ask)).collect::<Vec<_>>();
        self.wishes.iter().enumerate().flat_map(of)
    }

    /// Searches for the best choice by the rule, from where it was left; gives up after so many conflicts.
    pub(super) fn search(&mut self, rules: &mut Rules, told: &mut Told, problem: &Problem, patience: usize) -> Ended {
        if self.conflicts == GIVEN_UP {
            return Ended::TooHard;
        }
        self.resume(rules);
        loop {
            match rules.search.follow() {
                Followed::Impossible(faults) => return Ended::Impossible(faults),
                Followed::Back(_) if self.conflicts >= patience => {
                    self.conflicts = GIVEN_UP;
                    return Ended::TooHard;
                }
                Followed::Back(level) => {
                    self.conflicts += 1;
                    self.back_to(level);
                    continue;
                }
                Followed::Rest => {}
            }
            if self.look(rules, told, problem) {
                continue;
            }
            match self.next(rules, told, problem) {
                Next::Again => {}
                // what it asks for may rule it out
                Next::Try(item, place) if !rules.is_open(item, place) => rules.open(told, problem, item, place),
                Next::Try(item, place) => {
                    self.marks.push(self.mark());
                    rules.search.decide(item, place);
                }
                Next::Done(open) if open.is_empty() => return Ended::Found,
                Next::Done(open) => return Ended::Open(open),
            }
        }
    }

    fn mark(&self) -> Mark {
        Mark { at: self.at, chosen: self.chosen.len(), level: self.marks.len() }
    }

    /// Goes on from the first that was passed over: what comes after it in order must not be chosen before it.
    fn resume(&mut self, rules: &mut Rules) {
        if let Some(passed) = self.passed.take() {
            rules.search.back_to(passed.level);
            self.return_to(passed);
        }
    }

    /// Goes back with the search.
    fn back_to(&mut self, level: usize) {
        let Some(mark) = self.marks.get(level).copied() else { return };
        self.return_to(mark);
    }

    fn return_to(&mut self, mark: Mark) {
        self.marks.truncate(mark.level);
        for (item, _) in self.chosen.drain(mark.chosen..) {
            self.is_chosen[item as usize] = false;
        }
        self.at = mark.at;
        if self.at.stage < Stage::Wishes {
            self.wishes.clear();
        }
        self.passed = self.passed.filter(|p| p.at < self.at);
    }

    /// Opens what came to be true: what it asks for may rule out more. Returns whether clauses were added.
    fn look(&mut self, rules: &mut Rules, told: &mut Told, problem: &Problem) -> bool {
        let mut settled: Vec<Pick> = Vec::new();
        self.looked = self.looked.min(rules.search.steps());
        for item in rules.search.narrowed(self.looked) {
            if let Some(place) = rules.search.place(item)
                && place > 0
                && !rules.is_open(item, place)
            {
                settled.push((item, place));
            }
        }
        self.looked = rules.search.steps();
        for (item, place) in &settled {
            rules.open(told, problem, *item, *place);
        }
        !settled.is_empty()
    }

    fn next(&mut self, rules: &mut Rules, told: &mut Told, problem: &Problem) -> Next {
        loop {
            let Some(asked) = self.asked(rules, told, problem) else { return self.end(rules, told, problem) };
            let Some(ask) = asked else {
                if let Some((item, place)) = self.owner()
                    && !rules.is_open(item, place)
                {
                    rules.open(told, problem, item, place);
                    return Next::Again;
                }
                if self.passed.is_none() {
                    self.passed = Some(self.mark());
                }
                self.at.part += 1;
                continue;
            };
            let fits = rules.fits(ask);
            let meets = |part: &Term| {
                let place = rules.search.place(part.item).filter(|_| self.has(part.item));
                place.is_some_and(|p| super::runs::has(rules.search.places(part.set), p))
            };
            if fits.iter().any(meets) {
                self.at.part += 1;
                continue;
            }
            let Some((item, place)) = fits.iter().find_map(|part| Some((part.item, rules.first_of(*part)?))) else {
                // a wish that cannot be; what must be and cannot is a conflict that was met before
                self.at.part += 1;
                continue;
            };
            if rules.search.place(item) != Some(place) {
                return Next::Try(item, place);
            }
            if !rules.is_open(item, place) {
                rules.open(told, problem, item, place);
                return Next::Again;
            }
            self.at.part += 1;
            self.choose((item, place));
        }
    }

    /// What is asked for where it stands: none behind the last; `Some(None)` where that is not known yet.
    fn asked(&mut self, rules: &mut Rules, told: &mut Told, problem: &Problem) -> Option<Option<u32>> {
        loop {
            let Point { stage, owner, part } = self.at;
            let last = if stage == Stage::Wishes { self.wishing } else { self.chosen.len() };
            let found = match stage {
                Stage::Wants if part < self.wants.len() => Some(self.want(part, rules, told, problem)),
                Stage::Wants => None,
                _ if owner >= last => None,
                Stage::Wishes => self.wishes.get(owner).and_then(|all| all.get(part)).map(|ask| Some(*ask)),
                Stage::Needs | Stage::Brought => {
                    let (item, place) = self.chosen[owner];
                    rules.ask_of(item, place, part).map(Result::ok)
                }
            };
            if found.is_some() {
                return found;
            }
            self.at = match stage {
                Stage::Wants => Point { stage: Stage::Needs, owner: 0, part: 0 },
                _ if owner < last => Point { stage, owner: owner + 1, part: 0 },
                Stage::Wishes => Point { stage: Stage::Brought, owner: last, part: 0 },
                Stage::Needs | Stage::Brought => return None,
            };
        }
    }

    /// Whose needs are gone through.
    fn owner(&self) -> Option<Pick> {
        let of_chosen = matches!(self.at.stage, Stage::Needs | Stage::Brought);
        self.chosen.get(self.at.owner).copied().filter(|_| of_chosen)
    }

    fn want(&mut self, at: usize, rules: &mut Rules, told: &mut Told, problem: &Problem) -> Option<u32> {
        if self.wants[at].is_none() {
            let id = told.number(&problem.wants.get(at)?.id);
            self.wants[at] = rules.want(told, problem, id, at as u32);
        }
        self.wants[at]
    }

    /// All that is known was gone through: asks for what is not, or goes on with the wishes.
    fn end(&mut self, rules: &mut Rules, told: &mut Told, problem: &Problem) -> Next {
        if let Some(Mark { at, .. }) = self.passed {
            // all that comes before it is known
            let wants = if at.stage == Stage::Wants { problem.wants.as_slice() } else { &[] };
            let mut ids: Vec<Id> = wants.iter().map(|w| told.number(&w.id)).collect();
            let from = if at.stage == Stage::Wants { 0 } else { at.owner };
            ids.extend(self.chosen.iter().skip(from).flat_map(|(item, place)| rules.unknown(*item, *place)));
            return Next::Done(questions(ids, told));
        }
        if self.at.stage == Stage::Brought {
            return Next::Done(Vec::new());
        }
        let mut ids: Vec<Id> = Vec::new();
        let mut wishes: Vec<(usize, Arc<Known>, u32)> = Vec::new();
        for (owner, (item, place)) in self.chosen.iter().enumerate() {
            let Some(known) = told.known(rules.id(*item)) else { continue };
            if known.at(*place).is_some_and(|f| !f.wishes.is_empty()) {
                wishes.push((owner, known.clone(), *place));
            }
        }
        for (_, known, place) in &wishes {
            for need in known.at(*place).iter().flat_map(|f| &f.wishes) {
                ids.extend(told.numbers(need));
            }
        }
        let open = questions(ids, told);
        if !open.is_empty() {
            return Next::Done(open);
        }
        self.wishing = self.chosen.len();
        self.wishes = vec![Vec::new(); self.wishing];
        for (owner, known, place) in &wishes {
            for need in known.at(*place).iter().flat_map(|f| &f.wishes) {
                let ids = told.numbers(need);
                let ask = rules.ask(told, problem, need, &ids);
                self.wishes[*owner].push(ask);
            }
        }
        self.at = Point { stage: Stage::Wishes, owner: 0, part: 0 };
        Next::Again
    }

    fn has(&self, item: u32) -> bool {
        self.is_chosen.get(item as usize).copied().unwrap_or(false)
    }

    fn choose(&mut self, pick: Pick) {
        let item = pick.0 as usize;
        if self.is_chosen.len() <= item {
            self.is_chosen.resize(item + 1, false);
        }
        self.is_chosen[item] = true;
        self.chosen.push(pick);
    }
}

enum Next {
    Again,
    Try(u32, u32),
    /// With the questions that are left.
    Done(Vec<Question>),
}

/// Returns what is to be asked about some ids.
fn questions(mut ids: Vec<Id>, told: &Told) -> Vec<Question> {
    ids.sort_unstable();
    ids.dedup();
    told.unasked(&ids)
}
