//! What makes the server load an item: values and elements of settings files, as templates.

use std::borrow::Cow;
use std::collections::BTreeMap;

use serde::Deserialize;

use super::{Template, When};
use crate::id::{IdError, ServerPath};
use crate::settings::{Format, Seat, Sort, Value};
use crate::slot::{ListIn, SlotKey};

/// The root of settings that only a person can enter, in somebody's web panel.
pub const HAND: &str = "hand";

/// A value that makes the server load an item.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Wiring {
    /// The settings file.
    pub file: Template,
    /// Its format.
    pub format: Format,
    /// Which value is set, or where the list stands; absent for a list of lines.
    pub at: Option<Template>,
    /// What is set, or the element that is added.
    pub value: Body,
    /// Whether a list stands there, which gets the value as an element.
    #[serde(default)]
    pub list: bool,
    /// What parts the elements of a list inside one value.
    pub between: Option<String>,
    /// Which field or column tells the elements of the list apart.
    pub by: Option<String>,
    /// Which field or column is the next free number.
    pub number: Option<String>,
    /// Where in a list: `first`, `last`, `before NAME`, `after NAME`.
    #[serde(default)]
    pub seat: Seat,
    /// The sort of value it is, where none stands there yet.
    #[serde(rename = "as")]
    pub sort: Option<Sort>,
    /// When it counts.
    pub when: Option<When>,
}

/// What a wiring writes.
#[derive(Debug, Clone)]
pub enum Body {
    /// One value.
    Text(Template),
    /// A row of columns, or a list.
    Row(Vec<Template>),
    /// An object.
    Table(BTreeMap<String, Template>),
}

impl<'de> Deserialize<'de> for Body {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        struct Any;
        impl<'de> serde::de::Visitor<'de> for Any {
            type Value = Body;
            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str(
                    "a text, a row of texts (`[\"{id}\", \"on\"]`), or an object of texts (`{ name = \"{id}\" }`)",
                )
            }
            fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<Body, E> {
                Template::parse(text).map(Body::Text).map_err(E::custom)
            }
            fn visit_seq<A: serde::de::SeqAccess<'de>>(self, seq: A) -> Result<Body, A::Error> {
                Vec::deserialize(serde::de::value::SeqAccessDeserializer::new(seq)).map(Body::Row)
            }
            fn visit_map<A: serde::de::MapAccess<'de>>(self, map: A) -> Result<Body, A::Error> {
                BTreeMap::deserialize(serde::de::value::MapAccessDeserializer::new(map)).map(Body::Table)
            }
        }
        from.deserialize_any(Any)
    }
}

impl Body {
    /// Returns its templates.
    pub fn templates(&self) -> Vec<&Template> {
        match self {
            Body::Text(one) => vec![one],
            Body::Row(row) => row.iter().collect(),
            Body::Table(table) => table.values().collect(),
        }
    }

    /// Returns it filled; `None` when a field has no value.
    pub fn fill<'a>(&self, field: impl Fn(&str) -> Option<Cow<'a, str>>) -> Option<Value> {
        Some(match self {
            Body::Text(one) => Value::Text(one.fill(&field)?),
            Body::Row(row) => {
                Value::List(row.iter().map(|t| Some(Value::Text(t.fill(&field)?))).collect::<Option<_>>()?)
            }
            Body::Table(table) => Value::Map(
                table.iter().map(|(k, t)| Some((k.clone(), Value::Text(t.fill(&field)?)))).collect::<Option<_>>()?,
            ),
        })
    }
}

impl Wiring {
    /// Returns all its templates.
    pub fn templates(&self) -> Vec<&Template> {
        let mut out = vec![&self.file];
        out.extend(self.at.as_ref());
        out.extend(self.value.templates());
        out
    }

    /// Returns the slot it claims, its templates filled; `None` when a field has no value.
    ///
    /// # Errors
    /// The file is no path inside a root.
    pub fn key<'a>(&self, field: impl Fn(&str) -> Option<Cow<'a, str>>) -> Option<Result<SlotKey, IdError>> {
        let file = self.file.fill(&field)?;
        let at = match &self.at {
            Some(at) => Some(at.fill_path(&field)?),
            None => None,
        };
        let list = match (&self.between, &self.by, self.list) {
            (Some(between), ..) => Some(ListIn::Between(between.clone())),
            (None, Some(by), _) => Some(ListIn::Keyed(by.clone())),
            (None, None, true) => Some(ListIn::Elements),
            (None, None, false) => None,
        };
        Some(server_path(&file).map(|path| SlotKey { path, format: self.format, at, list }))
    }

    /// Returns a filled value in the sort that is named.
    pub fn typed(&self, value: Value) -> Value {
        match (self.sort, value) {
            (Some(Sort::Number | Sort::Flag), Value::Text(words)) => Value::typed(&words),
            (_, value) => value,
        }
    }
}

/// Returns a path as a family writes it: `settings/x.ini`, `ROOT:x.ini` in another root, `hand:NAME` for what only a
/// person can enter.
///
/// # Errors
/// It leaves its root, or cannot be stored everywhere.
pub fn server_path(text: &str) -> Result<ServerPath, IdError> {
    match text.split_once(':') {
        Some((HAND, name)) => ServerPath::new(HAND, name),
        Some((root, path)) if !root.contains('/') => ServerPath::new(root, path),
        _ => ServerPath::server(text),
    }
}
