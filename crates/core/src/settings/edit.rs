//! Edits: from paths and values to splices, and never to a file that says anything else than was meant.

use serde::Deserialize;
use thiserror::Error;

use super::bracketed::{Splice, joined};
use super::insert::{Item, Place, add};
use super::node::{Body, Form, Node, Shut, Sort};
use super::path::Step;
use super::remove::take;
use super::select::{Found, Hit, hint, is_flat, select};
use super::verify::{Act, Op, holds};
use super::{Document, Format, Path, SettingsError, Value, write};
use crate::text::{clean, line_column};

/// Where in a list a new element goes: `first`, `last`, `before NAME`, `after NAME`.
#[derive(Debug, Clone, PartialEq, Eq, Default, Deserialize)]
#[serde(try_from = "String")]
pub enum Seat {
    /// Before all others.
    First,
    /// Behind all others.
    #[default]
    Last,
    /// Before the element of this value.
    Before(String),
    /// Behind the element of this value.
    After(String),
}

impl TryFrom<String> for Seat {
    type Error = String;
    fn try_from(text: String) -> Result<Self, String> {
        match text.split_once(' ') {
            None if text == "first" => Ok(Seat::First),
            None if text == "last" => Ok(Seat::Last),
            Some(("before", name)) => Ok(Seat::Before(name.to_owned())),
            Some(("after", name)) => Ok(Seat::After(name.to_owned())),
            _ => Err(format!(
                "`{}` is no place in a list; write first, last, before NAME or after NAME",
                clean(&text, 60)
            )),
        }
    }
}

impl std::fmt::Display for Seat {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Seat::First => f.write_str("first"),
            Seat::Last => f.write_str("last"),
            Seat::Before(name) => write!(f, "before {name}"),
            Seat::After(name) => write!(f, "after {name}"),
        }
    }
}

/// One edit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Edit {
    /// Set a value; keys that are missing on the way are made.
    Set {
        /// Where.
        path: Path,
        /// What.
        value: Value,
        /// The sort it is to have, whatever stands there; `None` keeps the sort that stands there.
        force: Option<Sort>,
    },
    /// Add elements to a list (those that it lacks), or keys to a map.
    Add {
        /// The list.
        path: Path,
        /// The elements.
        values: Vec<Value>,
        /// Where among the others.
        seat: Seat,
    },
    /// Take elements of these values out of a list.
    Drop {
        /// The list.
        path: Path,
        /// The elements.
        values: Vec<Value>,
    },
    /// Take a key or an element out.
    Remove {
        /// Which.
        path: Path,
    },
}

impl Edit {
    /// Returns the path it is about.
    pub fn path(&self) -> &Path {
        match self {
            Edit::Set { path, .. } | Edit::Add { path, .. } | Edit::Drop { path, .. } | Edit::Remove { path } => path,
        }
    }
}

/// An edit that is not made; the document is as it was.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum EditError {
    /// Nothing stands at the path.
    #[error("nothing stands at `{path}`{hint}")]
    NoSuch {
        /// The path.
        path: String,
        /// `, did you mean …?`, or nothing.
        hint: String,
    },
    /// The path means something else than one value.
    #[error("`{path}`: {why}")]
    Unclear {
        /// The path.
        path: String,
        /// Why.
        why: String,
    },
    /// Another sort of value stands there.
    #[error("line {line}: {there} stands at `{path}`, and `{given}` is {what}")]
    OtherSort {
        /// The path.
        path: String,
        /// The line, from 1.
        line: usize,
        /// What stands there, in words.
        there: String,
        /// What was given.
        given: String,
        /// What that is, in words.
        what: &'static str,
    },
    /// The value is left alone.
    #[error("line {line}: `{path}` {why}")]
    Shut {
        /// The path.
        path: String,
        /// The line, from 1.
        line: usize,
        /// Why.
        why: &'static str,
    },
    /// The format cannot hold it.
    #[error("`{path}` cannot be written: {why}")]
    Cannot {
        /// The path.
        path: String,
        /// Why.
        why: String,
    },
    /// The edited text would not say what was meant, so nothing was changed.
    #[error("line {line}: `{path}` cannot be changed without doubt, so nothing was; change that line by hand")]
    Doubt {
        /// The path.
        path: String,
        /// The line, from 1.
        line: usize,
    },
    /// The file's encoding lacks a character.
    #[error(transparent)]
    Settings(#[from] SettingsError),
}

