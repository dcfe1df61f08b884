//! What settings files and manifests say, as plain values.

use serde::{Deserialize, Serialize};

use super::node::{Body, Node, Shut, Sort, is_number};
use super::path::Step;
use super::{Document, Format, Path, SettingsError};

/// A value of any of the formats. Numbers and dates keep the text a person reads.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(from = "Stored", into = "Stored")]
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

/// How a ledger keeps a value: texts are plain, numbers keep their text.
#[derive(Serialize, Deserialize)]
#[serde(untagged)]
enum Stored {
    Null(()),
    Bool(bool),
    Text(String),
    List(Vec<Value>),
    Number { number: String },
    Map { map: Vec<(String, Value)> },
}

impl From<Stored> for Value {
    fn from(stored: Stored) -> Self {
        match stored {
            Stored::Null(()) => Value::Null,
            Stored::Bool(b) => Value::Bool(b),
            Stored::Text(t) => Value::Text(t),
            Stored::List(items) => Value::List(items),
            Stored::Number { number } => Value::Number(number),
            Stored::Map { map } => Value::Map(map),
        }
    }
}

impl From<Value> for Stored {
    fn from(value: Value) -> Self {
        match value {
            Value::Null => Stored::Null(()),
            Value::Bool(b) => Stored::Bool(b),
            Value::Text(t) => Stored::Text(t),
            Value::List(items) => Stored::List(items),
            Value::Number(number) => Stored::Number { number },
            Value::Map(map) => Stored::Map { map },
        }
    }
}

impl From<&str> for Value {
    fn from(text: &str) -> Self {
        Value::Text(text.to_owned())
    }
}

impl From<String> for Value {
    fn from(text: String) -> Self {
        Value::Text(text)
    }
}

impl Value {
    /// Reads bytes of the format, as a manifest: what only repeats another value is not read.
    ///
    /// # Errors
    /// What is wrong and on which line.
    pub fn read(format: Format, bytes: &[u8]) -> Result<Self, SettingsError> {
        let document = Document::parse(format, bytes)?;
        match first_alias(&document.root) {
            Some(at) => Err(SettingsError::at(document.text(), at, "uses an alias (`*name`), which is not read here")),
            None => Ok(document.value()),
        }
    }

    /// Returns what a person typed as a value: what looks like a number, `true`, a list or an object in JSON is one.
    pub fn typed(text: &str) -> Self {
        match text {
            "true" => Value::Bool(true),
            "false" => Value::Bool(false),
            "null" => Value::Null,
            _ if is_number(text) => Value::Number(text.to_owned()),
            _ if text.starts_with(['[', '{']) => {
                Self::read(Format::Json, text.as_bytes()).unwrap_or_else(|_| Value::Text(text.to_owned()))
            }
            _ => Value::Text(text.to_owned()),
        }
    }

    pub(crate) fn of(node: &Node, text: &str) -> Self {
        match &node.body {
            Body::One(one) => {
                let words = node.text(text).unwrap_or_default();
                match one.sort {
                    Sort::Nothing => Value::Null,
                    Sort::Flag => Value::Bool(words.eq_ignore_ascii_case("true")),
                    Sort::Number => Value::Number(words.into_owned()),
                    Sort::Text => Value::Text(words.into_owned()),
                }
            }
            Body::Many(many) if many.map => {
                let mut number = 0;
                let pairs = many.entries.iter().map(|e| {
                    let key = match &e.key {
                        Some(key) => key.text(text).to_owned(),
                        None => {
                            number += 1;
                            number.to_string()
                        }
                    };
                    (key, Self::of(&e.node, text))
                });
                Value::Map(pairs.collect())
            }
            Body::Many(many) => Value::List(many.entries.iter().map(|e| Self::of(&e.node, text)).collect()),
        }
    }

    /// Returns what it is, where it is a single value.
    pub fn sort(&self) -> Option<Sort> {
        match self {
            Value::Null => Some(Sort::Nothing),
            Value::Bool(_) => Some(Sort::Flag),
            Value::Number(_) => Some(Sort::Number),
            Value::Text(_) => Some(Sort::Text),
            Value::List(_) | Value::Map(_) => None,
        }
    }

    /// Whether two values mean the same: numbers as numbers, all else as it stands.
    pub fn same(&self, other: &Self) -> bool {
        match (self, other) {
            (Value::Number(a), Value::Number(b)) => super::amount::equal(a, b),
            (Value::List(a), Value::List(b)) => a.len() == b.len() && a.iter().zip(b).all(|(a, b)| a.same(b)),
            (Value::Map(a), Value::Map(b)) => {
                a.len() == b.len() && a.iter().zip(b).all(|((k, a), (l, b))| k == l && a.same(b))
            }
            (a, b) => a == b,
        }
    }

    /// Returns the value at a path (`docs/paths.md`; the first, where it means several). A key that itself holds
    /// dots is found whole, too. An empty path is the value itself.
    pub fn at(&self, path: &str) -> Option<&Value> {
        if path.is_empty() {
            return Some(self);
        }
        if let Value::Map(pairs) = self
            && let Some((_, value)) = pairs.iter().find(|(k, _)| k == path)
        {
            return Some(value);
        }
        Path::parse(path).ok()?.0.iter().try_fold(self, |value, step| value.step(step))
    }

    fn step(&self, step: &Step) -> Option<&Value> {
        let field = |v: &Value, name: &str| v.step(&Step::Key(name.to_owned())).and_then(Value::text);
        match (self, step) {
            (Value::Map(pairs), Step::Key(key)) => pairs.iter().find(|(k, _)| k == key).map(|(_, v)| v),
            (Value::Map(pairs), Step::Glob(p)) => pairs.iter().find(|(k, _)| crate::text::glob(p, k)).map(|(_, v)| v),
            (Value::Map(pairs), Step::Field(name, value)) => {
                pairs.iter().map(|(_, v)| v).find(|v| field(v, name).as_deref() == Some(value))
            }
            (Value::List(items), Step::Key(key)) => items.get(key.parse::<usize>().ok()?.checked_sub(1)?),
            (Value::List(items), Step::Position(n)) => items.get(n.checked_sub(1)?),
            (Value::List(items), Step::Last) => items.last(),
            (Value::List(items), Step::Every) => items.first(),
            (Value::List(items), Step::Is(value)) => items.iter().find(|v| v.text().as_deref() == Some(value)),
            (Value::List(items), Step::Field(name, value)) => {
                items.iter().find(|v| field(v, name).as_deref() == Some(value))
            }
            _ => None,
        }
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

    /// Returns it as a person types it: texts bare, lists and maps as JSON.
    pub fn shown(&self) -> String {
        match self {
            Value::Text(t) => t.clone(),
            other => other.json(),
        }
    }

    /// Returns it as JSON on one line.
    pub fn json(&self) -> String {
        super::write::flow(Format::Json, self)
    }
}

fn first_alias(node: &Node) -> Option<usize> {
    match node.shut {
        Some(Shut::Alias) => Some(node.span.start()),
        _ => node.entries().iter().find_map(|e| first_alias(&e.node)),
    }
}
