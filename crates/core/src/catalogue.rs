//! The catalogue format (`docs/catalogue-format.md`): small static JSON files below one address.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::facts::ItemFacts;
use crate::id::{Digest, ItemId};

/// The name of the root file.
pub const ROOT: &str = "catalogue.json";
/// No answer of a catalogue may be larger (bytes).
pub const MOST_BYTES: u64 = 16_000_000;

/// Why an answer of a catalogue was refused.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum CatalogueError {
    /// It is not what the format says.
    #[error("`{file}` is not in the catalogue format: {why}")]
    Format {
        /// The file below the catalogue's address.
        file: String,
        /// What is wrong, with line and column.
        why: String,
    },
    /// Its bytes are not those that the root vouches for.
    #[error("`{file}` is not the file that {ROOT} names: its sha256 is {got}, not {wanted}")]
    Digest {
        /// The file below the catalogue's address.
        file: String,
        /// What came.
        got: String,
        /// What the root says.
        wanted: String,
    },
}

/// The sharded indexes a catalogue has.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Index {
    /// Item id → digest of `items/ID.json`.
    Items,
    /// Provided id → item ids.
    Provides,
    /// Replaced id → item ids.
    Replaces,
    /// Catalogue number → item ids.
    Numbers,
    /// SHA-256 of a file → item ids.
    Files,
    /// Word of an id, other name or title → item ids.
    Words,
}

impl Index {
    /// Returns the index's name, which is also its folder.
    pub fn name(self) -> &'static str {
        match self {
            Index::Items => "items",
            Index::Provides => "provides",
            Index::Replaces => "replaces",
            Index::Numbers => "numbers",
            Index::Files => "files",
            Index::Words => "words",
        }
    }
}

/// The root: names a generation and, through the shards' digests, everything.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Root {
    /// The format's number: 1.
    pub format: u32,
    /// The catalogue's name for people.
    pub name: String,
    /// Rises by one with every change.
    pub generation: u64,
    /// The families whose items it has.
    #[serde(default)]
    pub families: Vec<String>,
    /// The shapes of its page links: an address with `{number}` where the item's number stands.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub pages: Vec<String>,
    /// The family files it carries: name to the digest of `families/NAME.family.toml`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub carries: BTreeMap<String, Digest>,
    /// How many hexadecimal digits of a key's SHA-256 name its shard: 0 to 4.
    pub shard_digits: usize,
    /// Index → shard → digest of `index/INDEX/SHARD.json`. A shard that is not named is empty.
    pub index: BTreeMap<Index, BTreeMap<String, Digest>>,
}

impl Root {
    /// Reads a root.
    ///
    /// # Errors
    /// [`CatalogueError::Format`].
    pub fn parse(bytes: &[u8]) -> Result<Self, CatalogueError> {
        let root: Root = read(ROOT, bytes)?;
        let fail = |why: &str| CatalogueError::Format { file: ROOT.to_owned(), why: why.to_owned() };
        if root.format != 1 {
            return Err(fail(&format!("format is {}, and this program knows 1", root.format)));
        }
        if root.shard_digits > 4 {
            return Err(fail("`shard_digits` is at most 4"));
        }
        Ok(root)
    }

    /// Returns the number that a page link carries; `None` when it is no link to a page of this catalogue.
    pub fn number_in(&self, link: &str) -> Option<String> {
        let bare = link.trim_end_matches('/');
        self.pages.iter().find_map(|shape| {
            let (before, after) = shape.trim_end_matches('/').split_once("{number}")?;
            let rest = bare.strip_prefix(before)?;
            let digits = rest.find(|c: char| !c.is_ascii_digit()).unwrap_or(rest.len());
            let (number, behind) = rest.split_at(digits);
            let ends = behind == after || (after.is_empty() && behind.starts_with(['?', '#', '/', '-']));
            (!number.is_empty() && number.len() <= 20 && ends).then(|| number.to_owned())
        })
    }

