//! Holds a server for one run, wherever it is: `locks/held/holder.json` in its state folder says who.
//!
//! The folder `locks/TOKEN` is made and filled first and then renamed to `locks/held`, which no system does over a folder
//! that is not empty. So there is never a lock without a holder, on any host. A holder gives a sign of life once a
//! minute; one that is silent for a quarter of an hour by the
//! host's own clock, or whose process is gone from this very machine, is stale and taken over.

use std::sync::Arc;
use std::sync::mpsc::{self, RecvTimeoutError, Sender};
use std::thread::JoinHandle;
use std::time::Duration;

use serde::{Deserialize, Serialize};
use yalotheca_core::id::ServerPath;
use yalotheca_core::text::clean;

use super::{Content, Effect, Listing, Stat, Tree, TreeError, state_path};

/// How often a holder gives a sign of life.
const SIGN: Duration = Duration::from_secs(60);
/// A holder that is silent for so long is stale (seconds).
const SILENT: i64 = 15 * 60;
/// A holder's note has at most so many bytes.
const MOST_NOTE: u64 = 4_000;

/// Who holds a server.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Holder {
    /// The person and machine, for people.
    pub who: String,
    /// The machine's name.
    pub machine: String,
    /// The process.
    pub pid: u32,
    /// When the process began, as the system counts; tells it from a later one of the same number.
    pub began: u64,
    /// Since when, RFC 3339 in UTC.
    pub since: String,
}

impl Holder {
    /// Returns this process as a holder.
    pub fn of(who: &str, machine: &str, since: &str) -> Self {
        let pid = std::process::id();
        let (who, machine) = (who.to_owned(), machine.to_owned());
        Self { who, machine, pid, began: began(pid).unwrap_or(0), since: since.to_owned() }
    }

    /// Whether the process is gone for sure: it ran on this machine, and runs no more.
    fn is_gone(&self, here: &Holder) -> bool {
        self.machine == here.machine && cfg!(target_os = "linux") && began(self.pid) != Some(self.began)
    }
}

/// When a process of this machine began, in the system's ticks; `None` when there is none such or nobody tells.
fn began(pid: u32) -> Option<u64> {
    let line = std::fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // the name stands in brackets and may hold anything; the 20th field after it is the start
    line.rsplit_once(')')?.1.split_whitespace().nth(19)?.parse().ok()
}

/// A server is held as long as this lives.
pub struct Hold {
    tree: Arc<dyn Tree>,
    own: String,
    over: Option<Sender<()>>,
    signs: Option<JoinHandle<()>>,
}

/// Holds a server.
///
/// # Errors
/// [`TreeError::Held`] when another run has it; or the host fails.
pub fn hold(tree: &Arc<dyn Tree>, holder: &Holder) -> Result<Hold, TreeError> {
    tree.ready()?;
    let own = format!("locks/{}-{}", holder.pid, token());
    let note = serde_json::to_vec(holder).unwrap_or_default();
    let write = |folder: &str| -> Result<Effect, TreeError> {
        Ok(Effect::Write(path(&format!("{folder}/holder.json"))?, Content::Bytes(note.clone())))
    };
    tree.apply(&[Effect::Folder(path("locks")?), Effect::Folder(path(&own)?), write(&own)?])?;
    let (lock, mine) = (path("locks/held")?, path(&own)?);
    for _ in 0..3 {
        let taken = tree.apply(&[Effect::Rename(mine.clone(), lock.clone())]);
        if taken.is_ok() {
            clear(tree.as_ref())?;
            let sign = write("locks/held")?;
            let (over, ended) = mpsc::channel();
            let host = tree.clone();
            let signs = std::thread::spawn(move || {
                while ended.recv_timeout(SIGN) == Err(RecvTimeoutError::Timeout) {
                    // a sign that does not get through is no harm: the next one may
                    let _ = host.apply(std::slice::from_ref(&sign));
                }
            });
            return Ok(Hold { tree: tree.clone(), own, over: Some(over), signs: Some(signs) });
        }
        let mut seen = tree.list(&[lock.clone(), mine.clone()])?.into_iter();
        let (theirs, ours) = (seen.next().unwrap_or_default(), seen.next().unwrap_or_default());
        let Some(their_time) = time_of(&theirs) else {
            // it was let go this moment; or renaming fails for another reason
            if !theirs.is_empty() || ours.is_empty() {
                break;
            }
            continue;
        };
        let bytes = tree.read(&[path("locks/held/holder.json")?], MOST_NOTE).ok().and_then(|mut r| r.pop().flatten());
        let other: Option<Holder> = bytes.and_then(|b| serde_json::from_slice(&b).ok());
        let silent = time_of(&ours).unwrap_or(their_time).saturating_sub(their_time) / 1_000_000_000;
        if silent > SILENT || other.as_ref().is_some_and(|o| o.is_gone(holder)) {
            // of two that find it stale, one gets to rename it
            let _ = tree.apply(&[Effect::Rename(lock.clone(), path(&format!("{own}-stale"))?)]);
            continue;
        }
        let _ = discard(tree.as_ref(), &own);
        return Err(TreeError::Held { holder: words(other.as_ref(), silent) });
    }
    let why = tree.apply(&[Effect::Rename(mine, lock)]).err();
    let _ = discard(tree.as_ref(), &own);
    Err(why.unwrap_or(TreeError::Held { holder: words(None, 0) }))
}

fn words(holder: Option<&Holder>, silent: i64) -> String {
    let left = (SILENT - silent).max(0) / 60 + 1;
    let end = format!("if that run died, its hold ends in {left} min");
    match holder {
        Some(h) => {
            let since = clean(&h.since.replace('T', " ").replace('Z', " UTC"), 30);
            format!("{}, process {}, since {since}; {end}", clean(&h.who, 60), h.pid)
        }
        None => format!("somebody who left no name; {end}"),
    }
}

fn path(below: &str) -> Result<ServerPath, TreeError> {
    state_path(below).map_err(|e| TreeError::Root(e.to_string()))
}

/// A number that no other run has.
fn token() -> String {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    format!("{:x}", now.as_nanos())
}

/// When a holder gave its last sign, in nanoseconds of the host's clock.
fn time_of(lock: &Listing) -> Option<i64> {
    lock.iter().find_map(|(name, stat)| match stat {
        Stat::File { changed, .. } if name == "holder.json" => Some(*changed),
        _ => None,
    })
}

fn discard(tree: &dyn Tree, folder: &str) -> Result<(), TreeError> {
    tree.apply(&[Effect::Discard(path(&format!("{folder}/holder.json"))?), Effect::RemoveFolder(path(folder)?)])
}

/// Takes away what runs that died left of their locks.
fn clear(tree: &dyn Tree) -> Result<(), TreeError> {
    let all = tree.list(&[path("locks")?])?.pop().unwrap_or_default();
    let left = all.into_iter().filter(|(name, stat)| name != "held" && *stat == Stat::Folder);
    left.map(|(name, _)| format!("locks/{name}")).try_for_each(|folder| discard(tree, &folder))
}

impl Drop for Hold {
    fn drop(&mut self) {
        drop(self.over.take());
        if let Some(signs) = self.signs.take() {
            let _ = signs.join();
        }
        // first the name goes, at once; then what was in it
        let renamed = path("locks/held").and_then(|lock| self.tree.apply(&[Effect::Rename(lock, path(&self.own)?)]));
        if renamed.is_ok() {
            let _ = discard(self.tree.as_ref(), &self.own);
        }
    }
}
