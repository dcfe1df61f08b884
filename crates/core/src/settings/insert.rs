//! New keys and elements, written after the habit of their neighbours.

use super::bracketed::{self, Comments, Splice};
use super::lined;
use super::node::{Body, Entry, Form, Many, Node};
use super::source::{end_of_line, indent, line_end, line_start, line_stop, next_line};
use super::write::{flow, fresh, key};
use super::{Format, Value};

/// What is added: a key (in maps) and a value.
pub(crate) type Item = (Option<String>, Value);

/// A container in a file.
pub(crate) struct Place<'a> {
    pub(crate) format: Format,
    pub(crate) text: &'a str,
    pub(crate) root: &'a Node,
    pub(crate) trail: &'a [usize],
}

impl<'a> Place<'a> {
    pub(crate) fn node(&self) -> Option<&'a Node> {
        self.root.follow(self.trail)
    }

    /// The entry that holds it, if it is not the file itself.
    pub(crate) fn entry(&self) -> Option<&'a Entry> {
        let (last, rest) = self.trail.split_last()?;
        self.root.follow(rest)?.entries().get(*last)
    }

    /// The keys on the way to it.
    fn keys(&self) -> Vec<&'a str> {
        let key = |end: usize| {
            let at = self.trail.get(end)?;
            let entry = self.root.follow(self.trail.get(..end)?)?.entries().get(*at)?;
            entry.key.as_ref().map(|k| k.text(self.text))
        };
        (0..self.trail.len()).filter_map(key).collect()
    }

    /// The nearest key on the way to it.
    pub(crate) fn own_key(&self) -> Option<&'a str> {
        (0..self.trail.len()).rev().find_map(|end| {
            let at = self.trail.get(end)?;
            let entry = self.root.follow(self.trail.get(..end)?)?.entries().get(*at)?;
            entry.key.as_ref().map(|k| k.text(self.text))
        })
    }

    pub(crate) fn comments(&self) -> Comments {
        Comments(match self.format {
            Format::Json => "//",
            Format::BraceTables => "--",
            _ => "#",
        })
    }

    /// Whether brackets are open around it.
    pub(crate) fn in_brackets(&self) -> bool {
        (0..=self.trail.len()).any(|end| {
            let node = self.trail.get(..end).and_then(|t| self.root.follow(t));
            node.and_then(Node::as_many).is_some_and(|m| m.form == Form::Bracket)
        })
    }
}

/// Returns the splices that add items so that the first becomes number `at`.
///
/// # Errors
/// Why the format cannot hold them there.
pub(crate) fn add(place: &Place<'_>, at: usize, items: &[Item]) -> Result<Vec<Splice>, String> {
    let Some(node) = place.node() else { return Ok(Vec::new()) };
    match &node.body {
        Body::One(_) => add_to_one(place, node, items),
        Body::Many(many) => match (many.form, place.format) {
            (Form::Bracket, _) => {
                let items = bracket_items(place, node, many, items)?;
                Ok(bracketed::add(place.text, node, at, &items, place.comments()))
            }
            (Form::Again, _) => add_again(place, many, at, items),
            (Form::Row, _) => row(place, many, at, items),
            (Form::Element, _) => element(place, node, many, items),
            (Form::Braces, _) | (_, Format::Blocks) => blocks(place, node, many, items),
            (Form::Block, _) => yaml_block(place, node, many, at, items),
            (_, Format::Toml) => toml(place, node, many, items),
            (_, Format::Ini) => ini(place, node, many, items),
            (_, Format::BraceTables) => {
                Err("a new name in the script itself is yours to write; values inside its tables can be set".to_owned())
            }
            (_, Format::Text) => Err("a pattern finds a line and cannot write a new one".to_owned()),
            _ => lines(place, many, at, items),
        },
    }
}