/// The text and tree from before the first of several changes.
pub(crate) type Kept = Option<(String, Node)>;

impl Document {
    /// Makes edits, all or none; returns how many changed anything.
    ///
    /// # Errors
    /// The first that cannot be made; the document is as it was then.
    pub fn edit(&mut self, edits: &[Edit]) -> Result<usize, EditError> {
        let mut kept = None;
        let done = self.one_by_one(edits, &mut kept);
        if let (Err(_), Some((text, root))) = (&done, kept) {
            self.source.text = text;
            self.root = root;
        }
        done
    }

    fn one_by_one(&mut self, edits: &[Edit], kept: &mut Kept) -> Result<usize, EditError> {
        let mut changed = 0;
        let mut left = edits;
        while !left.is_empty() {
            // values of different places are set at one go; all else one by one
            let sets = left.iter().take_while(|e| matches!(e, Edit::Set { .. })).count().max(1);
            let (now, rest) = left.split_at(sets.min(left.len()));
            changed += self.together(now, kept)?;
            left = rest;
        }
        Ok(changed)
    }

    /// Sets a value; returns whether anything changed. See [`Edit::Set`].
    ///
    /// # Errors
    /// [`EditError`].
    pub fn set(&mut self, path: &Path, value: Value, force: Option<Sort>) -> Result<bool, EditError> {
        Ok(self.edit(&[Edit::Set { path: path.clone(), value, force }])? > 0)
    }

    /// Adds elements to a list; returns whether anything changed. See [`Edit::Add`].
    ///
    /// # Errors
    /// [`EditError`].
    pub fn insert(&mut self, path: &Path, values: Vec<Value>, seat: Seat) -> Result<bool, EditError> {
        Ok(self.edit(&[Edit::Add { path: path.clone(), values, seat }])? > 0)
    }

    /// Takes a key or an element out; returns whether anything changed.
    ///
    /// # Errors
    /// [`EditError`].
    pub fn remove(&mut self, path: &Path) -> Result<bool, EditError> {
        Ok(self.edit(&[Edit::Remove { path: path.clone() }])? > 0)
    }

    fn together(&mut self, edits: &[Edit], kept: &mut Kept) -> Result<usize, EditError> {
        for edit in edits {
            self.learn(edit.path());
        }
        let mut ops: Vec<Op> = Vec::new();
        let mut changed = 0;
        for (at, edit) in edits.iter().enumerate() {
            let mut more = self.ops(edit)?;
            changed += usize::from(!more.is_empty());
            // more keys for the same table are one addition
            if let [Op { trail, act: Act::Add { at: place, items } }] = more.as_slice()
                && let Some(Op { act: Act::Add { at, items: there }, .. }) = ops.iter_mut().find(|o| o.trail == *trail)
                && at == place
                && items.iter().all(|(k, _)| k.is_some() && !there.iter().any(|(known, _)| known == k))
            {
                there.extend(items.iter().cloned());
                continue;
            }
            let replaces = |m: &Op| matches!(m.act, Act::Replace(_) | Act::Add { .. });
            let apart = more.iter().all(|m| {
                replaces(m)
                    && !ops.iter().any(|o| {
                        let nested = o.trail.starts_with(&m.trail) || m.trail.starts_with(&o.trail);
                        // a value in a table that also grows is told apart by its place
                        let grows = |a: &Op, b: &Op| matches!(a.act, Act::Add { .. }) && b.trail.len() > a.trail.len();
                        nested && !grows(o, m) && !grows(m, o)
                    })
            });
            if (apart || ops.is_empty()) && ops.len() < 50_000 {
                let alone = !apart;
                ops.append(&mut more);
                if !alone {
                    continue;
                }
                self.perform(&ops, edit.path(), kept)?;
            } else {
                // what was gathered is done first, then this against the new text
                self.perform(&ops, edits.get(at.saturating_sub(1)).unwrap_or(edit).path(), kept)?;
                let again = self.ops(edit)?;
                self.perform(&again, edit.path(), kept)?;
            }
            ops.clear();
        }
        if let (false, Some(last)) = (ops.is_empty(), edits.last()) {
            self.perform(&ops, last.path(), kept)?;
        }
        Ok(changed)
    }

