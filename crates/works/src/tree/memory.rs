//! A made-up tree in memory, for tests: counts round trips and fails at the effect it is told.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Mutex, MutexGuard, PoisonError};

use yalotheca_core::id::{Digest, ServerPath};

use super::{Content, Effect, Hold, ReadSeek, STATE, Stat, Tree, TreeError};
use crate::archive;

/// A tree in memory.
#[derive(Debug, Default)]
pub struct MemoryTree {
    inner: Mutex<Inner>,
}

#[derive(Debug, Default)]
struct Inner {
    files: BTreeMap<ServerPath, Vec<u8>>,
    folders: BTreeSet<ServerPath>,
    trips: usize,
    effects: usize,
    fail_at: Option<usize>,
    /// Every effect from this one on fails, as if the run was ended there.
    die_at: Option<usize>,
}

impl MemoryTree {
    /// Returns an empty tree.
    pub fn new() -> Self {
        Self::default()
    }

    /// Puts a file there, with the folders above it, as a person would.
    pub fn put(&self, path: &ServerPath, bytes: &[u8]) {
        let mut inner = self.lock();
        let parts: Vec<&str> = path.path().split('/').collect();
        for end in 1..parts.len() {
            if let Ok(folder) = ServerPath::new(path.root(), &parts.get(..end).unwrap_or_default().join("/")) {
                inner.folders.insert(folder);
            }
        }
        inner.files.insert(path.clone(), bytes.to_vec());
    }

    /// Returns every file outside the state folder.
    pub fn files(&self) -> BTreeMap<ServerPath, Vec<u8>> {
        let state = format!("{STATE}/");
        self.lock()
            .files
            .iter()
            .filter(|(p, _)| !p.path().starts_with(&state))
            .map(|(p, b)| (p.clone(), b.clone()))
            .collect()
    }

    /// Returns the folders outside the state folder.
    pub fn folders(&self) -> BTreeSet<ServerPath> {
        self.lock().folders.iter().filter(|p| !p.path().starts_with(STATE)).cloned().collect()
    }

    /// Returns how many bulk calls were made so far.
    pub fn trips(&self) -> usize {
        self.lock().trips
    }

    /// Returns how many effects were done so far.
    pub fn effects(&self) -> usize {
        self.lock().effects
    }

    /// Makes the effect with this number (from now on, the first is 0) fail, once.
    pub fn fail_at(&self, effect: Option<usize>) {
        let mut inner = self.lock();
        inner.effects = 0;
        inner.fail_at = effect;
    }

    /// Ends the run at the effect with this number: it and all after it fail, until this is called again.
    pub fn die_at(&self, effect: Option<usize>) {
        let mut inner = self.lock();
        inner.effects = 0;
        inner.die_at = effect;
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn trip(&self) -> MutexGuard<'_, Inner> {
        let mut inner = self.lock();
        inner.trips += 1;
        inner
    }
}

