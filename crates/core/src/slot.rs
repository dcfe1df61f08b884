//! Slots and claims: a setting or a list is never "written by" an item.
//!
//! A slot keeps its *base* (what stood there before us) and a *claim* per owner. The wanted value is computed from
//! base, claims and load order at every settle, and written by an edit that touches nothing else. What the
//! administrator changed since joins the base: a changed value is kept and told, a line added by hand stays, and
//! what is missing is put back and told. When the last claim goes, base and hand edits are what remains.
//!
//! Precedence on one path, lowest first: family default (only where the base has nothing), base, bounds, items in load
//! order, what the administrator tuned, accepted terms; and a value changed by hand since stands above all until it
//! is put back. A tuned value that went back to its base (an update rewrote the file) was not changed by hand: it is
//! set again.

mod lists;
mod values;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::finding::{Finding, Severity};
use crate::id::{ItemId, ServerPath};
use crate::settings::{Document, Edit, EditError, Format, Path, Seat, SettingsError, Sort, Value};

/// Who claims something of a slot.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum Owner {
    /// A family default.
    Family,
    /// What is installed needs the setting to be this large.
    Bound,
    /// An item.
    Item(ItemId),
    /// What the administrator tuned.
    Tuned,
    /// What the administrator takes out: a key, or elements of a list.
    TunedOut,
    /// Terms somebody accepted.
    Terms,
}

impl fmt::Display for Owner {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Owner::Family => f.write_str("@family"),
            Owner::Bound => f.write_str("@bound"),
            Owner::Item(id) => write!(f, "{id}"),
            Owner::Tuned => f.write_str("@tuned"),
            Owner::TunedOut => f.write_str("@tuned-out"),
            Owner::Terms => f.write_str("@terms"),
        }
    }
}

impl Owner {
    /// Returns how a sentence names the owner.
    pub fn said(&self) -> String {
        match self {
            Owner::Family => "the family file".to_owned(),
            Owner::Bound => "what is installed".to_owned(),
            Owner::Item(id) => id.to_string(),
            Owner::Tuned | Owner::TunedOut => "what you tuned".to_owned(),
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
            "@bound" => Ok(Owner::Bound),
            "@tuned" => Ok(Owner::Tuned),
            "@tuned-out" => Ok(Owner::TunedOut),
            "@terms" => Ok(Owner::Terms),
            other => ItemId::new(other).map(Owner::Item),
        }
    }
}

/// Which setting or list: a file and where in it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct SlotKey {
    /// The file.
    pub path: ServerPath,
    /// Its format.
    pub format: Format,
    /// The value's path; `None` for the file's list of lines.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// What kind of list stands there; `None` for a single value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub list: Option<ListIn>,
}

/// How a list stands in a file.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ListIn {
    /// Elements of the format's own: an array, lines, a key that stands several times.
    Elements,
    /// Parts of one text, with this between them.
    Between(String),
    /// Elements of the format's own that this field or column (from 1) tells apart.
    Keyed(String),
}

impl ListIn {
    /// Returns what tells an element apart, where a field or column does.
    pub(crate) fn ident(&self, value: &Value) -> Option<String> {
        match self {
            ListIn::Keyed(by) => part(value, by).and_then(Value::text),
            _ => None,
        }
    }
}

/// A field of an object, or a column (from 1) of a row.
pub(crate) fn part<'a>(value: &'a Value, by: &str) -> Option<&'a Value> {
    match value {
        Value::Map(pairs) => pairs.iter().find(|(k, _)| k == by).map(|(_, v)| v),
        Value::List(row) => row.get(by.parse::<usize>().ok()?.checked_sub(1)?),
        _ => None,
    }
}

impl SlotKey {
    /// Returns the key of a single value.
    pub fn value(path: ServerPath, format: Format, at: impl Into<String>) -> Self {
        Self { path, format, at: Some(at.into()), list: None }
    }

