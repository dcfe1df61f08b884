//! Which format a settings file has, by its name and by what stands in it.

use super::{Document, Format};

/// Returns the format of a settings file, by its name where that tells, else the first format that reads it with
/// something in it. `None` where none does.
pub fn guess(name: &str, bytes: &[u8]) -> Option<Format> {
    let lower = name.to_ascii_lowercase();
    let ending = lower.rsplit_once('.').map_or("", |(_, e)| e);
    let told = match ending {
        "json" | "jsonc" | "json5" => Some(Format::Json),
        "yaml" | "yml" => Some(Format::Yaml),
        "toml" => Some(Format::Toml),
        "ini" => Some(Format::Ini),
        "properties" => Some(Format::Properties),
        "xml" => Some(Format::Xml),
        "lua" => Some(Format::BraceTables),
        _ => None,
    };
    told.or_else(|| by_look(ending, bytes))
}

fn by_look(ending: &str, bytes: &[u8]) -> Option<Format> {
    let text = String::from_utf8_lossy(bytes.get(..bytes.len().min(1_000_000))?);
    let text = text.trim_start_matches('\u{feff}');
    let lines: Vec<&str> =
        text.lines().map(str::trim).filter(|l| !l.is_empty() && !l.starts_with(['#', ';', '!'])).collect();
    let lines: Vec<&str> = lines.into_iter().filter(|l| !l.starts_with("//") && !l.starts_with("--")).collect();
    let first = lines.first()?;
    let most = |fits: &dyn Fn(&str) -> bool| lines.iter().all(|l| fits(l));
    let section = lines.iter().any(|l| l.starts_with('[') && l.ends_with(']') && !l.contains(','));
    let assigned = |l: &str| l.contains('=') || l.contains(':');
    let mut tried = Vec::new();
    if first.starts_with('<') {
        tried.push(Format::Xml);
    }
    if first.starts_with(['{', '[']) && !(section && first.ends_with(']')) {
        tried.push(Format::Json);
    }
    if section {
        tried.push(Format::Ini);
        tried.push(Format::Toml);
    }
    let tables = lines.windows(2).any(|w| {
        w.first().is_some_and(|l| l.ends_with("= {"))
            || w.first().is_some_and(|l| l.ends_with('=')) && w.get(1).is_some_and(|l| l.starts_with('{'))
    });
    if tables || lines.iter().any(|l| l.contains("= {") || l.starts_with("return {")) {
        tried.push(Format::BraceTables);
    }
    if text.contains('{') {
        tried.push(Format::Blocks);
    }
    if most(&assigned) && lines.iter().any(|l| l.contains('=')) {
        tried.push(Format::Properties);
    }
    let named = |l: &str| {
        let rest = l.split_once([' ', '\t']).map_or("", |(_, r)| r.trim());
        rest.starts_with('"') || !rest.contains(' ') && !rest.is_empty() && !rest.contains(['=', '{'])
    };
    if ending != "list" && lines.iter().any(|l| l.contains(" \"")) && most(&named) {
        tried.push(Format::NameValue);
    }
    if lines.iter().any(|l| l.ends_with(':') || l.contains(": ") || l.starts_with("- ")) && !text.contains('=') {
        tried.push(Format::Yaml);
    }
    let words = |l: &str| l.split_whitespace().count();
    if lines.len() > 1
        && words(first) > 1
        && most(&|l| words(l) == words(first))
        && !lines.iter().any(|l| l.contains('='))
    {
        tried.push(Format::Columns);
    }
    if !lines.iter().any(|l| assigned(l) || l.contains(['{', '"'])) {
        tried.push(Format::Lines);
    }
    if lines.iter().filter(|l| l.contains('=')).count() * 2 > lines.len() {
        tried.push(Format::Ini);
    }
    tried.push(Format::Text);
    tried.into_iter().find(|format| match Document::parse(*format, bytes) {
        Ok(document) => *format == Format::Text || document.rows(1).1 > 0,
        Err(_) => false,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn formats_are_told_by_name_or_look() {
        for (name, text, format) in [
            ("a.yml", "", Format::Yaml),
            ("start.conf", "# x\ncore.file=a\nruntime = 17\n", Format::Properties),
            ("coldrail.conf", "name = Tide\nmemory { pool_mb = 512 }\n", Format::Blocks),
            ("capstan.cfg", "// door\ndoor_name \"Salt\"\nsend_limit_mb \"24\"\n", Format::NameValue),
            ("x.cfg", "[world]\nbegin = Salt\n", Format::Ini),
            ("order.list", "# order\ntide\nfog\n", Format::Lines),
            ("arenas.list", "greywater in 2\npier out 1\n", Format::Columns),
            ("lands.tbl", "1 floor open\n2 marsh shut\n", Format::Columns),
            ("x.cfg", "{\"a\": 1}", Format::Json),
            ("x.cfg", "rules = {\n  fog = true,\n}\n", Format::BraceTables),
            ("x.cfg", "<a><b>1</b></a>", Format::Xml),
            ("x.cfg", "a: 1\nb:\n  - c\n", Format::Yaml),
            ("notes", "Speed is 12 knots, they say: always.\nOr \"so\"\n", Format::Text),
        ] {
            assert_eq!(guess(name, text.as_bytes()), Some(format), "{name} {text}");
        }
        assert_eq!(guess("x.bin", b"\x00\x01"), None);
    }
}
