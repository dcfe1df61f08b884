//! Archives that are no zip: tar (plain, or packed with gzip or bzip2) and 7z. They are read once from end to end and
//! kept as a zip without packing, so that all the rest knows one sort only. What makes a zip unsafe makes these
//! unsafe too.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{BufReader, Read, Seek, Write};
use std::path::Path;

use yalotheca_core::id::storable;
use yalotheca_core::text::{bytes as sized, clean};
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
    /// Tar.
    Tar,
    /// Packed with gzip.
    Gzip,
    /// Packed with bzip2.
    Bzip2,
    /// 7z.
    SevenZ,
}

/// Returns what sort of archive a file is, if any. A packed file counts only if a tar is in it.
///
/// # Errors
/// The system says no.
pub fn sort(path: &Path) -> std::io::Result<Option<Sort>> {
    let mut head = Vec::new();
    File::open(path)?.take(512).read_to_end(&mut head)?;
    let begins = |magic: &[u8]| head.starts_with(magic);
    let found = if begins(b"PK\x03\x04") || begins(b"PK\x05\x06") {
        Some(Sort::Zip)
    } else if begins(b"7z\xbc\xaf\x27\x1c") {
        Some(Sort::SevenZ)
    } else if begins(b"\x1f\x8b") && is_tar(&first(flate2::read::GzDecoder::new(File::open(path)?))) {
        Some(Sort::Gzip)
    } else if begins(b"BZh") && is_tar(&first(bzip2::read::BzDecoder::new(File::open(path)?))) {
        Some(Sort::Bzip2)
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

fn is_tar(head: &[u8]) -> bool {
    head.get(257..262) == Some(b"ustar")
}

/// Writes an archive's files into a zip, no more than `most` bytes in all.
///
/// # Errors
/// The first thing that makes the archive unsafe or unreadable, or the disk says no.
pub fn unify(path: &Path, sort: Sort, most: u64, to: &mut File) -> Result<(), ArchiveError> {
    let file = File::open(path).map_err(|e| ArchiveError::Broken(e.to_string()))?;
    let packed = file.metadata().map(|m| m.len()).unwrap_or(0);
    let mut out = Unified { zip: ZipWriter::new(to), seen: BTreeMap::new(), total: 0, most, packed };
    let reader = BufReader::new(file);
    match sort {
        Sort::Zip => {}
        Sort::Tar => tar(reader, &mut out)?,
        Sort::Gzip => tar(flate2::read::MultiGzDecoder::new(reader), &mut out)?,
        Sort::Bzip2 => tar(bzip2::read::MultiBzDecoder::new(reader), &mut out)?,
        Sort::SevenZ => seven(reader, &mut out)?,
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

fn seven(from: impl Read + Seek, out: &mut Unified<'_>) -> Result<(), ArchiveError> {
    use sevenz_rust2::{ArchiveReader, Error, Password};
    let told = |e: Error| match e {
        Error::PasswordRequired | Error::MaybeBadPassword(_) => ArchiveError::Encrypted("its content".to_owned()),
        // aes256 and sha256 as 7z names it
        Error::UnsupportedCompressionMethod(name) if name.to_lowercase().contains("aes") => {
            ArchiveError::Encrypted("its content".to_owned())
        }
        Error::MaxMemLimited { .. } => ArchiveError::TooLarge(format!(
            "it takes more than {} of memory to unpack",
            sized(MOST_MEMORY as u64 * 1_024)
        )),
        other => ArchiveError::Broken(clean(&other.to_string(), 120)),
    };
    let mut archive = ArchiveReader::new_with_memory_limit(from, Password::empty(), MOST_MEMORY).map_err(told)?;
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
        Some(refused) => Err(refused),
        None => read.map_err(told),
    }
}
