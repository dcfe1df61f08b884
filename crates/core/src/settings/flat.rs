//! Files of lines: properties, INI, `name "value"` lines, plain lists and tables.
//!
//! Each is scanned here, line by line; the crates for them lose comments, spacing or data.

use std::collections::HashMap;

use super::SettingsError;
use super::node::{Body, Entry, Form, Key, Node, Sort, Span};
use super::source::next_line;

/// Calls `each` with start and end (before the line end) of every line.
fn lines(text: &str, mut each: impl FnMut(usize, usize) -> Result<(), SettingsError>) -> Result<(), SettingsError> {
    let mut at = 0;
    while at < text.len() {
        let next = next_line(text, at);
        let line = text.get(at..next).unwrap_or("");
        let line = line.strip_suffix('\n').map_or(line, |l| l.strip_suffix('\r').unwrap_or(l));
        each(at, at + line.len())?;
        at = next;
    }
    Ok(())
}

/// The span of a part of the text without the white space around it.
fn trimmed(text: &str, start: usize, end: usize) -> Span {
    let raw = text.get(start..end).unwrap_or("");
    let from = start + (raw.len() - raw.trim_start_matches([' ', '\t', '\x0c']).len());
    Span::new(from, from + raw.trim_matches([' ', '\t', '\x0c']).len())
}

fn file(text: &str, map: bool, entries: Vec<Entry>) -> Node {
    Node::many(Span::new(0, text.len()), Form::Lines, map, entries)
}

fn bare_key(span: Span) -> Key {
    Key { span, cooked: None }
}

/// Entries whose key stands there already become one list of all of them.
struct Keyed<'a> {
    text: &'a str,
    entries: Vec<Entry>,
    seen: HashMap<&'a str, usize>,
}

impl<'a> Keyed<'a> {
    fn new(text: &'a str) -> Self {
        Self { text, entries: Vec::new(), seen: HashMap::new() }
    }

    fn find(&self, name: &str) -> Option<&Entry> {
        self.seen.get(name).and_then(|at| self.entries.get(*at))
    }

    fn push(&mut self, entry: Entry) {
        let name = entry.key.as_ref().map_or("", |k| k.span.of(self.text));
        let Some(at) = self.seen.get(name).copied() else {
            self.seen.insert(name, self.entries.len());
            self.entries.push(entry);
            return;
        };
        if let Some(first) = self.entries.get_mut(at) {
            again(first, entry);
        }
    }
}

/// Puts one more entry of the same key to the first: both are elements of a list then.
pub(super) fn again(first: &mut Entry, more: Entry) {
    let whole = first.whole.join(more.whole);
    let one = |key: Span, node: Node| Entry { key: None, whole: key.join(node.span), node };
    let more_key = more.key.as_ref().map_or(more.whole, |k| k.span);
    let more = Entry { whole: more.whole, ..one(more_key, more.node) };
    match &mut first.node.body {
        Body::Many(many) if many.form == Form::Again => many.entries.push(more),
        _ => {
            let node = first.node.clone();
            let held = Entry { key: None, whole: first.whole, node };
            first.node = Node::many(whole, Form::Again, false, vec![held, more]);
        }
    }
    first.node.span = whole;
    first.whole = whole;
}

/// `key=value` lines; `#` and `!` begin comment lines; a line that ends in a backslash goes on in the next.
pub(crate) fn properties(text: &str) -> Result<Node, SettingsError> {
    let mut out = Keyed::new(text);
    let mut going: Option<(Span, usize, String)> = None;
    lines(text, |start, end| {
        let body = trimmed(text, start, end);
        let raw = body.of(text);
        if let Some((key, from, mut value)) = going.take() {
            if let Some(more) = raw.strip_suffix('\\') {
                value.push_str(more);
                going = Some((key, from, value));
            } else {
                value.push_str(raw);
                let sort = super::node::look(&value);
                let node = Node::one(Span::new(from, body.end()), sort, 0, Some(value.into()));
                out.push(Entry::keyed(bare_key(key), node));
            }
            return Ok(());
        }
        if raw.is_empty() || raw.starts_with(['#', '!']) {
            return Ok(());
        }
        let sign = raw.find(['=', ':']);
        let key = sign.map(|at| trimmed(text, body.start(), body.start() + at)).filter(|k| {
            let word = k.of(text);
            !word.is_empty() && !word.contains(char::is_whitespace)
        });
        let (Some(sign), Some(key)) = (sign, key) else {
            let why = format!("`{}` is no `key=value` line", crate::text::clean(raw, 40));
            return Err(SettingsError::at(text, body.start(), why));
        };
        if let Some(first) = out.find(key.of(text)) {
            let (line, _) = crate::text::line_column(text, first.whole.start());
            let why = format!(
                "`{}` stands here and on line {line}; keep one of the two",
                crate::text::clean(key.of(text), 40)
            );
            return Err(SettingsError::at(text, key.start(), why));
        }
        let value = trimmed(text, body.start() + sign + 1, body.end());
        match value.of(text).strip_suffix('\\') {
            Some(begun) => going = Some((key, value.start(), begun.to_owned())),
            None => out.push(Entry::keyed(bare_key(key), plain(text, value))),
        }
        Ok(())
    })?;
    if let Some((key, from, _)) = going {
        let why = format!("`{}` ends in a backslash, and no line follows; take it out", key.of(text));
        return Err(SettingsError::at(text, from, why));
    }
    Ok(file(text, true, out.entries))
}

