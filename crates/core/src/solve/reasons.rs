//! Why there is no answer: the smallest set of rules that cannot all hold, as data.

use std::collections::BTreeSet;

use super::Solver;
use super::clauses::{Clauses, Outcome};
use crate::facts::{Misfit, Need, Target};
use crate::id::ItemId;
use crate::version::{Range, Version};

/// One rule that is at odds with others.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Reason {
    /// The roster wants this.
    Wanted {
        /// The item.
        id: ItemId,
        /// In this range.
        range: Range,
        /// On this line.
        line: usize,
    },
    /// This version cannot run here.
    Misfit {
        /// The item.
        id: ItemId,
        /// The version.
        version: Version,
        /// Why.
        misfit: Misfit,
    },
    /// This version needs that.
    Need {
        /// The item.
        id: ItemId,
        /// The version.
        version: Version,
        /// What it needs.
        need: Need,
    },
    /// This version cannot stand beside that.
    Apart {
        /// The item.
        id: ItemId,
        /// The version.
        version: Version,
        /// What it cannot stand beside; with `welcome`, what it only stands beside in this range.
        target: Target,
        /// Whether the target is welcome in its range.
        welcome: bool,
    },
}

impl Reason {
    fn key(&self) -> (u8, String) {
        match self {
            Reason::Wanted { id, line, .. } => (0, format!("{line:06} {id}")),
            Reason::Need { id, version, need } => (1, format!("{id} {version} {need}")),
            Reason::Apart { id, version, target, .. } => (2, format!("{id} {version} {target}")),
            Reason::Misfit { id, version, .. } => (3, format!("{id} {version}")),
        }
    }
}

/// Why there is no answer. Without any one of these rules there would be one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reasons {
    /// The rules at odds, wants first.
    pub rules: Vec<Reason>,
    /// Ids that nobody offers, among those the rules speak of.
    pub unknown: Vec<ItemId>,
    /// What the rules ask for and no version of the item is.
    pub nothing: Vec<Target>,
    /// For each item the rules speak of, its versions, newest first.
    pub versions: Vec<(ItemId, Vec<Version>)>,
}

/// Finds a smallest set of rules that cannot all hold, by taking away whatever leaves it impossible: large pieces
/// first, at last one by one.
pub(super) fn smallest(solver: &Solver) -> Reasons {
    let all = Clauses::build(solver).reasons;
    let impossible = |kept: &BTreeSet<usize>| {
        let mut built = Clauses::build_with(solver, |at| kept.contains(&at));
        matches!(built.search(solver), Outcome::Impossible)
    };
    let mut kept: BTreeSet<usize> = (0..all.len()).collect();
    let mut piece = all.len().div_ceil(2).max(1);
    loop {
        let list: Vec<usize> = kept.iter().copied().collect();
        for chunk in list.rchunks(piece) {
            let fewer: BTreeSet<usize> = kept.iter().copied().filter(|at| !chunk.contains(at)).collect();
            if impossible(&fewer) {
                kept = fewer;
            }
        }
        if piece == 1 {
            break;
        }
        piece = piece.div_ceil(2);
    }
    let mut rules: Vec<Reason> = kept.iter().filter_map(|at| all.get(*at)).cloned().collect();
    rules.sort_by_key(Reason::key);
    rules.dedup();
    let mut spoken: Vec<ItemId> = rules
        .iter()
        .flat_map(|r| match r {
            Reason::Need { id, need, .. } => {
                std::iter::once(id.clone()).chain(need.targets().iter().map(|t| t.id.clone())).collect()
            }
            Reason::Apart { id, target, .. } => vec![id.clone(), target.id.clone()],
            Reason::Wanted { id, .. } | Reason::Misfit { id, .. } => vec![id.clone()],
        })
        .collect();
    spoken.sort();
    spoken.dedup();
    let versions = |id: &ItemId| {
        solver
            .known
            .get(id)
            .map(|k| k.versions.iter().map(|v| v.version.clone()).collect::<Vec<_>>())
            .unwrap_or_default()
    };
    let asked = rules.iter().flat_map(|r| match r {
        Reason::Wanted { id, range, .. } => vec![Target { id: id.clone(), range: range.clone() }],
        Reason::Need { need, .. } => need.targets().to_vec(),
        _ => Vec::new(),
    });
    let nothing = asked.filter(|t| {
        let own = solver.known.get(&t.id);
        let fits = own.is_some_and(|k| k.versions.iter().any(|v| t.range.holds(&v.version, k.scheme)));
        !fits && own.is_some_and(|k| !k.versions.is_empty())
    });
    Reasons {
        nothing: nothing.collect(),
        unknown: spoken
            .iter()
            .filter(|id| versions(id).is_empty() && solver.stand_ins(id).next().is_none())
            .cloned()
            .collect(),
        versions: spoken.iter().map(|id| (id.clone(), versions(id))).collect(),
        rules,
    }
}
