//! XML.

use super::*;

pub(super) fn xml_attributes(items: &[&Item]) -> Result<String, String> {
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

pub(super) fn xml_name(name: &str) -> bool {
    name.starts_with(|c: char| c.is_alphabetic() || c == '_')
        && name.chars().all(|c| c.is_alphanumeric() || matches!(c, '_' | '-' | '.' | ':'))
}

/// An element on one line; a list is the element again and again.
pub(super) fn xml_element(name: &str, value: &Value) -> Result<String, String> {
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

pub(super) fn element(place: &Place<'_>, node: &Node, many: &Many, items: &[Item]) -> Result<Vec<Splice>, String> {
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
pub(super) fn beside_element(text: &str, start: usize, end: usize, elements: &[String]) -> Splice {
    let margin = indent(text, start);
    let alone = text.get(line_start(text, start)..start).is_some_and(|t| t.trim().is_empty());
    let body: String = if alone {
        elements.iter().map(|e| format!("{}{margin}{e}", end_of_line(text, start))).collect()
    } else {
        elements.concat()
    };
    Splice::insert(end, body)
}