/// A value in a format that has no quotes.
fn plain(text: &str, span: Span) -> Node {
    Node::one(span, super::node::look(span.of(text)), 0, None)
}

/// Sections of keys. A key that stands again is a list; so is a section.
pub(crate) fn ini(text: &str) -> Result<Node, SettingsError> {
    let mut root = Keyed::new(text);
    let mut section: Option<(Span, Span, Keyed<'_>)> = None;
    let close = |root: &mut Keyed<'_>, section: Option<(Span, Span, Keyed<'_>)>| {
        if let Some((name, header, inner)) = section {
            let span = inner.entries.iter().map(|e| e.whole).fold(header, Span::join);
            let node = Node::many(span, Form::Lines, true, inner.entries);
            root.push(Entry { key: Some(bare_key(name)), whole: span, node });
        }
    };
    lines(text, |start, end| {
        let body = trimmed(text, start, end);
        let raw = body.of(text);
        if raw.is_empty() || raw.starts_with([';', '#']) {
            return Ok(());
        }
        if raw.starts_with('[') {
            let Some(shut) = raw.rfind(']') else {
                return Err(SettingsError::at(text, body.start(), "the `[` of this section is not closed"));
            };
            let rest = raw.get(shut + 1..).unwrap_or("").trim_start();
            if !(rest.is_empty() || rest.starts_with([';', '#'])) {
                return Err(SettingsError::at(text, body.start() + shut + 1, "something follows the section's `]`"));
            }
            let name = trimmed(text, body.start() + 1, body.start() + shut);
            let header = Span::new(body.start(), body.start() + shut + 1);
            close(&mut root, section.replace((name, header, Keyed::new(text))));
            return Ok(());
        }
        let entry = ini_line(text, body)?;
        match &mut section {
            Some((_, _, inner)) => inner.push(entry),
            None => root.push(entry),
        }
        Ok(())
    })?;
    close(&mut root, section);
    Ok(file(text, true, root.entries))
}

fn ini_line(text: &str, body: Span) -> Result<Entry, SettingsError> {
    let raw = body.of(text);
    let Some(sign) = raw.find(['=', ':']) else {
        // a key alone
        let stop = comment(raw, &[";", "#"]).unwrap_or(raw.len());
        let key = trimmed(text, body.start(), body.start() + stop);
        let nothing = Node::one(Span::new(key.end(), key.end()), Sort::Nothing, 0, None);
        return Ok(Entry::keyed(bare_key(key), nothing));
    };
    let key = trimmed(text, body.start(), body.start() + sign);
    if key.of(text).is_empty() {
        return Err(SettingsError::at(text, body.start(), "a key is missing before this sign"));
    }
    let value = valued(text, body.start() + sign + 1, body.end(), &[";", "#"])?;
    Ok(Entry::keyed(bare_key(key), value))
}

/// A value up to a comment, which stands after white space; quoted texts end at their quote.
fn valued(text: &str, start: usize, end: usize, comments: &[&str]) -> Result<Node, SettingsError> {
    let all = trimmed(text, start, end);
    let raw = all.of(text);
    if let Some(quote) = raw.chars().next().filter(|c| matches!(c, '"' | '\'')) {
        if let Some(shut) = raw.get(1..).and_then(|r| r.find(quote)) {
            let rest = raw.get(shut + 2..).unwrap_or("").trim_start();
            if rest.is_empty() || comments.iter().any(|c| rest.starts_with(c)) {
                return Ok(Node::by_look(text, Span::new(all.start(), all.start() + shut + 2)));
            }
        } else if quote == '"' {
            return Err(SettingsError::at(text, all.start(), "a text is not closed: its end quote is missing"));
        }
    }
    let stop = comment(raw, comments).unwrap_or(raw.len());
    Ok(plain(text, trimmed(text, all.start(), all.start() + stop)))
}

/// Where a comment begins: one of the signs at the start or after white space.
fn comment(raw: &str, signs: &[&str]) -> Option<usize> {
    let starts = |at: &usize| {
        let before = raw.get(..*at).and_then(|b| b.chars().next_back());
        before.is_none_or(char::is_whitespace)
    };
    signs.iter().filter_map(|sign| raw.match_indices(sign).map(|(at, _)| at).find(starts)).min()
}

