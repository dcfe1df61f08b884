use super::*;
use crate::facts::{Need, Provided, Target};

fn id(text: &str) -> ItemId {
    ItemId::new(text).unwrap()
}

fn target(text: &str) -> Target {
    let (name, range) = text.split_once(' ').unwrap_or((text, "*"));
    Target { id: id(name), range: Range::parse(range).unwrap() }
}

fn want(text: &str, line: usize) -> Wanted {
    let target = target(text);
    Wanted { id: target.id, range: target.range, beta: false, line }
}

/// A world of items: `("a 1.0", "b ^1, c|d, !e <2, +virtual, ?f ^2, %old")`.
struct World(BTreeMap<ItemId, Vec<VersionFacts>>);

impl World {
    fn new(lines: &[(&str, &str)]) -> Self {
        let mut world: BTreeMap<ItemId, Vec<VersionFacts>> = BTreeMap::new();
        for (name, rules) in lines {
            let (item, version) = name.split_once(' ').unwrap();
            let mut facts = VersionFacts::bare(version);
            for rule in rules.split(',').map(str::trim).filter(|r| !r.is_empty()) {
                match rule.split_at(1) {
                    ("!", rest) => facts.clashes.push(target(rest)),
                    ("?", rest) => facts.welcomes.push(target(rest)),
                    ("%", rest) => facts.replaces.push(target(rest)),
                    ("+", rest) => facts.provides.push(Provided { id: id(rest), version: None }),
                    ("@", rest) => facts.games = Range::parse(rest).unwrap(),
                    _ => {
                        let any: Vec<Target> = rule.split('|').map(|t| target(t.trim())).collect();
                        facts.needs.push(if any.len() == 1 { Need::One(any[0].clone()) } else { Need::Any { any } });
                    }
                }
            }
            world.entry(id(item)).or_default().push(facts);
        }
        for versions in world.values_mut() {
            versions.sort_by(|a, b| b.version.total(&a.version, Scheme::Plain));
        }
        World(world)
    }

