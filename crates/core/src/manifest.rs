//! What an item says of itself: its manifest read in the shapes a family names, its fields, its entries.

mod bring;
mod kind;

use std::collections::BTreeMap;

use thiserror::Error;

pub use bring::{From as SentFrom, Sent};
pub use kind::{Real, refused, tell_kind, top_folder};

use crate::facts::{Need, Provided, Side, Target, VersionFacts};
use crate::family::{Bare, Caught, Field, Kind, Listing, Pattern, Shape};
use crate::id::{Digest, ItemId};
use crate::settings::{Document, Format, Path, Value};
use crate::text::clean;
use crate::version::{Range, Version};

/// What the version of an item begins with whose manifest says none: the digest of its bytes follows.
pub const BY_DIGEST: &str = "of-";

/// A file inside an archive.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Member {
    /// Its path in the archive.
    pub path: String,
    /// Its size in bytes, unpacked.
    pub bytes: u64,
    /// The digest of its content.
    pub sha256: Digest,
}

/// What a fetched file is, once opened.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Look {
    /// The file's own name.
    pub name: String,
    /// The digest of its bytes.
    pub sha256: Digest,
    /// Its size in bytes.
    pub bytes: u64,
    /// Its members; `None` when it is no archive.
    pub members: Option<Vec<Member>>,
}

/// Why a download cannot be taken as an item.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum ManifestError {
    /// No kind of the family looks like this.
    #[error("`{name}` is nothing that {family} takes: expected {expected}")]
    NoKind {
        /// The download.
        name: String,
        /// The game.
        family: String,
        /// What would have been taken.
        expected: String,
    },
    /// It is a web page under a file's name.
    #[error("`{0}` is a web page, not the file itself; look on that page for the direct link")]
    Page(String),
    /// Two kinds, or two files, look like this.
    #[error("`{name}` could be {fits}; {fix}")]
    Doubtful {
        /// The download.
        name: String,
        /// What it could be, with the reason for each.
        fits: String,
        /// What decides it.
        fix: String,
    },
    /// It is not for servers.
    #[error("`{name}` {why}")]
    NotHere {
        /// The download.
        name: String,
        /// What it is, and where the server's is found.
        why: String,
    },
    /// The manifest is not there.
    #[error("`{name}` has no `{inside}`, so nobody can say what it is; it may be cut, or not a {kind} at all")]
    Absent {
        /// The download.
        name: String,
        /// The manifest's path.
        inside: String,
        /// The kind it looked like.
        kind: String,
    },
    /// The manifest cannot be read or lacks something.
    #[error("`{inside}` in `{name}` {why}")]
    Unreadable {
        /// The download.
        name: String,
        /// The manifest's path.
        inside: String,
        /// What is wrong.
        why: String,
    },
}

/// An item as its manifest tells it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// Its id.
    pub id: ItemId,
    /// Whether it says its id itself; else the file's name was taken.
    pub says_id: bool,
    /// Whether it says its version itself; else it is known by its digest.
    pub says_version: bool,
    /// Its title.
    pub title: String,
    /// Its version and what that needs.
    pub facts: VersionFacts,
    /// Its further fields.
    pub fields: BTreeMap<String, String>,
    /// The files that its own list sends to their places, and what its script would fetch.
    pub sent: Vec<Sent>,
    /// Its entries.
    pub entries: Vec<Caught>,
}

/// Returns a file of the item, by its path in the archive.
pub type Reader<'a> = dyn Fn(&str) -> Option<Vec<u8>> + 'a;