fn add_to_one(place: &Place<'_>, node: &Node, items: &[Item]) -> Result<Vec<Splice>, String> {
    let (text, keyed) = (place.text, items.iter().all(|(k, _)| k.is_some()));
    let whole = || Value::of_items(items);
    match place.format {
        Format::Yaml if node.is_nothing() && place.in_brackets() => {
            Ok(vec![Splice::new(node.span.start(), node.span.end(), format!(" {}", flow(Format::Yaml, &whole())))])
        }
        Format::Yaml if node.is_nothing() => {
            let Some(entry) = place.entry() else {
                let rendered = block_items("", items, "  ")?;
                return Ok(vec![lined::insert(text, text.len(), &rendered, line_end(text))]);
            };
            let raw = node.span.of(text);
            if !raw.is_empty() {
                return Ok(vec![Splice::new(node.span.start(), node.span.end(), flow(Format::Yaml, &whole()))]);
            }
            let from = entry.key.as_ref().map_or(entry.whole.start(), |k| k.span.end());
            let margin = format!("{}{}", column(text, entry.whole.start()), unit(place.root, text));
            let rendered = block_items(&margin, items, &unit(place.root, text))?;
            Ok(vec![lined::insert(text, next_line(text, from), &rendered, end_of_line(text, from))])
        }
        Format::Json | Format::BraceTables if node.is_nothing() => {
            Ok(vec![Splice::new(node.span.start(), node.span.end(), flow(place.format, &whole()))])
        }
        Format::Xml => {
            let Some(entry) = place.entry() else { return Ok(Vec::new()) };
            if !keyed {
                return add_again_after(place, entry, items);
            }
            let (attributes, children): (Vec<&Item>, Vec<&Item>) =
                items.iter().partition(|(k, _)| k.as_ref().is_some_and(|k| k.starts_with('@')));
            let name = entry.key.as_ref().map_or(entry.whole, |k| k.span);
            let mut out = Vec::new();
            if !attributes.is_empty() {
                out.push(Splice::insert(name.end(), xml_attributes(&attributes)?));
            }
            if !children.is_empty() {
                let body = children
                    .iter()
                    .map(|(k, v)| xml_element(k.as_deref().unwrap_or(""), v))
                    .collect::<Result<String, _>>()?;
                if node.span.of(text) == "/>" {
                    let name = name.of(text);
                    out.push(Splice::new(node.span.start(), node.span.end(), format!(">{body}</{name}>")));
                } else if node.span.of(text).trim().is_empty() {
                    out.push(Splice::insert(node.span.start(), body));
                } else {
                    return Err("the element holds text, and elements beside text are left to you".to_owned());
                }
            }
            Ok(out)
        }
        Format::Ini | Format::NameValue | Format::Blocks if !keyed => match place.entry() {
            Some(entry) => add_again_after(place, entry, items),
            None => Ok(Vec::new()),
        },
        _ => Err("a single value stands there, nothing can be put into it".to_owned()),
    }
}

impl Value {
    /// Items as one value: a map where they have keys, else a list.
    pub(crate) fn of_items(items: &[Item]) -> Self {
        if items.iter().all(|(k, _)| k.is_some()) {
            return Value::Map(items.iter().map(|(k, v)| (k.clone().unwrap_or_default(), v.clone())).collect());
        }
        Value::List(items.iter().map(|(_, v)| v.clone()).collect())
    }
}

/// What stands between key and value beside it, or the format's usual.
fn between(text: &str, entries: &[Entry], usual: &str) -> String {
    let gap = entries.iter().rev().filter(|e| e.node.as_one().is_some()).find_map(|e| {
        let gap = text.get(e.key.as_ref()?.span.end()..e.node.span.start())?;
        (gap.contains(['=', ':']) && !gap.contains('\n') && gap.trim().len() == 1).then(|| gap.to_owned())
    });
    match gap {
        // a value that is missing leaves no space behind its sign
        Some(gap) if gap.trim_end() == gap && usual.ends_with(' ') && gap.starts_with(' ') => format!("{gap} "),
        Some(gap) => gap,
        None => usual.to_owned(),
    }
}

/// Entries of brackets, written like their neighbours: tables over several lines where those are.
fn bracket_items(place: &Place<'_>, node: &Node, many: &Many, items: &[Item]) -> Result<Vec<String>, String> {
    let (text, format) = (place.text, place.format);
    let usual = if matches!(format, Format::Toml | Format::BraceTables) { " = " } else { ": " };
    let gap = between(text, &many.entries, usual);
    let gap = if format == Format::Yaml && !gap.ends_with(' ') { ": ".to_owned() } else { gap };
    let model = many.entries.iter().rev().find(|e| e.node.as_many().is_some_and(|m| !m.entries.is_empty()));
    let tall = model.is_some_and(|e| bracketed::is_tall(text, &e.node)) && format != Format::Toml;
    let margin = many.entries.last().map_or("", |e| indent(text, e.whole.start()));
    let step = match model.and_then(|e| e.node.entries().first()).map(|e| indent(text, e.whole.start())) {
        Some(inner) if tall => inner.strip_prefix(margin).unwrap_or("  "),
        _ => "  ",
    };
    let eol = end_of_line(text, node.span.start());
    let write = |value: &Value| -> Result<String, String> {
        match value {
            Value::List(_) | Value::Map(_) if tall => Ok(tall_value(format, value, margin, step, eol)),
            one => like_neighbours(format, text, many, one),
        }
    };
    items
        .iter()
        .map(|(k, v)| match k {
            Some(k) => Ok(format!("{}{gap}{}", bracket_key(format, text, many, k), write(v)?)),
            None if many.map && format != Format::BraceTables => Err("a key is missing for what is added".to_owned()),
            None => write(v),
        })
        .collect()
}

