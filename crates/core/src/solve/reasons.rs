//! Why there is no answer: a smallest set of rules that cannot all hold, as data.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use super::rules::{List, Rule, Rules, misfit};
use super::search::{Claim, Origin, PATIENCE, least};
use super::told::{Id, Told};
use super::{Problem, runs};
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
    /// The roster never takes this version.
    Never {
        /// The item.
        id: ItemId,
        /// The version.
        version: Version,
        /// What the roster refuses.
        range: Range,
        /// On this line.
        line: usize,
    },
    /// The roster holds the item at another version.
    Held {
        /// The item.
        id: ItemId,
        /// This version, which is not the one that is held.
        version: Version,
        /// The one that is held.
        at: Version,
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
    /// Returns the item that the rule is of.
    pub fn item(&self) -> &ItemId {
        match self {
            Reason::Wanted { id, .. }
            | Reason::Misfit { id, .. }
            | Reason::Never { id, .. }
            | Reason::Held { id, .. }
            | Reason::Need { id, .. }
            | Reason::Apart { id, .. } => id,
        }
    }

    /// Returns the version that the rule is of; `None` for a line of the roster.
    pub fn version(&self) -> Option<&Version> {
        match self {
            Reason::Wanted { .. } => None,
            Reason::Misfit { version, .. }
            | Reason::Never { version, .. }
            | Reason::Held { version, .. }
            | Reason::Need { version, .. }
            | Reason::Apart { version, .. } => Some(version),
        }
    }

    /// Returns the ids that the rule leads on to.
    fn leads_to(&self) -> Vec<&ItemId> {
        match self {
            Reason::Need { need, .. } => need.targets().iter().map(|t| &t.id).collect(),
            Reason::Apart { target, .. } => vec![&target.id],
            _ => Vec::new(),
        }
    }
}

/// Why there is no answer. Without any one of these rules (of very many: without those of one item that say the same) they could
/// all hold; where finding that out takes long, some rules too many are named.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reasons {
    /// The rules at odds: each want, followed by what it leads to.
    pub rules: Vec<Reason>,
    /// Of each rule, the one that led to it, by its place; wants have none.
    pub because: Vec<Option<usize>>,
    /// Ids that nobody offers, among those the rules speak of.
    pub unknown: Vec<ItemId>,
    /// What the rules ask for and no version of the item is.
    pub nothing: Vec<Target>,
    /// For each item the rules speak of, its versions, newest first.
    pub versions: Vec<(ItemId, Vec<Version>)>,
}

/// More versions with rules than these are only narrowed down as they are told: those of one item that say the same together.
const MOST_SINGLE: usize = 60;

