//! Made-up worlds of items, from a number; and what the rule of docs/solving.md says of them, by trying everything.
#![allow(dead_code, unreachable_pub, missing_docs)] // a helper of several tests; none uses all of it

use std::collections::{BTreeMap, BTreeSet};

use yalotheca_core::facts::{Need, Provided, Target, VersionFacts};
use yalotheca_core::id::ItemId;
use yalotheca_core::solve::{Answer, Fact, Never, Problem, Question, Reasons, Solver, Step, Wanted};
use yalotheca_core::version::{Range, Scheme, Version};

/// Numbers that look random and are the same every time.
#[derive(Clone)]
pub struct Dice(pub u64);

impl Dice {
    pub fn roll(&mut self, sides: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0.wrapping_mul(0x2545_F491_4F6C_DD1D) >> 33) as usize % sides.max(1)
    }

    pub fn one_in(&mut self, sides: usize) -> bool {
        self.roll(sides) == 0
    }

    pub fn shuffle<T>(&mut self, list: &mut [T]) {
        for at in (1..list.len()).rev() {
            list.swap(at, self.roll(at + 1));
        }
    }
}

pub fn id(number: usize) -> ItemId {
    ItemId::new(&format!("i{number:02}")).unwrap()
}

/// Items with their versions, newest first.
#[derive(Clone, Debug)]
pub struct World(pub BTreeMap<ItemId, Vec<VersionFacts>>);

impl World {
    /// Returns a world of so many items of at most so many versions.
    pub fn roll(dice: &mut Dice, items: usize, versions: usize) -> Self {
        let mut out = BTreeMap::new();
        for item in 0..items {
            let count = if dice.one_in(9) { 0 } else { 1 + dice.roll(versions) };
            let mut all = Vec::new();
            for number in (1..=count).rev() {
                let mut facts = VersionFacts::bare(&number.to_string());
                for _ in 0..dice.roll(3) {
                    Self::rule(dice, items, versions, &mut facts);
                }
                if dice.one_in(12) {
                    facts.channel = "beta".into();
                }
                if dice.one_in(10) {
                    facts.games = Range::parse("^2").unwrap();
                }
                all.push(facts);
            }
            out.insert(id(item), all);
        }
        Self(out)
    }

    fn rule(dice: &mut Dice, items: usize, versions: usize, facts: &mut VersionFacts) {
        let mut target = || {
            let range = match dice.roll(4) {
                0 | 1 => "*".to_owned(),
                2 => format!(">={}", 1 + dice.roll(versions)),
                _ => format!("={}", 1 + dice.roll(versions)),
            };
            Target { id: id(dice.roll(items)), range: Range::parse(&range).unwrap() }
        };
        let (a, b) = (target(), target());
        match dice.roll(10) {
            0..=3 => facts.needs.push(Need::One(a)),
            4 | 5 => facts.needs.push(Need::Any { any: vec![a, b] }),
            6 => facts.clashes.push(a),
            7 => facts.welcomes.push(a),
            8 => {
                let version = dice.one_in(2).then(|| Version::new(&(1 + dice.roll(versions)).to_string()));
                facts.provides.push(Provided { id: a.id, version });
            }
            _ if dice.one_in(2) => facts.replaces.push(a),
            _ => facts.wishes.push(Need::One(a)),
        }
    }

    pub fn fact(&self, question: &Question, dice: &mut Dice) -> Fact {
        let mut with = |test: &dyn Fn(&VersionFacts) -> bool| {
            let mut items: Vec<ItemId> =
                self.0.iter().filter(|(_, vs)| vs.iter().any(test)).map(|(i, _)| i.clone()).collect();
            dice.shuffle(&mut items);
            Fact::Items(items)
        };
        match question {
            Question::Versions(id) => {
                Fact::Versions { scheme: Scheme::Plain, versions: self.0.get(id).cloned().unwrap_or_default() }
            }
            Question::Provides(id) => with(&|v| v.provides.iter().any(|p| p.id == *id)),
            Question::Replaces(id) => with(&|v| v.replaces.iter().any(|r| r.id == *id)),
            _ => Fact::Items(Vec::new()),
        }
    }

    /// Solves, answering all that is asked in an order that the dice say.
    pub fn solve(&self, problem: &Problem, dice: &mut Dice) -> Result<Answer, Reasons> {
        self.go_on(&mut Solver::new(problem.clone()), dice, false)
    }

    /// Solves, answering only some of what is asked each time.
    pub fn solve_by_and_by(&self, problem: &Problem, dice: &mut Dice) -> Result<Answer, Reasons> {
        self.go_on(&mut Solver::new(problem.clone()), dice, true)
    }

