//! The kinds of items a family takes: what they are made of, and where they go.

use std::collections::BTreeMap;

use serde::Deserialize;

use super::{Pattern, Template, When, Wiring};
use crate::container::{self, Layout};
use crate::settings::Format;
use crate::version::Scheme;

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

/// Who fetches an item.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FetchedBy {
    /// This program.
    #[default]
    Us,
    /// The server itself, when it starts: nothing is placed, and some fields are known only then.
    Server,
}

/// Whether players need an item, too.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Players {
    /// They never hear of it.
    #[default]
    No,
    /// They may have it.
    May,
    /// They cannot join without it.
    Need,
    /// The server sends it to them.
    Sent,
}

/// A kind of item.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Kind {
    /// Its role.
    pub role: Role,
    /// Its name for people, singular.
    pub title: String,
    /// The one real file, by name, or by path where the pattern has a slash.
    pub file: Option<Pattern>,
    /// Files that the item's folder has; the folder that has them all is the item.
    #[serde(default)]
    pub holds: Vec<Pattern>,
    /// Files that the item's folder must not have: what has them is of another kind.
    #[serde(default)]
    pub lacks: Vec<Pattern>,
    /// What is told to somebody who gives a download with this in it, which is not for servers: a template over what
    /// its manifest says.
    pub refuse: Option<Template>,
    /// Who fetches it.
    #[serde(default)]
    pub fetched_by: FetchedBy,
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
    /// Whether players need it, too.
    #[serde(default)]
    pub players: Players,
    /// Where the item's own manifest is and what it says.
    #[serde(default)]
    pub manifest: Manifest,
    /// Further fields of the item, by name.
    #[serde(default)]
    pub field: BTreeMap<String, Field>,
    /// What of one item is placed and wired each by itself.
    pub entry: Option<EntryRule>,
    /// Fields that the administrator chooses.
    #[serde(default)]
    pub choice: BTreeMap<String, Choice>,
    /// Who signed it, and where trusted keys are kept.
    pub seal: Option<Seal>,
    /// Which files go where.
    #[serde(default)]
    pub place: Vec<Placing>,
    /// The files that its own list sends to their places.
    pub bring: Option<Bring>,
    /// What its install script would fetch.
    pub fetch: Option<Fetch>,
    /// What goes before it comes, where somebody wants a clean slate for it.
    pub clean_slate: Option<CleanSlate>,
    /// Why a server takes one item of this kind only.
    pub only: Option<String>,
    /// What makes the server load it.
    #[serde(default)]
    pub wire: Vec<Wiring>,
    /// Files that are made of files of several items.
    #[serde(default)]
    pub derive: Vec<Derive>,
}

impl Kind {
    /// Returns the fields that are a number of the item's own, with the pattern that catches those that are taken.
    pub fn free_fields(&self) -> impl Iterator<Item = (&str, &Pattern)> {
        self.field.iter().filter_map(|(name, f)| Some((name.as_str(), f.free.as_ref()?)))
    }

    /// Returns the patterns of the files that the item's folder has, for a kind without one real file.
    pub fn marks(&self) -> Vec<&Pattern> {
        let mut out: Vec<&Pattern> = self.holds.iter().collect();
        let manifest = self.manifest.inside.as_ref().filter(|m| self.file.is_none() && !self.holds.contains(m));
        out.extend(manifest);
        out
    }

    /// Returns the fields that are known only once the server has fetched or made something.
    pub fn late_fields(&self) -> impl Iterator<Item = (&str, &Pattern)> {
        self.field.iter().filter_map(|(name, f)| Some((name.as_str(), f.server.as_ref()?)))
    }
}

/// Where the item's own manifest is and where in it what is found.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct Manifest {
    /// The manifest's path inside the item.
    pub inside: Option<Pattern>,
    /// The manifest beside the one real file.
    pub beside: Option<Template>,
    /// Its format.
    pub format: Option<Format>,
    /// What the name of the real file, or of the item's folder, says: fields `id`, `version`, `title`.
    pub name: Option<Pattern>,
    /// Where the id stands.
    pub id: Option<String>,
    /// Where the version stands.
    pub version: Option<String>,
    /// Where the title stands.
    pub title: Option<String>,
    /// Where the range of game versions stands.
    pub game: Option<String>,
    /// Where the cores it fits are listed.
    pub cores: Option<String>,
    /// Where the least runtime stands.
    pub runtime: Option<String>,
    /// Where it says who needs it: `server`, `both` or `players`.
    pub side: Option<String>,
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

