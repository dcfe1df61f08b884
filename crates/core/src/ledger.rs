//! What is on the server now (`docs/ledger-format.md`): a small head per generation, immutable file lists per
//! item, one small file per history entry.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::derive::Derived;
use crate::facts::VersionFacts;
use crate::id::{Digest, ItemId, ServerPath};
use crate::roster::Origin;
use crate::slot::Slot;

/// The head: everything but the long lists.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Ledger {
    /// Rises by one with every change of the server; 0 is a server nothing was done to.
    pub generation: u64,
    /// The family's name.
    pub family: String,
    /// The digest of the roster's bytes as they were settled.
    pub roster: Option<Digest>,
    /// The items.
    pub items: BTreeMap<ItemId, Held>,
    /// The load order.
    pub order: Vec<ItemId>,
    /// The settings and lists that are claimed.
    pub slots: Vec<Slot>,
    /// Settings files that we made.
    #[serde(default)]
    pub made: BTreeSet<ServerPath>,
    /// Folders that we made, which go when nothing is left in them.
    #[serde(default)]
    pub folders: BTreeSet<ServerPath>,
    /// What stood where a file of ours stands now, by digest.
    #[serde(default)]
    pub bases: BTreeMap<ServerPath, Digest>,
    /// The number of the terms that a person accepted through us.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub terms: Option<String>,
    /// Containers that are made of files of several items.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub derived: Vec<Derived>,
}

/// An item on the server.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Held {
    /// Its kind's word.
    pub kind: String,
    /// Its name for people.
    pub title: String,
    /// Its version and what that needs.
    pub facts: VersionFacts,
    /// Where it came from.
    pub from: HeldFrom,
    /// The digest of what was fetched.
    pub download: Digest,
    /// The name of what was fetched.
    pub download_name: String,
    /// The name of its real file.
    pub name: String,
    /// The digest of its file list, which is the list's name.
    pub files: Digest,
    /// Its catalogue number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub number: Option<String>,
    /// Its further fields.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub fields: BTreeMap<String, String>,
    /// Its entries, each with fields of its own.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub entries: Vec<BTreeMap<String, String>>,
    /// The fingerprint of who signed it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signer: Option<String>,
}

/// Where an item on the server came from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum HeldFrom {
    /// A catalogue, by its address.
    Catalogue(String),
    /// A file, a link, or the server itself when it was adopted.
    Origin(Origin),
}

/// A row of an item's file list.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FileRow {
    /// Where it stands.
    pub path: ServerPath,
    /// The digest of its bytes.
    pub sha256: Digest,
    /// Its size in bytes.
    pub bytes: u64,
    /// Whether it is a settings file: the administrator's once it is there; the digest is the shipped default's.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub settings: bool,
    /// Whether it is the administrator's once it is there, and is never merged.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub once: bool,
    /// Whether it lies over a stock file that the server's own updater puts back.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub layer: bool,
}

impl FileRow {
    /// Whether it comes and goes as it is: no settings file that is merged.
    pub fn is_plain(&self) -> bool {
        !self.settings || self.once
    }
}

/// What a command did, as one entry of the history.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Entry {
    /// The format's number: 1.
    pub format: u32,
    /// Its number, which is the generation it made.
    pub number: u64,
    /// When, RFC 3339 in UTC.
    pub when: String,
    /// What was done.
    pub act: Act,
    /// The generation before.
    pub from: u64,
    /// The roster's bytes before and after, by digest.
    pub roster: (Option<Digest>, Option<Digest>),
    /// Who did it, as people know them.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub who: String,
    /// The items whose version changed: before and after, `None` for absent.
    pub items: Vec<(ItemId, Option<String>, Option<String>)>,
    /// Why each of them changed: `wanted`, `needed by chest-locks`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub why: Vec<(ItemId, String)>,
    /// The files that changed: before and after, by digest.
    pub files: Vec<(ServerPath, Option<Digest>, Option<Digest>)>,
}

/// What a history entry did.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Act {
    /// The server was taken under care.
    Adopt,
    /// The server was made to match the roster.
    Settle,
    /// The terms with this number were accepted.
    AcceptTerms(String),
    /// Settings in these files were tuned.
    Tune(Vec<ServerPath>),
    /// The server went back to what it was before this entry.
    Undo(u64),
    /// This entry was taken back, and the later ones stayed.
    TakeBack(u64),
}

impl Act {
    /// Returns the command's word.
    pub fn word(&self) -> &'static str {
        match self {
            Act::Adopt => "adopt",
            Act::Settle => "settle",
            Act::AcceptTerms(_) => "terms",
            Act::Tune(_) => "tune",
            Act::Undo(_) | Act::TakeBack(_) => "undo",
        }
    }
}

/// A ledger file that cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum LedgerError {
    /// A newer program wrote it.
    #[error("the ledger's format is {0}, and this program knows 1; use the program that wrote it, or a newer one")]
    Newer(u32),
    /// Its bytes are not what was written.
    #[error("the ledger's file is damaged: {0}")]
    Damaged(String),
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Envelope {
    format: u32,
    check: Digest,
    ledger: Ledger,
}

impl Ledger {
    /// Returns the head's bytes: the ledger with a digest over itself, so that half a file is known as such.
    ///
    /// # Errors
    /// [`LedgerError::Damaged`] when it cannot be written as JSON (it always can).
    pub fn render(&self) -> Result<Vec<u8>, LedgerError> {
        let envelope = Envelope { format: 1, check: self.check()?, ledger: self.clone() };
        serde_json::to_vec_pretty(&envelope).map_err(|e| LedgerError::Damaged(e.to_string()))
    }

    /// Reads a head.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn parse(bytes: &[u8]) -> Result<Self, LedgerError> {
        #[derive(Deserialize)]
        struct Only {
            format: u32,
        }
        let damaged = |e: serde_json::Error| LedgerError::Damaged(crate::text::clean(&e.to_string(), 160));
        let only: Only = serde_json::from_slice(bytes).map_err(damaged)?;
        if only.format != 1 {
            return Err(LedgerError::Newer(only.format));
        }
        let envelope: Envelope = serde_json::from_slice(bytes).map_err(damaged)?;
        if envelope.ledger.check()? != envelope.check {
            return Err(LedgerError::Damaged("its digest is another".to_owned()));
        }
        Ok(envelope.ledger)
    }

    fn check(&self) -> Result<Digest, LedgerError> {
        serde_json::to_vec(self).map(|b| Digest::of(&b)).map_err(|e| LedgerError::Damaged(e.to_string()))
    }
}

/// Returns a file list's bytes and their digest, which names it.
///
/// # Errors
/// [`LedgerError::Damaged`] when it cannot be written as JSON (it always can).
pub fn render_rows(rows: &[FileRow]) -> Result<(Digest, Vec<u8>), LedgerError> {
    let mut rows = rows.to_vec();
    rows.sort();
    let bytes = serde_json::to_vec(&rows).map_err(|e| LedgerError::Damaged(e.to_string()))?;
    Ok((Digest::of(&bytes), bytes))
}

/// Reads a file list and checks that it is the one named.
///
/// # Errors
/// [`LedgerError::Damaged`].
pub fn parse_rows(digest: &Digest, bytes: &[u8]) -> Result<Vec<FileRow>, LedgerError> {
    if Digest::of(bytes) != *digest {
        return Err(LedgerError::Damaged(format!("file list {} has another digest", digest.short())));
    }
    serde_json::from_slice(bytes).map_err(|e| LedgerError::Damaged(crate::text::clean(&e.to_string(), 160)))
}
