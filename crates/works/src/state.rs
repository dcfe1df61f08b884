//! The ledger where it lives: with the server, in the state folder of its tree (`docs/ledger-format.md`).

use std::collections::{BTreeMap, BTreeSet, HashMap};

use serde::{Deserialize, Serialize};
use yalotheca_core::changes::Seen;
use yalotheca_core::id::{Digest, ItemId, ServerPath};
use yalotheca_core::ledger::{Entry, FileRow, Ledger, LedgerError, parse_rows};

use crate::Error;
use crate::tree::{Stat, Tree, state_path};

/// A state file larger than this is refused (bytes).
const MOST_STATE: u64 = 256_000_000;

/// Returns the newest valid head, or an empty ledger where there is none. A damaged head is passed over for the
/// one before it.
///
/// # Errors
/// A newer program wrote it, or all that are there are damaged.
pub fn head(tree: &dyn Tree) -> Result<Ledger, Error> {
    let mut numbers = numbers(tree, "heads")?;
    let mut damaged = None;
    while let Some(number) = numbers.pop() {
        match head_of(tree, number) {
            Err(Error::Ledger(LedgerError::Damaged(why))) => damaged = damaged.or(Some(why)),
            other => return other,
        }
    }
    match damaged {
        Some(why) => Err(LedgerError::Damaged(why).into()),
        None => Ok(Ledger::default()),
    }
}

/// Returns the head of a generation; 0 is the empty ledger.
///
/// # Errors
/// It is gone or cannot be used.
pub fn head_of(tree: &dyn Tree, generation: u64) -> Result<Ledger, Error> {
    if generation == 0 {
        return Ok(Ledger::default());
    }
    let path = state_path(&format!("heads/{generation:06}.json"))?;
    let bytes = tree.read(&[path], MOST_STATE)?.pop().flatten();
    let bytes = bytes.ok_or_else(|| LedgerError::Damaged(format!("generation {generation} is gone")))?;
    Ok(Ledger::parse(&bytes)?)
}

/// Returns the newest generation's number as the tree has it now.
pub(crate) fn newest(tree: &dyn Tree) -> Result<u64, Error> {
    Ok(numbers(tree, "heads")?.pop().unwrap_or(0))
}

pub(crate) fn numbers(tree: &dyn Tree, folder: &str) -> Result<Vec<u64>, Error> {
    let listed = tree.list(&[state_path(folder)?])?.pop().unwrap_or_default();
    let mut out: Vec<u64> = listed.iter().filter_map(|(n, _)| n.strip_suffix(".json")?.parse().ok()).collect();
    out.sort_unstable();
    Ok(out)
}

/// Returns the history, oldest first.
///
/// # Errors
/// An entry cannot be read.
pub fn history(tree: &dyn Tree) -> Result<Vec<Entry>, Error> {
    let paths: Vec<ServerPath> = numbers(tree, "history")?
        .iter()
        .map(|n| state_path(&format!("history/{n:06}.json")))
        .collect::<Result<_, _>>()?;
    let damaged = |e: serde_json::Error| LedgerError::Damaged(yalotheca_core::text::clean(&e.to_string(), 120));
    let read = tree.read(&paths, MOST_STATE)?;
    Ok(read.into_iter().flatten().map(|b| serde_json::from_slice(&b).map_err(damaged)).collect::<Result<_, _>>()?)
}

/// Returns every item's file list.
///
/// # Errors
/// One is gone or damaged.
pub fn rows(tree: &dyn Tree, ledger: &Ledger) -> Result<BTreeMap<ItemId, Vec<FileRow>>, Error> {
    let digests: Vec<(&ItemId, &Digest)> = ledger.items.iter().map(|(id, held)| (id, &held.files)).collect();
    let paths: Vec<ServerPath> =
        digests.iter().map(|(_, d)| state_path(&format!("lists/{d}.json"))).collect::<Result<_, _>>()?;
    let read = if paths.is_empty() { Vec::new() } else { tree.read(&paths, MOST_STATE)? };
    let mut out = BTreeMap::new();
    for ((id, digest), bytes) in digests.into_iter().zip(read) {
        let bytes = bytes.ok_or_else(|| LedgerError::Damaged(format!("the file list of {id} is gone")))?;
        out.insert(id.clone(), parse_rows(digest, &bytes)?);
    }
    Ok(out)
}

/// Returns the bytes that were put aside under a digest.
///
/// # Errors
/// They are gone.
pub fn kept(tree: &dyn Tree, digest: &Digest) -> Result<Vec<u8>, Error> {
    let bytes = tree.read(&[kept_path(digest)?], MOST_STATE)?.pop().flatten();
    bytes.ok_or_else(|| LedgerError::Damaged(format!("what was put aside as {} is gone", digest.short())).into())
}

/// Returns where bytes are put aside: the quarantine.
pub(crate) fn kept_path(digest: &Digest) -> Result<ServerPath, Error> {
    Ok(state_path(&format!("quarantine/{digest}"))?)
}

