//! A server in a local folder.

use std::collections::{BTreeMap, HashMap};
use std::fs::{self, File};
use std::io::{ErrorKind, Read, Write};
use std::path::{Path, PathBuf};

use rayon::prelude::*;
use sha2::Digest as _;
use yalotheca_core::id::{Digest, SERVER, ServerPath};

use super::{Content, Effect, Hold, ReadSeek, STATE, Stat, Tree, TreeError};
use crate::archive;

/// A server in a local folder (and others, for further roots).
#[derive(Debug, Clone)]
pub struct LocalTree {
    roots: BTreeMap<String, PathBuf>,
}

impl LocalTree {
    /// Returns the tree of the server in `folder`.
    pub fn new(folder: PathBuf) -> Self {
        Self { roots: BTreeMap::from([(SERVER.to_owned(), folder)]) }
    }

    /// Returns the same with a further root.
    pub fn with_root(mut self, name: &str, folder: PathBuf) -> Self {
        self.roots.insert(name.to_owned(), folder);
        self
    }

    fn root(&self, path: &ServerPath) -> Result<&PathBuf, TreeError> {
        self.roots.get(path.root()).ok_or_else(|| TreeError::Root(path.root().to_owned()))
    }

    /// The path on disk, refused when a folder on the way is a link.
    fn real(&self, path: &ServerPath) -> Result<PathBuf, TreeError> {
        let mut at = self.root(path)?.clone();
        let mut parts = path.path().split('/').peekable();
        while let Some(part) = parts.next() {
            at.push(part);
            if parts.peek().is_some() && at.symlink_metadata().is_ok_and(|m| m.is_symlink()) {
                return Err(TreeError::Link { path: path.to_string() });
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
                let fail = || TreeError::io(path, "cannot be read");
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
            Stat::File { .. } => fs::read(self.real(path)?).map(Some).map_err(TreeError::io(path, "cannot be read")),
            _ => Err(TreeError::io(path, "is no file")(ErrorKind::InvalidInput.into())),
        }
    }

    fn write(&self, path: &ServerPath, from: &mut dyn Read, wanted: Option<&Digest>) -> Result<(), TreeError> {
        let real = self.real(path)?;
        let fail = || TreeError::io(path, "cannot be written");
        let mut file = File::create(&real).map_err(fail())?;
        let mut hash = sha2::Sha256::new();
        let mut buffer = vec![0u8; 128 * 1024];
        loop {
            let count = from.read(&mut buffer).map_err(TreeError::io(path, "cannot be filled"))?;
            let Some(chunk) = buffer.get(..count).filter(|c| !c.is_empty()) else { break };
            hash.update(chunk);
            file.write_all(chunk).map_err(fail())?;
        }
        if wanted.is_some_and(|w| *w != Digest::from_raw(&hash.finalize())) {
            return Err(TreeError::Damaged { path: path.to_string() });
        }
        Ok(())
    }

    fn one(&self, effect: &Effect) -> Result<(), TreeError> {
        match effect {
            Effect::Folder(path) => match fs::create_dir(self.real(path)?) {
                Err(e) if e.kind() == ErrorKind::AlreadyExists && self.real(path)?.is_dir() => Ok(()),
                other => other.map_err(TreeError::io(path, "cannot be made")),
            },
            Effect::Write(path, content) => match content {
                Content::Bytes(bytes) => self.write(path, &mut bytes.as_slice(), None),
                Content::File(from, wanted) => {
                    let mut file = File::open(from).map_err(TreeError::io(from.display(), "cannot be read"))?;
                    self.write(path, &mut file, Some(wanted))
                }
                Content::Member(from, member, wanted) => {
                    let mut archive = archive::open(from)?;
                    archive::with_member(&mut archive, member, |read| self.write(path, read, Some(wanted)))?
                }
                Content::Tree(from, wanted) => {
                    let mut file = File::open(self.real(from)?).map_err(TreeError::io(from, "cannot be read"))?;
                    self.write(path, &mut file, Some(wanted))
                }
            },
            Effect::Rename(from, to) => {
                fs::rename(self.real(from)?, self.real(to)?).map_err(TreeError::io(to, "cannot be put in place"))
            }
            Effect::RemoveFolder(path) => match fs::remove_dir(self.real(path)?) {
                Err(e) if gone(&e) || e.kind() == ErrorKind::DirectoryNotEmpty => Ok(()),
                other => other.map_err(TreeError::io(path, "cannot be taken away")),
            },
            Effect::Discard(path) => match fs::remove_file(self.real(path)?) {
                Err(e) if gone(&e) => Ok(()),
                other => other.map_err(TreeError::io(path, "cannot be taken away")),
            },
        }
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
            if path == STATE {
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
        Err(e) => Err(TreeError::io(path, "cannot be looked at")(e)),
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
fn sync_disk(folder: Option<&PathBuf>) -> bool {
    let opened = folder.and_then(|f| File::open(f).ok());
    opened.is_some_and(|f| rustix::fs::syncfs(f).is_ok())
}

#[cfg(not(target_os = "linux"))]
fn sync_disk(_: Option<&PathBuf>) -> bool {
    false
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
        self.roots.get(SERVER).map(|p| p.display().to_string()).unwrap_or_default()
    }

    fn walk(&self) -> Result<Vec<(ServerPath, Stat)>, TreeError> {
        let mut out = Vec::new();
        if let Some(folder) = self.roots.get(SERVER) {
            self.walk_into(folder, "", &mut out)?;
        }
        out.sort_by(|a, b| a.0.cmp(&b.0));
        Ok(out)
    }

    fn names(&self, folder: &ServerPath) -> Result<Vec<String>, TreeError> {
        match fs::read_dir(self.real(folder)?) {
            Ok(entries) => Ok(entries.flatten().filter_map(|e| e.file_name().into_string().ok()).collect()),
            Err(e) if gone(&e) => Ok(Vec::new()),
            Err(e) => Err(TreeError::io(folder, "cannot be listed")(e)),
        }
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
                let file = File::open(self.real(path)?).map_err(TreeError::io(path, "cannot be read"))?;
                Ok(Some(Box::new(std::io::BufReader::new(file))))
            }
            _ => Err(TreeError::io(path, "is no file")(ErrorKind::InvalidInput.into())),
        }
    }

    fn writable(&self, path: &ServerPath) -> Result<bool, TreeError> {
        match std::fs::symlink_metadata(self.real(path)?) {
            Ok(seen) => Ok(!seen.permissions().readonly()),
            Err(e) if e.kind() == ErrorKind::NotFound => Ok(true),
            Err(e) => Err(TreeError::io(path, "cannot be looked at")(e)),
        }
    }

    fn digest(&self, paths: &[ServerPath]) -> Result<Vec<Option<Digest>>, TreeError> {
        paths.par_iter().map(|p| self.digest_one(p)).collect()
    }

    fn apply(&self, effects: &[Effect]) -> Result<(), TreeError> {
        let failed = |done: usize| move |source| TreeError::Effect { done, source: Box::new(source) };
        let mut at = 0;
        // what takes a file's place may be read and written by the same people
        let mut modes: HashMap<&ServerPath, fs::Permissions> = HashMap::new();
        while let Some(effect) = effects.get(at) {
            if let Effect::Rename(from, to) = effect {
                let mode = fs::symlink_metadata(self.real(from).map_err(failed(at))?).map(|m| m.permissions());
                self.one(effect).map_err(failed(at))?;
                if let Some(mode) = modes.get(to) {
                    // a host that keeps no modes is no reason to stop
                    let _ = fs::set_permissions(self.real(to).map_err(failed(at))?, mode.clone());
                }
                modes.extend(mode.ok().map(|m| (from, m)));
                at += 1;
                continue;
            }
            // a run of writes is done side by side, the members of an archive by few readers
            let run = effects.iter().skip(at).take_while(|e| matches!(e, Effect::Write(..))).count();
            if run < 2 {
                self.one(effect).map_err(failed(at))?;
                at += 1;
                continue;
            }
            let writes = effects.get(at..at + run).unwrap_or_default();
            let mut members: HashMap<&Path, Vec<Unpacked<'_>>> = HashMap::new();
            let mut others: Vec<&Effect> = Vec::new();
            for write in writes {
                match write {
                    Effect::Write(path, Content::Member(from, member, wanted)) => {
                        members.entry(from).or_default().push((path, member, wanted));
                    }
                    other => others.push(other),
                }
            }
            self.unpack(&members).map_err(failed(at))?;
            others.par_iter().try_for_each(|e| self.one(e)).map_err(failed(at))?;
            at += run;
        }
        Ok(())
    }

    fn barrier(&self, written: &[ServerPath]) -> Result<(), TreeError> {
        if written.len() > MANY && sync_disk(self.roots.get(SERVER)) {
            return Ok(());
        }
        written.par_iter().try_for_each(|path| {
            let file = File::open(self.real(path)?).map_err(TreeError::io(path, "cannot be read"))?;
            file.sync_all().map_err(TreeError::io(path, "cannot be brought safely to disk"))
        })
    }

    fn hold(&self, note: &str) -> Result<Box<dyn Hold>, TreeError> {
        let folder = ServerPath::server(STATE).map_err(|_| TreeError::Root(SERVER.to_owned()))?;
        self.one(&Effect::Folder(folder.clone()))?;
        let path = self.real(&folder)?.join("lock");
        let fail = || TreeError::io(format!("{STATE}/lock"), "cannot be taken");
        let mut file =
            File::options().read(true).write(true).create(true).truncate(false).open(&path).map_err(fail())?;
        match file.try_lock() {
            Ok(()) => {
                file.set_len(0).map_err(fail())?;
                file.write_all(note.as_bytes()).map_err(fail())?;
                Ok(Box::new(LocalHold { file }))
            }
            Err(fs::TryLockError::WouldBlock) => {
                let mut holder = String::new();
                let _ = file.read_to_string(&mut holder);
                Err(TreeError::Held { holder: yalotheca_core::text::clean(holder.trim(), 120) })
            }
            Err(fs::TryLockError::Error(e)) => Err(fail()(e)),
        }
    }
}

struct LocalHold {
    file: File,
}

impl Hold for LocalHold {}

impl Drop for LocalHold {
    fn drop(&mut self) {
        let _ = self.file.set_len(0);
        let _ = self.file.unlock();
    }
}