    /// The changes of the tree that an edit means; none where all is so already.
    fn ops(&self, edit: &Edit) -> Result<Vec<Op>, EditError> {
        match edit {
            Edit::Set { path, value, force } => match self.found(path)? {
                Found::Hits(hits) => {
                    let mut out = Vec::new();
                    for hit in hits {
                        let Some(node) = self.root.follow(&hit.trail) else { continue };
                        let value = self.coerced(&hit.path, node, value, *force)?;
                        let there = Value::of(node, &self.source.text);
                        let sorts = force.is_none() || there.sort() == value.sort();
                        if there.same(&value) && sorts {
                            continue;
                        }
                        self.open(&hit)?;
                        out.extend(self.replacing(&hit, node, value));
                    }
                    Ok(out)
                }
                Found::Short { trail, path: here, left } => {
                    let value = match force {
                        Some(sort) => forced(value, *sort),
                        None => value.clone(),
                    };
                    let given = value.clone();
                    self.made(path, trail, &here, &left, given).map(|op| vec![op])
                }
            },
            Edit::Add { path, values, seat } => self.adding(path, values, seat),
            Edit::Drop { path, values } => {
                let hits = self.hits(path)?;
                let mut out = Vec::new();
                for hit in hits {
                    let Some(node) = self.root.follow(&hit.trail) else { continue };
                    let is = |n: &Node| values.iter().any(|v| self.is_element(n, v));
                    if node.as_many().is_none() {
                        // the only one of a key that may stand several times
                        if self.repeats() {
                            if is(node) {
                                self.open(&hit)?;
                                out.extend(removal(&hit.trail));
                            }
                            continue;
                        }
                        return Err(unclear(&hit.path, "a single value stands there, no list"));
                    }
                    let gone: Vec<usize> =
                        node.entries().iter().enumerate().filter(|(_, e)| is(&e.node)).map(|(at, _)| at).collect();
                    if !gone.is_empty() {
                        self.open(&hit)?;
                        out.push(Op { trail: hit.trail, act: Act::Take(gone) });
                    }
                }
                Ok(out)
            }
            Edit::Remove { path } => match self.found(path)? {
                Found::Short { .. } => Ok(Vec::new()),
                Found::Hits(hits) => {
                    let mut out: Vec<Op> = Vec::new();
                    for hit in hits {
                        self.open(&hit)?;
                        let Some(op) = removal(&hit.trail) else {
                            return Err(unclear(&hit.path, "the whole file cannot be taken out of itself"));
                        };
                        match (out.iter_mut().find(|o| o.trail == op.trail), &op.act) {
                            (Some(Op { act: Act::Take(all), .. }), Act::Take(more)) => all.extend(more),
                            _ => out.push(op),
                        }
                    }
                    Ok(out)
                }
            },
        }
    }

    pub(crate) fn found(&self, path: &Path) -> Result<Found, EditError> {
        select(&self.root, &self.source.text, path, is_flat(self.format)).map_err(|why| unclear(path, why))
    }

    /// The values a path means; at least one.
    pub(crate) fn hits(&self, path: &Path) -> Result<Vec<Hit>, EditError> {
        match self.found(path)? {
            Found::Hits(hits) => Ok(hits),
            Found::Short { trail, path: here, left } => {
                let flat = is_flat(self.format);
                let hint = hint(&self.root, &self.source.text, &trail, &here, &left, flat);
                Err(EditError::NoSuch { path: path.to_string(), hint })
            }
        }
    }

    fn line_of(&self, at: usize) -> usize {
        line_column(&self.source.text, at).0
    }

    /// Whether nothing on the way to a value is left alone.
    pub(crate) fn open(&self, hit: &Hit) -> Result<(), EditError> {
        for end in 0..=hit.trail.len() {
            let node = hit.trail.get(..end).and_then(|t| self.root.follow(t));
            if let Some(Node { shut: Some(shut), span, .. }) = node {
                let tagged_around = *shut == Shut::Tagged && end < hit.trail.len();
                if !tagged_around {
                    let path = hit.path.to_string();
                    return Err(EditError::Shut { path, line: self.line_of(span.start()), why: shut.why() });
                }
            }
        }
        Ok(())
    }

