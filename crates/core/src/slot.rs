//! Slots and claims: a setting or a list is never "written by" an item.
//!
//! A slot keeps its *base* (what stood there before us) and a *claim* per owner. The wanted value is computed from
//! base, claims and load order at every settle, and written by an edit that touches nothing else. What the
//! administrator changed since joins the base: a changed value is kept and told, a line added by hand stays, and
//! what is missing is put back and told. When the last claim goes, base and hand edits are what remains.
//!
//! Precedence on one path, lowest first: family default (only where the base has nothing), base, items in load
//! order, accepted terms; and a value changed by hand since stands above all until it is put back.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::finding::{Finding, Severity};
use crate::id::{ItemId, ServerPath};
use crate::settings::lines::Lines;
use crate::settings::properties::Properties;
use crate::settings::{Format, SettingsError};

/// Who claims something of a slot.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum Owner {
    /// A family default.
    Family,
    /// An item.
    Item(ItemId),
    /// Terms somebody accepted.
    Terms,
}

impl fmt::Display for Owner {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Owner::Family => f.write_str("@family"),
            Owner::Item(id) => write!(f, "{id}"),
            Owner::Terms => f.write_str("@terms"),
        }
    }
}

impl Owner {
    /// Returns how a sentence names the owner.
    pub fn said(&self) -> String {
        match self {
            Owner::Family => "the family file".to_owned(),
            Owner::Item(id) => id.to_string(),
            Owner::Terms => "what you accepted".to_owned(),
        }
    }
}

impl From<Owner> for String {
    fn from(owner: Owner) -> Self {
        owner.to_string()
    }
}

impl TryFrom<String> for Owner {
    type Error = crate::id::IdError;
    fn try_from(text: String) -> Result<Self, Self::Error> {
        match text.as_str() {
            "@family" => Ok(Owner::Family),
            "@terms" => Ok(Owner::Terms),
            other => ItemId::new(other).map(Owner::Item),
        }
    }
}

/// Which setting or list: a file and, for a single value, where in it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct SlotKey {
    /// The file.
    pub path: ServerPath,
    /// Its format.
    pub format: Format,
    /// The value's path; `None` for the file's list of lines.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
}

impl PartialOrd for Format {
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Format {
    fn cmp(&self, other: &Self) -> std::cmp::Ordering {
        (*self as u8).cmp(&(*other as u8))
    }
}

impl fmt::Display for SlotKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.at {
            Some(at) => write!(f, "{} {at}", self.path),
            None => write!(f, "{}", self.path),
        }
    }
}

/// What an owner wants of a slot: a value, or a line of a list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Claim {
    /// The slot.
    pub key: SlotKey,
    /// The owner.
    pub owner: Owner,
    /// The value or line.
    pub value: String,
}

/// A slot as the ledger keeps it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Slot {
    /// Which setting or list.
    #[serde(flatten)]
    pub key: SlotKey,
    /// What stood there before us: nothing or one value; for a list, the lines that are not ours.
    pub base: Vec<String>,
    /// What the administrator set since, which is kept.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hand: Option<String>,
    /// What each owner wants, in load order.
    pub claims: Vec<(Owner, String)>,
    /// What we wrote: the value, or the lines that are ours.
    pub written: Vec<String>,
}

/// A settings file's bytes before and after; `None` is absent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DocChange {
    /// The file.
    pub path: ServerPath,
    /// Its bytes now.
    pub before: Option<Vec<u8>>,
    /// Its bytes then.
    pub after: Option<Vec<u8>>,
    /// What changes, in words: `order.list: + tide-biome`.
    pub notes: Vec<String>,
}

/// A settings file that stands in the way.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{path} is left alone: {source}")]
pub struct SlotError {
    /// The file.
    pub path: ServerPath,
    /// What is wrong with it.
    #[source]
    pub source: SettingsError,
}

/// What comes of the slots.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Slots {
    /// The slots from now on.
    pub slots: Vec<Slot>,
    /// The files we made, which go when nothing is left in them.
    pub made: BTreeSet<ServerPath>,
    /// The files that change.
    pub docs: Vec<DocChange>,
    /// What the administrator did since, told.
    pub findings: Vec<Finding>,
}

/// Computes every slot from what the ledger has, what is claimed now (in load order) and the files as they are.
/// `put_back` names files whose hand-changed values give way to the claims.
///
/// # Errors
/// A file that cannot be read without doubt: nothing is changed then.
pub fn settle(
    before: &[Slot],
    made: &BTreeSet<ServerPath>,
    claims: &[Claim],
    docs: &BTreeMap<ServerPath, Vec<u8>>,
    put_back: &BTreeSet<ServerPath>,
) -> Result<Slots, SlotError> {
    let mut keys: BTreeSet<SlotKey> = before.iter().map(|s| s.key.clone()).collect();
    keys.extend(claims.iter().map(|c| c.key.clone()));
    let mut out = Slots { made: made.clone(), ..Slots::default() };
    let mut by_path: BTreeMap<ServerPath, Vec<SlotKey>> = BTreeMap::new();
    for key in keys {
        by_path.entry(key.path.clone()).or_default().push(key);
    }
    for (path, keys) in by_path {
        let now = docs.get(&path);
        let mut bytes = now.cloned().unwrap_or_default();
        let mut notes = Vec::new();
        for key in keys {
            let old = before.iter().find(|s| s.key == key);
            let wanted: Vec<(Owner, String)> =
                claims.iter().filter(|c| c.key == key).map(|c| (c.owner.clone(), c.value.clone())).collect();
            let overrule = put_back.contains(&path);
            let result = match &key.at {
                Some(at) => value(&key, at, old, wanted, &mut bytes, overrule, &mut notes, &mut out.findings),
                None => list(&key, old, wanted, &mut bytes, &mut notes, &mut out.findings),
            };
            let slot = result.map_err(|source| SlotError { path: path.clone(), source })?;
            out.slots.extend(slot.filter(|s| !s.claims.is_empty()));
        }
        if now.is_none() && !bytes.is_empty() {
            out.made.insert(path.clone());
        }
        let ours = out.slots.iter().any(|s| s.key.path == path);
        let gone = bytes.is_empty() && out.made.contains(&path) && !ours;
        let after = if gone || (now.is_none() && bytes.is_empty()) { None } else { Some(bytes) };
        if !ours {
            // what is left in it is the administrator's
            out.made.remove(&path);
        }
        if after.as_ref() != now {
            out.docs.push(DocChange { path, before: now.cloned(), after, notes });
        }
    }
    Ok(out)
}