/// A key written as its neighbours are: `["name"]` in a brace table where all are.
fn bracket_key(format: Format, text: &str, many: &Many, name: &str) -> String {
    let keys: Vec<&str> = many.entries.iter().filter_map(|e| e.key.as_ref().map(|k| k.span.of(text))).collect();
    match format {
        Format::BraceTables if !keys.is_empty() && keys.iter().all(|k| k.starts_with('[')) => {
            let bare = key(format, name);
            if bare.starts_with('[') { bare } else { format!("[\"{bare}\"]") }
        }
        Format::Yaml | Format::Toml if !keys.is_empty() && keys.iter().all(|k| k.starts_with('"')) => {
            super::write::json_text(name)
        }
        _ => key(format, name),
    }
}

/// A single value in the quotes its neighbours have.
fn like_neighbours(format: Format, text: &str, many: &Many, value: &Value) -> Result<String, String> {
    let model = many.entries.iter().rev().map(|e| &e.node).find(|n| {
        n.shut.is_none()
            && n.as_one().is_some_and(|o| Some(o.sort) == value.sort() && (o.quotes == 1 || format == Format::Yaml))
    });
    match (model, value) {
        (Some(node), Value::Text(_)) if !node.span.of(text).contains('\n') => {
            super::write::instead(format, text, node, value, true)
        }
        _ => fresh(format, value, true),
    }
}

/// A list or table over several lines.
fn tall_value(format: Format, value: &Value, margin: &str, step: &str, eol: &str) -> String {
    let inner = format!("{margin}{step}");
    let gap = if format == Format::BraceTables { " = " } else { ": " };
    let (open, close, parts): (&str, &str, Vec<String>) = match value {
        Value::Map(pairs) if !pairs.is_empty() => {
            let parts = pairs
                .iter()
                .map(|(k, v)| format!("{}{gap}{}", key(format, k), tall_value(format, v, &inner, step, eol)))
                .collect();
            ("{", "}", parts)
        }
        Value::List(items) if items.iter().any(|v| v.sort().is_none()) => {
            let parts = items.iter().map(|v| tall_value(format, v, &inner, step, eol)).collect();
            if format == Format::BraceTables { ("{", "}", parts) } else { ("[", "]", parts) }
        }
        other => return flow(format, other),
    };
    let body = parts.join(&format!(",{eol}{inner}"));
    format!("{open}{eol}{inner}{body}{eol}{margin}{close}")
}

/// White space as wide as what stands before a column of its line.
fn column(text: &str, at: usize) -> String {
    let before = text.get(line_start(text, at)..at).unwrap_or("");
    before.chars().map(|c| if c == '\t' { '\t' } else { ' ' }).collect()
}

/// How much deeper a file goes with each step: told by its first nested entry.
fn unit(root: &Node, text: &str) -> String {
    fn find(node: &Node, text: &str) -> Option<String> {
        node.entries().iter().take(200).find_map(|e| {
            let own = column(text, e.whole.start());
            let inner = e.node.as_many().filter(|m| m.form == Form::Block).and_then(|m| m.entries.first());
            inner
                .and_then(|i| column(text, i.whole.start()).strip_prefix(&own).map(str::to_owned))
                .filter(|u| !u.is_empty() && e.key.is_some())
                .or_else(|| find(&e.node, text))
        })
    }
    find(root, text).unwrap_or_else(|| "  ".to_owned())
}

