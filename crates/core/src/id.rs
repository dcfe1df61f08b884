//! Names parsed once at the border: items, digests, paths on a server.

use std::fmt;
use std::sync::Arc;

use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};
use thiserror::Error;

/// Why a name was refused.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum IdError {
    /// An item id is 1 to 128 letters, digits, `.`, `_`, `-` and begins with a letter or digit.
    #[error("`{0}` is no item id: use letters, digits, `.`, `_` and `-`, beginning with a letter or digit")]
    Item(String),
    /// A digest is 64 hexadecimal digits.
    #[error("`{0}` is no sha256 digest (64 hexadecimal digits)")]
    Digest(String),
    /// A path must stay inside its root and be storable everywhere.
    #[error("path `{path}` {why}")]
    Path {
        /// The path as it was given, made fit to print.
        path: String,
        /// What is wrong with it.
        why: &'static str,
    },
}

/// The id of an item: what catalogues, manifests and rosters call it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct ItemId(Arc<str>);

impl ItemId {
    /// Returns the id, or [`IdError::Item`].
    pub fn new(text: &str) -> Result<Self, IdError> {
        let fits = text.len() <= 128
            && text.chars().next().is_some_and(|c| c.is_alphanumeric())
            && text.chars().all(|c| c.is_alphanumeric() || matches!(c, '.' | '_' | '-'))
            && !text.contains("..");
        if fits { Ok(Self(text.into())) } else { Err(IdError::Item(crate::text::clean(text, 60))) }
    }

    /// Returns the id as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for ItemId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl TryFrom<String> for ItemId {
    type Error = IdError;
    fn try_from(text: String) -> Result<Self, IdError> {
        Self::new(&text)
    }
}

impl From<ItemId> for String {
    fn from(id: ItemId) -> Self {
        id.0.as_ref().to_owned()
    }
}

/// A SHA-256 digest, kept as 64 lower-case hexadecimal digits.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Digest(String);

impl Digest {
    /// Returns the digest written as `sha256:HEX` or plain hex of either case.
    pub fn parse(text: &str) -> Result<Self, IdError> {
        let hex = text.strip_prefix("sha256:").unwrap_or(text);
        if hex.len() == 64 && hex.bytes().all(|b| b.is_ascii_hexdigit()) {
            Ok(Self(hex.to_ascii_lowercase()))
        } else {
            Err(IdError::Digest(crate::text::clean(text, 80)))
        }
    }

    /// Returns the digest of `bytes`.
    pub fn of(bytes: &[u8]) -> Self {
        Self::from_raw(Sha256::digest(bytes).as_slice())
    }

    /// Returns the digest whose 32 raw bytes a hasher gave.
    pub fn from_raw(raw: &[u8]) -> Self {
        use fmt::Write as _;
        let mut hex = String::with_capacity(64);
        for byte in raw {
            let _ = write!(hex, "{byte:02x}");
        }
        Self(hex)
    }

    /// Returns the 64 digits.
    pub fn hex(&self) -> &str {
        &self.0
    }

    /// Returns the first 12 digits, enough for people to tell two apart.
    pub fn short(&self) -> &str {
        self.0.get(..12).unwrap_or(&self.0)
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl TryFrom<String> for Digest {
    type Error = IdError;
    fn try_from(text: String) -> Result<Self, IdError> {
        Self::parse(&text)
    }
}

impl From<Digest> for String {
    fn from(digest: Digest) -> Self {
        digest.0
    }
}

/// A path on a server: a root's name (`server` unless the family names others) and a relative path
/// with `/` between its parts. Written `plugins/a.qpl` in the root `server`, else `ROOT:plugins/a.qpl`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct ServerPath {
    root: String,
    path: String,
}

/// The root every server has.
pub const SERVER: &str = "server";

impl ServerPath {
    /// Returns the path, or [`IdError::Path`] when it leaves its root or could not be stored everywhere.
    pub fn new(root: &str, path: &str) -> Result<Self, IdError> {
        match storable(path) {
            Ok(()) => Ok(Self { root: root.to_owned(), path: path.to_owned() }),
            Err(why) => Err(IdError::Path { path: crate::text::clean(path, 120), why }),
        }
    }

    /// Returns the path in the root `server`.
    pub fn server(path: &str) -> Result<Self, IdError> {
        Self::new(SERVER, path)
    }

    /// Returns the root's name.
    pub fn root(&self) -> &str {
        &self.root
    }