/// Returns the rules of a smallest set among those at fault: first what is told together, then, where that is little, version
/// by version.
fn narrowed(told: &Told, rules: &Rules, faults: &[Origin]) -> Vec<Rule> {
    let claims = rules.search.claims(faults);
    // by item, and of each item by what is said
    let mut together: BTreeMap<Option<Id>, Vec<(Rule, Vec<Origin>)>> = BTreeMap::new();
    for origin in faults {
        let Some(rule) = rules.rule(*origin) else { continue };
        let of_item = together.entry(rule.of().map(|(id, _)| id)).or_default();
        match of_item.iter_mut().find(|(first, _)| say_the_same(told, *first, rule)) {
            Some((_, all)) => all.push(*origin),
            None => of_item.push((rule, vec![*origin])),
        }
    }
    let mut units: Vec<Vec<Origin>> = together.into_values().flatten().map(|(_, all)| all).collect();
    units.sort_unstable();
    let of = |unit: &Vec<Origin>| unit.iter().flat_map(|o| claims.get(o).into_iter().flatten().cloned()).collect();
    let count = |item: u32| rules.search.count(item);
    let mut budget = PATIENCE;
    let kept = least(&units.iter().map(of).collect::<Vec<Vec<Claim>>>(), count, &mut budget);
    let kept: Vec<Origin> = kept.into_iter().flat_map(|at| units[at].iter().copied()).collect();
    let single = |origin: &Origin| {
        let rule = rules.rule(*origin)?;
        let Some((_, (first, last))) = rule.of() else { return Some(vec![(*origin, rule)]) };
        Some((first..=last).map(|place| (*origin, rule.only((place, place)))).collect())
    };
    let singles: Vec<(Origin, Rule)> = kept.iter().filter_map(single).flatten().collect();
    if singles.len() > MOST_SINGLE {
        return singles.into_iter().map(|(_, rule)| rule).collect();
    }
    let of = |(origin, rule): &(Origin, Rule)| {
        let mut own: Vec<Claim> = claims.get(origin).cloned().unwrap_or_default();
        if let (Some((id, (only, _))), Some((_, all))) = (rule.of(), rules.rule(*origin).and_then(Rule::of)) {
            let item = rules.item(id);
            let others = runs::both(&[all], &runs::rest(&[(only, only)], all.1 + 1)).collect::<runs::Runs>();
            for (_, places) in own.iter_mut().flatten().filter(|(i, _)| Some(*i) == item) {
                *places = runs::either(places, &others);
            }
        }
        own
    };
    let kept = least(&singles.iter().map(of).collect::<Vec<Vec<Claim>>>(), count, &mut budget);
    kept.into_iter().map(|at| singles[at].1).collect()
}

/// Whether two rules are told in one sentence.
fn say_the_same(told: &Told, a: Rule, b: Rule) -> bool {
    let facts = |rule: Rule| rule.of().and_then(|(id, (first, _))| told.version(id, first));
    let same_item = a.of().map(|(id, _)| id) == b.of().map(|(id, _)| id);
    match (a, b) {
        (Rule::Misfit(..), Rule::Misfit(..)) | (Rule::Held(..), Rule::Held(..)) => same_item,
        (Rule::Never(m, ..), Rule::Never(n, ..)) => same_item && m == n,
        (Rule::Need(.., m), Rule::Need(.., n)) if same_item => {
            let need = |rule, at: u32| facts(rule).and_then(|f| f.needs.get(at as usize));
            need(a, m) == need(b, n)
        }
        _ => a == b,
    }
}

/// Finds a smallest set of rules among those at fault.
pub(super) fn smallest(problem: &Problem, told: &Told, rules: &Rules, faults: &[Origin]) -> Reasons {
    let kept = narrowed(told, rules, faults);
    let single = |rule: &Rule| {
        let versions = rule.of().map_or((0, 0), |(_, versions)| versions);
        (versions.0..=versions.1).filter_map(|place| spelled(problem, told, *rule, place)).collect::<Vec<_>>()
    };
    let mut seen: HashSet<Reason> = HashSet::new();
    let found: Vec<Reason> = kept.iter().flat_map(single).filter(|r| seen.insert(r.clone())).collect();
    let (rules, because) = tree(found, told);
    let mut spoken: Vec<ItemId> = rules
        .iter()
        .flat_map(|r| std::iter::once(r.item()).chain(r.leads_to()))
        .cloned()
        .collect::<BTreeSet<_>>()
        .into_iter()
        .collect();
    spoken.sort();
    let known = |id: &ItemId| told.find(id).and_then(|n| told.known(n));
    let versions = |id: &ItemId| {
        known(id).map(|k| k.versions.iter().map(|v| v.version.clone()).collect::<Vec<_>>()).unwrap_or_default()
    };
    let asked = rules.iter().flat_map(|r| match r {
        Reason::Wanted { id, range, .. } => vec![Target { id: id.clone(), range: range.clone() }],
        Reason::Need { need, .. } => need.targets().to_vec(),
        _ => Vec::new(),
    });
    let nothing = asked.filter(|t| {
        known(&t.id)
            .is_some_and(|k| !k.versions.is_empty() && !k.versions.iter().any(|v| t.range.holds(&v.version, k.scheme)))
    });
    let lonely = |id: &ItemId| told.find(id).is_none_or(|n| told.stand_ins(n).next().is_none());
    Reasons {
        nothing: nothing.collect(),
        unknown: spoken.iter().filter(|id| versions(id).is_empty() && lonely(id)).cloned().collect(),
        versions: spoken.iter().map(|id| (id.clone(), versions(id))).collect(),
        rules,
        because,
    }
}

