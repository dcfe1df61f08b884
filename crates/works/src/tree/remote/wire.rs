//! What a host must be able to do, whatever protocol it speaks.

use std::fs::File;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use super::body::{self, Body, Sink};
use super::error::HostError;
use crate::tree::Stat;

/// How often a lost connection is made anew before it is given up.
pub(super) const TRIES: u32 = 5;
/// How long to wait before trying again: a quarter of a second, twice as long each time.
pub(super) fn pause(tried: u32) -> Duration {
    Duration::from_millis(125u64 << tried.min(6))
}

/// Whether somebody pressed Ctrl-C; not heard while files move.
pub(super) struct Stop {
    pub(super) asked: Arc<AtomicBool>,
    pub(super) deaf: AtomicBool,
}

impl Stop {
    pub(super) fn now(&self) -> bool {
        self.asked.load(Ordering::Relaxed) && !self.deaf.load(Ordering::Relaxed)
    }
}

/// A name in a folder on a host.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Named {
    pub(super) name: String,
    pub(super) stat: Stat,
    pub(super) writable: bool,
}

/// A file to be read.
pub(super) struct Get {
    pub(super) path: String,
    pub(super) most: u64,
    /// Whether the bytes are wanted, and not only their digest.
    pub(super) keep: bool,
    /// Where a copy goes.
    pub(super) file: Option<PathBuf>,
}

impl Get {
    pub(super) fn sink(&self) -> Result<Sink, HostError> {
        let file = self.file.as_ref().map(File::create).transpose().map_err(|e| body::here(&e))?;
        Ok(Sink::new(&self.path, self.most, self.keep, file))
    }
}

/// A file to be written.
pub(super) struct Put {
    pub(super) path: String,
    pub(super) body: Body,
    /// Whether the host is asked to bring it safely to disk.
    pub(super) safe: bool,
}

/// A change by name.
pub(super) enum Op {
    Folder(String),
    Rename(String, String),
    Swap { new: String, at: String, old: String },
    RemoveFolder(String),
    Discard(String),
}

/// What a host can do, in bulk; each call sees to lost connections by itself. Paths are the host's.
pub(super) trait Wire: Send + Sync {
    /// Returns what each folder holds, `None` where none is there.
    fn list(&self, folders: &[String]) -> Result<Vec<Option<Vec<Named>>>, HostError>;
    /// Returns what stands at each path; links are not followed.
    fn stat(&self, paths: &[String]) -> Result<Vec<Stat>, HostError>;
    /// Whether asking for single files costs no more than asking for their folder.
    fn stats_are_cheap(&self) -> bool;
    /// Reads files, `None` where none is there.
    fn get(&self, jobs: &[Get]) -> Result<Vec<Option<Sink>>, HostError>;
    /// Writes files, as they come.
    fn put(&self, jobs: &mut (dyn Iterator<Item = Result<Put, HostError>> + Send)) -> Result<(), HostError>;
    /// Does changes that do not depend on each other.
    fn run(&self, ops: &[Op]) -> Result<(), HostError>;
    /// Returns the free bytes, where the host tells.
    fn space(&self, folder: &str) -> Result<Option<u64>, HostError>;
}