/// Reads everything an item says of itself. `members` are the files of the item (of the archive that the real file
/// is, or of the download), and `read` gives their bytes, and those of the download itself by the empty path.
///
/// # Errors
/// [`ManifestError::Absent`] or [`ManifestError::Unreadable`], with the line or the key at fault.
pub fn read(
    kind: &Kind,
    look: &Look,
    real: &Real,
    members: &[Member],
    read: &Reader<'_>,
) -> Result<Found, ManifestError> {
    let name = real.name(look);
    let stem = stem(&name);
    let folder = real.folder_in(members);
    let itself = kind.manifest.is_real().then(|| match real {
        Real::Inside(member) => member.path.clone(),
        _ => String::new(),
    });
    let bytes = match itself.or_else(|| manifest_path(kind, &folder, stem, members)) {
        Some(path) => {
            let shown =
                if path.is_empty() { name.clone() } else { path.get(folder.len()..).unwrap_or(&path).to_owned() };
            let absent = || ManifestError::Absent {
                name: clean(&look.name, 80),
                inside: shown.clone(),
                kind: kind.title.clone(),
            };
            Some((read(&path).ok_or_else(absent)?, shown.clone()))
        }
        None => match (&kind.manifest.inside, &kind.manifest.beside) {
            (Some(inside), _) => {
                return Err(ManifestError::Absent {
                    name: clean(&look.name, 80),
                    inside: inside.to_string(),
                    kind: kind.title.clone(),
                });
            }
            _ => None,
        },
    };
    let manifest = match (&bytes, kind.manifest.format) {
        (Some((bytes, shown)), Some(format)) => {
            let inside = shown.clone();
            let fail = |why: String| ManifestError::Unreadable { name: clean(&look.name, 80), inside, why };
            Some((Reading::of(format, bytes).map_err(fail)?, shown.clone()))
        }
        _ => None,
    };
    let mut found = said(kind, look, stem, manifest.as_ref())?;
    found.sent = bring::sent(kind, look, &folder, members, manifest.as_ref(), read)?;
    found.entries = entries(kind, &folder, members);
    found.fields = fields(kind, look, &folder, members, read)?;
    Ok(found)
}

/// Returns a name without its last extension.
pub fn stem(name: &str) -> &str {
    name.rsplit_once('.').map_or(name, |(stem, _)| stem)
}

/// Returns the manifest's path among the members; `None` when it is not there.
fn manifest_path(kind: &Kind, folder: &str, stem: &str, members: &[Member]) -> Option<String> {
    let rules = &kind.manifest;
    let beside = rules.beside.as_ref().and_then(|t| t.fill(|f| (f == "stem").then(|| stem.into())));
    let fits =
        |path: &str| rules.inside.as_ref().is_some_and(|p| p.fits(path)) || beside.as_ref().is_some_and(|b| b == path);
    members.iter().find(|m| m.path.strip_prefix(folder).is_some_and(fits)).map(|m| m.path.clone())
}

/// Reads the manifest and what the name says.
fn said(kind: &Kind, look: &Look, stem: &str, manifest: Option<&(Reading, String)>) -> Result<Found, ManifestError> {
    let rules = &kind.manifest;
    let inside = manifest.map_or_else(|| look.name.clone(), |(_, shown)| shown.clone());
    let fail = |why: String| ManifestError::Unreadable { name: clean(&look.name, 80), inside: inside.clone(), why };
    let value = manifest.map(|(reading, _)| reading);
    let named = rules.name.as_ref().and_then(|p| p.catch(stem)).unwrap_or_default();
    let get = |at: &str| value.and_then(|v| v.at(at));
    let text = |at: &str| get(at).and_then(|v| v.text());
    let must = |at: &Option<String>, name: &str| -> Result<Option<String>, ManifestError> {
        match (at, value) {
            (Some(at), Some(_)) => {
                let found = text(at).filter(|t| !t.is_empty());
                found.map(Some).ok_or_else(|| fail(format!("does not say its `{at}`")))
            }
            _ => Ok(named.get(name).cloned()),
        }
    };
    let range = |text: &str| Range::parse(text).map_err(|e| fail(format!("is wrong: {e}")));
    let said_id = must(&rules.id, "id")?;
    let says_id = said_id.is_some();
    let id = ItemId::new(&said_id.unwrap_or_else(|| plain_id(stem))).map_err(|e| fail(format!("is wrong: {e}")))?;
    let said_version = must(&rules.version, "version")?;
    let says_version = said_version.is_some();
    let ids = |at: &Option<String>| -> Result<Vec<ItemId>, ManifestError> {
        let texts = at.as_ref().and_then(|at| get(at)).map(|v| v.texts()).unwrap_or_default();
        texts.iter().map(|t| ItemId::new(t).map_err(|e| fail(format!("is wrong: {e}")))).collect()
    };
    let targets = |listing: &Option<Listing>, optional: bool| -> Result<Vec<Target>, ManifestError> {
        let Some(listing) = listing else { return Ok(Vec::new()) };
        let Some(found) = get(&listing.at) else { return Ok(Vec::new()) };
        let pairs = pairs(listing, &found).ok_or_else(|| {
            fail(format!("writes `{}` in another shape than the family says ({})", listing.at, listing.shape))
        })?;
        let target = |pair: &Listed| {
            let id = ItemId::new(&pair.id).map_err(|e| fail(format!("is wrong: {e}")))?;
            Ok(Target { id, range: range(&pair.range)? })
        };
        pairs.iter().filter(|p| p.optional == optional).map(target).collect()
    };
    // one that says none is known by its bytes
    let version = said_version.unwrap_or_else(|| format!("{BY_DIGEST}{}", look.sha256.short()));
    let mut facts = VersionFacts::bare(&version);
    if let Some(game) = rules.game.as_deref().and_then(text) {
        facts.games = range(&game)?;
    }
    facts.cores = rules.cores.as_ref().and_then(|at| get(at)).map(|v| v.texts()).unwrap_or_default();
    facts.runtime =
        rules.runtime.as_deref().and_then(text).map(|t| Version::new(t.trim_start_matches(['>', '=', ' '])));
    facts.capabilities = kind.needs_capability.iter().cloned().collect();
    facts.side = match rules.side.as_deref().and_then(text).as_deref() {
        Some("players") => Side::Players,
        Some("both") => Side::Both,
        _ => Side::Server,
    };
    facts.needs = targets(&rules.needs, false)?.into_iter().map(Need::One).collect();
    facts.welcomes = targets(&rules.welcomes, false)?;
    facts.welcomes.extend(targets(&rules.needs, true)?);
    facts.clashes = targets(&rules.clashes, false)?;
    facts.provides =
        targets(&rules.provides, false)?.into_iter().map(|t| Provided { id: t.id, version: None }).collect();
    facts.replaces = targets(&rules.replaces, false)?;
    facts.after = ids(&rules.after)?;
    facts.before = ids(&rules.before)?;
    let title = rules.title.as_deref().and_then(text).or_else(|| named.get("title").cloned());
    let title = clean(&title.unwrap_or_else(|| id.to_string()), 80);
    let (fields, sent, entries) = (BTreeMap::new(), Vec::new(), Vec::new());
    Ok(Found { id, says_id, says_version, title, facts, fields, sent, entries })
}

