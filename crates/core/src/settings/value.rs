//! Values read from JSON, YAML, TOML or properties, as one tree, for manifests and facts.

use saphyr_parser::{Event, Parser, ScalarStyle};

use super::{Format, SettingsError};

/// A value of any of the formats. Numbers and dates keep the text a person reads.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Value {
    /// Nothing.
    Null,
    /// `true` or `false`.
    Bool(bool),
    /// A number, as text.
    Number(String),
    /// Text.
    Text(String),
    /// A list.
    List(Vec<Value>),
    /// Keys and values, in the file's order.
    Map(Vec<(String, Value)>),
}

/// Deeper nesting than this is refused.
const MOST_DEPTH: usize = 64;
/// More values than this are refused.
const MOST_VALUES: usize = 1_000_000;

impl Value {
    /// Reads bytes of the format.
    ///
    /// # Errors
    /// What is wrong and on which line.
    pub fn read(format: Format, bytes: &[u8]) -> Result<Self, SettingsError> {
        let bytes = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes);
        let text = std::str::from_utf8(bytes).map_err(|e| SettingsError {
            line: bytes.get(..e.valid_up_to()).unwrap_or_default().iter().filter(|b| **b == b'\n').count() + 1,
            why: "is not UTF-8 text".to_owned(),
        })?;
        match format {
            Format::Json => {
                let value: serde_json::Value = serde_json::from_str(text).map_err(|e| SettingsError {
                    line: e.line().max(1),
                    why: crate::text::clean(&e.to_string(), 160),
                })?;
                Ok(Self::from_json(value))
            }
            Format::Yaml => read_yaml(text),
            Format::Toml => {
                let doc = toml_edit::Document::parse(text).map_err(|e| SettingsError {
                    line: crate::text::line_column(text, e.span().map_or(0, |s| s.start)).0,
                    why: crate::text::clean(e.message(), 160),
                })?;
                Ok(from_toml(doc.as_item()))
            }
            Format::Properties => {
                let pairs = super::properties::Properties::parse(bytes)?.pairs();
                Ok(Value::Map(pairs.into_iter().map(|(k, v)| (k, Value::Text(v))).collect()))
            }
            Format::Lines => {
                let entries = super::lines::Lines::parse(bytes)?.entries();
                Ok(Value::List(entries.into_iter().map(|(e, _)| Value::Text(e)).collect()))
            }
        }
    }

    /// Returns the value at `path`: keys and list positions parted by dots. A key that itself holds dots is
    /// found whole before it is parted. An empty path is the value itself.
    pub fn at(&self, path: &str) -> Option<&Value> {
        if path.is_empty() {
            return Some(self);
        }
        if let Value::Map(pairs) = self
            && let Some((_, value)) = pairs.iter().find(|(k, _)| k == path)
        {
            return Some(value);
        }
        path.match_indices('.').map(|(at, _)| at).chain([path.len()]).find_map(|at| {
            let (head, tail) = (path.get(..at)?, path.get(at + 1..).unwrap_or(""));
            let inner = match self {
                Value::Map(pairs) => pairs.iter().find(|(k, _)| k == head).map(|(_, v)| v),
                Value::List(items) => head.parse::<usize>().ok().and_then(|i| items.get(i)),
                _ => None,
            }?;
            inner.at(tail)
        })
    }

    /// Returns a single value as text; `None` for lists, maps and nothing.
    pub fn text(&self) -> Option<String> {
        match self {
            Value::Bool(b) => Some(b.to_string()),
            Value::Number(n) => Some(n.clone()),
            Value::Text(t) => Some(t.clone()),
            _ => None,
        }
    }

    /// Returns one or many values as texts.
    pub fn texts(&self) -> Vec<String> {
        match self {
            Value::List(items) => items.iter().filter_map(Value::text).collect(),
            other => other.text().into_iter().collect(),
        }
    }

    fn from_json(value: serde_json::Value) -> Self {
        match value {
            serde_json::Value::Null => Value::Null,
            serde_json::Value::Bool(b) => Value::Bool(b),
            serde_json::Value::Number(n) => Value::Number(n.to_string()),
            serde_json::Value::String(s) => Value::Text(s),
            serde_json::Value::Array(items) => Value::List(items.into_iter().map(Self::from_json).collect()),
            serde_json::Value::Object(map) => {
                Value::Map(map.into_iter().map(|(k, v)| (k, Self::from_json(v))).collect())
            }
        }
    }
}

