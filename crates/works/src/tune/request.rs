//! What a person asks to be tuned, value by value.

use std::collections::BTreeSet;

use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::id::ServerPath;
use yalotheca_core::ledger::Act;
use yalotheca_core::roster::{Tuned, What, put_settings};
use yalotheca_core::settings::{Amount, Delimited, Edit, EditError, Path, Seat, Sort, Spot, Value, number_order};

use super::sheet::{Sheet, open};
use super::{Outcome, finish, roster_error};
use crate::Error;
use crate::server::Server;
use crate::settle::Plan;

/// One change of a settings file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Change {
    /// Set a value.
    Set(Path, Value),
    /// Reckon with the number that stands there.
    Reckon(Path, Amount),
    /// Add elements to a list.
    Add(Path, Vec<Value>),
    /// Take elements out of a list.
    Drop(Path, Vec<Value>),
    /// Take a key or an element out.
    Remove(Path),
}

impl Change {
    fn path(&self) -> &Path {
        match self {
            Change::Set(p, _) | Change::Reckon(p, _) | Change::Add(p, _) | Change::Drop(p, _) | Change::Remove(p) => p,
        }
    }
}

/// A test of a value: of the one that a path means, or of another key beside it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Where {
    key: Option<Path>,
    sign: String,
    value: String,
}

impl Where {
    /// Reads `<5`, `>=2`, `=salt`, `!=salt`, or the same behind a key: `kind=fog`.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn parse(text: &str) -> Result<Self, String> {
        let signs = ["!=", "<=", ">=", "=", "<", ">"];
        let found = text.char_indices().find_map(|(at, _)| {
            let rest = text.get(at..)?;
            signs.iter().find(|s| rest.starts_with(**s)).map(|s| (at, *s))
        });
        let (at, sign) =
            found.ok_or_else(|| format!("`{text}` is no test; write '<5', '>=2', '=salt' or 'kind=fog'"))?;
        let key = match text.get(..at).unwrap_or("").trim() {
            "" => None,
            key => Some(Path::parse(key).map_err(|e| e.to_string())?),
        };
        let value = text.get(at + sign.len()..).unwrap_or("").trim().to_owned();
        Ok(Self { key, sign: sign.to_owned(), value })
    }

    fn holds(&self, sheet: &mut Sheet, spot: &Spot) -> bool {
        let value = match &self.key {
            None => spot.value.clone(),
            Some(key) => {
                let beside = spot.path.first_parts(spot.path.parts().saturating_sub(1)).join(key);
                let within = spot.path.join(key);
                let found = [within, beside].into_iter().find_map(|p| sheet.document.get(&p).ok().flatten());
                match found {
                    Some(found) => found.value,
                    None => return false,
                }
            }
        };
        let words = value.text().unwrap_or_default();
        let order = number_order(&words, &self.value);
        let equal = words == self.value || order == Some(std::cmp::Ordering::Equal);
        match self.sign.as_str() {
            "=" => equal,
            "!=" => !equal,
            "<" => order == Some(std::cmp::Ordering::Less),
            "<=" => order.is_some_and(|o| o != std::cmp::Ordering::Greater),
            ">" => order == Some(std::cmp::Ordering::Greater),
            _ => order.is_some_and(|o| o != std::cmp::Ordering::Less),
        }
    }
}

/// What is asked.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// The file, as it was typed.
    pub file: String,
    /// Its format, where the person names it.
    pub format: Option<yalotheca_core::settings::Format>,
    /// The changes.
    pub changes: Vec<Change>,
    /// The sort the values are to have, whatever stands there.
    pub force: Option<Sort>,
    /// Only values that pass.
    pub filter: Option<Where>,
    /// Where new elements go.
    pub seat: Seat,
    /// What parts the elements of a list inside one value.
    pub between: Option<String>,
    /// Keys may be new though others are named nearly alike.
    pub new: bool,
    /// The file may be missing still: the server makes it later.
    pub later: bool,
    /// The snippet the changes come from.
    pub from: Option<String>,
}

/// Plans changes of a settings file; returns how many values they mean, too.
///
/// # Errors
/// A path that means nothing, a value that does not fit there, a file in doubt.
pub fn plan(server: &Server, request: &Request) -> Result<(Plan, usize), Error> {
    if request.later && matches!(open(server, &request.file, request.format), Err(Error::NoSettings { .. })) {
        return later(server, request);
    }
    let mut sheet = open(server, &request.file, request.format)?;
    let (records, edits) = records(server, &mut sheet, request)?;
    let file = sheet.path.clone();
    // what the format says no to is said before anything is planned
    sheet.document.clone().edit(&edits).map_err(|source| Error::Edit { file: file.to_string(), source })?;
    let count = records.len();
    recorded(server, records, [file].into(), Vec::new()).map(|plan| (plan, count))
}