impl Manifest {
    /// Whether the one real file is the manifest itself.
    pub fn is_real(&self) -> bool {
        self.inside.as_ref().is_some_and(|p| p.as_str() == "real")
    }
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
    /// In objects: the key whose `true` says that it need not be there.
    pub optional: Option<String>,
    /// In texts: the sign behind an id that says that it need not be there.
    pub mark: Option<String>,
    /// In texts: what parts several of them in one.
    pub between: Option<String>,
    /// What a version without a sign before it means.
    #[serde(default)]
    pub bare: Bare,
}

/// What a version without a sign before it means as a range.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Bare {
    /// Exactly that one.
    #[default]
    Exact,
    /// That one or a newer one.
    Least,
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

impl std::fmt::Display for Shape {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Shape::Map => "map",
            Shape::Texts => "texts",
            Shape::Objects => "objects",
        })
    }
}

/// A further field of an item.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Field {
    /// A pattern over the item's files that catches the field.
    pub path: Option<Pattern>,
    /// A file of the item in which it stands.
    pub inside: Option<Pattern>,
    /// That file's format.
    pub format: Option<Format>,
    /// Where in that file.
    #[serde(default)]
    pub at: String,
    /// A pattern over the server's files that catches the field, once the server has made them.
    pub server: Option<Pattern>,
    /// A pattern over the server's files that catches numbers: the item gets the least that none of them has, and keeps it.
    pub free: Option<Pattern>,
    /// What it is where nothing says.
    pub default: Option<Template>,
}

/// What of one item is placed and wired each by itself.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct EntryRule {
    /// A pattern over the item's files: each that fits is an entry, with what the fields caught.
    pub path: Pattern,
    /// Its name: what the roster's `take` and `maps` call it.
    pub name: Template,
}

/// A field that the administrator chooses.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Choice {
    /// What it means, for people.
    pub title: String,
    /// What it is unless somebody chose.
    pub default: String,
    /// The values it takes; any when empty.
    #[serde(default)]
    pub values: Vec<String>,
    /// The least number.
    pub least: Option<i64>,
    /// The largest number.
    pub most: Option<i64>,
}

impl Choice {
    /// Returns why a value cannot be chosen.
    pub fn refuse(&self, value: &str) -> Option<String> {
        if !self.values.is_empty() && !self.values.iter().any(|v| v == value) {
            let hint = crate::text::did_you_mean(value, self.values.iter().map(String::as_str));
            return Some(format!("is one of {}{hint}", crate::text::listed(&self.values)));
        }
        let number = value.parse::<i64>().ok();
        match (self.least, self.most) {
            (None, None) => None,
            (Some(l), _) if number.is_none_or(|n| n < l) => Some(format!("is a number, {l} or more")),
            (_, Some(m)) if number.is_none_or(|n| n > m) => Some(format!("is a number, {m} or less")),
            _ => None,
        }
    }
}

/// Who signed an item's files (ed25519), and where trusted keys are kept.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Seal {
    /// The file of signatures, in the item's folder.
    pub file: String,
    /// Its format.
    pub format: Format,
    /// Where the signer's public key stands.
    pub key: String,
    /// Where the signatures stand: a map of path to signature.
    pub signatures: String,
    /// How keys and signatures are written.
    #[serde(default)]
    pub coding: Coding,
    /// Which files must be signed.
    pub of: Pattern,
    /// How many hexadecimal digits of the SHA-256 of the key are its fingerprint.
    #[serde(default = "all_digits")]
    pub digits: usize,
    /// Where a trusted key is kept: a template over `{signer}`, its fingerprint.
    pub trusted: Template,
    /// What that file holds: a template over `{key}` and `{signer}`.
    pub content: Template,
}

fn all_digits() -> usize {
    64
}

/// How bytes are written as text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Coding {
    /// Hexadecimal digits.
    #[default]
    Hex,
    /// Base 64 with padding.
    Base64,
}

