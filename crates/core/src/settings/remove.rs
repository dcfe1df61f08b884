//! Taking keys and elements out.

use super::Format;
use super::bracketed::{self, Splice, joined};
use super::insert::Place;
use super::lined;
use super::node::{Body, Entry, Form, Many, Node, Span};
use super::source::{line_start, line_stop};

/// Returns the splices that take entries out, by their positions (rising).
///
/// # Errors
/// Why they cannot be taken out.
pub(crate) fn take(place: &Place<'_>, gone: &[usize]) -> Result<Vec<Splice>, String> {
    let Some(node) = place.node() else { return Ok(Vec::new()) };
    let Body::Many(many) = &node.body else { return Err("a single value stands there".to_owned()) };
    let text = place.text;
    let entries: Vec<&Entry> = gone.iter().filter_map(|at| many.entries.get(*at)).collect();
    match many.form {
        Form::Bracket => Ok(bracketed::take(text, node, gone, place.comments())),
        Form::Row => Ok(row(text, many, gone)),
        Form::Block => Ok(block(place, node, many, gone)),
        Form::Element => Ok(joined(entries.iter().flat_map(|e| pieces(e)).map(|p| element(text, p)).collect())),
        Form::Again if place.format == Format::Xml => {
            Ok(joined(entries.iter().flat_map(|e| pieces(e)).map(|p| element(text, p)).collect()))
        }
        Form::Braces => Ok(joined(entries.iter().flat_map(|e| pieces(e)).map(|p| statement(text, p)).collect())),
        _ if place.format == Format::Blocks => {
            Ok(joined(entries.iter().flat_map(|e| pieces(e)).map(|p| statement(text, p)).collect()))
        }
        _ if matches!(place.format, Format::Text) => Err("a line that a pattern finds is yours to take out".to_owned()),
        _ => {
            let cut = |e: &Entry| -> Vec<Splice> {
                let section = e.node.as_many().is_some_and(|m| m.map && m.form == Form::Lines);
                if section {
                    return vec![lined::take_section(text, e.whole.start(), e.whole.end())];
                }
                pieces(e)
                    .into_iter()
                    .map(|(p, header)| {
                        if header {
                            lined::take_section(text, p.start(), p.end())
                        } else {
                            lined::take(text, p.start(), p.end())
                        }
                    })
                    .collect()
            };
            Ok(joined(entries.into_iter().flat_map(cut).collect()))
        }
    }
}

/// The pieces of text an entry is made of, where its parts stand apart; and whether a piece is a section.
fn pieces(entry: &Entry) -> Vec<(Span, bool)> {
    match &entry.node.body {
        Body::Many(many)
            if matches!(many.form, Form::Again | Form::Dotted | Form::Implied)
                || many.form == Form::Lines && !many.map =>
        {
            many.entries.iter().flat_map(pieces).collect()
        }
        Body::Many(many) => vec![(entry.whole, many.form == Form::Lines)],
        Body::One(_) => vec![(entry.whole, false)],
    }
}

/// A row's word, with the gap before it (or behind, for the first).
fn row(text: &str, many: &Many, gone: &[usize]) -> Vec<Splice> {
    let end_of = |at: usize| many.entries.get(at).map(|e| e.whole);
    let cut = |at: &usize| {
        let own = end_of(*at)?;
        let from = at.checked_sub(1).and_then(end_of).map(Span::end);
        Some(match (from, end_of(at + 1)) {
            (Some(from), _) => Splice::cut(from, own.end()),
            (None, Some(next)) => Splice::cut(own.start(), next.start()),
            (None, None) => lined::take(text, own.start(), own.end()),
        })
    };
    joined(gone.iter().filter_map(cut).collect())
}

fn block(place: &Place<'_>, node: &Node, many: &Many, gone: &[usize]) -> Vec<Splice> {
    let text = place.text;
    if gone.len() == many.entries.len() {
        let empty = if many.map { "{}" } else { "[]" };
        return match place.entry() {
            None => vec![lined::take(text, node.span.start(), content_end(text, node.span.end()))],
            Some(entry) => {
                let end = content_end(text, node.span.end());
                match &entry.key {
                    Some(key) => {
                        // behind the colon; what stands there beside the value, a comment, stays
                        let colon = text.get(key.span.end()..).and_then(|t| t.find(':')).unwrap_or(0);
                        let at = key.span.end() + colon + 1;
                        let first = lined::take(text, node.span.start(), end);
                        vec![Splice::insert(at, format!(" {empty}")), first]
                    }
                    None => vec![Splice::new(node.span.start(), end, empty)],
                }
            }
        };
    }
    let cut = |at: &usize| {
        let entry = many.entries.get(*at)?;
        let (start, end) = (entry.whole.start(), content_end(text, entry.whole.end()));
        let before = text.get(line_start(text, start)..start).unwrap_or("");
        if before.trim().is_empty() {
            return Some(lined::take(text, start, end));
        }
        // it shares its line with the dash of the list it is in
        let next = many.entries.get(at + 1)?;
        Some(Splice::cut(start, next.whole.start()))
    };
    joined(gone.iter().filter_map(cut).collect())
}

/// A block of text may end with its line end; the line itself ends before.
fn content_end(text: &str, end: usize) -> usize {
    let before = text.get(..end).unwrap_or("");
    if before.ends_with('\n') { end - 1 } else { end }
}

fn element(text: &str, (span, _): (Span, bool)) -> Splice {
    let (start, end) = (span.start(), span.end());
    if !text.get(start..).is_some_and(|t| t.starts_with('<')) {
        // an attribute, with the space before it
        let before = text.get(..start).unwrap_or("");
        return Splice::cut(before.trim_end().len(), end);
    }
    if alone(text, start, end, &[]) { lined::take(text, start, end) } else { Splice::cut(start, end) }
}

fn statement(text: &str, (span, _): (Span, bool)) -> Splice {
    let (start, end) = (span.start(), span.end());
    if alone(text, start, end, &[';', ',']) {
        return lined::take(text, start, end);
    }
    let rest = text.get(end..).unwrap_or("");
    let sign = rest.len() - rest.trim_start_matches([' ', '\t', ';', ',']).len();
    let behind = rest.get(sign..).unwrap_or("");
    if behind.starts_with('}') {
        // the last statement of a line: the gap before it goes, the one before the brace stays
        let before = text.get(..start).unwrap_or("").trim_end_matches([' ', '\t']);
        let signs = rest.len() - rest.trim_start_matches([';', ',']).len();
        let open = before.ends_with('{');
        let from = if open { start } else { before.trim_end_matches([';', ',']).len() };
        let kept = if open || signs > 0 { before.len() } else { from };
        return if open {
            let empty = text.get(before.len()..start).is_some_and(|g| g == " ") && rest.starts_with(" }");
            Splice::cut(if empty { before.len() } else { start }, if empty { end + 1 } else { end + signs })
        } else {
            Splice::cut(kept, end + signs)
        };
    }
    Splice::cut(start, end + sign)
}

/// Whether nothing but signs and a comment shares the lines of a range.
fn alone(text: &str, start: usize, end: usize, signs: &[char]) -> bool {
    let before = text.get(line_start(text, start)..start).unwrap_or("");
    let after = text
        .get(end..line_stop(text, end))
        .unwrap_or("")
        .trim_start_matches(|c: char| c.is_whitespace() || signs.contains(&c));
    before.trim().is_empty() && (after.is_empty() || after.starts_with('#') || after.starts_with("//"))
}