    /// Returns the shard of `index` that would hold `key`: its file and digest; `None` when that shard is empty.
    pub fn shard(&self, index: Index, key: &str) -> Option<(String, &Digest)> {
        let digest = Digest::of(key.as_bytes());
        let shard = digest.hex().get(..self.shard_digits).filter(|s| !s.is_empty()).unwrap_or("all");
        let wanted = self.index.get(&index)?.get(shard)?;
        Some((shard_file(index, shard), wanted))
    }
}

/// Returns the file of a shard below the catalogue's address.
pub fn shard_file(index: Index, shard: &str) -> String {
    format!("index/{}/{shard}.json", index.name())
}

/// Returns the file of an item below the catalogue's address.
pub fn item_file(id: &ItemId) -> String {
    format!("items/{id}.json")
}

/// Reads a shard of the items index: id → digest of its file.
///
/// # Errors
/// [`CatalogueError::Format`].
pub fn parse_items_shard(file: &str, bytes: &[u8]) -> Result<BTreeMap<ItemId, Digest>, CatalogueError> {
    read(file, bytes)
}

/// Reads a shard of any other index: key → item ids.
///
/// # Errors
/// [`CatalogueError::Format`].
pub fn parse_shard(file: &str, bytes: &[u8]) -> Result<BTreeMap<String, Vec<ItemId>>, CatalogueError> {
    read(file, bytes)
}

/// Reads an item's file, newest version first.
///
/// # Errors
/// [`CatalogueError::Format`], also when it speaks of another item.
pub fn parse_item(id: &ItemId, bytes: &[u8]) -> Result<ItemFacts, CatalogueError> {
    let file = item_file(id);
    let mut item: ItemFacts = read(&file, bytes)?;
    let fail = |why: String| CatalogueError::Format { file: file.clone(), why };
    if item.format != 1 {
        return Err(fail(format!("format is {}, and this program knows 1", item.format)));
    }
    if item.id != *id {
        return Err(fail(format!("it speaks of `{}`", item.id)));
    }
    item.sort();
    Ok(item)
}

fn read<T: serde::de::DeserializeOwned>(file: &str, bytes: &[u8]) -> Result<T, CatalogueError> {
    serde_json::from_slice(bytes)
        .map_err(|e| CatalogueError::Format { file: file.to_owned(), why: crate::text::clean(&e.to_string(), 200) })
}

/// Returns the words by which an item is found, lower case: of its id, other names and title.
pub fn words(text: &str) -> Vec<String> {
    text.split(|c: char| !c.is_alphanumeric()).filter(|w| w.len() > 1).map(str::to_lowercase).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_root_from_a_stranger_is_read_strictly() {
        let good = br#"{"format":1,"name":"Club","generation":3,"shard_digits":1,"index":{"items":{"a":"ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"}}}"#;
        assert_eq!(Root::parse(good).unwrap().generation, 3);
        for bad in [
            &b"<html>"[..],
            b"{}",
            br#"{"format":2,"name":"x","generation":1,"shard_digits":1,"index":{}}"#,
            br#"{"format":1,"name":"x","generation":1,"shard_digits":9,"index":{}}"#,
            br#"{"format":1,"name":"x","generation":1,"shard_digits":1,"index":{},"more":1}"#,
            br#"{"format":1,"name":"x","generation":1,"shard_digits":1,"index":{"items":{"a":"zz"}}}"#,
        ] {
            assert!(Root::parse(bad).is_err(), "{}", String::from_utf8_lossy(bad));
        }
    }

    #[test]
    fn an_item_must_speak_of_itself() {
        let id = ItemId::new("a").unwrap();
        let text = |id: &str| {
            format!(
                r#"{{"format":1,"id":"{id}","family":"f","kind":"k","versions":[{{"version":"1"}},{{"version":"2"}}]}}"#
            )
        };
        let item = parse_item(&id, text("a").as_bytes()).unwrap();
        assert_eq!(item.versions[0].version.as_str(), "2", "newest first");
        assert!(parse_item(&id, text("b").as_bytes()).unwrap_err().to_string().contains("speaks of `b`"));
    }
}
