//! A server on a rented host: the same tree, over whatever protocol the host speaks ([`Wire`]).

mod address;
mod body;
mod error;
mod ftp;
mod login;
mod send;
mod sftp;
mod trust;
mod wire;

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use yalotheca_core::id::{Digest, SERVER, ServerPath, storable};
use yalotheca_core::roster::Login;

use super::{Effect, Listing, ReadSeek, STATE, STATE_ROOT, Standing, Stat, StateFolder, Tree, TreeError, runs};
use crate::home::{Home, write_whole};
pub use address::{Address, Scheme};
use body::Sink;
pub use error::HostError;
use login::Door;
use wire::{Get, Named, Op, Stop, Wire};

/// Reads a line of an FTP host's listing, of MLSD or as `ls` and DOS print it: a name, and what stands there.
pub fn listed(line: &str, machine: bool) -> Option<(String, Stat)> {
    let named = if machine { ftp::listing::machine(line) } else { ftp::listing::human(line) }?;
    Some((named.name, named.stat))
}

/// No folder of a server is deeper than this.
const MOST_DEPTH: usize = 40;
/// No server has more files than this.
const MOST_FILES: usize = 1_000_000;
/// A file on the host that is opened is fetched whole; larger ones are refused (bytes).
const MOST_OPENED: u64 = 8_000_000_000;

/// A server on a rented host.
pub struct RemoteTree {
    wire: Box<dyn Wire>,
    address: Address,
    /// Folders beside the server's own, by name.
    roots: BTreeMap<String, Address>,
    /// What of this host is remembered on this machine.
    memory: PathBuf,
    home: Home,
    offline: bool,
    stop: Arc<Stop>,
    /// Whether the server's folder was seen.
    looked: Mutex<bool>,
    allowed: OnceLock<StateFolder>,
    /// The name of the state folder, once it is known.
    state: Mutex<Option<String>>,
    ahead: AtomicI64,
}

/// What it takes to open a server on a host.
pub struct Opening<'a> {
    /// Where it is.
    pub address: Address,
    /// Folders on that host beside the server's own, by name.
    pub roots: &'a BTreeMap<String, String>,
    /// What the roster says of getting in.
    pub login: Login,
    /// The folder of the roster.
    pub beside: &'a Path,
    /// What this machine has to get in.
    pub access: super::Access,
    /// Where this machine keeps what it knows.
    pub home: Home,
    /// Whether the network is forbidden.
    pub offline: bool,
    /// Set when somebody presses Ctrl-C.
    pub stop: Arc<AtomicBool>,
}

impl RemoteTree {
    /// Returns the tree; nothing is connected before something is asked for.
    ///
    /// # Errors
    /// This machine cannot speak to hosts.
    pub fn new(opening: Opening<'_>) -> Result<Self, HostError> {
        let Opening { address, roots, login, beside, access, home, offline, stop } = opening;
        let trust = trust::Trust { access, home: home.clone(), host: address.host.clone(), port: address.port };
        let asked = Mutex::new(None);
        let door = Door { address: address.clone(), login, beside: beside.to_owned(), trust, asked };
        let stop = Arc::new(Stop { asked: stop, deaf: AtomicBool::new(false) });
        let wire: Box<dyn Wire> = match address.scheme {
            Scheme::Sftp => Box::new(sftp::Sftp::new(door, stop.clone())?),
            Scheme::Ftp | Scheme::FtpsExplicit | Scheme::FtpsImplicit => Box::new(ftp::Ftp::new(door, stop.clone())),
        };
        let key = Digest::of(format!("{}{}", address.whom(), address.folder).as_bytes());
        let memory = home.at(&format!("hosts/{}.json", key.short()));
        let (looked, state) = (Mutex::new(false), Mutex::new(None));
        let (allowed, ahead) = (OnceLock::new(), AtomicI64::new(0));
        let root = |(name, folder): (&String, &String)| (name.clone(), address.beside(folder));
        let roots = roots.iter().map(root).collect();
        Ok(Self { wire, address, roots, memory, home, offline, stop, looked, allowed, state, ahead })
    }

    /// The host, once it is known that the server's folder is there.
    fn wire(&self) -> Result<&dyn Wire, TreeError> {
        let host = self.address.whom();
        if self.offline {
            return Err(HostError::Offline { host }.into());
        }
        let mut looked = self.looked.lock().unwrap_or_else(PoisonError::into_inner);
        if !*looked {
            let top = self.address.path("");
            // some hosts say nothing of a folder itself, but list it
            let there = self.wire.stat(std::slice::from_ref(&top))?.first() == Some(&Stat::Folder)
                || self.wire.list(std::slice::from_ref(&top))?.pop().flatten().is_some();
            if !there {
                return Err(HostError::NoFolder { folder: top, host }.into());
            }
            *looked = true;
        }
        Ok(self.wire.as_ref())
    }

