//! The bytes that go to a host, readable at any place, and those that come from one.

use std::fs::File;
use std::io::{Read as _, Seek as _, SeekFrom, Write as _};

use sha2::Digest as _;
use yalotheca_core::id::Digest;
use yalotheca_core::text::clean;

use super::error::HostError;

/// Bytes on their way to a host. A try that was cut goes on in the middle.
pub(crate) enum Body {
    /// In memory.
    Bytes(Vec<u8>),
    /// In a file of this machine: the store's, or a temporary one.
    File(std::sync::Mutex<File>, u64),
}

impl Body {
    /// Returns the bytes of an open file.
    ///
    /// # Errors
    /// The system says no.
    pub(crate) fn file(file: File) -> std::io::Result<Self> {
        let bytes = file.metadata()?.len();
        Ok(Body::File(std::sync::Mutex::new(file), bytes))
    }

    pub(crate) fn size(&self) -> u64 {
        match self {
            Body::Bytes(bytes) => bytes.len() as u64,
            Body::File(_, bytes) => *bytes,
        }
    }

    /// Returns the bytes from a place on, at most so many; fewer at the end.
    pub(crate) fn piece(&self, from: u64, most: u64) -> Result<Vec<u8>, HostError> {
        let length = most.min(self.size().saturating_sub(from));
        let length = usize::try_from(length).unwrap_or(0);
        match self {
            Body::Bytes(bytes) => {
                let from = usize::try_from(from).unwrap_or(usize::MAX);
                Ok(bytes.get(from..from.saturating_add(length)).unwrap_or_default().to_vec())
            }
            Body::File(file, _) => {
                let mut out = vec![0; length];
                let mut file = file.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
                file.seek(SeekFrom::Start(from)).and_then(|_| file.read_exact(&mut out)).map_err(|e| here(&e))?;
                Ok(out)
            }
        }
    }
}

/// A file of this machine failed while it was sent or received.
pub(crate) fn here(e: &std::io::Error) -> HostError {
    HostError::Refused { path: "a file on this machine".to_owned(), doing: "failed", why: clean(&e.to_string(), 120) }
}

/// Takes what comes from a host: always its digest, and where asked for its bytes or a copy in a file.
pub(crate) struct Sink {
    hash: sha2::Sha256,
    /// Its size so far.
    pub(crate) size: u64,
    most: u64,
    path: String,
    bytes: Option<Vec<u8>>,
    file: Option<File>,
}

impl Sink {
    pub(crate) fn new(path: &str, most: u64, keep: bool, file: Option<File>) -> Self {
        let bytes = keep.then(Vec::new);
        Self { hash: sha2::Sha256::new(), size: 0, most, path: path.to_owned(), bytes, file }
    }

    /// Takes a piece; refuses what goes past the bound.
    pub(crate) fn take(&mut self, piece: &[u8]) -> Result<(), HostError> {
        self.size += piece.len() as u64;
        if self.size > self.most {
            let (path, most) = (clean(&self.path, 200), self.most);
            let why = format!("more than {most} bytes came, which is all that is read of such a file");
            return Err(HostError::Refused { path, doing: "is too large", why });
        }
        self.hash.update(piece);
        if let Some(bytes) = &mut self.bytes {
            bytes.extend_from_slice(piece);
        }
        if let Some(file) = &mut self.file {
            file.write_all(piece).map_err(|e| here(&e))?;
        }
        Ok(())
    }

    pub(crate) fn digest(&self) -> Digest {
        Digest::from_raw(&self.hash.clone().finalize())
    }

    pub(crate) fn into_bytes(self) -> Vec<u8> {
        self.bytes.unwrap_or_default()
    }
}