fn yaml_block(place: &Place<'_>, node: &Node, many: &Many, at: usize, items: &[Item]) -> Result<Vec<Splice>, String> {
    let text = place.text;
    if place.trail.is_empty()
        && !many.map
        && text.contains("---")
        && many.entries.first().is_some_and(|e| e.whole == e.node.span)
    {
        return Err("a file of several documents takes no new ones here".to_owned());
    }
    let model = many.entries.get(at.min(many.entries.len().saturating_sub(1)));
    let Some(model) = model else { return Err("nothing stands there to add to".to_owned()) };
    let margin = column(text, model.whole.start());
    let mut rendered = Vec::new();
    for item in items {
        let like = many.entries.iter().rev().find(|e| e.node.as_one().is_some());
        match (&item.1, like) {
            (Value::Text(_), Some(like)) if many.map == item.0.is_some() => {
                let written = if like.node.as_one().is_some_and(|o| o.quotes == 1) {
                    super::write::instead(Format::Yaml, text, &like.node, &item.1, false)?
                } else {
                    fresh(Format::Yaml, &item.1, false)?
                };
                let head = item.0.as_ref().map_or("- ".to_owned(), |k| format!("{}: ", key(Format::Yaml, k)));
                rendered.push(format!("{margin}{head}{written}"));
            }
            _ => rendered.extend(block_items(&margin, std::slice::from_ref(item), &unit(place.root, text))?),
        }
    }
    let eol = end_of_line(text, node.span.start());
    if at == 0 {
        let start = line_start(text, model.whole.start());
        // the first key of a list's element shares its line with the dash
        if !text.get(start..model.whole.start()).unwrap_or("").trim().is_empty() {
            return Err("nothing can be put before the first key of an element".to_owned());
        }
        return Ok(vec![lined::insert(text, start, &rendered, eol)]);
    }
    let Some(before) = many.entries.get(at - 1) else { return Ok(Vec::new()) };
    let end = before.whole.end();
    // a block of text ends with its own line end
    let place = if end > 0 && text.get(..end).is_some_and(|t| t.ends_with('\n')) { end } else { next_line(text, end) };
    Ok(vec![lined::insert(text, place, &rendered, eol)])
}

/// Items as lines of block YAML.
fn block_items(margin: &str, items: &[Item], unit: &str) -> Result<Vec<String>, String> {
    let mut out = Vec::new();
    for (k, v) in items {
        let head = k.as_ref().map_or("-".to_owned(), |k| format!("{}:", key(Format::Yaml, k)));
        match v {
            Value::Map(pairs) if !pairs.is_empty() => {
                let inner: Vec<Item> = pairs.iter().map(|(k, v)| (Some(k.clone()), v.clone())).collect();
                if k.is_some() {
                    out.push(format!("{margin}{head}"));
                    out.extend(block_items(&format!("{margin}{unit}"), &inner, unit)?);
                } else {
                    let lines = block_items(&format!("{margin}  "), &inner, unit)?;
                    for (at, line) in lines.into_iter().enumerate() {
                        out.push(if at == 0 { format!("{margin}- {}", line.trim_start()) } else { line });
                    }
                }
            }
            Value::List(list) if list.iter().any(|v| v.sort().is_none()) && k.is_some() => {
                out.push(format!("{margin}{head}"));
                let inner: Vec<Item> = list.iter().map(|v| (None, v.clone())).collect();
                out.extend(block_items(&format!("{margin}{unit}"), &inner, unit)?);
            }
            other => out.push(format!("{margin}{head} {}", fresh(Format::Yaml, other, false)?)),
        }
    }
    Ok(out)
}

/// Whether an entry is a section with a header, and no line of its own table.
fn is_section(entry: &Entry) -> bool {
    entry.node.as_many().is_some_and(|m| {
        m.form == Form::Implied
            || m.form == Form::Lines
            || m.form == Form::Again && m.entries.first().is_some_and(is_section)
    })
}

/// Where a line of a section's own goes: behind its last one, or behind its header.
fn own_end(place: &Place<'_>, node: &Node, many: &Many) -> usize {
    let text = place.text;
    match many.entries.iter().rfind(|e| !is_section(e)) {
        Some(last) => next_line(text, last.whole.end()),
        None if place.trail.is_empty() => {
            // before the first section, and the comments that belong to it
            let Some(first) = many.entries.iter().map(|e| e.whole.start()).min() else { return text.len() };
            let mut at = line_start(text, first);
            while at > 0 {
                let above = line_start(text, at - 1);
                if !text.get(above..at).is_some_and(|l| l.trim_start().starts_with(['#', ';'])) {
                    break;
                }
                at = above;
            }
            at
        }
        None => next_line(text, node.span.start()),
    }
}