/// Puts records on the roster and computes the files they are about.
pub(super) fn recorded(
    server: &Server,
    records: Vec<Tuned>,
    files: BTreeSet<ServerPath>,
    findings: Vec<Finding>,
) -> Result<Plan, Error> {
    let text = put_settings(&server.text, &records).map_err(|source| roster_error(server, &source))?;
    let touched: Vec<(ServerPath, Path)> = records.iter().map(|t| (t.file.clone(), t.at.clone())).collect();
    let act = Act::Tune(files.iter().cloned().collect());
    finish(server, Outcome { text, touched: &touched, files, docs: Vec::new(), findings, act })
}

/// Values for a file that the server has not made yet.
fn later(server: &Server, request: &Request) -> Result<(Plan, usize), Error> {
    let file = ServerPath::server(&request.file)?;
    let mut records = Vec::new();
    for change in &request.changes {
        let at = server.family.unnamed(&file, change.path());
        let what = match change {
            Change::Set(_, value) => What::Value(value.clone(), request.force),
            Change::Add(_, values) => What::List {
                add: values.clone(),
                without: Vec::new(),
                seat: request.seat.clone(),
                between: request.between.clone(),
                pasted: Vec::new(),
            },
            Change::Reckon(..) | Change::Drop(..) | Change::Remove(_) => {
                let why = "is not there yet, and there is nothing to reckon with or to take out".to_owned();
                return Err(Error::NoSettings { file: file.to_string(), why });
            }
        };
        if at.is_wide() {
            let why = "is not there yet, so a path with `*` means nothing in it".to_owned();
            return Err(Error::NoSettings { file: file.to_string(), why });
        }
        allowed(server, &file, &at, change)?;
        records.push(Tuned { file: file.clone(), at, what, from: request.from.clone(), line: 0 });
    }
    let count = records.len();
    recorded(server, records, [file].into(), Vec::new()).map(|plan| (plan, count))
}

/// The lines for the roster, and the edits they come to.
pub(super) fn records(server: &Server, sheet: &mut Sheet, request: &Request) -> Result<(Vec<Tuned>, Vec<Edit>), Error> {
    let file = sheet.path.clone();
    let fail = |source: EditError| Error::Edit { file: file.to_string(), source };
    let mut records: Vec<Tuned> = Vec::new();
    let mut edits = Vec::new();
    for change in &request.changes {
        let asked = server.family.unnamed(&file, change.path());
        let mut spots = match sheet.document.select(&asked) {
            Ok(spots) => spots.into_iter().map(|s| (s.path.clone(), Some(s))).collect::<Vec<_>>(),
            // one that is missing can be made
            Err(EditError::NoSuch { hint, .. }) if may_make(change, &asked) && (request.new || hint.is_empty()) => {
                vec![(asked.clone(), None)]
            }
            Err(error) => return Err(fail(error)),
        };
        if let Some(filter) = &request.filter {
            spots.retain(|(_, spot)| spot.as_ref().is_some_and(|s| filter.holds(sheet, s)));
            if spots.is_empty() {
                let why = "no value there passes the test of --where".to_owned();
                return Err(fail(EditError::Unclear { path: asked.to_string(), why }));
            }
        }
        for (at, spot) in spots {
            allowed(server, &file, &at, change)?;
            let known = server.roster.tuned.iter().chain(&records).rfind(|t| t.file == file && t.at == at).cloned();
            let (what, edit) = what(server, &file, &at, spot.as_ref(), known.as_ref(), change, request)
                .map_err(|why| fail(EditError::Unclear { path: at.to_string(), why }))?;
            if let (Some(setting), What::Reckoned { result, .. }) = (server.family.setting(&file, &at), &what) {
                refuse(&file, &at, setting.refuses(&Value::Number(result.clone())))?;
            }
            records.retain(|t| t.at != at || request.changes.len() == 1);
            let from = if matches!(what, What::List { .. }) { None } else { request.from.clone() };
            records.push(Tuned { file: file.clone(), at, what, from, line: 0 });
            edits.push(edit);
        }
    }
    Ok((records, edits))
}

fn may_make(change: &Change, path: &Path) -> bool {
    matches!(change, Change::Set(..) | Change::Add(..)) && !path.is_wide()
}

/// Secrets are set another way, and values within what the family says.
fn allowed(server: &Server, file: &ServerPath, at: &Path, change: &Change) -> Result<(), Error> {
    if server.family.is_secret(file, at) {
        let cause = format!("`{at}` is secret: it is not taken from the command line, where others could read it");
        let fix =
            format!("yalotheca tune {file} '{at}' --secret asks for it; --secret FILE or --secret '$NAME' reads it");
        return Err(Error::Forbidden(vec![Finding::new("secret", Severity::Error, cause, fix).at(file)]));
    }
    let values: Vec<&Value> = match change {
        Change::Set(_, value) => vec![value],
        Change::Add(_, values) => values.iter().collect(),
        _ => Vec::new(),
    };
    if let Some(setting) = server.family.setting(file, at) {
        for value in values {
            refuse(file, at, setting.refuses(value))?;
        }
    }
    Ok(())
}

