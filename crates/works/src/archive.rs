//! Archives, hostile until shown otherwise. Listed and read here; nothing is ever unpacked by its own word.

mod other;

use std::collections::BTreeSet;
use std::fs::File;
use std::io::{BufReader, Read, Seek, Write as _};
use std::path::Path;

use rayon::prelude::*;
use yalotheca_core::id::{Digest, storable};
use yalotheca_core::manifest::Member;
use yalotheca_core::text::{bytes as sized, clean};
use zip::ZipArchive;
use zip::result::ZipError;

use crate::Error;
use crate::home::Home;
use crate::tree::local::digest_of;
pub use other::{Packing, Sort, looks_packed, sort, unify, unpacked_name};

/// More members than this are refused.
const MOST_MEMBERS: usize = 200_000;
/// A member that unpacks to more than this many times its packed size, and to more than a megabyte, is refused.
/// (The densest honest text packs to about 1 : 1,000 at the very most; deflate's own limit is 1 : 1,032.)
const MOST_RATIO: u64 = 1_010;
/// A manifest or other member read into memory may have this many bytes.
pub const MOST_READ: u64 = 4_000_000;

/// Why an archive was refused. Nothing was written.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ArchiveError {
    /// It cannot be read as an archive.
    #[error("the archive is broken or cut short: {0}; fetch it again, or ask its author")]
    Broken(String),
    /// A member is encrypted.
    #[error("`{0}` is encrypted, and no password was given")]
    Encrypted(String),
    /// The password does not open it.
    #[error("the password given does not open `{0}`, or it is broken")]
    Password(String),
    /// A member's path must not be written.
    #[error("its member `{path}` {why}; this archive is not safe and nothing of it was unpacked")]
    Path {
        /// The path.
        path: String,
        /// What is wrong with it.
        why: &'static str,
    },
    /// A member is a link or a device.
    #[error("its member `{0}` is a link or a device, not a file; nothing was unpacked")]
    NoFile(String),
    /// Two members have the same name, or names that differ only in case.
    #[error("its members `{0}` and `{1}` would be one file on many systems; nothing was unpacked")]
    Same(String, String),
    /// It would unpack to more than may be.
    #[error("{0}; nothing was unpacked (the bound is `unpacked-mb` under [limits] on the roster)")]
    TooLarge(String),
    /// A member is not there.
    #[error("it has no member `{0}` any more")]
    Absent(String),
}

impl From<ZipError> for ArchiveError {
    fn from(e: ZipError) -> Self {
        ArchiveError::Broken(clean(&e.to_string(), 120))
    }
}

/// A zip on the local disk.
pub(crate) type Opened = ZipArchive<BufReader<File>>;

/// Opens an archive.
pub(crate) fn open(path: &Path) -> Result<Opened, ArchiveError> {
    let file = File::open(path).map_err(|e| ArchiveError::Broken(e.to_string()))?;
    Ok(ZipArchive::new(BufReader::new(file))?)
}

/// Lists an archive's files with the digests of their contents. Everything is read once: what comes back can be
/// unpacked, and is no larger than `most` bytes in all.
///
/// # Errors
/// The first thing that makes the archive unsafe or unreadable.
pub fn list(path: &Path, most: u64) -> Result<Vec<Member>, ArchiveError> {
    let mut archive = open(path)?;
    let files = inspect(&mut archive, most, false)?;
    let share = files.len().div_ceil(rayon::current_num_threads().max(1)).max(1);
    let parts: Vec<Vec<Member>> = files
        .par_chunks(share)
        .map(|chunk| {
            let mut archive = open(path)?;
            chunk
                .iter()
                .map(|(at, name, bytes)| {
                    let file = archive.by_index(*at)?;
                    // one byte more than declared is a lie
                    let mut counted = Counted { inner: file, left: *bytes + 1 };
                    let sha256 = digest_of(&mut counted).map_err(|e| broken(name, &e))?;
                    if counted.left != 1 {
                        return Err(ArchiveError::Broken(format!("`{name}` is not as large as it says")));
                    }
                    Ok(Member { path: name.clone(), bytes: *bytes, sha256 })
                })
                .collect::<Result<Vec<_>, ArchiveError>>()
        })
        .collect::<Result<_, _>>()?;
    Ok(parts.into_iter().flatten().collect())
}