/// What we saw of files last time: size, time of change and digest. Only a help: without it everything is read.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(transparent)]
struct Cache(HashMap<String, (u64, i64, String)>);

impl Cache {
    fn of(tree: &dyn Tree) -> Self {
        tree.remembered().and_then(|b| serde_json::from_slice(&b).ok()).unwrap_or_default()
    }

    fn keep(&self, tree: &dyn Tree) {
        if let Ok(bytes) = serde_json::to_vec(self) {
            tree.remember(&bytes);
        }
    }
}

/// Remembers the digests of files that we have just put there, so that a host need not send them back.
///
/// # Errors
/// The tree fails.
pub(crate) fn note(tree: &dyn Tree, files: &BTreeMap<ServerPath, Digest>) -> Result<(), Error> {
    if files.is_empty() || tree.folder().is_some() {
        return Ok(());
    }
    let mut cache = Cache::of(tree);
    let paths: Vec<ServerPath> = files.keys().cloned().collect();
    for (path, stat) in paths.iter().zip(tree.stat(&paths)?) {
        if let (Stat::File { bytes, changed }, Some(digest)) = (stat, files.get(path)) {
            cache.0.insert(path.to_string(), (bytes, changed, digest.hex().to_owned()));
        }
    }
    cache.keep(tree);
    Ok(())
}

/// Returns the digest of a file whose size and time are as they were when it was last seen.
///
/// # Errors
/// The tree fails.
pub(crate) fn known(tree: &dyn Tree, path: &ServerPath) -> Result<Option<Digest>, Error> {
    let cache = Cache::of(tree);
    let Some((size, time, digest)) = cache.0.get(&path.to_string()) else { return Ok(None) };
    let stat = tree.stat(std::slice::from_ref(path))?.pop();
    let same =
        matches!(stat, Some(Stat::File { bytes, changed }) if bytes == *size && changed == *time && changed != 0);
    Ok(same.then(|| Digest::parse(digest).ok()).flatten())
}

/// Forgets what was seen, so that everything is read anew.
pub fn forget(tree: &dyn Tree) {
    Cache::default().keep(tree);
}

/// Returns what stands at each path, by path.
///
/// # Errors
/// The tree fails.
pub fn seen_by_path(tree: &dyn Tree, paths: BTreeSet<ServerPath>) -> Result<BTreeMap<ServerPath, Seen>, Error> {
    let paths: Vec<ServerPath> = paths.into_iter().collect();
    let seen = seen(tree, &paths)?;
    Ok(paths.into_iter().zip(seen).collect())
}

/// Returns what stands at each path, in the order asked, reading only files whose size or time moved since we last
/// saw them.
///
/// # Errors
/// The tree fails.
pub fn seen(tree: &dyn Tree, paths: &[ServerPath]) -> Result<Vec<Seen>, Error> {
    if paths.is_empty() {
        return Ok(Vec::new());
    }
    let mut cache = Cache::of(tree);
    let mut out = Vec::with_capacity(paths.len());
    let mut read: Vec<(usize, u64, i64)> = Vec::new();
    for (path, stat) in paths.iter().zip(tree.stat(paths)?) {
        out.push(match stat {
            Stat::Absent => Seen::Absent,
            Stat::Folder => Seen::Other("a folder"),
            Stat::Other => Seen::Other("a link or a device"),
            Stat::File { bytes, changed } => {
                let known = cache.0.get(&path.to_string());
                // a host that tells no time gives no way to know
                let same = known.filter(|(b, c, _)| *b == bytes && *c == changed && changed != 0);
                match same.and_then(|(_, _, digest)| Digest::parse(digest).ok()) {
                    Some(digest) => Seen::File(digest),
                    None => {
                        read.push((out.len(), bytes, changed));
                        Seen::Absent
                    }
                }
            }
        });
    }
    if !read.is_empty() {
        let list: Vec<ServerPath> = read.iter().filter_map(|(at, ..)| paths.get(*at).cloned()).collect();
        let now = now_nanos().saturating_add(tree.clock_ahead());
        for (((at, bytes, changed), path), digest) in read.into_iter().zip(&list).zip(tree.digest(&list)?) {
            // what changed this very moment could change again within the same tick of the clock
            if let (Some(digest), true) = (&digest, now.saturating_sub(changed) > 1_000_000_000) {
                cache.0.insert(path.to_string(), (bytes, changed, digest.hex().to_owned()));
            } else {
                cache.0.remove(&path.to_string());
            }
            if let Some(place) = out.get_mut(at) {
                *place = digest.map_or(Seen::Absent, Seen::File);
            }
        }
        cache.keep(tree);
    }
    Ok(out)
}

fn now_nanos() -> i64 {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    now.ok().and_then(|d| i64::try_from(d.as_nanos()).ok()).unwrap_or(0)
}
