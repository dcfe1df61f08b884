//! How values and keys are written in each format, after the habit of what stands there.

use super::node::{Node, Sort};
use super::{Format, Value};

/// Writes a value on one line, as it stands inside brackets.
pub(crate) fn flow(format: Format, value: &Value) -> String {
    let assign = match format {
        Format::Toml | Format::BraceTables => " = ",
        _ => ": ",
    };
    match value {
        Value::List(items) => {
            let items: Vec<String> = items.iter().map(|v| flow(format, v)).collect();
            let inner = items.join(", ");
            if format == Format::BraceTables { format!("{{{inner}}}") } else { format!("[{inner}]") }
        }
        Value::Map(pairs) => {
            let pairs: Vec<String> =
                pairs.iter().map(|(k, v)| format!("{}{assign}{}", key(format, k), flow(format, v))).collect();
            match (format, pairs.is_empty()) {
                (_, true) => "{}".to_owned(),
                (Format::Toml | Format::BraceTables, _) => format!("{{ {} }}", pairs.join(", ")),
                _ => format!("{{{}}}", pairs.join(", ")),
            }
        }
        one => fresh(format, one, true).unwrap_or_default(),
    }
}

/// Writes a key.
pub(crate) fn key(format: Format, name: &str) -> String {
    let bare = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '-');
    match format {
        Format::Json => json_text(name),
        Format::Yaml => yaml_plain(name, true).map_or_else(|| json_text(name), str::to_owned),
        Format::Toml if !name.is_empty() && name.chars().all(bare) => name.to_owned(),
        Format::Toml => toml_text(name),
        Format::BraceTables => {
            let word = name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
                && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
            let kept = [
                "and", "do", "else", "end", "false", "for", "function", "if", "in", "local", "nil", "not", "or",
                "repeat", "return", "then", "true", "until", "while",
            ];
            if word && !kept.contains(&name) { name.to_owned() } else { format!("[{}]", brace_text(name, '"')) }
        }
        _ => name.to_owned(),
    }
}

/// Writes a value where `node` stands now, in its style. An error says why the format cannot hold it there.
pub(crate) fn instead(
    format: Format,
    text: &str,
    node: &Node,
    value: &Value,
    flow_yaml: bool,
) -> Result<String, String> {
    let raw = node.span.of(text);
    let Some(one) = node.as_one() else { return Ok(flow(format, value)) };
    let Value::Text(words) = value else {
        return match (format, value) {
            (_, Value::List(_) | Value::Map(_)) if holds_flow(format) => Ok(flow(format, value)),
            (_, Value::List(_) | Value::Map(_)) => {
                Err(format!("a single value stands there, and {} cannot hold a list or a table in one", format.word()))
            }
            (Format::Toml, Value::Number(n)) => {
                let decimal = |t: &str| t.contains(['.', 'e', 'E']);
                // a decimal number stays one
                Ok(if one.sort == Sort::Number && decimal(raw) && !decimal(n) { format!("{n}.0") } else { n.clone() })
            }
            (Format::Toml, Value::Null) => Err("TOML has no `null`; take the key out instead".to_owned()),
            (Format::Xml, _) => fresh(format, value, false).map(|t| xml_place(text, node, &t)),
            (Format::Ini | Format::NameValue | Format::Blocks | Format::Columns, _) if one.quotes == 1 => {
                quoted_as(raw, &value.text().unwrap_or_default())
            }
            (Format::Yaml, Value::Bool(b)) if raw.starts_with(|c: char| c.is_ascii_uppercase()) => {
                let word = b.to_string();
                let all = raw.chars().all(|c| c.is_ascii_uppercase());
                Ok(if all { word.to_uppercase() } else { format!("{}{}", if *b { 'T' } else { 'F' }, &word[1..]) })
            }
            _ => fresh(format, value, flow_yaml),
        };
    };
    let was_text = one.sort == Sort::Text;
    match format {
        Format::Json => Ok(json_text(words)),
        Format::Yaml => Ok(yaml_instead(raw, was_text, words, flow_yaml)),
        Format::Toml => {
            if was_text && one.quotes == 0 {
                return match words.parse::<toml_edit::Datetime>() {
                    Ok(_) => Ok(words.clone()),
                    Err(_) => Err(format!("a date stands there, and `{}` is none", crate::text::clean(words, 40))),
                };
            }
            let literal = raw.starts_with('\'') && !raw.starts_with("'''");
            let fits = !words.contains('\'') && !words.chars().any(|c| c.is_control() && c != '\t');
            Ok(if literal && fits { format!("'{words}'") } else { toml_text(words) })
        }
        Format::BraceTables => Ok(brace_text(words, if raw.starts_with('\'') { '\'' } else { '"' })),
        Format::Xml => fresh(format, value, false).map(|t| xml_place(text, node, &t)),
        Format::Ini | Format::NameValue | Format::Blocks | Format::Columns if one.quotes == 1 => quoted_as(raw, words),
        Format::Columns => {
            // between signs words may have spaces
            let behind = text.get(node.span.end()..).unwrap_or("").trim_start_matches(' ').chars().next();
            let before = text.get(..node.span.start()).unwrap_or("").trim_end_matches(' ').chars().next_back();
            let sign = [behind, before].into_iter().flatten().find(|c| matches!(c, '|' | ';' | ',' | '\t'));
            match sign {
                Some(sign) if words.contains([sign, '\n']) => Err(format!("the columns are parted by `{sign}`")),
                Some(_) => Ok(words.clone()),
                None => fresh(format, value, flow_yaml),
            }
        }
        _ => fresh(format, value, flow_yaml),
    }
}

