//! One server under care: its roster, family, tree and ledger, and what surrounds them.

use std::collections::BTreeMap;
use std::io::{Cursor, Read as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use yalotheca_core::facts::ServerFacts;
use yalotheca_core::family::{Family, server_path};
use yalotheca_core::finding::Finding;
use yalotheca_core::id::ServerPath;
use yalotheca_core::manifest::value_at;
use yalotheca_core::roster::Roster;
use yalotheca_core::scene::Scene;
use yalotheca_core::text::{clean, did_you_mean};

use crate::catalogue::Catalogues;
use crate::fetch::Fetcher;
use crate::home::Home;
use crate::progress::Progress;
use crate::recover::{Recovered, recover};
use crate::tree::{self, Access, Holder, Laid, ReadSeek, StateFolder, Tree};
use crate::{Error, archive, families};

/// What a run was started with, resolved once by the CLI.
#[derive(Clone)]
pub struct Surroundings {
    /// Where this machine keeps what was fetched.
    pub home: Home,
    /// Whether the network is forbidden.
    pub offline: bool,
    /// Set when somebody presses Ctrl-C.
    pub stop: Arc<AtomicBool>,
    /// Hears of long work.
    pub progress: Arc<dyn Progress>,
    /// The time, RFC 3339 in UTC.
    pub now: String,
    /// The person and the machine, for other people: `mira on workshop`.
    pub who: String,
    /// The machine's name.
    pub machine: String,
    /// Whether what was written is read back before anything moves.
    pub verify: bool,
    /// Whether the person says that the server is stopped, whatever its signs say.
    pub stopped: bool,
    /// What this machine has to get into rented hosts.
    pub access: Access,
}

impl Surroundings {
    /// # Errors
    /// [`Error::Stopped`] after Ctrl-C.
    pub(crate) fn go_on(&self) -> Result<(), Error> {
        if self.stop.load(Ordering::Relaxed) { Err(Error::Stopped) } else { Ok(()) }
    }

    /// Returns this run as the holder of a server.
    pub(crate) fn holder(&self) -> Holder {
        Holder::of(&self.who, &self.machine, &self.now)
    }
}

/// One server under care.
pub struct Server {
    /// What the run was started with.
    pub around: Surroundings,
    /// The roster's path.
    pub roster_path: PathBuf,
    /// The roster's text.
    pub text: String,
    /// The roster.
    pub roster: Roster,
    /// The family.
    pub family: Family,
    /// The server's files, and what only a person can enter.
    pub tree: Arc<dyn Tree>,
    /// The server's files alone.
    pub(crate) files: Arc<dyn Tree>,
    /// The roster's catalogues.
    pub catalogues: Catalogues,
    /// Fetches.
    pub fetcher: Fetcher,
    /// What was met when the server was opened: runs that had been ended half way.
    pub told: Vec<Finding>,
}

/// A settings file larger than this is not read (bytes).
pub const MOST_SETTINGS: u64 = 64_000_000;

impl Server {
    /// Opens the server that a roster speaks of.
    ///
    /// # Errors
    /// No roster, a roster or family that cannot be read, no such folder.
    pub fn open(roster_path: &Path, around: &Surroundings) -> Result<Self, Error> {
        let text = match std::fs::read(roster_path) {
            Ok(bytes) => String::from_utf8(bytes).map_err(|e| {
                let kind = std::io::ErrorKind::InvalidData;
                Error::disk(roster_path, "is not UTF-8 text")(std::io::Error::new(kind, e.utf8_error()))
            })?,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Err(Error::NoRoster(roster_path.to_owned())),
            Err(e) => return Err(Error::disk(roster_path, "cannot be read")(e)),
        };
        Self::with_text(roster_path, text, around)
    }

    /// Opens the server as if the roster held `text`; nothing is written.
    ///
    /// # Errors
    /// As [`Server::open`].
    pub fn with_text(roster_path: &Path, text: String, around: &Surroundings) -> Result<Self, Error> {
        let roster = Roster::parse(&text).map_err(|source| Error::Roster {
            path: roster_path.to_owned(),
            text: text.clone(),
            source,
        })?;
        let tree = tree::open(&roster.at, &roster.roots, beside(roster_path), &roster.login, around)?;
        Self::in_tree(roster_path, text, roster, tree, around)
    }

    /// Takes back or finishes what a run that was ended left, and returns the server as it is then.
    ///
    /// # Errors
    /// The tree fails, or what that run left cannot be read.
    pub fn recovered(self) -> Result<Self, Error> {
        let Recovered { told, roster } = recover(&self.tree, &self.roster_path, &self.around.holder())?;
        let server = if roster {
            let text = std::fs::read(&self.roster_path).map_err(Error::disk(&self.roster_path, "cannot be read"))?;
            self.with_roster(String::from_utf8_lossy(&text).into_owned())?
        } else {
            self
        };
        Ok(Self { told, ..server })
    }

    /// The same, over a tree that is given.
    ///
    /// # Errors
    /// No such family.
    pub fn in_tree(
        roster_path: &Path,
        text: String,
        roster: Roster,
        tree: Arc<dyn Tree>,
        around: &Surroundings,
    ) -> Result<Self, Error> {
        let family = families::named(&around.home, &roster.family)?;
        beside_it(&family, &roster)?;
        tree.allow_state(&state_folder(&family));
        let files = tree.clone();
        let tree: Arc<dyn Tree> = match family.rules.hand.is_empty() {
            true => tree,
            false => Arc::new(Laid::with_hand(tree, &roster.hand)),
        };
        let fetcher = Fetcher::new(roster.limits, around.offline, around.stop.clone());
        let mut catalogues = Catalogues::new(&roster.catalogues, beside(roster_path), &around.home, &fetcher);
        let pinned = roster.wants.iter().filter_map(|w| Some((w.id.clone(), w.catalogue.clone()?)));
        catalogues.pin(pinned.collect());
        let around = around.clone();
        let (roster_path, told) = (roster_path.to_owned(), Vec::new());
        Ok(Self { around, roster_path, text, roster, family, tree, files, catalogues, fetcher, told })
    }

    /// Returns the same server as if the roster held another text.
    ///
    /// # Errors
    /// As [`Server::open`].
    pub fn with_roster(&self, text: String) -> Result<Self, Error> {
        let path = &self.roster_path;
        let roster =
            Roster::parse(&text).map_err(|source| Error::Roster { path: path.clone(), text: text.clone(), source })?;
        Self::in_tree(path, text, roster, self.files.clone(), &self.around)
    }

    /// Returns the folder the roster stands in.
    pub fn beside(&self) -> &Path {
        beside(&self.roster_path)
    }

    /// Returns what the family's rules read on the server as it is.
    ///
    /// # Errors
    /// The tree fails. A fact that cannot be read is absent.
    pub fn facts(&self) -> Result<ServerFacts, Error> {
        facts(&self.family, self.tree.as_ref(), &Overlay::default())
    }
}

/// Whether the roster and the family speak of the same folders beside the server's own, and the same settings that
/// only a person can enter.
fn beside_it(family: &Family, roster: &Roster) -> Result<(), Error> {
    let rules = &family.rules;
    if let Some((name, root)) = rules.root.iter().find(|(name, _)| !roster.roots.contains_key(*name)) {
        let title = &root.title;
        return Err(Error::Beside(format!("the roster does not say where `{name}` is ({title})")));
    }
    let none = |what: &str, word: &String, known: Vec<&str>| {
        let hint = did_you_mean(word, known);
        Err(Error::Beside(format!(
            "the roster has {what} `{}`, which {} does not know{hint}",
            clean(word, 40),
            rules.title
        )))
    };
    if let Some(name) = roster.roots.keys().find(|n| !rules.root.contains_key(*n)) {
        return none("a folder", name, rules.root.keys().map(String::as_str).collect());
    }
    match roster.hand.keys().find(|n| !rules.hand.iter().any(|h| h.name == **n)) {
        Some(name) => none("a text under [hand]", name, rules.hand.iter().map(|h| h.name.as_str()).collect()),
        None => Ok(()),
    }
}

/// Where the family lets our state be.
pub(crate) fn state_folder(family: &Family) -> StateFolder {
    let folder = family.rules.state_folder.as_ref();
    StateFolder { plain: folder.map(|f| f.name.clone()), always: folder.is_some_and(|f| f.always) }
}

fn beside(roster: &Path) -> &Path {
    roster.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// Files as they will be, laid over the tree as it is.
#[derive(Debug, Default)]
pub(crate) struct Overlay {
    /// Bytes of settings files; `None` for a file that will be gone.
    pub(crate) docs: BTreeMap<ServerPath, Option<Vec<u8>>>,
    /// Files that will be placed, by where their bytes are on this machine.
    pub(crate) files: BTreeMap<ServerPath, PathBuf>,
}

impl Overlay {
    fn open(&self, tree: &dyn Tree, path: &ServerPath) -> Result<Option<Box<dyn ReadSeek>>, Error> {
        if let Some(doc) = self.docs.get(path) {
            return Ok(doc.clone().map(|b| Box::new(Cursor::new(b)) as Box<dyn ReadSeek>));
        }
        if let Some(file) = self.files.get(path) {
            let file = std::fs::File::open(file).map_err(Error::disk(file, "cannot be read"))?;
            return Ok(Some(Box::new(std::io::BufReader::new(file))));
        }
        Ok(tree.open(path)?)
    }
}

/// Reads every fact of a family; facts over facts are read once those are known.
pub(crate) fn facts(family: &Family, tree: &dyn Tree, overlay: &Overlay) -> Result<ServerFacts, Error> {
    let mut out = ServerFacts::default();
    let mut read: BTreeMap<(ServerPath, Option<String>), Option<Vec<u8>>> = BTreeMap::new();
    let mut left: Vec<_> =
        family.rules.fact.iter().flat_map(|(name, all)| all.0.iter().map(move |source| (name, source))).collect();
    loop {
        let before = left.len();
        let mut waiting = Vec::new();
        for (name, source) in left {
            // the first place that counts and can be read
            if out.get(name).is_some() {
                continue;
            }
            if let Some(when) = &source.when {
                let none = (BTreeMap::new(), BTreeMap::new());
                let scene = Scene { family, server: &out, files: &none.0, play: None, choices: &none.1 };
                if !when.holds(&scene) {
                    waiting.push((name, source));
                    continue;
                }
            }
            let Some(file) = source.file.fill(|field| out.get(field).map(|v| v.to_owned().into())) else {
                waiting.push((name, source));
                continue;
            };
            let Ok(path) = server_path(&file) else { continue };
            let key = (path, source.inside.clone());
            if !read.contains_key(&key) {
                let bytes = bytes_of(overlay.open(tree, &key.0)?, key.1.as_deref());
                read.insert(key.clone(), bytes);
            }
            let bytes = read.get(&key).and_then(Option::as_deref);
            let value = bytes.and_then(|b| value_at(source.format, b, &source.at));
            let texts = value.map(|v| v.texts()).unwrap_or_default();
            let texts: Vec<String> = texts.into_iter().filter(|t| !t.is_empty()).collect();
            if !texts.is_empty() {
                out.set(name, texts);
            }
        }
        left = waiting;
        if left.len() == before {
            return Ok(out);
        }
    }
}

/// A file's bytes, or a member's of the archive it is; what cannot be read is absent.
fn bytes_of(file: Option<Box<dyn ReadSeek>>, inside: Option<&str>) -> Option<Vec<u8>> {
    let file = file?;
    match inside {
        Some(member) => archive::read_inside(file, member).ok().flatten(),
        None => {
            let mut out = Vec::new();
            file.take(MOST_SETTINGS).read_to_end(&mut out).ok()?;
            Some(out)
        }
    }
}
