//! One pattern syntax for paths: a glob whose fields catch what stands there. `maps/{map}.map` fits `maps/pier.map`,
//! and catches `map = pier`.
//!
//! `*` and `?` stay within one part of a path, `**` goes over parts, `[ab]` is one of these letters, `{a,b}` one of
//! these words, `{word}` catches one or more letters within a part, and `{word:**}` one or more whole parts.

use std::collections::BTreeMap;

use regex_lite::Regex;
use serde::Deserialize;
use thiserror::Error;

/// What the fields of a pattern caught, by name.
pub type Caught = BTreeMap<String, String>;

/// A glob over paths whose fields catch.
#[derive(Debug, Clone, Deserialize)]
#[serde(try_from = "String")]
pub struct Pattern {
    text: String,
    fields: Vec<String>,
    regex: Regex,
}

/// A pattern that cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("the pattern `{text}` {why}")]
pub struct PatternError {
    text: String,
    why: &'static str,
}

impl PartialEq for Pattern {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl Eq for Pattern {}

impl Pattern {
    /// Reads a pattern.
    ///
    /// # Errors
    /// A brace or bracket without its partner, or a field that stands twice.
    pub fn parse(text: &str) -> Result<Self, PatternError> {
        let fail = |why| PatternError { text: crate::text::clean(text, 80), why };
        let mut fields: Vec<String> = Vec::new();
        let mut out = String::from("^");
        let mut rest = text;
        while let Some(c) = rest.chars().next() {
            let mut used = c.len_utf8();
            match c {
                '*' if rest.starts_with("**/") => {
                    out.push_str("(?:.*/)?");
                    used = 3;
                }
                '*' if rest.starts_with("**") => {
                    out.push_str(".*");
                    used = 2;
                }
                '*' => out.push_str("[^/]*"),
                '?' => out.push_str("[^/]"),
                '[' => {
                    let inner = rest.split_once(']').ok_or_else(|| fail("has a bracket without its partner"))?.0;
                    used = inner.len() + 1;
                    let inner = inner.trim_start_matches('[');
                    let (not, letters) = match inner.strip_prefix('!') {
                        Some(letters) => ("^/", letters),
                        None => ("", inner),
                    };
                    if letters.is_empty() {
                        return Err(fail("has an empty bracket"));
                    }
                    out.push_str(&format!("[{not}{}]", letters.replace('\\', "\\\\").replace('^', "\\^")));
                }
                '{' => {
                    let inner = rest.split_once('}').ok_or_else(|| fail("has a brace without its partner"))?.0;
                    used = inner.len() + 1;
                    let inner = inner.trim_start_matches('{');
                    if inner.contains(',') {
                        let words: Vec<String> = inner.split(',').map(regex_lite::escape).collect();
                        out.push_str(&format!("(?:{})", words.join("|")));
                    } else {
                        let (name, many) = match inner.split_once(':') {
                            Some((name, "**")) => (name, true),
                            Some(_) => return Err(fail("has a field with a form that is none; only `:**` is")),
                            None => (inner, false),
                        };
                        let plain = |c: char| c.is_ascii_alphanumeric() || c == '-';
                        if name.is_empty() || !name.chars().all(plain) {
                            return Err(fail("has a field whose name is no plain word"));
                        }
                        if fields.iter().any(|f| f == name) {
                            return Err(fail("names one field twice"));
                        }
                        out.push_str(if many { "(.+)" } else { "([^/]+?)" });
                        fields.push(name.to_owned());
                    }
                }
                '}' | ']' => return Err(fail("closes what was never opened")),
                other => out.push_str(&regex_lite::escape(other.encode_utf8(&mut [0; 4]))),
            }
            rest = rest.get(used..).unwrap_or("");
        }
        out.push('$');
        let regex = Regex::new(&out).map_err(|_| fail("cannot be read"))?;
        Ok(Self { text: text.to_owned(), fields, regex })
    }

    /// Returns what the fields caught of a path; `None` when it does not fit.
    pub fn catch(&self, path: &str) -> Option<Caught> {
        let found = self.regex.captures(path)?;
        let value = |(at, name): (usize, &String)| Some((name.clone(), found.get(at + 1)?.as_str().to_owned()));
        self.fields.iter().enumerate().map(value).collect()
    }

    /// Whether a path fits.
    pub fn fits(&self, path: &str) -> bool {
        self.regex.is_match(path)
    }

    /// Returns the names of its fields.
    pub fn fields(&self) -> impl Iterator<Item = &str> {
        self.fields.iter().map(String::as_str)
    }

    /// Returns the pattern as written.
    pub fn as_str(&self) -> &str {
        &self.text
    }
}

impl TryFrom<String> for Pattern {
    type Error = PatternError;
    fn try_from(text: String) -> Result<Self, PatternError> {
        Self::parse(&text)
    }
}

impl std::fmt::Display for Pattern {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_fit_and_catch() {
        let caught = |pattern: &str, path: &str| {
            Pattern::parse(pattern)
                .unwrap()
                .catch(path)
                .map(|c| c.iter().map(|(k, v)| format!("{k}={v}")).collect::<Vec<_>>().join(" "))
        };
        for (pattern, path, expected) in [
            ("maps/{map}.map", "maps/pier.map", Some("map=pier")),
            ("maps/{map}.map", "maps/deep/pier.map", None),
            ("**/{map}.map", "pier.map", Some("map=pier")),
            ("**/{map}.map", "a/b/pier.map", Some("map=pier")),
            ("{name}-{version}.zip", "low-moor-1.2.zip", Some("name=low version=moor-1.2")),
            ("{path:**}/x", "a/b/x", Some("path=a/b")),
            ("*.{png,jpg}", "a.jpg", Some("")),
            ("[!a]*", "abc", None),
            ("a.b", "axb", None),
            ("A.b", "a.b", None),
        ] {
            assert_eq!(caught(pattern, path).as_deref(), expected, "{pattern} {path}");
        }
        for wrong in ["{a", "a}", "[a", "{a}{a}", "{}", "{a:3}", "[]", "{a b}"] {
            assert!(Pattern::parse(wrong).is_err(), "{wrong}");
        }
    }
}