fn holds_flow(format: Format) -> bool {
    matches!(format, Format::Json | Format::Yaml | Format::Toml | Format::BraceTables)
}

/// Writes a value where nothing stood.
pub(crate) fn fresh(format: Format, value: &Value, in_flow: bool) -> Result<String, String> {
    let words = match value {
        Value::List(_) | Value::Map(_) if holds_flow(format) => return Ok(flow(format, value)),
        Value::List(_) | Value::Map(_) => return Err(format!("{} holds no list or table in one value", format.word())),
        Value::Null => {
            return match format {
                Format::BraceTables => Ok("nil".to_owned()),
                Format::Json | Format::Yaml => Ok("null".to_owned()),
                Format::Toml => Err("TOML has no `null`; leave the key out instead".to_owned()),
                _ => Ok(String::new()),
            };
        }
        Value::Bool(b) => return Ok(b.to_string()),
        Value::Number(n) => return Ok(n.clone()),
        Value::Text(words) => words,
    };
    if words.contains(['\n', '\r'])
        && !matches!(format, Format::Json | Format::Yaml | Format::Toml | Format::BraceTables)
    {
        return Err(format!("a value of a {} file stands on one line", format.word()));
    }
    let spaced = words.trim() != words || words.is_empty();
    match format {
        Format::Json => Ok(json_text(words)),
        // a new `yes` is meant as one; instead of other words it is quoted (see yaml_instead)
        Format::Yaml => Ok(yaml_plain(words, in_flow).map_or_else(|| json_text(words), str::to_owned)),
        Format::Toml => Ok(toml_text(words)),
        Format::BraceTables => Ok(brace_text(words, '"')),
        Format::Xml => Ok(xml_text(words)),
        Format::Properties | Format::Text => {
            if words.ends_with('\\') || words.trim() != words {
                return Err("a value cannot begin or end in spaces, or end in a backslash, here".to_owned());
            }
            Ok(words.clone())
        }
        Format::Lines => {
            if spaced || words.starts_with('#') || words.contains(" #") || words.contains("\t#") {
                return Err(
                    "an entry of a list of lines is not empty, has no spaces around it and no ` #` in it".to_owned()
                );
            }
            Ok(words.clone())
        }
        Format::Ini => {
            let comment = [" ;", " #", "\t;", "\t#"].iter().any(|c| words.contains(c));
            let strange = words.starts_with(['"', '\'', ';', '#']) || comment || words.trim() != words;
            if strange { quoted_as("\"\"", words) } else { Ok(words.clone()) }
        }
        Format::NameValue => quoted_as("\"\"", words),
        Format::Columns => {
            if spaced || words.contains([' ', '\t', '|', ';', '#']) {
                quoted_as("\"\"", words)
            } else {
                Ok(words.clone())
            }
        }
        Format::Blocks => {
            let strange =
                spaced || words.contains(['"', '\'', '{', '}', '=', ';', ',', '#', ':']) || words.contains("//");
            if strange { quoted_as("\"\"", words) } else { Ok(words.clone()) }
        }
    }
}

/// Puts words between the quotes that stand there.
fn quoted_as(raw: &str, words: &str) -> Result<String, String> {
    if words.contains(['\n', '\r']) {
        return Err("a value stands on one line here".to_owned());
    }
    let quote = if raw.starts_with('\'') { '\'' } else { '"' };
    if words.contains(quote) {
        return Err(format!("the value stands in {quote} quotes, which this format has no way to write inside"));
    }
    Ok(format!("{quote}{words}{quote}"))
}

