//! A settings file of any format: what it says, where each value stands, and its bytes after edits.

use super::node::{Body, Entry, Form, Key, Node, Sort, Span};
use super::path::Step;
use super::select::{canonical, is_flat};
use super::source::{Source, line_stop, next_line};
use super::{EditError, Format, Path, SettingsError, Value, blocks, brace, flat, json, toml, xml, yaml};
use crate::text::line_column;

/// A settings file, read.
#[derive(Debug, Clone)]
pub struct Document {
    pub(crate) format: Format,
    pub(crate) source: Source,
    pub(crate) root: Node,
    /// In plain text: the patterns that were asked for; each is a key of the tree.
    pub(crate) patterns: Vec<String>,
}

/// Where a value stands and what it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Spot {
    /// A path that means it alone.
    pub path: Path,
    /// The value.
    pub value: Value,
    /// The line, from 1.
    pub line: usize,
    /// The column in characters, from 1.
    pub column: usize,
}

/// A line of a file's table of values: a single value, or a list of single values.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    /// The path to type.
    pub path: Path,
    /// The value.
    pub value: Value,
    /// The line, from 1.
    pub line: usize,
}

/// Reads a text's tree.
pub(crate) fn tree(format: Format, text: &str, patterns: &[String]) -> Result<Node, SettingsError> {
    match format {
        Format::Json => json::parse(text),
        Format::Yaml => yaml::parse(text),
        Format::Toml => toml::parse(text),
        Format::Ini => flat::ini(text),
        Format::Properties => flat::properties(text),
        Format::Xml => xml::parse(text),
        Format::NameValue => flat::name_value(text),
        Format::Lines => flat::list(text),
        Format::Columns => flat::columns(text),
        Format::Blocks => blocks::parse(text),
        Format::BraceTables => brace::parse(text),
        Format::Text => found_lines(text, patterns),
    }
}

/// The lines that fit patterns, as a map from each pattern to its value.
fn found_lines(text: &str, patterns: &[String]) -> Result<Node, SettingsError> {
    let mut entries: Vec<Entry> = Vec::new();
    for pattern in patterns {
        let regex =
            regex_lite::RegexBuilder::new(&format!("^(?:{pattern})$")).size_limit(200_000).build().map_err(|e| {
                SettingsError::new(1, 1, format!("the pattern `{}` is none: {e}", crate::text::clean(pattern, 60)))
            })?;
        let mut at = 0;
        let mut first: Option<Entry> = None;
        while at < text.len() {
            let stop = line_stop(text, at);
            let line = text.get(at..stop).unwrap_or("");
            if let Some(found) = regex.captures(line) {
                let group = found.name("value").or_else(|| found.get(1)).or_else(|| found.get(0));
                if let Some(group) = group {
                    let node = Node::by_look(text, Span::new(at + group.start(), at + group.end()));
                    let key = Key { span: Span::new(at, at), cooked: Some(pattern.as_str().into()) };
                    let entry = Entry { key: Some(key), whole: Span::new(at, stop), node };
                    match &mut first {
                        Some(first) => flat::again(first, entry),
                        None => first = Some(entry),
                    }
                }
            }
            at = next_line(text, at);
        }
        entries.extend(first);
    }
    Ok(Node::many(Span::new(0, text.len()), Form::Lines, true, entries))
}

impl Document {
    /// Reads a file.
    ///
    /// # Errors
    /// What cannot be read without doubt, with its line and column.
    pub fn parse(format: Format, bytes: &[u8]) -> Result<Self, SettingsError> {
        let source = Source::read(bytes)?;
        // a new file of a format that has no empty one begins as an empty map
        let root = match format {
            Format::Json if source.text.trim().is_empty() => {
                Node::one(Span::new(source.text.len(), source.text.len()), Sort::Nothing, 0, None)
            }
            _ => tree(format, &source.text, &[])?,
        };
        Ok(Self { format, source, root, patterns: Vec::new() })
    }

    /// Returns its format.
    pub fn format(&self) -> Format {
        self.format
    }

    /// Returns the file's bytes: those that were read, but for the edits.
    pub fn render(&self) -> Vec<u8> {
        self.source.bytes()
    }

    /// Returns the file's text, without its byte-order mark.
    pub fn text(&self) -> &str {
        &self.source.text
    }