fn broken(name: &str, e: &std::io::Error) -> ArchiveError {
    ArchiveError::Broken(format!("`{}`: {}", clean(name, 80), clean(&e.to_string(), 100)))
}

/// Reads at most so many bytes, and remembers how many are left.
struct Counted<R> {
    inner: R,
    left: u64,
}

impl<R: Read> Read for Counted<R> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let most = usize::try_from(self.left).unwrap_or(usize::MAX).min(buffer.len());
        let count = self.inner.read(buffer.get_mut(..most).unwrap_or_default())?;
        self.left -= count as u64;
        Ok(count)
    }
}

/// Looks at every entry's name and nature before a byte is unpacked: (place, path, size) of each file.
fn inspect<R: Read + Seek>(
    archive: &mut ZipArchive<R>,
    most: u64,
    unlocked: bool,
) -> Result<Vec<(usize, String, u64)>, ArchiveError> {
    if archive.len() > MOST_MEMBERS {
        return Err(ArchiveError::TooLarge(format!("it has {} members, more than {MOST_MEMBERS}", archive.len())));
    }
    if archive.has_duplicate_names() {
        return Err(ArchiveError::Same("(one name)".to_owned(), "(the same name)".to_owned()));
    }
    let mut out = Vec::new();
    let mut seen: BTreeSet<(String, String)> = BTreeSet::new();
    let mut total = 0u64;
    for at in 0..archive.len() {
        let entry = archive.by_index_data(at)?;
        let name = entry
            .name()
            .map_err(|_| ArchiveError::Path { path: "(not text)".to_owned(), why: "is not readable text" })?;
        let (name, folder) = match name.strip_suffix('/') {
            Some(folder) => (folder.to_owned(), true),
            None => (name.into_owned(), false),
        };
        let shown = clean(&name, 120);
        storable(&name).map_err(|why| ArchiveError::Path { path: shown.clone(), why })?;
        if folder || entry.is_dir() {
            continue;
        }
        if entry.encrypted() && !unlocked {
            return Err(ArchiveError::Encrypted(shown));
        }
        // the kind of file in the upper bits of the unix mode: 0 is not told, 0o100000 is a plain file
        if entry.is_symlink() || entry.unix_mode().is_some_and(|m| !matches!(m & 0o170_000, 0 | 0o100_000)) {
            return Err(ArchiveError::NoFile(shown));
        }
        let lower = name.to_lowercase();
        if let Some((_, other)) = seen.range((lower.clone(), String::new())..).next().filter(|(l, _)| *l == lower) {
            return Err(ArchiveError::Same(clean(other, 120), shown));
        }
        seen.insert((lower, name.clone()));
        let (size, packed) = (entry.size(), entry.compressed_size());
        if size > 1_000_000 && size / packed.max(1) > MOST_RATIO {
            let why = format!("its member `{shown}` unpacks to {} from {}", sized(size), sized(packed));
            return Err(ArchiveError::TooLarge(why));
        }
        total = total.saturating_add(size);
        if total > most {
            return Err(ArchiveError::TooLarge(format!("it unpacks to more than {}", sized(most))));
        }
        out.push((at, name, size));
    }
    if archive.has_overlapping_entries()? {
        return Err(ArchiveError::Broken("its members lie over each other".to_owned()));
    }
    Ok(out)
}

/// Gives a member's bytes to `then`, never more than the archive says it has.
pub(crate) fn with_member<T>(
    archive: &mut Opened,
    member: &str,
    then: impl FnOnce(&mut dyn Read) -> T,
) -> Result<T, ArchiveError> {
    let file = archive.by_name(member).map_err(|e| match e {
        ZipError::FileNotFound => ArchiveError::Absent(clean(member, 120)),
        other => other.into(),
    })?;
    let size = file.size();
    Ok(then(&mut file.take(size)))
}

/// Returns how many bytes a member says it unpacks to.
pub(crate) fn size_of(archive: &mut Opened, member: &str) -> Result<u64, ArchiveError> {
    match archive.by_name(member) {
        Ok(file) => Ok(file.size()),
        Err(ZipError::FileNotFound) => Err(ArchiveError::Absent(clean(member, 120))),
        Err(other) => Err(other.into()),
    }
}