    /// The name of the state folder: the one that is there, else the one that is to be made. `None` on a host that
    /// takes no names with a dot, as long as no plain folder is allowed.
    fn state(&self) -> Result<Option<String>, TreeError> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        if state.is_some() {
            return Ok(state.clone());
        }
        let allowed = self.allowed.get().cloned().unwrap_or_default();
        let wire = self.wire()?;
        let dotted = match wire.stat(&[self.address.path(STATE)]) {
            // some hosts say nothing of the folder, and refuse what is in it
            Ok(seen) if seen.first() == Some(&Stat::Absent) => match wire.list(&[self.address.path(STATE)]) {
                Ok(_) => Some(Stat::Absent),
                Err(HostError::Refused { .. }) => None,
                Err(e) => return Err(e.into()),
            },
            Ok(seen) => seen.first().copied(),
            Err(HostError::Refused { .. }) => None,
            Err(e) => return Err(e.into()),
        };
        let is_folder = |name: &String| -> Result<bool, HostError> {
            Ok(wire.stat(&[self.address.path(name)])?.first() == Some(&Stat::Folder))
        };
        let name = match (dotted, &allowed.plain) {
            (Some(Stat::Folder), _) => STATE.to_owned(),
            (None, plain) => match plain {
                Some(plain) => plain.clone(),
                None => return Ok(None),
            },
            (_, Some(plain)) if allowed.always || is_folder(plain)? => plain.clone(),
            // not known yet: the first write tells whether the host takes dot names
            _ => return Ok(Some(STATE.to_owned())),
        };
        *state = Some(name.clone());
        Ok(Some(name))
    }

    /// Whether a path is in a state folder that this host could not have.
    fn is_nowhere(&self, path: &ServerPath) -> Result<bool, TreeError> {
        Ok(path.root() == STATE_ROOT && self.state()?.is_none())
    }

    fn real(&self, path: &ServerPath) -> Result<String, TreeError> {
        match path.root() {
            SERVER => Ok(self.address.path(path.path())),
            STATE_ROOT => {
                let state = self.state()?.ok_or_else(|| HostError::NoDotNames { host: self.address.whom() })?;
                Ok(self.address.path(&format!("{state}/{}", path.path())))
            }
            other => {
                let root = self.roots.get(other).ok_or_else(|| TreeError::Root(other.to_owned()))?;
                Ok(root.path(path.path()))
            }
        }
    }

    fn reals(&self, paths: &[ServerPath]) -> Result<Vec<String>, TreeError> {
        paths.iter().map(|p| self.real(p)).collect()
    }

    /// The names of a folder that could be a server's; what a host should never list is passed over.
    fn sound(listed: Option<Vec<Named>>) -> Vec<Named> {
        let mut out = listed.unwrap_or_default();
        out.retain(|n| storable(&n.name).is_ok() && !n.name.contains('/'));
        out
    }

    fn gets(&self, paths: &[ServerPath], most: u64, keep: bool) -> Result<Vec<Option<Sink>>, TreeError> {
        if paths.is_empty() {
            return Ok(Vec::new());
        }
        let job = |path: &ServerPath| Ok(Get { path: self.real(path)?, most, keep, file: None });
        let jobs = paths.iter().map(job).collect::<Result<Vec<_>, TreeError>>()?;
        Ok(self.wire()?.get(&jobs)?)
    }

    /// What stands at each path, asking for whole folders where that is cheaper.
    fn stats(&self, paths: &[ServerPath]) -> Result<Vec<(Stat, bool)>, TreeError> {
        let reals = self.reals(paths)?;
        let wire = self.wire()?;
        let folder_of = |path: &str| path.rsplit_once('/').map_or("", |(f, _)| f).to_owned();
        let mut by_folder: BTreeMap<String, usize> = BTreeMap::new();
        for real in &reals {
            *by_folder.entry(folder_of(real)).or_default() += 1;
        }
        let at_once = if wire.stats_are_cheap() { 24 } else { 1 };
        let folders: Vec<String> = by_folder.into_iter().filter(|(_, n)| *n >= at_once).map(|(f, _)| f).collect();
        let ask: Vec<String> = folders.iter().map(|f| if f.is_empty() { "/".to_owned() } else { f.clone() }).collect();
        let mut known: HashMap<String, HashMap<String, Named>> = HashMap::new();
        for (folder, listed) in folders.iter().zip(wire.list(&ask)?) {
            let names = listed.unwrap_or_default().into_iter().map(|n| (n.name.clone(), n)).collect();
            known.insert(folder.clone(), names);
        }
        let single: Vec<String> = reals.iter().filter(|r| !known.contains_key(&folder_of(r))).cloned().collect();
        let mut asked = if single.is_empty() { Vec::new() } else { wire.stat(&single)? }.into_iter();
        let one = |real: &String| match known.get(&folder_of(real)) {
            Some(names) => {
                let name = real.rsplit('/').next().unwrap_or(real);
                names.get(name).map_or((Stat::Absent, true), |n| (n.stat, n.writable))
            }
            None => (asked.next().unwrap_or(Stat::Absent), true),
        };
        Ok(reals.iter().map(one).collect())
    }

    /// Fetches a file whole into a temporary one; returns it with its digest.
    fn fetched(&self, path: &ServerPath) -> Result<Option<(File, Digest)>, TreeError> {
        let incoming = self.home.at("incoming");
        let fail = || TreeError::io(incoming.display(), "cannot be written to");
        let temporary = self.home.temporary().map_err(|e| fail()(std::io::Error::other(e.to_string())))?;
        let file = Some(temporary.path().to_owned());
        let job = Get { path: self.real(path)?, most: MOST_OPENED, keep: false, file };
        let Some(sink) = self.wire()?.get(std::slice::from_ref(&job))?.pop().flatten() else { return Ok(None) };
        let digest = sink.digest();
        drop(sink);
        // it stays in the store: the same bytes need not come twice
        let kept = self.home.keep(temporary, &digest).map_err(|e| fail()(std::io::Error::other(e.to_string())))?;
        Ok(Some((File::open(kept).map_err(fail())?, digest)))
    }

    fn op(&self, effect: &Effect) -> Result<Option<Op>, TreeError> {
        Ok(match effect {
            Effect::Folder(path) => Some(Op::Folder(self.real(path)?)),
            Effect::Rename(from, to) => Some(Op::Rename(self.real(from)?, self.real(to)?)),
            Effect::Swap { new, at, old } => {
                Some(Op::Swap { new: self.real(new)?, at: self.real(at)?, old: self.real(old)? })
            }
            Effect::RemoveFolder(path) => Some(Op::RemoveFolder(self.real(path)?)),
            Effect::Discard(path) => Some(Op::Discard(self.real(path)?)),
            Effect::Write(..) => None,
        })
    }
}

