//! What is known of an item's versions, whoever said it: a catalogue, a manifest inside an archive, or the ledger.

use std::borrow::Cow;
use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::id::{Digest, ItemId};
use crate::version::{Range, Scheme, Version};

/// An item and a range of its versions.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Target {
    /// The item's id, or an id that some item provides.
    pub id: ItemId,
    /// Which versions; all when absent.
    #[serde(default, skip_serializing_if = "Range::is_any")]
    pub range: Range,
}

impl std::fmt::Display for Target {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        if self.range.is_any() { write!(f, "{}", self.id) } else { write!(f, "{} {}", self.id, self.range) }
    }
}

/// A need: one of these targets must be there. Written as a target, or as `{ "any": [targets] }`.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(untagged, deny_unknown_fields)]
pub enum Need {
    /// Exactly this.
    One(Target),
    /// Any of these; the first named is preferred.
    Any {
        /// The alternatives.
        any: Vec<Target>,
    },
}

impl Need {
    /// Returns the alternatives, one or more.
    pub fn targets(&self) -> &[Target] {
        match self {
            Need::One(target) => std::slice::from_ref(target),
            Need::Any { any } => any,
        }
    }
}

impl std::fmt::Display for Need {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let all: Vec<String> = self.targets().iter().map(ToString::to_string).collect();
        f.write_str(&all.join(" or "))
    }
}

/// An id that an item stands in for.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Provided {
    /// The id that is provided.
    pub id: ItemId,
    /// As which version; the item's own when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<Version>,
}

/// Who needs to have an item.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Side {
    /// Only the server.
    #[default]
    Server,
    /// Server and players.
    Both,
    /// Only players: it has no place on a server.
    Players,
}

/// A file of a version: what it should be and where it can be fetched.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FileFact {
    /// The file's own name.
    pub name: String,
    /// Its size in bytes.
    pub bytes: u64,
    /// Its SHA-256 digest.
    pub sha256: Digest,
    /// Its SHA-512 digest, 128 hexadecimal digits, where the catalogue knows it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sha512: Option<String>,
    /// What is packed in it, by name without folder, in bytes, where the catalogue knows it.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub holds: BTreeMap<String, u64>,
    /// Where it can be fetched, best first; relative addresses stand to the catalogue's own.
    pub addresses: Vec<String>,
}

/// One version of an item.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct VersionFacts {
    /// The version's text.
    pub version: Version,
    /// When it was published, `YYYY-MM-DD`.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub date: String,
    /// `stable` or `beta`.
    #[serde(default = "stable", skip_serializing_if = "is_stable")]
    pub channel: Cow<'static, str>,
    /// The game versions it fits.
    #[serde(default, skip_serializing_if = "Range::is_any")]
    pub games: Range,
    /// The cores it fits, by name; any when empty.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub cores: Vec<String>,
    /// The least runtime it runs on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub runtime: Option<Version>,
    /// What the core must be able to do.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub capabilities: Vec<String>,
    /// Who needs it.
    #[serde(default)]
    pub side: Side,
    /// What must be there with it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub needs: Vec<Need>,
    /// What it works with: need not be there, but if it is, then in this range.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub welcomes: Vec<Target>,
    /// What it wishes for: taken where that does no harm.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub wishes: Vec<Need>,
    /// What must not be there with it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub clashes: Vec<Target>,
    /// The ids it stands in for.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub provides: Vec<Provided>,
    /// Items it takes the place of: it satisfies needs of them and cannot stand beside them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub replaces: Vec<Target>,
    /// Items that must be read before it, if they are there.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub after: Vec<ItemId>,
    /// Items that must be read after it, if they are there.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub before: Vec<ItemId>,
    /// The fingerprints of the signers that may have signed it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub signers: Vec<String>,
    /// Fields of the item that a family asks for and that are known before it is opened.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub fields: BTreeMap<String, String>,
    /// What is new in it, in a few words.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub notes: String,
    /// Where more about it can be read.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub page: String,
    /// Its files.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub files: Vec<FileFact>,
}

fn stable() -> Cow<'static, str> {
    Cow::Borrowed("stable")
}

fn is_stable(channel: &str) -> bool {
    channel == "stable"
}

impl VersionFacts {
    /// Returns facts that say nothing but the version.
    pub fn bare(version: &str) -> Self {
        Self {
            version: Version::new(version),
            date: String::new(),
            channel: stable(),
            games: Range::any(),
            cores: Vec::new(),
            runtime: None,
            capabilities: Vec::new(),
            side: Side::Server,
            needs: Vec::new(),
            welcomes: Vec::new(),
            wishes: Vec::new(),
            clashes: Vec::new(),
            provides: Vec::new(),
            replaces: Vec::new(),
            after: Vec::new(),
            before: Vec::new(),
            signers: Vec::new(),
            fields: BTreeMap::new(),
            notes: String::new(),
            page: String::new(),
            files: Vec::new(),
        }
    }

