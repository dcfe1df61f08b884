//! The common slips: a lost or doubled comma, an open quote or bracket, a tab in YAML, full-width quotes.
//!
//! A slip is told by trying: each small repair near the place where reading failed is made, and the first after
//! which the whole file reads is the one that is offered.

use super::bracketed::Splice;
use super::edit::spliced;
use super::source::{Source, line_start, line_stop, next_line};
use super::{Document, Format, SettingsError};
use crate::text::line_column;

/// One slip and its repair.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Slip {
    /// The line of the repair, from 1.
    pub line: usize,
    /// Its column, from 1.
    pub column: usize,
    /// What to change, as a sentence's end: `put a comma behind line 4`.
    pub repair: String,
    /// The file's bytes with the repair.
    pub bytes: Vec<u8>,
}

/// Repairs are tried in files up to this size (bytes).
const MOST_BYTES: usize = 4_000_000;
/// So many repairs are tried.
const MOST_TRIES: usize = 120;

/// Returns the one small repair after which a file reads; `None` where there is none, or nothing is wrong.
pub fn slip(format: Format, bytes: &[u8]) -> Option<Slip> {
    let error = Document::parse(format, bytes).err()?;
    let source = Source::read(bytes).ok()?;
    // which of two of a kind is meant, only a person knows
    if bytes.len() > MOST_BYTES || error.why.contains("stands here and on line") {
        return None;
    }
    let text = &source.text;
    let mut tried = 0;
    for (repair, splices) in repairs(format, text, &error) {
        tried += 1;
        if tried > MOST_TRIES {
            return None;
        }
        let Some(after) = spliced(text, &splices).filter(|a| a != text) else { continue };
        if super::document::tree(format, &after, &[]).is_err() {
            continue;
        }
        let (line, column) = line_column(text, splices.first().map_or(0, |s| s.start));
        return Some(Slip { line, column, repair, bytes: source.write(&after).ok()? });
    }
    None
}

/// The byte of a line and column.
fn offset(text: &str, error: &SettingsError) -> usize {
    let mut start = 0;
    for _ in 1..error.line {
        start = next_line(text, start);
    }
    let line = text.get(start..).unwrap_or("");
    line.char_indices().nth(error.column.saturating_sub(1)).map_or(text.len(), |(at, _)| start + at)
}

type Repair = (String, Vec<Splice>);

fn repairs(format: Format, text: &str, error: &SettingsError) -> Vec<Repair> {
    let at = offset(text, error);
    let mut out = Vec::new();
    full_width(text, at, &mut out);
    if format == Format::Yaml {
        tabs(text, at, &mut out);
    }
    if matches!(format, Format::Json | Format::Yaml | Format::Toml | Format::BraceTables) {
        commas(text, at, &mut out);
    }
    if !matches!(format, Format::Xml | Format::Properties | Format::Lines) {
        quotes(text, at, &mut out);
    }
    if matches!(format, Format::Json | Format::Yaml | Format::Toml | Format::Ini | Format::Blocks | Format::BraceTables)
    {
        brackets(format, text, at, &mut out);
    }
    if format == Format::Yaml {
        let line = line_start(text, at);
        for from in [line, line_start(text, line.saturating_sub(1))] {
            let raw = text.get(from..line_stop(text, from)).unwrap_or("");
            if let Some(colon) =
                raw.find(':').filter(|c| raw.get(c + 1..).is_some_and(|r| r.starts_with(|c: char| !c.is_whitespace())))
            {
                out.push(("put a space behind the `:`".to_owned(), vec![Splice::insert(from + colon + 1, " ")]));
            }
        }
    }
    out
}

