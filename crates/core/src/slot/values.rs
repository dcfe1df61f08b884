//! A slot that is one value.

use super::{Claim, Owner, Slot, SlotFault, SlotKey, Told, first_missing};
use crate::finding::{Finding, Severity};
use crate::settings::{Document, Edit, Format, Value, alike};

/// Whether what stands there is what is meant, after the format: where values have types, those count.
fn is(format: Format, a: &Value, b: &Value) -> bool {
    match format {
        Format::Json | Format::Yaml | Format::Toml | Format::BraceTables => a.same(b),
        _ => alike(a, b),
    }
}

/// A claim filled from a template is text; it means a number where one stands.
fn fitted(claim: &Claim, seen: Option<&Value>) -> Value {
    let typed = match &claim.value {
        Value::Text(words) if !matches!(claim.owner, Owner::Tuned) => Value::typed(words),
        _ => return claim.value.clone(),
    };
    if seen.is_some_and(|s| s.sort() == typed.sort() && s.sort().is_some()) { typed } else { claim.value.clone() }
}

/// Returns the slot, but for what is written, and the edit that makes it so.
pub(super) fn settle(
    key: &SlotKey,
    old: Option<&Slot>,
    claims: &[&Claim],
    doc: &mut Document,
    overrule: bool,
    told: &mut Told,
) -> Result<(Slot, Option<Edit>), SlotFault> {
    let path = key.place()?;
    let at = key.at.as_deref().unwrap_or("");
    let spot = doc.get(&path)?;
    let line = spot.as_ref().map(|s| s.line);
    let seen = spot.map(|s| s.value);
    let same = |a: &Option<Value>, b: &Option<Value>| match (a, b) {
        (Some(a), Some(b)) => is(key.format, a, b),
        (None, None) => true,
        _ => false,
    };
    let base: Vec<Value> = old.map_or_else(|| seen.clone().into_iter().collect(), |s| s.base.clone());
    let mut made = old.and_then(|s| s.made.clone());
    let mut hand = old.and_then(|s| s.hand.clone());
    let written = old.and_then(|s| s.written.first().cloned());
    // a default only fills a gap
    let top = claims.iter().rev().find(|c| c.owner != Owner::Family || base.is_empty());
    let claimed: Option<Option<Value>> = top.map(|c| match c.owner {
        Owner::TunedOut => None,
        _ => Some(fitted(c, seen.as_ref())),
    });
    let tuned = top.is_some_and(|c| matches!(c.owner, Owner::Tuned | Owner::TunedOut));
    let changed = old.is_some() && !same(&seen, &written);
    let reset = changed && tuned && same(&seen, &base.first().cloned()) && hand.is_none();
    if changed && !reset && (seen.is_some() || matches!(claimed, Some(None))) {
        // set by hand to what is claimed: there is no difference left to keep
        hand =
            seen.clone().filter(|v| claimed.as_ref().is_none_or(|c| c.as_ref().is_none_or(|c| !is(key.format, c, v))));
    }
    if overrule && top.is_some() {
        hand = None;
    }
    let wanted: Option<Value> = match (&claimed, &hand) {
        (None, _) | (Some(_), Some(_)) => hand.clone().or_else(|| base.first().cloned()),
        (Some(claimed), None) => claimed.clone(),
    };
    let wants = |claimed: &Option<Value>, told: &Told| match claimed {
        Some(value) => format!("wants `{at}` to be {}", told.shown(value)),
        None => format!("wants `{at}` to be gone"),
    };
    if let (Some(top), Some(claimed), Some(hand)) = (&top, &claimed, &hand) {
        if claimed.as_ref().is_none_or(|c| !is(key.format, c, hand)) {
            let of = format!(
                "{} {}, and it was set by hand to {}: kept",
                top.owner.said(),
                wants(claimed, told),
                told.shown(hand)
            );
            let fix = format!("to set it again: yalotheca settle --put-back {}", key.path);
            told.findings.push(Finding::new("changed-by-hand", Severity::Warning, of, fix).at(&key.path).on_line(line));
        }
    } else if let (true, None, Some(top), Some(Some(claimed))) = (changed, &seen, &top, &claimed) {
        let of =
            format!("`{at}` was taken out by hand, and {} wants it to be {}", top.owner.said(), told.shown(claimed));
        let fix = "yalotheca settle puts it back";
        told.findings.push(Finding::new("missing-setting", Severity::Warning, of, fix).at(&key.path));
    } else if let (true, Some(seen), Some(claimed)) = (reset, &seen, &claimed) {
        let tuned =
            claimed.as_ref().map_or("you tuned it away".to_owned(), |v| format!("you tuned it to {}", told.shown(v)));
        let of = format!("`{at}` went back to {}, and {tuned}", told.shown(seen));
        let fix = format!("yalotheca settle sets it again; to leave it: yalotheca tune {} --forget '{at}'", key.path);
        told.findings.push(Finding::new("tuned-was-reset", Severity::Warning, of, fix).at(&key.path).on_line(line));
    }
    let force = top.filter(|_| hand.is_none()).and_then(|c| c.force);
    let differs =
        !same(&wanted, &seen) || force.is_some() && wanted.as_ref().map(Value::sort) != seen.as_ref().map(Value::sort);
    let mut edit = None;
    if differs {
        let quoted = |v: &Option<Value>| v.as_ref().map_or("(nothing)".to_owned(), |v| told.shown(v));
        told.notes.push(format!("{at}: {} → {}", quoted(&seen), quoted(&wanted)));
        edit = Some(match &wanted {
            Some(value) => {
                if seen.is_none() && made.is_none() {
                    made = first_missing(doc, &path).map(|p| p.to_string());
                }
                // going back is going back to the very sort that stood there
                let back = claimed.is_none() || hand.is_some();
                Edit::Set { path, value: value.clone(), force: if back { value.sort() } else { force } }
            }
            None => Edit::Remove { path },
        });
    }
    let claims = claims.iter().map(|c| (c.owner.clone(), c.value.clone())).collect();
    let written = seen.into_iter().collect();
    Ok((Slot { base, hand, claims, written, made, ..Slot::new(key.clone()) }, edit))
}
