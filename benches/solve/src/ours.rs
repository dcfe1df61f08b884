//! Our own solver on an instance, asked as a catalogue would be: facts are made when they are asked for.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use yalotheca_core::facts::{Need, Provided, Target, VersionFacts};
use yalotheca_core::id::ItemId;
use yalotheca_core::solve::{Fact, Problem, Question, Solver, Step, Wanted, tell};
use yalotheca_core::version::{Range, Scheme};

use crate::instance::{ALL, Instance, Span};

fn id(item: usize) -> ItemId {
    ItemId::new(&format!("i{item}")).unwrap_or_else(|_| unreachable!())
}

fn target(span: &Span) -> Target {
    let (item, low, high) = *span;
    let text = match (low, high) {
        (1, ALL) => "*".to_owned(),
        (low, ALL) => format!(">={low}"),
        (low, high) if low == high => format!("={low}"),
        (low, high) => format!(">={low} <={high}"),
    };
    Target { id: id(item), range: Range::parse(&text).unwrap_or_default() }
}

fn facts(instance: &Instance, item: usize) -> Vec<VersionFacts> {
    let Some(versions) = instance.items.get(item) else { return Vec::new() };
    let one = |(number, version): (usize, &crate::instance::Version)| {
        let mut out = VersionFacts::bare(&(number + 1).to_string());
        let need = |any: &Vec<Span>| match any.as_slice() {
            [one] => Need::One(target(one)),
            any => Need::Any { any: any.iter().map(target).collect() },
        };
        out.needs = version.needs.iter().map(need).collect();
        out.clashes = version.apart.iter().map(target).collect();
        out.provides = version.provides.iter().map(|p| Provided { id: id(*p), version: None }).collect();
        out
    };
    versions.iter().enumerate().rev().map(one).collect()
}

/// Makes beforehand what will be asked for, and returns what solves with it: what came of it in words, and how long the
/// solver itself took.
pub fn solve(instance: &Instance) -> impl FnOnce() -> (String, Duration) {
    let mut providers: HashMap<usize, Vec<ItemId>> = HashMap::new();
    for (item, versions) in instance.items.iter().enumerate() {
        let mut all: Vec<usize> = versions.iter().flat_map(|v| v.provides.iter().copied()).collect();
        all.sort_unstable();
        all.dedup();
        all.into_iter().for_each(|p| providers.entry(p).or_default().push(id(item)));
    }
    let wants = instance.wants.iter().enumerate().map(|(line, want)| {
        let Target { id, range } = target(want);
        Wanted { id, range, beta: false, line: line + 1 }
    });
    let problem = Problem { wants: wants.collect(), ..Problem::default() };
    let mut made: HashMap<Question, Fact> = HashMap::new();
    let fact = |question: &Question| match question {
        Question::Versions(id) => Fact::Versions { scheme: Scheme::Plain, versions: facts(instance, number(id)) },
        Question::Provides(id) => Fact::Items(providers.get(&number(id)).cloned().unwrap_or_default()),
        _ => Fact::Items(Vec::new()),
    };
    go(problem.clone(), &mut |question| {
        made.insert(question.clone(), fact(question));
        fact(question)
    });
    move || go(problem, &mut |question| made.remove(question).unwrap_or(Fact::Items(Vec::new())))
}

fn number(id: &ItemId) -> usize {
    id.as_str()[1..].parse::<usize>().unwrap_or(0)
}

fn go(problem: Problem, fact: &mut dyn FnMut(&Question) -> Fact) -> (String, Duration) {
    let mut solver = Solver::new(problem);
    let (mut rounds, mut asked) = (0, 0);
    let mut took = Duration::ZERO;
    loop {
        rounds += 1;
        let begin = Instant::now();
        let step = solver.step();
        let told = if let Step::Impossible(reasons) = &step { tell(reasons).len() } else { 0 };
        took += begin.elapsed();
        let said = match step {
            Step::Need(questions) => {
                asked += questions.iter().filter(|q| matches!(q, Question::Versions(_))).count();
                let facts: Vec<Fact> = questions.iter().map(&mut *fact).collect();
                let begin = Instant::now();
                questions.into_iter().zip(facts).for_each(|(q, f)| solver.tell(q, f));
                took += begin.elapsed();
                continue;
            }
            Step::Answer(answer) => format!("{} items, {asked} looked at in {rounds} rounds", answer.chosen.len()),
            Step::TooHard => "given up".to_owned(),
            Step::Impossible(_) => format!("impossible, told in {told} lines"),
        };
        return (said, took);
    }
}
