//! Puts items on the roster and takes them off. What it comes to is planned first: a roster that cannot be settled
//! is not written.

use std::collections::BTreeSet;
use std::path::{Component, Path, PathBuf};

use yalotheca_core::finding::Finding;
use yalotheca_core::id::ItemId;
use yalotheca_core::roster::{put_item, take_item};
use yalotheca_core::solve::{Question, Reason};
use yalotheca_core::text::{clean, did_you_mean};
use yalotheca_core::version::Range;

use crate::Error;
use crate::fetch::Job;
use crate::home::write_whole;
use crate::learn::learn;
use crate::server::Server;
use crate::settle::{Options, Plan, plan};

/// What was put on the roster, or taken off, and what a settle would do now.
#[derive(Debug)]
pub struct Outcome {
    /// The items, with the roster line's value where one was written.
    pub lines: Vec<(ItemId, Option<String>)>,
    /// What a settle would do; absent when it needs a decision first.
    pub plan: Option<Plan>,
    /// What must be decided before a settle.
    pub undecided: Vec<Finding>,
    /// Whether the roster changed.
    pub changed: bool,
}

/// Puts items on the roster: `id`, `id@range`, a catalogue number, a file or a link.
///
/// # Errors
/// Nobody offers it, it is no item, or no set of versions fits: the roster stays as it is.
pub fn want(server: &Server, what: &[String], write: bool) -> Result<Outcome, Error> {
    let mut text = server.text.clone();
    let mut lines = Vec::new();
    for one in what {
        let (id, value) = line(server, one)?;
        text = put_item(&text, &id, &value).map_err(|source| roster_error(server, source))?;
        lines.push((id, Some(value)));
    }
    finish(server, text, lines, write)
}

/// Takes items off the roster.
///
/// # Errors
/// One is not on it, or what is left cannot be settled: the roster stays as it is.
pub fn drop(server: &Server, items: &[String], write: bool) -> Result<Outcome, Error> {
    let mut text = server.text.clone();
    let mut lines = Vec::new();
    for one in items {
        let id = ItemId::new(one)?;
        text = take_item(&text, &id).map_err(|source| roster_error(server, source))?.ok_or_else(|| {
            let known = server.roster.wants.iter().map(|w| w.id.as_str());
            Error::NotWanted { item: one.clone(), hint: did_you_mean(one, known) }
        })?;
        lines.push((id, None));
    }
    finish(server, text, lines, write)
}

fn finish(server: &Server, text: String, lines: Vec<(ItemId, Option<String>)>, write: bool) -> Result<Outcome, Error> {
    let changed = text != server.text;
    let (plan, undecided) = match plan(&server.with_roster(text.clone())?, &Options::default()) {
        Ok(plan) => (Some(plan), Vec::new()),
        Err(Error::Undecided(findings)) => (None, findings),
        Err(e) => return Err(unwritten(e, &lines)),
    };
    if changed && write {
        let now = std::fs::read(&server.roster_path).map_err(Error::disk(&server.roster_path, "cannot be read"))?;
        if now != server.text.as_bytes() {
            return Err(Error::Moved { path: server.roster_path.display().to_string() });
        }
        write_whole(&server.roster_path, text.as_bytes())?;
    }
    Ok(Outcome { lines, plan, undecided, changed })
}

/// What was asked for just now stands on no roster line yet.
fn unwritten(error: Error, lines: &[(ItemId, Option<String>)]) -> Error {
    let Error::Impossible(mut reasons) = error else { return error };
    for rule in &mut reasons.rules {
        if let Reason::Wanted { id, line, .. } = rule
            && lines.iter().any(|(asked, _)| asked == id)
        {
            *line = 0;
        }
    }
    Error::Impossible(reasons)
}

fn roster_error(server: &Server, source: yalotheca_core::roster::RosterError) -> Error {
    Error::Roster { path: server.roster_path.clone(), text: server.text.clone(), source }
}

/// Returns the item and the value of its roster line.
fn line(server: &Server, what: &str) -> Result<(ItemId, String), Error> {
    if what.starts_with("http://") || what.starts_with("https://") {
        return link(server, what);
    }
    let looks_like_file = what.contains(['/', '\\']) || (what.contains('.') && Path::new(what).exists());
    if looks_like_file {
        return file(server, what);
    }
    let (name, range) = what.split_once('@').map_or((what, "*"), |(n, r)| (n, r));
    let range = Range::parse(range)?;
    let id = resolve(server, name)?;
    let offered = server.catalogues.items(&BTreeSet::from([id.clone()]))?.remove(&id);
    let here = &server.family.rules.name;
    if let Some(other) = offered.filter(|o| o.facts.family != *here) {
        let family = clean(&other.facts.family, 40);
        return Err(Error::OtherFamily { item: id.to_string(), family, here: here.clone() });
    }
    Ok((id, toml_text(&range.to_string())))
}