fn refuse(file: &ServerPath, at: &Path, why: Option<String>) -> Result<(), Error> {
    let Some(why) = why else { return Ok(()) };
    let finding = Finding::new("out-of-range", Severity::Error, format!("`{at}`: {why}"), "give a value that it takes");
    Err(Error::Forbidden(vec![finding.at(file)]))
}

/// What one change means for one value: the record, and the edit.
fn what(
    server: &Server,
    file: &ServerPath,
    at: &Path,
    spot: Option<&Spot>,
    known: Option<&Tuned>,
    change: &Change,
    request: &Request,
) -> Result<(What, Edit), String> {
    let path = at.clone();
    match change {
        Change::Set(_, value) => {
            let value = seated(value, spot.map(|s| &s.value), request.force);
            let edit = Edit::Set { path, value: value.clone(), force: request.force };
            Ok((What::Value(value, request.force), edit))
        }
        Change::Reckon(_, amount) => {
            let there = spot.and_then(|s| s.value.text()).unwrap_or_default();
            // done again: on what came of it before, from the same base
            let (mut by, base) = match known.map(|k| &k.what) {
                Some(What::Reckoned { by, base, result })
                    if Value::Number(result.clone()).same(&Value::Number(there.clone())) =>
                {
                    (by.clone(), base.clone())
                }
                _ => (Vec::new(), there.clone()),
            };
            by.push(amount.clone());
            let result = amount.of(&there).map_err(|e| e.to_string())?;
            let edit = Edit::Set { path, value: Value::Number(result.clone()), force: None };
            Ok((What::Reckoned { by, base, result }, edit))
        }
        Change::Add(_, values) | Change::Drop(_, values) => {
            let (mut add, mut without, mut seat, mut between, mut pasted) = match known.map(|k| k.what.clone()) {
                Some(What::List { add, without, seat, between, pasted }) => (add, without, seat, between, pasted),
                _ => (Vec::new(), Vec::new(), Seat::Last, None, Vec::new()),
            };
            between = request
                .between
                .clone()
                .or(between)
                .or_else(|| server.family.setting(file, at).and_then(|s| s.between.clone()));
            if request.seat != Seat::Last {
                seat = request.seat.clone();
            }
            let adds = matches!(change, Change::Add(..));
            for value in values {
                without.retain(|v| !v.same(value));
                let known = add.iter().any(|v| v.same(value));
                let ours = known || pasted.iter().any(|(_, p)| p.iter().any(|v| v.same(value)));
                add.retain(|v| !v.same(value));
                pasted.iter_mut().for_each(|(_, p)| p.retain(|v| !v.same(value)));
                match (&request.from, adds) {
                    (Some(name), true) => match pasted.iter_mut().find(|(n, _)| n == name) {
                        Some((_, there)) => there.push(value.clone()),
                        None => pasted.push((name.clone(), vec![value.clone()])),
                    },
                    (None, true) => add.push(value.clone()),
                    // what only we put there just goes
                    (_, false) if ours => {}
                    (_, false) => without.push(value.clone()),
                }
            }
            pasted.retain(|(_, p)| !p.is_empty());
            let edit = match (&between, adds) {
                (Some(between), _) => {
                    let list = Delimited::new(between);
                    let text = spot.and_then(|s| s.value.text()).unwrap_or_default();
                    let mut words = list.read(&text);
                    for word in values.iter().filter_map(Value::text) {
                        words.retain(|w| *w != word);
                        if adds {
                            words.push(word);
                        }
                    }
                    Edit::Set { path, value: Value::Text(list.write(&text, &words)), force: Some(Sort::Text) }
                }
                (None, true) => Edit::Add { path, values: values.clone(), seat: request.seat.clone() },
                (None, false) => Edit::Drop { path, values: values.clone() },
            };
            // what was never there need not be kept away
            if !adds {
                let there = spot.map(|s| s.value.clone());
                let list = match (&there, &between) {
                    (Some(Value::List(items)), _) => items.clone(),
                    (Some(one), Some(between)) => Delimited::new(between)
                        .read(&one.text().unwrap_or_default())
                        .into_iter()
                        .map(Value::Text)
                        .collect(),
                    (Some(one), None) => vec![one.clone()],
                    (None, _) => Vec::new(),
                };
                for value in values {
                    let is = |v: &Value| yalotheca_core::slot::means(v, value);
                    if !list.iter().any(is) {
                        return Err(format!(
                            "no element `{}` stands there",
                            yalotheca_core::text::clean(&value.shown(), 60)
                        ));
                    }
                }
            }
            Ok((What::List { add, without, seat, between, pasted }, edit))
        }
        Change::Remove(_) => Ok((What::Gone, Edit::Remove { path })),
    }
}

/// The value in the sort that stands there, so that the roster records it as it is written.
fn seated(value: &Value, there: Option<&Value>, force: Option<Sort>) -> Value {
    match (there, value.text(), force) {
        (_, Some(words), Some(Sort::Text)) => Value::Text(words),
        (_, Some(words), Some(Sort::Number)) => Value::Number(words),
        (Some(Value::Text(_)), Some(words), None) => Value::Text(words),
        _ => value.clone(),
    }
}
