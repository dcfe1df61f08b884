//! The solver, held against trying everything on small worlds and against a SAT solver on larger ones.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // a test may stop where it fails

#[path = "solving/world.rs"]
mod world;

use std::collections::HashMap;

use batsat::{BasicSolver, Lit, SolverInterface as _, Var, lbool};
use world::{Dice, Picked, World, all_allowed, allowed, apart, by_the_rule, fits, meets, problem};
use yalotheca_core::id::ItemId;
use yalotheca_core::solve::{Answer, Problem, Reason, Solver, tell};
use yalotheca_core::version::{Scheme, Version};

fn named(answer: &Answer) -> Vec<(ItemId, Version)> {
    answer.chosen.iter().map(|c| (c.id.clone(), c.facts.version.clone())).collect()
}

fn picked(answer: &Answer) -> Picked {
    answer.chosen.iter().map(|c| (c.id.clone(), (*c.facts).clone())).collect()
}

#[test]
fn on_small_worlds_it_takes_exactly_what_the_rule_says() {
    let (mut possible, mut impossible, mut wished) = (0, 0, 0);
    for seed in 1..=6_000u64 {
        let mut dice = Dice(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15));
        let world = World::roll(&mut dice, 5, 3);
        let problem = problem(&mut dice, 5, 3);
        let all = all_allowed(&world, &problem);
        match world.solve(&problem, &mut dice) {
            Ok(answer) => {
                possible += 1;
                assert!(!all.is_empty(), "seed {seed}: {answer:?}");
                assert!(allowed(&problem, &picked(&answer)), "seed {seed}: {answer:?} breaks a rule");
                let rule = by_the_rule(&world, &problem, all);
                assert_eq!(named(&answer), rule, "seed {seed}: {world:#?} {problem:#?}");
                wished += usize::from(answer.chosen.iter().any(|c| !c.facts.wishes.is_empty()));
                // and the same whatever order the answers come in
                assert_eq!(world.solve(&problem, &mut Dice(seed)).unwrap(), answer);
                assert_eq!(world.solve_by_and_by(&problem, &mut Dice(seed)).unwrap(), answer);
            }
            Err(reasons) => {
                impossible += 1;
                assert!(all.is_empty(), "seed {seed}: {:?} is allowed, yet {:?}", all.first(), tell(&reasons));
                assert_eq!(world.solve(&problem, &mut Dice(seed)).unwrap_err(), reasons);
                assert!(world.solve_by_and_by(&problem, &mut Dice(seed)).is_err());
            }
        }
    }
    assert!(possible > 1_000 && impossible > 1_000 && wished > 100, "{possible} {impossible} {wished}");
}

/// The problem with only those lines of the roster, refusals and holds that the reasons speak of.
fn only(problem: &Problem, rules: &[Reason]) -> Problem {
    let mut out = problem.clone();
    let wanted = |id: &ItemId| rules.iter().any(|r| matches!(r, Reason::Wanted { id: i, .. } if i == id));
    out.wants.retain(|w| wanted(&w.id));
    out
}

#[test]
fn what_is_said_to_be_at_fault_is_and_is_the_least() {
    let mut tried = 0;
    for seed in 1..=8_000u64 {
        let mut dice = Dice(seed.wrapping_mul(0xD134_2543_DE82_EF95));
        let world = World::roll(&mut dice, 5, 3);
        let problem = problem(&mut dice, 5, 3);
        let Err(reasons) = world.solve(&problem, &mut dice) else { continue };
        tried += 1;
        let told = tell(&reasons);
        assert!(!told.is_empty() && told.len() < 30);
        // the named lines alone are impossible, and without any one of them they are not
        let few = only(&problem, &reasons.rules);
        assert!(world.solve(&few, &mut dice).is_err(), "seed {seed}: {told:?}");
        for want in &few.wants {
            let mut fewer = few.clone();
            fewer.wants.retain(|w| w.id != want.id);
            // other rules may still be at fault for what is left; those named are not
            if let Err(other) = world.solve(&fewer, &mut dice) {
                assert_ne!(other.rules, reasons.rules, "seed {seed}: {told:?}");
            }
        }
    }
    assert!(tried > 1_500, "{tried}");
}

#[test]
fn what_is_said_to_help_does() {
    let (mut helped, mut tried) = (0, 0);
    for seed in 1..=2_500u64 {
        let mut dice = Dice(seed.wrapping_mul(0xA076_1D64_78BD_642F));
        let world = World::roll(&mut dice, 5, 3);
        let problem = problem(&mut dice, 5, 3);
        let mut solver = Solver::new(problem.clone());
        let Err(reasons) = world.go_on(&mut solver, &mut dice, false) else { continue };
        tried += 1;
        let mut any = false;
        for changes in reasons.helps(&problem, &[]) {
            let changed = changes.iter().fold(problem.clone(), |p, help| help.made(&p));
            let mut again = solver.again(changed.clone());
            let found = world.go_on(&mut again, &mut dice, false);
            // what it knew already does not mislead it
            match (&found, world.solve(&changed, &mut dice)) {
                (Ok(found), Ok(anew)) => assert_eq!(*found, anew, "seed {seed}"),
                (found, anew) => assert_eq!(found.is_ok(), anew.is_ok(), "seed {seed}"),
            }
            any |= found.is_ok();
        }
        helped += usize::from(any);
    }
    assert!(tried > 500 && helped * 3 > tried * 2, "{helped} of {tried}");
}

