//! New keys and elements, written after the habit of their neighbours.

mod blocks;
mod elements;
mod sections;
mod yaml;

use blocks::*;
use elements::*;
use sections::*;
use yaml::*;

use super::bracketed::{self, Comments, Splice};
use super::lined;
use super::node::{Body, Entry, Form, Many, Node};
use super::source::{end_of_line, indent, line_end, line_start, line_stop, next_line};
use super::write::{flow, fresh, key};
use super::{Format, Value};

/// What is added: a key (in maps) and a value.
pub(crate) type Item = (Option<String>, Value);

/// A container in a file.
pub(crate) struct Place<'a> {
    pub(crate) format: Format,
    pub(crate) text: &'a str,
    pub(crate) root: &'a Node,
    pub(crate) trail: &'a [usize],
}

impl<'a> Place<'a> {
    pub(crate) fn node(&self) -> Option<&'a Node> {
        self.root.follow(self.trail)
    }

    /// The entry that holds it, if it is not the file itself.
    pub(crate) fn entry(&self) -> Option<&'a Entry> {
        let (last, rest) = self.trail.split_last()?;
        self.root.follow(rest)?.entries().get(*last)
    }

    /// The keys on the way to it.
    fn keys(&self) -> Vec<&'a str> {
        let key = |end: usize| {
            let at = self.trail.get(end)?;
            let entry = self.root.follow(self.trail.get(..end)?)?.entries().get(*at)?;
            entry.key.as_ref().map(|k| k.text(self.text))
        };
        (0..self.trail.len()).filter_map(key).collect()
    }

    /// The nearest key on the way to it.
    pub(crate) fn own_key(&self) -> Option<&'a str> {
        (0..self.trail.len()).rev().find_map(|end| {
            let at = self.trail.get(end)?;
            let entry = self.root.follow(self.trail.get(..end)?)?.entries().get(*at)?;
            entry.key.as_ref().map(|k| k.text(self.text))
        })
    }

    pub(crate) fn comments(&self) -> Comments {
        Comments(match self.format {
            Format::Json => "//",
            Format::BraceTables => "--",
            _ => "#",
        })
    }

    /// Whether brackets are open around it.
    pub(crate) fn in_brackets(&self) -> bool {
        (0..=self.trail.len()).any(|end| {
            let node = self.trail.get(..end).and_then(|t| self.root.follow(t));
            node.and_then(Node::as_many).is_some_and(|m| m.form == Form::Bracket)
        })
    }
}

/// Returns the splices that add items so that the first becomes number `at`.
///
/// # Errors
/// Why the format cannot hold them there.
pub(crate) fn add(place: &Place<'_>, at: usize, items: &[Item]) -> Result<Vec<Splice>, String> {
    let Some(node) = place.node() else { return Ok(Vec::new()) };
    match &node.body {
        Body::One(_) => add_to_one(place, node, items),
        Body::Many(many) => match (many.form, place.format) {
            (Form::Bracket, _) => {
                let items = bracket_items(place, node, many, items)?;
                Ok(bracketed::add(place.text, node, at, &items, place.comments()))
            }
            (Form::Again, _) => add_again(place, many, at, items),
            (Form::Row, _) => row(place, many, at, items),
            (Form::Element, _) => element(place, node, many, items),
            (Form::Braces, _) | (_, Format::Blocks) => blocks(place, node, many, items),
            (Form::Block, _) => yaml_block(place, node, many, at, items),
            (_, Format::Toml) => toml(place, node, many, items),
            (_, Format::Ini) => ini(place, node, many, items),
            (_, Format::BraceTables) => {
                Err("a new name in the script itself is yours to write; values inside its tables can be set".to_owned())
            }
            (_, Format::Text) => Err("a pattern finds a line and cannot write a new one".to_owned()),
            _ => lines(place, many, at, items),
        },
    }
}

