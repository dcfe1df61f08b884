//! Says in plain sentences why there is no answer.

use super::{Help, Helped, Reason, Reasons};
use crate::id::ItemId;
use crate::text::listed;
use crate::version::{Range, Version};

/// So many sentences are told; what is more is counted.
pub const MOST_TOLD: usize = 24;

/// Returns one sentence per rule at odds, each line of the roster followed by what it leads to; versions of one item with
/// the same rule are told together. Never more than [`MOST_TOLD`] and one that counts the rest.
pub fn tell(reasons: &Reasons) -> Vec<String> {
    let mut out: Vec<String> = Vec::new();
    let mut done: Vec<usize> = Vec::new();
    for (at, rule) in reasons.rules.iter().enumerate() {
        if let Reason::Wanted { id, range, line } = rule {
            let asked = if range.is_any() { String::new() } else { format!(" {range}") };
            let place = if *line > 0 { format!("roster line {line} wants") } else { "you want".to_owned() };
            out.push(format!("{place} {id}{asked}{}", offered(reasons, id, range)));
            continue;
        }
        if done.contains(&at) {
            continue;
        }
        let mut alike: Vec<usize> = (at..reasons.rules.len()).filter(|o| same(&reasons.rules[*o], rule)).collect();
        let mut sentence = said(reasons, rule);
        // many versions that each ask for another version of one item are one sentence
        let kin: Vec<usize> = (at..reasons.rules.len()).filter(|o| akin(&reasons.rules[*o], rule)).collect();
        if kin.len() > alike.len() + 2
            && let Reason::Need { need, .. } = rule
        {
            let first = need.targets().first().map(|t| t.id.to_string()).unwrap_or_default();
            sentence = format!("each need another version of {first}");
            alike = kin;
        }
        out.push(format!("{} {} {sentence}", rule.item(), versions_of(reasons, rule.item(), &alike)));
        done.extend(alike);
    }
    if let Some(more) = out.len().checked_sub(MOST_TOLD).filter(|m| *m > 0) {
        out.truncate(MOST_TOLD);
        out.push(format!("and {more} rules more of the same sort"));
    }
    out
}

fn same(a: &Reason, b: &Reason) -> bool {
    a.item() == b.item()
        && match (a, b) {
            (Reason::Misfit { misfit: m, .. }, Reason::Misfit { misfit: n, .. }) => m == n,
            (Reason::Never { range: m, .. }, Reason::Never { range: n, .. }) => m == n,
            (Reason::Held { .. }, Reason::Held { .. }) => true,
            (Reason::Need { need: m, .. }, Reason::Need { need: n, .. }) => m == n,
            (Reason::Apart { target: m, welcome: v, .. }, Reason::Apart { target: n, welcome: w, .. }) => {
                m == n && v == w
            }
            _ => false,
        }
}

/// Whether two versions of one item need the same other item, in whatever version.
fn akin(a: &Reason, b: &Reason) -> bool {
    let first = |r: &Reason| match r {
        Reason::Need { need, .. } => need.targets().first().map(|t| t.id.clone()),
        _ => None,
    };
    a.item() == b.item() && first(a).is_some() && first(a) == first(b)
}

fn said(reasons: &Reasons, rule: &Reason) -> String {
    match rule {
        Reason::Wanted { .. } => String::new(),
        Reason::Misfit { misfit, .. } => misfit.to_string(),
        Reason::Never { line, .. } => format!("must not be taken (roster line {line})"),
        Reason::Held { at, .. } => format!("is not the version that the roster holds: {at}"),
        Reason::Need { need, .. } => {
            let none: String = need.targets().iter().map(|t| offered(reasons, &t.id, &t.range)).collect();
            format!("needs {need}{none}")
        }
        Reason::Apart { target, welcome: false, .. } => format!("cannot stand beside {target}"),
        Reason::Apart { target, .. } => format!("stands only beside {target}"),
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

/// The versions that some rules are of: `1.0`, `1.0 and 1.1`, `1.0 to 1.4 (5 versions)`.
fn versions_of(reasons: &Reasons, id: &ItemId, rules: &[usize]) -> String {
    let of: Vec<&Version> = rules.iter().filter_map(|at| reasons.rules[*at].version()).collect();
    let known = reasons.versions.iter().find(|(i, _)| i == id).map(|(_, v)| v.as_slice()).unwrap_or_default();
    // oldest first, in the item's own order
    spread(known.iter().rev().filter(|v| of.contains(v)).map(ToString::to_string).collect())
}

/// Few versions are listed, many are told by the oldest and the newest.
fn spread(versions: Vec<String>) -> String {
    match versions.as_slice() {
        [first, .., last] if versions.len() > 3 => format!("{first} to {last} ({} versions)", versions.len()),
        _ => listed(&versions),
    }
}

impl Reasons {
    /// Whether an item was asked for just now and stands on no roster line.
    fn is_new(&self, item: &ItemId) -> bool {
        self.rules.iter().any(|r| matches!(r, Reason::Wanted { id, line: 0, .. } if id == item))
    }

    /// Returns what a change that helps is, as a sentence: what to do, in the roster's words.
    pub fn help_said(&self, helped: &Helped) -> String {
        let one = |(help, version): (&Help, &Option<Version>)| {
            let range = |id: &ItemId| {
                self.rules.iter().find_map(|r| match r {
                    Reason::Wanted { id: i, range, .. } if i == id => Some(range.to_string()),
                    _ => None,
                })
            };
            let version = version.as_ref().map(ToString::to_string).unwrap_or_default();
            match help {
                Help::Widen(id) => {
                    format!(
                        "take `{id}` {version} instead of {}",
                        range(id).unwrap_or_else(|| "what you asked for".into())
                    )
                }
                Help::Beta(id) => format!("take the beta `{id}` {version}"),
                Help::Free(id) => format!("hold `{id}` no longer: it becomes {version}"),
                Help::Allow(id) => format!("allow `{id}` {version}, which the roster refuses"),
                Help::Drop(id) if self.is_new(id) => format!("do without `{id}`"),
                Help::Drop(id) => format!("drop `{id}`"),
                Help::Core(core) => format!("renew the core {} to {} (game {})", core.id, core.version, core.game),
            }
        };
        helped.changes.iter().zip(&helped.versions).map(one).collect::<Vec<_>>().join(", and ")
    }

    /// Returns what to do now where no change was found that helps.
    pub fn fix(&self) -> String {
        if let Some(id) = self.unknown.first() {
            return format!("check the spelling of `{id}`, or add a catalogue that offers it");
        }
        let wants: Vec<&ItemId> = self
            .rules
            .iter()
            .filter_map(|r| match r {
                Reason::Wanted { id, .. } => Some(id),
                _ => None,
            })
            .collect();
        match wants.as_slice() {
            [one] if self.is_new(one) => format!("ask for another range of `{one}`; the roster was not changed"),
            [one] => format!("give `{one}` another range on the roster, or drop it: yalotheca drop {one}"),
            many => {
                let names: Vec<String> = many.iter().map(ToString::to_string).collect();
                format!("widen the range of one of {} on the roster, or drop one of them", listed(&names))
            }
        }
    }
}
