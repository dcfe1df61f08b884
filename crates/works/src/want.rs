//! Puts items on the roster and takes them off. What it comes to is planned first: a roster that cannot be settled
//! is not written.

use std::collections::BTreeSet;
use std::path::{Component, Path, PathBuf};

use yalotheca_core::family::FetchedBy;
use yalotheca_core::finding::Finding;
use yalotheca_core::id::ItemId;
use yalotheca_core::manifest;
use yalotheca_core::roster::{Origin, Want, put_in, put_item, take_in, take_item};
use yalotheca_core::solve::{Question, Reason};
use yalotheca_core::text::{clean, did_you_mean};
use yalotheca_core::version::Range;

use crate::fetch::Job;
use crate::home::write_whole;
use crate::server::Server;
use crate::settle::{Options, Plan, opener, plan, take_help, written};
use crate::{Error, archive, state};

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

/// How an item is wanted, beside what it is.
#[derive(Debug, Clone, Default)]
pub struct How {
    /// The kind it is to be taken as, where more than one fits.
    pub kind: Option<String>,
    /// The entries that are taken.
    pub take: Vec<String>,
    /// What is chosen for it: field and value.
    pub choices: Vec<(String, String)>,
    /// A file whose first line is the password of the archive, relative to where the program runs.
    pub password_file: Option<PathBuf>,
    /// The catalogue that it is taken from.
    pub catalogue: Option<String>,
    /// The number of a change that helps where no versions fit: it is made, too.
    pub help: Option<usize>,
}

/// Puts items on the roster: `id`, `id@range`, a catalogue number, a file or a link.
///
/// # Errors
/// Nobody offers it, it is no item, or no set of versions fits: the roster stays as it is.
pub fn want(server: &Server, what: &[String], how: &How, write: bool) -> Result<Outcome, Error> {
    if let Some(kind) = how.kind.as_ref().filter(|k| !server.family.rules.kind.contains_key(k.as_str())) {
        let kinds = server.family.rules.kind.keys().map(String::as_str);
        let all: Vec<String> = server.family.rules.kind.keys().map(|k| format!("`{k}`")).collect();
        let hint = match did_you_mean(kind, kinds) {
            hint if hint.is_empty() => format!("; there are {}", yalotheca_core::text::listed(&all)),
            hint => hint,
        };
        return Err(Error::Choice(format!("this server takes no kind `{}`{hint}", clean(kind, 40))));
    }
    let mut text = server.text.clone();
    let mut lines = Vec::new();
    for one in what {
        let (id, value) = line(server, one, how)?;
        was_there(server, one, &id, &value)?;
        text = put_item(&text, &id, &value).map_err(|source| roster_error(server, source))?;
        for (field, value) in &how.choices {
            let value = toml_text(value);
            text = put_in(&text, &["choices", id.as_str()], field, &value).map_err(|s| roster_error(server, s))?;
        }
        lines.push((id, Some(value)));
    }
    match (finish(server, text.clone(), lines.clone(), write), how.help) {
        (Err(Error::Impossible(way)), Some(number)) => {
            let text = take_help(&server.with_roster(text)?, &way, number)?;
            let roster = yalotheca_core::roster::Roster::parse(&text).map_err(|s| roster_error(server, s))?;
            // what each of them stands as now
            let now = |(id, _): (ItemId, Option<String>)| {
                let want = roster.want(&id).map(|w| written(w, None));
                (id, want)
            };
            finish(server, text, lines.into_iter().map(now).collect(), write)
        }
        (outcome, _) => outcome,
    }
}

/// A file whose name alone says what it is may be another than the one of that name that was on the server before us.
fn was_there(server: &Server, what: &str, id: &ItemId, value: &str) -> Result<(), Error> {
    let Some(Origin::Here { path, sha256 }) = server.roster.want(id).and_then(|w| w.from.as_ref()) else {
        return Ok(());
    };
    let by_name = state::head(server.tree.as_ref())?
        .items
        .get(id)
        .is_some_and(|h| h.facts.version.to_string().starts_with(manifest::BY_DIGEST));
    if !by_name || value.contains(sha256.hex()) || !value.contains("sha256") {
        return Ok(());
    }
    let (what, path) = (clean(what, 120), clean(path, 120));
    Err(Error::Choice(format!(
        "`{what}` has the name of `{path}`, which was on the server before, and nothing in it says that it is a newer one; \
         give it another name, or first: yalotheca drop {id}"
    )))
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
        text = taken_off(server, &text, &id)?.ok_or_else(|| {
            let known = server.roster.wants.iter().map(|w| w.id.as_str());
            Error::NotWanted { item: one.clone(), hint: did_you_mean(one, known) }
        })?;
        lines.push((id, None));
    }
    // a map that goes is not to be played any more
    if let Some(play) = &server.roster.play {
        let gone = |(id, names): &crate::maps::Named| {
            lines.iter().any(|(l, _)| l == id) && names.iter().any(|(n, _)| n.as_ref() == Some(play))
        };
        if crate::maps::of_items(server)?.iter().any(gone) {
            text = take_in(&text, &["maps"], "play").map_err(|s| roster_error(server, s))?;
        }
    }
    finish(server, text, lines, write)
}