    /// Returns the path below the root.
    pub fn path(&self) -> &str {
        &self.path
    }

    /// Returns the last part of the path.
    pub fn name(&self) -> &str {
        self.path.rsplit('/').next().unwrap_or(&self.path)
    }
}

impl fmt::Display for ServerPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.root == SERVER { f.write_str(&self.path) } else { write!(f, "{}:{}", self.root, self.path) }
    }
}

impl TryFrom<String> for ServerPath {
    type Error = IdError;
    fn try_from(text: String) -> Result<Self, IdError> {
        match text.split_once(':') {
            Some((root, path)) => Self::new(root, path),
            None => Self::server(&text),
        }
    }
}

impl From<ServerPath> for String {
    fn from(path: ServerPath) -> Self {
        path.to_string()
    }
}

/// Says why a relative path from a stranger (an archive's member, a family's template filled) must not be
/// written: it leaves its folder, or some system could not store it or would store it elsewhere.
///
/// # Errors
/// The reason, ready to follow "path `…` ".
pub fn storable(path: &str) -> Result<(), &'static str> {
    if path.is_empty() {
        return Err("is empty");
    }
    if path.len() > 1024 {
        return Err("is longer than 1,024 bytes");
    }
    if path.starts_with('/') || path.starts_with('\\') {
        return Err("begins at the top of the disk");
    }
    if path.contains('\\') {
        return Err("has a backslash, which some systems take for a folder");
    }
    if path.contains(':') {
        return Err("has a colon, which names a drive or a stream on some systems");
    }
    if path.chars().any(char::is_control) {
        return Err("has a control character");
    }
    for part in path.split('/') {
        if part == ".." {
            return Err("leads out of the folder");
        }
        if part.is_empty() || part == "." {
            return Err("has an empty part");
        }
        if part.len() > 255 {
            return Err("has a part longer than 255 bytes");
        }
        if part.ends_with('.') || part.ends_with(' ') {
            return Err("has a part that ends in a dot or a space, which some systems drop");
        }
        if is_device(part) {
            return Err("has a part that some systems reserve for a device");
        }
    }
    Ok(())
}

/// Whether some systems take a name for a device, whatever its extension.
fn is_device(part: &str) -> bool {
    let stem = part.split('.').next().unwrap_or(part);
    let one_of = |names: &[&str], name: &str| names.iter().any(|n| n.eq_ignore_ascii_case(name));
    match (stem.get(..3), stem.get(3..)) {
        (Some(name), Some("")) => one_of(&["CON", "PRN", "AUX", "NUL"], name),
        (Some(name), Some(number)) if number.len() == 1 && number.bytes().all(|b| b.is_ascii_digit()) => {
            one_of(&["COM", "LPT"], name)
        }
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_out_of_the_folder_are_refused() {
        for bad in [
            "",
            "/a",
            "a/../b",
            "..",
            "\\\\host\\x",
            "C:/a",
            "a//b",
            "./a",
            "a/b.",
            "a /b",
            "nul.txt",
            "com1",
            "a\0b",
            "a\\..\\b",
        ] {
            assert!(ServerPath::server(bad).is_err(), "{bad:?} must be refused");
        }
        for good in ["a", "a/b.c", "common/con-fig", "комната/ключ.txt", ".hidden", "a..b"] {
            assert!(ServerPath::server(good).is_ok(), "{good:?} must be taken");
        }
    }

    #[test]
    fn a_root_is_written_only_when_it_is_not_the_server() {
        let there = ServerPath::new("profile", "a/b").unwrap();
        assert_eq!(there.to_string(), "profile:a/b");
        assert_eq!(ServerPath::try_from(there.to_string()).unwrap(), there);
        assert_eq!(ServerPath::server("a/b").unwrap().to_string(), "a/b");
    }

    #[test]
    fn ids_and_digests_are_parsed_once() {
        assert!(ItemId::new("chest-locks").is_ok());
        for bad in ["", "-a", "a b", "a/b", "a..b", "\x1b[0m"] {
            assert!(ItemId::new(bad).is_err(), "{bad:?}");
        }
        let of = Digest::of(b"abc");
        assert_eq!(of.hex(), "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
        assert_eq!(Digest::parse(&format!("sha256:{}", of.hex().to_uppercase())).unwrap(), of);
        assert!(Digest::parse("abc").is_err());
    }
}