/// Quotes and commas that a phone or a chat program put there.
fn full_width(text: &str, at: usize, out: &mut Vec<Repair>) {
    let plain = |c: char| match c {
        '“' | '”' | '„' | '‟' | '＂' | '«' | '»' => Some("\""),
        '‘' | '’' | '‚' | '＇' => Some("'"),
        '，' => Some(","),
        '：' => Some(":"),
        '｛' => Some("{"),
        '｝' => Some("}"),
        '［' => Some("["),
        '］' => Some("]"),
        '\u{a0}' | '\u{200b}' | '\u{3000}' | '\u{feff}' => Some(" "),
        _ => None,
    };
    let within = |from: usize, to: usize| -> Vec<Splice> {
        let part = text.get(from..to).unwrap_or("");
        let found = part.char_indices().filter_map(|(i, c)| plain(c).map(|p| (from + i, c, p)));
        found.map(|(i, c, p)| Splice::new(i, i + c.len_utf8(), p)).collect()
    };
    let line = within(line_start(text, at), line_stop(text, at));
    let words = "write the plain signs \" ' , : instead of the curved or wide ones";
    if !line.is_empty() {
        out.push((format!("{words} in this line"), line));
    }
    let all = within(0, text.len());
    if !all.is_empty() {
        out.push((format!("{words} in {}", crate::text::counted(all.len(), "place")), all));
    }
}

fn tabs(text: &str, at: usize, out: &mut Vec<Repair>) {
    let lines = |from: usize, to: usize, width: usize| -> Vec<Splice> {
        let mut splices = Vec::new();
        let mut start = from;
        while start < to {
            let line = text.get(start..line_stop(text, start)).unwrap_or("");
            let gap = line.len() - line.trim_start().len();
            let lead = line.get(..gap).unwrap_or("");
            if lead.contains('\t') {
                splices.push(Splice::new(start, start + gap, lead.replace('\t', &" ".repeat(width))));
            }
            start = next_line(text, start);
        }
        splices
    };
    let here = line_start(text, at);
    for width in [2, 4, 8, 1] {
        for (from, to, place) in [(here, next_line(text, here), "of this line"), (0, text.len(), "before the lines")] {
            let splices = lines(from, to, width);
            if !splices.is_empty() {
                out.push((format!("put {width} spaces instead of each tab {place}"), splices));
            }
        }
    }
}

fn commas(text: &str, at: usize, out: &mut Vec<Repair>) {
    let before = text.get(..at).unwrap_or("");
    // behind what stands before, and before a comment that ends that line
    let mut ends = vec![before.trim_end().len()];
    let last_line = line_start(text, before.trim_end().len());
    let line = text.get(last_line..before.trim_end().len()).unwrap_or("");
    for sign in ["//", "#", "--"] {
        if let Some(comment) = line.find(sign) {
            ends.push(last_line + line.get(..comment).unwrap_or("").trim_end().len());
        }
    }
    for end in ends.into_iter().filter(|e| *e > 0) {
        let (line, _) = line_column(text, end);
        out.push((format!("put a comma at the end of line {line}"), vec![Splice::insert(end, ",")]));
    }
    // between any two words of the line
    let here = line_start(text, at);
    let words = text.get(here..line_stop(text, at)).unwrap_or("");
    for (gap, _) in words.match_indices([' ', '\t']).take(30) {
        let sides =
            (words.get(..gap).and_then(|w| w.chars().next_back()), words.get(gap + 1..).and_then(|w| w.chars().next()));
        if matches!(sides, (Some(a), Some(b)) if !a.is_whitespace() && !b.is_whitespace() && !"=:,{[(".contains(a) && !"=:,}])".contains(b))
        {
            out.push((
                format!("put a comma behind `{}`", words.get(..gap).unwrap_or("").trim()),
                vec![Splice::insert(here + gap, ",")],
            ));
        }
    }
    // one too many: here, or the last before
    let rest = text.get(at..).unwrap_or("");
    if rest.starts_with(',') {
        out.push(("take one comma out".to_owned(), vec![Splice::cut(at, at + 1)]));
    }
    if let Some(comma) = before.trim_end().strip_suffix(',') {
        out.push(("take the comma out".to_owned(), vec![Splice::cut(comma.len(), comma.len() + 1)]));
    }
    // `=` for `:` and the other way round
    for (wrong, right) in [('=', ":"), (':', " =")] {
        if rest.starts_with(wrong) {
            out.push((format!("write `{}` instead of `{wrong}`", right.trim()), vec![Splice::new(at, at + 1, right)]));
        }
    }
}