/// Returns the roster's text without an item, and what was chosen for it; `None` when it is not on it.
pub(crate) fn taken_off(server: &Server, text: &str, id: &ItemId) -> Result<Option<String>, Error> {
    let Some(mut text) = take_item(text, id).map_err(|source| roster_error(server, source))? else { return Ok(None) };
    let of_it = |key: &str| key == id.as_str() || key.strip_prefix(id.as_str()).is_some_and(|k| k.starts_with('/'));
    for (key, fields) in server.roster.choices.iter().filter(|(key, _)| of_it(key)) {
        for field in fields.keys() {
            text = take_in(&text, &["choices", key], field).map_err(|s| roster_error(server, s))?;
        }
    }
    Ok(Some(text))
}

pub(crate) fn finish(
    server: &Server,
    text: String,
    lines: Vec<(ItemId, Option<String>)>,
    write: bool,
) -> Result<Outcome, Error> {
    let changed = text != server.text;
    let (plan, undecided) = match plan(&server.with_roster(text.clone())?, &Options::default()) {
        Ok(plan) => (Some(plan), Vec::new()),
        Err(Error::Undecided(findings)) => (None, findings),
        Err(e) => return Err(unwritten(e, &lines)),
    };
    if let Some(plan) = &plan {
        chosen(server, plan, &text)?;
    }
    if changed && write {
        let now = std::fs::read(&server.roster_path).map_err(Error::disk(&server.roster_path, "cannot be read"))?;
        if now != server.text.as_bytes() {
            return Err(Error::Moved { path: server.roster_path.display().to_string() });
        }
        write_whole(&server.roster_path, text.as_bytes())?;
    }
    Ok(Outcome { lines, plan, undecided, changed })
}

/// Whether what is chosen for items can be chosen.
fn chosen(server: &Server, plan: &Plan, text: &str) -> Result<(), Error> {
    let roster = yalotheca_core::roster::Roster::parse(text).map_err(|s| roster_error(server, s))?;
    for (item, fields) in &roster.choices {
        let id = item.split('/').next().unwrap_or(item);
        let kind = plan.after.items.iter().find(|(i, _)| i.as_str() == id).map(|(_, h)| h.kind.as_str());
        let Some(kind) = kind.and_then(|k| server.family.rules.kind.get(k)) else { continue };
        for (field, value) in fields {
            let Some(choice) = kind.choice.get(field) else {
                let known: Vec<&str> = kind.choice.keys().map(String::as_str).collect();
                let hint = match did_you_mean(field, known.iter().copied()) {
                    hint if hint.is_empty() => format!("; there is {}", known.join(", ")),
                    hint => hint,
                };
                return Err(Error::Choice(format!("{item} has no choice `{}`{hint}", clean(field, 40))));
            };
            if let Some(why) = choice.refuse(value) {
                return Err(Error::Choice(format!("`{field}` of {item} {why}; `{}` is not", clean(value, 40))));
            }
        }
    }
    Ok(())
}

/// What was asked for just now stands on no roster line yet.
fn unwritten(error: Error, lines: &[(ItemId, Option<String>)]) -> Error {
    let Error::Impossible(mut way) = error else { return error };
    for rule in &mut way.reasons.rules {
        if let Reason::Wanted { id, line, .. } = rule
            && lines.iter().any(|(asked, _)| asked == id)
        {
            *line = 0;
        }
    }
    Error::Impossible(way)
}

pub(crate) fn roster_error(server: &Server, source: yalotheca_core::roster::RosterError) -> Error {
    Error::Roster { path: server.roster_path.clone(), text: server.text.clone(), source }
}

/// Returns the item and the value of its roster line.
pub(crate) fn line(server: &Server, what: &str, how: &How) -> Result<(ItemId, String), Error> {
    if what.starts_with("http://") || what.starts_with("https://") {
        // a link to an item's page carries its number
        if let Some(number) = server.catalogues.number_in(what) {
            return line(server, &number, how);
        }
        return link(server, what, how);
    }
    let looks_like_file = what.contains(['/', '\\']) || (what.contains('.') && Path::new(what).exists());
    if looks_like_file {
        return file(server, what, how);
    }
    let (name, range) = what.split_once('@').map_or((what, "*"), |(n, r)| (n, r));
    let range = Range::parse(range)?;
    let by_number = server.family.rules.kind.values().any(|k| k.fetched_by == FetchedBy::Server);
    let digits = !name.is_empty() && name.chars().all(|c| c.is_ascii_digit());
    let id = match resolve(server, name) {
        Err(Error::NotOffered { .. }) if digits && by_number => {
            return number(server, name, how);
        }
        other => other?,
    };
    let offered = server.catalogues.items(&BTreeSet::from([id.clone()]))?.remove(&id);
    let here = &server.family.rules.name;
    if let Some(other) = offered.filter(|o| o.facts.family != *here) {
        let family = clean(&other.facts.family, 40);
        return Err(Error::OtherFamily { item: id.to_string(), family, here: here.clone() });
    }
    let value = value(server, &id, &range, how);
    Ok((id, value))
}

