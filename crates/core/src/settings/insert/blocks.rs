//! Nested blocks.

use super::*;

pub(super) fn block_line(margin: &str, gap: &str, k: &str, v: &Value, eol: &str) -> Result<String, String> {
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

pub(super) fn blocks(place: &Place<'_>, node: &Node, many: &Many, items: &[Item]) -> Result<Vec<Splice>, String> {
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
