//! Sets values in settings files. What is tuned is put on the roster, and written through the same slots as wiring.

mod request;
mod sheet;
mod whole;
mod why;

use std::collections::{BTreeMap, BTreeSet};

use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::id::{Digest, ServerPath};
use yalotheca_core::ledger::{Act, Ledger};
use yalotheca_core::roster::{Tuned, What, put_setting};
use yalotheca_core::settings::{Amount, Document, Format, Path, Value, guess};
use yalotheca_core::slot::{self, Claim, DocChange, Owner, Slot};

use crate::server::{MOST_SETTINGS, Server};
use crate::settle::Plan;
use crate::state;
use crate::{Error, running};

pub use request::{Change, Request, Where, plan};
pub use sheet::{Sheet, open};
pub use whole::{copy, forget, mend, move_entry, paste, secret};
pub use why::{Layer, why};

/// What the roster tunes, as claims.
#[derive(Debug, Clone, Default)]
pub(crate) struct Tuning {
    /// The claims, in the roster's order.
    pub(crate) claims: Vec<Claim>,
    /// What is told.
    pub(crate) findings: Vec<Finding>,
    /// The roster's text, where arithmetic was done anew.
    pub(crate) text: Option<String>,
}

/// Returns what the roster tunes. Arithmetic whose base is another than the roster says is done anew: the file it
/// stands in shipped another default.
pub(crate) fn tuning(
    server: &Server,
    ledger: &Ledger,
    overlay: &BTreeMap<ServerPath, Vec<u8>>,
) -> Result<Tuning, Error> {
    let mut out = Tuning::default();
    let files: BTreeSet<&ServerPath> = server.roster.tuned.iter().map(|t| &t.file).collect();
    for file in files {
        let bytes = match overlay.get(file) {
            Some(bytes) => Some(bytes.clone()),
            None => read(server, file)?,
        };
        let format = format_of(server, file, bytes.as_deref());
        let mut document = bytes.as_deref().and_then(|b| Document::parse(format, b).ok());
        let secrets = server.family.secrets(file);
        for tuned in server.roster.tuned.iter().filter(|t| t.file == *file) {
            if secrets.iter().any(|s| s.covers(&tuned.at)) {
                let cause = format!("line {} of the roster records `{}`, which is secret", tuned.line, tuned.at);
                let fix = format!("take the line out; set it with: yalotheca tune {file} '{}' --secret", tuned.at);
                out.findings.push(Finding::new("secret-on-roster", Severity::Error, cause, fix).at(file));
                continue;
            }
            let fresh = document.as_mut().and_then(|d| anew(tuned, ledger, format, d));
            let Some(fresh) = fresh else {
                out.claims.extend(tuned.claims(format));
                continue;
            };
            if let What::Reckoned { base, result, .. } = &fresh.what {
                let cause = format!("the default of `{}` is {base} now, so what you tuned comes to {result}", tuned.at);
                let fix = "nothing to do; yalotheca settle sets it and writes it on the roster";
                out.findings.push(Finding::new("reckoned-anew", Severity::Note, cause, fix).at(file));
            }
            let text = out.text.as_deref().unwrap_or(&server.text);
            out.text = Some(put_setting(text, &fresh).map_err(|source| roster_error(server, &source))?);
            out.claims.extend(fresh.claims(format));
        }
    }
    Ok(out)
}

/// The record with its arithmetic done on another base, where the base is another.
fn anew(tuned: &Tuned, ledger: &Ledger, format: Format, document: &mut Document) -> Option<Tuned> {
    let What::Reckoned { by, base, result } = &tuned.what else { return None };
    let key = tuned.claims(format).into_iter().next()?.key;
    let slot = ledger.slots.iter().find(|s| s.key == key);
    let now = match slot {
        Some(slot) => slot.base.first().and_then(Value::text)?,
        None => document.get(&tuned.at).ok()??.value.text()?,
    };
    let number = |t: &str| Value::Number(t.to_owned());
    if number(&now).same(&number(base)) || slot.is_none() && number(&now).same(&number(result)) {
        return None;
    }
    let result = reckon(by, &now).ok()?;
    Some(Tuned { what: What::Reckoned { by: by.clone(), base: now, result }, ..tuned.clone() })
}

/// Does arithmetic in order.
fn reckon(by: &[Amount], base: &str) -> Result<String, yalotheca_core::settings::AmountError> {
    by.iter().try_fold(base.to_owned(), |number, amount| amount.of(&number))
}

fn read(server: &Server, file: &ServerPath) -> Result<Option<Vec<u8>>, Error> {
    Ok(server.tree.read(std::slice::from_ref(file), MOST_SETTINGS)?.pop().flatten())
}

/// The format the family names, else the one its name or its looks tell.
pub(crate) fn format_of(server: &Server, file: &ServerPath, bytes: Option<&[u8]>) -> Format {
    let named = server.family.format_of(file);
    named.or_else(|| guess(file.path(), bytes.unwrap_or_default())).unwrap_or(Format::Text)
}

pub(crate) fn roster_error(server: &Server, source: &yalotheca_core::settings::EditError) -> Error {
    Error::RosterEdit { path: server.roster_path.clone(), why: source.to_string() }
}

