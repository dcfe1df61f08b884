//! What an item says of itself: its kind told from a listing, its manifest read in the shapes a family names.

use thiserror::Error;

use crate::facts::{Need, Provided, Target, VersionFacts};
use crate::family::{Family, Kind, Listing, Shape};
use crate::id::{Digest, ItemId};
use crate::settings::Value;
use crate::text::{clean, listed};
use crate::version::{Range, Version};

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

/// The one real file of a download.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Real {
    /// The download itself: the file, or the whole archive.
    Itself,
    /// A file inside it.
    Inside(Member),
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
    /// Two kinds, or two files, look like this.
    #[error("`{name}` could be {fits}; give the one file you mean by itself")]
    Doubtful {
        /// The download.
        name: String,
        /// What it could be.
        fits: String,
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
    /// Its title.
    pub title: String,
    /// Its version and what that needs.
    pub facts: VersionFacts,
}

/// Returns the length of the needless top folder all members share (with its slash), 0 when there is none.
pub fn top_folder(members: &[Member]) -> usize {
    let Some(folder) = members.first().and_then(|m| m.path.split_once('/')).map(|(top, _)| top.len() + 1) else {
        return 0;
    };
    let same = |m: &Member| members.first().is_some_and(|f| m.path.get(..folder) == f.path.get(..folder));
    if members.iter().all(same) { folder } else { 0 }
}

/// Tells which kind a download is, and which of its files is the real one.
///
/// # Errors
/// [`ManifestError::NoKind`] or [`ManifestError::Doubtful`]: nothing is guessed.
pub fn tell_kind<'f>(family: &'f Family, look: &Look) -> Result<(&'f str, Real), ManifestError> {
    let mut fits: Vec<(&str, Real)> = Vec::new();
    for (word, kind) in &family.rules.kind {
        match (&kind.file, &look.members) {
            (Some(pattern), _) if fast_glob::glob_match(pattern, &look.name) => {
                // the file as such leaves no doubt
                return Ok((word, Real::Itself));
            }
            (Some(pattern), Some(members)) => {
                let name = |m: &Member| m.path.rsplit('/').next().unwrap_or("").to_owned();
                let real = members.iter().filter(|m| fast_glob::glob_match(pattern, name(m)));
                fits.extend(real.map(|m| (word.as_str(), Real::Inside(m.clone()))));
            }
            (None, Some(members)) => {
                let top = top_folder(members);
                if members.iter().any(|m| m.path.get(top..) == Some(kind.manifest.inside.as_str())) {
                    fits.push((word, Real::Itself));
                }
            }
            _ => {}
        }
    }
    if fits.len() > 1 {
        let fits = fits.iter().map(|(word, real)| match real {
            Real::Itself => format!("a {}", family.kind_title(word)),
            Real::Inside(m) => format!("the {} `{}`", family.kind_title(word), clean(&m.path, 80)),
        });
        return Err(ManifestError::Doubtful {
            name: clean(&look.name, 80),
            fits: fits.collect::<Vec<_>>().join(" or "),
        });
    }
    fits.pop().ok_or_else(|| {
        let expected = family.rules.kind.values().map(|k| match &k.file {
            Some(pattern) => format!("a {} (`{pattern}`, or an archive with one)", k.title),
            None => format!("a {} (an archive with `{}`)", k.title, k.manifest.inside),
        });
        ManifestError::NoKind {
            name: clean(&look.name, 80),
            family: family.rules.title.clone(),
            expected: listed(&expected.collect::<Vec<_>>()),
        }
    })
}

/// Returns the manifest's path inside the real file's members, hoisted; `None` when it is not there.
pub fn manifest_path(kind: &Kind, members: &[Member]) -> Option<String> {
    let top = top_folder(members);
    let found =
        |m: &&Member| m.path == kind.manifest.inside || m.path.get(top..) == Some(kind.manifest.inside.as_str());
    members.iter().find(found).map(|m| m.path.clone())
}

