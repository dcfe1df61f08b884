//! YAML, over the events of a well-kept parser.

use std::collections::BTreeSet;

use saphyr_parser::{Event, Parser, ScalarStyle, Tag};

use super::SettingsError;
use super::node::{Body, Entry, Form, Key, Node, Shut, Sort, Span, is_number};
use super::source::line_start;

/// Deeper nesting is refused.
const MOST_DEPTH: usize = 64;

/// Byte offsets of characters: the parser counts characters, texts are bytes.
struct Offsets<'a> {
    text: &'a str,
    /// The byte offset of every 64th character; empty for ASCII, where both are the same.
    marks: Vec<u32>,
}

impl<'a> Offsets<'a> {
    fn new(text: &'a str) -> Self {
        let marks = if text.is_ascii() {
            Vec::new()
        } else {
            text.char_indices().step_by(64).map(|(at, _)| u32::try_from(at).unwrap_or(u32::MAX)).collect()
        };
        Self { text, marks }
    }

    fn byte(&self, character: usize) -> usize {
        if self.marks.is_empty() {
            return character.min(self.text.len());
        }
        let Some(mark) = self.marks.get(character / 64) else { return self.text.len() };
        let from = *mark as usize;
        let rest = self.text.get(from..).unwrap_or("");
        rest.char_indices().nth(character % 64).map_or(self.text.len(), |(at, _)| from + at)
    }
}

/// A list or map whose end has not come yet.
struct Open {
    node: Node,
    key: Option<Key>,
    /// Where in its line a block list's dashes stand.
    column: usize,
    keys: std::collections::HashSet<Box<str>>,
}

pub(crate) fn parse(text: &str) -> Result<Node, SettingsError> {
    let offsets = Offsets::new(text);
    let mut open: Vec<Open> = Vec::new();
    let mut documents: Vec<Node> = Vec::new();
    let mut repeated: BTreeSet<usize> = BTreeSet::new();
    let mut anchored: Vec<(usize, usize)> = Vec::new();
    for event in Parser::new_from_str(text) {
        let (event, span) = event.map_err(|e| broken(text, &offsets, &e))?;
        let span = Span::new(offsets.byte(span.start.index()), offsets.byte(span.end.index()));
        let fail = |why: &str| SettingsError::at(text, span.start(), why);
        let node = match event {
            Event::Scalar(value, style, anchor, tag) => {
                if anchor > 0 {
                    anchored.push((anchor, past_marks(text, span.start())));
                }
                scalar(text, span, &value, style, tag.as_deref())
            }
            Event::SequenceStart(anchor, ref tag) | Event::MappingStart(anchor, ref tag) => {
                if open.len() >= MOST_DEPTH {
                    return Err(fail("is nested too deeply"));
                }
                let map = matches!(event, Event::MappingStart(..));
                // behind anchors and tags; the sign of a flow is the last byte of the event
                let sign = span.end().saturating_sub(1);
                let flow =
                    span.end() > span.start() && text.as_bytes().get(sign).is_some_and(|b| matches!(b, b'{' | b'['));
                let from = if flow { sign } else { past_marks(text, span.start()) };
                let form = if flow { Form::Bracket } else { Form::Block };
                let mut node = Node::many(Span::new(from, from), form, map, Vec::new());
                node.shut = tag.is_some().then_some(Shut::Tagged);
                if anchor > 0 {
                    anchored.push((anchor, from));
                }
                let parent = open.last().filter(|p| p.key.is_some()).map(|p| p.column);
                let column = if map || flow { from - line_start(text, from) } else { dashes(text, from, parent) };
                open.push(Open { node, key: None, column, keys: std::collections::HashSet::new() });
                continue;
            }
            Event::SequenceEnd | Event::MappingEnd => {
                let Some(mut done) = open.pop() else { return Err(fail("closes what was never opened")) };
                let end = match &done.node.body {
                    Body::Many(many) if many.form == Form::Block => {
                        let last = many.entries.last().map(|e| e.whole.end());
                        if let Some(first) = many.entries.first() {
                            done.node.span.start = first.whole.start;
                        }
                        last.unwrap_or(done.node.span.end())
                    }
                    _ => span.end(),
                };
                done.node.span = Span::new(done.node.span.start(), end);
                done.node
            }
            Event::Alias(anchor) => {
                repeated.insert(anchor);
                let mut node = Node::one(span, Sort::Text, 0, None);
                node.shut = Some(Shut::Alias);
                node
            }
            _ => continue,
        };
        match open.last_mut() {
            None => documents.push(node),
            Some(top) => put(text, top, node)?,
        }
    }
    let mut root = match documents.len() {
        0 => Node::one(Span::new(text.len(), text.len()), Sort::Nothing, 0, None),
        1 => documents.remove(0),
        _ => {
            let span = Span::new(0, text.len());
            Node::many(span, Form::Block, false, documents.into_iter().map(Entry::bare).collect())
        }
    };
    let shut: Vec<usize> = anchored.iter().filter(|(id, _)| repeated.contains(id)).map(|(_, at)| *at).collect();
    if !shut.is_empty() {
        shut_anchored(&mut root, &shut);
    }
    Ok(root)
}