fn toml(place: &Place<'_>, node: &Node, many: &Many, items: &[Item]) -> Result<Vec<Splice>, String> {
    let text = place.text;
    if !many.map {
        return Err("a new `[[table]]` is yours to write".to_owned());
    }
    let own: Vec<Entry> = many.entries.iter().filter(|e| !is_section(e)).cloned().collect();
    let gap = between(text, &own, " = ");
    let mut rendered = Vec::new();
    let mut out = Vec::new();
    let prefix = if many.form == Form::Dotted {
        // `a.b = 1`: what stands before the last part of the key is written again
        let last = many.entries.last();
        let start = last.map_or(0, |e| line_start(text, e.whole.start()));
        last.and_then(|e| text.get(start..e.key.as_ref()?.span.start())).unwrap_or("").to_owned()
    } else {
        own.last().map_or("", |e| indent(text, e.whole.start())).to_owned()
    };
    for (k, v) in items {
        let Some(k) = k else { return Err("a key is missing for what is added".to_owned()) };
        match v {
            Value::Map(pairs) if (place.trail.is_empty() || many.form == Form::Implied) && !pairs.is_empty() => {
                // `[a."b"]` for what holds nothing but one table
                let mut header: Vec<String> = place.keys().iter().map(|k| key(Format::Toml, k)).collect();
                header.push(key(Format::Toml, k));
                let mut pairs = pairs;
                while let [(k, Value::Map(inner))] = pairs.as_slice()
                    && !inner.is_empty()
                {
                    header.push(key(Format::Toml, k));
                    pairs = inner;
                }
                let mut section = vec![format!("[{}]", header.join("."))];
                for (k, v) in pairs {
                    section.push(format!("{} = {}", key(Format::Toml, k), fresh(Format::Toml, v, true)?));
                }
                out.push(lined::append_section(text, &section));
            }
            _ if many.form == Form::Implied => {
                return Err("it has no lines of its own, only tables below it".to_owned());
            }
            v => rendered.push(format!("{prefix}{}{gap}{}", key(Format::Toml, k), fresh(Format::Toml, v, true)?)),
        }
    }
    if !rendered.is_empty() {
        let at = own_end(place, node, many);
        out.push(lined::insert(text, at, &rendered, end_of_line(text, at.saturating_sub(1))));
    }
    Ok(out)
}

fn ini(place: &Place<'_>, node: &Node, many: &Many, items: &[Item]) -> Result<Vec<Splice>, String> {
    let text = place.text;
    let own: Vec<Entry> = many.entries.iter().filter(|e| !is_section(e)).cloned().collect();
    // a new section writes as the file does
    let models: Vec<Entry> = if own.is_empty() {
        place.root.entries().iter().flat_map(|e| e.node.entries().to_vec()).collect()
    } else {
        own
    };
    let gap = between(text, &models, " = ");
    let margin = models.last().map_or("", |e| indent(text, e.whole.start()));
    let line = |k: &str, v: &Value| -> Result<Vec<String>, String> {
        let values = match v {
            Value::List(items) => items.clone(),
            one => vec![one.clone()],
        };
        values
            .iter()
            .map(|v| Ok(format!("{margin}{k}{gap}{}", fresh(Format::Ini, v, false)?).trim_end().to_owned()))
            .collect()
    };
    let mut rendered = Vec::new();
    let mut out = Vec::new();
    for (k, v) in items {
        let Some(k) = k.as_ref().filter(|k| is_line_key(k, &['=', ':', '[', ';', '#'])) else {
            return Err("a key of an INI file is a word without `=`, `:` and line ends".to_owned());
        };
        match v {
            Value::Map(pairs) if place.trail.is_empty() => {
                let mut section = vec![format!("[{k}]")];
                for (k, v) in pairs {
                    section.extend(line(k, v)?);
                }
                out.push(lined::append_section(text, &section));
            }
            v => rendered.extend(line(k, v)?),
        }
    }
    if !rendered.is_empty() {
        let at = own_end(place, node, many);
        out.push(lined::insert(text, at, &rendered, end_of_line(text, at.saturating_sub(1))));
    }
    Ok(out)
}

fn is_line_key(key: &str, signs: &[char]) -> bool {
    !key.is_empty() && key.trim() == key && !key.contains(signs) && !key.chars().any(char::is_control)
}

