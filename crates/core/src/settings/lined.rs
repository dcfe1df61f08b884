//! Adding and taking whole lines.

use super::bracketed::Splice;
use super::source::{line_end, line_start, next_line};

/// Inserts lines before the line that starts at `at`. A file whose last line has no end keeps that habit.
pub(crate) fn insert(text: &str, at: usize, lines: &[String], eol: &str) -> Splice {
    if at >= text.len() && !text.is_empty() && !text.ends_with('\n') {
        let body: String = lines.iter().map(|l| format!("{eol}{l}")).collect();
        return Splice::insert(text.len(), body);
    }
    let body: String = lines.iter().map(|l| format!("{l}{eol}")).collect();
    Splice::insert(at, body)
}

/// Takes the lines that a range of bytes touches.
pub(crate) fn take(text: &str, start: usize, end: usize) -> Splice {
    let from = line_start(text, start);
    let to = next_line(text, end.max(start));
    if to >= text.len() && !text.ends_with('\n') && from > 0 {
        let before = text.get(..from).unwrap_or("");
        let eol = if before.ends_with("\r\n") { 2 } else { 1 };
        return Splice::cut(from - eol, to);
    }
    Splice::cut(from, to)
}

/// The same, with one blank line before them.
pub(crate) fn take_section(text: &str, start: usize, end: usize) -> Splice {
    let from = line_start(text, start);
    let blank = from > 0 && {
        let above = line_start(text, from - 1);
        text.get(above..from).is_some_and(|l| l.trim().is_empty())
    };
    take(text, if blank { line_start(text, from - 1) } else { from }, end)
}

/// Appends a section: a blank line, then its lines.
pub(crate) fn append_section(text: &str, lines: &[String]) -> Splice {
    let eol = line_end(text);
    if text.is_empty() {
        return insert(text, 0, lines, eol);
    }
    let all: Vec<String> = std::iter::once(String::new()).chain(lines.iter().cloned()).collect();
    insert(text, text.len(), &all, eol)
}
