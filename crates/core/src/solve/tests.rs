use super::*;
use crate::facts::{Need, Provided, Target};
use proptest::prelude::*;

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

// --- against brute force on small worlds -------------------------------------------------------------------

fn provided(f: &VersionFacts, t: &Target) -> bool {
    let held = |p: &Provided| t.range.holds(p.version.as_ref().unwrap_or(&f.version), Scheme::Plain);
    f.provides.iter().any(|p| p.id == t.id && held(p))
}

fn allowed(world: &World, wants: &[Wanted], picked: &BTreeMap<ItemId, VersionFacts>) -> bool {
    let meets = |t: &Target| {
        picked.iter().any(|(i, f)| {
            (*i == t.id && t.range.holds(&f.version, Scheme::Plain))
                || provided(f, t)
                || f.replaces.iter().any(|r| r.id == t.id)
        })
    };
    let there = |me: &ItemId, t: &Target| {
        picked
            .iter()
            .any(|(i, f)| i != me && ((*i == t.id && t.range.holds(&f.version, Scheme::Plain)) || provided(f, t)))
    };
    let _ = world;
    wants.iter().all(|w| picked.get(&w.id).is_some_and(|f| w.range.holds(&f.version, Scheme::Plain)))
        && picked.iter().all(|(i, f)| {
            f.needs.iter().all(|n| n.targets().iter().any(meets))
                && !f.clashes.iter().any(|t| there(i, t))
                && !f.replaces.iter().any(|t| there(i, t))
                && f.welcomes
                    .iter()
                    .all(|t| picked.get(&t.id).is_none_or(|o| *i == t.id || t.range.holds(&o.version, Scheme::Plain)))
        })
}

/// Every allowed choice among all versions of all items.
fn all_allowed(world: &World, wants: &[Wanted]) -> Vec<BTreeMap<ItemId, VersionFacts>> {
    let items: Vec<_> = world.0.iter().collect();
    let mut out = Vec::new();
    let mut at = vec![0usize; items.len()];
    loop {
        let picked: BTreeMap<ItemId, VersionFacts> = items
            .iter()
            .zip(&at)
            .filter(|(_, n)| **n > 0)
            .map(|((i, vs), n)| ((*i).clone(), vs[n - 1].clone()))
            .collect();
        if allowed(world, wants, &picked) {
            out.push(picked);
        }
        let Some(place) = (0..at.len()).find(|p| at[*p] < items[*p].1.len()) else { return out };
        at[place] += 1;
        at[..place].fill(0);
    }
}

fn small_world() -> impl Strategy<Value = Vec<(String, String)>> {
    let names = ["a", "b", "c", "d", "e"];
    let rule = (0..6usize, 0..5usize, 0..5usize, 0..4usize).prop_map(move |(shape, x, y, r)| {
        let range = ["", " 1", " ^2", " >=2"][r];
        match shape {
            0 | 1 => format!("{}{range}", names[x]),
            2 => format!("{}{range}|{}", names[x], names[y]),
            3 => format!("!{}{range}", names[x]),
            4 => format!("?{}{range}", names[x]),
            _ => {
                if y % 2 == 0 {
                    format!("+{}", names[x])
                } else {
                    format!("%{}", names[x])
                }
            }
        }
    });
    let rules = prop::collection::vec(rule, 0..3).prop_map(|r| r.join(","));
    prop::collection::vec(prop::collection::vec(rules, 0..4), 5).prop_map(move |items| {
        items
            .into_iter()
            .enumerate()
            .flat_map(|(i, versions)| {
                versions.into_iter().enumerate().map(move |(v, rules)| (format!("{} {}", names[i], v + 1), rules))
            })
            .collect()
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]
    #[test]
    fn as_brute_force_says(lines in small_world(), first in 0..5usize, second in 0..5usize, ranged in any::<bool>()) {
        let names = ["a", "b", "c", "d", "e"];
        let borrowed: Vec<(&str, &str)> = lines.iter().map(|(a, b)| (a.as_str(), b.as_str())).collect();
        let world = World::new(&borrowed);
        let mut wants = vec![if ranged { format!("{} >=2", names[first]) } else { names[first].to_owned() }];
        if second != first {
            wants.push(names[second].to_owned());
        }
        let wants: Vec<&str> = wants.iter().map(String::as_str).collect();
        let problem = problem(&wants);
        let possible = all_allowed(&world, &problem.wants);
        match world.solve(problem.clone()).0 {
            Ok(answer) => {
                let picked: BTreeMap<ItemId, VersionFacts> = answer.iter().map(|name| {
                    let (i, v) = name.split_once(' ').unwrap();
                    (id(i), world.0[&id(i)].iter().find(|f| f.version.as_str() == v).unwrap().clone())
                }).collect();
                prop_assert!(allowed(&world, &problem.wants, &picked), "{answer:?} breaks a rule");
                // holds nothing that nothing needs
                for extra in picked.keys().filter(|i| !problem.wants.iter().any(|w| w.id == **i)) {
                    let mut fewer = picked.clone();
                    fewer.remove(extra);
                    prop_assert!(!allowed(&world, &problem.wants, &fewer), "{extra} is not needed in {answer:?}");
                }
                // the wanted items, in order, are as new as any allowed choice has them
                let mut left = possible;
                for want in &problem.wants {
                    let best = left.iter().map(|p| p[&want.id].version.clone()).max_by(|a, b| a.total(b, Scheme::Plain)).unwrap();
                    prop_assert_eq!(&picked[&want.id].version, &best, "{} in {:?}", want.id, answer);
                    left.retain(|p| p[&want.id].version == best);
                }
            }
            Err(reasons) => {
                prop_assert!(possible.is_empty(), "{possible:?} is allowed, yet: {:?}", tell(&reasons));
                prop_assert!(!tell(&reasons).is_empty());
            }
        }
    }
}
