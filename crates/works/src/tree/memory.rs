//! A made-up tree in memory, for tests: counts round trips and fails at the effect it is told.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Mutex, MutexGuard, PoisonError};

use yalotheca_core::id::{Digest, ServerPath};

use super::{Content, Effect, Listing, ReadSeek, STATE_ROOT, Stat, Tree, TreeError, shown};
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
    seen: Option<Vec<u8>>,
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
        self.lock().files.iter().filter(|(p, _)| p.root() != STATE_ROOT).map(|(p, b)| (p.clone(), b.clone())).collect()
    }

    /// Returns the folders outside the state folder.
    pub fn folders(&self) -> BTreeSet<ServerPath> {
        self.lock().folders.iter().filter(|p| p.root() != STATE_ROOT).cloned().collect()
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
        // a run that died holds nothing any more
        let held = |p: &ServerPath| p.root() == STATE_ROOT && p.path().starts_with("locks/");
        inner.files.retain(|p, _| !held(p));
        inner.folders.retain(|p| !held(p));
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
        let missing =
            |path: &ServerPath| TreeError::io(shown(path), "has no folder")(std::io::ErrorKind::NotFound.into());
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
                    Content::File(from, ..) => {
                        bytes = std::fs::read(from).map_err(TreeError::io(shown(path), "cannot be read"))?;
                    }
                    Content::Member(from, member, _) => {
                        let mut opened = archive::open(from)?;
                        archive::with_member(&mut opened, member, |read| read.read_to_end(&mut bytes).map(|_| ()))?
                            .map_err(TreeError::io(shown(path), "cannot be read"))?;
                    }
                    Content::Tree(from, ..) => bytes = self.files.get(from).cloned().ok_or_else(|| missing(from))?,
                }
                if let Content::File(_, wanted, _) | Content::Member(.., wanted) | Content::Tree(_, wanted, _) = content
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
                if self.files.contains_key(to) || self.folders.contains(to) {
                    return Err(TreeError::Taken { path: shown(to) });
                }
                if self.folders.remove(from) {
                    self.folders.insert(to.clone());
                    let below = format!("{}/", from.path());
                    let inside = |p: &ServerPath| p.root() == from.root() && p.path().starts_with(&below);
                    let moved: Vec<ServerPath> = self.files.keys().filter(|p| inside(p)).cloned().collect();
                    for path in moved {
                        let name = path.path().replacen(from.path(), to.path(), 1);
                        if let (Some(bytes), Ok(name)) = (self.files.remove(&path), ServerPath::new(to.root(), &name)) {
                            self.files.insert(name, bytes);
                        }
                    }
                    return Ok(());
                }
                let bytes = self.files.remove(from).ok_or_else(|| missing(from))?;
                self.files.insert(to.clone(), bytes);
            }
            // as a host that cannot rename over a file: two steps, and a run can end between them
            Effect::Swap { new, at, old } => {
                self.effects -= 1;
                self.one(&Effect::Rename(at.clone(), old.clone()))?;
                self.one(&Effect::Rename(new.clone(), at.clone()))?;
            }
            Effect::RemoveFolder(path) => {
                let below = format!("{}/", path.path());
                let inside = |p: &ServerPath| p.root() == path.root() && p.path().starts_with(&below);
                let used = self.files.keys().chain(&self.folders).any(inside);
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

    fn ready(&self) -> Result<(), TreeError> {
        Ok(())
    }

    fn list(&self, folders: &[ServerPath]) -> Result<Vec<Listing>, TreeError> {
        let inner = self.trip();
        let one = |folder: &ServerPath| {
            let below = format!("{}/", folder.path());
            let name = |p: &ServerPath| {
                let rest = p.path().strip_prefix(&below).filter(|n| p.root() == folder.root() && !n.contains('/'))?;
                Some(rest.to_owned())
            };
            let files = inner
                .files
                .iter()
                .filter_map(|(p, b)| Some((name(p)?, Stat::File { bytes: b.len() as u64, changed: 0 })));
            files.chain(inner.folders.iter().filter_map(|p| Some((name(p)?, Stat::Folder)))).collect()
        };
        Ok(folders.iter().map(one).collect())
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
        effects.iter().try_for_each(|effect| inner.one(effect))
    }

    fn barrier(&self, _written: &[ServerPath]) -> Result<(), TreeError> {
        drop(self.trip());
        Ok(())
    }

    fn remembered(&self) -> Option<Vec<u8>> {
        self.lock().seen.clone()
    }

    fn remember(&self, bytes: &[u8]) {
        self.lock().seen = Some(bytes.to_vec());
    }
}