    /// Formats in which a key may stand several times.
    fn repeats(&self) -> bool {
        matches!(self.format, Format::Ini | Format::NameValue | Format::Blocks | Format::Xml)
    }

    fn is_element(&self, node: &Node, value: &Value) -> bool {
        let there = Value::of(node, &self.source.text);
        let row = node.as_many().is_some_and(|m| m.form == Form::Row);
        super::alike(&there, value) || row && value.text().as_deref() == Some(node.span.of(&self.source.text))
    }

    /// A list's new value as the fewest changes; anything else as a whole.
    fn replacing(&self, hit: &Hit, node: &Node, value: Value) -> Vec<Op> {
        let (Some(many), Value::List(wanted)) = (node.as_many(), &value) else {
            return vec![Op { trail: hit.trail.clone(), act: Act::Replace(value) }];
        };
        let there: Vec<Value> = many.entries.iter().map(|e| Value::of(&e.node, &self.source.text)).collect();
        let gone: Vec<usize> =
            (0..there.len()).filter(|at| !wanted.iter().any(|w| there.get(*at).is_some_and(|t| t.same(w)))).collect();
        let kept: Vec<&Value> = there.iter().enumerate().filter(|(at, _)| !gone.contains(at)).map(|(_, v)| v).collect();
        // what is kept stands in the same order, and what is new in one piece: lines around stay as they are
        let first_new = wanted.iter().position(|w| !kept.iter().any(|k| k.same(w)));
        let news = wanted.iter().filter(|w| !kept.iter().any(|k| k.same(w))).count();
        let block: Vec<Item> =
            first_new.map_or(Vec::new(), |at| wanted.iter().skip(at).take(news).map(|v| (None, v.clone())).collect());
        let mut result: Vec<&Value> = kept.clone();
        let at = first_new.unwrap_or(result.len()).min(result.len());
        result.splice(at..at, block.iter().map(|(_, v)| v));
        let ordered = result.len() == wanted.len() && result.iter().zip(wanted).all(|(a, b)| a.same(b));
        if !ordered || many.map {
            // the same number of single values: each in its place
            if there.len() == wanted.len() && there.iter().chain(wanted).all(|v| v.sort().is_some()) {
                let pairs = there.iter().zip(wanted).enumerate().filter(|(_, (a, b))| !a.same(b));
                return pairs
                    .map(|(at, (_, new))| {
                        let trail = hit.trail.iter().copied().chain([at]).collect();
                        Op { trail, act: Act::Replace(new.clone()) }
                    })
                    .collect();
            }
            return vec![Op { trail: hit.trail.clone(), act: Act::Replace(value) }];
        }
        if gone.is_empty() {
            return vec![Op { trail: hit.trail.clone(), act: Act::Add { at, items: block } }];
        }
        if block.is_empty() {
            return vec![Op { trail: hit.trail.clone(), act: Act::Take(gone) }];
        }
        if many.form == Form::Bracket {
            return vec![Op { trail: hit.trail.clone(), act: Act::Replace(value) }];
        }
        // as many go as come: each takes a place that is left
        if gone.len() == block.len() {
            let places = gone.iter().zip(&block);
            return places
                .map(|(at, (_, v))| {
                    let trail = hit.trail.iter().copied().chain([*at]).collect();
                    Op { trail, act: Act::Replace(v.clone()) }
                })
                .collect();
        }
        vec![Op { trail: hit.trail.clone(), act: Act::Replace(value) }]
    }

