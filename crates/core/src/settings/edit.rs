//! Edits: from paths and values to splices, and never to a file that says anything else than was meant.

mod ops;
mod perform;

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

pub(crate) use ops::removal;
pub(crate) use perform::spliced;

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
}