/// Returns a name as an id: letters, digits, dots, dashes and underscores.
pub fn plain_id(name: &str) -> String {
    let plain = |c: char| if c.is_ascii_alphanumeric() || "._-".contains(c) { c } else { '-' };
    name.trim().chars().map(plain).collect::<String>().trim_matches(['.', '-']).to_owned()
}

/// A file's values, reached by the paths of `docs/paths.md`; patterns over text, too.
struct Reading {
    value: Value,
    document: Option<std::cell::RefCell<Document>>,
}

impl Reading {
    fn of(format: Format, bytes: &[u8]) -> Result<Self, String> {
        let unread = |e: crate::settings::SettingsError| format!("cannot be read: {e}");
        let document = match format {
            Format::Text | Format::Columns | Format::Lines => {
                Some(std::cell::RefCell::new(Document::parse(format, bytes).map_err(unread)?))
            }
            _ => None,
        };
        Ok(Self { value: Value::read(format, bytes).map_err(unread)?, document })
    }

    fn at(&self, at: &str) -> Option<Value> {
        if let Some(document) = &self.document {
            let path = Path::parse(at).ok()?;
            return document.borrow_mut().get(&path).ok().flatten().map(|s| s.value);
        }
        self.value.at(at).cloned()
    }
}

/// Returns what a fact or a field reads in a file; nothing where it cannot be read.
pub fn value_at(format: Format, bytes: &[u8], at: &str) -> Option<Value> {
    Reading::of(format, bytes).ok()?.at(at)
}

fn entries(kind: &Kind, folder: &str, members: &[Member]) -> Vec<Caught> {
    let Some(rule) = &kind.entry else { return Vec::new() };
    let mut out: Vec<Caught> = members.iter().filter_map(|m| rule.path.catch(m.path.strip_prefix(folder)?)).collect();
    out.dedup();
    out
}