    /// The value as the sort that stands there.
    fn coerced(&self, path: &Path, node: &Node, value: &Value, force: Option<Sort>) -> Result<Value, EditError> {
        if let Some(sort) = force {
            return Ok(forced(value, sort));
        }
        let there = match &node.body {
            Body::One(one) => one.sort,
            Body::Many(many) => {
                if many.form == Form::Again && value.sort().is_some() {
                    let why = format!("it stands {} times; choose one with [1], or use += and -=", many.entries.len());
                    return Err(unclear(path, why));
                }
                let fits = matches!((value, many.map), (Value::Map(_), true) | (Value::List(_), false))
                    || many.entries.is_empty() && value.sort().is_none();
                if fits {
                    return Ok(value.clone());
                }
                let there = if many.map { "a table of values" } else { "a list" };
                return Err(self.other_sort(path, node, there, value));
            }
        };
        let given = match value.sort() {
            Some(sort) => sort,
            None if there == Sort::Nothing => return Ok(value.clone()),
            None => return Err(self.other_sort(path, node, there.word(), value)),
        };
        let words = node.text(&self.source.text).unwrap_or_default();
        let typed = matches!(self.format, Format::Json | Format::Yaml | Format::Toml | Format::BraceTables);
        match (there, given) {
            (Sort::Nothing, _) => Ok(value.clone()),
            (a, b) if a == b => {
                let whole = |t: &str| !t.contains(['.', 'e', 'E']);
                if let (Format::Toml, Sort::Number, Value::Number(n)) = (self.format, a, value)
                    && whole(&words)
                    && !whole(n)
                {
                    return Err(self.other_sort(path, node, "a whole number", value));
                }
                Ok(value.clone())
            }
            // words for yes and no, as older files have them
            (Sort::Text, Sort::Flag) if self.format == Format::Yaml || !typed => Ok(Value::Text(
                switch(&words, *value == Value::Bool(true)).unwrap_or_else(|| value.text().unwrap_or_default()),
            )),
            (Sort::Text, Sort::Nothing) => Ok(Value::Text("null".to_owned())),
            (Sort::Text, _) => Ok(Value::Text(value.text().unwrap_or_default())),
            (Sort::Number, Sort::Text) if !typed && words.is_empty() => Ok(value.clone()),
            (there, _) => Err(self.other_sort(path, node, there.word(), value)),
        }
    }

    fn other_sort(&self, path: &Path, node: &Node, there: &str, value: &Value) -> EditError {
        let what = match value {
            Value::List(_) => "a list",
            Value::Map(_) => "a table of values",
            Value::Number(n) if there == "a whole number" && n.contains(['.', 'e', 'E']) => "none",
            one => one.sort().map_or("something else", |s| if s == Sort::Number { "a number" } else { s.word() }),
        };
        EditError::OtherSort {
            path: path.to_string(),
            line: self.line_of(node.span.start()),
            there: there.to_owned(),
            given: clean(&value.shown(), 60),
            what,
        }
    }

    /// What is made where a path goes on and the file does not.
    fn made(&self, whole: &Path, trail: Vec<usize>, here: &Path, left: &[Step], value: Value) -> Result<Op, EditError> {
        let missing = || {
            let hint = hint(&self.root, &self.source.text, &trail, here, left, is_flat(self.format));
            EditError::NoSuch { path: whole.to_string(), hint }
        };
        let mut keys = Vec::new();
        for step in left {
            let Step::Key(key) = step else { return Err(missing()) };
            keys.push(key.clone());
        }
        let node = self.root.follow(&trail).ok_or_else(missing)?;
        self.open(&Hit { trail: trail.clone(), path: here.clone() })?;
        let takes_keys = match &node.body {
            Body::Many(many) => many.map || many.entries.is_empty() && self.format != Format::Lines,
            Body::One(one) => {
                one.sort == Sort::Nothing
                    || self.format == Format::Xml && keys.first().is_some_and(|k| k.starts_with('@'))
            }
        };
        if !takes_keys {
            return Err(missing());
        }
        let mut inner = value;
        for key in keys.iter().skip(1).rev() {
            inner = Value::Map(vec![(key.clone(), inner)]);
        }
        let at = node.entries().len();
        Ok(Op { trail, act: Act::Add { at, items: vec![(keys.first().cloned(), inner)] } })
    }