    /// Returns the key of the list that a file of lines is.
    pub fn lines(path: ServerPath, format: Format) -> Self {
        Self { path, format, at: None, list: None }
    }

    /// Whether it is a list.
    pub fn is_list(&self) -> bool {
        self.at.is_none() || self.list.is_some()
    }

    /// Returns its path into the file.
    ///
    /// # Errors
    /// What is written is no path.
    pub fn place(&self) -> Result<Path, EditError> {
        Path::parse(self.at.as_deref().unwrap_or("")).map_err(|e| EditError::Unclear { path: e.path, why: e.why })
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

/// What an owner wants of a slot: a value, or an element of a list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Claim {
    /// The slot.
    pub key: SlotKey,
    /// The owner.
    pub owner: Owner,
    /// The value or element.
    pub value: Value,
    /// The sort the value is to have, whatever stands there.
    pub force: Option<Sort>,
    /// Where in a list it goes when nothing of ours is there yet.
    pub seat: Seat,
    /// Which field or column of the element is the next free number.
    pub number: Option<String>,
    /// Whether a person chose what it says: it stands above an element of the base that is told apart by the same.
    pub firm: bool,
}

impl Claim {
    /// Returns a claim on a value, or on the end of a list.
    pub fn new(key: SlotKey, owner: Owner, value: impl Into<Value>) -> Self {
        Self { key, owner, value: value.into(), force: None, seat: Seat::Last, number: None, firm: false }
    }
}

/// A slot as the ledger keeps it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Slot {
    /// Which setting or list.
    #[serde(flatten)]
    pub key: SlotKey,
    /// What stood there before us: nothing or one value; for a list, the elements that are not ours.
    pub base: Vec<Value>,
    /// What the administrator set since, which is kept.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hand: Option<Value>,
    /// What each owner wants, in load order.
    pub claims: Vec<(Owner, Value)>,
    /// What we wrote: the value, or the elements that are ours.
    pub written: Vec<Value>,
    /// What of a list's base we took out, and where it stood.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub taken: Vec<(usize, Value)>,
    /// The first key on the way that we made, which goes when nothing is left in it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub made: Option<String>,
}

impl Slot {
    /// Returns a slot of which nothing is known yet.
    pub fn new(key: SlotKey) -> Self {
        Self {
            key,
            base: Vec::new(),
            hand: None,
            claims: Vec::new(),
            written: Vec::new(),
            taken: Vec::new(),
            made: None,
        }
    }
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
    /// Its format.
    pub format: Format,
    /// What is wrong with it.
    #[source]
    pub source: Box<SlotFault>,
}

