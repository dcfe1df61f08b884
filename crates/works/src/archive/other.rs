//! Archives that are no plain zip: tar (plain or packed), 7z, files packed by themselves, and what is encrypted. They
//! are read once from end to end and kept as a zip without packing, so that all the rest knows one sort only. What
//! makes a zip unsafe makes these unsafe too.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{BufReader, Read, Seek, Write};
use std::path::Path;

use yalotheca_core::id::storable;
use yalotheca_core::text::{bytes as sized, clean};
use zip::result::ZipError;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipWriter};

use super::{ArchiveError, MOST_MEMBERS, MOST_RATIO};

/// The most memory that unpacking a 7z may take (KiB): its authors' largest usual setting is 64 MiB.
const MOST_MEMORY: usize = 160 * 1_024;

/// A sort of archive, told by how it begins.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sort {
    /// Zip.
    Zip,
    /// A zip with something encrypted in it.
    Locked,
    /// Tar.
    Tar,
    /// A tar, packed.
    Packed(Packing),
    /// 7z.
    SevenZ,
    /// One file, packed by itself.
    Single(Packing),
}

/// How one file, or a tar, is packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Packing {
    /// gzip.
    Gzip,
    /// bzip2.
    Bzip2,
    /// xz.
    Xz,
    /// Zstandard.
    Zstd,
}

impl Sort {
    /// Whether it is one file, packed by itself.
    pub fn is_single(self) -> bool {
        matches!(self, Sort::Single(_))
    }
}

impl Packing {
    fn of(head: &[u8]) -> Option<Self> {
        [
            (&b"\x1f\x8b"[..], Packing::Gzip),
            (b"BZh", Packing::Bzip2),
            (b"\xfd7zXZ\0", Packing::Xz),
            (b"\x28\xb5\x2f\xfd", Packing::Zstd),
        ]
        .into_iter()
        .find(|(magic, _)| head.starts_with(magic))
        .map(|(_, packing)| packing)
    }

    fn reader<'a>(self, from: impl Read + 'a) -> Box<dyn Read + 'a> {
        match self {
            Packing::Gzip => Box::new(flate2::read::MultiGzDecoder::new(from)),
            Packing::Bzip2 => Box::new(bzip2::read::MultiBzDecoder::new(from)),
            Packing::Xz => Box::new(lzma_rust2::XzReader::new(from, true)),
            Packing::Zstd => match ruzstd::decoding::StreamingDecoder::new(from) {
                Ok(reader) => Box::new(reader),
                Err(e) => Box::new(Refused(e.to_string())),
            },
        }
    }
}

/// A reader that could not begin.
struct Refused(String);

impl Read for Refused {
    fn read(&mut self, _: &mut [u8]) -> std::io::Result<usize> {
        Err(std::io::Error::other(self.0.clone()))
    }
}

/// The endings of packed files, and what is left of a name when one is unpacked.
const ENDINGS: [(&str, &str); 10] = [
    (".tgz", ".tar"),
    (".tbz2", ".tar"),
    (".txz", ".tar"),
    (".gz", ""),
    (".bz2", ""),
    (".xz", ""),
    (".zst", ""),
    (".zip", ""),
    (".tar", ""),
    (".7z", ""),
];

/// Whether a name is that of an archive or a packed file.
pub fn looks_packed(name: &str) -> bool {
    let lower = name.to_lowercase();
    ENDINGS.iter().any(|(ending, _)| lower.ends_with(ending))
}

/// Returns what a single packed file is called when it is unpacked.
pub fn unpacked_name(name: &str) -> &str {
    let lower = name.to_lowercase();
    let cut = ENDINGS.iter().find(|(ending, _)| lower.ends_with(ending)).map_or(0, |(ending, _)| ending.len());
    let bare = name.get(..name.len() - cut).unwrap_or(name);
    if bare.is_empty() { "content" } else { bare }
}

/// Returns what sort of archive a file is, if any.
///
/// # Errors
/// The system says no.
pub fn sort(path: &Path) -> std::io::Result<Option<Sort>> {
    let mut head = Vec::new();
    File::open(path)?.take(512).read_to_end(&mut head)?;
    let begins = |magic: &[u8]| head.starts_with(magic);
    let found = if begins(b"PK\x03\x04") || begins(b"PK\x05\x06") {
        Some(if is_locked(path) { Sort::Locked } else { Sort::Zip })
    } else if begins(b"7z\xbc\xaf\x27\x1c") {
        Some(Sort::SevenZ)
    } else if let Some(packing) = Packing::of(&head) {
        let inner = first(packing.reader(BufReader::new(File::open(path)?)));
        Some(if is_tar(&inner) { Sort::Packed(packing) } else { Sort::Single(packing) })
    } else if is_tar(&head) {
        Some(Sort::Tar)
    } else {
        None
    };
    Ok(found)
}