#[allow(clippy::too_many_arguments)] // one slot's whole state, used in one place
fn value(
    key: &SlotKey,
    at: &str,
    old: Option<&Slot>,
    claims: Vec<(Owner, String)>,
    bytes: &mut Vec<u8>,
    overrule: bool,
    notes: &mut Vec<String>,
    findings: &mut Vec<Finding>,
) -> Result<Option<Slot>, SettingsError> {
    let mut doc = Properties::parse(bytes)?;
    let (seen, line) = doc.get(at).map_or((None, None), |(v, l)| (Some(v), Some(l)));
    let base = old.map_or_else(|| seen.clone().into_iter().collect(), |s| s.base.clone());
    let mut hand = old.and_then(|s| s.hand.clone());
    let written = old.and_then(|s| s.written.first().cloned());
    let changed = old.is_some() && seen != written;
    // a default only fills a gap
    let top =
        claims.iter().rev().find(|(owner, _)| *owner != Owner::Family || base.is_empty()).map(|(o, v)| (o, v.clone()));
    if changed && seen.is_some() {
        // set by hand to what is claimed: there is no difference left to keep
        hand = seen.clone().filter(|v| top.as_ref().is_none_or(|(_, claimed)| claimed != v));
    }
    if overrule && top.is_some() {
        hand = None;
    }
    let wanted = match (&top, &hand) {
        (None, _) | (Some(_), Some(_)) => hand.clone().or_else(|| base.first().cloned()),
        (Some((_, claimed)), None) => Some(claimed.clone()),
    };
    if let (Some((owner, claimed)), Some(hand)) = (&top, &hand) {
        if hand != claimed {
            let of =
                format!("{} wants `{at}` to be `{claimed}`, and it was set by hand to `{hand}`: kept", owner.said());
            let fix = format!("to set it again: yalotheca settle --put-back {}", key.path);
            findings.push(Finding::new("changed-by-hand", Severity::Warning, of, fix).at(&key.path).on_line(line));
        }
    } else if let (true, None, Some((owner, claimed))) = (changed, &seen, &top) {
        let of = format!("`{at}` was taken out by hand, and {} wants it to be `{claimed}`", owner.said());
        let fix = "yalotheca settle puts it back";
        findings.push(Finding::new("missing-setting", Severity::Warning, of, fix).at(&key.path));
    }
    if wanted != seen {
        let quoted = |v: &Option<String>| v.as_ref().map_or("(nothing)".to_owned(), |v| format!("`{v}`"));
        notes.push(format!("{at}: {} → {}", quoted(&seen), quoted(&wanted)));
        doc.set(at, wanted.as_deref())?;
        *bytes = doc.render();
    }
    Ok(Some(Slot { key: key.clone(), base, hand, claims, written: wanted.into_iter().collect() }))
}

fn list(
    key: &SlotKey,
    old: Option<&Slot>,
    claims: Vec<(Owner, String)>,
    bytes: &mut Vec<u8>,
    notes: &mut Vec<String>,
    findings: &mut Vec<Finding>,
) -> Result<Option<Slot>, SettingsError> {
    let mut doc = Lines::parse(bytes)?;
    let seen: Vec<String> = doc.entries().into_iter().map(|(e, _)| e).collect();
    let ours: Vec<String> = old.map(|s| s.written.clone()).unwrap_or_default();
    let mut base = seen.clone();
    for line in &ours {
        if let Some(at) = base.iter().position(|b| b == line) {
            base.remove(at);
        }
    }
    let mut wanted: Vec<String> = Vec::new();
    for (_, line) in &claims {
        if !base.contains(line) && !wanted.contains(line) {
            wanted.push(line.clone());
        }
    }
    for line in ours.iter().filter(|l| !seen.contains(l) && wanted.contains(l)) {
        let of = format!("the line `{line}` was taken out by hand, and the roster wants it");
        let fix = "yalotheca settle puts it back; to leave it out, drop its item";
        findings.push(Finding::new("missing-setting", Severity::Warning, of, fix).at(&key.path));
    }
    let before = bytes.clone();
    doc.replace(&ours, &wanted);
    *bytes = doc.render();
    for line in wanted.iter().filter(|l| !seen.contains(l)) {
        notes.push(format!("+ {line}"));
    }
    for line in ours.iter().filter(|l| seen.contains(l) && !wanted.contains(l) && !base.contains(l)) {
        notes.push(format!("- {line}"));
    }
    if before != *bytes && notes.is_empty() {
        notes.push("lines of ours change places".to_owned());
    }
    Ok(Some(Slot { key: key.clone(), base, hand: None, claims, written: wanted }))
}

#[cfg(test)]
mod tests;
