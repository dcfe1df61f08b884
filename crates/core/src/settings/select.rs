//! Finding the values a path means.

use super::node::{Body, Entry, Form, Node};
use super::path::{Path, Step};
use crate::text::{clean, did_you_mean, glob, nearest};

/// A value that a path means: the way of positions to it, and a path that means it alone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Hit {
    pub(crate) trail: Vec<usize>,
    pub(crate) path: Path,
}

/// How far a path goes: to the values, or to where nothing fits any more.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Found {
    Hits(Vec<Hit>),
    /// The deepest value on the way, and the steps that have nothing there.
    Short {
        trail: Vec<usize>,
        path: Path,
        left: Vec<Step>,
    },
}

/// Whether a file is one map whose keys hold dots as they like.
pub(crate) fn is_flat(format: super::Format) -> bool {
    matches!(format, super::Format::Properties | super::Format::NameValue)
}

/// Goes a path.
///
/// # Errors
/// It means one of several things, in words.
pub(crate) fn select(root: &Node, text: &str, path: &Path, flat: bool) -> Result<Found, String> {
    let steps = if flat { flattened(path) } else { path.0.clone() };
    let mut now = vec![Hit { trail: Vec::new(), path: Path(Vec::new()) }];
    for (at, step) in steps.iter().enumerate() {
        let mut next = Vec::new();
        for hit in &now {
            let Some(node) = root.follow(&hit.trail) else { continue };
            let found = matching(node, text, step)?;
            let wide = matches!(step, Step::Glob(_) | Step::Every);
            for index in found {
                let step = match (wide, flat, node.entries().get(index)) {
                    (true, false, Some(_)) => canonical(node, text, index),
                    (true, true, Some(entry)) => {
                        let key = entry.key.as_ref().map_or("", |k| k.text(text));
                        let mut trail = hit.trail.clone();
                        trail.push(index);
                        next.push(Hit { trail, path: Path::flat(key) });
                        continue;
                    }
                    _ => step.clone(),
                };
                let mut trail = hit.trail.clone();
                trail.push(index);
                next.push(Hit { trail, path: hit.path.with(step) });
            }
        }
        if next.is_empty() {
            let here = now.into_iter().next().unwrap_or(Hit { trail: Vec::new(), path: Path(Vec::new()) });
            let left = steps.get(at..).unwrap_or_default().to_vec();
            return Ok(Found::Short { trail: here.trail, path: here.path, left });
        }
        now = next;
    }
    if flat && let [only] = now.as_mut_slice() {
        only.path = path.clone();
    }
    Ok(Found::Hits(now))
}

/// In a file without nesting, dots belong to the keys.
fn flattened(path: &Path) -> Vec<Step> {
    let mut out: Vec<Step> = Vec::new();
    for step in &path.0 {
        match (out.last_mut(), step) {
            (Some(Step::Key(last)), Step::Key(more)) => *last = format!("{last}.{more}"),
            (Some(Step::Glob(last)), Step::Key(more) | Step::Glob(more)) => *last = format!("{last}.{more}"),
            (Some(last @ Step::Key(_)), Step::Glob(more)) => {
                let Step::Key(word) = &*last else { continue };
                *last = Step::Glob(format!("{word}.{more}"));
            }
            _ => out.push(step.clone()),
        }
    }
    out
}

/// The positions of the entries that a step means.
fn matching(node: &Node, text: &str, step: &Step) -> Result<Vec<usize>, String> {
    let Body::Many(many) = &node.body else { return Ok(Vec::new()) };
    let entries = &many.entries;
    let all = |fits: &dyn Fn(&Entry) -> bool| -> Vec<usize> {
        entries.iter().enumerate().filter(|(_, e)| fits(e)).map(|(at, _)| at).collect()
    };
    let unkeyed = || entries.iter().enumerate().filter(|(_, e)| e.key.is_none()).map(|(at, _)| at);
    let position = |n: usize| unkeyed().nth(n.saturating_sub(1)).into_iter().collect::<Vec<_>>();
    Ok(match step {
        Step::Key(key) => {
            let found = all(&|e| e.is(text, key));
            match key.parse::<usize>() {
                Ok(n) if found.is_empty() && n > 0 => position(n),
                _ if found.is_empty() && many.form == Form::Again && !many.map => {
                    return Err(format!(
                        "it stands {} times; choose one with [1] to [{}], or all with [*]",
                        entries.len(),
                        entries.len()
                    ));
                }
                _ => found,
            }
        }
        Step::Glob(pattern) => {
            let whole = pattern == "*";
            all(&|e| whole || e.key.as_ref().is_some_and(|k| glob(pattern, k.text(text))))
        }
        Step::Every => (0..entries.len()).collect(),
        Step::Position(n) => position(*n),
        Step::Last => unkeyed().next_back().into_iter().collect(),
        Step::Is(value) => all(&|e| e.node.text(text).is_some_and(|t| t == *value)),
        Step::Field(name, value) => all(&|e| field(&e.node, text, name).is_some_and(|t| t == *value)),
        Step::Line(pattern) => all(&|e| e.is(text, pattern)),
    })
}

