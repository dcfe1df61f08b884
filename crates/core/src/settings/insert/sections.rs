//! Files of lines: TOML, INI, properties, `name "value"` lines, lists and tables.

use super::*;

/// Whether an entry is a section with a header, and no line of its own table.
pub(super) fn is_section(entry: &Entry) -> bool {
    entry.node.as_many().is_some_and(|m| {
        m.form == Form::Implied
            || m.form == Form::Lines
            || m.form == Form::Again && m.entries.first().is_some_and(is_section)
    })
}

/// Where a line of a section's own goes: behind its last one, or behind its header.
pub(super) fn own_end(place: &Place<'_>, node: &Node, many: &Many) -> usize {
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

pub(super) fn toml(place: &Place<'_>, node: &Node, many: &Many, items: &[Item]) -> Result<Vec<Splice>, String> {
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

pub(super) fn ini(place: &Place<'_>, node: &Node, many: &Many, items: &[Item]) -> Result<Vec<Splice>, String> {
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

pub(super) fn is_line_key(key: &str, signs: &[char]) -> bool {
    !key.is_empty() && key.trim() == key && !key.contains(signs) && !key.chars().any(char::is_control)
}

/// Files of lines without sections: properties, `name "value"` lines, lists and tables.
pub(super) fn lines(place: &Place<'_>, many: &Many, at: usize, items: &[Item]) -> Result<Vec<Splice>, String> {
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
                    .filter(|e| e.node.as_one().is_some_and(|o| o.sort != super::super::Sort::Nothing));
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
pub(super) fn row_line(text: &str, many: &Many, value: &Value) -> Result<String, String> {
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

pub(super) fn row(place: &Place<'_>, many: &Many, at: usize, items: &[Item]) -> Result<Vec<Splice>, String> {
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