/// The clauses of a whole world, for a SAT solver that knows nothing of ours.
struct Yardstick {
    solver: BasicSolver,
    vars: HashMap<(ItemId, Version), Var>,
}

impl Yardstick {
    fn new(world: &World, problem: &Problem) -> Self {
        let mut solver = BasicSolver::default();
        let mut vars = HashMap::new();
        for (id, versions) in &world.0 {
            let all: Vec<Var> = versions.iter().map(|_| solver.new_var_default()).collect();
            for (at, a) in all.iter().enumerate() {
                for b in &all[at + 1..] {
                    solver.add_clause_reuse(&mut vec![Lit::new(*a, false), Lit::new(*b, false)]);
                }
            }
            vars.extend(versions.iter().zip(all).map(|(f, var)| ((id.clone(), f.version.clone()), var)));
        }
        let every: Vec<_> = world.0.iter().flat_map(|(i, vs)| vs.iter().map(move |f| (i, f))).collect();
        let var = |i: &ItemId, f: &yalotheca_core::facts::VersionFacts| vars[&(i.clone(), f.version.clone())];
        for (i, f) in &every {
            let not = Lit::new(var(i, f), false);
            if !fits(problem, i, f) {
                solver.add_clause_reuse(&mut vec![not]);
            }
            for need in &f.needs {
                let by = every.iter().filter(|(o, g)| need.targets().iter().any(|t| meets(o, g, t)));
                let mut clause: Vec<Lit> = by.map(|(o, g)| Lit::new(var(o, g), true)).collect();
                clause.push(not);
                if !clause.contains(&Lit::new(var(i, f), true)) {
                    solver.add_clause_reuse(&mut clause);
                }
            }
            for (o, g) in every.iter().filter(|(o, g)| apart(i, f, o, g)) {
                solver.add_clause_reuse(&mut vec![not, Lit::new(var(o, g), false)]);
            }
        }
        for want in &problem.wants {
            let versions = world.0.get(&want.id).into_iter().flatten();
            let fitting = versions.filter(|f| want.range.holds(&f.version, Scheme::Plain));
            let mut clause: Vec<Lit> = fitting.map(|f| Lit::new(var(&want.id, f), true)).collect();
            solver.add_clause_reuse(&mut clause);
        }
        Self { solver, vars }
    }

    fn can(&mut self, with: &[(ItemId, Version)]) -> bool {
        let assumed: Vec<Lit> = with.iter().map(|c| Lit::new(self.vars[c], true)).collect();
        self.solver.solve_limited(&assumed) == lbool::TRUE
    }
}

#[test]
fn on_larger_worlds_a_sat_solver_agrees() {
    let (mut possible, mut impossible) = (0, 0);
    for seed in 1..=600u64 {
        let mut dice = Dice(seed.wrapping_mul(0xE703_7ED1_A0B4_28DB));
        let items = 12 + dice.roll(40);
        let world = World::roll(&mut dice, items, 6);
        let mut problem = problem(&mut dice, items, 6);
        problem.never.truncate(2);
        problem.held.clear();
        let mut yardstick = Yardstick::new(&world, &problem);
        match world.solve(&problem, &mut dice) {
            Err(reasons) => {
                impossible += 1;
                assert!(!yardstick.can(&[]), "seed {seed}: {:?}", tell(&reasons));
            }
            Ok(answer) => {
                possible += 1;
                assert!(allowed(&problem, &picked(&answer)), "seed {seed}");
                // each want in turn has the first version that the SAT solver can still have
                let mut taken: Vec<(ItemId, Version)> = Vec::new();
                for want in &problem.wants {
                    let mut versions: Vec<Version> = world.0[&want.id]
                        .iter()
                        .filter(|f| want.range.holds(&f.version, Scheme::Plain))
                        .map(|f| f.version.clone())
                        .collect();
                    versions.sort_by_key(|v| problem.prefer.get(&want.id) != Some(v));
                    let first = versions.into_iter().find(|v| {
                        let with: Vec<_> = taken.iter().cloned().chain([(want.id.clone(), v.clone())]).collect();
                        yardstick.can(&with)
                    });
                    taken.push((want.id.clone(), first.unwrap()));
                }
                let answer = named(&answer);
                assert!(taken.iter().all(|t| answer.contains(t)), "seed {seed}: {taken:?} {answer:?}");
            }
        }
    }
    assert!(possible > 100 && impossible > 50, "{possible} {impossible}");
}