impl Inner {
    fn one(&mut self, effect: &Effect) -> Result<(), TreeError> {
        if self.die_at.is_some_and(|at| self.effects >= at) {
            return Err(TreeError::io("memory", "is gone")(std::io::ErrorKind::ConnectionAborted.into()));
        }
        if self.fail_at == Some(self.effects) {
            self.fail_at = None;
            return Err(TreeError::io("memory", "fails as it was told")(std::io::ErrorKind::StorageFull.into()));
        }
        self.effects += 1;
        let missing = |path: &ServerPath| TreeError::io(path, "has no folder")(std::io::ErrorKind::NotFound.into());
        let above = |path: &ServerPath| path.path().rsplit_once('/').map(|(f, _)| ServerPath::new(path.root(), f));
        match effect {
            Effect::Folder(path) => {
                self.folders.insert(path.clone());
            }
            Effect::Write(path, content) => {
                if let Some(Ok(folder)) = above(path)
                    && !self.folders.contains(&folder)
                {
                    return Err(missing(path));
                }
                let mut bytes = Vec::new();
                match content {
                    Content::Bytes(given) => bytes.clone_from(given),
                    Content::File(from, _) => {
                        bytes = std::fs::read(from).map_err(TreeError::io(path, "cannot be read"))?;
                    }
                    Content::Member(from, member, _) => {
                        let mut opened = archive::open(from)?;
                        archive::with_member(&mut opened, member, |read| read.read_to_end(&mut bytes).map(|_| ()))?
                            .map_err(TreeError::io(path, "cannot be read"))?;
                    }
                    Content::Tree(from, _) => bytes = self.files.get(from).cloned().ok_or_else(|| missing(from))?,
                }
                if let Content::File(.., wanted) | Content::Member(.., wanted) | Content::Tree(_, wanted) = content
                    && Digest::of(&bytes) != *wanted
                {
                    return Err(TreeError::Damaged { path: path.to_string() });
                }
                self.files.insert(path.clone(), bytes);
            }
            Effect::Rename(from, to) => {
                if let Some(Ok(folder)) = above(to)
                    && !self.folders.contains(&folder)
                {
                    return Err(missing(to));
                }
                let bytes = self.files.remove(from).ok_or_else(|| missing(from))?;
                self.files.insert(to.clone(), bytes);
            }
            Effect::RemoveFolder(path) => {
                let below = format!("{}/", path.path());
                let used = self.files.keys().chain(&self.folders).any(|p| p.path().starts_with(&below));
                if !used {
                    self.folders.remove(path);
                }
            }
            Effect::Discard(path) => {
                self.files.remove(path);
            }
        }
        Ok(())
    }
}

impl Tree for MemoryTree {
    fn place(&self) -> String {
        "memory".to_owned()
    }

    fn walk(&self) -> Result<Vec<(ServerPath, Stat)>, TreeError> {
        drop(self.trip());
        Ok(self.files().into_iter().map(|(p, b)| (p, Stat::File { bytes: b.len() as u64, changed: 0 })).collect())
    }

    fn names(&self, folder: &ServerPath) -> Result<Vec<String>, TreeError> {
        let below = format!("{}/", folder.path());
        let inner = self.trip();
        let rest = inner.files.keys().filter_map(|p| p.path().strip_prefix(&below));
        Ok(rest.filter(|n| !n.contains('/')).map(str::to_owned).collect())
    }

    fn stat(&self, paths: &[ServerPath]) -> Result<Vec<Stat>, TreeError> {
        let inner = self.trip();
        let one = |p: &ServerPath| match inner.files.get(p) {
            Some(bytes) => Stat::File { bytes: bytes.len() as u64, changed: 0 },
            None if inner.folders.contains(p) => Stat::Folder,
            None => Stat::Absent,
        };
        Ok(paths.iter().map(one).collect())
    }

    fn read(&self, paths: &[ServerPath], _most: u64) -> Result<Vec<Option<Vec<u8>>>, TreeError> {
        let inner = self.trip();
        Ok(paths.iter().map(|p| inner.files.get(p).cloned()).collect())
    }

    fn open(&self, path: &ServerPath) -> Result<Option<Box<dyn ReadSeek>>, TreeError> {
        let found = self.trip().files.get(path).cloned();
        Ok(found.map(|b| Box::new(std::io::Cursor::new(b)) as Box<dyn ReadSeek>))
    }

    fn digest(&self, paths: &[ServerPath]) -> Result<Vec<Option<Digest>>, TreeError> {
        let inner = self.trip();
        Ok(paths.iter().map(|p| inner.files.get(p).map(|b| Digest::of(b))).collect())
    }

    fn apply(&self, effects: &[Effect]) -> Result<(), TreeError> {
        let mut inner = self.trip();
        for (done, effect) in effects.iter().enumerate() {
            inner.one(effect).map_err(|source| TreeError::Effect { done, source: Box::new(source) })?;
        }
        Ok(())
    }

    fn barrier(&self, _written: &[ServerPath]) -> Result<(), TreeError> {
        drop(self.trip());
        Ok(())
    }

    fn hold(&self, _note: &str) -> Result<Box<dyn Hold>, TreeError> {
        struct Nothing;
        impl Hold for Nothing {}
        drop(self.trip());
        Ok(Box::new(Nothing))
    }
}
