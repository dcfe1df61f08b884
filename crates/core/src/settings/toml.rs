//! TOML, over the spans of a well-kept parser.

use toml_edit::{Document, Item, Table, Value as Toml};

use super::SettingsError;
use super::node::{Entry, Form, Key, Node, Sort, Span};

pub(crate) fn parse(text: &str) -> Result<Node, SettingsError> {
    let document = Document::parse(text).map_err(|e| {
        let at = e.span().map_or(0, |s| s.start);
        SettingsError::at(text, at, crate::text::clean(e.message().lines().next().unwrap_or(""), 160))
    })?;
    let mut root = table(text, document.as_table(), Form::Lines);
    root.span = Span::new(0, text.len());
    Ok(root)
}

fn table(text: &str, table: &Table, form: Form) -> Node {
    let mut entries = Vec::with_capacity(table.len());
    let mut span = table.span().filter(|s| !s.is_empty()).map(|s| Span::new(s.start, s.end));
    for (name, item) in table.iter() {
        let Some(key) = table.key(name).and_then(|k| self::key(text, name, k)) else { continue };
        let node = match item {
            Item::None => continue,
            Item::Value(v) => value(text, v),
            Item::Table(t) if t.is_dotted() => self::table(text, t, Form::Dotted),
            Item::Table(t) if t.is_implicit() => self::table(text, t, Form::Implied),
            Item::Table(t) => self::table(text, t, Form::Lines),
            Item::ArrayOfTables(all) => {
                let tables: Vec<Entry> = all.iter().map(|t| Entry::bare(self::table(text, t, Form::Lines))).collect();
                let whole = tables.iter().map(|e| e.whole).reduce(Span::join).unwrap_or(key.span);
                Node::many(whole, Form::Lines, false, tables)
            }
        };
        let entry = Entry::keyed(key, node);
        span = Some(span.map_or(entry.whole, |s| s.join(entry.whole)));
        entries.push(entry);
    }
    Node::many(span.unwrap_or_default(), form, true, entries)
}

fn key(text: &str, name: &str, key: &toml_edit::Key) -> Option<Key> {
    let span = key.span()?;
    let plain = text.get(span.clone()) == Some(name);
    Some(Key { span: Span::new(span.start, span.end), cooked: (!plain).then(|| name.into()) })
}

fn value(text: &str, value: &Toml) -> Node {
    let span = value.span().map_or_else(Span::default, |s| Span::new(s.start, s.end));
    let raw = span.of(text);
    match value {
        Toml::String(s) => {
            let long = raw.starts_with("\"\"\"") || raw.starts_with("'''");
            let quotes: u8 = if long { 3 } else { 1 };
            let inner = raw.get(usize::from(quotes)..raw.len().saturating_sub(usize::from(quotes)));
            let cooked = (inner != Some(s.value())).then(|| s.value().as_str().into());
            Node::one(span, Sort::Text, quotes, cooked)
        }
        Toml::Integer(_) | Toml::Float(_) => Node::one(span, Sort::Number, 0, None),
        Toml::Boolean(_) => Node::one(span, Sort::Flag, 0, None),
        // a date is no text in quotes, but people read it as text; it keeps its bare style
        Toml::Datetime(_) => Node::one(span, Sort::Text, 0, None),
        Toml::Array(all) => {
            let entries = all.iter().map(|v| Entry::bare(self::value(text, v))).collect();
            Node::many(span, Form::Bracket, false, entries)
        }
        Toml::InlineTable(pairs) => {
            let mut entries = Vec::new();
            for (name, v) in pairs.iter() {
                let Some(key) = pairs.key(name).and_then(|k| self::key(text, name, k)) else { continue };
                let node = match v {
                    Toml::InlineTable(t) if t.is_dotted() => dotted(text, t),
                    v => self::value(text, v),
                };
                entries.push(Entry::keyed(key, node));
            }
            Node::many(span, Form::Bracket, true, entries)
        }
    }
}

/// `a.b = 1` inside an inline table: its own span does not exist, its parts have theirs.
fn dotted(text: &str, table: &toml_edit::InlineTable) -> Node {
    let mut entries = Vec::new();
    for (name, v) in table.iter() {
        let Some(key) = table.key(name).and_then(|k| self::key(text, name, k)) else { continue };
        let node = match v {
            Toml::InlineTable(t) if t.is_dotted() => dotted(text, t),
            v => value(text, v),
        };
        entries.push(Entry::keyed(key, node));
    }
    let span = entries.iter().map(|e| e.whole).reduce(Span::join).unwrap_or_default();
    Node::many(span, Form::Dotted, true, entries)
}
