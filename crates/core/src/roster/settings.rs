//! The roster's `[settings."FILE"]`: what the administrator tuned, so that every settle keeps it.

use super::{RosterError, error};
use crate::id::ServerPath;
use crate::settings::{Amount, Document, Edit, EditError, Format, Path, Seat, Sort, Value};
use crate::slot::{Claim, ListIn, Owner, SlotKey};
use crate::text::{clean, did_you_mean};

/// One line of `[settings."FILE"]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tuned {
    /// The settings file.
    pub file: ServerPath,
    /// Where in it.
    pub at: Path,
    /// What was tuned.
    pub what: What,
    /// The snippet it came with.
    pub from: Option<String>,
    /// The line in the roster, from 1.
    pub line: usize,
}

/// What was tuned.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum What {
    /// A value, and the sort it is to have whatever stands there.
    Value(Value, Option<Sort>),
    /// Arithmetic on the file's own number, and its result.
    Reckoned {
        /// What is done, in order.
        by: Vec<Amount>,
        /// The number it is done to.
        base: String,
        /// What comes of it.
        result: String,
    },
    /// Elements of a list that are to be there, and others that are not.
    List {
        /// Those that are to be there.
        add: Vec<Value>,
        /// Those that are not.
        without: Vec<Value>,
        /// Where they go.
        seat: Seat,
        /// What parts them, inside one value.
        between: Option<String>,
        /// Elements that came with snippets, by the snippet's name.
        pasted: Vec<(String, Vec<Value>)>,
    },
    /// The key is to be gone.
    Gone,
}

impl Tuned {
    /// Returns its claims on the file's slots.
    pub fn claims(&self, format: Format) -> Vec<Claim> {
        let whole = self.at.is_empty();
        let at = (!whole).then(|| self.at.to_string());
        let key = |list| SlotKey { path: self.file.clone(), format, at: at.clone(), list };
        match &self.what {
            What::Value(value, force) => {
                vec![Claim { force: *force, ..Claim::new(key(None), Owner::Tuned, value.clone()) }]
            }
            What::Reckoned { result, .. } => vec![Claim::new(key(None), Owner::Tuned, Value::Number(result.clone()))],
            What::Gone => vec![Claim::new(key(None), Owner::TunedOut, Value::Null)],
            What::List { add, without, seat, between, pasted } => {
                let list = match between {
                    Some(between) => Some(ListIn::Between(between.clone())),
                    None if whole => None,
                    None => Some(ListIn::Elements),
                };
                let claim = |owner: Owner, value: &Value| Claim {
                    seat: seat.clone(),
                    ..Claim::new(key(list.clone()), owner, value.clone())
                };
                let add = add.iter().chain(pasted.iter().flat_map(|(_, v)| v)).map(|v| claim(Owner::Tuned, v));
                add.chain(without.iter().map(|v| claim(Owner::TunedOut, v))).collect()
            }
        }
    }

    /// Returns it as the roster writes it.
    fn value(&self) -> Value {
        let text = |t: &str| Value::Text(t.to_owned());
        let mut pairs: Vec<(String, Value)> = Vec::new();
        let mut put = |key: &str, value: Value| pairs.push((key.to_owned(), value));
        match &self.what {
            What::Value(value, force) => {
                let plain = force.is_none() && self.from.is_none() && !matches!(value, Value::Map(_) | Value::Null);
                if plain {
                    return value.clone();
                }
                match value {
                    Value::Null => put("nothing", Value::Bool(true)),
                    value => put("set", value.clone()),
                }
                if let Some(force) = force {
                    put("as", text(force.name()));
                }
            }
            What::Reckoned { by, base, result } => {
                let by: Vec<Value> = by.iter().map(|b| text(&b.to_string())).collect();
                put("do", if let [one] = by.as_slice() { one.clone() } else { Value::List(by) });
                put("base", text(base));
                put("result", text(result));
            }
            What::List { add, without, seat, between, pasted } => {
                if !add.is_empty() {
                    put("add", Value::List(add.clone()));
                }
                if !without.is_empty() {
                    put("without", Value::List(without.clone()));
                }
                if *seat != Seat::Last {
                    put("seat", text(&seat.to_string()));
                }
                if let Some(between) = between {
                    put("between", text(between));
                }
                if !pasted.is_empty() {
                    let pasted = pasted.iter().map(|(name, v)| (name.clone(), Value::List(v.clone())));
                    put("pasted", Value::Map(pasted.collect()));
                }
            }
            What::Gone => put("gone", Value::Bool(true)),
        }
        if let Some(from) = &self.from {
            put("from", text(from));
        }
        Value::Map(pairs)
    }
}