/// Returns a small member's bytes.
///
/// # Errors
/// It is not there, is broken, or has more than [`MOST_READ`] bytes.
pub fn read_member(path: &Path, member: &str) -> Result<Vec<u8>, ArchiveError> {
    member_of(&mut open(path)?, member)
}

/// Returns a small member's bytes of an archive that lies anywhere; `None` when it has no such member.
///
/// # Errors
/// As [`read_member`].
pub fn read_inside(from: impl Read + Seek, member: &str) -> Result<Option<Vec<u8>>, ArchiveError> {
    let mut archive = ZipArchive::new(from)?;
    match member_of(&mut archive, member) {
        Err(ArchiveError::Absent(_)) => Ok(None),
        other => other.map(Some),
    }
}

fn member_of<R: Read + Seek>(archive: &mut ZipArchive<R>, member: &str) -> Result<Vec<u8>, ArchiveError> {
    let file = archive.by_name(member).map_err(|e| match e {
        ZipError::FileNotFound => ArchiveError::Absent(clean(member, 120)),
        other => other.into(),
    })?;
    if file.size() > MOST_READ {
        return Err(ArchiveError::TooLarge(format!("its `{}` has {}", clean(member, 80), sized(file.size()))));
    }
    let mut out = Vec::new();
    file.take(MOST_READ).read_to_end(&mut out).map_err(|e| broken(member, &e))?;
    Ok(out)
}

/// Packs files into an archive of the store, without times or compression: the same files always give the same bytes.
///
/// # Errors
/// A file cannot be read, or the disk says no.
pub(crate) fn pack(
    home: &Home,
    entries: impl Iterator<Item = Result<(String, Box<dyn Read>), Error>>,
) -> Result<Digest, Error> {
    let incoming = home.at("incoming");
    let doing = "cannot be written to";
    let broken = |e: ZipError| Error::disk(&incoming, doing)(std::io::Error::other(e.to_string()));
    let mut file = home.temporary()?;
    let mut archive = zip::ZipWriter::new(file.as_file_mut());
    let options = zip::write::SimpleFileOptions::default()
        .compression_method(zip::CompressionMethod::Stored)
        .last_modified_time(zip::DateTime::default());
    for entry in entries {
        let (name, mut from) = entry?;
        archive.start_file(name, options).map_err(broken)?;
        std::io::copy(&mut from, &mut archive).map_err(Error::disk(&incoming, doing))?;
    }
    archive.finish().map_err(broken)?.flush().map_err(Error::disk(&incoming, doing))?;
    let mut whole = file.reopen().map_err(Error::disk(&incoming, "cannot be read"))?;
    Ok(home.take(&mut whole, &incoming)?.0)
}

/// A folder with more files than this is taken for a mistake.
const MOST_IN_FOLDER: usize = 100_000;

/// Packs a folder of this machine as the archive it might have come in.
///
/// # Errors
/// A file cannot be read, a link stands in it, or it has too many files.
pub(crate) fn pack_folder(home: &Home, folder: &Path, most: u64) -> Result<Digest, Error> {
    let mut total = 0;
    let mut files: Vec<(String, std::path::PathBuf)> = Vec::new();
    let mut left = vec![(String::new(), folder.to_owned())];
    while let Some((below, at)) = left.pop() {
        for entry in std::fs::read_dir(&at).map_err(Error::disk(&at, "cannot be read"))? {
            let entry = entry.map_err(Error::disk(&at, "cannot be read"))?;
            let name = format!("{below}{}", entry.file_name().to_string_lossy());
            let kind = entry.file_type().map_err(Error::disk(&at, "cannot be read"))?;
            if kind.is_dir() {
                left.push((format!("{name}/"), entry.path()));
            } else if kind.is_file() {
                total += entry.metadata().map(|m| m.len()).unwrap_or(0);
                files.push((name, entry.path()));
            }
            if files.len() > MOST_IN_FOLDER || total > most {
                let sum = format!("the folder has more than {MOST_IN_FOLDER} files, or {}", sized(most));
                let why = ArchiveError::TooLarge(sum);
                return Err(Error::Archive { name: folder.display().to_string(), source: why });
            }
        }
    }
    files.sort();
    let entry = |(name, path): (String, std::path::PathBuf)| {
        let file = File::open(&path).map_err(Error::disk(path, "cannot be read"))?;
        Ok((name, Box::new(file) as Box<dyn Read>))
    };
    pack(home, files.into_iter().map(entry))
}