/// Which files of an item go where.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Placing {
    /// `real` for the one real file, else a pattern over the item's files.
    pub take: Pattern,
    /// Where it goes.
    pub to: Template,
    /// Whether it is a settings file: the administrator's once it is there, and a new version's default is merged
    /// into it.
    #[serde(default)]
    pub settings: bool,
    /// Whether it is the administrator's once it is there: a new version's is put beside.
    #[serde(default)]
    pub once: bool,
    /// Whether an item without it is refused.
    #[serde(default)]
    pub needed: bool,
    /// Whether later rules may take the same files, too.
    #[serde(default)]
    pub copy: bool,
    /// Whether it lies over a stock file that the server's own updater puts back.
    #[serde(default)]
    pub layer: bool,
    /// When it counts.
    pub when: Option<When>,
}

impl Placing {
    /// Whether it takes the one real file.
    pub fn takes_real(&self) -> bool {
        self.take.as_str() == "real"
    }
}

/// Files that a bundle's own list sends to their places.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Bring {
    /// Where in the manifest the map of file to place stands.
    pub at: String,
    /// Glob patterns of the places that it may name.
    pub within: Vec<String>,
    /// Glob patterns of those that are the administrator's once they are there.
    #[serde(default)]
    pub once: Vec<String>,
}

/// What a bundle's install script would fetch: we do, and run nothing. Either `pattern` finds it in the lines of a text,
/// or `format` and `at` say where a list of it stands.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Fetch {
    /// The file of the item in which it stands.
    pub inside: Pattern,
    /// A regular expression over its lines, with the groups `link`, `sha256` and `to`.
    pub pattern: Option<String>,
    /// That file's format, where it is no plain text.
    pub format: Option<Format>,
    /// Where in it the list of objects stands.
    #[serde(default)]
    pub at: String,
    /// Where in each object the link stands.
    #[serde(default = "link_key")]
    pub link: String,
    /// Where in each object the SHA-256 of the file stands.
    #[serde(default = "sha256_key")]
    pub sha256: String,
    /// Where in each object the place on the server stands.
    #[serde(default = "to_key")]
    pub to: String,
    /// Glob patterns of the places that it may name.
    pub within: Vec<String>,
    /// Glob patterns of those that are the administrator's once they are there.
    #[serde(default)]
    pub once: Vec<String>,
}

fn link_key() -> String {
    "link".to_owned()
}

fn sha256_key() -> String {
    "sha256".to_owned()
}

fn to_key() -> String {
    "to".to_owned()
}

/// What of a server goes when an item comes onto a clean slate.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct CleanSlate {
    /// Glob patterns of the files that go.
    pub clears: Vec<String>,
    /// Glob patterns of those that stay all the same.
    #[serde(default)]
    pub keeps: Vec<String>,
}

impl CleanSlate {
    /// Whether a file of the server goes.
    pub fn takes(&self, path: &str) -> bool {
        let any = |patterns: &[String]| patterns.iter().any(|p| crate::text::glob(p, path));
        any(&self.clears) && !any(&self.keeps)
    }
}

/// A container with one entry per item, made of that item's file.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Derive {
    /// The container.
    pub file: Template,
    /// What it is.
    pub format: Container,
    /// The entry's name.
    pub entry: Template,
    /// Which of the item's files the entry is made of.
    pub take: Pattern,
    /// Where the entry's digest is written, in the container.
    pub digest: Option<DigestOf>,
    /// How its records lie.
    pub layout: Option<Layout>,
    /// The program that makes it, and its arguments: templates over `{entries}`, `{base}` and `{made}`.
    #[serde(default)]
    pub command: Vec<Template>,
    /// When it counts.
    pub when: Option<When>,
}

/// What a container is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Container {
    /// A zip.
    Zip,
    /// A tar.
    Tar,
    /// Records in a layout of its own.
    Records,
    /// Whatever a program makes of all entries.
    Command,
}

impl Derive {
    /// Whether it takes the one real file.
    pub fn takes_real(&self) -> bool {
        self.take.as_str() == "real"
    }

    /// Returns how the container is made up; `None` where the layout is missing.
    pub fn shape(&self) -> Option<container::Shape> {
        Some(match self.format {
            Container::Zip => container::Shape::Zip,
            Container::Tar => container::Shape::Tar,
            Container::Records => container::Shape::Records(self.layout.clone()?),
            Container::Command => container::Shape::Command,
        })
    }
}

/// Where an entry's digest is written.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct DigestOf {
    /// The file in the container that lists them.
    pub entry: String,
    /// Its format.
    pub format: Format,
    /// Where in it.
    pub at: Template,
    /// What is written, over `{sha256}`.
    pub value: Template,
}
