//! Settings files: reading values from any format a family names, and editing bytes without touching the rest.

pub mod lines;
pub mod properties;
pub mod value;

use serde::{Deserialize, Serialize};
use thiserror::Error;

pub use value::Value;

/// The formats a family may name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Format {
    /// `key=value` lines; `#` and `!` begin comments.
    Properties,
    /// One entry a line; `#` begins a comment.
    Lines,
    /// JSON (read only so far).
    Json,
    /// YAML (read only so far).
    Yaml,
    /// TOML (read only so far).
    Toml,
}

impl Format {
    /// Whether values can be set in it.
    pub fn editable(self) -> bool {
        matches!(self, Format::Properties | Format::Lines)
    }
}

/// A settings file that cannot be read without doubt.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("line {line}: {why}")]
pub struct SettingsError {
    /// The line, from 1.
    pub line: usize,
    /// What is wrong with it.
    pub why: String,
}

/// A text cut into lines that remember their ends, so that writing them back gives the same bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Text {
    /// Line without its end, and its end (`\n`, `\r\n` or nothing for an unended last line).
    pub(crate) lines: Vec<(Vec<u8>, Vec<u8>)>,
}

impl Text {
    pub(crate) fn parse(bytes: &[u8]) -> Self {
        let mut lines = Vec::new();
        let mut rest = bytes;
        while !rest.is_empty() {
            let (line, after) = match rest.iter().position(|b| *b == b'\n') {
                Some(at) => rest.split_at(at + 1),
                None => (rest, &rest[..0]),
            };
            let end = if line.ends_with(b"\r\n") { 2 } else { usize::from(line.ends_with(b"\n")) };
            let (body, end) = line.split_at(line.len() - end);
            lines.push((body.to_vec(), end.to_vec()));
            rest = after;
        }
        Self { lines }
    }

    pub(crate) fn render(&self) -> Vec<u8> {
        self.lines.iter().flat_map(|(body, end)| body.iter().chain(end).copied()).collect()
    }

    /// The end that most lines have.
    fn usual_end(&self) -> Vec<u8> {
        let windows = self.lines.iter().filter(|(_, end)| end == b"\r\n").count();
        let plain = self.lines.iter().filter(|(_, end)| end == b"\n").count();
        if windows > plain { b"\r\n".to_vec() } else { b"\n".to_vec() }
    }

    /// Inserts a line before line `at`. An unended last line stays unended: the new last line takes its habit.
    pub(crate) fn insert(&mut self, at: usize, body: &[u8]) {
        let end = self.usual_end();
        if at >= self.lines.len() {
            let habit = match self.lines.last_mut() {
                Some((_, last)) if last.is_empty() => std::mem::replace(last, end),
                _ => end,
            };
            self.lines.push((body.to_vec(), habit));
        } else {
            self.lines.insert(at, (body.to_vec(), end));
        }
    }

    /// Takes line `at` out; when it was an unended last line, the line before it becomes unended.
    pub(crate) fn remove(&mut self, at: usize) {
        if at >= self.lines.len() {
            return;
        }
        let (_, end) = self.lines.remove(at);
        if end.is_empty()
            && let Some((_, last)) = self.lines.last_mut()
        {
            last.clear();
        }
    }
}