/// The text of a field of an element: a key's value, or a position's where the element is a list.
fn field<'a>(node: &'a Node, text: &'a str, name: &str) -> Option<std::borrow::Cow<'a, str>> {
    let entries = node.entries();
    let keyed = entries.iter().find(|e| e.is(text, name));
    let entry = keyed.or_else(|| name.parse::<usize>().ok().and_then(|n| entries.get(n.checked_sub(1)?)))?;
    entry.node.text(text)
}

/// The step that means one entry alone: its key, a field that only it has, or its position.
pub(crate) fn canonical(node: &Node, text: &str, index: usize) -> Step {
    let entries = node.entries();
    let Some(entry) = entries.get(index) else { return Step::Position(index + 1) };
    if let Some(key) = &entry.key {
        return Step::Key(key.text(text).to_owned());
    }
    let number = entries.iter().take(index + 1).filter(|e| e.key.is_none()).count();
    telling_field(entries, text)
        .and_then(|name| field(&entry.node, text, name).map(|value| Step::Field(name.to_owned(), value.into_owned())))
        .unwrap_or(Step::Position(number))
}

/// The first key of the elements that all of them have, each with a text of its own.
fn telling_field<'a>(entries: &'a [Entry], text: &'a str) -> Option<&'a str> {
    // telling thousands apart costs more than it helps
    if entries.len() < 2 || entries.len() > 1000 {
        return None;
    }
    let first = entries.first()?.node.entries();
    first.iter().filter_map(|e| e.key.as_ref().map(|k| k.text(text))).take(4).find(|name| {
        let mut seen = std::collections::HashSet::new();
        entries.iter().all(|e| {
            let one = e.node.entries().iter().find(|f| f.is(text, name)).and_then(|f| f.node.as_one());
            one.is_some_and(|o| o.sort == super::node::Sort::Text)
                && field(&e.node, text, name)
                    .is_some_and(|v| !v.is_empty() && v.len() <= 60 && seen.insert(v.into_owned()))
        })
    })
}

/// Says what a path that means nothing could have meant.
pub(crate) fn hint(root: &Node, text: &str, trail: &[usize], path: &Path, left: &[Step], flat: bool) -> String {
    let Some(Step::Key(word) | Step::Glob(word)) = left.first() else { return String::new() };
    // `fog/density` or `fog:density` for `fog.density`
    let dotted = word.replace(['/', ':', '>'], ".");
    if dotted != *word
        && !flat
        && let Ok(meant) = Path::parse(&dotted)
        && matches!(
            select(root, text, &Path(path.0.iter().chain(&meant.0).cloned().collect()), flat),
            Ok(Found::Hits(_))
        )
    {
        return format!(", did you mean `{}`?", clean(&path.join(&meant).to_string(), 100));
    }
    let here: Vec<&str> = root.follow(trail).map(|n| keys(n, text)).unwrap_or_default();
    if let Some(near) = nearest(word, here.iter().copied()) {
        let meant = if flat { Path::flat(near) } else { path.key(near) };
        let more: Vec<Step> = left.iter().skip(1).cloned().collect();
        let meant = Path(meant.0.into_iter().chain(more).collect());
        return format!(", did you mean `{}`?", clean(&meant.to_string(), 100));
    }
    // the same word, or one near it, elsewhere in the file
    let mut elsewhere = Vec::new();
    let mut todo: Vec<(&Node, Path)> = vec![(root, Path(Vec::new()))];
    let last = left.iter().rev().find_map(|s| if let Step::Key(k) = s { Some(k.as_str()) } else { None });
    let mut looked = 0;
    while let Some((node, path)) = todo.pop() {
        for (at, entry) in node.entries().iter().enumerate() {
            looked += 1;
            if looked > 20_000 {
                return String::new();
            }
            let step = canonical_cheap(entry, text, at);
            let here = path.with(step);
            let key = entry.key.as_ref().map(|k| k.text(text));
            if key.is_some() && key == last {
                elsewhere.push(here.to_string());
            }
            todo.push((&entry.node, here));
        }
    }
    if let [one] = elsewhere.as_slice() {
        return format!(", did you mean `{}`?", clean(one, 100));
    }
    did_you_mean(word, elsewhere.iter().map(String::as_str))
}

fn canonical_cheap(entry: &Entry, text: &str, at: usize) -> Step {
    entry.key.as_ref().map_or(Step::Position(at + 1), |k| Step::Key(k.text(text).to_owned()))
}

fn keys<'a>(node: &'a Node, text: &'a str) -> Vec<&'a str> {
    node.entries().iter().filter_map(|e| e.key.as_ref().map(|k| k.text(text))).collect()
}
