//! Packs what somebody needs who is asked for help: versions, order, findings, settings without secrets, the last log.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::io::Write as _;
use std::path::{Path, PathBuf};

use yalotheca_core::finding::Finding;
use yalotheca_core::id::{SERVER, ServerPath};
use yalotheca_core::ledger::Ledger;
use yalotheca_core::settings::{Document, Path as At};
use yalotheca_core::text::{clean, glob};
use zip::write::SimpleFileOptions;

use crate::server::Server;
use crate::tree::{Stat, state_path};
use crate::trial::LAST_LOG;
use crate::tune::format_of;
use crate::{Error, check, state};

/// A settings file larger than this is not packed (bytes).
const MOST_FILE: u64 = 1_000_000;
/// So much of the end of a log is packed (bytes).
const MOST_LOG: usize = 200_000;
/// A value shorter than this is not looked for in logs: it would stand everywhere (letters).
const LEAST_SECRET: usize = 4;
/// Parts of keys whose values are taken for secrets, whatever the family says.
const SECRET_WORDS: [&str; 6] = ["password", "passwd", "passphrase", "secret", "token", "apikey"];
/// What stands for a secret.
const HIDDEN: &str = "(secret)";

/// What was packed.
#[derive(Debug, Clone)]
pub struct Packed {
    /// The archive.
    pub path: PathBuf,
    /// What is in it, with its size in bytes.
    pub files: Vec<(String, u64)>,
    /// What was left out, and why.
    pub left: Vec<(String, &'static str)>,
}

/// Packs a report on a server into a new archive.
///
/// # Errors
/// The server cannot be read, or the archive stands there already or cannot be written.
pub fn report(server: &Server, to: &Path) -> Result<Packed, Error> {
    if to.exists() {
        return Err(Error::disk(to, "stands there already; name another file")(
            std::io::ErrorKind::AlreadyExists.into(),
        ));
    }
    let ledger = state::head(server.tree.as_ref())?;
    let findings = check::check(server)?;
    let mut pages: BTreeMap<String, String> = BTreeMap::new();
    let mut secrets: BTreeSet<String> = BTreeSet::new();
    let mut left = Vec::new();
    for path in settings(server, &ledger)? {
        let bytes = server.tree.read(std::slice::from_ref(&path), MOST_FILE)?.pop().flatten().unwrap_or_default();
        match hidden(server, &path, &bytes, &mut secrets) {
            Some(text) => drop(pages.insert(format!("settings/{}", path.path()), text)),
            None => left.push((path.to_string(), "it cannot be read, so nobody can tell what in it is secret")),
        }
    }
    for (name, path) in logs(server)? {
        let bytes = server.tree.read(std::slice::from_ref(&path), crate::server::MOST_SETTINGS)?.pop().flatten();
        if let Some(bytes) = bytes {
            let tail = bytes.get(bytes.len().saturating_sub(MOST_LOG)..).unwrap_or_default();
            pages.insert(name, String::from_utf8_lossy(tail).into_owned());
        }
    }
    pages.insert("about.txt".to_owned(), about(server, &ledger)?);
    pages.insert("findings.txt".to_owned(), told(&findings));
    pages.insert("roster.toml".to_owned(), roster(server));
    for text in pages.values_mut() {
        for secret in &secrets {
            *text = text.replace(secret.as_str(), HIDDEN);
        }
    }
    write(to, &pages)?;
    let files = pages.into_iter().map(|(name, text)| (name, text.len() as u64)).collect();
    Ok(Packed { path: to.to_owned(), files, left })
}

/// The settings files that anything is known of: those that were wired or tuned, that items ship, that the family names.
fn settings(server: &Server, ledger: &Ledger) -> Result<BTreeSet<ServerPath>, Error> {
    let mut out: BTreeSet<ServerPath> = ledger.slots.iter().map(|s| s.key.path.clone()).collect();
    out.extend(
        state::rows(server.tree.as_ref(), ledger)?.into_values().flatten().filter(|r| r.settings).map(|r| r.path),
    );
    let rules = &server.family.rules;
    let named = |p: &str| {
        rules.setting.iter().any(|s| glob(&s.file, p))
            || rules.settings_file.iter().any(|s| glob(&s.file, p))
            || rules.reference.iter().any(|r| glob(&r.file, p))
    };
    let files = server.tree.walk()?;
    let plain = |s: &Stat| matches!(s, Stat::File { bytes, .. } if *bytes <= MOST_FILE);
    let there: BTreeSet<&ServerPath> = files.iter().filter(|(_, s)| plain(s)).map(|(p, _)| p).collect();
    out.retain(|p| p.root() == SERVER && there.contains(p));
    out.extend(there.into_iter().filter(|p| named(p.path())).cloned());
    Ok(out)
}

/// A settings file's text without its secrets, which are remembered; `None` where it cannot be read.
fn hidden(server: &Server, path: &ServerPath, bytes: &[u8], secrets: &mut BTreeSet<String>) -> Option<String> {
    let mut document = Document::parse(format_of(server, path, Some(bytes)), bytes).ok()?;
    let mut spots: Vec<At> = Vec::new();
    for secret in server.family.secrets(path) {
        spots.extend(document.select(&secret).unwrap_or_default().into_iter().map(|s| s.path));
    }
    let looks = |at: &At| {
        let key = at.last_key().unwrap_or_default().to_lowercase().replace(['-', '_', '.', ' '], "");
        SECRET_WORDS.iter().any(|word| key.contains(word))
    };
    spots.extend(document.rows(usize::MAX).0.into_iter().map(|r| r.path).filter(looks));
    let mut ranges = Vec::new();
    for at in &spots {
        if let Ok(Some(spot)) = document.get(at) {
            secrets.extend(spot.value.texts().into_iter().filter(|t| t.chars().count() >= LEAST_SECRET));
        }
        ranges.extend(document.range(at).filter(|r| !r.is_empty()));
    }
    let mut text = document.text().to_owned();
    ranges.sort_by_key(|r| (r.start, r.end));
    ranges.dedup();
    for range in ranges.into_iter().rev() {
        text.replace_range(range, HIDDEN);
    }
    Some(text)
}

/// The logs there are: that of the last trial, and those that the family names.
fn logs(server: &Server) -> Result<Vec<(String, ServerPath)>, Error> {
    let mut out = vec![("last-trial.log".to_owned(), state_path(LAST_LOG)?)];
    for log in &server.family.rules.running.log {
        let path = ServerPath::server(&log.file)?;
        out.push((format!("logs/{}", path.name()), path));
    }
    Ok(out)
}

fn about(server: &Server, ledger: &Ledger) -> Result<String, Error> {
    let family = &server.family;
    let mut out = format!("yalotheca {}\n", env!("CARGO_PKG_VERSION"));
    let _ = writeln!(out, "family {} ({}), sha256 {}", family.rules.name, family.rules.title, family.digest);
    let _ = writeln!(out, "server {}", if server.tree.host().is_some() { "on a rented host" } else { "here" });
    let facts = server.facts()?;
    for name in family.rules.fact.keys() {
        let _ = writeln!(out, "{name} {}", facts.get(name).map_or_else(|| "not found".to_owned(), |v| clean(v, 120)));
    }
    let _ = writeln!(out, "ledger {}, {} items in load order:", ledger.generation, ledger.items.len());
    for id in &ledger.order {
        let Some(held) = ledger.items.get(id) else { continue };
        let _ = writeln!(out, "  {id} {} ({}), download {}", held.facts.version, held.kind, held.download.short());
    }
    Ok(out)
}

fn told(findings: &[Finding]) -> String {
    let mut out = String::new();
    for f in findings {
        let place = f.file.clone().or_else(|| f.item.clone()).unwrap_or_default();
        let line = f.line.map(|l| format!(":{l}")).unwrap_or_default();
        let _ = writeln!(out, "{} {place}{line}: {}\n  fix: {}", f.code, f.cause, f.fix);
    }
    if out.is_empty() { "nothing stands in the way of a clean start\n".to_owned() } else { out }
}

/// The roster's text, without the address of a rented host and what leads into it.
fn roster(server: &Server) -> String {
    let login = |line: &&str| {
        let key = line.split('=').next().unwrap_or_default().trim();
        let at = key == "at" && line.contains("://");
        at || ["key", "password-file"].contains(&key)
    };
    let lines = server.text.lines().map(|line| match login(&line) {
        true => format!("{} = \"{HIDDEN}\"", line.split('=').next().unwrap_or_default().trim()),
        false => line.to_owned(),
    });
    lines.collect::<Vec<_>>().join("\n") + "\n"
}

fn write(to: &Path, pages: &BTreeMap<String, String>) -> Result<(), Error> {
    let refused = |source| Error::Archive { name: to.display().to_string(), source };
    let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for (name, text) in pages {
        zip.start_file(name, SimpleFileOptions::default()).map_err(|e| refused(e.into()))?;
        zip.write_all(text.as_bytes()).map_err(Error::disk(to, "cannot be written"))?;
    }
    let bytes = zip.finish().map_err(|e| refused(e.into()))?.into_inner();
    crate::home::write_whole(to, &bytes)
}
