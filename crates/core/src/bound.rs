//! Settings that must be large enough for what is installed.

use std::collections::BTreeMap;

use crate::family::{Bound, Measure, server_path};
use crate::finding::{Finding, Severity};
use crate::id::ServerPath;
use crate::manifest::value_at;
use crate::scene::Scene;
use crate::settings::Value;
use crate::slot::{Claim, Owner, Slot, SlotKey};
use crate::text::{bytes as sized, clean};

/// What the bounds come to.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Bounds {
    /// Settings that are raised.
    pub claims: Vec<Claim>,
    /// Settings that cannot be raised far enough, or that somebody set too low.
    pub findings: Vec<Finding>,
}

/// The largest of what is measured, and what it is called.
fn measured(bound: &Bound, files: &BTreeMap<String, u64>) -> Option<(u64, String)> {
    // files that belong together: what their patterns caught is the same
    let mut groups: BTreeMap<Vec<(String, String)>, (u64, String)> = BTreeMap::new();
    for (path, size) in files {
        let Some(caught) = bound.of.iter().find_map(|p| p.catch(path)) else { continue };
        let key = if caught.is_empty() { vec![(String::new(), path.clone())] } else { caught.into_iter().collect() };
        let group = groups.entry(key).or_insert_with(|| (0, path.clone()));
        group.0 += size;
    }
    match bound.measure {
        Measure::Largest => groups.into_values().max_by(|a, b| a.0.cmp(&b.0).then(b.1.cmp(&a.1))),
        Measure::Sum => {
            let sum: u64 = groups.values().map(|g| g.0).sum();
            (sum > 0).then(|| (sum, format!("{} together", crate::text::counted(groups.len(), "file"))))
        }
        Measure::Count => {
            let count = groups.len() as u64;
            (count > 0).then(|| (count * bound.unit, crate::text::counted(groups.len(), "file")))
        }
    }
}

/// Returns what the bounds claim and find, over the server's files as they will be (`scene.files`), the slots as they
/// were, what else is claimed, and the settings files.
pub fn bounds(scene: &Scene<'_>, before: &[Slot], claims: &[Claim], docs: &BTreeMap<ServerPath, Vec<u8>>) -> Bounds {
    let mut out = Bounds::default();
    let rules = &scene.family.rules.bound;
    for bound in rules.iter().filter(|b| b.when.as_ref().is_none_or(|w| w.holds(scene))) {
        let (Ok(path), Some((bytes, what))) = (server_path(&bound.file), measured(bound, scene.files)) else {
            continue;
        };
        let least = bytes.div_ceil(bound.unit.max(1));
        let key = SlotKey::value(path.clone(), bound.format, bound.at.clone());
        let set_by = |owner: &Owner| !matches!(owner, Owner::Bound | Owner::Family);
        let wanted = claims.iter().rev().find(|c| c.key == key && set_by(&c.owner));
        let slot = before.iter().find(|s| s.key == key);
        // without the bound: what somebody wants, what was set by hand, what stood there before us
        let stands = docs.get(&path).and_then(|b| value_at(bound.format, b, &bound.at));
        let hand = slot.and_then(|s| match (s.written.first(), &stands) {
            (Some(w), Some(now)) if !crate::settings::alike(w, now) => Some(now.clone()),
            _ => s.hand.clone(),
        });
        let without = match (slot, &hand, wanted) {
            (_, Some(hand), _) => Some(hand.clone()),
            (_, _, Some(wanted)) => Some(wanted.value.clone()),
            (Some(slot), ..) => slot.base.first().cloned(),
            (None, ..) => stands,
        };
        let number = |v: &Value| v.text().and_then(|t| t.trim().parse::<f64>().ok());
        let have = without.as_ref().map_or(bound.otherwise.map(|o| o as f64), number);
        #[allow(clippy::cast_precision_loss)] // sizes in units; what is lost is far below one
        let enough = have.is_some_and(|h| h >= least as f64);
        let shown = match (&without, bound.otherwise) {
            (Some(v), _) => v.shown(),
            (None, Some(o)) => format!("{o}, which counts where nothing is set"),
            (None, None) => "not set".to_owned(),
        };
        let size = if bound.measure == Measure::Count { what.clone() } else { format!("{what} has {}", sized(bytes)) };
        let clear = format!("{}: {}", clean(&size, 160), clean(&bound.why, 200));
        if let Some(most) = bound.most.filter(|m| least > *m) {
            let cause =
                format!("{clear}; `{}` would have to be {least}, and the server allows {most} at most", bound.at);
            let fix = "take that item off, or ask its author for a smaller one";
            out.findings.push(Finding::new("bound-too-large", Severity::Error, cause, fix).at(&path));
            // as far as it goes, for all the others
            if have.is_none_or(|h| h < most as f64) && hand.is_none() && wanted.is_none() {
                out.claims.push(Claim::new(key, Owner::Bound, Value::typed(&most.to_string())));
            }
            continue;
        }
        if enough {
            continue;
        }
        if hand.is_some() || wanted.is_some() {
            let who = if hand.is_some() { "by hand" } else { "by what you tuned, or by an item" };
            let cause = format!("{clear}; `{}` is {shown}, set {who}, and must be {least} or more", bound.at);
            let fix = format!("yalotheca tune {path} '{}={least}'", bound.at);
            out.findings.push(Finding::new("bound-too-low", Severity::Error, cause, fix).at(&path));
            continue;
        }
        out.claims.push(Claim::new(key, Owner::Bound, Value::typed(&least.to_string())));
    }
    out
}
