//! The roster: what you want on one server. Edited by hand and by commands; comments and order are kept.

mod edit;
mod settings;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use thiserror::Error;

pub use edit::{made_like, merge_back, put_in, put_item, take_in, take_item};
pub use settings::{Tuned, What, put_setting, put_settings, take_setting};

use crate::id::{Digest, ItemId};
use crate::scene::Choices;
pub use crate::solve::Never;
use crate::text::{clean, did_you_mean, line_column};
use crate::version::Range;

/// A roster, read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Roster {
    /// The family's name.
    pub family: String,
    /// Where the server is: a folder, relative to the roster's, or the address of a rented host.
    pub at: String,
    /// How to get into that host.
    pub login: Login,
    /// The catalogues to ask, first one first: addresses or folders.
    pub catalogues: Vec<String>,
    /// Bounds on what comes from outside.
    pub limits: Limits,
    /// What is wanted, in the roster's order.
    pub wants: Vec<Want>,
    /// What is never to be taken.
    pub never: Vec<Never>,
    /// Where items stand in the load order, whatever their hints say.
    pub pins: Pins,
    /// What was tuned, in the roster's order.
    pub tuned: Vec<Tuned>,
    /// The map that is to be played.
    pub play: Option<String>,
    /// What was chosen for items: item, or `ITEM/ENTRY`, to field to value.
    pub choices: Choices,
    /// The signers that the administrator vouches for: fingerprint to a name.
    pub signers: BTreeMap<String, String>,
    /// Folders beside the server's own, by the family's name for them: relative to the roster's folder, or on the
    /// server's host.
    pub roots: BTreeMap<String, String>,
    /// What stands in settings that only a person can enter, by the family's name for them.
    pub hand: BTreeMap<String, String>,
}

/// How to get into a rented host, besides what this machine has anyway (an agent, keys, a password in the environment).
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Login {
    /// A private SSH key: a file, relative to the roster's folder.
    pub key: Option<String>,
    /// A file whose first line is the password, relative to the roster's folder.
    pub password_file: Option<String>,
    /// The most connections that are made at once (FTP).
    pub connections: Option<u8>,
}

/// Bounds on what comes from outside.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct Limits {
    /// How long a host may be silent, in seconds.
    pub silence_seconds: u64,
    /// The largest download, in megabytes (1,000,000 bytes).
    pub download_mb: u64,
    /// The most an archive may unpack to, in megabytes.
    pub unpacked_mb: u64,
    /// How long what was put aside can be brought back, in days.
    pub quarantine_days: u64,
    /// How much is kept to be brought back, in megabytes.
    pub quarantine_mb: u64,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            silence_seconds: 30,
            download_mb: 4_000,
            unpacked_mb: 20_000,
            quarantine_days: 90,
            quarantine_mb: 10_000,
        }
    }
}

/// What a line of `[items]` says that takes no version at all: `old-map-api = "never"`.
pub const NEVER: &str = "never";

/// A line of the roster's `[items]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Want {
    /// The item.
    pub id: ItemId,
    /// The versions it may have.
    pub range: Range,
    /// Whether beta versions may be taken.
    pub beta: bool,
    /// Where it comes from, when not from a catalogue.
    pub from: Option<Origin>,
    /// The kind it is to be taken as, where more than one fits.
    pub kind: Option<String>,
    /// The entries that are taken; all when absent.
    pub take: Option<Vec<String>>,
    /// Whether it stays at the version that is on the server, also when everything else is renewed.
    pub hold: bool,
    /// The catalogue that it is taken from, where several offer it.
    pub catalogue: Option<String>,
    /// A file whose first line is the password of its archive, relative to the roster's folder.
    pub password_file: Option<String>,
    /// The line in the roster, from 1.
    pub line: usize,
}

/// Where an item comes from when it is in no catalogue.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Origin {
    /// A file beside the roster.
    File {
        /// Its path, relative to the roster's folder.
        path: String,
        /// What it was when it was put on the roster.
        sha256: Digest,
    },
    /// A link.
    Link {
        /// The address.
        address: String,
        /// What came from it when it was put on the roster.
        sha256: Digest,
    },
    /// A catalogue number that no catalogue knows: the server fetches it itself.
    Number {
        /// The number.
        number: String,
        /// The digest of the number's text, since there are no bytes.
        sha256: Digest,
    },
    /// It was on the server when the server was adopted; its bytes are in the store.
    Here {
        /// Where on the server it was.
        path: String,
        /// The file's digest.
        sha256: Digest,
    },
}

