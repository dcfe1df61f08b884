//! Tuning that is about more than a value: snippets, copies, entries that move, repairs, secrets, taking back.

use std::collections::BTreeSet;

use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::id::ServerPath;
use yalotheca_core::ledger::Act;
use yalotheca_core::roster::{Tuned, What, put_setting, take_setting};
use yalotheca_core::settings::{Document, Edit, EditError, Format, Path, Slip, Sort, Value, guess, slip};
use yalotheca_core::slot::DocChange;
use yalotheca_core::text::{clean, did_you_mean, glob};

use super::request::{Change, Request, recorded, records};
use super::sheet::{self, open};
use super::{Outcome, finish, format_of, roster_error};
use crate::Error;
use crate::server::{MOST_SETTINGS, Server};
use crate::settle::Plan;

fn edit_error(file: &ServerPath) -> impl Fn(EditError) -> Error {
    let file = file.to_string();
    move |source| Error::Edit { file: file.clone(), source }
}

/// Plans the merging of a snippet: tables are merged, lists get what they lack. All of it is marked with the
/// snippet's name, so that it can be taken out again.
///
/// # Errors
/// The snippet cannot be read, or a value does not fit.
pub fn paste(
    server: &Server,
    file: &str,
    format: Option<Format>,
    snippet: &std::path::Path,
) -> Result<(Plan, usize), Error> {
    let mut sheet = open(server, file, format)?;
    let size = std::fs::metadata(snippet).map_err(Error::disk(snippet, "cannot be read"))?.len();
    let name = snippet.file_name().and_then(|n| n.to_str()).unwrap_or("snippet").to_owned();
    if size > MOST_SETTINGS {
        return Err(Error::NoSettings { file: name, why: "is far too large for a snippet".to_owned() });
    }
    let bytes = std::fs::read(snippet).map_err(Error::disk(snippet, "cannot be read"))?;
    let read = |format: Format| Document::parse(format, &bytes);
    // in the file's own format, or the one its name tells
    let document = match read(sheet.format) {
        Ok(document) => document,
        Err(error) => guess(&name, &bytes).and_then(|f| read(f).ok()).ok_or_else(|| {
            let why = format!("is no {} snippet: {error}", sheet.format.word());
            Error::NoSettings { file: name.clone(), why }
        })?,
    };
    let edits =
        yalotheca_core::settings::paste(&mut sheet.document, &document.value()).map_err(edit_error(&sheet.path))?;
    let changes = edits
        .into_iter()
        .map(|edit| match edit {
            Edit::Add { path, values, .. } => Change::Add(path, values),
            Edit::Set { path, value, .. } => Change::Set(path, value),
            Edit::Drop { path, values } => Change::Drop(path, values),
            Edit::Remove { path } => Change::Remove(path),
        })
        .collect();
    let request = Request { file: file.to_owned(), format, changes, from: Some(name), new: true, ..Request::default() };
    super::plan(server, &request)
}

/// Plans the taking back of what was tuned: of some paths, of a snippet, or of the whole file.
///
/// # Errors
/// Nothing of that was tuned.
pub fn forget(server: &Server, file: &str, paths: &[Path], from: Option<&str>) -> Result<(Plan, usize), Error> {
    let file = sheet::path(server, file)?;
    let mine: Vec<&Tuned> = server.roster.tuned.iter().filter(|t| t.file == file).collect();
    let asked: Vec<Path> = paths.iter().map(|p| server.family.unnamed(&file, p)).collect();
    for (path, typed) in asked.iter().zip(paths) {
        if !mine.iter().any(|t| t.at == *path || path.covers(&t.at)) {
            let names: Vec<String> = mine.iter().map(|t| t.at.to_string()).collect();
            let hint = did_you_mean(&typed.to_string(), names.iter().map(String::as_str));
            return Err(Error::NotTuned { file: file.to_string(), what: format!("nothing at `{typed}`"), hint });
        }
    }
    let asked_for = |t: &&Tuned| asked.is_empty() || asked.iter().any(|p| t.at == *p || p.covers(&t.at));
    let mut text = server.text.clone();
    let mut gone: Vec<&Tuned> = Vec::new();
    for tuned in mine.iter().copied().filter(asked_for) {
        // of a list, only what came with the snippet
        let left = match (&tuned.what, from) {
            (What::List { add, without, seat, between, pasted }, Some(name))
                if pasted.iter().any(|(n, _)| n == name) =>
            {
                let pasted: Vec<_> = pasted.iter().filter(|(n, _)| n != name).cloned().collect();
                let empty = add.is_empty() && without.is_empty() && pasted.is_empty();
                let (add, without) = (add.clone(), without.clone());
                let what = What::List { add, without, seat: seat.clone(), between: between.clone(), pasted };
                (!empty).then(|| Tuned { what, ..tuned.clone() })
            }
            (_, Some(name)) if tuned.from.as_deref() != Some(name) => continue,
            _ => None,
        };
        gone.push(tuned);
        text = match left {
            Some(left) => put_setting(&text, &left),
            None => take_setting(&text, &tuned.file, &tuned.at),
        }
        .map_err(|source| roster_error(server, &source))?;
    }
    if gone.is_empty() {
        let what = from.map_or("nothing".to_owned(), |f| format!("nothing from `{}`", clean(f, 60)));
        return Err(Error::NotTuned { file: file.to_string(), what, hint: String::new() });
    }
    let touched: Vec<(ServerPath, Path)> = gone.iter().map(|t| (t.file.clone(), t.at.clone())).collect();
    let act = Act::Tune(vec![file.clone()]);
    let outcome =
        Outcome { text, touched: &touched, files: [file].into(), docs: Vec::new(), findings: Vec::new(), act };
    Ok((finish(server, outcome)?, gone.len()))
}