/// What is wrong with a settings file, or with what is wanted of it.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum SlotFault {
    /// It cannot be read without doubt.
    #[error(transparent)]
    Settings(#[from] SettingsError),
    /// It cannot be edited as wanted.
    #[error(transparent)]
    Edit(#[from] EditError),
}

impl SlotError {
    /// Returns it as a finding; `bytes` are the file's, in which a common slip is looked for.
    pub fn finding(&self, bytes: &[u8]) -> Finding {
        match self.source.as_ref() {
            SlotFault::Settings(error) => unreadable(&self.path, self.format, bytes, error),
            SlotFault::Edit(error) => {
                let fix = "change that line by hand, then check again";
                Finding::new("unwritable-setting", Severity::Error, error.to_string(), fix).at(&self.path)
            }
        }
    }
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
    /// What the administrator did since, told; what waits for a file; tuned values that cannot be set.
    pub findings: Vec<Finding>,
}

/// What is beside the ledger's slots and the claims.
#[derive(Debug, Clone, Default)]
pub struct Around {
    /// Files whose hand-changed values give way to the claims.
    pub put_back: BTreeSet<ServerPath>,
    /// Settings that are secret, by file and path: their values are in no note and no finding.
    pub secret: BTreeSet<(ServerPath, String)>,
}

/// Computes every slot from what the ledger has, what is claimed now (in load order) and the files as they are.
///
/// # Errors
/// A file that cannot be read without doubt and that an item or the family has a claim on: nothing is changed then.
/// What only the administrator tuned is told as a finding instead.
pub fn settle(
    before: &[Slot],
    made: &BTreeSet<ServerPath>,
    claims: &[Claim],
    docs: &BTreeMap<ServerPath, Vec<u8>>,
    around: &Around,
) -> Result<Slots, SlotError> {
    let mut keys: BTreeSet<SlotKey> = before.iter().map(|s| s.key.clone()).collect();
    keys.extend(claims.iter().map(|c| c.key.clone()));
    let mut out = Slots { made: made.clone(), ..Slots::default() };
    let mut by_path: BTreeMap<ServerPath, Vec<SlotKey>> = BTreeMap::new();
    for key in keys {
        by_path.entry(key.path.clone()).or_default().push(key);
    }
    for (path, keys) in by_path {
        file(&path, &keys, before, claims, docs.get(&path), around, &mut out)?;
    }
    Ok(out)
}

/// One file's slots.
fn file(
    path: &ServerPath,
    keys: &[SlotKey],
    before: &[Slot],
    claims: &[Claim],
    now: Option<&Vec<u8>>,
    around: &Around,
    out: &mut Slots,
) -> Result<(), SlotError> {
    let olds: Vec<&Slot> = before.iter().filter(|s| s.key.path == *path).collect();
    let mine: Vec<&Claim> = claims.iter().filter(|c| c.key.path == *path).collect();
    let tuned = |o: &Owner| matches!(o, Owner::Tuned | Owner::TunedOut);
    let only_tuned =
        mine.iter().all(|c| tuned(&c.owner)) && olds.iter().all(|s| s.claims.iter().all(|(o, _)| tuned(o)));
    if now.is_none() && only_tuned {
        // the server makes it at its next start; the slots wait with what they know
        let count = mine.len();
        if count > 0 {
            let cause = format!("it is not there yet, and {} for it", waits(count));
            let fix = "start the server once, so that it makes the file, then: yalotheca settle";
            out.findings.push(Finding::new("waits-for-file", Severity::Note, cause, fix).at(path));
        }
        return Ok(());
    }
    let mut bytes = now.cloned().unwrap_or_default();
    let Some(format) = keys.first().map(|k| k.format) else { return Ok(()) };
    let fail = |source: SlotFault| SlotError { path: path.clone(), format, source: Box::new(source) };
    let mut doc = match Document::parse(format, &bytes) {
        Ok(document) => document,
        Err(error) if only_tuned => {
            out.findings.push(unreadable(path, format, &bytes, &error));
            out.slots.extend(olds.iter().map(|s| (*s).clone()));
            return Ok(());
        }
        Err(error) => return Err(fail(error.into())),
    };
    let mut work = FileWork { notes: Vec::new(), dropped: Vec::new(), first: out.slots.len() };
    let wanted_of = |key: &SlotKey| -> Vec<&Claim> { mine.iter().filter(|c| c.key == *key).copied().collect() };
    let told_of = |key: &SlotKey| {
        let secret = key.at.as_ref().is_some_and(|at| around.secret.contains(&(path.clone(), at.clone())));
        Told { notes: Vec::new(), findings: Vec::new(), secret }
    };
    let mut planned = Vec::new();
    for key in keys.iter().filter(|k| !k.is_list()) {
        let old = olds.iter().find(|s| s.key == *key).copied();
        let (wanted, mut told) = (wanted_of(key), told_of(key));
        let only = wanted.iter().all(|c| tuned(&c.owner));
        match values::settle(key, old, &wanted, &mut doc, around.put_back.contains(path), &mut told) {
            Ok((slot, edit)) => planned.push(Planned { slot, edit, old, told, only }),
            Err(fault) => work.stays(fault, key, old, only, out).map_err(fail)?,
        }
    }
    // all values at one go; where one of them does not fit, one by one
    let edits: Vec<Edit> = planned.iter().filter_map(|p| p.edit.clone()).collect();
    let together = doc.edit(&edits).is_ok();
    for one in planned {
        if let (false, Some(edit)) = (together, &one.edit)
            && let Err(error) = doc.edit(std::slice::from_ref(edit))
        {
            work.stays(error.into(), &one.slot.key, one.old, one.only, out).map_err(fail)?;
            continue;
        }
        let mut slot = one.slot;
        // what stands there now, as it reads
        slot.written =
            slot.key.place().ok().and_then(|at| doc.get(&at).ok().flatten()).map(|s| s.value).into_iter().collect();
        work.put(slot, one.told, out);
    }
    for key in keys.iter().filter(|k| k.is_list()) {
        let old = olds.iter().find(|s| s.key == *key).copied();
        let (wanted, mut told) = (wanted_of(key), told_of(key));
        let only = wanted.iter().all(|c| tuned(&c.owner));
        match lists::settle(key, old, &wanted, &mut doc, &mut told) {
            Ok(slot) => work.put(slot, told, out),
            Err(fault) => work.stays(fault, key, old, only, out).map_err(fail)?,
        }
    }
    let FileWork { notes, mut dropped, first } = work;
    hand_on_made(&mut dropped, out.slots.get_mut(first..).unwrap_or_default());
    for slot in &dropped {
        clear_made(&mut doc, slot);
    }
    bytes = doc.render();
    let ours = out.slots.iter().any(|s| s.key.path == *path);
    if now.is_none() && !bytes.is_empty() {
        out.made.insert(path.clone());
    }
    let text = String::from_utf8_lossy(&bytes);
    let blank = matches!(text.trim(), "" | "{}" | "[]");
    let gone = blank && out.made.contains(path) && !ours;
    let after = if gone || (now.is_none() && bytes.is_empty()) { None } else { Some(bytes) };
    if !ours {
        // what is left in it is the administrator's
        out.made.remove(path);
    }
    if after.as_ref() != now {
        out.docs.push(DocChange { path: path.clone(), before: now.cloned(), after, notes });
    }
    Ok(())
}

/// A value's slot and the edit that makes it so.
struct Planned<'a> {
    slot: Slot,
    edit: Option<Edit>,
    old: Option<&'a Slot>,
    told: Told,
    /// Whether nobody but the administrator has a say in it.
    only: bool,
}