/// Files of lines without sections: properties, `name "value"` lines, lists and tables.
fn lines(place: &Place<'_>, many: &Many, at: usize, items: &[Item]) -> Result<Vec<Splice>, String> {
    let (text, format) = (place.text, place.format);
    let mut rendered = Vec::new();
    for (k, v) in items {
        rendered.push(match (format, k) {
            (Format::Properties, Some(k)) if is_line_key(k, &['=', ':', ' ', '\t', '#', '!']) => {
                format!("{k}{}{}", between(text, &many.entries, "="), fresh(format, v, false)?)
            }
            (Format::NameValue, Some(k)) if is_line_key(k, &[' ', '\t', '"', '#', '/', '=', '{', '}']) => {
                let gap = many
                    .entries
                    .iter()
                    .rev()
                    .filter(|e| e.node.as_one().is_some_and(|o| o.sort != super::Sort::Nothing));
                let gap = gap.filter_map(|e| text.get(e.key.as_ref()?.span.end()..e.node.span.start())).next();
                let quoted = many.entries.iter().rev().find_map(|e| e.node.as_one().map(|o| o.quotes == 1));
                let words = v.text().unwrap_or_default();
                let value = match v {
                    Value::List(_) | Value::Map(_) => fresh(format, v, false)?,
                    // bare values beside it: bare, where that is one word
                    _ if quoted == Some(false) && !words.is_empty() && !words.contains([' ', '\t', '"', '#', '/']) => {
                        words
                    }
                    _ => fresh(format, &Value::Text(words), false)?,
                };
                format!("{k}{}{value}", gap.unwrap_or(" "))
            }
            (Format::Lines, None) => fresh(format, v, false)?,
            (Format::Columns, None) => row_line(text, many, v)?,
            (Format::Lines | Format::Columns, Some(_)) => return Err("a list of lines has no keys".to_owned()),
            (_, None) => return Err("the file has keys and no list".to_owned()),
            (_, Some(k)) => return Err(format!("`{}` cannot be a key of this file", crate::text::clean(k, 40))),
        });
    }
    let place = match at.checked_sub(1).and_then(|i| many.entries.get(i)) {
        Some(before) => next_line(text, before.whole.end()),
        None => many.entries.first().map_or(text.len(), |e| line_start(text, e.whole.start())),
    };
    Ok(vec![lined::insert(text, place, &rendered, end_of_line(text, place.saturating_sub(1)))])
}

/// A row of a table, its parts set apart as in the row before.
fn row_line(text: &str, many: &Many, value: &Value) -> Result<String, String> {
    let parts = match value {
        Value::List(items) => items.clone(),
        // typed as one text: as it stands
        one => return Ok(one.text().unwrap_or_default()),
    };
    let gap = many.entries.last().and_then(|e| match e.node.entries() {
        [a, b, ..] => text.get(a.whole.end()..b.whole.start()),
        _ => None,
    });
    let parts: Vec<String> = parts.iter().map(|v| fresh(Format::Columns, v, false)).collect::<Result<_, _>>()?;
    Ok(parts.join(gap.unwrap_or(" ")))
}

fn row(place: &Place<'_>, many: &Many, at: usize, items: &[Item]) -> Result<Vec<Splice>, String> {
    let text = place.text;
    let gap = match many.entries.as_slice() {
        [a, b, ..] => text.get(a.whole.end()..b.whole.start()).unwrap_or(" "),
        _ => " ",
    };
    let mut body = String::new();
    for (_, v) in items {
        body.push_str(gap);
        body.push_str(&fresh(Format::Columns, v, false)?);
    }
    match at.checked_sub(1).and_then(|i| many.entries.get(i)) {
        Some(before) => Ok(vec![Splice::insert(before.whole.end(), body)]),
        None => {
            let start = many.entries.first().map_or(0, |e| e.whole.start());
            Ok(vec![Splice::insert(start, format!("{}{gap}", body.get(gap.len()..).unwrap_or("")))])
        }
    }
}

fn block_line(margin: &str, gap: &str, k: &str, v: &Value, eol: &str) -> Result<String, String> {
    Ok(match v {
        Value::Map(pairs) => {
            let inner = format!("{margin}  ");
            let body: Vec<String> =
                pairs.iter().map(|(k, v)| block_line(&inner, gap, k, v, eol)).collect::<Result<_, _>>()?;
            let body: String = body.iter().map(|l| format!("{l}{eol}")).collect();
            format!("{margin}{k} {{{eol}{body}{margin}}}")
        }
        Value::List(items) => {
            let lines: Vec<String> =
                items.iter().map(|v| block_line(margin, gap, k, v, eol)).collect::<Result<_, _>>()?;
            lines.join(eol)
        }
        v => format!("{margin}{k}{gap}{}", fresh(Format::Blocks, v, false)?),
    })
}