/// Plans the one repair of a common slip.
///
/// # Errors
/// The file reads as it is, or no one repair makes it read.
pub fn mend(server: &Server, file: &str, format: Option<Format>) -> Result<(Plan, Slip), Error> {
    let path = sheet::path(server, file)?;
    let bytes = sheet::bytes(server, &path)?;
    let format = format.unwrap_or_else(|| format_of(server, &path, Some(&bytes)));
    let Err(error) = Document::parse(format, &bytes) else {
        return Err(Error::NothingToMend(path.to_string()));
    };
    let Some(slip) = slip(format, &bytes) else {
        return Err(Error::InDoubt(Box::new(yalotheca_core::slot::unreadable(&path, format, &bytes, &error))));
    };
    let notes = vec![format!("line {}: {}", slip.line, slip.repair)];
    let doc = DocChange { path: path.clone(), before: Some(bytes), after: Some(slip.bytes.clone()), notes };
    Ok((beside(server, vec![doc], vec![path])?, slip))
}

/// A plan that writes files and touches no slot and no roster line.
fn beside(server: &Server, docs: Vec<DocChange>, files: Vec<ServerPath>) -> Result<Plan, Error> {
    let act = Act::Tune(files);
    let text = server.text.clone();
    finish(server, Outcome { text, touched: &[], files: BTreeSet::new(), docs, findings: Vec::new(), act })
}

/// Plans the setting of a secret value: it is written to the file and nowhere else.
///
/// # Errors
/// The family does not call it secret, or it does not fit.
pub fn secret(server: &Server, file: &str, at: &Path, value: &str) -> Result<Plan, Error> {
    let mut sheet = open(server, file, None)?;
    let at = server.family.unnamed(&sheet.path, at);
    if !server.family.is_secret(&sheet.path, &at) {
        let why = "is no setting that the family calls secret; set it with =".to_owned();
        return Err(Error::NoSettings { file: format!("{} {at}", sheet.path), why });
    }
    if let Some(setting) = server.family.setting(&sheet.path, &at)
        && let Some(why) = setting.refuses(&Value::typed(value))
    {
        let finding =
            Finding::new("out-of-range", Severity::Error, format!("`{at}`: {why}"), "give a value that it takes");
        return Err(Error::Forbidden(vec![finding.at(&sheet.path)]));
    }
    let there = sheet.document.get(&at).map_err(edit_error(&sheet.path))?;
    let typed = match there.map(|s| s.value.sort()) {
        Some(Some(Sort::Number)) => Value::typed(value),
        _ => Value::Text(value.to_owned()),
    };
    // an error would show the value
    sheet
        .document
        .set(&at, typed, Some(Sort::Text).filter(|_| !matches!(Value::typed(value), Value::Number(_))))
        .map_err(|_| {
            let why = "the value cannot be written in this file".to_owned();
            Error::Edit { file: sheet.path.to_string(), source: EditError::Cannot { path: at.to_string(), why } }
        })?;
    let after = sheet.document.render();
    let docs = if after == sheet.bytes {
        Vec::new()
    } else {
        let notes = vec![format!("{at}: (secret) → (secret)")];
        vec![DocChange { path: sheet.path.clone(), before: Some(sheet.bytes), after: Some(after), notes }]
    };
    beside(server, docs, vec![sheet.path])
}