fn quotes(text: &str, at: usize, out: &mut Vec<Repair>) {
    let here = line_start(text, at);
    let mut lines = vec![here, line_start(text, here.saturating_sub(1))];
    // an open quote is often met only far below
    let mut start = 0;
    while start < text.len() && lines.len() < 12 {
        let line = text.get(start..line_stop(text, start)).unwrap_or("");
        for quote in ['"', '\''] {
            if !lines.contains(&start) && line.replace("\\\"", "").matches(quote).count() % 2 == 1 {
                lines.push(start);
            }
        }
        start = next_line(text, start);
    }
    for from in lines {
        let line = text.get(from..line_stop(text, from)).unwrap_or("");
        let (number, _) = line_column(text, from);
        for quote in ['"', '\''] {
            if line.replace("\\\"", "").matches(quote).count() % 2 == 0 {
                continue;
            }
            let ends = line.trim_end();
            let inner = ends.trim_end_matches([',', ';', ']', '}', ')', ' ']);
            for end in [ends.trim_end_matches([',', ';', ' ']).len(), inner.len(), ends.len()] {
                let repair = format!("close the text with {quote} at the end of line {number}");
                out.push((repair, vec![Splice::insert(from + end, quote)]));
            }
            // the text's first quote is the lost one
            if let Some(sign) = line.find([':', '=']) {
                let gap = line.get(sign + 1..).unwrap_or("");
                let value = sign + 1 + (gap.len() - gap.trim_start().len());
                let repair = format!("begin the text with {quote} in line {number}");
                out.push((repair, vec![Splice::insert(from + value, quote)]));
            }
            // or a key's: `name": 1`
            let key = line.len() - line.trim_start().len();
            let repair = format!("begin line {number} with {quote}");
            out.push((repair, vec![Splice::insert(from + key, quote)]));
            if let Some(sign) = line.find(':') {
                let repair = format!("close the key of line {number} with {quote}");
                out.push((repair, vec![Splice::insert(from + sign, quote)]));
            }
        }
    }
}

fn brackets(format: Format, text: &str, at: usize, out: &mut Vec<Repair>) {
    if format == Format::Ini {
        let here = line_start(text, at);
        let stop = line_stop(text, here);
        let (line, _) = line_column(text, here);
        out.push((format!("close the section with ] in line {line}"), vec![Splice::insert(stop, "]")]));
        return;
    }
    let end = text.trim_end().len();
    let tail = if text.contains('\n') { "\n" } else { "" };
    let before = text.get(..at).unwrap_or("").trim_end().len();
    let line_end = line_stop(text, line_start(text, at));
    for close in ["}", "]"] {
        out.push((
            format!("put a `{close}` at the end of the file"),
            vec![Splice::insert(end, format!("{tail}{close}"))],
        ));
        let (line, _) = line_column(text, before);
        out.push((format!("put a `{close}` at the end of line {line}"), vec![Splice::insert(before, close)]));
        out.push((
            format!("put a `{close}` and a comma at the end of line {line}"),
            vec![Splice::insert(before, format!("{close},"))],
        ));
        out.push((format!("put a `{close}` before this"), vec![Splice::insert(at, close)]));
        let above = line_start(text, at).saturating_sub(1);
        for end in [line_end, text.get(..above).unwrap_or("").trim_end().len()] {
            let (line, _) = line_column(text, end);
            out.push((format!("put a `{close}` at the end of line {line}"), vec![Splice::insert(end, close)]));
        }
    }
    let rest = text.get(at..).unwrap_or("");
    if rest.starts_with(['}', ']']) {
        let (sign, other) = if rest.starts_with('}') { ("}", "]") } else { ("]", "}") };
        out.push((format!("write `{other}` instead of `{sign}`"), vec![Splice::new(at, at + 1, other)]));
        out.push((format!("take the `{sign}` out, it closes nothing"), vec![Splice::cut(at, at + 1)]));
    }
}
