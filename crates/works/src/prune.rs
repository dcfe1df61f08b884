//! Makes room in quarantine: forgets the oldest entries of the history, past an age or a size.

use std::collections::BTreeSet;

use yalotheca_core::id::{Digest, ServerPath};
use yalotheca_core::ledger::{Entry, Ledger};

use crate::Error;
use crate::server::Server;
use crate::state;
use crate::tree::{Effect, STATE, Stat, Tree, hold, state_path};

/// What would be forgotten.
#[must_use = "a plan changes nothing until it is carried out"]
#[derive(Debug, Default)]
pub struct Prune {
    /// The entries, oldest first; none of them can be taken back any more.
    pub entries: Vec<Entry>,
    /// The files of our own that only they needed.
    pub files: Vec<ServerPath>,
    /// The bytes of these files.
    pub bytes: u64,
    /// The bytes that stay.
    pub left: u64,
}

/// Plans what to forget: entries older than the roster's `quarantine-days`, and then the oldest until what is kept
/// fits into `quarantine-mb`. The newest entry always stays.
///
/// # Errors
/// The server's state cannot be read.
pub fn plan(server: &Server) -> Result<Prune, Error> {
    let tree = server.tree.as_ref();
    let history = state::history(tree)?;
    let limits = &server.roster.limits;
    let sizes = sizes(tree)?;
    let old = |e: &Entry| days_between(&e.when, &server.around.now).is_some_and(|d| d > limits.quarantine_days);
    let newest = history.len().saturating_sub(1);
    let mut cut = history.iter().take(newest).take_while(|e| old(e)).count();
    let most = limits.quarantine_mb.saturating_mul(1_000_000);
    loop {
        let needed = needed(tree, history.get(cut..).unwrap_or_default())?;
        let (kept, gone): (Vec<_>, Vec<_>) = sizes.iter().partition(|(path, _)| needed.contains(path));
        let sum = |all: &[&(ServerPath, u64)]| all.iter().map(|(_, bytes)| bytes).sum::<u64>();
        let (bytes, left) = (sum(&gone), sum(&kept));
        if left > most && cut < newest {
            cut += 1;
            continue;
        }
        let entries = history.into_iter().take(cut).collect();
        // files that nobody needs go too, whether or not an entry goes: a run that died may have left them
        return Ok(Prune { entries, files: gone.into_iter().map(|(p, _)| p.clone()).collect(), bytes, left });
    }
}

/// Returns how many bytes lie in quarantine.
pub(crate) fn held(tree: &dyn Tree) -> Result<u64, Error> {
    let listed = tree.list(&[state_path("quarantine")?])?.pop().unwrap_or_default();
    Ok(listed.iter().map(|(_, stat)| if let Stat::File { bytes, .. } = stat { *bytes } else { 0 }).sum())
}

/// Carries a plan out.
///
/// # Errors
/// Another run holds the server or changed it since, or the host fails; running it again goes on.
pub fn carry_out(server: &Server, prune: &Prune) -> Result<(), Error> {
    let tree = server.tree.as_ref();
    let _hold = hold(&server.tree, &server.around.holder())?;
    // what somebody did since may need what was to go
    if plan(server)?.files != prune.files {
        return Err(Error::Moved { path: STATE.to_owned() });
    }
    let mut effects = Vec::new();
    // first what would name the files, then the files
    for entry in &prune.entries {
        effects.push(Effect::Discard(state_path(&format!("history/{:06}.json", entry.number))?));
    }
    effects.extend(prune.files.iter().cloned().map(Effect::Discard));
    Ok(tree.apply(&effects)?)
}

/// The files of heads, lists and quarantine, with their sizes.
fn sizes(tree: &dyn Tree) -> Result<Vec<(ServerPath, u64)>, Error> {
    let names = ["heads", "lists", "quarantine"];
    let folders = names.iter().map(|n| state_path(n)).collect::<Result<Vec<_>, _>>()?;
    let mut out = Vec::new();
    for (folder, listed) in folders.iter().zip(tree.list(&folders)?) {
        for (name, stat) in listed {
            if let Stat::File { bytes, .. } = stat {
                out.push((state_path(&format!("{}/{name}", folder.path()))?, bytes));
            }
        }
    }
    Ok(out)
}

/// Every file that some entries, and the server as it is, need.
fn needed(tree: &dyn Tree, entries: &[Entry]) -> Result<BTreeSet<ServerPath>, Error> {
    let mut out = BTreeSet::new();
    let mut digests: BTreeSet<Digest> = BTreeSet::new();
    let generations: BTreeSet<u64> = entries.iter().flat_map(|e| [e.from, e.number]).filter(|g| *g > 0).collect();
    let mut heads: Vec<Ledger> = vec![state::head(tree)?];
    for generation in generations {
        if let Ok(head) = state::head_of(tree, generation) {
            heads.push(head);
        }
    }
    for head in &heads {
        out.insert(state_path(&format!("heads/{:06}.json", head.generation))?);
        for held in head.items.values() {
            out.insert(state_path(&format!("lists/{}.json", held.files))?);
        }
        digests.extend(head.roster.iter().chain(head.bases.values()).cloned());
        // shipped defaults are kept for the next merge
        for rows in state::rows(tree, head)?.values() {
            digests.extend(rows.iter().filter(|r| r.settings).map(|r| r.sha256.clone()));
        }
    }
    for entry in entries {
        let files = entry.files.iter().flat_map(|(_, before, after)| [before, after]);
        digests.extend(files.chain([&entry.roster.0, &entry.roster.1]).flatten().cloned());
    }
    for digest in digests {
        out.insert(state::kept_path(&digest)?);
    }
    Ok(out)
}

/// Returns the whole days between two times, RFC 3339.
fn days_between(from: &str, to: &str) -> Option<u64> {
    let (from, to): (jiff::Timestamp, jiff::Timestamp) = (from.parse().ok()?, to.parse().ok()?);
    u64::try_from(to.as_second() - from.as_second()).ok().map(|s| s / 86_400)
}
