//! Family files: how one kind of game server takes content (`docs/family-reference.md`).
//!
//! Everything game-specific is in these files; no game's name stands in code.

mod read;
mod setting;
mod template;

use std::collections::BTreeMap;

use serde::Deserialize;

pub use read::FamilyError;
pub use setting::{Reference, Setting, SettingsFile};
pub use template::{Template, TemplateError};

use crate::id::{Digest, IdError, ServerPath};
use crate::settings::{Format, Seat, Sort, Value};
use crate::slot::{ListIn, SlotKey};
use crate::version::Scheme;

/// A family file, read and checked.
#[derive(Debug, Clone)]
pub struct Family {
    /// What the file says.
    pub rules: Rules,
    /// The digest of the file's bytes: a person approves this, not the name.
    pub digest: Digest,
}

/// The tables of a family file.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Rules {
    /// The format's number: 1.
    pub format: u32,
    /// The family's name, as rosters write it.
    pub name: String,
    /// The game's name for people.
    pub title: String,
    /// One line about it.
    #[serde(default)]
    pub about: String,
    /// What gives the family away in a folder.
    pub recognise: Vec<Mark>,
    /// Glob patterns of files that the server or the administrator owns.
    #[serde(default)]
    pub own: Vec<String>,
    /// A plain folder for our own state, where names with a dot are hidden or would be loaded.
    pub state_folder: Option<StateFolder>,
    /// Facts to read on the server, by name.
    #[serde(default)]
    pub fact: BTreeMap<String, Source>,
    /// The kinds of items it takes, by word.
    #[serde(default)]
    pub kind: BTreeMap<String, Kind>,
    /// Settings that need a value before the server starts.
    #[serde(default)]
    pub default: Vec<Wiring>,
    /// Settings files whose name does not tell their format.
    #[serde(default)]
    pub settings_file: Vec<SettingsFile>,
    /// What settings mean.
    #[serde(default)]
    pub setting: Vec<Setting>,
    /// Values that name files.
    #[serde(default)]
    pub reference: Vec<Reference>,
    /// How to see that the server runs, and what must wait until it does not.
    #[serde(default)]
    pub running: Running,
    /// The terms somebody must accept.
    pub terms: Option<Terms>,
    /// How to start the server.
    pub start: Option<Start>,
    /// What lines of its log mean.
    #[serde(default)]
    pub log: Vec<LogRule>,
}

/// How to see that the server runs, and what must wait until it does not.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct Running {
    /// Files that are there only while it runs.
    pub file: Vec<String>,
    /// Logs that grow while it runs.
    pub log: Vec<Grows>,
    /// Ports that are open while it runs: templates over facts.
    pub port: Vec<Template>,
    /// Glob patterns of settings files that it writes anew when it stops.
    pub rewrites: Vec<String>,
    /// Glob patterns of files that may change only while it is stopped.
    pub stop_before: Vec<String>,
    /// Glob patterns of files whose change it hears of only after a restart.
    pub restart_after: Vec<String>,
}

/// A log that grows while the server runs.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Grows {
    /// The log.
    pub file: String,
    /// It runs when the log changed in the last so many seconds.
    pub seconds: u32,
}

impl Running {
    /// Whether there is any way to see that the server runs.
    pub fn can_tell(&self) -> bool {
        !(self.file.is_empty() && self.log.is_empty() && self.port.is_empty())
    }
}

/// A plain folder that the family allows for our own state.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct StateFolder {
    /// Its name.
    pub name: String,
    /// Whether it is used on every host, since the game would load what stands in a folder with a dot.
    #[serde(default)]
    pub always: bool,
}

/// A sign of the family in a folder.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Mark {
    /// A glob pattern; one file that matches is enough.
    pub path: String,
    /// Text that must stand in the file.
    pub holds: Option<String>,
    /// How sure it makes the family, 1 to 100; marks add up, 100 is certain.
    pub sure: u32,
}

/// Where a value is read.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Source {
    /// The file on the server: a template over other facts.
    pub file: Template,
    /// A file inside that archive.
    pub inside: Option<String>,
    /// The format of the file (or of the file inside).
    pub format: Format,
    /// Where in it the value stands.
    #[serde(default)]
    pub at: String,
}

/// What a kind of item is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// Something the server loads.
    AddOn,
    /// A place to play.
    Map,
    /// Something players get.
    Pack,
    /// Many items and files in one.
    Bundle,
    /// The server build itself.
    Core,
    /// What other items stand on.
    Framework,
}

/// A kind of item.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Kind {
    /// Its role.
    pub role: Role,
    /// Its name for people, singular.
    pub title: String,
    /// The name pattern of the one real file; absent when the whole archive is the item.
    pub file: Option<String>,
    /// What the core must be able to do to take this kind.
    #[serde(default)]
    pub needs_capability: Option<String>,
    /// How its versions are put in order, where no catalogue says.
    #[serde(default)]
    pub scheme: Scheme,
    /// Whether the server never writes into files of this kind: they may share their bytes with our own copies.
    #[serde(default)]
    pub read_only: bool,
    /// Where its place in the load order is among the kinds: lower is read first.
    #[serde(default)]
    pub rank: i32,
    /// Where the item's own manifest is and what it says.
    pub manifest: Manifest,
    /// Which files go where.
    pub place: Vec<Placing>,
    /// What makes the server load it.
    #[serde(default)]
    pub wire: Vec<Wiring>,
}

