//! Adding to and taking from what stands between brackets: JSON, flow YAML, TOML arrays, brace tables.

use super::node::{Entry, Node};
use super::source::{end_of_line, indent, line_start, line_stop, next_line};

/// A piece of text instead of a range of bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Splice {
    pub(crate) start: usize,
    pub(crate) end: usize,
    pub(crate) with: String,
}

impl Splice {
    pub(crate) fn new(start: usize, end: usize, with: impl Into<String>) -> Self {
        Self { start, end, with: with.into() }
    }

    pub(crate) fn insert(at: usize, with: impl Into<String>) -> Self {
        Self::new(at, at, with)
    }

    pub(crate) fn cut(start: usize, end: usize) -> Self {
        Self::new(start, end, "")
    }
}

/// What begins a comment that runs to the end of its line, and whether `/* */` is one.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Comments(pub(crate) &'static str);

impl Comments {
    /// Skips white space and comments from `at`; returns where something else stands.
    pub(crate) fn skip(self, text: &str, mut at: usize) -> usize {
        loop {
            let rest = text.get(at..).unwrap_or("");
            at += rest.len() - rest.trim_start().len();
            let rest = text.get(at..).unwrap_or("");
            if self.0 == "//" && rest.starts_with("/*") {
                at += rest.find("*/").map_or(rest.len(), |p| p + 2);
            } else if self.0 == "--" && rest.starts_with("--[[") {
                at += rest.find("]]").map_or(rest.len(), |p| p + 2);
            } else if rest.starts_with(self.0) {
                at += rest.find('\n').unwrap_or(rest.len());
            } else {
                return at;
            }
        }
    }
}

/// Where the separator behind an entry stands, if one does.
fn separator(text: &str, after: usize, comments: Comments) -> Option<usize> {
    let at = comments.skip(text, after);
    text.as_bytes().get(at).is_some_and(|b| matches!(b, b',' | b';')).then_some(at)
}

/// Whether an entry begins its line.
fn begins_line(text: &str, entry: &Entry) -> bool {
    let start = line_start(text, entry.whole.start());
    text.get(start..entry.whole.start()).is_some_and(|t| t.trim().is_empty())
}

/// Whether the entries stand on lines of their own.
pub(crate) fn is_tall(text: &str, node: &Node) -> bool {
    node.entries()
        .first()
        .is_some_and(|e| begins_line(text, e) && line_start(text, e.whole.start()) > node.span.start())
}

/// Adds rendered entries so that the first of them becomes number `at`.
pub(crate) fn add(text: &str, node: &Node, at: usize, items: &[String], comments: Comments) -> Vec<Splice> {
    let entries = node.entries();
    let (open, close) = (node.span.start() + 1, node.span.end().saturating_sub(1));
    if entries.is_empty() {
        let inside = text.get(open..close).unwrap_or("");
        if inside.trim().is_empty() && !inside.contains('\n') {
            return vec![Splice::insert(close, format!("{}{inside}", items.join(", ")))];
        }
        let eol = end_of_line(text, node.span.start());
        let outer = indent(text, close);
        let gap = format!("{eol}{outer}  ");
        let body = items.join(&format!(",{gap}"));
        let last = inside.trim_end().len();
        // behind a comment line the closing bracket has a line of its own already
        return vec![Splice::insert(open + last, format!("{gap}{body}"))];
    }
    let sign = entries.windows(2).find_map(|w| w.first().and_then(|e| separator(text, e.whole.end(), comments)));
    let sign = sign.and_then(|at| text.get(at..=at)).unwrap_or(",");
    let tall = is_tall(text, node);
    let last = entries.len() - 1;
    let model = entries.get(at.min(last)).unwrap_or_else(|| &entries[last]);
    let (eol, margin) = (end_of_line(text, model.whole.start()), indent(text, model.whole.start()));
    if at == 0 {
        let Some(first) = entries.first() else { return Vec::new() };
        if !tall || !begins_line(text, first) {
            let gap = if sign == ";" { "; " } else { ", " };
            return vec![Splice::insert(first.whole.start(), format!("{}{gap}", items.join(gap)))];
        }
        let body: String = items.iter().map(|i| format!("{margin}{i}{sign}{eol}")).collect();
        let after = next_line(text, open);
        // the bracket's own line may hold a comment; behind it the first line of the entries begins
        let place = if after <= first.whole.start() { after } else { line_start(text, first.whole.start()) };
        return vec![Splice::insert(place, body)];
    }
    let Some(before) = entries.get(at - 1) else { return Vec::new() };
    let end = before.whole.end();
    let sep = separator(text, end, comments);
    if !tall {
        let pad = gap_between(text, entries, comments);
        let at_end = at == entries.len();
        return match sep {
            Some(sep) => {
                let body: String = items.iter().map(|i| format!("{pad}{i}{sign}")).collect();
                vec![Splice::insert(sep + 1, body)]
            }
            None => {
                let body: String = items.iter().map(|i| format!("{sign}{pad}{i}")).collect();
                debug_assert!(at_end);
                vec![Splice::insert(end, body)]
            }
        };
    }
    let from = sep.map_or(end, |s| s + 1);
    // behind what else stands in the line: a comment
    let stop = line_stop(text, from);
    let rest = comments.skip(text, from);
    let place = if rest >= stop { stop } else { from };
    match sep {
        Some(_) => {
            let body: String = items.iter().map(|i| format!("{eol}{margin}{i}{sign}")).collect();
            vec![Splice::insert(place, body)]
        }
        None => {
            let body = items.iter().map(|i| format!("{eol}{margin}{i}")).collect::<Vec<_>>().join(sign);
            if place == end {
                vec![Splice::insert(end, format!("{sign}{body}"))]
            } else {
                vec![Splice::insert(end, sign), Splice::insert(place, body)]
            }
        }
    }
}