    pub fn go_on(&self, solver: &mut Solver, dice: &mut Dice, by_and_by: bool) -> Result<Answer, Reasons> {
        for _ in 0..1_000 {
            match solver.step() {
                Step::Need(mut questions) => {
                    assert!(!questions.is_empty());
                    dice.shuffle(&mut questions);
                    let some = if by_and_by { 1 + dice.roll(questions.len()) } else { questions.len() };
                    for question in questions.into_iter().take(some) {
                        let fact = self.fact(&question, dice);
                        solver.tell(question, fact);
                    }
                }
                Step::Answer(answer) => return Ok(answer),
                Step::Impossible(reasons) => return Err(reasons),
                Step::TooHard => panic!("given up"),
            }
        }
        panic!("the solver asks for ever");
    }
}

/// A problem over a world, with everything that a roster can say.
pub fn problem(dice: &mut Dice, items: usize, versions: usize) -> Problem {
    let mut out = Problem::default();
    out.server.set("game", vec![(1 + dice.roll(2)).to_string()]);
    let mut all: Vec<usize> = (0..items).collect();
    dice.shuffle(&mut all);
    for (line, item) in all.iter().take(1 + dice.roll(3)).enumerate() {
        let range = if dice.one_in(3) { format!(">={}", 1 + dice.roll(versions)) } else { "*".to_owned() };
        let range = Range::parse(&range).unwrap();
        out.wants.push(Wanted { id: id(*item), range, beta: dice.one_in(4), line: line + 1 });
    }
    for item in 0..items {
        let version = Version::new(&(1 + dice.roll(versions)).to_string());
        match dice.roll(9) {
            0 | 1 => drop(out.prefer.insert(id(item), version)),
            2 => drop(out.there.insert(id(item))),
            3 if dice.one_in(4) => {
                let range = Range::parse(&version.to_string()).unwrap();
                out.never.push(Never { id: id(item), range, line: 20 + item });
            }
            4 if dice.one_in(5) => drop(out.held.insert(id(item), version)),
            _ => {}
        }
    }
    out
}

pub type Picked = BTreeMap<ItemId, VersionFacts>;

fn provided(f: &VersionFacts, t: &Target) -> bool {
    let held = |p: &Provided| t.range.holds(p.version.as_ref().unwrap_or(&f.version), Scheme::Plain);
    f.provides.iter().any(|p| p.id == t.id && held(p))
}

pub fn meets(i: &ItemId, f: &VersionFacts, t: &Target) -> bool {
    (*i == t.id && t.range.holds(&f.version, Scheme::Plain))
        || provided(f, t)
        || f.replaces.iter().any(|r| r.id == t.id)
}

pub fn fits(problem: &Problem, i: &ItemId, f: &VersionFacts) -> bool {
    let want = problem.wants.iter().find(|w| w.id == *i);
    let beta = want.is_some_and(|w| w.beta || w.range.names(&f.version)) || problem.prefer.get(i) == Some(&f.version);
    f.misfit(&problem.server, Scheme::Plain).is_none()
        && (f.channel == "stable" || beta)
        && problem.held.get(i).is_none_or(|h| *h == f.version)
        && !problem.never.iter().any(|n| n.id == *i && n.range.holds(&f.version, Scheme::Plain))
}

pub fn apart(a: &ItemId, f: &VersionFacts, b: &ItemId, g: &VersionFacts) -> bool {
    let hit = |t: &Target| (*b == t.id && t.range.holds(&g.version, Scheme::Plain)) || provided(g, t);
    a != b
        && (f.clashes.iter().any(hit)
            || f.replaces.iter().any(hit)
            || f.welcomes.iter().any(|t| *b == t.id && !t.range.holds(&g.version, Scheme::Plain)))
}

pub fn allowed(problem: &Problem, picked: &Picked) -> bool {
    problem.wants.iter().all(|w| picked.get(&w.id).is_some_and(|f| w.range.holds(&f.version, Scheme::Plain)))
        && picked.iter().all(|(i, f)| {
            fits(problem, i, f)
                && f.needs.iter().all(|n| n.targets().iter().any(|t| picked.iter().any(|(o, g)| meets(o, g, t))))
                && !picked.iter().any(|(o, g)| apart(i, f, o, g))
        })
}