fn blocks(place: &Place<'_>, node: &Node, many: &Many, items: &[Item]) -> Result<Vec<Splice>, String> {
    let text = place.text;
    let entries = &many.entries;
    let gap = between(text, entries, " = ");
    let root = many.form != Form::Braces;
    let one_line = !root && !node.span.of(text).contains('\n');
    let eol = end_of_line(text, node.span.start());
    let margin = match entries.last() {
        Some(last) => indent(text, last.whole.start()).to_owned(),
        None if root => String::new(),
        None => format!("{}  ", indent(text, node.span.start())),
    };
    let mut rendered = Vec::new();
    for (k, v) in items {
        let Some(k) = k.as_ref().filter(|k| is_line_key(k, &['=', '{', '}', ';', '#', '"'])) else {
            return Err("a key of a block is a word without `=`, braces and line ends".to_owned());
        };
        let margin = if one_line { "" } else { &margin };
        rendered.push(block_line(margin, &gap, k, v, eol)?);
    }
    // what stands behind the statements beside it
    let sign = entries.iter().find_map(|e| {
        let rest = text.get(e.whole.end()..).unwrap_or("");
        rest.trim_start_matches([' ', '\t']).chars().next().filter(|c| matches!(c, ';' | ','))
    });
    if one_line {
        let close = node.span.end() - 1;
        let Some(last) = entries.last() else {
            let inside = text.get(node.span.start() + 1..close).unwrap_or("");
            let pad = if inside.is_empty() { " " } else { inside };
            return Ok(vec![Splice::insert(
                close,
                format!("{}{}{pad}", if inside.is_empty() { " " } else { "" }, rendered.join("; ")),
            )]);
        };
        let rest = text.get(last.whole.end()..close).unwrap_or("");
        let sign = sign.map_or(String::new(), |c| c.to_string());
        return Ok(vec![if rest.trim_start().starts_with([';', ',']) {
            let at = last.whole.end() + rest.find([';', ',']).unwrap_or(0) + 1;
            Splice::insert(at, rendered.iter().map(|r| format!(" {r}{sign}")).collect::<String>())
        } else {
            Splice::insert(last.whole.end(), rendered.iter().map(|r| format!("{sign} {r}")).collect::<String>())
        }]);
    }
    let ends_in_sign = entries.last().is_some_and(|e| {
        let rest = text.get(e.whole.end()..line_stop(text, e.whole.end())).unwrap_or("");
        rest.trim_start().starts_with([';', ','])
    });
    if let (true, Some(sign)) = (ends_in_sign, sign) {
        rendered.iter_mut().filter(|l| !l.ends_with('}')).for_each(|l| l.push(sign));
    }
    let at = match entries.last() {
        Some(last) => next_line(text, last.whole.end()),
        None if root => text.len(),
        None => next_line(text, node.span.start()),
    };
    // the closing brace on the last entry's line
    if !root && at > node.span.end() {
        let last = entries.last().map_or(node.span.start() + 1, |e| e.whole.end());
        let body: String = rendered.iter().map(|l| format!("{eol}{l}")).collect();
        return Ok(vec![Splice::insert(last, body)]);
    }
    Ok(vec![lined::insert(text, at, &rendered, eol)])
}

fn xml_attributes(items: &[&Item]) -> Result<String, String> {
    let mut out = String::new();
    for (k, v) in items {
        let name = k.as_deref().and_then(|k| k.strip_prefix('@')).unwrap_or("");
        if !xml_name(name) {
            return Err(format!("`{}` is no name for an attribute", crate::text::clean(name, 40)));
        }
        out.push_str(&format!(" {name}=\"{}\"", fresh(Format::Xml, v, false)?));
    }
    Ok(out)
}

fn xml_name(name: &str) -> bool {
    name.starts_with(|c: char| c.is_alphabetic() || c == '_')
        && name.chars().all(|c| c.is_alphanumeric() || matches!(c, '_' | '-' | '.' | ':'))
}

/// An element on one line; a list is the element again and again.
fn xml_element(name: &str, value: &Value) -> Result<String, String> {
    if !xml_name(name) {
        return Err(format!("`{}` is no name for an element", crate::text::clean(name, 40)));
    }
    Ok(match value {
        Value::List(items) => items.iter().map(|v| xml_element(name, v)).collect::<Result<String, _>>()?,
        Value::Map(pairs) => {
            let items: Vec<Item> = pairs.iter().map(|(k, v)| (Some(k.clone()), v.clone())).collect();
            let attributes: Vec<&Item> =
                items.iter().filter(|(k, _)| k.as_ref().is_some_and(|k| k.len() > 1 && k.starts_with('@'))).collect();
            let mut body = String::new();
            for (k, v) in pairs {
                match k.as_str() {
                    "@" => body.push_str(&fresh(Format::Xml, v, false)?.replace("&quot;", "\"")),
                    k if !k.starts_with('@') => body.push_str(&xml_element(k, v)?),
                    _ => {}
                }
            }
            format!("<{name}{}>{body}</{name}>", xml_attributes(&attributes)?)
        }
        Value::Null => format!("<{name}/>"),
        v => format!("<{name}>{}</{name}>", fresh(Format::Xml, v, false)?.replace("&quot;", "\"")),
    })
}

