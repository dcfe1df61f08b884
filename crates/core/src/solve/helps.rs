//! The smallest changes that would help where there is no answer: proposed from the rules at fault, cheapest first. Whoever
//! reads solves each anew, so what is told is known to work.

use super::{Never, Problem, Reason, Reasons, Wanted};
use crate::facts::Misfit;
use crate::id::ItemId;
use crate::version::{Range, Version};

/// One change of what is wanted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Help {
    /// Take the item in any version; the answer tells which.
    Widen(ItemId),
    /// Take a beta of the item, too.
    Beta(ItemId),
    /// Hold it no longer.
    Free(ItemId),
    /// Refuse it no longer.
    Allow(ItemId),
    /// Take it off the roster.
    Drop(ItemId),
    /// Run another version of the core.
    Core(Box<OtherCore>),
}

/// A core in another version, and what the server's game is with it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OtherCore {
    /// The core.
    pub id: ItemId,
    /// Its version.
    pub version: Version,
    /// The game's version then.
    pub game: Version,
}

/// Changes that help, with the version that a widened item gets.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Helped {
    /// The changes, one or two.
    pub changes: Vec<Help>,
    /// For each, the version that its item gets then; `None` where it goes.
    pub versions: Vec<Option<Version>>,
}

/// So many changes are told.
pub const MOST_HELPS: usize = 5;
/// So many are tried.
const MOST_TRIED: usize = 60;

impl Help {
    /// Returns the item.
    pub fn item(&self) -> &ItemId {
        match self {
            Help::Widen(id) | Help::Beta(id) | Help::Free(id) | Help::Allow(id) | Help::Drop(id) => id,
            Help::Core(core) => &core.id,
        }
    }

    fn cost(&self) -> usize {
        match self {
            Help::Widen(_) | Help::Free(_) => 1,
            Help::Beta(_) | Help::Allow(_) => 2,
            Help::Core(_) => 3,
            Help::Drop(_) => 4,
        }
    }

    /// Returns the problem with this change made.
    pub fn made(&self, problem: &Problem) -> Problem {
        let mut out = problem.clone();
        match self {
            Help::Widen(id) => change(&mut out, id, |w| w.range = Range::any()),
            Help::Beta(id) => change(&mut out, id, |w| w.beta = true),
            Help::Free(id) => {
                out.held.remove(id);
            }
            Help::Allow(id) => out.never.retain(|n: &Never| n.id != *id),
            Help::Drop(id) => out.wants.retain(|w| w.id != *id),
            Help::Core(core) => {
                change(&mut out, &core.id, |w| w.range = Range::exactly(&core.version));
                out.server.set("game", vec![core.game.to_string()]);
            }
        }
        out
    }
}

fn change(problem: &mut Problem, id: &ItemId, how: impl FnOnce(&mut Wanted)) {
    if let Some(want) = problem.wants.iter_mut().find(|w| w.id == *id) {
        how(want);
    }
}

impl Reasons {
    /// Returns changes that may help, in the order in which they are worth trying: single ones, cheapest first, then pairs.
    /// `cores` are the versions of the core that could run instead, with the game's version each brings.
    pub fn helps(&self, problem: &Problem, cores: &[OtherCore]) -> Vec<Vec<Help>> {
        let mut single: Vec<Help> = Vec::new();
        let mut add = |help: Help| {
            if !single.contains(&help) {
                single.push(help);
            }
        };
        let wanted = |id: &ItemId| problem.wants.iter().any(|w| w.id == *id);
        for rule in &self.rules {
            match rule {
                Reason::Wanted { id, range, .. } => {
                    if !range.is_any() {
                        add(Help::Widen(id.clone()));
                    }
                    add(Help::Drop(id.clone()));
                }
                Reason::Misfit { id, misfit: Misfit::Beta, .. } if wanted(id) => add(Help::Beta(id.clone())),
                Reason::Misfit { misfit: Misfit::Game { .. }, .. } => {
                    cores.iter().for_each(|core| add(Help::Core(Box::new(core.clone()))));
                }
                Reason::Held { id, .. } => add(Help::Free(id.clone())),
                Reason::Never { id, .. } => add(Help::Allow(id.clone())),
                _ => {}
            }
        }
        single.sort_by_key(Help::cost);
        let mut out: Vec<Vec<Help>> = single.iter().map(|h| vec![h.clone()]).collect();
        let mut pairs: Vec<Vec<Help>> = Vec::new();
        for (at, first) in single.iter().enumerate() {
            let others = single.iter().skip(at + 1).filter(|s| s.item() != first.item());
            pairs.extend(others.map(|second| vec![first.clone(), second.clone()]));
        }
        pairs.sort_by_key(|p| p.iter().map(Help::cost).sum::<usize>());
        out.extend(pairs);
        out.truncate(MOST_TRIED);
        out
    }
}
