//! Block YAML.

use super::*;

/// White space as wide as what stands before a column of its line.
pub(super) fn column(text: &str, at: usize) -> String {
    let before = text.get(line_start(text, at)..at).unwrap_or("");
    before.chars().map(|c| if c == '\t' { '\t' } else { ' ' }).collect()
}

/// How much deeper a file goes with each step: told by its first nested entry.
pub(super) fn unit(root: &Node, text: &str) -> String {
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

pub(super) fn yaml_block(
    place: &Place<'_>,
    node: &Node,
    many: &Many,
    at: usize,
    items: &[Item],
) -> Result<Vec<Splice>, String> {
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
                    super::super::write::instead(Format::Yaml, text, &like.node, &item.1, false)?
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
pub(super) fn block_items(margin: &str, items: &[Item], unit: &str) -> Result<Vec<String>, String> {
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