fn put(text: &str, top: &mut Open, node: Node) -> Result<(), SettingsError> {
    let Body::Many(many) = &mut top.node.body else { return Ok(()) };
    if !many.map {
        let mut entry = Entry::bare(node);
        if many.form == Form::Block {
            entry.whole = Span::new(dash(text, entry.whole.start(), top.column), entry.whole.end());
        }
        many.entries.push(entry);
        return Ok(());
    }
    match top.key.take() {
        None => {
            let Some(key) = node.text(text).filter(|_| node.shut != Some(Shut::Alias)) else {
                return Err(SettingsError::at(text, node.span.start(), "a list or an alias as a key is not read here"));
            };
            if !top.keys.insert(key.as_ref().into()) {
                let first = many.entries.iter().find(|e| e.is(text, &key)).map_or(0, |e| e.whole.start());
                let (line, _) = crate::text::line_column(text, first);
                let name = crate::text::clean(&key, 40);
                let why = format!("`{name}` stands here and on line {line}; keep one of the two");
                return Err(SettingsError::at(text, node.span.start(), why));
            }
            let plain = node.span.of(text) == key;
            top.key = Some(Key { span: node.span, cooked: (!plain).then(|| key.as_ref().into()) });
        }
        Some(key) => many.entries.push(Entry::keyed(key, node)),
    }
    Ok(())
}

/// The column of a block list's dashes. The event of a list that is no deeper than its key (`key:` above `- x`) begins
/// behind the first dash.
fn dashes(text: &str, from: usize, parent: Option<usize>) -> usize {
    let is_dash = |at: usize| {
        text.as_bytes().get(at) == Some(&b'-') && text.as_bytes().get(at + 1).is_none_or(u8::is_ascii_whitespace)
    };
    let start = line_start(text, from);
    match parent {
        Some(column) if start + column < from && is_dash(start + column) => column,
        _ if is_dash(from) => from - start,
        other => other.unwrap_or(0),
    }
}

/// Where the dash of a list's element stands: in its line or one before, at the list's column.
fn dash(text: &str, from: usize, column: usize) -> usize {
    let mut start = line_start(text, from);
    loop {
        if text.as_bytes().get(start + column) == Some(&b'-') && start + column <= from {
            return start + column;
        }
        if start == 0 {
            return from;
        }
        start = line_start(text, start - 1);
    }
}

