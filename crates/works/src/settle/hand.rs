//! Hand steps: what must change in a text that only a person can enter waits until that person says it is done.

use std::collections::BTreeSet;

use yalotheca_core::family::HAND;
use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::id::ServerPath;
use yalotheca_core::ledger::Ledger;
use yalotheca_core::roster::put_in;
use yalotheca_core::slot::{DocChange, Slots};
use yalotheca_core::text::{clean, did_you_mean};

use crate::Error;
use crate::server::Server;
use crate::want::{roster_error, toml_text};

/// Takes what only a person can enter out of the changes and puts it off: its slots stay as the ledger has them.
/// What is done already (by its name in `done`) is kept, and written on the roster.
///
/// # Errors
/// Nothing waits under one of the names, or the roster cannot be written.
pub(super) fn put_off(
    server: &Server,
    before: &Ledger,
    slots: &mut Slots,
    done: &BTreeSet<String>,
    roster: &mut Option<String>,
) -> Result<Vec<Finding>, Error> {
    let (waiting, docs): (Vec<DocChange>, Vec<DocChange>) =
        std::mem::take(&mut slots.docs).into_iter().partition(|d| d.path.root() == HAND);
    slots.docs = docs;
    let names: Vec<&str> = waiting.iter().map(|d| d.path.path()).collect();
    if let Some(none) = done.iter().find(|n| !names.contains(&n.as_str())) {
        let hint = did_you_mean(none, names.iter().copied());
        let hint = if hint.is_empty() { "; see what waits: yalotheca check".to_owned() } else { hint };
        return Err(Error::Choice(format!("nothing waits to be entered under `{}`{hint}", clean(none, 60))));
    }
    let mut findings = Vec::new();
    for doc in waiting {
        let name = doc.path.path();
        let text = String::from_utf8_lossy(doc.after.as_deref().unwrap_or_default()).into_owned();
        if done.contains(name) {
            let old = roster.as_deref().unwrap_or(&server.text);
            let new = put_in(old, &[HAND], name, &toml_text(&text)).map_err(|e| roster_error(server, e))?;
            *roster = Some(new);
        } else {
            findings.push(finding(server, &doc, &text));
            as_before(before, slots, &doc.path);
        }
    }
    Ok(findings)
}

/// A file's slots as the ledger has them.
fn as_before(before: &Ledger, slots: &mut Slots, path: &ServerPath) {
    slots.slots.retain(|s| s.key.path != *path);
    slots.slots.extend(before.slots.iter().filter(|s| s.key.path == *path).cloned());
    slots.made.remove(path);
    slots.made.extend(before.made.get(path).cloned());
}

fn finding(server: &Server, doc: &DocChange, text: &str) -> Finding {
    let name = doc.path.path();
    let rule = server.family.rules.hand.iter().find(|h| h.name == name);
    let place = rule.map_or("where you set it", |h| h.place.as_str());
    let lines: Vec<&str> = text.trim_end_matches(['\n', '\r']).lines().collect();
    let what = match lines.as_slice() {
        [] => " nothing; empty it".to_owned(),
        many => many.iter().map(|l| format!("\n{}", clean(l, 2_000))).collect(),
    };
    let cause = format!("only you can enter this, {place}:{what}");
    let first = match doc.before {
        Some(_) => String::new(),
        None => {
            format!(" (does something stand there already? then first, under [{HAND}] on the roster: {name} = \"…\")")
        }
    };
    let fix = format!("when it stands there: yalotheca settle --done {name}{first}");
    Finding::new("hand-step", Severity::Warning, cause, fix).at(&doc.path)
}
