//! XML, over the spans of a well-kept parser. An element's attributes are keys that begin with `@`, its own text
//! is the key `@` where it has attributes or elements; elements of one name are a list.

use std::collections::HashMap;

use roxmltree::{Document, Node as Xml, ParsingOptions};

use super::SettingsError;
use super::flat::again;
use super::node::{Entry, Form, Key, Node, Shut, Sort, Span, look};

/// Deeper nesting is refused.
const MOST_DEPTH: usize = 128;
/// More attributes on one element are refused: reading them would take ages.
const MOST_ATTRIBUTES: usize = 1000;

pub(crate) fn parse(text: &str) -> Result<Node, SettingsError> {
    bounded(text)?;
    let options = ParsingOptions { allow_dtd: true, ..ParsingOptions::default() };
    let document = Document::parse_with_options(text, options).map_err(|e| {
        let at = offset(text, e.pos().row as usize, e.pos().col as usize);
        SettingsError::at(text, at, format!("this cannot be read ({})", crate::text::clean(&e.to_string(), 120)))
    })?;
    let root = element(text, document.root_element());
    let span = Span::new(0, text.len());
    Ok(Node::many(span, Form::Element, true, vec![root]))
}

/// What would make the parser slow, or move values to places they do not stand at, is refused beforehand.
fn bounded(text: &str) -> Result<(), SettingsError> {
    if let Some(at) = text.find("<!ENTITY") {
        return Err(SettingsError::at(text, at, "declares entities; such a file is left alone"));
    }
    let mut depth = 0usize;
    for (at, _) in text.match_indices('<') {
        let rest = text.get(at + 1..).unwrap_or("");
        let tag = rest.get(..rest.find(['>', '<']).unwrap_or(rest.len())).unwrap_or("");
        if tag.starts_with('/') {
            depth = depth.saturating_sub(1);
        } else if tag.starts_with(|c: char| c.is_alphabetic() || c == '_') && !tag.ends_with('/') {
            depth += 1;
        }
        if depth > MOST_DEPTH * 4 {
            return Err(SettingsError::at(text, at, "is nested too deeply"));
        }
        if tag.len() > MOST_ATTRIBUTES && tag.matches('=').count() > MOST_ATTRIBUTES {
            return Err(SettingsError::at(text, at, "has too many attributes"));
        }
    }
    Ok(())
}

fn offset(text: &str, row: usize, column: usize) -> usize {
    let start: usize = text.split_inclusive('\n').take(row.saturating_sub(1)).map(str::len).sum();
    let line = text.get(start..).unwrap_or("");
    line.char_indices().nth(column.saturating_sub(1)).map_or(text.len(), |(at, _)| start + at)
}

fn element(text: &str, root: Xml<'_, '_>) -> Entry {
    let span = Span::new(root.range().start, root.range().end);
    let name_start = span.start() + 1;
    let name_length =
        text.get(name_start..).and_then(|t| t.find(|c: char| c.is_whitespace() || matches!(c, '>' | '/'))).unwrap_or(0);
    let key = Key { span: Span::new(name_start, name_start + name_length), cooked: None };
    let mut entries: Vec<Entry> = Vec::new();
    for attribute in root.attributes() {
        let (name, value) = (attribute.range_qname(), attribute.range_value());
        let span = Span::new(value.start, value.end);
        let raw = span.of(text);
        let cooked = (raw != attribute.value()).then(|| attribute.value().into());
        let key = Key {
            cooked: text.get(name.clone()).map(|n| format!("@{n}").into()),
            span: Span::new(name.start, name.end),
        };
        let whole = Span::new(name.start, value.end + 1);
        entries.push(Entry { key: Some(key), whole, node: Node::one(span, look(attribute.value()), 0, cooked) });
    }
    let plain = entries.is_empty();
    let children: Vec<Xml<'_, '_>> = root.children().filter(Xml::is_element).collect();
    if children.is_empty() {
        let text_node = content(text, root, span, key.span);
        if plain {
            return Entry { key: Some(key), whole: span, node: text_node };
        }
        let own = Key { span: text_node.span, cooked: Some("@".into()) };
        entries.push(Entry { key: Some(own), whole: text_node.span, node: text_node });
    } else {
        let mut seen: HashMap<String, usize> = HashMap::new();
        for child in children {
            let entry = element(text, child);
            let name = entry.key.as_ref().map_or("", |k| k.span.of(text)).to_owned();
            match seen.get(&name).and_then(|at| entries.get_mut(*at)) {
                Some(first) => again(first, entry),
                None => {
                    seen.insert(name, entries.len());
                    entries.push(entry);
                }
            }
        }
        let mixed = root.children().any(|c| c.is_text() && c.text().is_some_and(|t| !t.trim().is_empty()));
        if mixed {
            let own = Key { span: key.span, cooked: Some("@".into()) };
            let node = Node { shut: Some(Shut::Mixed), ..Node::one(span, Sort::Text, 0, Some("…".into())) };
            entries.push(Entry { key: Some(own), whole: span, node });
        }
    }
    Entry { key: Some(key), whole: span, node: Node::many(span, Form::Element, true, entries) }
}

/// The text of an element without elements in it. That of `<a/>` has the bytes `/>`.
fn content(text: &str, root: Xml<'_, '_>, whole: Span, name: Span) -> Node {
    let raw = whole.of(text);
    if raw.ends_with("/>") && root.first_child().is_none() {
        let span = Span::new(whole.end() - 2, whole.end());
        return Node::one(span, Sort::Nothing, 0, Some("".into()));
    }
    let close = raw.rfind("</").map_or(whole.end(), |at| whole.start() + at);
    let start = match root.first_child() {
        Some(first) => first.range().start,
        None => close,
    };
    let span = Span::new(start.max(name.end()), close);
    let all: String = root.children().filter_map(|c| if c.is_text() { c.text() } else { None }).collect();
    let cooked = (span.of(text) != all).then(|| all.as_str().into());
    let sort = if all.is_empty() { Sort::Text } else { look(&all) };
    let node = Node::one(span, sort, 0, cooked);
    let strange = root.children().any(|c| !c.is_text());
    Node { shut: strange.then_some(Shut::Mixed), ..node }
}