fn element(place: &Place<'_>, node: &Node, many: &Many, items: &[Item]) -> Result<Vec<Splice>, String> {
    let text = place.text;
    if place.trail.is_empty() {
        return Err("an XML file has one outermost element".to_owned());
    }
    let is_attribute = |k: &str| k.starts_with('@');
    let name = place.entry().and_then(|e| e.key.as_ref()).map_or(node.span, |k| k.span);
    let attributes: Vec<&Item> = items.iter().filter(|(k, _)| k.as_deref().is_some_and(is_attribute)).collect();
    let mut out = Vec::new();
    if !attributes.is_empty() {
        let own = many
            .entries
            .iter()
            .filter(|e| e.key.as_ref().is_some_and(|k| k.text(text).len() > 1 && is_attribute(k.text(text))));
        let at = own.map(|e| e.whole.end()).max().unwrap_or(name.end());
        out.push(Splice::insert(at, xml_attributes(&attributes)?));
    }
    let mut elements = Vec::new();
    for (k, v) in items.iter().filter(|(k, _)| !k.as_deref().is_some_and(is_attribute)) {
        let Some(k) = k else { return Err("an element's name is missing for what is added".to_owned()) };
        elements.push(xml_element(k, v)?);
    }
    if elements.is_empty() {
        return Ok(out);
    }
    let last = many
        .entries
        .iter()
        .filter(|e| e.key.as_ref().is_some_and(|k| !is_attribute(k.text(text))))
        .map(|e| e.whole)
        .max_by_key(|w| w.end);
    match last {
        Some(last) => out.push(beside_element(text, last.start(), last.end(), &elements)),
        None => {
            let own = many.entries.iter().find(|e| e.is(text, "@")).map(|e| &e.node);
            match own {
                Some(own) if own.span.of(text) == "/>" => {
                    let body = format!(">{}</{}>", elements.concat(), name.of(text));
                    out.push(Splice::new(own.span.start(), own.span.end(), body));
                }
                Some(own) if own.span.of(text).trim().is_empty() => {
                    out.push(Splice::insert(own.span.start(), elements.concat()));
                }
                _ => return Err("the element holds text, and elements beside text are left to you".to_owned()),
            }
        }
    }
    Ok(out)
}

/// Elements behind another one: on lines of their own where that has one.
fn beside_element(text: &str, start: usize, end: usize, elements: &[String]) -> Splice {
    let margin = indent(text, start);
    let alone = text.get(line_start(text, start)..start).is_some_and(|t| t.trim().is_empty());
    let body: String = if alone {
        elements.iter().map(|e| format!("{}{margin}{e}", end_of_line(text, start))).collect()
    } else {
        elements.concat()
    };
    Splice::insert(end, body)
}

/// One more entry of a key that stands several times.
fn add_again(place: &Place<'_>, many: &Many, at: usize, items: &[Item]) -> Result<Vec<Splice>, String> {
    let behind = at.checked_sub(1).and_then(|i| many.entries.get(i)).or_else(|| many.entries.last());
    match behind {
        Some(entry) => add_again_after(place, entry, items),
        None => Ok(Vec::new()),
    }
}

fn add_again_after(place: &Place<'_>, entry: &Entry, items: &[Item]) -> Result<Vec<Splice>, String> {
    let text = place.text;
    let name = place.own_key().unwrap_or("");
    if place.format == Format::Xml {
        if name.starts_with('@') {
            return Err("an attribute stands once".to_owned());
        }
        let elements: Vec<String> = items.iter().map(|(_, v)| xml_element(name, v)).collect::<Result<_, _>>()?;
        return Ok(vec![beside_element(text, entry.whole.start(), entry.whole.end(), &elements)]);
    }
    let margin = indent(text, entry.whole.start());
    let eol = end_of_line(text, entry.whole.start());
    // `key = ` of the entry itself
    let head = text.get(entry.whole.start()..entry.node.span.start()).unwrap_or("");
    let mut rendered = Vec::new();
    for (_, v) in items {
        match v {
            Value::Map(pairs) if place.format == Format::Ini => {
                let mut section = vec![String::new(), format!("[{name}]")];
                for (k, v) in pairs {
                    section.push(format!("{k} = {}", fresh(Format::Ini, v, false)?));
                }
                rendered.extend(section);
            }
            Value::Map(_) => rendered.push(block_line(margin, " = ", name, v, eol)?),
            v => {
                let written = match entry.node.as_one() {
                    Some(_) => super::write::instead(place.format, text, &entry.node, v, false)?,
                    None => fresh(place.format, v, false)?,
                };
                rendered.push(format!("{margin}{head}{written}"));
            }
        }
    }
    let at = next_line(text, entry.whole.end());
    Ok(vec![lined::insert(text, at, &rendered, eol)])
}