fn toml_text(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

/// Finds the item that somebody means by a name: its id, a catalogue number, or another name of it.
///
/// # Errors
/// No catalogue has it; the nearest names are told.
pub fn resolve(server: &Server, name: &str) -> Result<ItemId, Error> {
    let nobody = |hint: String| Error::NotOffered { item: clean(name, 60), hint };
    if name.chars().all(|c| c.is_ascii_digit()) && !name.is_empty() {
        let found = server.catalogues.named(&[Question::Number(name.to_owned())])?.pop().unwrap_or_default();
        return found.into_iter().next().ok_or_else(|| nobody(String::new()));
    }
    let id = ItemId::new(name)?;
    if server.roster.want(&id).is_some() || !server.catalogues.items(&BTreeSet::from([id.clone()]))?.is_empty() {
        return Ok(id);
    }
    if server.catalogues.is_empty() {
        return Err(nobody("; the roster names no catalogue (add one under `catalogues`)".to_owned()));
    }
    let near = server.catalogues.search(&yalotheca_core::catalogue::words(name))?;
    let by_name = near.iter().find(|o| o.facts.names.iter().any(|n| n.eq_ignore_ascii_case(name)));
    if let Some(found) = by_name {
        return Ok(found.facts.id.clone());
    }
    let ids: Vec<&str> = near.iter().map(|o| o.facts.id.as_str()).collect();
    let hint = match did_you_mean(name, ids.iter().copied()) {
        hint if !hint.is_empty() => hint,
        _ if ids.is_empty() => "; try `yalotheca find WORDS`".to_owned(),
        _ => format!("; it has {}", ids.iter().take(5).copied().collect::<Vec<_>>().join(", ")),
    };
    Err(nobody(hint))
}

fn file(server: &Server, what: &str) -> Result<(ItemId, String), Error> {
    let path = Path::new(what);
    let home = &server.around.home;
    if path.is_dir() {
        let why = "is a folder; give the archive or the file itself".to_owned();
        return Err(Error::Origin { item: what.to_owned(), place: what.to_owned(), why });
    }
    let mut file = std::fs::File::open(path).map_err(Error::disk(path, "cannot be read"))?;
    let (digest, _) = home.take(&mut file, path)?;
    let name = path.file_name().map_or_else(|| what.to_owned(), |n| n.to_string_lossy().into_owned());
    let learnt = learn(home, &server.family, &digest, &name, server.roster.limits)?;
    let shown = beside(server, path);
    Ok((learnt.found.id, format!("{{ file = {}, sha256 = \"{digest}\" }}", toml_text(&shown))))
}

/// The file's path as the roster writes it: relative to the roster's folder, unless they have nothing in common.
fn beside(server: &Server, path: &Path) -> String {
    let full = path.canonicalize().unwrap_or_else(|_| path.to_owned());
    let folder = server.beside().canonicalize().unwrap_or_else(|_| server.beside().to_owned());
    let common = full.components().zip(folder.components()).take_while(|(a, b)| a == b).count();
    let relative: PathBuf = if common < 2 {
        full
    } else {
        let up = folder.components().skip(common).map(|_| Component::ParentDir);
        up.chain(full.components().skip(common)).collect()
    };
    relative.to_string_lossy().replace('\\', "/")
}

fn link(server: &Server, address: &str) -> Result<(ItemId, String), Error> {
    let home = &server.around.home;
    let what = address.split(['?', '#']).next().and_then(|a| a.rsplit('/').next()).unwrap_or(address);
    let job = Job { what: clean(what, 60), addresses: vec![address.to_owned()], wanted: None, sha512: None };
    let got = server.fetcher.fetch(home, &[job], server.around.progress.as_ref()).pop();
    let got = got.unwrap_or(Err(Error::Stopped))?;
    let learnt = learn(home, &server.family, &got.sha256, &got.name, server.roster.limits)?;
    let value = format!("{{ link = {}, sha256 = \"{}\" }}", toml_text(address), got.sha256);
    Ok((learnt.found.id, value))
}