/// What a tune leaves on the server and the roster.
struct Outcome<'a> {
    /// The roster's text from now on.
    text: String,
    /// The paths that were tuned just now: a hand edit there gives way.
    touched: &'a [(ServerPath, Path)],
    /// The files whose slots are computed.
    files: BTreeSet<ServerPath>,
    /// Files that are written beside.
    docs: Vec<DocChange>,
    /// What is told.
    findings: Vec<Finding>,
    /// What the history says was tuned.
    act: Act,
}

/// Computes the slots of some files anew, over the files as they are and the roster as it will be. Nothing else of
/// the server is looked at.
fn finish(server: &Server, outcome: Outcome<'_>) -> Result<Plan, Error> {
    let told = server.told.clone();
    let tree = server.tree.as_ref();
    let before = state::head(tree)?;
    let rows = state::rows(tree, &before)?;
    let after_roster = server.with_roster(outcome.text.clone())?;
    let tuning = tuning(&after_roster, &before, &BTreeMap::new())?;
    let here = |p: &ServerPath| outcome.files.contains(p);
    let (mut mine, rest): (Vec<Slot>, Vec<Slot>) = before.slots.iter().cloned().partition(|s| here(&s.key.path));
    let mut bytes: BTreeMap<ServerPath, Vec<u8>> = BTreeMap::new();
    for file in &outcome.files {
        if let Some(read) = read(server, file)? {
            bytes.insert(file.clone(), read);
        }
    }
    // what a person set just now stands above what they set by hand before
    for slot in &mut mine {
        let Ok(at) = slot.key.place() else { continue };
        if outcome.touched.iter().any(|(f, p)| *f == slot.key.path && *p == at) {
            slot.hand = None;
            if !slot.key.is_list() {
                let there = bytes.get(&slot.key.path).map(|b| slot::elements_of(&slot.key, b));
                slot.written = there.unwrap_or_default();
            }
        }
    }
    let others =
        mine.iter().flat_map(|s| s.claims.iter().map(|(o, v)| Claim::new(s.key.clone(), o.clone(), v.clone())));
    let tuned = |o: &Owner| matches!(o, Owner::Tuned | Owner::TunedOut);
    let (terms, mut claims): (Vec<Claim>, Vec<Claim>) =
        others.filter(|c| !tuned(&c.owner)).partition(|c| c.owner == Owner::Terms);
    claims.extend(tuning.claims.into_iter().filter(|c| here(&c.key.path)));
    claims.extend(terms);
    let around = slot::Around { put_back: BTreeSet::new(), secret: secrets_of(server, &claims) };
    let slots = slot::settle(&mine, &before.made, &claims, &bytes, &around)?;
    let mut docs = slots.docs;
    for doc in outcome.docs {
        match docs.iter_mut().find(|d| d.path == doc.path) {
            // what is written beside comes on top
            Some(there) => {
                there.after = doc.after;
                there.notes.extend(doc.notes);
            }
            None => docs.push(doc),
        }
    }
    let mut all: Vec<Slot> = rest.into_iter().chain(slots.slots).collect();
    all.sort_by(|a, b| a.key.cmp(&b.key));
    let text = tuning.text.unwrap_or(outcome.text);
    let settled = before.roster.as_ref() == Some(&Digest::of(server.text.as_bytes()));
    let mut after = Ledger { slots: all, made: slots.made, ..before.clone() };
    if settled || before.roster.is_none() {
        after.roster = Some(Digest::of(text.as_bytes()));
    }
    let findings = tuning
        .findings
        .into_iter()
        .filter(|f| f.file.as_ref().is_none_or(|n| outcome.files.iter().any(|p| p.to_string() == *n)));
    let findings = outcome.findings.into_iter().chain(findings).chain(slots.findings).chain(told).collect();
    let plan = Plan {
        act: outcome.act,
        before,
        after,
        rows,
        steps: Vec::new(),
        docs,
        items: Vec::new(),
        findings,
        left: Vec::new(),
        keep: Vec::new(),
        roster_after: (text != server.text).then_some(text),
        facts: server.facts()?,
    };
    running::looked(server, plan)
}

/// The claims whose values the family calls secret.
pub(crate) fn secrets_of(server: &Server, claims: &[Claim]) -> BTreeSet<(ServerPath, String)> {
    let secret = |c: &&Claim| c.key.place().is_ok_and(|at| server.family.is_secret(&c.key.path, &at));
    claims.iter().filter(secret).filter_map(|c| Some((c.key.path.clone(), c.key.at.clone()?))).collect()
}

/// What stands for a secret value in a text that is shown.
const HIDDEN: &str = "(secret)";

/// Returns a settings file's text with its secrets hidden; `None` where it has secrets that cannot be told apart.
pub fn shown(server: &Server, file: &ServerPath, bytes: &[u8]) -> Option<String> {
    let secrets = server.family.secrets(file);
    if secrets.is_empty() {
        return Some(String::from_utf8_lossy(bytes).into_owned());
    }
    let format = format_of(server, file, Some(bytes));
    let mut document = Document::parse(format, bytes).ok()?;
    let mut text = document.text().to_owned();
    let mut ranges = Vec::new();
    for secret in secrets {
        for spot in document.select(&secret).unwrap_or_default() {
            ranges.extend(document.range(&spot.path));
        }
    }
    ranges.sort_by_key(|r| r.start);
    for range in ranges.into_iter().rev().filter(|r| !r.is_empty()) {
        text.replace_range(range, HIDDEN);
    }
    Some(text)
}
