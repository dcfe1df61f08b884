//! A settings file of the server, opened to be read or tuned.

use yalotheca_core::id::ServerPath;
use yalotheca_core::settings::{Document, Format};
use yalotheca_core::slot::unreadable;
use yalotheca_core::text::nearest;

use super::format_of;
use crate::Error;
use crate::server::{MOST_SETTINGS, Server};
use crate::tree::Stat;

/// A settings file, read.
#[derive(Debug, Clone)]
pub struct Sheet {
    /// Where it stands.
    pub path: ServerPath,
    /// Its format.
    pub format: Format,
    /// What it says.
    pub document: Document,
    /// Its bytes.
    pub bytes: Vec<u8>,
}

/// Returns the path of a file on the server: as it is named there, or as it is reached from where the person stands.
///
/// # Errors
/// It is no path inside the server's folder.
pub(super) fn path(server: &Server, file: &str) -> Result<ServerPath, Error> {
    let plain = file.replace('\\', "/");
    let plain = plain.strip_prefix("./").unwrap_or(&plain);
    let direct = ServerPath::server(plain);
    if let Ok(direct) = &direct
        && server.tree.stat(std::slice::from_ref(direct))?.first() != Some(&Stat::Absent)
    {
        return Ok(direct.clone());
    }
    // beside the roster, or anywhere, but inside the server's folder
    let folder = server.tree.folder().and_then(|f| std::fs::canonicalize(f).ok());
    if let (Some(folder), Ok(file)) = (folder, std::fs::canonicalize(file))
        && let Ok(inside) = file.strip_prefix(&folder)
        && let Some(inside) = inside.to_str()
    {
        return Ok(ServerPath::server(inside)?);
    }
    Ok(direct?)
}

/// Opens a settings file.
///
/// # Errors
/// It is absent (with the nearest name), no text file, too large, or cannot be read without doubt.
pub fn open(server: &Server, file: &str, format: Option<Format>) -> Result<Sheet, Error> {
    let path = path(server, file)?;
    let bytes = bytes(server, &path)?;
    let format = format.unwrap_or_else(|| format_of(server, &path, Some(&bytes)));
    match Document::parse(format, &bytes) {
        Ok(document) => Ok(Sheet { path, format, document, bytes }),
        Err(error) => Err(Error::InDoubt(Box::new(unreadable(&path, format, &bytes, &error)))),
    }
}

/// Returns a settings file's bytes.
///
/// # Errors
/// As [`open`], but for what it says.
pub(super) fn bytes(server: &Server, path: &ServerPath) -> Result<Vec<u8>, Error> {
    let stat = server.tree.stat(std::slice::from_ref(path))?;
    let no = |why: String| Err(Error::NoSettings { file: path.to_string(), why });
    match stat.first() {
        Some(Stat::File { bytes, .. }) if *bytes > MOST_SETTINGS => {
            no(format!("is {} large, too much for a settings file", yalotheca_core::text::bytes(*bytes)))
        }
        Some(Stat::File { .. }) => Ok(super::read(server, path)?.unwrap_or_default()),
        Some(Stat::Folder) => no("is a folder; name a file in it".to_owned()),
        Some(Stat::Other) => no("is a link or a device, which is not followed".to_owned()),
        Some(Stat::Absent) | None => {
            let files = server.tree.walk()?;
            let names: Vec<String> =
                files.iter().filter(|(_, s)| matches!(s, Stat::File { .. })).map(|(p, _)| p.to_string()).collect();
            let wanted = path.to_string();
            let base = |n: &str| n.rsplit('/').next().unwrap_or(n).to_owned();
            let near = nearest(&wanted, names.iter().map(String::as_str)).map(str::to_owned);
            // the same name in another folder
            let near = near.or_else(|| names.iter().find(|n| base(n) == base(&wanted)).cloned());
            no(near.map_or("is not there".to_owned(), |n| format!("is not there, did you mean `{n}`?")))
        }
    }
}
