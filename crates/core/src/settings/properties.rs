//! `key=value` lines. A value's bytes are the only ones an edit touches.
//!
//! A key ends at the first `=` or `:` (or at white space before one); `#` and `!` begin comment lines. A line
//! that ends in a backslash goes on in the next one: such values are read, and left alone by edits.

use super::{SettingsError, Text};

/// A properties file.
#[derive(Debug, Clone)]
pub struct Properties {
    text: Text,
}

/// Where a key and its value stand in a line.
struct Entry<'a> {
    key: &'a str,
    value: std::ops::Range<usize>,
}

impl Properties {
    /// Reads the file.
    ///
    /// # Errors
    /// A line that is neither key and value nor comment, is not UTF-8, or writes a key a second time.
    pub fn parse(bytes: &[u8]) -> Result<Self, SettingsError> {
        let text = Text::parse(bytes);
        let mut seen = std::collections::BTreeMap::new();
        let mut goes_on = false;
        for (at, (body, _)) in text.lines.iter().enumerate() {
            let line = at + 1;
            let body = utf8(at, body)?;
            let continues = goes_on;
            goes_on = body.ends_with('\\');
            if continues {
                continue;
            }
            if let Some(entry) = entry(body) {
                if let Some(first) = seen.insert(entry.key.to_owned(), line) {
                    return Err(SettingsError {
                        line,
                        why: format!("`{}` stands here and on line {first}; keep one of the two", entry.key),
                    });
                }
            } else if !is_comment(body) {
                return Err(SettingsError {
                    line,
                    why: format!("`{}` is no `key=value` line", crate::text::clean(body.trim(), 40)),
                });
            }
        }
        Ok(Self { text })
    }

    /// Returns the value of `key` and its line (from 1).
    pub fn get(&self, key: &str) -> Option<(String, usize)> {
        let (at, value) = self.find(key)?;
        let body = self.text.lines.get(at).map(|(b, _)| String::from_utf8_lossy(b).into_owned())?;
        let mut out = body.get(value)?.to_owned();
        let mut next = at + 1;
        while out.ends_with('\\') {
            out.pop();
            let (more, _) = self.text.lines.get(next)?;
            out.push_str(String::from_utf8_lossy(more).trim_start());
            next += 1;
        }
        Some((out, at + 1))
    }

    /// Returns every key with its value, in the file's order.
    pub fn pairs(&self) -> Vec<(String, String)> {
        let keys = self
            .text
            .lines
            .iter()
            .filter_map(|(body, _)| std::str::from_utf8(body).ok().and_then(entry).map(|e| e.key.to_owned()));
        keys.filter_map(|k| self.get(&k).map(|(v, _)| (k, v))).collect()
    }

    /// Sets `key`, or takes its line out when `value` is `None`. A new key goes to the end and is written
    /// with the neighbours' spacing.
    ///
    /// # Errors
    /// The value runs over several lines, in the file or in `value`.
    pub fn set(&mut self, key: &str, value: Option<&str>) -> Result<(), SettingsError> {
        let found = self.find(key);
        if let Some((at, _)) = &found {
            let runs_on = self.text.lines.get(*at).is_some_and(|(b, _)| b.ends_with(b"\\"));
            if runs_on {
                return Err(SettingsError {
                    line: at + 1,
                    why: format!("`{key}` runs over several lines; put it on one"),
                });
            }
        }
        if value.is_some_and(|v| v.contains(['\n', '\r']) || v.ends_with('\\')) {
            return Err(SettingsError { line: 0, why: format!("the value for `{key}` would run over several lines") });
        }
        match (found, value) {
            (Some((at, span)), Some(value)) => {
                if let Some((body, _)) = self.text.lines.get_mut(at) {
                    body.splice(span, value.bytes());
                }
            }
            (Some((at, _)), None) => self.text.remove(at),
            (None, Some(value)) => {
                if self.text.lines.last().is_some_and(|(body, _)| body.ends_with(b"\\")) {
                    let line = self.text.lines.len();
                    return Err(SettingsError {
                        line,
                        why: "ends in a backslash, so a line after it would be taken for its end; finish it".to_owned(),
                    });
                }
                let sign = self.habit();
                self.text.insert(self.text.lines.len(), format!("{key}{sign}{value}").as_bytes());
            }
            (None, None) => {}
        }
        Ok(())
    }

    /// Returns the file's bytes.
    pub fn render(&self) -> Vec<u8> {
        self.text.render()
    }

    fn find(&self, key: &str) -> Option<(usize, std::ops::Range<usize>)> {
        let mut goes_on = false;
        for (at, (body, _)) in self.text.lines.iter().enumerate() {
            let continues = goes_on;
            goes_on = body.ends_with(b"\\");
            if continues {
                continue;
            }
            if let Some(entry) = std::str::from_utf8(body).ok().and_then(entry)
                && entry.key == key
            {
                return Some((at, entry.value));
            }
        }
        None
    }

    /// What stands between key and value in this file's first entry.
    fn habit(&self) -> String {
        self.text
            .lines
            .iter()
            .find_map(|(body, _)| {
                let body = std::str::from_utf8(body).ok()?;
                let entry = entry(body)?;
                let key_end = body.find(entry.key)? + entry.key.len();
                body.get(key_end..entry.value.start).map(str::to_owned)
            })
            .unwrap_or_else(|| "=".to_owned())
    }
}

fn utf8(at: usize, body: &[u8]) -> Result<&str, SettingsError> {
    let text =
        std::str::from_utf8(body).map_err(|_| SettingsError { line: at + 1, why: "is not UTF-8 text".to_owned() })?;
    Ok(if at == 0 { text.trim_start_matches('\u{feff}') } else { text })
}

fn is_comment(body: &str) -> bool {
    let body = body.trim_start().trim_start_matches('\u{feff}');
    body.is_empty() || body.starts_with(['#', '!'])
}

fn entry(body: &str) -> Option<Entry<'_>> {
    if is_comment(body) {
        return None;
    }
    let start = body.len() - body.trim_start_matches(['\u{feff}', ' ', '\t']).len();
    let sign = start + body.get(start..)?.find(['=', ':'])?;
    let key = body.get(start..sign)?.trim_end();
    if key.is_empty() || key.contains(char::is_whitespace) {
        return None;
    }
    let after = body.get(sign + 1..)?;
    let value = sign + 1 + (after.len() - after.trim_start().len());
    let end = value + body.get(value..)?.trim_end().len();
    Some(Entry { key, value: value..end })
}