/// The path of a line in the roster.
fn place(file: &ServerPath, at: &Path) -> Path {
    folder(file).key(&at.to_string())
}

fn folder(file: &ServerPath) -> Path {
    Path::parse("settings").unwrap_or_else(|_| Path::default()).key(&file.to_string())
}

/// Reads every `[settings."FILE"]`.
pub(super) fn read(text: &str) -> Result<Vec<Tuned>, RosterError> {
    let fail = |line: usize, why: String| {
        let start = text.split_inclusive('\n').take(line.saturating_sub(1)).map(str::len).sum();
        error(text, (start, 1), why)
    };
    let mut document = Document::parse(Format::Toml, text.as_bytes()).map_err(|e| fail(e.line, clean(&e.why, 200)))?;
    let settings = Path::default().key("settings");
    let Ok(Some(all)) = document.get(&settings) else { return Ok(Vec::new()) };
    let Value::Map(files) = all.value else {
        return Err(fail(all.line, "`settings` holds a table for each file: [settings.\"start.conf\"]".to_owned()));
    };
    let mut out = Vec::new();
    for (name, lines) in files {
        let line = document.get(&settings.key(&name)).ok().flatten().map_or(all.line, |s| s.line);
        let file = ServerPath::try_from(name.clone()).map_err(|e| fail(line, e.to_string()))?;
        let Value::Map(lines) = lines else {
            return Err(fail(line, format!("`[settings.\"{}\"]` holds a line for each value", clean(&name, 60))));
        };
        for (at, value) in lines {
            let spot = document.get(&place_text(&settings, &name, &at)).ok().flatten();
            let line = spot.map_or(line, |s| s.line);
            let path = Path::parse(&at).map_err(|e| fail(line, e.to_string()))?;
            if path.is_wide() {
                return Err(fail(line, format!("`{}` means many values; each has its own line here", clean(&at, 60))));
            }
            let (what, from) = what(value).map_err(|why| fail(line, format!("`{}`: {why}", clean(&at, 60))))?;
            out.push(Tuned { file: file.clone(), at: path, what, from, line });
        }
    }
    Ok(out)
}

fn place_text(settings: &Path, file: &str, at: &str) -> Path {
    settings.key(file).key(at)
}

fn what(value: Value) -> Result<(What, Option<String>), String> {
    let Value::Map(pairs) = value else { return Ok((What::Value(value, None), None)) };
    let known =
        ["set", "nothing", "as", "do", "base", "result", "add", "without", "seat", "between", "pasted", "gone", "from"];
    if let Some((word, _)) = pairs.iter().find(|(k, _)| !known.contains(&k.as_str())) {
        return Err(format!("`{}` is no word here{}", clean(word, 40), did_you_mean(word, known)));
    }
    let find = |key: &str| pairs.iter().find(|(k, _)| k == key).map(|(_, v)| v.clone());
    let text = |key: &str| find(key).and_then(|v| v.text());
    let list = |key: &str| match find(key) {
        Some(Value::List(items)) => items,
        Some(one) => vec![one],
        None => Vec::new(),
    };
    let from = text("from");
    let force = match text("as").as_deref() {
        None => None,
        Some("text") => Some(Sort::Text),
        Some("number") => Some(Sort::Number),
        Some("flag") => Some(Sort::Flag),
        Some(other) => return Err(format!("`as` is text, number or flag, not `{}`", clean(other, 20))),
    };
    if find("gone").is_some() {
        return Ok((What::Gone, from));
    }
    if find("nothing").is_some() {
        return Ok((What::Value(Value::Null, Some(Sort::Nothing)), from));
    }
    if let Some(value) = find("set") {
        return Ok((What::Value(value, force), from));
    }
    if find("do").is_some() {
        let by: Option<Vec<Amount>> = list("do").iter().map(|v| v.text().and_then(|t| Amount::parse(&t))).collect();
        let by = by.filter(|b| !b.is_empty()).ok_or("`do` is arithmetic: \"*2\", \"/2\", \"+1\" or \"- 1\"")?;
        let (Some(base), Some(result)) = (text("base"), text("result")) else {
            return Err("`do` needs the `base` it was done to and the `result`; let `tune` write this line".to_owned());
        };
        return Ok((What::Reckoned { by, base, result }, from));
    }
    let (add, without) = (list("add"), list("without"));
    let pasted: Vec<(String, Vec<Value>)> = match find("pasted") {
        Some(Value::Map(pairs)) => pairs
            .into_iter()
            .map(|(name, v)| (name, if let Value::List(items) = v { items } else { vec![v] }))
            .collect(),
        Some(_) => return Err("`pasted` holds elements by the name of their snippet".to_owned()),
        None => Vec::new(),
    };
    if add.is_empty() && without.is_empty() && pasted.is_empty() {
        return Err("it sets nothing; write a value, or `add`, `without`, `gone`".to_owned());
    }
    let seat = Seat::try_from(text("seat").unwrap_or_else(|| "last".to_owned()))?;
    Ok((What::List { add, without, seat, between: text("between"), pasted }, from))
}