/// The further fields that the item's own files tell.
fn fields(
    kind: &Kind,
    look: &Look,
    folder: &str,
    members: &[Member],
    read: &Reader<'_>,
) -> Result<BTreeMap<String, String>, ManifestError> {
    let mut out = BTreeMap::new();
    let below = || members.iter().filter_map(|m| Some((m, m.path.strip_prefix(folder)?)));
    for (name, field) in &kind.field {
        let Field { path, inside, format, at, .. } = field;
        if let Some(pattern) = path {
            let caught = below().find_map(|(_, p)| pattern.catch(p)).and_then(|c| c.get(name).cloned());
            out.extend(caught.map(|v| (name.clone(), v)));
        }
        if let (Some(inside), Some(format)) = (inside, format) {
            let Some((member, shown)) = below().find(|(_, p)| inside.fits(p)) else { continue };
            let bytes = read(&member.path).unwrap_or_default();
            let fail =
                |why: String| ManifestError::Unreadable { name: clean(&look.name, 80), inside: clean(shown, 120), why };
            let value = Reading::of(*format, &bytes).map_err(&fail)?.at(at).and_then(|v| v.text());
            match (value, &field.default) {
                (Some(value), _) => {
                    out.insert(name.clone(), value);
                }
                (None, Some(_)) => {}
                (None, None) => return Err(fail(format!("does not say its `{at}`"))),
            }
        }
    }
    Ok(out)
}

struct Listed {
    id: String,
    range: String,
    optional: bool,
}

/// Returns the items of a list in the shape the family names; `None` when it is in another.
fn pairs(listing: &Listing, value: &Value) -> Option<Vec<Listed>> {
    let least = |text: String| match listing.bare == Bare::Least && text.starts_with(|c: char| c.is_ascii_digit()) {
        true if !text.contains([' ', ',', '*']) => format!(">={text}"),
        _ => text,
    };
    let range = |v: Option<&Value>| match v {
        None | Some(Value::Null) => Some("*".to_owned()),
        Some(other) => other.text().map(least),
    };
    // one alone need not stand in a list: XML has no other way to write it
    let one = [value.clone()];
    let items: &[Value] = match value {
        Value::List(items) => items,
        Value::Map(_) | Value::Text(_) if listing.shape != Shape::Map => &one,
        _ => &[],
    };
    match (listing.shape, value) {
        (_, Value::Null) => Some(Vec::new()),
        (Shape::Map, Value::Map(map)) => {
            map.iter().map(|(id, r)| Some(Listed { id: id.clone(), range: range(Some(r))?, optional: false })).collect()
        }
        (Shape::Texts, Value::List(_) | Value::Text(_)) => items
            .iter()
            .filter_map(Value::text)
            .flat_map(|text| match &listing.between {
                Some(between) => text.split(between.as_str()).map(|t| t.trim().to_owned()).collect(),
                None => vec![text.trim().to_owned()],
            })
            .filter(|text| !text.is_empty())
            .map(|text| {
                let end = text.find(|c: char| c.is_whitespace() || "<>=^~@".contains(c)).unwrap_or(text.len());
                let (id, rest) = text.split_at(end);
                let bare = listing.mark.as_ref().and_then(|m| id.strip_suffix(m.as_str()));
                let range = least(rest.trim().trim_start_matches('@').to_owned());
                Some(Listed { id: bare.unwrap_or(id).to_owned(), range, optional: bare.is_some() })
            })
            .collect(),
        (Shape::Objects, Value::List(_) | Value::Map(_)) => items
            .iter()
            .map(|i| {
                let flag = listing.optional.as_ref().and_then(|key| i.at(key)).and_then(Value::text);
                Some(Listed {
                    id: i.at(&listing.id)?.text()?,
                    range: range(i.at(&listing.range))?,
                    optional: flag.as_deref() == Some("true"),
                })
            })
            .collect(),
        _ => None,
    }
}

/// Returns the files of the server that tell a field, with what they caught, where they agree with what is known.
pub fn late<'a>(
    pattern: &'a Pattern,
    known: &'a dyn Fn(&str) -> Option<String>,
    files: impl Iterator<Item = &'a str> + 'a,
) -> impl Iterator<Item = Caught> + 'a {
    files
        .filter_map(|path| pattern.catch(path))
        .filter(move |caught| caught.iter().all(|(k, v)| known(k).is_none_or(|known| known == *v)))
}

/// What the catalogue and the archive say differently of one version, in words; empty when they agree.
pub fn disagreement(catalogue: &VersionFacts, manifest: &VersionFacts) -> Vec<String> {
    let mut out = Vec::new();
    if catalogue.version != manifest.version {
        out.push(format!("version {} and {}", catalogue.version, manifest.version));
    }
    let needs = |f: &VersionFacts| f.needs.iter().map(ToString::to_string).collect::<Vec<_>>();
    let (listed_needs, real) = (needs(catalogue), needs(manifest));
    for extra in real.iter().filter(|n| !listed_needs.contains(n)) {
        out.push(format!("the archive needs {extra}"));
    }
    out
}