    fn adding(&self, path: &Path, values: &[Value], seat: &Seat) -> Result<Vec<Op>, EditError> {
        let found = match self.found(path)? {
            Found::Hits(hits) => hits,
            Found::Short { trail, path: here, left } => {
                let value = match (values, self.repeats()) {
                    ([one], true) => one.clone(),
                    _ => Value::List(values.to_vec()),
                };
                return self.made(path, trail, &here, &left, value).map(|op| vec![op]);
            }
        };
        let mut out = Vec::new();
        for hit in found {
            let Some(node) = self.root.follow(&hit.trail) else { continue };
            let entries = node.entries();
            if let Body::Many(many) = &node.body
                && many.map
                && !many.entries.is_empty()
            {
                out.extend(self.keys_added(&hit, node, values)?);
                continue;
            }
            let single = node.as_one().filter(|o| o.sort != Sort::Nothing);
            if single.is_some() && !self.repeats() {
                return Err(unclear(
                    &hit.path,
                    "a single value stands there, no list; where it is one, say what parts it (--between \", \")",
                ));
            }
            let missing: Vec<Item> = values
                .iter()
                .filter(|v| {
                    !(entries.iter().any(|e| self.is_element(&e.node, v))
                        || single.is_some() && self.is_element(node, v))
                })
                .map(|v| (None, v.clone()))
                .collect();
            if missing.is_empty() {
                continue;
            }
            self.open(&hit)?;
            if let ([], Body::Many(many), Value::Map(_)) =
                (entries, &node.body, &missing.first().map_or(Value::Null, |m| m.1.clone()))
                && many.map
            {
                out.extend(self.keys_added(&hit, node, values)?);
                continue;
            }
            let place = |name: &str| {
                let value = Value::Text(name.to_owned());
                entries.iter().position(|e| self.is_element(&e.node, &value)).ok_or_else(|| {
                    unclear(&hit.path, format!("no element `{}` stands there to go by", clean(name, 60)))
                })
            };
            let at = match seat {
                Seat::First => 0,
                Seat::Last => entries.len(),
                Seat::Before(name) => place(name)?,
                Seat::After(name) => place(name)? + 1,
            };
            out.push(Op {
                trail: hit.trail,
                act: Act::Add { at: if single.is_some() { 1 } else { at }, items: missing },
            });
        }
        Ok(out)
    }

    fn keys_added(&self, hit: &Hit, node: &Node, values: &[Value]) -> Result<Vec<Op>, EditError> {
        let mut items: Vec<Item> = Vec::new();
        for value in values {
            let Value::Map(pairs) = value else {
                return Err(unclear(
                    &hit.path,
                    "keys stand there, no list; set one of them, or add a table: {\"key\": 1}",
                ));
            };
            for (key, value) in pairs {
                match node.entries().iter().find(|e| e.is(&self.source.text, key)) {
                    Some(entry) if Value::of(&entry.node, &self.source.text).same(value) => {}
                    Some(_) => {
                        return Err(unclear(
                            &hit.path.key(key),
                            "it stands there already, with another value; set it with =",
                        ));
                    }
                    None => items.push((Some(key.clone()), value.clone())),
                }
            }
        }
        if items.is_empty() {
            return Ok(Vec::new());
        }
        self.open(hit)?;
        Ok(vec![Op { trail: hit.trail.clone(), act: Act::Add { at: node.entries().len(), items } }])
    }

    /// Makes changes of the tree in the text, and reads it again to see that it says what was meant.
    pub(crate) fn perform(&mut self, ops: &[Op], path: &Path, kept: &mut Kept) -> Result<(), EditError> {
        if ops.is_empty() {
            return Ok(());
        }
        let text = &self.source.text;
        let mut splices = Vec::new();
        let cannot = |why: String| EditError::Cannot { path: path.to_string(), why };
        for op in ops {
            let place = Place { format: self.format, text, root: &self.root, trail: &op.trail };
            splices.extend(match &op.act {
                Act::Replace(value) => replace(&place, value).map_err(cannot)?,
                Act::Add { at, items } => add(&place, *at, items).map_err(cannot)?,
                Act::Take(gone) => take(&place, gone).map_err(cannot)?,
            });
        }
        let splices = joined(splices);
        let line = self.line_of(splices.first().map_or(0, |s| s.start));
        let doubt = || EditError::Doubt { path: path.to_string(), line };
        let after = spliced(text, &splices).ok_or_else(doubt)?;
        let root = super::document::tree(self.format, &after, &self.patterns).map_err(|_| doubt())?;
        self.source.check(&after)?;
        if !self.source.is_plain(&after) || !holds(self.format, (&self.root, text), (&root, &after), ops) {
            return Err(doubt());
        }
        let text = std::mem::replace(&mut self.source.text, after);
        let root = std::mem::replace(&mut self.root, root);
        // what stood before the first change, in case a later one cannot be made
        kept.get_or_insert((text, root));
        Ok(())
    }
}

fn unclear(path: &Path, why: impl Into<String>) -> EditError {
    EditError::Unclear { path: path.to_string(), why: why.into() }
}