fn add_to_one(place: &Place<'_>, node: &Node, items: &[Item]) -> Result<Vec<Splice>, String> {
    let (text, keyed) = (place.text, items.iter().all(|(k, _)| k.is_some()));
    let whole = || Value::of_items(items);
    match place.format {
        Format::Yaml if node.is_nothing() && place.in_brackets() => {
            Ok(vec![Splice::new(node.span.start(), node.span.end(), format!(" {}", flow(Format::Yaml, &whole())))])
        }
        Format::Yaml if node.is_nothing() => {
            let Some(entry) = place.entry() else {
                let rendered = block_items("", items, "  ")?;
                return Ok(vec![lined::insert(text, text.len(), &rendered, line_end(text))]);
            };
            let raw = node.span.of(text);
            if !raw.is_empty() {
                return Ok(vec![Splice::new(node.span.start(), node.span.end(), flow(Format::Yaml, &whole()))]);
            }
            let from = entry.key.as_ref().map_or(entry.whole.start(), |k| k.span.end());
            let margin = format!("{}{}", column(text, entry.whole.start()), unit(place.root, text));
            let rendered = block_items(&margin, items, &unit(place.root, text))?;
            Ok(vec![lined::insert(text, next_line(text, from), &rendered, end_of_line(text, from))])
        }
        Format::Json | Format::BraceTables if node.is_nothing() => {
            Ok(vec![Splice::new(node.span.start(), node.span.end(), flow(place.format, &whole()))])
        }
        Format::Xml => {
            let Some(entry) = place.entry() else { return Ok(Vec::new()) };
            if !keyed {
                return add_again_after(place, entry, items);
            }
            let (attributes, children): (Vec<&Item>, Vec<&Item>) =
                items.iter().partition(|(k, _)| k.as_ref().is_some_and(|k| k.starts_with('@')));
            let name = entry.key.as_ref().map_or(entry.whole, |k| k.span);
            let mut out = Vec::new();
            if !attributes.is_empty() {
                out.push(Splice::insert(name.end(), xml_attributes(&attributes)?));
            }
            if !children.is_empty() {
                let body = children
                    .iter()
                    .map(|(k, v)| xml_element(k.as_deref().unwrap_or(""), v))
                    .collect::<Result<String, _>>()?;
                if node.span.of(text) == "/>" {
                    let name = name.of(text);
                    out.push(Splice::new(node.span.start(), node.span.end(), format!(">{body}</{name}>")));
                } else if node.span.of(text).trim().is_empty() {
                    out.push(Splice::insert(node.span.start(), body));
                } else {
                    return Err("the element holds text, and elements beside text are left to you".to_owned());
                }
            }
            Ok(out)
        }
        Format::Ini | Format::NameValue | Format::Blocks if !keyed => match place.entry() {
            Some(entry) => add_again_after(place, entry, items),
            None => Ok(Vec::new()),
        },
        _ => Err("a single value stands there, nothing can be put into it".to_owned()),
    }
}

impl Value {
    /// Items as one value: a map where they have keys, else a list.
    pub(crate) fn of_items(items: &[Item]) -> Self {
        if items.iter().all(|(k, _)| k.is_some()) {
            return Value::Map(items.iter().map(|(k, v)| (k.clone().unwrap_or_default(), v.clone())).collect());
        }
        Value::List(items.iter().map(|(_, v)| v.clone()).collect())
    }
}

/// What stands between key and value beside it, or the format's usual.
fn between(text: &str, entries: &[Entry], usual: &str) -> String {
    let gap = entries.iter().rev().filter(|e| e.node.as_one().is_some()).find_map(|e| {
        let gap = text.get(e.key.as_ref()?.span.end()..e.node.span.start())?;
        (gap.contains(['=', ':']) && !gap.contains('\n') && gap.trim().len() == 1).then(|| gap.to_owned())
    });
    match gap {
        // a value that is missing leaves no space behind its sign
        Some(gap) if gap.trim_end() == gap && usual.ends_with(' ') && gap.starts_with(' ') => format!("{gap} "),
        Some(gap) => gap,
        None => usual.to_owned(),
    }
}

/// Entries of brackets, written like their neighbours: tables over several lines where those are.
fn bracket_items(place: &Place<'_>, node: &Node, many: &Many, items: &[Item]) -> Result<Vec<String>, String> {
    let (text, format) = (place.text, place.format);
    let usual = if matches!(format, Format::Toml | Format::BraceTables) { " = " } else { ": " };
    let gap = between(text, &many.entries, usual);
    let gap = if format == Format::Yaml && !gap.ends_with(' ') { ": ".to_owned() } else { gap };
    let model = many.entries.iter().rev().find(|e| e.node.as_many().is_some_and(|m| !m.entries.is_empty()));
    let tall = model.is_some_and(|e| bracketed::is_tall(text, &e.node)) && format != Format::Toml;
    let margin = many.entries.last().map_or("", |e| indent(text, e.whole.start()));
    let step = match model.and_then(|e| e.node.entries().first()).map(|e| indent(text, e.whole.start())) {
        Some(inner) if tall => inner.strip_prefix(margin).unwrap_or("  "),
        _ => "  ",
    };
    let eol = end_of_line(text, node.span.start());
    let write = |value: &Value| -> Result<String, String> {
        match value {
            Value::List(_) | Value::Map(_) if tall => Ok(tall_value(format, value, margin, step, eol)),
            one => like_neighbours(format, text, many, one),
        }
    };
    items
        .iter()
        .map(|(k, v)| match k {
            Some(k) => Ok(format!("{}{gap}{}", bracket_key(format, text, many, k), write(v)?)),
            None if many.map && format != Format::BraceTables => Err("a key is missing for what is added".to_owned()),
            None => write(v),
        })
        .collect()
}

