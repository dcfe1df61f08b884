//! What was done to a server, and what of it can be shown.

use std::collections::{BTreeMap, BTreeSet};

use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::id::{Digest, ServerPath};
use yalotheca_core::ledger::{Act, Entry, Ledger};
use yalotheca_core::slot::DocChange;

use crate::Error;
use crate::server::Server;
use crate::state;
use crate::tree::{Stat, state_path};

/// A file larger than this is not shown line by line (bytes).
const MOST_SHOWN: u64 = 1_000_000;

/// Returns the history, oldest first.
///
/// # Errors
/// The server's state cannot be read.
pub fn history(server: &Server) -> Result<Vec<Entry>, Error> {
    state::history(server.tree.as_ref())
}

/// Returns a warning when somebody settled the server with a newer roster than this one: what they did would be
/// taken back by the next settle with this one.
///
/// # Errors
/// The server's state cannot be read.
pub(crate) fn behind(server: &Server, head: &Ledger) -> Result<Option<Finding>, Error> {
    let mine = Digest::of(server.text.as_bytes());
    if head.roster.is_none() || head.roster.as_ref() == Some(&mine) {
        return Ok(None);
    }
    let all = state::history(server.tree.as_ref())?;
    let Some(own) = all.iter().rposition(|e| e.roster.1.as_ref() == Some(&mine)) else { return Ok(None) };
    let Some(last) = all.iter().skip(own + 1).rev().find(|e| e.roster.0 != e.roster.1) else { return Ok(None) };
    if last.who == server.around.who {
        // one's own way forth and back
        return Ok(None);
    }
    let own = all.get(own).map_or(0, |e| e.number);
    let who = if last.who.is_empty() { "somebody" } else { last.who.as_str() };
    let cause = format!(
        "this roster is the one of entry {own}; {} settled the server with a newer one since (entry {}), and settling with this one takes that back",
        yalotheca_core::text::clean(who, 60),
        last.number
    );
    let fix = "to take over the newer one: move this roster away, and run the same yalotheca adopt again";
    Ok(Some(Finding::new("roster-behind", Severity::Warning, cause, fix)))
}

/// An entry with what is kept of it.
#[derive(Debug)]
pub struct Told {
    /// The entry.
    pub entry: Entry,
    /// The settings files it changed, with their bytes before and after.
    pub docs: Vec<DocChange>,
    /// The roster before and after, where it changed.
    pub roster: Option<(String, String)>,
}

/// Returns one entry with what is kept of it.
///
/// # Errors
/// There is no such entry, or the server's state cannot be read.
pub fn show(server: &Server, number: u64) -> Result<Told, Error> {
    let tree = server.tree.as_ref();
    let all = state::history(tree)?;
    let entry = all.iter().find(|e| e.number == number).cloned().ok_or_else(|| match (all.first(), all.last()) {
        (Some(first), Some(last)) => Error::NoEntry(format!(
            "the history has no entry {number}; it goes from {} to {}",
            first.number, last.number
        )),
        _ => Error::NoEntry("the history is empty".to_owned()),
    })?;
    let mut settings: BTreeSet<ServerPath> = BTreeSet::new();
    for generation in [entry.from, entry.number] {
        let head = state::head_of(tree, generation)?;
        settings.extend(head.slots.into_iter().map(|s| s.key.path).chain(head.made));
    }
    if let Act::Tune(files) = &entry.act {
        settings.extend(files.iter().cloned());
    }
    let touched: Vec<_> = entry.files.iter().filter(|(p, ..)| settings.contains(p)).collect();
    let rosters = [&entry.roster.0, &entry.roster.1];
    let digests: BTreeSet<&Digest> =
        touched.iter().flat_map(|(_, a, b)| [a, b]).chain(rosters).filter_map(Option::as_ref).collect();
    let kept = kept(server, &digests)?;
    let bytes = |digest: &Option<Digest>| digest.as_ref().map(|d| kept.get(d).cloned());
    let mut docs = Vec::new();
    for (path, before, after) in touched {
        let (before, after) = (bytes(before), bytes(after));
        // what is no longer kept cannot be shown
        if matches!(before, Some(None)) || matches!(after, Some(None)) {
            continue;
        }
        docs.push(DocChange {
            path: path.clone(),
            before: before.flatten(),
            after: after.flatten(),
            notes: Vec::new(),
        });
    }
    let text = |digest: &Option<Digest>| {
        digest.as_ref().and_then(|d| kept.get(d)).map(|b| String::from_utf8_lossy(b).into_owned())
    };
    let roster = match (text(&entry.roster.0), text(&entry.roster.1)) {
        (Some(before), Some(after)) if before != after => Some((before, after)),
        _ => None,
    };
    Ok(Told { entry, docs, roster })
}

/// The bytes in quarantine of some digests; those that are gone or large are left out.
fn kept(server: &Server, digests: &BTreeSet<&Digest>) -> Result<BTreeMap<Digest, Vec<u8>>, Error> {
    let tree = server.tree.as_ref();
    let listed = tree.list(&[state_path("quarantine")?])?.pop().unwrap_or_default();
    let small = |stat: &Stat| matches!(stat, Stat::File { bytes, .. } if *bytes <= MOST_SHOWN);
    let there: BTreeSet<String> = listed.into_iter().filter(|(_, stat)| small(stat)).map(|(name, _)| name).collect();
    let wanted: Vec<&Digest> = digests.iter().copied().filter(|d| there.contains(d.hex())).collect();
    let paths = wanted.iter().map(|d| state::kept_path(d)).collect::<Result<Vec<_>, _>>()?;
    let read = if paths.is_empty() { Vec::new() } else { tree.read(&paths, MOST_SHOWN)? };
    Ok(wanted.into_iter().zip(read).filter_map(|(d, b)| Some((d.clone(), b?))).collect())
}
