//! Reading a family file: every word known, every pattern readable, every template fillable; all that is wrong is told
//! at once.

mod faults;

use thiserror::Error;
use toml_edit::{Document, Item, TableLike};

use super::{Family, Rules};
use crate::id::Digest;
use crate::text::line_column;

/// So many faults of one file are told at once.
const MOST_FAULTS: usize = 60;

/// A family file that cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{why}")]
pub struct FamilyError {
    /// What is wrong and what to write instead.
    pub why: String,
    /// Where: byte offset and length in the file.
    pub span: (usize, usize),
    /// The line, from 1.
    pub line: usize,
    /// The column, from 1.
    pub column: usize,
}

/// Something wrong: the word it stands under, and why.
#[derive(Debug, Clone)]
pub(crate) struct Fault {
    /// A text that stands in the file where the fault is.
    pub(crate) word: String,
    pub(crate) why: String,
}

impl Family {
    /// Reads a family file.
    ///
    /// # Errors
    /// The first thing that is wrong, with its line and the nearest right word.
    pub fn parse(text: &str) -> Result<Self, FamilyError> {
        match Self::check(text) {
            (Some(family), _) => Ok(family),
            (None, faults) => Err(faults.into_iter().next().unwrap_or_else(|| at(text, (0, 0), "is empty".into()))),
        }
    }

    /// Reads a family file and tells everything that is wrong with it, in the order of its lines. There is no family
    /// when something is.
    pub fn check(text: &str) -> (Option<Self>, Vec<FamilyError>) {
        let mut out: Vec<FamilyError> = Vec::new();
        // what cannot be read is told, blanked out, and the rest read again
        let mut rest = text.to_owned();
        let mut blanked_keys: Vec<String> = Vec::new();
        let rules: Option<Rules> = loop {
            match crate::roster::from_toml(&rest) {
                Ok(rules) => break Some(rules),
                Err(e) => {
                    let mended = renamed(&rest, &e).map(|r| (r, String::new()));
                    let blanked = mended.or_else(|| without(&rest, e.span.0));
                    // what was blanked out is missed only because of that
                    let ours = blanked_keys.iter().any(|k| e.why == format!("missing field `{k}`"));
                    if !ours && !out.iter().any(|o| o.span == e.span && o.why == e.why) {
                        out.push(at(text, e.span, e.why));
                    }
                    match blanked.filter(|(b, _)| *b != rest && out.len() < MOST_FAULTS) {
                        Some((blanked, key)) => {
                            rest = blanked;
                            blanked_keys.push(key);
                        }
                        None => break None,
                    }
                }
            }
        };
        let Some(rules) = rules else { return (None, out) };
        let broken = !out.is_empty();
        let family = Self { rules, digest: Digest::of(text.as_bytes()) };
        for fault in faults::all(&family.rules) {
            let span = find(text, &fault.word);
            // a part that could not be read is missed elsewhere, too
            let misses = fault.why.starts_with("no ");
            if !broken || rest.contains(&fault.word) && !misses {
                out.push(at(text, span, fault.why));
            }
        }
        out.sort_by_key(|e| e.span.0);
        out.truncate(MOST_FAULTS);
        (out.is_empty().then_some(family), out)
    }
}

/// Where a word stands: in quotes or as a key first, else anywhere.
fn find(text: &str, word: &str) -> (usize, usize) {
    let quoted = [format!("\"{word}\""), format!("'{word}'")];
    let found = quoted.iter().find_map(|q| text.find(q.as_str()).map(|at| (at + 1, word.len())));
    let key = || {
        let mut from = 0;
        text.split_inclusive('\n').find_map(|line| {
            let start = from + line.len() - line.trim_start().len();
            from += line.len();
            let rest = line.trim_start().strip_prefix(word)?;
            rest.trim_start().starts_with('=').then_some((start, word.len()))
        })
    };
    found.or_else(key).or_else(|| text.find(word).map(|at| (at, word.len()))).unwrap_or((0, 0))
}

/// The text with a misspelt key put right, where the nearest word fits into its place: every byte behind it stays where it
/// is.
fn renamed(text: &str, error: &crate::roster::RosterError) -> Option<String> {
    let nearest = error.why.split("did you mean `").nth(1)?.split('`').next()?;
    let wrong = error.why.strip_prefix('`')?.split('`').next()?;
    // a key, or a word in quotes
    let quote = usize::from(text.get(error.span.0..)?.starts_with(['"', '\'']));
    let from = error.span.0 + quote;
    let rest = text.get(from..)?.strip_prefix(wrong)?;
    let spaces = rest.len() - rest.trim_start_matches(' ').len();
    let room = wrong.len() + if quote == 0 { spaces } else { 0 };
    if nearest.len() > room || quote == 1 && nearest.len() != room {
        return None;
    }
    let mut out = text.to_owned();
    out.replace_range(from..from + room, &format!("{nearest:room$}"));
    Document::parse(out.clone()).ok().map(|_| out)
}

