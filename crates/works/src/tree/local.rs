//! A server in a local folder.

use std::collections::{BTreeMap, HashMap};
use std::fs::{self, File};
use std::io::{ErrorKind, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use rayon::prelude::*;
use sha2::Digest as _;
use yalotheca_core::id::{Digest, SERVER, ServerPath};

use super::{
    Content, Effect, Listing, ReadSeek, STATE, STATE_ROOT, Standing, Stat, StateFolder, Tree, TreeError, die, runs,
    shown,
};
use crate::archive;

/// A server in a local folder (and others, for further roots).
#[derive(Debug)]
pub struct LocalTree {
    roots: BTreeMap<String, PathBuf>,
    /// Where the state folder is, once the family had its say.
    state: OnceLock<PathBuf>,
    /// Whether the disk shares blocks between files.
    shares: OnceLock<bool>,
}

impl LocalTree {
    /// Returns the tree of the server in `folder`.
    pub fn new(folder: PathBuf) -> Self {
        Self { roots: BTreeMap::from([(SERVER.to_owned(), folder)]), state: OnceLock::new(), shares: OnceLock::new() }
    }

    /// Returns the same with a further root.
    pub fn with_root(mut self, name: &str, folder: PathBuf) -> Self {
        self.roots.insert(name.to_owned(), folder);
        self
    }

    fn root(&self, path: &ServerPath) -> Result<PathBuf, TreeError> {
        if path.root() == STATE_ROOT {
            return Ok(self.state());
        }
        self.roots.get(path.root()).cloned().ok_or_else(|| TreeError::Root(path.root().to_owned()))
    }

    /// The state folder: the one that the family or what is there already makes it.
    fn state(&self) -> PathBuf {
        let server = self.roots.get(SERVER).cloned().unwrap_or_default();
        self.state.get().cloned().unwrap_or_else(|| server.join(STATE))
    }

    /// The path on disk, refused when a folder on the way is a link.
    fn real(&self, path: &ServerPath) -> Result<PathBuf, TreeError> {
        let mut at = self.root(path)?;
        let mut parts = path.path().split('/').peekable();
        while let Some(part) = parts.next() {
            at.push(part);
            if parts.peek().is_some() && at.symlink_metadata().is_ok_and(|m| m.is_symlink()) {
                return Err(TreeError::Link { path: shown(path) });
            }
        }
        Ok(at)
    }

    fn stat_one(&self, path: &ServerPath) -> Result<Stat, TreeError> {
        stat_at(path, &self.real(path)?)
    }

    fn digest_one(&self, path: &ServerPath) -> Result<Option<Digest>, TreeError> {
        match self.stat_one(path)? {
            Stat::File { .. } => {
                let fail = || TreeError::io(shown(path), "cannot be read");
                let file = File::open(self.real(path)?).map_err(fail())?;
                Ok(Some(digest_of(file).map_err(fail())?))
            }
            _ => Ok(None),
        }
    }

    fn read_one(&self, path: &ServerPath, most: u64) -> Result<Option<Vec<u8>>, TreeError> {
        match self.stat_one(path)? {
            Stat::Absent => Ok(None),
            Stat::File { bytes, .. } if bytes > most => {
                Err(TreeError::TooLarge { path: path.to_string(), bytes, most })
            }
            Stat::File { .. } => {
                fs::read(self.real(path)?).map(Some).map_err(TreeError::io(shown(path), "cannot be read"))
            }
            _ => Err(TreeError::io(shown(path), "is no file")(ErrorKind::InvalidInput.into())),
        }
    }

    fn write(&self, path: &ServerPath, from: &mut dyn Read, wanted: Option<&Digest>) -> Result<(), TreeError> {
        let real = self.real(path)?;
        let fail = || TreeError::io(shown(path), "cannot be written");
        die::point();
        let mut file = File::create(&real).map_err(fail())?;
        die::point();
        let mut hash = sha2::Sha256::new();
        let mut buffer = vec![0u8; 128 * 1024];
        loop {
            let count = from.read(&mut buffer).map_err(TreeError::io(shown(path), "cannot be filled"))?;
            let Some(chunk) = buffer.get(..count).filter(|c| !c.is_empty()) else { break };
            hash.update(chunk);
            file.write_all(chunk).map_err(fail())?;
        }
        die::point();
        if wanted.is_some_and(|w| *w != Digest::from_raw(&hash.finalize())) {
            return Err(TreeError::Damaged { path: path.to_string() });
        }
        Ok(())
    }

    fn one(&self, effect: &Effect) -> Result<(), TreeError> {
        match effect {
            Effect::Folder(path) => {
                die::point();
                match fs::create_dir(self.real(path)?) {
                    Err(e) if e.kind() == ErrorKind::AlreadyExists && self.real(path)?.is_dir() => Ok(()),
                    other => other.map_err(TreeError::io(shown(path), "cannot be made")),
                }
            }
            Effect::Write(path, content) => match content {
                Content::Bytes(bytes) => self.write(path, &mut bytes.as_slice(), None),
                Content::File(from, wanted, link) => self.copy(path, from, wanted, *link),
                Content::Tree(from, wanted, link) => self.copy(path, &self.real(from)?, wanted, *link),
                Content::Member(from, member, wanted) => {
                    let mut archive = archive::open(from)?;
                    archive::with_member(&mut archive, member, |read| self.write(path, read, Some(wanted)))?
                }
            },
            Effect::Rename(from, to) => self.rename(from, to),
            Effect::Swap { new, at, old } => self.swap(new, at, old),
            Effect::RemoveFolder(path) => {
                die::point();
                match fs::remove_dir(self.real(path)?) {
                    Err(e) if gone(&e) || e.kind() == ErrorKind::DirectoryNotEmpty => Ok(()),
                    other => other.map_err(TreeError::io(shown(path), "cannot be taken away")),
                }
            }
            Effect::Discard(path) => {
                die::point();
                match fs::remove_file(self.real(path)?) {
                    Err(e) if gone(&e) => Ok(()),
                    other => other.map_err(TreeError::io(shown(path), "cannot be taken away")),
                }
            }
        }
    }

    fn rename(&self, from: &ServerPath, to: &ServerPath) -> Result<(), TreeError> {
        let (here, there) = (self.real(from)?, self.real(to)?);
        // most systems rename over a file without a word
        if there.symlink_metadata().is_ok_and(|m| !m.is_dir()) {
            return Err(TreeError::Taken { path: shown(to) });
        }
        die::point();
        fs::rename(here, there).map_err(unmoved(to))
    }

    /// The old file gets a second name first, so that a whole file stands at the place at every moment.
    fn swap(&self, new: &ServerPath, at: &ServerPath, old: &ServerPath) -> Result<(), TreeError> {
        let (staged, place, aside) = (self.real(new)?, self.real(at)?, self.real(old)?);
        // what takes a file's place may be read and written by the same people
        if let Ok(meta) = place.symlink_metadata() {
            let _ = fs::set_permissions(&staged, meta.permissions());
        }
        die::point();
        match fs::hard_link(&place, &aside) {
            Ok(()) => {}
            // a second try, or a run that goes on where another died
            Err(e) if e.kind() == ErrorKind::AlreadyExists => {}
            // a disk without hard links: for a moment nothing stands there
            Err(_) => fs::rename(&place, &aside).map_err(unmoved(at))?,
        }
        die::point();
        fs::rename(&staged, &place).map_err(unmoved(at))
    }

    /// Copies a file of this machine: by sharing its blocks where the disk can, by a second name where that is
    /// allowed, so that no byte moves.
    fn copy(&self, path: &ServerPath, from: &Path, wanted: &Digest, link: bool) -> Result<(), TreeError> {
        let real = self.real(path)?;
        let fail = || TreeError::io(from.display(), "cannot be read");
        let mut file = File::open(from).map_err(fail())?;
        die::point();
        // a second name that a dead run left here must not be written through
        let _ = fs::remove_file(&real);
        if self.shares(from, &real) || link {
            if digest_of(&file).map_err(fail())? != *wanted {
                return Err(TreeError::Damaged { path: shown(path) });
            }
            die::point();
            if clone_file(from, &real) {
                return Ok(());
            }
            let _ = fs::remove_file(&real);
            if link && fs::hard_link(from, &real).is_ok() {
                return Ok(());
            }
            use std::io::Seek as _;
            file.rewind().map_err(fail())?;
        }
        self.write(path, &mut file, Some(wanted))
    }

    /// Whether the disk shares blocks between files; tried once.
    fn shares(&self, from: &Path, to: &Path) -> bool {
        *self.shares.get_or_init(|| {
            let shares = clone_file(from, to);
            let _ = fs::remove_file(to);
            shares
        })
    }

    /// Unpacks members of archives side by side, a piece of an archive at a time, each with a reader of its own.
    fn unpack(&self, from: &HashMap<&Path, Vec<Unpacked<'_>>>) -> Result<(), TreeError> {
        let pieces: Vec<(&Path, &[Unpacked<'_>])> =
            from.iter().flat_map(|(archive, members)| members.chunks(1_000).map(|piece| (*archive, piece))).collect();
        pieces.par_iter().with_max_len(1).try_for_each(|(from, piece)| {
            let mut archive = archive::open(from)?;
            piece.iter().try_for_each(|(path, member, wanted)| {
                archive::with_member(&mut archive, member, |read| self.write(path, read, Some(wanted)))?
            })
        })
    }

    fn walk_into(&self, folder: &Path, below: &str, out: &mut Vec<(ServerPath, Stat)>) -> Result<(), TreeError> {
        let fail = || TreeError::io(if below.is_empty() { "." } else { below }, "cannot be listed");
        for entry in fs::read_dir(folder).map_err(fail())? {
            let entry = entry.map_err(fail())?;
            // a name that is no UTF-8 or that other systems could not store is none of ours: passed over
            let Some(name) = entry.file_name().to_str().map(str::to_owned) else { continue };
            let path = if below.is_empty() { name.clone() } else { format!("{below}/{name}") };
            if entry.path() == self.state() {
                continue;
            }
            let kind = entry.file_type().map_err(fail())?;
            if kind.is_dir() {
                self.walk_into(&entry.path(), &path, out)?;
            } else if let (Ok(path), Ok(meta)) = (ServerPath::server(&path), entry.metadata()) {
                out.push((path, stat_of(&meta)));
            }
        }
        Ok(())
    }
}

/// A member to be unpacked: where to, its path in the archive, and the digest it must have.
type Unpacked<'a> = (&'a ServerPath, &'a str, &'a Digest);

fn stat_at(path: &ServerPath, real: &Path) -> Result<Stat, TreeError> {
    match real.symlink_metadata() {
        Ok(meta) => Ok(stat_of(&meta)),
        Err(e) if gone(&e) => Ok(Stat::Absent),
        Err(e) => Err(TreeError::io(shown(path), "cannot be looked at")(e)),
    }
}

/// Why a file could not be moved to its place.
fn unmoved(to: &ServerPath) -> impl FnOnce(std::io::Error) -> TreeError {
    let path = shown(to);
    move |e| match e.kind() {
        ErrorKind::CrossesDevices => TreeError::OtherDisk { path },
        _ => TreeError::io(path, "cannot be put in place")(e),
    }
}

fn gone(e: &std::io::Error) -> bool {
    matches!(e.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory)
}

fn stat_of(meta: &fs::Metadata) -> Stat {
    if meta.is_symlink() {
        return Stat::Other;
    }
    if meta.is_dir() {
        return Stat::Folder;
    }
    if !meta.is_file() {
        return Stat::Other;
    }
    let changed = meta.modified().ok().and_then(|t| t.duration_since(std::time::UNIX_EPOCH).ok());
    Stat::File { bytes: meta.len(), changed: changed.and_then(|d| i64::try_from(d.as_nanos()).ok()).unwrap_or(0) }
}

/// From so many files on, the whole disk is synced at once instead of file by file.
const MANY: usize = 64;

/// Syncs the disk a folder is on, where the system can; returns whether it did.
#[cfg(target_os = "linux")]
fn sync_disk(folder: Option<&Path>) -> bool {
    let opened = folder.and_then(|f| File::open(f).ok());
    opened.is_some_and(|f| rustix::fs::syncfs(f).is_ok())
}

#[cfg(not(target_os = "linux"))]
fn sync_disk(_: Option<&Path>) -> bool {
    false
}

/// Makes a file of the same blocks as another, where the disk can; returns whether it did.
#[cfg(target_os = "linux")]
fn clone_file(from: &Path, to: &Path) -> bool {
    let Ok(source) = File::open(from) else { return false };
    let Ok(target) = File::create(to) else { return false };
    rustix::fs::ioctl_ficlone(target, source).is_ok()
}

#[cfg(not(target_os = "linux"))]
fn clone_file(_: &Path, _: &Path) -> bool {
    false
}

/// Returns how many bytes a user may still write on a folder's disk, where the system tells.
#[cfg(target_os = "linux")]
fn space_at(folder: &Path) -> Option<u64> {
    let told = rustix::fs::statvfs(folder).ok()?;
    Some(told.f_bavail.saturating_mul(told.f_frsize))
}

#[cfg(not(target_os = "linux"))]
fn space_at(_: &Path) -> Option<u64> {
    None
}

/// Returns the digest of everything a reader gives.
pub(crate) fn digest_of(mut from: impl Read) -> std::io::Result<Digest> {
    let mut hash = sha2::Sha256::new();
    let mut buffer = vec![0u8; 128 * 1024];
    loop {
        let count = from.read(&mut buffer)?;
        match buffer.get(..count) {
            Some(chunk) if !chunk.is_empty() => hash.update(chunk),
            _ => return Ok(Digest::from_raw(&hash.finalize())),
        }
    }
}

impl Tree for LocalTree {
    fn place(&self) -> String {
        // `./.` is `.` to people
        let plain = |p: &PathBuf| p.components().collect::<PathBuf>().display().to_string();
        self.roots.get(SERVER).map(plain).unwrap_or_default()
    }

    fn folder(&self) -> Option<&Path> {
        self.roots.get(SERVER).map(PathBuf::as_path)
    }

    fn allow_state(&self, folder: &StateFolder) {
        let Some(server) = self.roots.get(SERVER) else { return };
        let plain = folder.plain.as_ref().map(|name| server.join(name)).filter(|p| folder.always || p.is_dir());
        // what stands there from before the family changed its mind stays in use
        let _ = self.state.set(plain.filter(|_| !server.join(STATE).is_dir()).unwrap_or_else(|| server.join(STATE)));
    }

    fn ready(&self) -> Result<(), TreeError> {
        let state = self.state();
        if state.is_dir() {
            return Ok(());
        }
        die::point();
        match fs::create_dir(&state) {
            Err(e) if e.kind() == ErrorKind::AlreadyExists && state.is_dir() => Ok(()),
            other => other.map_err(TreeError::io(STATE, "cannot be made")),
        }
    }

    fn walk(&self) -> Result<Vec<(ServerPath, Stat)>, TreeError> {
        let mut out = Vec::new();
        if let Some(folder) = self.roots.get(SERVER) {
            self.walk_into(folder, "", &mut out)?;
        }
        out.sort_by(|a, b| a.0.cmp(&b.0));
        Ok(out)
    }

    fn list(&self, folders: &[ServerPath]) -> Result<Vec<Listing>, TreeError> {
        let one = |folder: &ServerPath| match fs::read_dir(self.real(folder)?) {
            Ok(entries) => {
                let entry = |e: fs::DirEntry| Some((e.file_name().into_string().ok()?, stat_of(&e.metadata().ok()?)));
                Ok(entries.flatten().filter_map(entry).collect())
            }
            Err(e) if gone(&e) => Ok(Vec::new()),
            Err(e) => Err(TreeError::io(shown(folder), "cannot be listed")(e)),
        };
        folders.iter().map(one).collect()
    }

    fn stat(&self, paths: &[ServerPath]) -> Result<Vec<Stat>, TreeError> {
        // the folders on the way are looked at once, however many files stand in them
        let mut folders: HashMap<(&str, &str), Result<PathBuf, ()>> = HashMap::new();
        for path in paths {
            let (folder, _) = path.path().rsplit_once('/').unwrap_or(("", path.path()));
            folders.entry((path.root(), folder)).or_insert_with(|| {
                let mut real = self.real(path).map_err(|_| ())?;
                real.pop();
                Ok(real)
            });
        }
        let one = |path: &ServerPath| {
            let (folder, name) = path.path().rsplit_once('/').unwrap_or(("", path.path()));
            match folders.get(&(path.root(), folder)) {
                Some(Ok(folder)) => stat_at(path, &folder.join(name)),
                // what is wrong with the folder is told for this very file
                _ => self.stat_one(path),
            }
        };
        paths.par_iter().with_min_len(64).map(one).collect()
    }

    fn read(&self, paths: &[ServerPath], most: u64) -> Result<Vec<Option<Vec<u8>>>, TreeError> {
        paths.par_iter().with_min_len(16).map(|p| self.read_one(p, most)).collect()
    }

    fn open(&self, path: &ServerPath) -> Result<Option<Box<dyn ReadSeek>>, TreeError> {
        match self.stat_one(path)? {
            Stat::Absent => Ok(None),
            Stat::File { .. } => {
                let file = File::open(self.real(path)?).map_err(TreeError::io(shown(path), "cannot be read"))?;
                Ok(Some(Box::new(std::io::BufReader::new(file))))
            }
            _ => Err(TreeError::io(shown(path), "is no file")(ErrorKind::InvalidInput.into())),
        }
    }

    fn standing(&self, paths: &[ServerPath]) -> Result<Vec<Standing>, TreeError> {
        let one = |path: &ServerPath| {
            let real = self.real(path)?;
            match real.symlink_metadata() {
                Ok(seen) if seen.permissions().readonly() => Ok(Standing::ReadOnly),
                Ok(seen) if seen.is_file() && is_held(&real) => Ok(Standing::InUse),
                Ok(_) => Ok(Standing::Free),
                Err(e) if gone(&e) => Ok(Standing::Free),
                Err(e) => Err(TreeError::io(shown(path), "cannot be looked at")(e)),
            }
        };
        paths.iter().map(one).collect()
    }

    fn digest(&self, paths: &[ServerPath]) -> Result<Vec<Option<Digest>>, TreeError> {
        paths.par_iter().map(|p| self.digest_one(p)).collect()
    }

    fn apply(&self, effects: &[Effect]) -> Result<(), TreeError> {
        for run in runs(effects) {
            if !matches!(run, [Effect::Write(..), _, ..]) {
                run.iter().try_for_each(|e| self.one(e))?;
                continue;
            }
            // writes are done side by side, the members of an archive by few readers
            let mut members: HashMap<&Path, Vec<Unpacked<'_>>> = HashMap::new();
            let mut others: Vec<&Effect> = Vec::new();
            for write in run {
                match write {
                    Effect::Write(path, Content::Member(from, member, wanted)) => {
                        members.entry(from).or_default().push((path, member, wanted));
                    }
                    other => others.push(other),
                }
            }
            self.unpack(&members)?;
            others.par_iter().try_for_each(|e| self.one(e))?;
        }
        Ok(())
    }

    fn barrier(&self, written: &[ServerPath]) -> Result<(), TreeError> {
        die::point();
        if written.len() > MANY && sync_disk(self.folder()) {
            return Ok(());
        }
        written.par_iter().try_for_each(|path| {
            let real = self.real(path)?;
            let sync = |at: &Path| File::open(at).and_then(|f| f.sync_all());
            die::point();
            sync(&real).map_err(TreeError::io(shown(path), "cannot be brought safely to disk"))?;
            // the name stands in the folder; not every system lets a folder be synced
            let _ = real.parent().map(sync);
            Ok(())
        })
    }

    fn space(&self) -> Result<Option<u64>, TreeError> {
        let state = self.state();
        Ok(space_at(if state.is_dir() { &state } else { self.folder().unwrap_or(&state) }))
    }

    fn remembered(&self) -> Option<Vec<u8>> {
        fs::read(self.state().join(SEEN)).ok()
    }

    fn remember(&self, bytes: &[u8]) {
        // a server that cannot be written to is read again next time
        let _ = self.ready().map(|()| crate::home::write_whole(&self.state().join(SEEN), bytes));
    }
}

/// What was seen of files last time, in the state folder.
const SEEN: &str = "seen.json";

/// Whether a program holds a file: locked it, or (on some systems) opened it for itself alone.
fn is_held(file: &Path) -> bool {
    let opened = if cfg!(windows) { File::options().write(true).open(file) } else { File::open(file) };
    match opened {
        Ok(file) => matches!(file.try_lock(), Err(fs::TryLockError::WouldBlock)),
        Err(e) => e.raw_os_error() == Some(32) && cfg!(windows),
    }
}
