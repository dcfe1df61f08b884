//! Containers with one entry per item, made of that item's file: an entry is a claim like any other.
//!
//! Entries that are not ours stay as they are packed, byte for byte. When no claim is left and nobody else changed the
//! container, what stood there before us comes back as it was.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::container::Shape;
use crate::id::{Digest, ItemId, ServerPath};
use crate::settings::{Document, Format, Path};
use crate::text::clean;

/// Where an entry's digest stands in the container.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Written {
    /// The file in the container.
    pub entry: String,
    /// Its format.
    pub format: Format,
    /// Where in it.
    pub at: String,
    /// What stands there.
    pub value: String,
}

/// What an item wants of a container.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct EntryClaim {
    /// The item.
    pub owner: ItemId,
    /// The entry's name.
    pub entry: String,
    /// The digest of its bytes.
    pub sha256: Digest,
    /// Where that is written down.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub written: Option<Written>,
}

/// A container as the ledger keeps it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Derived {
    /// The container.
    pub path: ServerPath,
    /// How it is made up.
    #[serde(default, skip_serializing_if = "Shape::is_zip")]
    pub shape: Shape,
    /// What stood there before us, whose bytes are kept; `None` for nothing.
    pub base: Option<Digest>,
    /// What we made of it.
    pub made: Digest,
    /// The entries that are ours.
    pub claims: Vec<EntryClaim>,
    /// Whether somebody else changed it since it was as before us.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub hand: bool,
}

impl Derived {
    /// Whether somebody else changed the container, by its bytes now.
    pub fn changed(&self, now: Option<&[u8]>) -> bool {
        self.hand || now.is_some_and(|n| Digest::of(n) != self.made)
    }
}

/// A container that cannot be edited.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum DeriveError {
    /// It cannot be read.
    #[error("{path} cannot be read as a container: {why}; put a good copy of it there, then settle again")]
    Broken {
        /// The container.
        path: ServerPath,
        /// What is wrong.
        why: String,
    },
    /// The program that makes it did not.
    #[error("{path} could not be made: {why}")]
    Unmade {
        /// The container.
        path: ServerPath,
        /// Why not.
        why: String,
    },
    /// Two items want one entry.
    #[error("{a} and {b} both make `{entry}` in {path}; drop one of them")]
    Twice {
        /// The container.
        path: ServerPath,
        /// The entry.
        entry: String,
        /// The first.
        a: ItemId,
        /// The second.
        b: ItemId,
    },
}

/// What is known of one container.
#[derive(Debug, Clone, Copy)]
pub struct Known<'a> {
    /// How it is made up.
    pub shape: &'a Shape,
    /// As the ledger has it.
    pub old: Option<&'a Derived>,
    /// Its bytes now.
    pub now: Option<&'a [u8]>,
    /// Its bytes before us.
    pub base: Option<&'a [u8]>,
}

/// Returns the container's bytes as they must be (`None` for no file) for these claims, whose bytes `made` gives.
///
/// # Errors
/// [`DeriveError`]; nothing changes then.
pub fn derive(
    path: &ServerPath,
    known: Known<'_>,
    claims: &[EntryClaim],
    made: &dyn Fn(&EntryClaim) -> Option<Vec<u8>>,
) -> Result<Option<Vec<u8>>, DeriveError> {
    let mut by_entry: BTreeMap<&str, &EntryClaim> = BTreeMap::new();
    for claim in claims {
        if let Some(other) =
            by_entry.insert(&claim.entry, claim).filter(|o| o.owner != claim.owner || o.sha256 != claim.sha256)
        {
            let (a, b) = (other.owner.clone(), claim.owner.clone());
            return Err(DeriveError::Twice { path: path.clone(), entry: clean(&claim.entry, 80), a, b });
        }
    }
    let ours = known.old.map(|o| o.claims.as_slice()).unwrap_or_default();
    if claims.is_empty() && known.old.is_some_and(|o| !o.changed(known.now)) {
        return Ok(known.base.map(<[u8]>::to_vec));
    }
    let broken = |why: String| DeriveError::Broken { path: path.clone(), why: clean(&why, 160) };
    let member = |container: &[u8], entry: &str| known.shape.member(container, entry);
    let (mut files, mut gone) = (BTreeMap::new(), Vec::new());
    for claim in claims {
        let bytes = made(claim).ok_or_else(|| broken(format!("what `{}` is made of is not at hand", claim.entry)))?;
        files.insert(claim.entry.clone(), bytes);
    }
    let mut digests: BTreeMap<String, (Format, Vec<u8>)> = BTreeMap::new();
    let mut listed = |entry: &str, format: Format| -> Result<Vec<u8>, DeriveError> {
        if let Some((_, bytes)) = digests.get(entry) {
            return Ok(bytes.clone());
        }
        let bytes = known.now.map(|n| member(n, entry)).transpose().map_err(&broken)?.flatten();
        let bytes = bytes.unwrap_or_else(|| if format == Format::Json { b"{}\n".to_vec() } else { Vec::new() });
        digests.insert(entry.to_owned(), (format, bytes.clone()));
        Ok(bytes)
    };
    // ours that go: what stood there before us comes back
    let mut edits: Vec<(Written, Option<String>)> = Vec::new();
    for old in ours.iter().filter(|o| !by_entry.contains_key(o.entry.as_str())) {
        match known.base.map(|b| member(b, &old.entry)).transpose().map_err(&broken)?.flatten() {
            Some(bytes) => {
                files.insert(old.entry.clone(), bytes);
            }
            None => gone.push(old.entry.clone()),
        }
        if let Some(written) = &old.written {
            let base = known.base.map(|b| member(b, &written.entry)).transpose().map_err(&broken)?.flatten();
            let value = base.and_then(|b| crate::manifest::value_at(written.format, &b, &written.at));
            edits.push((written.clone(), value.and_then(|v| v.text())));
        }
    }
    edits.extend(claims.iter().filter_map(|c| c.written.clone()).map(|w| (w.clone(), Some(w.value))));
    let mut texts: BTreeMap<String, Vec<u8>> = BTreeMap::new();
    for (written, value) in edits {
        let bytes = match texts.get(&written.entry) {
            Some(bytes) => bytes.clone(),
            None => listed(&written.entry, written.format)?,
        };
        let mut document = Document::parse(written.format, &bytes).map_err(|e| broken(e.to_string()))?;
        let at = Path::parse(&written.at).map_err(|e| broken(e.to_string()))?;
        let done = match value {
            Some(value) => document.set(&at, crate::settings::Value::Text(value), None),
            None => document.remove(&at),
        };
        done.map_err(|e| broken(e.to_string()))?;
        texts.insert(written.entry.clone(), document.render());
    }
    files.extend(texts);
    known.shape.write(known.now, files, &gone).map(Some).map_err(broken)
}