/// What gathers while one file's slots are gone through.
struct FileWork {
    notes: Vec<String>,
    dropped: Vec<Slot>,
    /// Where this file's slots begin among all.
    first: usize,
}

impl FileWork {
    fn put(&mut self, slot: Slot, mut told: Told, out: &mut Slots) {
        self.notes.append(&mut told.notes);
        out.findings.append(&mut told.findings);
        if slot.claims.is_empty() { self.dropped.push(slot) } else { out.slots.push(slot) }
    }

    /// What was only tuned and cannot be set stays as it is, and is told.
    #[allow(clippy::unused_self)] // one of the three ways a slot can go
    fn stays(
        &mut self,
        fault: SlotFault,
        key: &SlotKey,
        old: Option<&Slot>,
        only: bool,
        out: &mut Slots,
    ) -> Result<(), SlotFault> {
        match fault {
            SlotFault::Edit(error) if only => {
                out.findings.push(unset(key, &error));
                out.slots.extend(old.cloned());
                Ok(())
            }
            other => Err(other),
        }
    }
}

fn waits(count: usize) -> String {
    if count == 1 { "1 tuned value waits".to_owned() } else { format!("{count} tuned values wait") }
}

/// A finding about a file that cannot be read, with the slip where it is a common one.
pub fn unreadable(path: &ServerPath, format: Format, bytes: &[u8], error: &SettingsError) -> Finding {
    let fix = match crate::settings::slip(format, bytes) {
        Some(slip) => format!("{}: yalotheca tune {path} --mend", slip.repair),
        None => "correct that line by hand, then run the same command again".to_owned(),
    };
    let cause = format!("it cannot be read without doubt, so it is left alone: {}", error.why);
    Finding::new("unreadable-settings", Severity::Error, cause, fix).at(path).on_line(Some(error.line))
}

