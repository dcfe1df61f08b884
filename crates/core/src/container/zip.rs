use std::collections::BTreeMap;
use std::io::{Cursor, Read as _, Write as _};

use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipArchive, ZipWriter};

use super::{MOST_ENTRY, too_large};

pub(super) fn member(container: &[u8], name: &str) -> Result<Option<Vec<u8>>, String> {
    let mut archive = ZipArchive::new(Cursor::new(container)).map_err(|e| e.to_string())?;
    let file = match archive.by_name(name) {
        Ok(file) => file,
        Err(zip::result::ZipError::FileNotFound) => return Ok(None),
        Err(e) => return Err(e.to_string()),
    };
    if file.size() > MOST_ENTRY {
        return Err(too_large(name));
    }
    let mut out = Vec::new();
    file.take(MOST_ENTRY).read_to_end(&mut out).map_err(|e| e.to_string())?;
    Ok(Some(out))
}

pub(super) fn write(
    now: Option<&[u8]>,
    mut files: BTreeMap<String, Vec<u8>>,
    gone: &[String],
) -> Result<Vec<u8>, String> {
    let words = |e: zip::result::ZipError| e.to_string();
    let options = SimpleFileOptions::default()
        .compression_method(CompressionMethod::Deflated)
        .last_modified_time(zip::DateTime::default());
    let mut out = ZipWriter::new(Cursor::new(Vec::new()));
    if let Some(now) = now {
        let mut old = ZipArchive::new(Cursor::new(now)).map_err(words)?;
        for at in 0..old.len() {
            let name = old.by_index_raw(at).map_err(words)?.name().map_err(words)?.into_owned();
            if gone.contains(&name) {
                continue;
            }
            match files.remove(&name) {
                Some(bytes) => {
                    out.start_file(&name, options).map_err(words)?;
                    out.write_all(&bytes).map_err(|e| e.to_string())?;
                }
                None => out.raw_copy_file(old.by_index_raw(at).map_err(words)?).map_err(words)?,
            }
        }
    }
    for (name, bytes) in &files {
        out.start_file(name, options).map_err(words)?;
        out.write_all(bytes).map_err(|e| e.to_string())?;
    }
    out.finish().map(Cursor::into_inner).map_err(words)
}
