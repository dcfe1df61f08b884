//! Family files: how one kind of game server takes content (`docs/family-reference.md`).
//!
//! Everything game-specific is in these files; no game's name stands in code.

mod explain;
mod kind;
mod pattern;
mod read;
mod setting;
mod template;
mod when;
mod wiring;

use std::collections::BTreeMap;

use serde::Deserialize;

pub use kind::{
    Bare, Bring, Choice, CleanSlate, Coding, Container, Derive, DigestOf, EntryRule, Fetch, FetchedBy, Field, Kind,
    Listing, Manifest, Placing, Players, Role, Seal, Shape,
};
pub use pattern::{Caught, Pattern, PatternError};
pub use read::FamilyError;
pub use setting::{Of, Reference, Setting, SettingsFile, Unique};
pub use template::{Template, TemplateError};
pub use when::{Asked, When};
pub use wiring::{Body, HAND, Wiring, server_path};

use crate::id::Digest;
use crate::settings::Format;

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
    pub fact: BTreeMap<String, Sources>,
    /// The kinds of items it takes, by word.
    #[serde(default)]
    pub kind: BTreeMap<String, Kind>,
    /// Which map is played.
    pub active: Option<Active>,
    /// Which maps are played in turn.
    pub rotation: Option<Rotation>,
    /// Folders beside the server's own, by name.
    #[serde(default)]
    pub root: BTreeMap<String, Root>,
    /// Settings that only a person can enter.
    #[serde(default)]
    pub hand: Vec<Hand>,
    /// Settings that must be large enough for what is installed.
    #[serde(default)]
    pub bound: Vec<Bound>,
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
    /// Names that only one file may have.
    #[serde(default)]
    pub unique: Vec<Unique>,
    /// What a running server hears of by a line on its console.
    #[serde(default)]
    pub live: Vec<Live>,
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

/// A change that a running server hears of by a line on its console.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Live {
    /// A pattern over the server's files.
    pub file: Pattern,
    /// The line: a template over what the pattern caught.
    pub line: Template,
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
    /// When it counts.
    pub when: Option<When>,
}

/// Where a fact is read: one place, or several of which the first that counts and can be read is taken.
#[derive(Debug, Clone)]
pub struct Sources(pub Vec<Source>);

impl<'de> Deserialize<'de> for Sources {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        struct Either;
        impl<'de> serde::de::Visitor<'de> for Either {
            type Value = Sources;
            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a table with `file` and `format`, or a list of such tables (`[[fact.NAME]]`)")
            }
            fn visit_map<A: serde::de::MapAccess<'de>>(self, map: A) -> Result<Sources, A::Error> {
                let one = Source::deserialize(serde::de::value::MapAccessDeserializer::new(map))?;
                Ok(Sources(vec![one]))
            }
            fn visit_seq<A: serde::de::SeqAccess<'de>>(self, seq: A) -> Result<Sources, A::Error> {
                Vec::deserialize(serde::de::value::SeqAccessDeserializer::new(seq)).map(Sources)
            }
        }
        from.deserialize_any(Either)
    }
}

/// Which map is played, and what is set together to play another.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Active {
    /// The kinds that can be played.
    pub kinds: Vec<String>,
    /// What a map is called: a template over its fields.
    pub name: Template,
    /// The fact that says what is played now.
    pub now: String,
    /// What is set for the map that is to be played.
    pub set: Vec<Wiring>,
}

/// The list of maps that are played in turn.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Rotation {
    /// The file in which it stands.
    pub file: String,
    /// Its format.
    pub format: Format,
    /// Where in it; absent for a list of lines.
    pub at: Option<String>,
    /// The column or field with the map's name.
    pub name: String,
    /// The column or field that says whether it is in; its choice has the same name.
    pub state: String,
    /// The choice behind the state.
    pub choice: String,
    /// What the state says of a map that is in, and of one that is out.
    #[serde(rename = "in")]
    pub is_in: String,
    /// What the state says of a map that is out.
    #[serde(rename = "out")]
    pub is_out: String,
    /// The column or field with how many turns it has, and the choice behind it.
    pub turns: Option<(String, String)>,
}

/// A setting that must be large enough for what is installed.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Bound {
    /// The settings file.
    pub file: String,
    /// Its format.
    pub format: Format,
    /// Which setting.
    pub at: String,
    /// The files that are measured; files whose patterns catch the same belong together.
    pub of: Vec<Pattern>,
    /// What is measured of them.
    #[serde(default)]
    pub measure: Measure,
    /// How many bytes one of the setting's units is.
    #[serde(default = "one")]
    pub unit: u64,
    /// What the server takes when nothing is set.
    pub otherwise: Option<u64>,
    /// The most the server allows.
    pub most: Option<u64>,
    /// What happens when it is too small, as the end of a sentence that begins with what is too large.
    pub why: String,
    /// When it counts.
    pub when: Option<When>,
}

fn one() -> u64 {
    1
}

/// What is measured of files.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Measure {
    /// The size of the largest.
    #[default]
    Largest,
    /// Their sizes together.
    Sum,
    /// How many they are (the unit does not count).
    Count,
}

/// A setting that only a person can enter, in somebody's web panel.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Hand {
    /// Its name: wirings write to `hand:NAME`.
    pub name: String,
    /// Where a person finds it, as the rest of a sentence that begins with "enter it".
    #[serde(rename = "where")]
    pub place: String,
}

/// A folder beside the server's own.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Root {
    /// What it is, for people.
    pub title: String,
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
    /// It must be started once more before it is as it should be.
    Again,
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

    /// Whether a rule asks for the server's files besides those of items: bounds, fields told late, conditions.
    pub fn looks_at_files(&self) -> bool {
        let asks = |w: &Option<When>| w.as_ref().is_some_and(|w| w.there.is_some() || w.missing.is_some());
        let of_kind = |k: &Kind| {
            k.late_fields().next().is_some()
                || k.wire.iter().any(|w| asks(&w.when))
                || k.place.iter().any(|p| asks(&p.when))
                || k.derive.iter().any(|d| asks(&d.when))
        };
        let rules = &self.rules;
        !rules.bound.is_empty()
            || rules.kind.values().any(of_kind)
            || rules.default.iter().any(|w| asks(&w.when))
            || rules.active.iter().flat_map(|a| &a.set).any(|w| asks(&w.when))
    }

    /// Whether the server or the administrator owns the file at `path`; trusted keys are the administrator's.
    pub fn owns(&self, path: &str) -> bool {
        let seals = self.rules.kind.values().filter_map(|k| k.seal.as_ref());
        let key = seals.map(|s| s.trusted.glob()).any(|pattern| fast_glob::glob_match(pattern, path));
        key || self.rules.own.iter().any(|pattern| fast_glob::glob_match(pattern, path))
    }

    /// Returns every command that the family would have run, as it would be typed.
    pub fn commands(&self) -> Vec<String> {
        let start = self.rules.start.iter().map(|s| s.command.join(" "));
        let derive = self.rules.kind.values().flat_map(|k| &k.derive).filter(|d| !d.command.is_empty());
        let words = |d: &Derive| d.command.iter().map(Template::as_str).collect::<Vec<_>>().join(" ");
        start.chain(derive.map(words)).collect()
    }

    /// Returns a kind's title, or the word itself when the family has no such kind.
    pub fn kind_title<'a>(&'a self, kind: &'a str) -> &'a str {
        self.rules.kind.get(kind).map_or(kind, |k| k.title.as_str())
    }
}
