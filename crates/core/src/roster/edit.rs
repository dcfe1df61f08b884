//! Edits of a roster's text: only the lines of the item in hand change.
//!
//! The text is kept and byte ranges of it are replaced, at spans the TOML parser gives; line ends, comments and
//! order stay as they are.

use std::collections::{BTreeMap, BTreeSet};

use toml_edit::{Document, Item};

use super::{Roster, RosterError, error, span_of};
use crate::id::ItemId;
use crate::text::clean;

/// Returns `text` with the item's line set to `value` (TOML, already written): replaced where it stands, else
/// added as the last line of `[items]`.
///
/// # Errors
/// The text is no roster, before or after.
pub fn put_item(text: &str, id: &ItemId, value: &str) -> Result<String, RosterError> {
    let document = parse(text)?;
    let key = crate::settings::toml_key(id.as_str());
    let out = match find(&document, id.as_str()) {
        Some((_, span)) => splice(text, span, value),
        None => {
            let end = line_end(text);
            match items_end(&document, text) {
                Some(at) => {
                    let before = text.get(..at).unwrap_or(text);
                    let gap = if before.ends_with('\n') { "" } else { end };
                    splice(text, at..at, &format!("{gap}{key} = {value}{end}"))
                }
                None => {
                    let gap =
                        if text.is_empty() || text.ends_with('\n') { end.to_owned() } else { format!("{end}{end}") };
                    format!("{text}{gap}[items]{end}{key} = {value}{end}")
                }
            }
        }
    };
    Roster::parse(&out).map(|_| out)
}

/// Returns `text` without the item's line; `None` when it has no such item.
///
/// # Errors
/// The text is no roster, before or after.
pub fn take_item(text: &str, id: &ItemId) -> Result<Option<String>, RosterError> {
    let document = parse(text)?;
    let Some((key, value)) = find(&document, id.as_str()) else { return Ok(None) };
    let start = text.get(..key.start).and_then(|t| t.rfind('\n')).map_or(0, |at| at + 1);
    let end = text.get(value.end..).and_then(|t| t.find('\n')).map_or(text.len(), |at| value.end + at + 1);
    let out = splice(text, start..end, "");
    Roster::parse(&out).map(|_| Some(out))
}

/// Returns `text` with `key = value` in a table (`maps`, or `choices` and an item in it); the value is TOML, already
/// written.
///
/// # Errors
/// The text is no roster, before or after.
pub fn put_in(text: &str, table: &[&str], key: &str, value: &str) -> Result<String, RosterError> {
    let document = parse(text)?;
    let end = line_end(text);
    let written = crate::settings::toml_key(key);
    let mut at = Some(document.as_table());
    for name in table {
        at = at.and_then(|t| t.get(name)).and_then(Item::as_table);
    }
    let out = match at {
        Some(there) => match there.get_key_value(key).and_then(|(_, item)| item.span()) {
            Some(span) => splice(text, span, value),
            None => {
                let last = there.iter().filter_map(|(_, v)| v.span()).map(|s| s.end).max();
                let from = last.or(there.span().map(|s| s.end)).unwrap_or(text.len());
                let line = text.get(from..).and_then(|t| t.find('\n')).map_or(text.len(), |at| from + at + 1);
                let gap = if text.get(..line).is_some_and(|t| t.ends_with('\n')) { "" } else { end };
                splice(text, line..line, &format!("{gap}{written} = {value}{end}"))
            }
        },
        None => {
            let gap = if text.is_empty() || text.ends_with('\n') { end.to_owned() } else { format!("{end}{end}") };
            let header: Vec<String> = table.iter().map(|t| crate::settings::toml_key(t)).collect();
            format!("{text}{gap}[{}]{end}{written} = {value}{end}", header.join("."))
        }
    };
    Roster::parse(&out).map(|_| out)
}

/// Returns `text` without a key of a table; as it was when there is none. A table that is empty then goes, too.
///
/// # Errors
/// The text is no roster, before or after.
pub fn take_in(text: &str, table: &[&str], key: &str) -> Result<String, RosterError> {
    let document = parse(text)?;
    let mut at = Some(document.as_table());
    for name in table {
        at = at.and_then(|t| t.get(name)).and_then(Item::as_table);
    }
    let Some(there) = at else { return Ok(text.to_owned()) };
    let Some((start, stop)) = there.get_key_value(key).and_then(|(k, item)| Some((k.span()?.start, item.span()?.end)))
    else {
        return Ok(text.to_owned());
    };
    let alone = there.len() == 1;
    let from = if alone { there.span().map_or(start, |s| s.start) } else { start };
    let mut start = text.get(..from).and_then(|t| t.rfind('\n')).map_or(0, |at| at + 1);
    if alone {
        // with the empty line that parts it from what stands before
        let before = text.get(..start).unwrap_or("");
        for gap in ["\r\n\r\n", "\n\n"] {
            if before.ends_with(gap) {
                start -= gap.len() / 2;
                break;
            }
        }
    }
    let end = text.get(stop..).and_then(|t| t.find('\n')).map_or(text.len(), |at| stop + at + 1);
    let out = splice(text, start..end, "");
    Roster::parse(&out).map(|_| out)
}