/// The text with the key and value, or the table, around an offset blanked out, and that key; `None` where there is
/// none.
fn without(text: &str, offset: usize) -> Option<(String, String)> {
    let document = Document::parse(text.to_owned()).ok()?;
    let span = around(document.as_table(), offset)?;
    let begins = text.get(span.clone())?.trim_start_matches('[').trim_start();
    let key: String = begins.chars().take_while(|c| c.is_ascii_alphanumeric() || "-_.".contains(*c)).collect();
    let key = key.split('.').next().unwrap_or("").to_owned();
    let blank = |c: char| if c == '\n' || c == '\r' { c.to_string() } else { " ".repeat(c.len_utf8()) };
    let inner: String = text.get(span.clone())?.chars().map(blank).collect();
    let mut out = format!("{}{inner}{}", text.get(..span.start)?, text.get(span.end..)?);
    // an inline table is left with the comma of what was taken out
    if Document::parse(out.clone()).is_err() {
        let after = text.get(span.end..)?;
        let comma = after.find(|c: char| !c.is_whitespace()).filter(|at| after[*at..].starts_with(','));
        let before =
            text.get(..span.start)?.rfind(|c: char| !c.is_whitespace()).filter(|a| text[*a..].starts_with(','));
        let comma = comma.map(|c| span.end + c).or(before)?;
        out.replace_range(comma..=comma, " ");
    }
    Some((out, key))
}

fn around(table: &dyn TableLike, offset: usize) -> Option<std::ops::Range<usize>> {
    for (key, item) in table.iter() {
        let key = table.key(key)?;
        let inner = match item {
            Item::ArrayOfTables(all) => all.iter().find_map(|t| whole(t, offset).map(|s| (t as &dyn TableLike, s))),
            Item::Table(t) => whole(t, offset).map(|s| (t as &dyn TableLike, s)),
            Item::Value(v) => {
                let (start, end) = (key.span()?.start, v.span()?.end);
                let deeper = v.as_inline_table().and_then(|t| around(t, offset)).or_else(|| {
                    v.as_array()?.iter().filter_map(|v| v.as_inline_table()).find_map(|t| around(t, offset))
                });
                if (start..end).contains(&offset) {
                    return Some(deeper.unwrap_or(start..end));
                }
                None
            }
            Item::None => None,
        };
        if let Some((table, span)) = inner {
            return around(table, offset).or(Some(span));
        }
    }
    None
}

/// The span of a table with its header, where the offset is in it.
fn whole(table: &toml_edit::Table, offset: usize) -> Option<std::ops::Range<usize>> {
    fn end(item: &Item) -> usize {
        match item {
            Item::Table(t) => t.iter().map(|(_, i)| end(i)).max().unwrap_or(0).max(t.span().map_or(0, |s| s.end)),
            Item::ArrayOfTables(a) => {
                let of = |t: &toml_edit::Table| {
                    t.iter().map(|(_, i)| end(i)).max().unwrap_or(0).max(t.span().map_or(0, |s| s.end))
                };
                a.iter().map(of).max().unwrap_or(0)
            }
            other => other.span().map_or(0, |s| s.end),
        }
    }
    fn start(item: &Item) -> usize {
        match item {
            Item::Table(t) => t
                .span()
                .map(|s| s.start)
                .unwrap_or(usize::MAX)
                .min(t.iter().map(|(_, i)| start(i)).min().unwrap_or(usize::MAX)),
            Item::ArrayOfTables(a) => a.iter().filter_map(|t| t.span()).map(|s| s.start).min().unwrap_or(usize::MAX),
            other => other.span().map_or(usize::MAX, |s| s.start),
        }
    }
    let inner = table.iter().map(|(_, i)| (start(i), end(i)));
    let (mut from, mut to) = table.span().map_or((usize::MAX, 0), |s| (s.start, s.end));
    for (start, end) in inner {
        from = from.min(start);
        to = to.max(end);
    }
    (from <= offset && offset < to.max(from + 1)).then_some(from..to)
}

fn at(text: &str, span: (usize, usize), why: String) -> FamilyError {
    let (line, column) = line_column(text, span.0);
    FamilyError { why, span, line, column }
}
