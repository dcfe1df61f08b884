use std::collections::BTreeMap;
use std::io::{Cursor, Read as _};
use std::ops::Range;

use super::{MOST_ENTRY, too_large};

/// A tar is written in blocks of so many bytes.
const BLOCK: u64 = 512;

/// Where each entry lies, its headers and its last block whole: name, all of it, its bytes.
type Entries = Vec<(String, Range<usize>, Range<usize>)>;

fn entries(container: &[u8]) -> Result<(Entries, usize), String> {
    let mut out = Vec::new();
    let mut end = 0u64;
    let mut archive = tar::Archive::new(Cursor::new(container));
    for entry in archive.entries().map_err(|e| e.to_string())? {
        let entry = entry.map_err(|e| e.to_string())?;
        let name = String::from_utf8(entry.path_bytes().into_owned()).map_err(|_| "a name in it is no UTF-8 text")?;
        let (from, size) = (entry.raw_file_position(), entry.size());
        let last = from.saturating_add(size.div_ceil(BLOCK) * BLOCK);
        let range = |a: u64, b: u64| usize::try_from(a).ok().zip(usize::try_from(b).ok()).map(|(a, b)| a..b);
        let cut = || format!("it ends in the middle of `{}`", crate::text::clean(&name, 80));
        let whole = range(end, last).filter(|r| r.end <= container.len()).ok_or_else(cut)?;
        let bytes = range(from, from + size).ok_or_else(cut)?;
        out.push((name.strip_prefix("./").unwrap_or(&name).to_owned(), whole, bytes));
        end = last;
    }
    let end = usize::try_from(end).unwrap_or(0);
    if !container.is_empty() && out.is_empty() && container.iter().any(|b| *b != 0) {
        return Err("it is no tar".to_owned());
    }
    Ok((out, end))
}

pub(super) fn member(container: &[u8], name: &str) -> Result<Option<Vec<u8>>, String> {
    // where a name stands twice, the last one counts
    let Some((_, _, at)) = entries(container)?.0.into_iter().rev().find(|(n, ..)| n == name) else { return Ok(None) };
    if at.len() as u64 > MOST_ENTRY {
        return Err(too_large(name));
    }
    Ok(container.get(at).map(<[u8]>::to_vec))
}

pub(super) fn write(
    now: Option<&[u8]>,
    mut files: BTreeMap<String, Vec<u8>>,
    gone: &[String],
) -> Result<Vec<u8>, String> {
    let old = now.unwrap_or_default();
    let (there, end) = entries(old)?;
    let mut out = Vec::new();
    for (name, whole, _) in there {
        if gone.contains(&name) {
            continue;
        }
        match files.remove(&name) {
            Some(bytes) => out.extend(packed(&name, &bytes)?),
            None => out.extend(old.get(whole).unwrap_or_default()),
        }
    }
    for (name, bytes) in &files {
        out.extend(packed(name, bytes)?);
    }
    // two empty blocks end it, and whatever stood after the last entry stays
    match old.get(end..).filter(|rest| !rest.is_empty()) {
        Some(rest) => out.extend(rest),
        None => out.extend([0; 2 * BLOCK as usize]),
    }
    Ok(out)
}

/// An entry with its header, always the same for the same bytes.
fn packed(name: &str, bytes: &[u8]) -> Result<Vec<u8>, String> {
    let mut header = tar::Header::new_ustar();
    header.set_size(bytes.len() as u64);
    header.set_mode(0o644);
    header.set_mtime(0);
    let mut builder = tar::Builder::new(Vec::new());
    builder.append_data(&mut header, name, bytes.take(bytes.len() as u64)).map_err(|e| e.to_string())?;
    Ok(builder.get_ref().clone())
}