    fn fact(&self, question: &Question) -> Fact {
        let with = |test: &dyn Fn(&VersionFacts) -> bool| {
            Fact::Items(self.0.iter().filter(|(_, vs)| vs.iter().any(test)).map(|(i, _)| i.clone()).collect())
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

    fn solve(&self, problem: Problem) -> (Result<Vec<String>, Reasons>, usize) {
        let mut solver = Solver::new(problem);
        for round in 1..100 {
            match solver.step() {
                Step::Need(questions) => {
                    assert!(!questions.is_empty());
                    for question in questions {
                        let fact = self.fact(&question);
                        solver.tell(question, fact);
                    }
                }
                Step::Answer(answer) => {
                    let names = answer.chosen.iter().map(|c| format!("{} {}", c.id, c.facts.version)).collect();
                    return (Ok(names), round);
                }
                Step::Impossible(reasons) => return (Err(reasons), round),
                Step::TooHard => panic!("given up"),
            }
        }
        panic!("the solver asks for ever");
    }
}

fn problem(wants: &[&str]) -> Problem {
    Problem { wants: wants.iter().enumerate().map(|(at, w)| want(w, at + 1)).collect(), ..Problem::default() }
}

#[test]
fn the_newest_that_fits_everything_is_taken() {
    let world = World::new(&[
        ("chest-locks 2.0", "lock-core ^1"),
        ("chest-locks 2.1", "lock-core ^2"),
        ("pier-lights 1.0", "lock-core >=1.2 <2"),
        ("lock-core 1.1", ""),
        ("lock-core 1.3", ""),
        ("lock-core 2.0", ""),
    ]);
    let (answer, rounds) = world.solve(problem(&["chest-locks", "pier-lights"]));
    assert_eq!(answer.unwrap(), ["chest-locks 2.0", "pier-lights 1.0", "lock-core 1.3"]);
    assert!(rounds <= 3, "asked in {rounds} rounds");
}

#[test]
fn alternatives_providers_and_replacements_meet_a_need() {
    let world = World::new(&[
        ("a 1", "map|chart"),
        ("chart 3", "+atlas"),
        ("b 1", "atlas"),
        ("new-map 2", "%map"),
        ("map 1", "gone"),
    ]);
    assert_eq!(world.solve(problem(&["a"])).0.unwrap(), ["a 1", "new-map 2"]);
    assert_eq!(world.solve(problem(&["a", "b"])).0.unwrap(), ["a 1", "b 1", "chart 3"], "one item for both needs");
}

#[test]
fn what_the_ledger_has_stays() {
    let world = World::new(&[("a 1", "x"), ("a 2", "x"), ("x 1", ""), ("x 2", "")]);
    let mut kept = problem(&["a"]);
    kept.prefer.insert(id("x"), Version::new("1"));
    assert_eq!(world.solve(kept).0.unwrap(), ["a 2", "x 1"]);
}

#[test]
fn an_impossible_wish_names_the_lines_at_odds() {
    let world = World::new(&[
        ("chest-locks 2.0", "lock-core ^1"),
        ("pier-lights 1.0", "lock-core ^2"),
        ("lock-core 1.0", ""),
        ("lock-core 2.0", ""),
        ("bystander 1", ""),
    ]);
    let reasons = world.solve(problem(&["bystander", "chest-locks ^2", "pier-lights"])).0.unwrap_err();
    assert_eq!(
        tell(&reasons),
        [
            "roster line 2 wants chest-locks ^2",
            "chest-locks 2.0 needs lock-core ^1",
            "roster line 3 wants pier-lights",
            "pier-lights 1.0 needs lock-core ^2",
        ]
    );
    let reasons = world.solve(problem(&["chest-locks ^3"])).0.unwrap_err();
    assert_eq!(tell(&reasons), ["roster line 1 wants chest-locks ^3, and there is only 2.0"]);
    let reasons = world.solve(problem(&["nobody"])).0.unwrap_err();
    assert_eq!(tell(&reasons), ["roster line 1 wants nobody, which no catalogue offers"]);
}

#[test]
fn the_game_version_rules_out() {
    let world = World::new(&[("a 1", "@^1"), ("a 2", "@^2")]);
    let mut here = problem(&["a"]);
    here.server.set("game", vec!["1.8".to_owned()]);
    assert_eq!(world.solve(here.clone()).0.unwrap(), ["a 1"]);
    here.wants[0].range = Range::parse("^2").unwrap();
    let reasons = world.solve(here).0.unwrap_err();
    assert_eq!(tell(&reasons), ["roster line 1 wants a ^2", "a 2 fits game ^2, this server has 1.8"]);
}

#[test]
fn a_cycle_of_needs_is_no_trouble() {
    let world = World::new(&[("a 1", "b"), ("b 1", "c"), ("c 1", "a")]);
    assert_eq!(world.solve(problem(&["a"])).0.unwrap(), ["a 1", "b 1", "c 1"]);
}

#[test]
fn what_only_a_dropped_item_needed_goes_too() {
    let world = World::new(&[("a 1", "e|c"), ("c 1", ""), ("d 1", ""), ("e 1", "c,d")]);
    assert_eq!(world.solve(problem(&["a"])).0.unwrap(), ["a 1", "c 1"]);
}

#[test]
fn a_deep_dead_end_is_left_at_once() {
    // every version of the first items looks well until the last item rules all but the oldest out
    let mut lines: Vec<(String, String)> = Vec::new();
    for item in 0..8 {
        for version in 1..=12 {
            lines.push((format!("i{item} {version}"), "base".to_owned()));
        }
    }
    lines.push(("base 1".to_owned(), (0..8).map(|i| format!("?i{i} 1")).collect::<Vec<_>>().join(",")));
    let borrowed: Vec<(&str, &str)> = lines.iter().map(|(a, b)| (a.as_str(), b.as_str())).collect();
    let wants: Vec<String> = (0..8).map(|i| format!("i{i}")).collect();
    let wants: Vec<&str> = wants.iter().map(String::as_str).collect();
    let answer = World::new(&borrowed).solve(problem(&wants)).0.unwrap();
    assert_eq!(answer.len(), 9);
    assert!(answer.iter().all(|a| a.ends_with(" 1")), "{answer:?}");
}

#[test]
fn a_tangle_is_given_up() {
    // one item more than there are places for them
    let count = 12;
    let mut solver = Solver::new(problem(
        &(0..count).map(|n| format!("bird{n}")).collect::<Vec<_>>().iter().map(String::as_str).collect::<Vec<_>>(),
    ));
    solver = solver.with_patience(300);
    let facts = |bird: usize| {
        let one = |hole: usize| {
            let mut out = VersionFacts::bare(&hole.to_string());
            out.clashes = (0..count).filter(|o| *o != bird).map(|o| target(&format!("bird{o} ={hole}"))).collect();
            out
        };
        Fact::Versions { scheme: Scheme::Plain, versions: (1..count).rev().map(one).collect() }
    };
    loop {
        let Step::Need(questions) = solver.step() else { break };
        for question in questions {
            let fact = match &question {
                Question::Versions(id) => facts(id.as_str()[4..].parse().unwrap()),
                _ => Fact::Items(Vec::new()),
            };
            solver.tell(question, fact);
        }
    }
    assert!(matches!(solver.step(), Step::TooHard));
    // and what can be done is done, whatever it was given up before
    let mut fewer = solver.problem().clone();
    fewer.wants.truncate(count - 1);
    assert!(matches!(solver.again(fewer).step(), Step::Answer(_)));
}
