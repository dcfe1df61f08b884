//! One entry a line; blank lines and `#` comments are kept where they are.

use super::{SettingsError, Text};

/// A list of lines.
#[derive(Debug, Clone)]
pub struct Lines {
    text: Text,
}

impl Lines {
    /// Reads the file.
    ///
    /// # Errors
    /// A line that is not UTF-8.
    pub fn parse(bytes: &[u8]) -> Result<Self, SettingsError> {
        let text = Text::parse(bytes);
        for (at, (body, _)) in text.lines.iter().enumerate() {
            if std::str::from_utf8(body).is_err() {
                return Err(SettingsError { line: at + 1, why: "is not UTF-8 text".to_owned() });
            }
        }
        Ok(Self { text })
    }

    /// Returns the entries in order, without comments and blank lines, each with its line (from 1).
    pub fn entries(&self) -> Vec<(String, usize)> {
        self.text
            .lines
            .iter()
            .enumerate()
            .filter_map(|(at, (body, _))| {
                let text = std::str::from_utf8(body).ok()?;
                body_of(text).map(|span| (text.get(span).unwrap_or("").to_owned(), at + 1))
            })
            .collect()
    }

    /// Makes the entries that are `ours` be exactly `wanted`, in that order. Everything else keeps its place:
    /// entries of ours that stay keep their lines among themselves, new ones follow the last of ours, or stand
    /// at the end when there was none.
    pub fn replace(&mut self, ours: &[String], wanted: &[String]) {
        let entries = self.entries();
        let mut mine: Vec<usize> = Vec::new();
        let mut unseen: Vec<&String> = ours.iter().collect();
        for (entry, line) in &entries {
            if let Some(at) = unseen.iter().position(|o| *o == entry) {
                unseen.remove(at);
                mine.push(line - 1);
            }
        }
        // Lines of ours that are not wanted any more go, the last first, so that positions stay true.
        let text_at = |line: usize| entries.iter().find(|(_, l)| *l == line + 1).map(|(e, _)| e.clone());
        let mut kept: Vec<usize> = Vec::new();
        for line in mine.iter().rev() {
            if text_at(*line).is_some_and(|e| wanted.contains(&e)) {
                kept.push(*line);
            } else {
                self.text.remove(*line);
                for k in &mut kept {
                    *k -= 1;
                }
            }
        }
        kept.reverse();
        while kept.len() < wanted.len() {
            let at = kept.last().map_or(self.text.lines.len(), |l| l + 1);
            self.text.insert(at, b"-");
            kept.push(at);
        }
        for (line, entry) in kept.iter().zip(wanted) {
            if let Some((body, _)) = self.text.lines.get_mut(*line) {
                let text = String::from_utf8_lossy(body).into_owned();
                if let Some(span) = body_of(&text)
                    && text.get(span.clone()) != Some(entry.as_str())
                {
                    body.splice(span, entry.bytes());
                }
            }
        }
    }

    /// Returns the file's bytes.
    pub fn render(&self) -> Vec<u8> {
        self.text.render()
    }
}

/// Where the entry stands in a line, if the line has one.
fn body_of(line: &str) -> Option<std::ops::Range<usize>> {
    let start = line.len() - line.trim_start_matches(['\u{feff}', ' ', '\t']).len();
    let rest = line.get(start..)?;
    if rest.trim().is_empty() || rest.starts_with('#') {
        return None;
    }
    // A comment after an entry begins at ` #`.
    let end = rest.find(" #").or_else(|| rest.find("\t#")).unwrap_or(rest.len());
    Some(start..start + rest.get(..end)?.trim_end().len())
}