impl Tree for RemoteTree {
    fn place(&self) -> String {
        format!("{}{}", self.address.whom(), if self.address.folder.starts_with('/') { "" } else { "/~/" })
            + &self.address.folder
    }

    fn host(&self) -> Option<String> {
        Some(self.address.host.clone())
    }

    fn finishing(&self, moves: bool) {
        self.stop.deaf.store(moves, Ordering::Relaxed);
    }

    fn allow_state(&self, folder: &StateFolder) {
        let _ = self.allowed.set(folder.clone());
    }

    fn ready(&self) -> Result<(), TreeError> {
        let wire = self.wire()?;
        let host = self.address.whom();
        let name = self.state()?.ok_or(HostError::NoDotNames { host })?;
        let made = wire.run(&[Op::Folder(self.address.path(&name))]);
        let plain = self.allowed.get().and_then(|a| a.plain.clone()).filter(|p| *p != name);
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        if state.is_some() || plain.is_none() {
            made?;
            *state = Some(name);
            return Ok(());
        }
        // a host that hides names with a dot would hide our own files from us
        let hidden = made.is_err() || wire.stat(&[self.address.path(&name)])?.first() != Some(&Stat::Folder);
        let name = match plain.filter(|_| hidden) {
            Some(plain) => {
                wire.run(&[Op::Folder(self.address.path(&plain))])?;
                plain
            }
            None => name,
        };
        *state = Some(name);
        Ok(())
    }

    fn walk(&self) -> Result<Vec<(ServerPath, Stat)>, TreeError> {
        let wire = self.wire()?;
        let host = self.address.whom();
        let strange = |why: String| HostError::Strange { host: host.clone(), why };
        let own: BTreeSet<String> = [Some(STATE.to_owned()), self.state()?].into_iter().flatten().collect();
        let mut out = Vec::new();
        let mut folders = vec![String::new()];
        for depth in 0.. {
            if folders.is_empty() {
                break;
            }
            if depth > MOST_DEPTH {
                return Err(strange(format!("its folders lie more than {MOST_DEPTH} deep in each other")).into());
            }
            let reals: Vec<String> = folders.iter().map(|f| self.address.path(f)).collect();
            let mut below = Vec::new();
            for (folder, listed) in folders.iter().zip(wire.list(&reals)?) {
                for named in Self::sound(listed) {
                    let path = if folder.is_empty() { named.name } else { format!("{folder}/{}", named.name) };
                    if own.contains(&path) {
                        continue;
                    }
                    match named.stat {
                        Stat::Folder => below.push(path),
                        stat => out.extend(ServerPath::server(&path).ok().map(|p| (p, stat))),
                    }
                }
                if out.len() + below.len() > MOST_FILES {
                    return Err(strange(format!("it lists more than {MOST_FILES} files")).into());
                }
            }
            folders = below;
        }
        out.sort_by(|a, b| a.0.cmp(&b.0));
        out.dedup_by(|a, b| a.0 == b.0);
        Ok(out)
    }