/// Returns `text` with lines of `[settings."FILE"]` set; nothing else of it changes.
///
/// # Errors
/// The text is no roster, or a value cannot be written in TOML.
pub fn put_settings(text: &str, all: &[Tuned]) -> Result<String, EditError> {
    let mut document = Document::parse(Format::Toml, text.as_bytes())?;
    let mut edits = Vec::new();
    for tuned in all {
        if document.get(&folder(&tuned.file))?.is_none() {
            // its table, under which each value has a line
            let text = document.text();
            let end = if text.contains("\r\n") { "\r\n" } else { "\n" };
            let gap = if text.is_empty() || text.ends_with('\n') { "" } else { end };
            let header =
                format!("{text}{gap}{end}[settings.{}]{end}", crate::settings::toml_key(&tuned.file.to_string()));
            document = Document::parse(Format::Toml, header.as_bytes())?;
        }
        let at = place(&tuned.file, &tuned.at);
        let value = tuned.value();
        let sort = value.sort();
        // another kind of record is another line
        let there = document.get(&at)?.map(|s| s.value);
        if there.is_some_and(|v| v.sort() != sort || sort.is_none()) {
            document.remove(&at)?;
        }
        edits.push(Edit::Set { path: at, value, force: sort });
    }
    document.edit(&edits)?;
    Ok(document.text().to_owned())
}

/// Returns `text` with one line of `[settings."FILE"]` set.
///
/// # Errors
/// As [`put_settings`].
pub fn put_setting(text: &str, tuned: &Tuned) -> Result<String, EditError> {
    put_settings(text, std::slice::from_ref(tuned))
}

/// Returns `text` without a line of `[settings."FILE"]`; the table goes with its last line.
///
/// # Errors
/// The text is no roster.
pub fn take_setting(text: &str, file: &ServerPath, at: &Path) -> Result<String, EditError> {
    let mut document = Document::parse(Format::Toml, text.as_bytes())?;
    document.remove(&place(file, at))?;
    if document.get(&folder(file))?.is_some_and(|s| s.value == Value::Map(Vec::new())) {
        document.remove(&folder(file))?;
    }
    Ok(document.text().to_owned())
}

/// Takes the lines of `[settings]` in `now` back from what they are in `after` to what they were in `before`; lines
/// that somebody changed since `after` stay.
pub(super) fn merge_back(before: &str, after: &str, now: &str) -> Result<String, RosterError> {
    let (old, new, current) = (read(before)?, read(after)?, read(now)?);
    let find = |all: &[Tuned], t: &Tuned| {
        all.iter().find(|o| o.file == t.file && o.at == t.at).map(|o| (o.what.clone(), o.from.clone()))
    };
    let mut out = now.to_owned();
    for tuned in new.iter().chain(old.iter().filter(|o| find(&new, o).is_none())) {
        let (was, became) = (find(&old, tuned), find(&new, tuned));
        if was == became || find(&current, tuned) != became {
            continue;
        }
        let back = match was {
            Some((what, from)) => put_setting(&out, &Tuned { what, from, ..tuned.clone() }),
            None => take_setting(&out, &tuned.file, &tuned.at),
        };
        out = back.map_err(|e| error(now, (0, 0), e.to_string()))?;
    }
    Ok(out)
}