/// A key written as its neighbours are: `["name"]` in a brace table where all are.
fn bracket_key(format: Format, text: &str, many: &Many, name: &str) -> String {
    let keys: Vec<&str> = many.entries.iter().filter_map(|e| e.key.as_ref().map(|k| k.span.of(text))).collect();
    match format {
        Format::BraceTables if !keys.is_empty() && keys.iter().all(|k| k.starts_with('[')) => {
            let bare = key(format, name);
            if bare.starts_with('[') { bare } else { format!("[\"{bare}\"]") }
        }
        Format::Yaml | Format::Toml if !keys.is_empty() && keys.iter().all(|k| k.starts_with('"')) => {
            super::write::json_text(name)
        }
        _ => key(format, name),
    }
}

/// A single value in the quotes its neighbours have.
fn like_neighbours(format: Format, text: &str, many: &Many, value: &Value) -> Result<String, String> {
    let model = many.entries.iter().rev().map(|e| &e.node).find(|n| {
        n.shut.is_none()
            && n.as_one().is_some_and(|o| Some(o.sort) == value.sort() && (o.quotes == 1 || format == Format::Yaml))
    });
    match (model, value) {
        (Some(node), Value::Text(_)) if !node.span.of(text).contains('\n') => {
            super::write::instead(format, text, node, value, true)
        }
        _ => fresh(format, value, true),
    }
}

/// A list or table over several lines.
fn tall_value(format: Format, value: &Value, margin: &str, step: &str, eol: &str) -> String {
    let inner = format!("{margin}{step}");
    let gap = if format == Format::BraceTables { " = " } else { ": " };
    let (open, close, parts): (&str, &str, Vec<String>) = match value {
        Value::Map(pairs) if !pairs.is_empty() => {
            let parts = pairs
                .iter()
                .map(|(k, v)| format!("{}{gap}{}", key(format, k), tall_value(format, v, &inner, step, eol)))
                .collect();
            ("{", "}", parts)
        }
        Value::List(items) if items.iter().any(|v| v.sort().is_none()) => {
            let parts = items.iter().map(|v| tall_value(format, v, &inner, step, eol)).collect();
            if format == Format::BraceTables { ("{", "}", parts) } else { ("[", "]", parts) }
        }
        other => return flow(format, other),
    };
    let body = parts.join(&format!(",{eol}{inner}"));
    format!("{open}{eol}{inner}{body}{eol}{margin}{close}")
}

/// One more entry of a key that stands several times.
fn add_again(place: &Place<'_>, many: &Many, at: usize, items: &[Item]) -> Result<Vec<Splice>, String> {
    let behind = at.checked_sub(1).and_then(|i| many.entries.get(i)).or_else(|| many.entries.last());
    match behind {
        Some(entry) => add_again_after(place, entry, items),
        None => Ok(Vec::new()),
    }
}

fn add_again_after(place: &Place<'_>, entry: &Entry, items: &[Item]) -> Result<Vec<Splice>, String> {
    let text = place.text;
    let name = place.own_key().unwrap_or("");
    if place.format == Format::Xml {
        if name.starts_with('@') {
            return Err("an attribute stands once".to_owned());
        }
        let elements: Vec<String> = items.iter().map(|(_, v)| xml_element(name, v)).collect::<Result<_, _>>()?;
        return Ok(vec![beside_element(text, entry.whole.start(), entry.whole.end(), &elements)]);
    }
    let margin = indent(text, entry.whole.start());
    let eol = end_of_line(text, entry.whole.start());
    // `key = ` of the entry itself
    let head = text.get(entry.whole.start()..entry.node.span.start()).unwrap_or("");
    let mut rendered = Vec::new();
    for (_, v) in items {
        match v {
            Value::Map(pairs) if place.format == Format::Ini => {
                let mut section = vec![String::new(), format!("[{name}]")];
                for (k, v) in pairs {
                    section.push(format!("{k} = {}", fresh(Format::Ini, v, false)?));
                }
                rendered.extend(section);
            }
            Value::Map(_) => rendered.push(block_line(margin, " = ", name, v, eol)?),
            v => {
                let written = match entry.node.as_one() {
                    Some(_) => super::write::instead(place.format, text, &entry.node, v, false)?,
                    None => fresh(place.format, v, false)?,
                };
                rendered.push(format!("{margin}{head}{written}"));
            }
        }
    }
    let at = next_line(text, entry.whole.end());
    Ok(vec![lined::insert(text, at, &rendered, eol)])
}