    fn list(&self, folders: &[ServerPath]) -> Result<Vec<Listing>, TreeError> {
        if folders.iter().try_fold(true, |all, f| Ok::<_, TreeError>(all && self.is_nowhere(f)?))? {
            return Ok(vec![Vec::new(); folders.len()]);
        }
        let reals = self.reals(folders)?;
        let listed = self.wire()?.list(&reals)?;
        let listing = |l| Self::sound(l).into_iter().map(|n| (n.name, n.stat)).collect();
        Ok(listed.into_iter().map(listing).collect())
    }

    fn stat(&self, paths: &[ServerPath]) -> Result<Vec<Stat>, TreeError> {
        if paths.is_empty() {
            return Ok(Vec::new());
        }
        Ok(self.stats(paths)?.into_iter().map(|(stat, _)| stat).collect())
    }

    fn read(&self, paths: &[ServerPath], most: u64) -> Result<Vec<Option<Vec<u8>>>, TreeError> {
        // file lists are named by their digest and never change: one that is here need not come
        let named = |path: &ServerPath| {
            let name = path.path().strip_prefix("lists/").filter(|_| path.root() == STATE_ROOT)?;
            Digest::parse(name.strip_suffix(".json")?).ok()
        };
        let mut out: Vec<Option<Vec<u8>>> =
            paths.iter().map(|p| std::fs::read(self.home.store_path(&named(p)?)).ok()).collect();
        let (places, left): (Vec<usize>, Vec<ServerPath>) = paths
            .iter()
            .enumerate()
            .filter(|(at, _)| out.get(*at).is_some_and(Option::is_none))
            .map(|(at, p)| (at, p.clone()))
            .unzip();
        for ((at, path), sink) in places.into_iter().zip(&left).zip(self.gets(&left, most, true)?) {
            let bytes = sink.map(Sink::into_bytes);
            if let (Some(bytes), Some(_)) = (&bytes, named(path)) {
                // a disk that cannot be written to asks again next time
                let _ = self.home.take(&mut bytes.as_slice(), Path::new("a file list"));
            }
            if let Some(slot) = out.get_mut(at) {
                *slot = bytes;
            }
        }
        Ok(out)
    }

    fn open(&self, path: &ServerPath) -> Result<Option<Box<dyn ReadSeek>>, TreeError> {
        let open = |file| Ok(Some(Box::new(std::io::BufReader::new(file)) as Box<dyn ReadSeek>));
        // bytes that are known to be there, and are here too, need not come again
        if let Ok(seen) = crate::state::known(self, path)
            && let Some(digest) = seen
            && let Ok(file) = File::open(self.home.store_path(&digest))
        {
            return open(file);
        }
        match self.fetched(path)? {
            Some((file, digest)) => {
                let _ = crate::state::note(self, &BTreeMap::from([(path.clone(), digest)]));
                open(file)
            }
            None => Ok(None),
        }
    }

    fn standing(&self, paths: &[ServerPath]) -> Result<Vec<Standing>, TreeError> {
        let seen = self.stats(paths)?;
        let one = |(stat, writable): (Stat, bool)| match stat {
            Stat::File { .. } if !writable => Standing::ReadOnly,
            _ => Standing::Free,
        };
        Ok(seen.into_iter().map(one).collect())
    }

    fn digest(&self, paths: &[ServerPath]) -> Result<Vec<Option<Digest>>, TreeError> {
        Ok(self.gets(paths, u64::MAX, false)?.into_iter().map(|s| s.map(|s| s.digest())).collect())
    }

    fn apply(&self, effects: &[Effect]) -> Result<(), TreeError> {
        for run in runs(effects) {
            if matches!(run, [Effect::Write(..), ..]) {
                self.write(run)?;
                continue;
            }
            let ops = run.iter().filter_map(|e| self.op(e).transpose()).collect::<Result<Vec<_>, _>>()?;
            self.wire()?.run(&ops)?;
        }
        Ok(())
    }

    fn barrier(&self, _written: &[ServerPath]) -> Result<(), TreeError> {
        // each file was brought to disk when it was sent, where the host can
        Ok(())
    }

    fn space(&self) -> Result<Option<u64>, TreeError> {
        Ok(self.wire()?.space(&self.address.path(""))?)
    }

    fn remembered(&self) -> Option<Vec<u8>> {
        std::fs::read(&self.memory).ok()
    }

    fn remember(&self, bytes: &[u8]) {
        let _ = write_whole(&self.memory, bytes);
    }

    fn clock_ahead(&self) -> i64 {
        self.ahead.load(Ordering::Relaxed)
    }
}