/// The white space between a separator and the next entry of a line.
fn gap_between(text: &str, entries: &[Entry], comments: Comments) -> String {
    let gap = entries.windows(2).find_map(|pair| {
        let [one, two] = pair else { return None };
        let sep = separator(text, one.whole.end(), comments)?;
        text.get(sep + 1..two.whole.start()).filter(|g| g.trim_start_matches(' ').is_empty())
    });
    gap.unwrap_or(" ").to_owned()
}

/// Takes entries out, by their positions (rising).
pub(crate) fn take(text: &str, node: &Node, gone: &[usize], comments: Comments) -> Vec<Splice> {
    let entries = node.entries();
    let close = node.span.end().saturating_sub(1);
    let mut out = Vec::new();
    let kept_last = (0..entries.len()).rev().find(|i| !gone.contains(i));
    for at in gone {
        let Some(entry) = entries.get(*at) else { continue };
        let end = entry.whole.end();
        let sep = separator(text, end, comments);
        let stop = sep.map_or(end, |s| s + 1);
        let line = line_start(text, entry.whole.start());
        let rest = comments.skip(text, stop);
        let alone = begins_line(text, entry) && rest >= line_stop(text, stop) && line > node.span.start();
        if alone {
            out.push(Splice::cut(line, next_line(text, stop).min(close)));
        } else if *at + 1 < entries.len() {
            let next = entries.get(at + 1).map_or(stop, |e| e.whole.start());
            let gap_is_plain = text.get(stop..next).is_some_and(|g| g.trim().is_empty());
            out.push(Splice::cut(entry.whole.start(), if gap_is_plain { next } else { stop }));
        } else {
            // the last: with the gap before it, or all that is left inside
            let before = text.get(..entry.whole.start()).unwrap_or("");
            let from = match kept_last {
                Some(_) => before.trim_end_matches([' ', '\t']).len(),
                None => entry.whole.start(),
            };
            let rest = text.get(stop..close).unwrap_or("");
            let pad = kept_last.is_none() && rest.trim().is_empty() && !rest.contains('\n');
            out.push(Splice::cut(from, if pad { close } else { stop }));
        }
    }
    // a last entry has no separator unless it had one before
    if let (Some(last), Some(was)) = (kept_last, entries.len().checked_sub(1))
        && last < was
        && entries.get(was).is_some_and(|e| separator(text, e.whole.end(), comments).is_none())
        && let Some(sep) = entries.get(last).and_then(|e| separator(text, e.whole.end(), comments))
    {
        out.push(Splice::cut(sep, sep + 1));
    }
    joined(out)
}

/// Splices in order, overlapping cuts joined.
pub(crate) fn joined(mut splices: Vec<Splice>) -> Vec<Splice> {
    splices.sort_by_key(|s| (s.start, s.end));
    let mut out: Vec<Splice> = Vec::new();
    for next in splices {
        match out.last_mut() {
            Some(last) if next.start < last.end && last.with.is_empty() && next.with.is_empty() => {
                last.end = last.end.max(next.end);
            }
            _ => out.push(next),
        }
    }
    out
}
