//! Nested blocks: `name { key = value }`, one or many statements a line, with or without semicolons.
//!
//! A value without quotes runs to the end of the line, to `;`, to `}`, or to the next `word =` or `word {` on the
//! line. `#` and `//` begin comments where a statement could begin or after white space.

use super::SettingsError;
use super::flat::again;
use super::node::{Entry, Form, Key, Node, Sort, Span};

/// Deeper nesting is refused.
const MOST_DEPTH: usize = 64;

pub(crate) fn parse(text: &str) -> Result<Node, SettingsError> {
    let mut reader = Reader { text, at: 0 };
    let entries = reader.statements(None, 0)?;
    Ok(Node::many(Span::new(0, text.len()), Form::Lines, true, entries))
}

struct Reader<'a> {
    text: &'a str,
    at: usize,
}

impl<'a> Reader<'a> {
    fn rest(&self) -> &'a str {
        self.text.get(self.at..).unwrap_or("")
    }

    fn skip(&mut self, also: &[char]) {
        loop {
            let rest = self.rest();
            let gap = rest.len() - rest.trim_start_matches(|c: char| c.is_whitespace() || also.contains(&c)).len();
            self.at += gap;
            let rest = self.rest();
            if rest.starts_with('#') || rest.starts_with("//") {
                self.at += rest.find('\n').unwrap_or(rest.len());
            } else {
                return;
            }
        }
    }

    fn statements(&mut self, opened: Option<usize>, depth: usize) -> Result<Vec<Entry>, SettingsError> {
        let mut entries: Vec<Entry> = Vec::new();
        let mut seen: std::collections::HashMap<&'a str, usize> = std::collections::HashMap::new();
        loop {
            self.skip(&[';', ',']);
            let Some(next) = self.rest().chars().next() else {
                return match opened {
                    None => Ok(entries),
                    Some(at) => {
                        let (line, _) = crate::text::line_column(self.text, at);
                        let end = self.text.trim_end().len();
                        Err(SettingsError::at(self.text, end, format!("the `{{` of line {line} is not closed")))
                    }
                };
            };
            match (next, opened) {
                ('}', Some(_)) => {
                    self.at += 1;
                    return Ok(entries);
                }
                ('}', None) => {
                    return Err(SettingsError::at(self.text, self.at, "a `}` too many: no block is open here"));
                }
                ('{', _) => return Err(SettingsError::at(self.text, self.at, "a name is missing before this `{`")),
                ('=', _) => return Err(SettingsError::at(self.text, self.at, "a key is missing before this `=`")),
                _ => {}
            }
            let entry = self.statement(depth)?;
            let name = entry.key.as_ref().map_or("", |k| k.span.of(self.text));
            match seen.get(name).and_then(|at| entries.get_mut(*at)) {
                Some(first) => again(first, entry),
                None => {
                    seen.insert(name, entries.len());
                    entries.push(entry);
                }
            }
        }
    }

    fn statement(&mut self, depth: usize) -> Result<Entry, SettingsError> {
        let start = self.at;
        let rest = self.rest();
        // a key in quotes may hold anything
        let quoted = rest.starts_with('"').then(|| rest.get(1..).and_then(|r| r.find('"')).map(|at| at + 2)).flatten();
        let from = quoted.unwrap_or(0);
        let stop = rest
            .char_indices()
            .find(|(at, c)| {
                *at >= from
                    && (matches!(c, '=' | '{' | '}' | ';' | '\n')
                        || *c == ':' && rest.get(at + 1..).is_none_or(|r| r.starts_with(char::is_whitespace)))
            })
            .map_or(rest.len(), |(at, _)| at);
        let word = rest.get(..stop).unwrap_or("");
        let word = match word.find(" #").into_iter().chain(word.find(" //")).min() {
            Some(comment) if !word.starts_with('"') => word.get(..comment).unwrap_or(word),
            _ => word,
        };
        let key_span = Span::new(start, start + word.trim_end().len());
        let key = match quoted.filter(|q| *q == key_span.end() - start) {
            Some(q) => Key { span: key_span, cooked: rest.get(1..q - 1).map(Into::into) },
            None => Key { span: key_span, cooked: None },
        };
        self.at = start + stop;
        let sign = self.rest().chars().next();
        if matches!(sign, Some('=' | ':')) {
            self.at += 1;
            let gap = self.rest();
            self.at += gap.len() - gap.trim_start_matches([' ', '\t']).len();
        } else if sign == Some('\n') {
            // the brace may stand on the next line
            let behind = self.at;
            self.skip(&[]);
            if !self.rest().starts_with('{') {
                self.at = behind;
            }
        }
        if self.rest().starts_with('{') {
            if depth >= MOST_DEPTH {
                return Err(SettingsError::at(self.text, self.at, "is nested too deeply"));
            }
            let opened = self.at;
            self.at += 1;
            let entries = self.statements(Some(opened), depth + 1)?;
            let node = Node::many(Span::new(opened, self.at), Form::Braces, true, entries);
            return Ok(Entry::keyed(key, node));
        }
        if !matches!(sign, Some('=' | ':')) {
            let nothing = Node::one(Span::new(key_span.end(), key_span.end()), Sort::Nothing, 0, None);
            return Ok(Entry::keyed(key, nothing));
        }
        let span = self.value()?;
        self.at = span.end();
        Ok(Entry::keyed(key, Node::by_look(self.text, span)))
    }

    /// The span of a value that begins here.
    fn value(&self) -> Result<Span, SettingsError> {
        let rest = self.rest();
        let line = rest.get(..rest.find(['\n', '\r']).unwrap_or(rest.len())).unwrap_or("");
        if line.starts_with('"') {
            let Some(shut) = line.get(1..).and_then(|l| l.find('"')) else {
                return Err(SettingsError::at(self.text, self.at, "a text is not closed: its end quote is missing"));
            };
            return Ok(Span::new(self.at, self.at + shut + 2));
        }
        let mut end = line.find([';', '}']).unwrap_or(line.len());
        for sign in [" #", "\t#", " //", "\t//"] {
            end = end.min(line.find(sign).unwrap_or(end));
        }
        if line.starts_with('#') {
            end = 0;
        }
        let mut run = line.get(..end).unwrap_or("");
        // the next statement of this line begins at the word before its sign
        if let Some(sign) = run.find(['=', '{']) {
            let before = run.get(..sign).unwrap_or("").trim_end();
            match before.rfind([' ', '\t', ',']) {
                Some(gap) => run = before.get(..gap).unwrap_or(""),
                None if run.get(sign..).is_some_and(|r| r.starts_with('{')) => {
                    let why = "a `{` stands inside a value; put the value in quotes";
                    return Err(SettingsError::at(self.text, self.at + sign, why));
                }
                None => {}
            }
        }
        let run = run.trim_end().trim_end_matches(',').trim_end();
        Ok(Span::new(self.at, self.at + run.len()))
    }
}