/// Reads a manifest. `name` is the download's name, for messages.
///
/// # Errors
/// [`ManifestError::Unreadable`], with the line or the key at fault.
pub fn read(kind: &Kind, name: &str, bytes: &[u8]) -> Result<Found, ManifestError> {
    let rules = &kind.manifest;
    let fail = |why: String| ManifestError::Unreadable { name: clean(name, 80), inside: rules.inside.clone(), why };
    let value = Value::read(rules.format, bytes).map_err(|e| fail(format!("cannot be read: {e}")))?;
    let text = |at: &str| value.at(at).and_then(Value::text);
    let must = |at: &str| text(at).filter(|t| !t.is_empty()).ok_or_else(|| fail(format!("does not say its `{at}`")));
    let range = |text: &str| Range::parse(text).map_err(|e| fail(format!("is wrong: {e}")));
    let id = ItemId::new(&must(&rules.id)?).map_err(|e| fail(format!("is wrong: {e}")))?;
    let ids = |at: &Option<String>| -> Result<Vec<ItemId>, ManifestError> {
        let texts = at.as_ref().and_then(|at| value.at(at)).map(Value::texts).unwrap_or_default();
        texts.iter().map(|t| ItemId::new(t).map_err(|e| fail(format!("is wrong: {e}")))).collect()
    };
    let targets = |listing: &Option<Listing>| -> Result<Vec<Target>, ManifestError> {
        let Some(listing) = listing else { return Ok(Vec::new()) };
        let Some(found) = value.at(&listing.at) else { return Ok(Vec::new()) };
        let pairs = pairs(listing, found)
            .ok_or_else(|| fail(format!("writes `{}` in another shape than the family says", listing.at)))?;
        let target = |(id, text): &(String, String)| {
            let id = ItemId::new(id).map_err(|e| fail(format!("is wrong: {e}")))?;
            Ok(Target { id, range: range(text)? })
        };
        pairs.iter().map(target).collect()
    };
    let mut facts = VersionFacts::bare(&must(&rules.version)?);
    if let Some(game) = rules.game.as_deref().and_then(text) {
        facts.games = range(&game)?;
    }
    facts.cores = rules.cores.as_ref().and_then(|at| value.at(at)).map(Value::texts).unwrap_or_default();
    facts.runtime =
        rules.runtime.as_deref().and_then(text).map(|t| Version::new(t.trim_start_matches(['>', '=', ' '])));
    facts.capabilities = kind.needs_capability.iter().cloned().collect();
    facts.needs = targets(&rules.needs)?.into_iter().map(Need::One).collect();
    facts.welcomes = targets(&rules.welcomes)?;
    facts.clashes = targets(&rules.clashes)?;
    facts.provides = targets(&rules.provides)?.into_iter().map(|t| Provided { id: t.id, version: None }).collect();
    facts.replaces = targets(&rules.replaces)?;
    facts.after = ids(&rules.after)?;
    facts.before = ids(&rules.before)?;
    let title = rules.title.as_deref().and_then(text).unwrap_or_else(|| id.to_string());
    Ok(Found { id, title: clean(&title, 80), facts })
}

/// Returns (id, range) pairs of a list in the shape the family names; `None` when it is in another.
fn pairs(listing: &Listing, value: &Value) -> Option<Vec<(String, String)>> {
    let range = |v: Option<&Value>| match v {
        None | Some(Value::Null) => Some("*".to_owned()),
        Some(other) => other.text(),
    };
    match (listing.shape, value) {
        (_, Value::Null) => Some(Vec::new()),
        (Shape::Map, Value::Map(map)) => map.iter().map(|(id, r)| Some((id.clone(), range(Some(r))?))).collect(),
        (Shape::Texts, Value::List(items)) => items
            .iter()
            .map(|item| {
                let text = item.text()?;
                let text = text.trim();
                let end = text.find(|c: char| c.is_whitespace() || "<>=^~@".contains(c)).unwrap_or(text.len());
                let (id, rest) = text.split_at(end);
                Some((id.to_owned(), rest.trim().trim_start_matches('@').to_owned()))
            })
            .collect(),
        (Shape::Objects, Value::List(items)) => {
            items.iter().map(|i| Some((i.at(&listing.id)?.text()?, range(i.at(&listing.range))?))).collect()
        }
        _ => None,
    }
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