/// Where the item's own manifest is and where in it what is found.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Manifest {
    /// The manifest's path inside the archive.
    pub inside: String,
    /// Its format.
    pub format: Format,
    /// Where the id stands.
    pub id: String,
    /// Where the version stands.
    pub version: String,
    /// Where the title stands.
    pub title: Option<String>,
    /// Where the range of game versions stands.
    pub game: Option<String>,
    /// Where the cores it fits are listed.
    pub cores: Option<String>,
    /// Where the least runtime stands.
    pub runtime: Option<String>,
    /// Where what it needs stands.
    pub needs: Option<Listing>,
    /// Where what it works with stands.
    pub welcomes: Option<Listing>,
    /// Where what it clashes with stands.
    pub clashes: Option<Listing>,
    /// Where the ids it provides are listed.
    pub provides: Option<Listing>,
    /// Where the items it takes the place of are listed.
    pub replaces: Option<Listing>,
    /// Where the items read before it are listed.
    pub after: Option<String>,
    /// Where the items read after it are listed.
    pub before: Option<String>,
}

/// A list of items in a manifest, in one of the shapes manifests write them.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Listing {
    /// Where the list stands.
    pub at: String,
    /// Its shape.
    pub shape: Shape,
    /// In objects: the key that holds the id.
    #[serde(default = "id_key")]
    pub id: String,
    /// In objects: the key that holds the range.
    #[serde(default = "range_key")]
    pub range: String,
}

fn id_key() -> String {
    "id".to_owned()
}

fn range_key() -> String {
    "range".to_owned()
}

/// The shapes of a list of items.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Shape {
    /// A map of id to range.
    Map,
    /// A list of texts: `id` or `id >= 1.2`.
    Texts,
    /// A list of objects.
    Objects,
}

/// Which files of an item go where.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Placing {
    /// `real` for the one real file, else a glob over the archive's members (top folder hoisted).
    pub take: String,
    /// Where it goes: a template over `{id}`, `{version}`, `{name}`, `{stem}`, `{path}`.
    pub to: Template,
    /// Whether it is a settings file: the administrator's once it is there, and a new version's default is merged
    /// into it.
    #[serde(default)]
    pub settings: bool,
}

/// A value that makes the server load an item.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Wiring {
    /// The settings file.
    pub file: String,
    /// Its format.
    pub format: Format,
    /// Which value is set, or where the list stands; absent for a list of lines.
    pub at: Option<String>,
    /// What is set, or the element that is added.
    pub value: Template,
    /// Whether a list stands there, which gets the value as an element.
    #[serde(default)]
    pub list: bool,
    /// What parts the elements of a list inside one value.
    pub between: Option<String>,
    /// Where in a list: `first`, `last`, `before NAME`, `after NAME`.
    #[serde(default)]
    pub seat: Seat,
    /// The sort of value it is, where none stands there yet.
    #[serde(rename = "as")]
    pub sort: Option<Sort>,
}

impl Wiring {
    /// Returns the slot it claims.
    ///
    /// # Errors
    /// The file is no path inside the server's folder.
    pub fn key(&self) -> Result<SlotKey, IdError> {
        let list = match (&self.between, self.list) {
            (Some(between), _) => Some(ListIn::Between(between.clone())),
            (None, true) => Some(ListIn::Elements),
            (None, false) => None,
        };
        Ok(SlotKey { path: ServerPath::server(&self.file)?, format: self.format, at: self.at.clone(), list })
    }

    /// Returns a filled value in the sort that is named.
    pub fn typed(&self, words: String) -> Value {
        match self.sort {
            Some(Sort::Number | Sort::Flag) => Value::typed(&words),
            _ => Value::Text(words),
        }
    }
}

/// The terms somebody must accept before the server starts.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Terms {
    /// The fact that holds the number of the terms in force.
    pub wanted: String,
    /// The fact that holds the number that was accepted.
    pub accepted: String,
    /// The setting that accepts them.
    pub file: String,
    /// Its format.
    pub format: Format,
    /// Which value is set to the number.
    pub at: String,
    /// Where the terms can be read.
    pub text: String,
}

/// How to start the server.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Start {
    /// Program and arguments, run in the server's folder. A person approves the family first.
    pub command: Vec<String>,
    /// The line that stops it.
    pub stop: String,
    /// How long it may take until it is ready, in seconds.
    #[serde(default = "a_minute")]
    pub seconds: u64,
}

fn a_minute() -> u64 {
    60
}

/// What a line of the log means.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Meaning {
    /// The server is up.
    Ready,
    /// An item was loaded (group `item`).
    Loaded,
    /// An item was not loaded (groups `item`, `cause`).
    Failed,
    /// The terms have not been accepted.
    Terms,
    /// The server gives up (group `cause`).
    Crash,
    /// Looks bad and is not.
    Noise,
}

/// A pattern over lines of the log.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct LogRule {
    /// What it means.
    pub means: Meaning,
    /// A regular expression.
    pub pattern: String,
}

impl Family {
    /// Returns how sure the marks make this family: the sum over those for which `there(path, holds)` says yes.
    pub fn certainty(&self, mut there: impl FnMut(&Mark) -> bool) -> u32 {
        self.rules.recognise.iter().filter(|m| there(m)).map(|m| m.sure).sum()
    }

    /// Whether the server or the administrator owns the file at `path`.
    pub fn owns(&self, path: &str) -> bool {
        self.rules.own.iter().any(|pattern| fast_glob::glob_match(pattern, path))
    }

    /// Returns a kind's title, or the word itself when the family has no such kind.
    pub fn kind_title<'a>(&'a self, kind: &'a str) -> &'a str {
        self.rules.kind.get(kind).map_or(kind, |k| k.title.as_str())
    }
}
