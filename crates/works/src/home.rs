//! Where this machine keeps what was fetched: the store, the catalogues' answers, the approved families.
//!
//! ```text
//! store/ab/DIGEST       everything fetched, by the digest of its bytes
//! opened/DIGEST.zip     the same files as in an archive of another sort, by the digest of that
//! looks/DIGEST.json     what an archive holds, so that it is opened once
//! catalogues/…          answers of catalogues (crate::catalogue)
//! families/*.toml       the user's own family files, looked at before the built-in ones
//! approved.json         digests of families that a person approved
//! ```

use std::fs;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};

use sha2::Digest as _;
use yalotheca_core::id::Digest;
use yalotheca_core::manifest::Member;

use crate::Error;

/// The folder of this machine.
#[derive(Debug, Clone)]
pub struct Home {
    folder: PathBuf,
}

impl Home {
    /// Returns the home in `folder`; nothing is made before something is kept.
    pub fn new(folder: PathBuf) -> Self {
        Self { folder }
    }

    /// Returns the path of something in it.
    pub fn at(&self, below: &str) -> PathBuf {
        self.folder.join(below)
    }

    /// Returns where the store keeps (or would keep) these bytes.
    pub fn store_path(&self, digest: &Digest) -> PathBuf {
        self.folder.join("store").join(digest.hex().get(..2).unwrap_or("00")).join(digest.hex())
    }

    /// Whether the store has these bytes.
    pub fn has(&self, digest: &Digest) -> bool {
        self.store_path(digest).is_file()
    }

    /// Returns where an archive of the store is to be read: itself, or the zip that it was turned into.
    pub fn archive_path(&self, digest: &Digest) -> PathBuf {
        let turned = self.opened_path(digest);
        if turned.is_file() { turned } else { self.store_path(digest) }
    }

    /// Returns where the zip lies that an archive of another sort was turned into.
    pub(crate) fn opened_path(&self, digest: &Digest) -> PathBuf {
        self.at(&format!("opened/{digest}.zip"))
    }

    /// Returns a new temporary file beside the store, gone when dropped unless it is kept.
    ///
    /// # Errors
    /// The disk says no.
    pub fn temporary(&self) -> Result<tempfile::NamedTempFile, Error> {
        let folder = self.folder.join("incoming");
        fs::create_dir_all(&folder).map_err(Error::disk(&folder, "cannot be made"))?;
        tempfile::NamedTempFile::new_in(&folder).map_err(Error::disk(folder, "cannot be written to"))
    }

    /// Puts a finished temporary file into the store under its digest.
    ///
    /// # Errors
    /// The disk says no.
    pub fn keep(&self, file: tempfile::NamedTempFile, digest: &Digest) -> Result<PathBuf, Error> {
        let path = self.store_path(digest);
        if let Some(folder) = path.parent() {
            fs::create_dir_all(folder).map_err(Error::disk(folder, "cannot be made"))?;
        }
        file.persist(&path).map_err(|e| Error::disk(&path, "cannot be written")(e.error))?;
        Ok(path)
    }

    /// Keeps the zip that an archive of another sort was turned into.
    ///
    /// # Errors
    /// The disk says no.
    pub(crate) fn keep_opened(&self, file: tempfile::NamedTempFile, digest: &Digest) -> Result<(), Error> {
        let path = self.opened_path(digest);
        if let Some(folder) = path.parent() {
            fs::create_dir_all(folder).map_err(Error::disk(folder, "cannot be made"))?;
        }
        file.persist(&path).map(|_| ()).map_err(|e| Error::disk(&path, "cannot be written")(e.error))
    }

    /// Copies everything a reader gives into the store; returns digest and size.
    ///
    /// # Errors
    /// The disk says no, or the reader fails.
    pub fn take(&self, from: &mut dyn Read, name: &Path) -> Result<(Digest, u64), Error> {
        let mut file = self.temporary()?;
        let mut hash = sha2::Sha256::new();
        let mut buffer = vec![0u8; 128 * 1024];
        let mut bytes = 0;
        loop {
            let count = from.read(&mut buffer).map_err(Error::disk(name, "cannot be read"))?;
            let Some(chunk) = buffer.get(..count).filter(|c| !c.is_empty()) else { break };
            hash.update(chunk);
            bytes += count as u64;
            file.write_all(chunk).map_err(Error::disk(self.at("incoming"), "cannot be written to"))?;
        }
        let digest = Digest::from_raw(&hash.finalize());
        self.keep(file, &digest)?;
        Ok((digest, bytes))
    }

    /// Returns what an archive of the store holds, if that was looked at before.
    pub fn look(&self, digest: &Digest) -> Option<Vec<Member>> {
        let bytes = fs::read(self.at(&format!("looks/{digest}.json"))).ok()?;
        serde_json::from_slice(&bytes).ok()
    }

    /// Keeps what an archive of the store holds. A disk that says no is no harm: it is looked at again.
    pub fn keep_look(&self, digest: &Digest, members: &[Member]) {
        if let Ok(bytes) = serde_json::to_vec(members) {
            let _ = self.write(&format!("looks/{digest}.json"), &bytes);
        }
    }

    /// Writes a small file of the home whole: first beside, then in place.
    ///
    /// # Errors
    /// The disk says no.
    pub fn write(&self, below: &str, bytes: &[u8]) -> Result<(), Error> {
        write_whole(&self.at(below), bytes)
    }
}

/// Writes a file whole: first beside it, then in its place; the folder above it is made.
///
/// # Errors
/// The disk says no.
pub fn write_whole(path: &Path, bytes: &[u8]) -> Result<(), Error> {
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    fs::create_dir_all(folder).map_err(Error::disk(folder, "cannot be made"))?;
    let mut file = tempfile::Builder::new()
        .prefix(".yalotheca-")
        .tempfile_in(folder)
        .map_err(Error::disk(folder, "cannot be written to"))?;
    file.write_all(bytes).map_err(Error::disk(path, "cannot be written"))?;
    if let Ok(old) = fs::metadata(path) {
        let _ = file.as_file().set_permissions(old.permissions());
    } else {
        open_to_read(file.as_file());
    }
    file.persist(path).map_err(|e| Error::disk(path, "cannot be written")(e.error))?;
    Ok(())
}

#[cfg(unix)]
fn open_to_read(file: &fs::File) {
    use std::os::unix::fs::PermissionsExt as _;
    // a temporary file is its owner's alone; a roster is read by others too
    let _ = file.set_permissions(fs::Permissions::from_mode(0o644));
}

#[cfg(not(unix))]
fn open_to_read(_: &fs::File) {}
