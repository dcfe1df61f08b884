//! Says in plain sentences why there is no answer.

use super::{Reason, Reasons};
use crate::facts::Misfit;
use crate::id::ItemId;
use crate::version::{Range, Version};

/// Returns one sentence per rule at odds, the roster's lines first, versions of one item with the same rule told
/// together.
pub fn tell(reasons: &Reasons) -> Vec<String> {
    let mut out: Vec<String> = Vec::new();
    let mut done: Vec<(ItemId, String)> = Vec::new();
    for rule in &reasons.rules {
        let (id, said) = match rule {
            Reason::Wanted { id, range, line } => {
                let range = if range.is_any() { String::new() } else { format!(" {range}") };
                let place = if *line > 0 { format!("roster line {line} wants") } else { "you want".to_owned() };
                out.push(format!("{place} {id}{range}{}", offered(reasons, id, rule_range(rule))));
                continue;
            }
            Reason::Misfit { id, misfit, .. } => (id, misfit.to_string()),
            Reason::Need { id, need, .. } => {
                let none: String = need.targets().iter().map(|t| offered(reasons, &t.id, &t.range)).collect();
                (id, format!("needs {need}{none}"))
            }
            Reason::Apart { id, target, welcome: false, .. } => (id, format!("cannot stand beside {target}")),
            Reason::Apart { id, target, .. } => (id, format!("stands only beside {target}")),
        };
        let key = (id.clone(), said.clone());
        if !done.contains(&key) {
            let versions = versions_with(reasons, id, rule);
            out.push(format!("{id} {versions} {said}"));
            done.push(key);
        }
    }
    out
}

fn rule_range(rule: &Reason) -> &Range {
    static ANY: std::sync::OnceLock<Range> = std::sync::OnceLock::new();
    match rule {
        Reason::Wanted { range, .. } => range,
        _ => ANY.get_or_init(Range::any),
    }
}

/// What an item could have been, when that is the point: nobody offers it, or only in other versions.
fn offered(reasons: &Reasons, id: &ItemId, range: &Range) -> String {
    if reasons.unknown.contains(id) {
        return ", which no catalogue offers".to_owned();
    }
    if !reasons.nothing.iter().any(|t| t.id == *id && t.range == *range) {
        return String::new();
    }
    let known = reasons.versions.iter().find(|(i, _)| i == id).map(|(_, v)| v.as_slice()).unwrap_or_default();
    format!(", and there is only {}", spread(known.iter().rev().map(ToString::to_string).collect()))
}

/// The versions that a rule of the same shape stands for: `1.0`, `1.0 and 1.1`, `1.0 to 1.4 (5 versions)`.
fn versions_with(reasons: &Reasons, id: &ItemId, rule: &Reason) -> String {
    let same = |other: &Reason| match (rule, other) {
        (Reason::Misfit { id: a, misfit: m, .. }, Reason::Misfit { id: b, misfit: n, .. }) => a == b && m == n,
        (Reason::Need { id: a, need: m, .. }, Reason::Need { id: b, need: n, .. }) => a == b && m == n,
        (Reason::Apart { id: a, target: m, .. }, Reason::Apart { id: b, target: n, .. }) => a == b && m == n,
        _ => false,
    };
    let of = |reason: &Reason| match reason {
        Reason::Misfit { version, .. } | Reason::Need { version, .. } | Reason::Apart { version, .. } => {
            version.clone()
        }
        Reason::Wanted { .. } => Version::new(""),
    };
    let alike: Vec<Version> = reasons.rules.iter().filter(|r| same(r)).map(of).collect();
    let known = reasons.versions.iter().find(|(i, _)| i == id).map(|(_, v)| v.as_slice()).unwrap_or_default();
    // oldest first, in the item's own order
    let ordered: Vec<String> = known.iter().rev().filter(|v| alike.contains(v)).map(ToString::to_string).collect();
    spread(ordered)
}

/// Few versions are listed, many are told by the oldest and the newest.
fn spread(versions: Vec<String>) -> String {
    match versions.as_slice() {
        [first, .., last] if versions.len() > 3 => format!("{first} to {last} ({} versions)", versions.len()),
        _ => crate::text::listed(&versions),
    }
}

impl Reasons {
    /// Whether an item was asked for just now and stands on no roster line.
    fn is_new(&self, item: &str) -> bool {
        self.rules.iter().any(|r| matches!(r, Reason::Wanted { id, line: 0, .. } if id.as_str() == item))
    }

    /// Returns what to do now, in one sentence.
    pub fn fix(&self) -> String {
        if let Some(id) = self.unknown.first() {
            return format!("check the spelling of `{id}`, or add a catalogue that offers it");
        }
        let wants: Vec<String> = self
            .rules
            .iter()
            .filter_map(|r| match r {
                Reason::Wanted { id, .. } => Some(id.to_string()),
                _ => None,
            })
            .collect();
        let misfit = self.rules.iter().find_map(|r| match r {
            Reason::Misfit { misfit, .. } => Some(misfit),
            _ => None,
        });
        match (wants.as_slice(), misfit) {
            ([one], Some(Misfit::Beta)) => {
                format!("write `{one} = {{ version = \"…\", beta = true }}` on the roster to take a beta")
            }
            ([one], _) if self.is_new(one) => format!("ask for another range of `{one}`; the roster was not changed"),
            ([one], _) => format!("give `{one}` another range on the roster, or drop it: yalotheca drop {one}"),
            (many, _) => {
                format!("widen the range of one of {} on the roster, or drop one of them", crate::text::listed(many))
            }
        }
    }
}
