//! Which versions cannot be taken here, whatever else is taken.

use super::super::told::Known;
use super::super::{Never, Problem};
use super::Versions;
use crate::facts::{Fit, Misfit, VersionFacts};
use crate::id::ItemId;

/// Why a version cannot be taken here, whatever else is taken.
#[derive(PartialEq)]
pub(super) enum Unfit {
    Misfit(Misfit),
    /// By its place among the refusals.
    Never(u32),
    Held,
}

/// Returns the versions of an item that cannot be taken here: those that follow one another for the same reason together.
pub(super) fn unfit(problem: &Problem, name: &ItemId, known: &Known) -> Vec<(Versions, Unfit)> {
    let (held, fit) = (problem.held.get(name), problem.server.fit());
    let never: Vec<(usize, &Never)> = problem.never.iter().enumerate().filter(|(_, n)| n.id == *name).collect();
    let why = |facts: &VersionFacts| {
        if held.is_some_and(|held| *held != facts.version) {
            return Some(Unfit::Held);
        }
        if let Some((at, _)) = never.iter().find(|(_, n)| n.range.holds(&facts.version, known.scheme)) {
            return Some(Unfit::Never(*at as u32));
        }
        misfit(problem, &fit, name, known, facts).map(Unfit::Misfit)
    };
    let mut out: Vec<(Versions, Unfit)> = Vec::new();
    for (place, facts) in (1..).zip(&known.versions) {
        let Some(why) = why(facts) else { continue };
        match out.last_mut().filter(|(versions, same)| versions.1 + 1 == place && *same == why) {
            Some((versions, _)) => versions.1 = place,
            None => out.push(((place, place), why)),
        }
    }
    out
}

/// Why a version cannot run here.
pub(in crate::solve) fn misfit(
    problem: &Problem,
    fit: &Fit,
    name: &ItemId,
    known: &Known,
    facts: &VersionFacts,
) -> Option<Misfit> {
    fit.misfit(facts, known.scheme).or_else(|| {
        if facts.channel == "stable" {
            return None;
        }
        let want = problem.wants.iter().find(|w| w.id == *name);
        let taken = want.is_some_and(|w| w.beta || w.range.names(&facts.version))
            || problem.prefer.get(name) == Some(&facts.version);
        (!taken).then_some(Misfit::Beta)
    })
}