    /// Returns why this version cannot run on `server`, or `None` when it can. Only what is known of the
    /// server is judged.
    pub fn misfit(&self, server: &ServerFacts, scheme: Scheme) -> Option<Misfit> {
        server.fit().misfit(self, scheme)
    }
}

/// What of a server decides whether a version runs on it, read once for many versions.
#[derive(Debug, Clone)]
pub struct Fit<'a> {
    game: Option<Version>,
    core: Option<&'a str>,
    runtime: Option<Version>,
    able: &'a [String],
}

impl Fit<'_> {
    /// Returns why a version cannot run there, or `None` when it can.
    pub fn misfit(&self, facts: &VersionFacts, scheme: Scheme) -> Option<Misfit> {
        if let Some(game) = &self.game
            && !facts.games.holds(game, scheme)
        {
            return Some(Misfit::Game { fits: facts.games.to_string(), have: game.to_string() });
        }
        if let Some(core) = self.core
            && !facts.cores.is_empty()
            && !facts.cores.iter().any(|c| c == core)
        {
            return Some(Misfit::Core { fits: facts.cores.clone(), have: core.to_owned() });
        }
        if let (Some(least), Some(have)) = (&facts.runtime, &self.runtime)
            && have.compare(least, Scheme::Plain).is_lt()
        {
            return Some(Misfit::Runtime { least: least.to_string(), have: have.to_string() });
        }
        if self.core.is_some()
            && let Some(lacks) = facts.capabilities.iter().find(|c| !self.able.contains(c))
        {
            return Some(Misfit::Capability { lacks: lacks.clone() });
        }
        (facts.side == Side::Players).then_some(Misfit::PlayersOnly)
    }
}

/// Why a version cannot run on this server.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Misfit {
    /// It fits other game versions.
    Game {
        /// The versions it fits.
        fits: String,
        /// The server's.
        have: String,
    },
    /// It fits other cores.
    Core {
        /// The cores it fits.
        fits: Vec<String>,
        /// The server's.
        have: String,
    },
    /// The runtime is too old.
    Runtime {
        /// The least it runs on.
        least: String,
        /// The server's.
        have: String,
    },
    /// The core cannot do something it needs.
    Capability {
        /// What the core lacks.
        lacks: String,
    },
    /// It is for players only.
    PlayersOnly,
    /// It is a beta and the roster takes stable versions.
    Beta,
}

impl std::fmt::Display for Misfit {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Misfit::Game { fits, have } => write!(f, "fits game {fits}, this server has {have}"),
            Misfit::Core { fits, have } => write!(f, "fits core {}, this server has {have}", crate::text::listed(fits)),
            Misfit::Runtime { least, have } => write!(f, "needs runtime {least}, this server has {have}"),
            Misfit::Capability { lacks } => write!(f, "needs a core that takes {lacks}, and this one does not"),
            Misfit::PlayersOnly => write!(f, "is for players only and has no place on a server"),
            Misfit::Beta => write!(f, "is a beta, and the roster takes stable versions"),
        }
    }
}

/// Everything known of an item.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ItemFacts {
    /// The format's number: 1.
    pub format: u32,
    /// The item's id.
    pub id: ItemId,
    /// The family it is for.
    pub family: String,
    /// Its kind, a word of that family.
    pub kind: String,
    /// Its name for people.
    #[serde(default)]
    pub title: String,
    /// One line of what it does.
    #[serde(default)]
    pub about: String,
    /// How its versions are put in order.
    #[serde(default)]
    pub scheme: Scheme,
    /// Other names it goes by.
    #[serde(default)]
    pub names: Vec<String>,
    /// Its catalogue number, as text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub number: Option<String>,
    /// Its versions, in any order.
    pub versions: Vec<VersionFacts>,
}

impl ItemFacts {
    /// Puts the versions in order, newest first.
    pub fn sort(&mut self) {
        let scheme = self.scheme;
        self.versions.sort_by(|a, b| {
            let dates = if scheme == Scheme::ByDate { b.date.cmp(&a.date) } else { std::cmp::Ordering::Equal };
            dates.then_with(|| b.version.total(&a.version, scheme))
        });
    }
}

/// What a family's rules read on the server: `game`, `core`, `runtime`, `capabilities` and others by name.
/// A fact that could not be read is absent.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(transparent)]
pub struct ServerFacts(pub BTreeMap<String, Vec<String>>);

impl ServerFacts {
    /// Returns what decides whether a version runs on it.
    pub fn fit(&self) -> Fit<'_> {
        Fit {
            game: self.get("game").map(Version::new),
            core: self.get("core"),
            runtime: self.get("runtime").map(Version::new),
            able: self.list("capabilities"),
        }
    }

    /// Returns the fact's first value.
    pub fn get(&self, name: &str) -> Option<&str> {
        self.0.get(name).and_then(|v| v.first()).map(String::as_str)
    }

    /// Returns all values of the fact.
    pub fn list(&self, name: &str) -> &[String] {
        self.0.get(name).map_or(&[], Vec::as_slice)
    }

    /// Sets a fact.
    pub fn set(&mut self, name: &str, values: Vec<String>) {
        self.0.insert(name.to_owned(), values);
    }
}