/// Takes the item lines of `now` back from what they are in `after` to what they were in `before`; lines that
/// somebody changed since `after` stay. When nothing changed since, the result is `before`, byte for byte.
///
/// # Errors
/// One of the texts is no roster.
pub fn merge_back(before: &str, after: &str, now: &str) -> Result<String, RosterError> {
    if now == after {
        return Ok(before.to_owned());
    }
    back(before, after, now)
}

/// Makes the items, settings, choices and signers of `now` those of another roster; all else of it stays.
///
/// # Errors
/// One of the texts is no roster.
pub fn made_like(now: &str, other: &str) -> Result<String, RosterError> {
    back(other, now, now)
}

fn back(before: &str, after: &str, now: &str) -> Result<String, RosterError> {
    let (old, new) = (parse(before)?, parse(after)?);
    let mut out = now.to_owned();
    for id in names(&new).into_iter().chain(names(&old)) {
        let Ok(item) = ItemId::new(&id) else { continue };
        let value = |document: &Document<String>, text: &str| {
            find(document, &id).and_then(|(_, span)| text.get(span).map(str::to_owned))
        };
        let (was, became) = (value(&old, before), value(&new, after));
        let current = parse(&out)?;
        if was == became || value(&current, &out) != became {
            continue;
        }
        out = match was {
            Some(value) => put_item(&out, &item, &value)?,
            None => take_item(&out, &item)?.unwrap_or(out),
        };
    }
    let out = super::settings::merge_back(before, after, &out)?;
    words_back(&words(&old, before), &words(&new, after), out)
}

/// Takes back what commands wrote beside items and settings: which map is played, what was chosen, who is vouched for.
fn words_back(old: &Words, new: &Words, mut out: String) -> Result<String, RosterError> {
    let keys: BTreeSet<&(Vec<String>, String)> = old.keys().chain(new.keys()).collect();
    for at in keys {
        let (was, became) = (old.get(at), new.get(at));
        if was == became || words(&parse(&out)?, &out).get(at) != became {
            continue;
        }
        let table: Vec<&str> = at.0.iter().map(String::as_str).collect();
        out = match was {
            Some(value) => put_in(&out, &table, &at.1, value)?,
            None => take_in(&out, &table, &at.1)?,
        };
    }
    Ok(out)
}

/// The values of some tables as they are written, by table and key.
type Words = BTreeMap<(Vec<String>, String), String>;

fn words(document: &Document<String>, text: &str) -> Words {
    let mut out = Words::new();
    let top = document.as_table();
    let mut add = |path: Vec<String>, table: Option<&Item>| {
        for (key, item) in table.and_then(Item::as_table).into_iter().flat_map(|t| t.iter()) {
            if let Some(value) = item.span().and_then(|s| text.get(s)).filter(|_| item.is_value()) {
                out.insert((path.clone(), key.to_owned()), value.to_owned());
            }
        }
    };
    for name in ["maps", "signers"] {
        add(vec![name.to_owned()], top.get(name));
    }
    for (item, chosen) in top.get("choices").and_then(Item::as_table).into_iter().flat_map(|t| t.iter()) {
        add(vec!["choices".to_owned(), item.to_owned()], Some(chosen));
    }
    out
}

fn parse(text: &str) -> Result<Document<String>, RosterError> {
    Document::parse(text.to_owned()).map_err(|e| error(text, span_of(e.span()), clean(e.message(), 200)))
}

fn names(document: &Document<String>) -> Vec<String> {
    let items = document.as_table().get("items").and_then(Item::as_table_like);
    items.map(|t| t.iter().map(|(k, _)| k.to_owned()).collect()).unwrap_or_default()
}

/// The spans of an item's key and value.
fn find(document: &Document<String>, id: &str) -> Option<(std::ops::Range<usize>, std::ops::Range<usize>)> {
    let items = document.as_table().get("items")?.as_table_like()?;
    let (key, item) = items.get_key_value(id)?;
    match item {
        // `[items.NAME]` with lines of its own: from its header to its last line
        Item::Table(table) if !table.is_dotted() => {
            let span = table.span()?;
            let end = table.iter().filter_map(|(_, v)| v.span()).map(|s| s.end).max().unwrap_or(span.end);
            Some((span.start..span.start, span.start..end.max(span.end)))
        }
        _ => Some((key.span()?, item.span()?)),
    }
}

/// Where a new line of `[items]` goes: after the last of its own lines.
fn items_end(document: &Document<String>, text: &str) -> Option<usize> {
    let table = document.as_table().get("items")?.as_table()?;
    let header = table.span()?.end;
    let last =
        table.iter().filter_map(|(k, v)| find(document, k).map(|(_, s)| s.end).or(v.span().map(|s| s.end))).max();
    let from = last.unwrap_or(header).max(header);
    Some(text.get(from..)?.find('\n').map_or(text.len(), |at| from + at + 1))
}

fn splice(text: &str, span: std::ops::Range<usize>, with: &str) -> String {
    let before = text.get(..span.start).unwrap_or("");
    let after = text.get(span.end..).unwrap_or("");
    format!("{before}{with}{after}")
}

fn line_end(text: &str) -> &'static str {
    if text.contains("\r\n") { "\r\n" } else { "\n" }
}