/// A scalar with the span of its value alone: the parser's runs over anchors, tags, trailing comments and spaces.
fn scalar(text: &str, span: Span, value: &str, style: ScalarStyle, tag: Option<&Tag>) -> Node {
    let from = past_marks(text, span.start());
    let raw = text.get(from..span.end().max(from)).unwrap_or("");
    let (end, quotes) = match style {
        ScalarStyle::DoubleQuoted => (from + closing(raw, '"'), 1),
        ScalarStyle::SingleQuoted => (from + closing(raw, '\''), 1),
        ScalarStyle::Literal | ScalarStyle::Folded => {
            // the span starts at the content; the sign stands on the line before
            let sign = text.get(..from).and_then(|t| t.rfind(['|', '>'])).unwrap_or(from);
            let end = text.get(..span.end()).map_or(span.end(), |t| t.trim_end_matches([' ', '\t']).len());
            let node = Node::one(Span::new(sign, end), Sort::Text, 0, Some(value.into()));
            return Node { shut: tag.map(|_| Shut::Tagged), ..node };
        }
        ScalarStyle::Plain => (from + raw.trim_end().len(), 0),
    };
    let span = Span::new(from, end);
    let sort = match (style, tag) {
        (ScalarStyle::Plain, None) => plain_sort(value),
        _ => Sort::Text,
    };
    let inner = text.get(from + quotes..end.saturating_sub(quotes)).unwrap_or("");
    let cooked = (inner != value).then(|| value.into());
    let quotes = u8::try_from(quotes).unwrap_or(0);
    Node { shut: tag.map(|_| Shut::Tagged), ..Node::one(span, sort, quotes, cooked) }
}

/// Where the value begins behind `&anchor` and `!tag`.
fn past_marks(text: &str, from: usize) -> usize {
    let mut at = from;
    while let Some(rest) = text.get(at..).filter(|t| t.starts_with(['&', '!'])) {
        let word = rest.find(|c: char| c.is_whitespace()).unwrap_or(rest.len());
        let gap = rest.get(word..).unwrap_or("");
        let next = gap.find(|c: char| !c.is_whitespace()).unwrap_or(gap.len());
        at += word + next;
    }
    at
}

/// How long a quoted text is, quotes included.
fn closing(raw: &str, quote: char) -> usize {
    let mut characters = raw.char_indices().skip(1).peekable();
    while let Some((at, c)) = characters.next() {
        if c == '\\' && quote == '"' {
            characters.next();
        } else if c == quote {
            if quote == '\'' && characters.peek().is_some_and(|(_, c)| *c == '\'') {
                characters.next();
            } else {
                return at + 1;
            }
        }
    }
    raw.len()
}

/// A plain `1.10` is a version to the person who wrote it: numbers keep their text.
pub(crate) fn plain_sort(value: &str) -> Sort {
    match value {
        "" | "~" | "null" | "Null" | "NULL" => Sort::Nothing,
        "true" | "True" | "TRUE" | "false" | "False" | "FALSE" => Sort::Flag,
        _ if is_number(value) => Sort::Number,
        _ => {
            let digits = value.strip_prefix(['+', '-']).unwrap_or(value);
            let begins = digits.starts_with(|c: char| c.is_ascii_digit() || c == '.');
            let special = matches!(value, ".inf" | "-.inf" | ".nan" | ".Inf" | "-.Inf" | ".NaN");
            let based = digits.starts_with("0x") && u64::from_str_radix(digits.get(2..).unwrap_or(""), 16).is_ok();
            if special || based || begins && value.parse::<f64>().is_ok() { Sort::Number } else { Sort::Text }
        }
    }
}

/// Shuts what aliases repeat, and all within.
fn shut_anchored(node: &mut Node, at: &[usize]) {
    if at.contains(&node.span.start()) {
        shut_all(node);
        return;
    }
    if let Body::Many(many) = &mut node.body {
        for entry in &mut many.entries {
            shut_anchored(&mut entry.node, at);
        }
    }
}

fn shut_all(node: &mut Node) {
    node.shut = node.shut.or(Some(Shut::Anchored));
    if let Body::Many(many) = &mut node.body {
        many.entries.iter_mut().for_each(|e| shut_all(&mut e.node));
    }
}

/// The parser's error in plain words.
fn broken(text: &str, offsets: &Offsets<'_>, e: &saphyr_parser::ScanError) -> SettingsError {
    let at = offsets.byte(e.marker().index());
    let line = text.get(line_start(text, at)..).unwrap_or("").lines().next().unwrap_or("");
    let space = line.get(..line.len() - line.trim_start().len()).unwrap_or("");
    if space.contains('\t') {
        return SettingsError::at(text, line_start(text, at), "a tab stands where YAML takes only spaces");
    }
    SettingsError::at(text, at, format!("this cannot be read ({})", crate::text::clean(e.info(), 120)))
}