    /// Returns all it says.
    pub fn value(&self) -> Value {
        Value::of(&self.root, &self.source.text)
    }

    /// Makes the lines of a pattern part of the tree.
    pub(crate) fn learn(&mut self, path: &Path) {
        let Some(Step::Line(pattern)) = path.0.first() else { return };
        if self.format != Format::Text || self.patterns.contains(pattern) {
            return;
        }
        let more: Vec<String> = self.patterns.iter().chain([pattern]).cloned().collect();
        // a pattern that is none finds nothing
        if let Ok(root) = tree(self.format, &self.source.text, &more) {
            self.root = root;
            self.patterns = more;
        }
    }

    /// Returns every value that a path means, each with a path that means it alone.
    ///
    /// # Errors
    /// [`EditError::NoSuch`] with the nearest path, or a path that means one of several things.
    pub fn select(&mut self, path: &Path) -> Result<Vec<Spot>, EditError> {
        self.learn(path);
        let hits = self.hits(path)?;
        Ok(hits
            .into_iter()
            .filter_map(|hit| {
                let node = self.root.follow(&hit.trail)?;
                let at = node.entries().first().map_or(node.span.start(), |e| e.whole.start().min(node.span.start()));
                let (line, column) = line_column(&self.source.text, at);
                Some(Spot { path: hit.path, value: Value::of(node, &self.source.text), line, column })
            })
            .collect())
    }

    /// Returns the one value of a path; `None` where nothing stands.
    ///
    /// # Errors
    /// The path means several values, or one of several things.
    pub fn get(&mut self, path: &Path) -> Result<Option<Spot>, EditError> {
        let mut all = match self.select(path) {
            Err(EditError::NoSuch { .. }) => return Ok(None),
            other => other?,
        };
        if all.len() > 1 {
            let why = format!("it means {} values; name one", all.len());
            return Err(EditError::Unclear { path: path.to_string(), why });
        }
        Ok(all.pop())
    }

    /// Returns the bytes' range of a value in [`Document::text`], for marking it in a picture of the file.
    pub fn range(&mut self, path: &Path) -> Option<std::ops::Range<usize>> {
        self.learn(path);
        let hit = self.hits(path).ok()?.into_iter().next()?;
        self.root.follow(&hit.trail).map(|n| n.span.range())
    }

    /// Returns every single value and every list of single values, in the file's order, at most `most`; and how many
    /// there are.
    pub fn rows(&self, most: usize) -> (Vec<Row>, usize) {
        let mut walk = Walk { document: self, most, out: Vec::new(), count: 0, line: (0, 1) };
        walk.go(&self.root, &Path(Vec::new()));
        (walk.out, walk.count)
    }
}

struct Walk<'a> {
    document: &'a Document,
    most: usize,
    out: Vec<Row>,
    count: usize,
    /// The byte the last row stood at, and its line.
    line: (usize, usize),
}

impl Walk<'_> {
    fn go(&mut self, node: &Node, path: &Path) {
        let text = &self.document.source.text;
        let whole = path.is_empty();
        let simple = |n: &Node| n.entries().iter().all(|e| e.key.is_none() && e.node.as_one().is_some());
        match &node.body {
            Body::Many(many) if !simple(node) || whole => {
                let flat = is_flat(self.document.format);
                for (at, entry) in many.entries.iter().enumerate() {
                    let step = canonical(node, text, at);
                    let inner = match &step {
                        Step::Key(key) if flat => Path::flat(key),
                        Step::Key(pattern) if self.document.format == Format::Text => {
                            Path(vec![Step::Line(pattern.clone())])
                        }
                        _ => path.with(step),
                    };
                    self.go(&entry.node, &inner);
                }
            }
            _ if whole => {}
            _ => {
                self.count += 1;
                if self.out.len() < self.most {
                    let at = node.entries().first().map_or(node.span.start(), |e| e.whole.start());
                    let line = self.line_at(at);
                    self.out.push(Row { path: path.clone(), value: Value::of(node, text), line });
                }
            }
        }
    }

    /// Lines are counted on from the row before.
    fn line_at(&mut self, at: usize) -> usize {
        let text = self.document.source.text.as_bytes();
        let (from, line) = if at >= self.line.0 { self.line } else { (0, 1) };
        let line = line + text.get(from..at).unwrap_or_default().iter().filter(|b| **b == b'\n').count();
        self.line = (at, line);
        line
    }
}