pub(crate) fn removal(trail: &[usize]) -> Option<Op> {
    let (last, rest) = trail.split_last()?;
    Some(Op { trail: rest.to_vec(), act: Act::Take(vec![*last]) })
}

fn forced(value: &Value, sort: Sort) -> Value {
    let Some(words) = value.text() else { return value.clone() };
    match sort {
        Sort::Text => Value::Text(words),
        Sort::Number => Value::Number(words),
        Sort::Flag => Value::Bool(matches!(&*words.to_ascii_lowercase(), "true" | "yes" | "on" | "1")),
        Sort::Nothing => Value::Null,
    }
}

/// `yes` for true where `no` stands, `Off` for false where `On` stands; `None` where neither stands.
fn switch(there: &str, on: bool) -> Option<String> {
    let pairs = [("yes", "no"), ("on", "off")];
    let (yes, no) = pairs.iter().find(|(y, n)| there.eq_ignore_ascii_case(y) || there.eq_ignore_ascii_case(n))?;
    let word = if on { yes } else { no };
    Some(if there.chars().all(|c| c.is_ascii_uppercase()) {
        word.to_uppercase()
    } else if there.starts_with(|c: char| c.is_ascii_uppercase()) {
        word.get(..1).unwrap_or("").to_uppercase() + word.get(1..).unwrap_or("")
    } else {
        (*word).to_owned()
    })
}

fn replace(place: &Place<'_>, value: &Value) -> Result<Vec<Splice>, String> {
    let Some(node) = place.node() else { return Ok(Vec::new()) };
    let (start, end) = (node.span.start(), node.span.end());
    match &node.body {
        Body::One(_)
            if *value == Value::Null && matches!(place.format, Format::Ini | Format::NameValue | Format::Blocks) =>
        {
            // a key without a value has no sign either
            let key = place.entry().and_then(|e| e.key.as_ref()).map_or(start, |k| k.span.end());
            Ok(vec![Splice::cut(key, end)])
        }
        Body::One(_) => {
            let mut written = write::instead(place.format, place.text, node, value, place.in_brackets())?;
            let before = place.text.get(..start).unwrap_or("");
            // a key without a value gets its sign, or the space behind it
            let bare = start == end;
            if bare && !written.is_empty() {
                let spaced = match place.format {
                    Format::Yaml => before.ends_with([':', '-']),
                    Format::NameValue => !before.ends_with([' ', '\t']),
                    _ => false,
                };
                let key_end = place.entry().and_then(|e| e.key.as_ref()).map(|k| k.span.end());
                let no_sign = matches!(place.format, Format::Ini | Format::Blocks) && key_end == Some(start);
                if no_sign {
                    written = format!(" = {written}");
                } else if spaced {
                    written = format!(" {written}");
                }
            }
            Ok(vec![Splice::new(start, end, written)])
        }
        Body::Many(many) => match many.form {
            Form::Bracket => Ok(vec![Splice::new(start, end, write::flow(place.format, value))]),
            Form::Block => {
                let Some(key) = place.entry().and_then(|e| e.key.as_ref()) else {
                    return Err("a list or table in a list is replaced by hand".to_owned());
                };
                let colon = place.text.get(key.span.end()..).and_then(|t| t.find(':')).unwrap_or(0);
                let text = place.text.get(..end).unwrap_or("");
                let end = if text.ends_with('\n') { end - 1 } else { end };
                let written = match value {
                    // a key that had nothing before it had its entries
                    Value::Null => String::new(),
                    value => format!(" {}", write::fresh(Format::Yaml, value, false)?),
                };
                Ok(vec![Splice::new(key.span.end() + colon + 1, end, written)])
            }
            _ => Err("several values stand there; set them one by one, or use += and -=".to_owned()),
        },
    }
}

/// The text with pieces of it replaced; `None` where two of them are about the same bytes.
pub(crate) fn spliced(text: &str, splices: &[Splice]) -> Option<String> {
    let grown: usize = splices.iter().map(|s| s.with.len()).sum();
    let mut out = String::with_capacity(text.len() + grown);
    let mut at = 0;
    for splice in splices {
        out.push_str(text.get(at..splice.start)?);
        out.push_str(&splice.with);
        at = splice.end;
    }
    out.push_str(text.get(at..)?);
    Some(out)
}