/// Builds the tree from the parser's events, one document, without recursion.
fn read_yaml(text: &str) -> Result<Value, SettingsError> {
    let mut open: Vec<Open> = Vec::new();
    let mut done: Option<Value> = None;
    let mut count = 0;
    for event in Parser::new_from_str(text) {
        let (event, span) = event.map_err(|e| SettingsError {
            line: e.marker().line().max(1),
            why: crate::text::clean(&e.to_string(), 160),
        })?;
        let fail = |why: &str| SettingsError { line: span.start.line().max(1), why: why.to_owned() };
        count += 1;
        if count > MOST_VALUES {
            return Err(fail("the file holds too many values"));
        }
        let finished = match event {
            Event::Scalar(text, style, ..) => yaml_scalar(&text, style),
            Event::SequenceStart(..) | Event::MappingStart(..) if open.len() >= MOST_DEPTH => {
                return Err(fail("is nested too deeply"));
            }
            Event::SequenceStart(..) => {
                open.push(Open::List(Vec::new()));
                continue;
            }
            Event::MappingStart(..) => {
                open.push(Open::Map(Vec::new(), None));
                continue;
            }
            Event::SequenceEnd | Event::MappingEnd => match open.pop() {
                Some(Open::List(items)) => Value::List(items),
                Some(Open::Map(pairs, _)) => Value::Map(pairs),
                None => return Err(fail("closes what was never opened")),
            },
            Event::Alias(_) => return Err(fail("uses an alias (`*name`), which is not read here")),
            Event::DocumentStart(..) if done.is_some() => return Err(fail("holds more than one document")),
            _ => continue,
        };
        match open.last_mut() {
            None => done = Some(finished),
            Some(Open::List(items)) => items.push(finished),
            Some(Open::Map(pairs, key)) => match key.take() {
                None => *key = Some(finished.text().unwrap_or_default()),
                Some(key) if pairs.iter().any(|(k, _)| *k == key) => {
                    return Err(fail(&format!("`{}` stands here a second time", crate::text::clean(&key, 40))));
                }
                Some(key) => pairs.push((key, finished)),
            },
        }
    }
    Ok(done.unwrap_or(Value::Null))
}

/// A list or map whose end has not come yet; a map with the key that waits for its value.
enum Open {
    List(Vec<Value>),
    Map(Vec<(String, Value)>, Option<String>),
}

/// A plain `1.10` is a version to the person who wrote it: numbers keep their text.
fn yaml_scalar(text: &str, style: ScalarStyle) -> Value {
    if style != ScalarStyle::Plain {
        return Value::Text(text.to_owned());
    }
    match text {
        "" | "~" | "null" | "Null" | "NULL" => Value::Null,
        "true" | "True" | "TRUE" => Value::Bool(true),
        "false" | "False" | "FALSE" => Value::Bool(false),
        _ if text.parse::<f64>().is_ok()
            && text.starts_with(['-', '+', '.', '0', '1', '2', '3', '4', '5', '6', '7', '8', '9']) =>
        {
            Value::Number(text.to_owned())
        }
        _ => Value::Text(text.to_owned()),
    }
}

fn from_toml(item: &toml_edit::Item) -> Value {
    use toml_edit::{Item, Value as Toml};
    fn value(v: &Toml) -> Value {
        match v {
            Toml::String(s) => Value::Text(s.value().clone()),
            Toml::Integer(i) => Value::Number(i.value().to_string()),
            Toml::Float(f) => Value::Number(f.display_repr().into_owned()),
            Toml::Boolean(b) => Value::Bool(*b.value()),
            Toml::Datetime(d) => Value::Text(d.value().to_string()),
            Toml::Array(a) => Value::List(a.iter().map(value).collect()),
            Toml::InlineTable(t) => Value::Map(t.iter().map(|(k, v)| (k.to_owned(), value(v))).collect()),
        }
    }
    match item {
        Item::None => Value::Null,
        Item::Value(v) => value(v),
        Item::Table(t) => Value::Map(t.iter().map(|(k, v)| (k.to_owned(), from_toml(v))).collect()),
        Item::ArrayOfTables(a) => Value::List(
            a.iter().map(|t| Value::Map(t.iter().map(|(k, v)| (k.to_owned(), from_toml(v))).collect())).collect(),
        ),
    }
}