/// Every allowed choice among all versions of all items.
pub fn all_allowed(world: &World, problem: &Problem) -> Vec<Picked> {
    let items: Vec<_> = world.0.iter().collect();
    let mut out = Vec::new();
    let mut at = vec![0usize; items.len()];
    loop {
        let picked: Picked = items
            .iter()
            .zip(&at)
            .filter(|(_, n)| **n > 0)
            .map(|((i, vs), n)| ((*i).clone(), vs[n - 1].clone()))
            .collect();
        if allowed(problem, &picked) {
            out.push(picked);
        }
        let Some(place) = (0..at.len()).find(|p| at[*p] < items[*p].1.len()) else { return out };
        at[place] += 1;
        at[..place].fill(0);
    }
}

/// What the rule takes, found by keeping, of all that is allowed, what has each choice in turn.
pub fn by_the_rule(world: &World, problem: &Problem, mut left: Vec<Picked>) -> Vec<(ItemId, Version)> {
    let order = |i: &ItemId, fit: &dyn Fn(&VersionFacts) -> bool| {
        let mut all: Vec<VersionFacts> = world.0.get(i).into_iter().flatten().filter(|f| fit(f)).cloned().collect();
        all.sort_by_key(|f| problem.prefer.get(i) != Some(&f.version));
        all.into_iter().map(|f| (i.clone(), f)).collect::<Vec<_>>()
    };
    let for_need = |need: &Need| {
        let mut out: Vec<(ItemId, VersionFacts)> = Vec::new();
        for target in need.targets() {
            let with = |test: &dyn Fn(&VersionFacts) -> bool| {
                world
                    .0
                    .iter()
                    .filter(|(i, vs)| **i != target.id && vs.iter().any(test))
                    .map(|(i, _)| i.clone())
                    .collect::<Vec<_>>()
            };
            let mut ids = vec![target.id.clone()];
            ids.extend(with(&|v| v.provides.iter().any(|p| p.id == target.id)));
            let more = with(&|v| v.replaces.iter().any(|r| r.id == target.id));
            ids.extend(more.into_iter().filter(|m| !ids.contains(m)).collect::<Vec<_>>());
            for i in ids {
                for one in order(&i, &|f| meets(&i, f, target)) {
                    if !out.contains(&one) {
                        out.push(one);
                    }
                }
            }
        }
        out.sort_by_key(|(i, _)| !(problem.there.contains(i) || problem.prefer.contains_key(i)));
        out
    };
    let mut slots: Vec<Vec<(ItemId, VersionFacts)>> =
        problem.wants.iter().map(|w| order(&w.id, &|f| w.range.holds(&f.version, Scheme::Plain))).collect();
    let mut chosen: Vec<(ItemId, VersionFacts)> = Vec::new();
    let mut wishes: Vec<(ItemId, Vec<(ItemId, VersionFacts)>)> = Vec::new();
    let (mut at, mut wished) = (0, false);
    loop {
        let Some(slot) = slots.get(at).cloned() else {
            if std::mem::replace(&mut wished, true) {
                break;
            }
            for (owner, f) in chosen.clone() {
                for need in &f.wishes {
                    slots.push(for_need(need));
                    wishes.push((owner.clone(), for_need(need)));
                }
            }
            continue;
        };
        at += 1;
        if chosen.iter().any(|c| slot.contains(c)) {
            continue;
        }
        let has = |p: &Picked, c: &(ItemId, VersionFacts)| p.get(&c.0) == Some(&c.1);
        if let Some(first) = slot.iter().find(|c| left.iter().any(|p| has(p, c))) {
            left.retain(|p| has(p, first));
            chosen.push(first.clone());
            slots.extend(first.1.needs.iter().map(for_need));
        }
    }
    // what nothing needs goes, last first
    loop {
        let before = chosen.len();
        for at in (0..chosen.len()).rev() {
            let one = chosen[at].clone();
            let rest: Vec<_> = chosen.iter().filter(|c| **c != one).cloned().collect();
            let met = |slot: &[(ItemId, VersionFacts)]| !slot.contains(&one) || rest.iter().any(|c| slot.contains(c));
            let spared = rest.iter().all(|(_, f)| f.needs.iter().all(|n| met(&for_need(n))))
                && wishes.iter().all(|(owner, w)| !rest.iter().any(|c| c.0 == *owner) || met(w));
            if spared && !problem.wants.iter().any(|w| w.id == one.0) {
                chosen.remove(at);
            }
        }
        if chosen.len() == before {
            break;
        }
    }
    chosen.into_iter().map(|(i, f)| (i, f.version)).collect()
}

/// The items of a world that some versions of others speak of; for making worlds connected.
pub fn spoken(world: &World) -> BTreeSet<ItemId> {
    world.0.values().flatten().flat_map(|f| &f.needs).flat_map(|n| n.targets()).map(|t| t.id.clone()).collect()
}