impl Origin {
    /// Returns the digest of the bytes that are meant.
    pub fn sha256(&self) -> &Digest {
        match self {
            Origin::File { sha256, .. }
            | Origin::Link { sha256, .. }
            | Origin::Number { sha256, .. }
            | Origin::Here { sha256, .. } => sha256,
        }
    }
}

/// A roster (or another of our TOML files) that cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{why}")]
pub struct RosterError {
    /// What is wrong and what to write instead.
    pub why: String,
    /// Where: byte offset and length in the file.
    pub span: (usize, usize),
    /// The line, from 1.
    pub line: usize,
    /// The column, from 1.
    pub column: usize,
}

/// Where the administrator wants items in the load order (`[order]`).
#[derive(Debug, Clone, PartialEq, Eq, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct Pins {
    /// These come first, in this order.
    pub first: Vec<ItemId>,
    /// These come last, in this order.
    pub last: Vec<ItemId>,
    /// Each comes before those.
    pub before: BTreeMap<ItemId, Vec<ItemId>>,
    /// Each comes after those.
    pub after: BTreeMap<ItemId, Vec<ItemId>>,
    /// These stand in this order among each other.
    pub fixed: Vec<ItemId>,
}

impl Pins {
    /// Returns those of the pins that a list of all items holds.
    pub fn holding(&self, list: &[ItemId]) -> Self {
        let place = |id: &ItemId| list.iter().position(|o| o == id);
        let there = |ids: &[ItemId]| ids.iter().filter_map(place).collect::<Vec<usize>>();
        let first = there(&self.first).into_iter().eq(0..there(&self.first).len());
        let last = there(&self.last).into_iter().eq(list.len() - there(&self.last).len()..list.len());
        let when = |holds: bool, ids: &[ItemId]| if holds { ids.to_vec() } else { Vec::new() };
        // of each, those that do not stand on the wrong side
        let beside = |map: &BTreeMap<ItemId, Vec<ItemId>>, holds: fn(usize, usize) -> bool| {
            let one = |(id, all): (&ItemId, &Vec<ItemId>)| {
                let holds = |other: &&ItemId| place(id).zip(place(other)).is_none_or(|(one, other)| holds(one, other));
                (id.clone(), all.iter().filter(holds).cloned().collect::<Vec<_>>())
            };
            map.iter().map(one).filter(|(_, all)| !all.is_empty()).collect()
        };
        Self {
            first: when(first, &self.first),
            last: when(last, &self.last),
            before: beside(&self.before, |one, other| one < other),
            after: beside(&self.after, |one, other| one > other),
            fixed: when(there(&self.fixed).is_sorted(), &self.fixed),
        }
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Raw {
    format: u32,
    server: RawServer,
    #[serde(default)]
    catalogues: Vec<String>,
    #[serde(default)]
    limits: Limits,
    #[serde(default)]
    maps: RawMaps,
    #[serde(default)]
    order: Pins,
    #[serde(default)]
    choices: BTreeMap<String, BTreeMap<String, Chosen>>,
    #[serde(default)]
    signers: BTreeMap<String, String>,
    #[serde(default)]
    roots: BTreeMap<String, String>,
    #[serde(default)]
    hand: BTreeMap<String, String>,
    // Read from the document itself, where order and lines are known.
    #[serde(default, rename = "items")]
    _items: serde::de::IgnoredAny,
    #[serde(default, rename = "settings")]
    _settings: serde::de::IgnoredAny,
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
struct RawMaps {
    play: Option<String>,
}

/// What was chosen: a text, or a number as people write it.
#[derive(Deserialize)]
#[serde(untagged)]
enum Chosen {
    Text(String),
    Number(i64),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct RawServer {
    family: String,
    #[serde(default = "here")]
    at: String,
    key: Option<String>,
    password_file: Option<String>,
    connections: Option<u8>,
}

fn here() -> String {
    ".".to_owned()
}

struct RawWant {
    version: Option<Range>,
    beta: bool,
    file: Option<String>,
    link: Option<String>,
    here: Option<String>,
    number: Option<String>,
    sha256: Option<Digest>,
    kind: Option<String>,
    take: Option<Vec<String>>,
    password_file: Option<String>,
    hold: bool,
    never: Option<Range>,
    catalogue: Option<String>,
}

impl Roster {
    /// Reads a roster.
    ///
    /// # Errors
    /// The first thing that is wrong, with its line and the nearest right word.
    pub fn parse(text: &str) -> Result<Self, RosterError> {
        let raw: Raw = from_toml(text)?;
        if raw.format != 1 {
            let start = text.find("format").unwrap_or(0);
            return Err(error(text, (start, 6), format!("format is {}, and this program knows 1", raw.format)));
        }
        let document =
            toml_edit::Document::parse(text).map_err(|e| error(text, span_of(e.span()), clean(e.message(), 200)))?;
        let (mut wants, mut never) = (Vec::new(), Vec::new());
        if let Some(items) = document.as_table().get("items").and_then(|i| i.as_table_like()) {
            for (key, item) in items.iter() {
                let at = items.key(key).and_then(toml_edit::Key::span).or_else(|| item.span());
                let (want, refused) = want(text, key, item, span_of(at))?;
                wants.extend(want);
                never.extend(refused);
            }
        }
        let tuned = settings::read(text)?;
        let RawServer { family, at, key, password_file, connections } = raw.server;
        if connections == Some(0) {
            let start = text.find("connections").unwrap_or(0);
            return Err(error(text, (start, 11), "connections is 0; one at least is needed".to_owned()));
        }
        let login = Login { key, password_file, connections };
        let text_of = |c: Chosen| match c {
            Chosen::Text(text) => text,
            Chosen::Number(number) => number.to_string(),
        };
        let chosen = |(item, fields): (String, BTreeMap<String, Chosen>)| {
            (item, fields.into_iter().map(|(f, c)| (f, text_of(c))).collect())
        };
        Ok(Self {
            family,
            at,
            login,
            catalogues: raw.catalogues,
            limits: raw.limits,
            wants,
            never,
            pins: raw.order,
            tuned,
            play: raw.maps.play,
            choices: raw.choices.into_iter().map(chosen).collect(),
            signers: raw.signers,
            roots: raw.roots,
            hand: raw.hand,
        })
    }

    /// Returns the want of an item.
    pub fn want(&self, id: &ItemId) -> Option<&Want> {
        self.wants.iter().find(|w| w.id == *id)
    }
}

/// Reads a line of `[items]`: what is wanted, what is never to be taken, or both.
fn want(
    text: &str,
    key: &str,
    item: &toml_edit::Item,
    span: (usize, usize),
) -> Result<(Option<Want>, Option<Never>), RosterError> {
    let fail = |why: String| error(text, span, why);
    let id = ItemId::new(key).map_err(|e| fail(e.to_string()))?;
    let line = line_column(text, span.0).0;
    if let Some(range) = item.as_str() {
        if range == NEVER {
            return Ok((None, Some(Never { id, range: Range::any(), line })));
        }
        let range = Range::parse(range).map_err(|e| error(text, span_of(item.span()), e.to_string()))?;
        let (from, kind, take, password_file, catalogue) = (None, None, None, None, None);
        let want = Want { id, range, beta: false, from, kind, take, hold: false, catalogue, password_file, line };
        return Ok((Some(want), None));
    }
    let table = item.as_table_like().ok_or_else(|| {
        fail(format!("`{id}` must be a version range (`{id} = \"^2\"`) or a table (`{id} = {{ file = \"…\" }}`)"))
    })?;
    let known = [
        "version",
        "beta",
        "file",
        "link",
        "here",
        "number",
        "sha256",
        "kind",
        "take",
        "password-file",
        "hold",
        "never",
        "catalogue",
    ];
    if let Some((word, _)) = table.iter().find(|(k, _)| !known.contains(k)) {
        let hint = did_you_mean(word, known);
        return Err(fail(format!("`{id}` has `{}`, which is no word here{hint}", clean(word, 40))));
    }
    let raw: RawWant = read_table(table).map_err(&fail)?;
    let from = match (raw.number, raw.file, raw.link, raw.here) {
        (None, None, None, None) => None,
        (Some(number), None, None, None) => {
            let sha256 = Digest::of(number.as_bytes());
            Some(Origin::Number { number, sha256 })
        }
        (Some(_), ..) => return Err(fail(format!("`{id}` comes from one place: keep `number`, or the other one"))),
        (None, file, link, here) => {
            let sha256 = raw.sha256.ok_or_else(|| {
                fail(format!("`{id}` needs the `sha256` of what it comes from; let `want` write this line"))
            })?;
            match (file, link, here) {
                (Some(path), None, None) => Some(Origin::File { path, sha256 }),
                (None, Some(address), None) => Some(Origin::Link { address, sha256 }),
                (None, None, Some(path)) => Some(Origin::Here { path, sha256 }),
                _ => return Err(fail(format!("`{id}` comes from one place: keep one of `file`, `link` and `here`"))),
            }
        }
    };
    let never = raw.never.map(|range| Never { id: id.clone(), range, line });
    // a table that only says what is never to be taken wants nothing
    let only = never.is_some() && table.len() == 1;
    let range = raw.version.unwrap_or_default();
    let RawWant { beta, kind, take, password_file, hold, catalogue, .. } = raw;
    let want = Want { id, range, beta, from, kind, take, hold, catalogue, password_file, line };
    Ok(((!only).then_some(want), never))
}

fn read_table(table: &dyn toml_edit::TableLike) -> Result<RawWant, String> {
    let text = |key: &str| match table.get(key) {
        None => Ok(None),
        Some(item) => {
            item.as_str().map(|s| Some(s.to_owned())).ok_or_else(|| format!("`{key}` must be text in quotes"))
        }
    };
    let flag = |key: &str| match table.get(key) {
        None => Ok(false),
        Some(item) => item.as_bool().ok_or_else(|| format!("`{key}` must be true or false")),
    };
    Ok(RawWant {
        version: text("version")?.map(|t| Range::parse(&t)).transpose().map_err(|e| e.to_string())?,
        beta: flag("beta")?,
        file: text("file")?,
        link: text("link")?,
        here: text("here")?,
        number: text("number")?,
        kind: text("kind")?,
        hold: flag("hold")?,
        never: text("never")?.map(|t| Range::parse(&t)).transpose().map_err(|e| e.to_string())?,
        catalogue: text("catalogue")?,
        password_file: text("password-file")?,
        take: match table.get("take") {
            None => None,
            Some(item) => {
                let all = item.as_array().and_then(|a| a.iter().map(|v| Some(v.as_str()?.to_owned())).collect());
                Some(all.ok_or("`take` must be a list of names in quotes")?)
            }
        },
        sha256: text("sha256")?.map(|t| Digest::parse(&t)).transpose().map_err(|e| e.to_string())?,
    })
}

/// Reads one of our TOML files into a type that refuses unknown words; the error names line and nearest word.
pub(crate) fn from_toml<T: serde::de::DeserializeOwned>(text: &str) -> Result<T, RosterError> {
    toml_edit::de::from_str(text).map_err(|e| {
        let span = span_of(e.span());
        error(text, span, plain(e.message()))
    })
}

/// Turns serde's words into ours: an unknown field gets the nearest right one.
fn plain(message: &str) -> String {
    let quoted: Vec<&str> = message.split('`').skip(1).step_by(2).collect();
    match (message.starts_with("unknown field") || message.starts_with("unknown variant"), quoted.split_first()) {
        (true, Some((word, known))) => {
            let hint = did_you_mean(word, known.iter().copied());
            let hint = if hint.is_empty() { format!("; known here: {}", known.join(", ")) } else { hint };
            format!("`{}` is no word here{hint}", clean(word, 40))
        }
        _ => clean(message, 300),
    }
}

fn error(text: &str, span: (usize, usize), why: String) -> RosterError {
    let (line, column) = line_column(text, span.0);
    RosterError { why, span, line, column }
}

fn span_of(span: Option<std::ops::Range<usize>>) -> (usize, usize) {
    span.map_or((0, 0), |s| (s.start, s.len()))
}

#[cfg(test)]
mod tests;