fn first(from: impl Read) -> Vec<u8> {
    let mut out = Vec::new();
    let _ = from.take(512).read_to_end(&mut out);
    out
}

/// Whether a zip has an encrypted entry; one that cannot be read has none.
fn is_locked(path: &Path) -> bool {
    let Ok(archive) = super::open(path) else { return false };
    (0..archive.len()).any(|at| archive.by_index_data(at).is_ok_and(|entry| entry.encrypted()))
}

fn is_tar(head: &[u8]) -> bool {
    head.get(257..262) == Some(b"ustar")
}

/// Writes an archive's files into a zip, no more than `most` bytes in all. `name` is what a single packed file is called
/// when it is unpacked; `password` opens what is encrypted.
///
/// # Errors
/// The first thing that makes the archive unsafe or unreadable, a password that does not open it, or the disk says no.
pub fn unify(
    path: &Path,
    sort: Sort,
    name: &str,
    password: Option<&str>,
    most: u64,
    to: &mut File,
) -> Result<(), ArchiveError> {
    let file = File::open(path).map_err(|e| ArchiveError::Broken(e.to_string()))?;
    let packed = file.metadata().map(|m| m.len()).unwrap_or(0);
    let mut out = Unified { zip: ZipWriter::new(to), seen: BTreeMap::new(), total: 0, most, packed };
    let reader = BufReader::new(file);
    match sort {
        Sort::Zip => {}
        Sort::Tar => tar(reader, &mut out)?,
        Sort::Packed(packing) => tar(packing.reader(reader), &mut out)?,
        Sort::Single(packing) => out.only(name, &mut packing.reader(reader))?,
        Sort::Locked => unlocked(path, password, &mut out)?,
        Sort::SevenZ => seven(reader, password, &mut out)?,
    }
    out.zip.finish()?.flush().map_err(|e| ArchiveError::Broken(e.to_string()))
}

struct Unified<'a> {
    zip: ZipWriter<&'a mut File>,
    /// The names so far, by their lower case.
    seen: BTreeMap<String, String>,
    total: u64,
    most: u64,
    packed: u64,
}

impl Unified<'_> {
    /// Checks a name; `None` for the folder that the archive itself is.
    fn name(&self, name: &str) -> Result<Option<String>, ArchiveError> {
        let plain = name.strip_prefix("./").unwrap_or(name).trim_end_matches('/');
        if plain.is_empty() || plain == "." {
            return Ok(None);
        }
        let shown = clean(name, 120);
        storable(plain).map_err(|why| ArchiveError::Path { path: shown, why })?;
        Ok(Some(plain.to_owned()))
    }

    /// The one file there is, whose size nobody says.
    fn only(&mut self, name: &str, from: &mut dyn Read) -> Result<(), ArchiveError> {
        let mut file = tempfile::tempfile().map_err(|e| super::broken(name, &e))?;
        let most = self.most.min(self.packed.saturating_mul(MOST_RATIO).max(1_000_000)).saturating_add(1);
        let size = std::io::copy(&mut from.take(most), &mut file).map_err(|e| super::broken(name, &e))?;
        if size == most {
            return Err(ArchiveError::TooLarge(format!("it unpacks to more than {}", sized(most - 1))));
        }
        file.rewind().map_err(|e| super::broken(name, &e))?;
        let name = self.name(name)?.unwrap_or_else(|| "content".to_owned());
        self.file(&name, size, &mut file)
    }

    fn file(&mut self, name: &str, size: u64, from: &mut dyn Read) -> Result<(), ArchiveError> {
        let lower = name.to_lowercase();
        if let Some(other) = self.seen.get(&lower) {
            return Err(ArchiveError::Same(clean(other, 120), clean(name, 120)));
        }
        self.seen.insert(lower, name.to_owned());
        if self.seen.len() > MOST_MEMBERS {
            return Err(ArchiveError::TooLarge(format!("it has more than {MOST_MEMBERS} members")));
        }
        let options = SimpleFileOptions::default()
            .compression_method(CompressionMethod::Stored)
            .last_modified_time(zip::DateTime::default())
            .large_file(size > 4_000_000_000);
        self.zip.start_file(name, options)?;
        let broken = |e: std::io::Error| super::broken(name, &e);
        let mut buffer = vec![0; 128 * 1024];
        let mut got = 0;
        loop {
            let count = from.read(&mut buffer).map_err(broken)?;
            let Some(chunk) = buffer.get(..count).filter(|c| !c.is_empty()) else { break };
            got += count as u64;
            self.total += count as u64;
            if got > size {
                return Err(ArchiveError::Broken(format!("`{}` is larger than it says", clean(name, 80))));
            }
            if self.total > self.most {
                return Err(ArchiveError::TooLarge(format!("it unpacks to more than {}", sized(self.most))));
            }
            if self.total > 1_000_000 && self.total / self.packed.max(1) > MOST_RATIO {
                let why = format!("it unpacks to more than {} from {}", sized(self.total), sized(self.packed));
                return Err(ArchiveError::TooLarge(why));
            }
            self.zip.write_all(chunk).map_err(broken)?;
        }
        if got != size {
            return Err(ArchiveError::Broken(format!("`{}` is not as large as it says", clean(name, 80))));
        }
        Ok(())
    }
}