/// A text in double quotes, as JSON and YAML write it.
pub(crate) fn json_text(words: &str) -> String {
    serde_json::to_string(words).unwrap_or_default()
}

fn toml_text(words: &str) -> String {
    let mut out = String::from("\"");
    for c in words.chars() {
        match c {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\t' => out.push_str("\\t"),
            c if c.is_control() => out.push_str(&format!("\\u{:04X}", u32::from(c))),
            c => out.push(c),
        }
    }
    out.push('"');
    out
}

fn brace_text(words: &str, quote: char) -> String {
    let mut out = String::from(quote);
    for c in words.chars() {
        match c {
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\t' => out.push_str("\\t"),
            c if c == quote || c == '\\' => out.extend(['\\', c]),
            c => out.push(c),
        }
    }
    out.push(quote);
    out
}

fn xml_text(words: &str) -> String {
    let mut out = String::new();
    for c in words.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            c => out.push(c),
        }
    }
    out
}

/// Where an element closes itself, it must be opened for a value: `<a/>` becomes `<a>value</a>`.
fn xml_place(text: &str, node: &Node, written: &str) -> String {
    if node.span.of(text) != "/>" {
        // inside an element's text a quote needs no sign; an attribute does
        let attribute = text.get(..node.span.start()).is_some_and(|t| t.ends_with(['"', '\'']));
        if attribute && text.get(..node.span.start()).is_some_and(|t| t.ends_with('\'')) {
            return written.replace('\'', "&apos;");
        }
        return if attribute { written.to_owned() } else { written.replace("&quot;", "\"") };
    }
    let before = text.get(..node.span.start()).unwrap_or("");
    let from = before.rfind('<').map_or(0, |at| at + 1);
    let name: String =
        before.get(from..).unwrap_or("").chars().take_while(|c| !c.is_whitespace() && *c != '/').collect();
    format!(">{}</{name}>", written.replace("&quot;", "\""))
}

/// Words that older readers of YAML take for true and false.
fn is_switch(words: &str) -> bool {
    ["yes", "no", "on", "off", "y", "n"].iter().any(|w| words.eq_ignore_ascii_case(w))
}

fn yaml_instead(raw: &str, was_text: bool, words: &str, in_flow: bool) -> String {
    let block = raw.starts_with(['|', '>']);
    // a block's span may take its last line end with it
    let tail = if block && raw.ends_with('\n') { if raw.ends_with("\r\n") { "\r\n" } else { "\n" } } else { "" };
    let single = raw.starts_with('\'') && !words.contains(|c: char| c.is_control());
    if single && was_text {
        return format!("'{}'", words.replace('\'', "''"));
    }
    if (raw.starts_with('"') && was_text) || block {
        return format!("{}{tail}", json_text(words));
    }
    let plain = yaml_plain(words, in_flow).filter(|_| !is_switch(words) || is_switch(raw));
    // a date where a plain date stood
    let plain = plain.or(Some(words).filter(|w| is_time(w) && is_time(raw) && !in_flow));
    plain.map_or_else(|| json_text(words), str::to_owned)
}

/// Dates, times and digits in groups, which older readers of YAML take for numbers.
fn is_time(words: &str) -> bool {
    words.starts_with(|c: char| c.is_ascii_digit())
        && words.chars().all(|c| c.is_ascii_digit() || matches!(c, ':' | '_' | '-' | 'T' | 'Z' | ' '))
}

/// The words bare, where YAML reads them back as the same text.
fn yaml_plain(words: &str, in_flow: bool) -> Option<&str> {
    let first = words.chars().next()?;
    let second = words.chars().nth(1);
    let sign = matches!(first, '-' | '?' | ':') && second.is_none_or(char::is_whitespace);
    let begins =
        matches!(first, ',' | '[' | ']' | '{' | '}' | '#' | '&' | '*' | '!' | '|' | '>' | '\'' | '"' | '%' | '@' | '`');
    let flow = in_flow && words.contains([',', '[', ']', '{', '}']);
    let inside = words.contains(": ") || words.contains(" #") || words.ends_with(':') || words.contains("\t");
    let strange = words.trim() != words || words.chars().any(|c| c.is_control() || c == '\u{feff}' || c == '\u{85}');
    let looks = matches!(words, "---" | "..." | "=" | "<<")
        || super::yaml::plain_sort(words) != Sort::Text
        || words.starts_with("0o")
        || words.starts_with("---")
        || words.starts_with("...")
        || is_time(words);
    let colon = in_flow && words.contains(':');
    (!(sign || begins || flow || inside || strange || looks || colon)).then_some(words)
}