/// Words of a line, quoted ones whole.
fn words(text: &str, body: Span, separator: Option<char>) -> Result<Vec<Span>, SettingsError> {
    let mut out = Vec::new();
    let raw = body.of(text);
    if let Some(separator) = separator {
        let mut from = 0;
        for (at, _) in raw.match_indices(separator).chain([(raw.len(), "")]) {
            out.push(trimmed(text, body.start() + from, body.start() + at));
            from = at + separator.len_utf8();
        }
        return Ok(out);
    }
    let mut at = 0;
    while let Some(rest) = raw.get(at..).filter(|r| !r.is_empty()) {
        if rest.starts_with([' ', '\t']) {
            at += 1;
            continue;
        }
        let length = if rest.starts_with('"') {
            let shut = rest.get(1..).and_then(|r| r.find('"'));
            let Some(shut) = shut else {
                let why = "a text is not closed: its end quote is missing";
                return Err(SettingsError::at(text, body.start() + at, why));
            };
            shut + 2
        } else {
            rest.find([' ', '\t']).unwrap_or(rest.len())
        };
        out.push(Span::new(body.start() + at, body.start() + at + length));
        at += length;
    }
    Ok(out)
}

/// `name "value"` lines; `//` and `#` begin comments. A name that stands again is a list; so are several values.
pub(crate) fn name_value(text: &str) -> Result<Node, SettingsError> {
    let mut out = Keyed::new(text);
    lines(text, |start, end| {
        let mut body = trimmed(text, start, end);
        if let Some(stop) = unquoted_comment(body.of(text), &["//", "#"]) {
            body = trimmed(text, body.start(), body.start() + stop);
        }
        let words = words(text, body, None)?;
        let Some((key, values)) = words.split_first() else { return Ok(()) };
        if key.of(text).starts_with('"') || key.of(text).contains(['=', '{', '}']) {
            let why = format!("`{}` is no `name \"value\"` line", crate::text::clean(body.of(text), 40));
            return Err(SettingsError::at(text, body.start(), why));
        }
        let node = match values {
            [] => Node::one(Span::new(key.end(), key.end()), Sort::Nothing, 0, None),
            [one] => Node::by_look(text, *one),
            many => row(text, many),
        };
        out.push(Entry::keyed(bare_key(*key), node));
        Ok(())
    })?;
    Ok(file(text, true, out.entries))
}

/// The same as [`comment`], but not inside double quotes.
fn unquoted_comment(raw: &str, signs: &[&str]) -> Option<usize> {
    if !raw.contains('"') {
        return comment(raw, signs);
    }
    let mut inside = false;
    let mut before = ' ';
    for (at, c) in raw.char_indices() {
        if c == '"' {
            inside = !inside;
        } else if !inside
            && before.is_whitespace()
            && signs.iter().any(|s| raw.get(at..).is_some_and(|r| r.starts_with(s)))
        {
            return Some(at);
        }
        before = c;
    }
    None
}

fn row(text: &str, words: &[Span]) -> Node {
    let span = words.iter().copied().reduce(Span::join).unwrap_or_default();
    Node::many(span, Form::Row, false, words.iter().map(|w| Entry::bare(Node::by_look(text, *w))).collect())
}

/// One entry a line; `#` begins a comment.
pub(crate) fn list(text: &str) -> Result<Node, SettingsError> {
    let mut entries = Vec::new();
    lines(text, |start, end| {
        let body = entry_of(text, start, end);
        if !body.of(text).is_empty() {
            entries.push(Entry::bare(plain(text, body)));
        }
        Ok(())
    })?;
    Ok(file(text, false, entries))
}

fn entry_of(text: &str, start: usize, end: usize) -> Span {
    let body = trimmed(text, start, end);
    match comment(body.of(text), &["#"]) {
        Some(stop) => trimmed(text, body.start(), body.start() + stop),
        None => body,
    }
}

/// One row a line, cut into columns: by `|`, `;`, `,` or tabs where every row has the same number of them, else
/// by white space. `#` begins a comment.
pub(crate) fn columns(text: &str) -> Result<Node, SettingsError> {
    let mut rows = Vec::new();
    lines(text, |start, end| {
        let body = entry_of(text, start, end);
        if !body.of(text).is_empty() {
            rows.push(body);
        }
        Ok(())
    })?;
    let count = |row: &Span, sign: char| row.of(text).matches(sign).count();
    let separator = ['|', ';', ',', '\t'].into_iter().find(|sign| {
        let mut counts = rows.iter().map(|row| count(row, *sign));
        let first = counts.next().unwrap_or(0);
        first > 0 && counts.all(|c| c == first)
    });
    let mut entries = Vec::with_capacity(rows.len());
    for body in rows {
        let node = row(text, &words(text, body, separator)?);
        entries.push(Entry { key: None, whole: body, node: Node { span: body, ..node } });
    }
    Ok(file(text, false, entries))
}