fn tar(from: impl Read, out: &mut Unified<'_>) -> Result<(), ArchiveError> {
    let cut = |e: std::io::Error| ArchiveError::Broken(clean(&e.to_string(), 120));
    let mut archive = tar::Archive::new(from);
    for entry in archive.entries().map_err(cut)? {
        let mut entry = entry.map_err(cut)?;
        let kind = entry.header().entry_type();
        if kind.is_pax_global_extensions() {
            continue;
        }
        let bytes = entry.path_bytes().into_owned();
        let name = String::from_utf8(bytes)
            .map_err(|_| ArchiveError::Path { path: "(not text)".to_owned(), why: "is not readable text" })?;
        let Some(plain) = out.name(&name)? else { continue };
        if kind.is_dir() {
            continue;
        }
        if !kind.is_file() && !kind.is_contiguous() {
            return Err(ArchiveError::NoFile(clean(&name, 120)));
        }
        let size = entry.size();
        out.file(&plain, size, &mut entry)?;
    }
    // the checksum of what it is packed with stands at the very end
    let mut rest = archive.into_inner().take(out.most.saturating_sub(out.total) + 1_000_000);
    std::io::copy(&mut rest, &mut std::io::sink()).map_err(cut)?;
    if rest.limit() == 0 {
        return Err(ArchiveError::TooLarge(format!("it unpacks to more than {}", sized(out.most))));
    }
    Ok(())
}

/// A zip whose entries are encrypted, some or all.
fn unlocked(path: &Path, password: Option<&str>, out: &mut Unified<'_>) -> Result<(), ArchiveError> {
    let mut archive = super::open(path)?;
    for (at, name, size) in super::inspect(&mut archive, out.most, password.is_some())? {
        let refused = |e: ZipError| match e {
            ZipError::InvalidPassword => ArchiveError::Password(clean(&name, 120)),
            other => other.into(),
        };
        let secret = archive.by_index_data(at)?.encrypted().then_some(password).flatten();
        let mut file = match secret {
            Some(secret) => archive.by_index_decrypt(at, secret.as_bytes()).map_err(refused)?,
            None => archive.by_index(at)?,
        };
        match out.file(&name, size, &mut file) {
            // the old encryption cannot tell every wrong password at once: what comes out is broken then
            Err(ArchiveError::Broken(_)) if secret.is_some() => return Err(ArchiveError::Password(clean(&name, 120))),
            other => other?,
        }
    }
    Ok(())
}

fn seven(from: impl Read + Seek, password: Option<&str>, out: &mut Unified<'_>) -> Result<(), ArchiveError> {
    use sevenz_rust2::{ArchiveReader, Error, Password};
    let told = |e: Error| match e {
        Error::PasswordRequired => ArchiveError::Encrypted("its content".to_owned()),
        Error::MaybeBadPassword(_) => ArchiveError::Password("its content".to_owned()),
        Error::MaxMemLimited { .. } => ArchiveError::TooLarge(format!(
            "it takes more than {} of memory to unpack",
            sized(MOST_MEMORY as u64 * 1_024)
        )),
        other => ArchiveError::Broken(clean(&other.to_string(), 120)),
    };
    let secret = password.map_or_else(Password::empty, Password::new);
    let mut archive = ArchiveReader::new_with_memory_limit(from, secret, MOST_MEMORY).map_err(told)?;
    for entry in &archive.archive().files {
        // the upper half holds the unix mode, where bit 15 of the lower half says so
        let mode = (entry.windows_attributes & 0x8000 != 0).then_some(entry.windows_attributes >> 16);
        let link = entry.has_windows_attributes && (entry.windows_attributes & 0x400 != 0);
        if link || entry.is_anti_item || mode.is_some_and(|m| !matches!(m & 0o170_000, 0 | 0o100_000 | 0o040_000)) {
            return Err(ArchiveError::NoFile(clean(&entry.name, 120)));
        }
        out.name(&entry.name)?;
    }
    let mut refused = None;
    let read = archive.for_each_entries(|entry, content| {
        if entry.is_directory {
            return Ok(true);
        }
        let done = match out.name(&entry.name) {
            Ok(Some(name)) => out.file(&name, entry.size, content),
            Ok(None) => Ok(()),
            Err(e) => Err(e),
        };
        refused = done.err();
        Ok(refused.is_none())
    });
    match refused {
        Some(ArchiveError::Broken(_)) if password.is_some() => Err(ArchiveError::Password("its content".to_owned())),
        Some(refused) => Err(refused),
        None => read.map_err(told),
    }
}