/// A roster line's value for an item of a catalogue; what the roster says of it besides stays.
fn value(server: &Server, id: &ItemId, range: &Range, how: &How) -> String {
    let never = server.roster.never.iter().find(|n| n.id == *id);
    if let Some(was) = server
        .roster
        .want(id)
        .filter(|w| w.from.is_none() && (w.hold || w.beta || w.catalogue.is_some() || never.is_some()))
    {
        let kind = how.kind.clone().or_else(|| was.kind.clone());
        let catalogue = how.catalogue.clone().or_else(|| was.catalogue.clone());
        let take = if how.take.is_empty() { was.take.clone() } else { Some(how.take.clone()) };
        let file = how.password_file.as_ref().map(|f| beside(server, f)).or_else(|| was.password_file.clone());
        let want = Want { range: range.clone(), kind, catalogue, take, password_file: file, ..was.clone() };
        return written(&want, never.map(|n| &n.range));
    }
    let more = more(server, how);
    if more.is_empty() {
        toml_text(&range.to_string())
    } else {
        format!("{{ version = {}{more} }}", toml_text(&range.to_string()))
    }
}

/// What of a roster's table says how an item is wanted.
fn more(server: &Server, how: &How) -> String {
    let mut out = String::new();
    if let Some(kind) = &how.kind {
        out.push_str(&format!(", kind = {}", toml_text(kind)));
    }
    if !how.take.is_empty() {
        let names: Vec<String> = how.take.iter().map(|t| toml_text(t)).collect();
        out.push_str(&format!(", take = [{}]", names.join(", ")));
    }
    if let Some(from) = &how.catalogue {
        out.push_str(&format!(", catalogue = {}", toml_text(from)));
    }
    if let Some(file) = &how.password_file {
        out.push_str(&format!(", password-file = {}", toml_text(&beside(server, file))));
    }
    out
}

/// A catalogue number that no catalogue knows, where the server itself fetches by number.
fn number(server: &Server, number: &str, how: &How) -> Result<(ItemId, String), Error> {
    let served = |k: &&String| server.family.rules.kind.get(*k).is_some_and(|k| k.fetched_by == FetchedBy::Server);
    let kinds: Vec<String> = server.family.rules.kind.keys().filter(served).map(|k| format!("--kind {k}")).collect();
    if kinds.len() > 1 && how.kind.is_none() {
        return Err(Error::Choice(format!(
            "no catalogue here knows the number {number}, so nobody can say what it is; say it: {}",
            kinds.join(" or ")
        )));
    }
    Ok((ItemId::new(number)?, format!("{{ number = {}{} }}", toml_text(number), more(server, how))))
}

pub(crate) fn toml_text(text: &str) -> String {
    let mut out = String::from("\"");
    for letter in text.chars() {
        match letter {
            '\\' | '"' => out.extend(['\\', letter]),
            '\n' => out.push_str("\\n"),
            '\t' => out.push_str("\\t"),
            letter if letter.is_control() => out.push_str(&format!("\\u{:04X}", u32::from(letter))),
            letter => out.push(letter),
        }
    }
    out.push('"');
    out
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

fn file(server: &Server, what: &str, how: &How) -> Result<(ItemId, String), Error> {
    let path = Path::new(what);
    let home = &server.around.home;
    let full = path.canonicalize().unwrap_or_else(|_| path.to_owned());
    let name = full.file_name().map_or_else(|| what.to_owned(), |n| n.to_string_lossy().into_owned());
    let (digest, name) = if path.is_dir() {
        (
            archive::pack_folder(home, path, server.roster.limits.download_mb.saturating_mul(1_000_000))?,
            format!("{name}.zip"),
        )
    } else {
        let mut file = std::fs::File::open(path).map_err(Error::disk(path, "cannot be read"))?;
        (home.take(&mut file, path)?.0, name)
    };
    let learnt = opener(server, how.kind.as_deref(), how.password_file.as_deref()).learn(&digest, &name)?;
    let shown = beside(server, path);
    Ok((learnt.found.id, format!("{{ file = {}, sha256 = \"{digest}\"{} }}", toml_text(&shown), more(server, how))))
}

/// The same, for what is no file of a want's own.
pub(crate) fn from_beside(server: &Server, path: &Path) -> String {
    beside(server, path)
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

fn link(server: &Server, address: &str, how: &How) -> Result<(ItemId, String), Error> {
    let home = &server.around.home;
    let what = address.split(['?', '#']).next().and_then(|a| a.rsplit('/').next()).unwrap_or(address);
    let job = Job { what: clean(what, 60), addresses: vec![address.to_owned()], wanted: None, sha512: None };
    let got = server.fetcher.fetch(home, &[job], server.around.progress.as_ref()).pop();
    let got = got.unwrap_or(Err(Error::Stopped))?;
    let learnt = opener(server, how.kind.as_deref(), how.password_file.as_deref()).learn(&got.sha256, &got.name)?;
    let value = format!("{{ link = {}, sha256 = \"{}\"{} }}", toml_text(address), got.sha256, more(server, how));
    Ok((learnt.found.id, value))
}