fn unset(key: &SlotKey, error: &EditError) -> Finding {
    let at = key.at.as_deref().unwrap_or("");
    let cause = format!("a tuned value is not set: {error}");
    let fix = match error {
        EditError::OtherSort { .. } => {
            format!("tune it anew with --as, or: yalotheca tune {} --forget '{at}'", key.path)
        }
        _ => format!("correct the roster, or: yalotheca tune {} --forget '{at}'", key.path),
    };
    Finding::new("cannot-set", Severity::Warning, cause, fix).at(&key.path)
}

/// Returns what stands at a key now: a list's elements, or the one value; nothing where the file cannot be read.
pub fn elements_of(key: &SlotKey, bytes: &[u8]) -> Vec<Value> {
    let (Ok(mut doc), Ok(path)) = (Document::parse(key.format, bytes), key.place()) else { return Vec::new() };
    if key.is_list() {
        return lists::elements(key, &mut doc).ok().flatten().unwrap_or_default();
    }
    doc.get(&path).ok().flatten().map(|s| s.value).into_iter().collect()
}

/// Whether what stands there is what is claimed, typed or as text.
pub fn means(there: &Value, claimed: &Value) -> bool {
    crate::settings::alike(there, claimed)
}

/// Whether an element is the one that is claimed: what tells it apart is the same, or it is the same altogether.
pub fn is_element(key: &SlotKey, there: &Value, claimed: &Value) -> bool {
    let ident = |v: &Value| key.list.as_ref().and_then(|l| l.ident(v));
    match (ident(there), ident(claimed)) {
        (Some(a), Some(b)) => a == b,
        _ => means(there, claimed),
    }
}

/// What one slot has to say.
struct Told {
    notes: Vec<String>,
    findings: Vec<Finding>,
    secret: bool,
}

impl Told {
    fn shown(&self, value: &Value) -> String {
        if self.secret { "(secret)".to_owned() } else { format!("`{}`", crate::text::clean(&value.shown(), 120)) }
    }
}

/// The first part of a path that is not in the document yet.
fn first_missing(doc: &mut Document, path: &Path) -> Option<Path> {
    (1..=path.parts()).map(|count| path.first_parts(count)).find(|part| matches!(doc.get(part), Ok(None)))
}

/// A key that one slot made and another stands in belongs to the other when the first goes.
fn hand_on_made(dropped: &mut [Slot], staying: &mut [Slot]) {
    for slot in dropped {
        let Some(made) = slot.made.clone() else { continue };
        let Ok(prefix) = Path::parse(&made) else { continue };
        let heir = staying
            .iter_mut()
            .find(|s| s.key.path == slot.key.path && s.key.place().is_ok_and(|p| p.begins_with(&prefix)));
        if let Some(heir) = heir {
            heir.made = Some(made);
            slot.made = None;
        }
    }
}

/// Takes out what a slot made on the way to its value, from the inside out, where nothing is left in it.
fn clear_made(doc: &mut Document, slot: &Slot) {
    let (Some(made), Ok(path)) = (&slot.made, slot.key.place()) else { return };
    let Ok(made) = Path::parse(made) else { return };
    for count in (made.parts()..path.parts()).rev() {
        let part = path.first_parts(count);
        let empty = match doc.get(&part) {
            Ok(Some(spot)) => match spot.value {
                Value::Map(pairs) => pairs.is_empty(),
                Value::List(items) => items.is_empty(),
                value => value == Value::Null,
            },
            _ => false,
        };
        if !empty || doc.remove(&part).is_err() {
            return;
        }
    }
}

#[cfg(test)]
mod tests;