/// Plans copies of settings files under new names. References from one copied file to another follow to the copies,
/// where the family names them.
///
/// # Errors
/// A source is missing, or something stands where a copy goes.
pub fn copy(server: &Server, pairs: &[(String, String)]) -> Result<Plan, Error> {
    let mut sources = Vec::new();
    for (from, to) in pairs {
        let source = sheet::path(server, from)?;
        let bytes = sheet::bytes(server, &source)?;
        let to = ServerPath::server(to)?;
        let stat = server.tree.stat(std::slice::from_ref(&to))?;
        if stat.first() != Some(&crate::tree::Stat::Absent) {
            let why = "stands there already; choose another name for the copy".to_owned();
            return Err(Error::NoSettings { file: to.to_string(), why });
        }
        sources.push((source, to, bytes));
    }
    let mut docs = Vec::new();
    for (source, to, bytes) in &sources {
        let mut after = bytes.clone();
        let mut notes = vec![format!("copied from {source}")];
        let name = source.to_string();
        let references = server.family.rules.reference.iter().filter(|r| glob(&r.file, &name));
        let format = format_of(server, source, Some(bytes));
        for reference in references {
            let (Ok(at), Ok(mut document)) = (Path::parse(&reference.at), Document::parse(format, &after)) else {
                continue;
            };
            for spot in document.select(&at).unwrap_or_default() {
                let Some(value) = spot.value.text() else { continue };
                let target = |v: &str| reference.to.fill(|_| Some(v.to_owned().into()));
                let Some((_, copied, _)) =
                    sources.iter().find(|(s, ..)| target(&value).is_some_and(|t| t == s.to_string()))
                else {
                    continue;
                };
                // the word that names the copy
                let Some(word) = reference.to.word_for(&copied.to_string()) else { continue };
                notes.push(format!("{}: `{value}` → `{word}`", spot.path));
                document.set(&spot.path, Value::Text(word), Some(Sort::Text)).map_err(edit_error(to))?;
            }
            after = document.render();
        }
        docs.push(DocChange { path: to.clone(), before: None, after: Some(after), notes });
    }
    let files = sources.iter().map(|(_, to, _)| to.clone()).collect();
    beside(server, docs, files)
}

/// Plans the moving of an entry from one file's list or table to another's, at one go.
///
/// # Errors
/// Nothing stands there, or it does not fit where it goes.
pub fn move_entry(server: &Server, from: (&str, &Path), to: (&str, &Path)) -> Result<Plan, Error> {
    let mut source = open(server, from.0, None)?;
    let mut target = open(server, to.0, None)?;
    let at = server.family.unnamed(&source.path, from.1);
    let spots = source.document.select(&at).map_err(edit_error(&source.path))?;
    let [spot] = spots.as_slice() else {
        let why = format!("it means {} entries; one is moved", spots.len());
        return Err(edit_error(&source.path)(EditError::Unclear { path: at.to_string(), why }));
    };
    let list = spot.path.first_parts(spot.path.parts().saturating_sub(1));
    let in_list = matches!(source.document.get(&list), Ok(Some(s)) if matches!(s.value, Value::List(_)));
    let take = if in_list { Change::Drop(list, vec![spot.value.clone()]) } else { Change::Remove(spot.path.clone()) };
    let place = server.family.unnamed(&target.path, to.1);
    let there = target.document.get(&place).map_err(edit_error(&target.path))?.map(|s| s.value);
    let put = match there {
        Some(Value::List(_)) => Change::Add(place, vec![spot.value.clone()]),
        Some(Value::Map(_)) => match spot.path.last_key() {
            Some(key) => Change::Set(place.key(key), spot.value.clone()),
            None => {
                let why = "a table takes an entry with a key; name the key it is to have".to_owned();
                return Err(edit_error(&target.path)(EditError::Unclear { path: place.to_string(), why }));
            }
        },
        Some(Value::Null) | None => Change::Set(place, spot.value.clone()),
        Some(_) => {
            let why = "a value stands there already; name a list or a table".to_owned();
            return Err(edit_error(&target.path)(EditError::Unclear { path: place.to_string(), why }));
        }
    };
    let request = |file: &str, change: Change| Request {
        file: file.to_owned(),
        changes: vec![change],
        new: true,
        ..Request::default()
    };
    let mut all = Vec::new();
    for (sheet, request) in [(&mut source, request(from.0, take)), (&mut target, request(to.0, put))] {
        let (records, edits) = records(server, sheet, &request)?;
        sheet.document.clone().edit(&edits).map_err(edit_error(&sheet.path))?;
        all.extend(records);
    }
    // in one file both changes are about the same text
    let files = [source.path.clone(), target.path.clone()].into();
    let whole = matches!(all.as_slice(), [a, b] if a.file == b.file && a.at == b.at);
    if whole {
        let why = "it stands there already".to_owned();
        return Err(edit_error(&source.path)(EditError::Unclear { path: at.to_string(), why }));
    }
    recorded(server, all, files, Vec::new())
}
