//! Settings files: one editor over every format, which changes the bytes of a value and nothing else.
//!
//! Every format's reader gives the same tree, whose parts know which bytes of the text they are ([`node`]). An edit
//! is a few splices of that text; the result is read again and compared with what was meant, and refused where it
//! differs ([`edit`]). Paths into files are those of `docs/paths.md` ([`Path`]).

mod amount;
mod arrange;
mod blocks;
mod brace;
mod bracketed;
mod delimited;
mod document;
mod edit;
mod flat;
mod guess;
mod insert;
mod json;
mod lined;
mod merge;
mod node;
mod paste;
mod path;
mod remove;
mod select;
mod slips;
mod source;
mod toml;
mod value;
mod verify;
mod write;
mod xml;
mod yaml;

use serde::{Deserialize, Serialize};
use thiserror::Error;

pub use amount::{Amount, AmountError, compare as number_order};
pub(crate) use arrange::alike;
pub use delimited::Delimited;
pub use document::{Document, Row, Spot};
pub use edit::{Edit, EditError, Seat};
pub use guess::guess;
pub use merge::{Collision, Merged, merge};
pub use node::Sort;
pub use paste::paste;
pub use path::{Path, PathError};
pub use slips::{Slip, slip};
pub use value::Value;

/// The formats of settings files.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Format {
    /// `key=value` lines; `#` and `!` begin comments.
    Properties,
    /// One entry a line; `#` begins a comment.
    Lines,
    /// JSON, with or without comments and trailing commas.
    Json,
    /// YAML.
    Yaml,
    /// TOML.
    Toml,
    /// Sections of `key = value` lines; `;` and `#` begin comments.
    Ini,
    /// XML.
    Xml,
    /// `name "value"` lines; `//` and `#` begin comments.
    NameValue,
    /// Nested blocks: `name { key = value }`.
    Blocks,
    /// Brace tables of scripting languages: `name = { key = value, "item" }`.
    BraceTables,
    /// A table: one row a line, cut into columns.
    Columns,
    /// Any other text, read through patterns over its lines.
    Text,
}

impl Format {
    /// All of them.
    pub const ALL: [Format; 12] = [
        Format::Json,
        Format::Yaml,
        Format::Toml,
        Format::Ini,
        Format::Properties,
        Format::Xml,
        Format::NameValue,
        Format::Lines,
        Format::Blocks,
        Format::BraceTables,
        Format::Columns,
        Format::Text,
    ];

    /// Returns its word, as family files and `--format` write it.
    pub fn word(self) -> &'static str {
        match self {
            Format::Properties => "properties",
            Format::Lines => "lines",
            Format::Json => "json",
            Format::Yaml => "yaml",
            Format::Toml => "toml",
            Format::Ini => "ini",
            Format::Xml => "xml",
            Format::NameValue => "name-value",
            Format::Blocks => "blocks",
            Format::BraceTables => "brace-tables",
            Format::Columns => "columns",
            Format::Text => "text",
        }
    }

    /// Returns the format of a word.
    pub fn of_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|f| f.word() == word)
    }
}

/// A settings file that cannot be read without doubt, or would not be after an edit.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("line {line}, column {column}: {why}")]
pub struct SettingsError {
    /// The line, from 1.
    pub line: usize,
    /// The column in characters, from 1.
    pub column: usize,
    /// What is wrong with it.
    pub why: String,
}

impl SettingsError {
    pub(crate) fn new(line: usize, column: usize, why: impl Into<String>) -> Self {
        Self { line, column, why: why.into() }
    }

    /// An error at a byte of a text.
    pub(crate) fn at(text: &str, offset: usize, why: impl Into<String>) -> Self {
        let (line, column) = crate::text::line_column(text, offset);
        Self::new(line, column, why)
    }
}

/// Returns a key as TOML writes it: bare where it may be.
pub fn toml_key(name: &str) -> String {
    write::key(Format::Toml, name)
}
