//! Signed items: every signature verified (ed25519, RFC 8032), the signer known by the fingerprint of the key.

use std::collections::BTreeMap;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use ring::signature::{ED25519, UnparsedPublicKey};
use thiserror::Error;

use crate::family::{Coding, Seal};
use crate::id::Digest;
use crate::settings::Value;
use crate::text::clean;

/// Who signed an item.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Signer {
    /// The fingerprint: the first digits of the SHA-256 of the key.
    pub fingerprint: String,
    /// The public key as it is written.
    pub key: String,
}

/// Why a signature does not count.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum SealError {
    /// The file of signatures is not there or cannot be read.
    #[error("`{file}` {why}; the server takes signed ones only: ask its author for a signed one")]
    Unreadable {
        /// The file of signatures.
        file: String,
        /// What is wrong with it.
        why: String,
    },
    /// A file is not signed.
    #[error("`{0}` is not signed; the server would refuse it: fetch the item again, or ask its author")]
    Unsigned(String),
    /// A signature is not that of these bytes.
    #[error("`{0}` is not the file that was signed: fetch the item again; if it stays so, do not use it")]
    Broken(String),
}

/// What a file of signatures says.
#[derive(Debug, Clone)]
pub struct Seals {
    /// Who signed.
    pub signer: Signer,
    key: Vec<u8>,
    signatures: BTreeMap<String, Vec<u8>>,
}

impl Seal {
    /// Reads a file of signatures.
    ///
    /// # Errors
    /// [`SealError::Unreadable`].
    pub fn read(&self, bytes: Option<&[u8]>) -> Result<Seals, SealError> {
        let fail = |why: String| SealError::Unreadable { file: self.file.clone(), why };
        let bytes = bytes.ok_or_else(|| fail("is not in it".to_owned()))?;
        let value = Value::read(self.format, bytes).map_err(|e| fail(format!("cannot be read: {e}")))?;
        let written = value.at(&self.key).and_then(Value::text);
        let written = written.ok_or_else(|| fail(format!("does not say its `{}`", self.key)))?;
        let key = self.decode(&written).filter(|k| k.len() == 32);
        let key = key.ok_or_else(|| fail(format!("has no ed25519 key at `{}`", self.key)))?;
        let Some(Value::Map(pairs)) = value.at(&self.signatures) else {
            return Err(fail(format!("lists no signatures at `{}`", self.signatures)));
        };
        let one = |(path, v): &(String, Value)| Some((path.clone(), self.decode(&v.text()?)?));
        let signatures = pairs.iter().filter_map(one).collect();
        let digest = Digest::of(&key);
        let fingerprint = digest.hex().get(..self.digits.min(64)).unwrap_or(digest.hex()).to_owned();
        Ok(Seals { signer: Signer { fingerprint, key: clean(&written, 200) }, key, signatures })
    }

    fn decode(&self, text: &str) -> Option<Vec<u8>> {
        match self.coding {
            Coding::Base64 => STANDARD.decode(text).ok(),
            Coding::Hex => {
                let pair = |at: usize| u8::from_str_radix(text.get(at..at + 2)?, 16).ok();
                (text.len().is_multiple_of(2)).then(|| (0..text.len()).step_by(2).map(pair).collect())?
            }
        }
    }

    /// Returns the path of the trusted key's file, and what it holds; `None` when a template names another field.
    pub fn trusted_file(&self, signer: &Signer) -> Option<(String, String)> {
        let field = |f: &str| match f {
            "signer" => Some(signer.fingerprint.as_str().into()),
            "key" => Some(signer.key.as_str().into()),
            _ => None,
        };
        Some((self.trusted.fill(field)?, self.content.fill(field)?))
    }
}

impl Seals {
    /// Whether a file's signature is there and is that of its bytes.
    ///
    /// # Errors
    /// [`SealError::Unsigned`], [`SealError::Broken`].
    pub fn verify(&self, path: &str, bytes: &[u8]) -> Result<(), SealError> {
        let shown = || clean(path, 120);
        let signature = self.signatures.get(path).ok_or_else(|| SealError::Unsigned(shown()))?;
        UnparsedPublicKey::new(&ED25519, &self.key).verify(bytes, signature).map_err(|_| SealError::Broken(shown()))
    }
}