/// A rule of one of its versions.
fn spelled(problem: &Problem, told: &Told, rule: Rule, at: u32) -> Option<Reason> {
    let version = |id, version| told.version(id, version).map(|f| f.version.clone());
    Some(match rule {
        Rule::Wanted(at) => {
            let want = problem.wants.get(at as usize)?;
            Reason::Wanted { id: want.id.clone(), range: want.range.clone(), line: want.line }
        }
        Rule::Misfit(id, _) => {
            let (known, name) = (told.known(id)?, told.name(id));
            let misfit = misfit(problem, &problem.server.fit(), name, known, told.version(id, at)?)?;
            Reason::Misfit { id: name.clone(), version: version(id, at)?, misfit }
        }
        Rule::Never(never, id, _) => {
            let never = problem.never.get(never as usize)?;
            let (range, line) = (never.range.clone(), never.line);
            Reason::Never { id: told.name(id).clone(), version: version(id, at)?, range, line }
        }
        Rule::Held(id, _) => {
            let name = told.name(id);
            Reason::Held { id: name.clone(), version: version(id, at)?, at: problem.held.get(name)?.clone() }
        }
        Rule::Need(id, _, need) => {
            let need = told.version(id, at)?.needs.get(need as usize)?.clone();
            Reason::Need { id: told.name(id).clone(), version: version(id, at)?, need }
        }
        Rule::Apart(id, _, list, place) => {
            let target = list.of(told.version(id, at)?).get(place as usize)?.clone();
            let welcome = list == List::Welcomes;
            Reason::Apart { id: told.name(id).clone(), version: version(id, at)?, target, welcome }
        }
    })
}

/// Puts rules into the order in which one leads to the next: wants first, those with the shortest way on in front.
fn tree(found: Vec<Reason>, told: &Told) -> (Vec<Reason>, Vec<Option<usize>>) {
    let newest_last = |r: &Reason| {
        let place = r.version().and_then(|v| {
            let known = told.known(told.find(r.item())?)?;
            known.versions.iter().position(|f| f.version == *v)
        });
        std::cmp::Reverse(place)
    };
    let mut of: BTreeMap<ItemId, Vec<Reason>> = BTreeMap::new();
    let mut wants: Vec<Reason> = Vec::new();
    for reason in found {
        match reason {
            Reason::Wanted { .. } => wants.push(reason),
            other => of.entry(other.item().clone()).or_default().push(other),
        }
    }
    for rules in of.values_mut() {
        rules.sort_by_key(newest_last);
    }
    let line = |r: &Reason| match r {
        Reason::Wanted { line, .. } => *line,
        _ => 0,
    };
    wants.sort_by_key(|w| (of.get(w.item()).map_or(0, Vec::len), line(w), w.item().clone()));
    let (mut out, mut because): (Vec<Reason>, Vec<Option<usize>>) = (Vec::new(), Vec::new());
    for want in wants {
        let mut open = vec![(want.item().clone(), out.len())];
        out.push(want);
        because.push(None);
        while let Some((id, from)) = open.pop() {
            let mut next = Vec::new();
            for rule in of.remove(&id).into_iter().flatten() {
                next.extend(rule.leads_to().into_iter().map(|n| (n.clone(), out.len())));
                out.push(rule);
                because.push(Some(from));
            }
            open.extend(next.into_iter().rev());
        }
    }
    // what stands in for something is led to by another name
    for rule in of.into_values().flatten() {
        because.push(None);
        out.push(rule);
    }
    (out, because)
}
