//! Containers: zip, tar, and records in a layout that a family says. Entries are read, replaced, added and taken out;
//! the others stay byte for byte as they are packed.

mod records;
mod tar;
mod zip;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

pub use records::{Layout, Number, Part};

/// An entry is unpacked into memory; more than this is refused (bytes).
const MOST_ENTRY: u64 = 64_000_000;

/// How a container is made up.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Shape {
    /// A zip.
    #[default]
    Zip,
    /// A tar.
    Tar,
    /// Records, one after the other.
    Records(Layout),
    /// A program makes it of all entries; nobody else reads it.
    Command,
}

impl Shape {
    /// Whether it is a zip.
    pub fn is_zip(&self) -> bool {
        *self == Shape::Zip
    }

    /// Returns an entry's bytes; `None` when the container has no such entry.
    ///
    /// # Errors
    /// What is wrong with the container, in words.
    pub fn member(&self, container: &[u8], name: &str) -> Result<Option<Vec<u8>>, String> {
        match self {
            Shape::Zip => zip::member(container, name),
            Shape::Tar => tar::member(container, name),
            Shape::Records(layout) => records::member(layout, container, name),
            Shape::Command => Ok(None),
        }
    }

    /// Returns the container with these entries replaced or added, and those taken out; its own bytes where that
    /// changes nothing.
    ///
    /// # Errors
    /// What is wrong with the container, or with an entry's name, in words.
    pub fn write(
        &self,
        now: Option<&[u8]>,
        files: BTreeMap<String, Vec<u8>>,
        gone: &[String],
    ) -> Result<Vec<u8>, String> {
        let (mut changes, mut left) = (now.is_none(), BTreeMap::new());
        for (name, bytes) in files {
            let same = now.map(|n| self.member(n, &name)).transpose()?.flatten().as_ref() == Some(&bytes);
            changes |= !same;
            if !same {
                left.insert(name, bytes);
            }
        }
        for name in gone {
            changes |= now.map(|n| self.member(n, name)).transpose()?.flatten().is_some();
        }
        match (now, self) {
            (Some(now), _) if !changes => Ok(now.to_vec()),
            (_, Shape::Zip) => zip::write(now, left, gone),
            (_, Shape::Tar) => tar::write(now, left, gone),
            (_, Shape::Records(layout)) => records::write(layout, now, left, gone),
            (_, Shape::Command) => Err("only its program can make it".to_owned()),
        }
    }
}

/// What an entry too large to be read is told as.
fn too_large(name: &str) -> String {
    format!("its `{name}` is larger than {}", crate::text::bytes(MOST_ENTRY))
}

#[cfg(test)]
mod tests;
