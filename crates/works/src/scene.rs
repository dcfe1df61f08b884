//! What templates and conditions are filled from, gathered of a server.

use std::collections::BTreeMap;

use yalotheca_core::facts::ServerFacts;
use yalotheca_core::family::{Caught, EntryRule};
use yalotheca_core::id::{ItemId, SERVER};
use yalotheca_core::ledger::{FileRow, Held};
use yalotheca_core::scene::{Item, Scene};
use yalotheca_core::text::{clean, did_you_mean, listed};

use crate::Error;
use crate::server::Server;
use crate::tree::Stat;

/// What is known around the items.
pub(crate) struct Around<'a> {
    pub(crate) server: &'a Server,
    pub(crate) facts: ServerFacts,
    /// The server's files and their sizes, where the family asks for them.
    pub(crate) files: BTreeMap<String, u64>,
}

impl<'a> Around<'a> {
    /// Looks around on the server as it is.
    pub(crate) fn of(server: &'a Server, facts: &ServerFacts) -> Result<Self, Error> {
        let mut files = BTreeMap::new();
        if server.family.looks_at_files() {
            for (path, stat) in server.tree.walk()? {
                if let (Stat::File { bytes, .. }, SERVER) = (stat, path.root()) {
                    files.insert(path.path().to_owned(), bytes);
                }
            }
        }
        Ok(Self { server, facts: facts.clone(), files })
    }

    /// The files as they will be, once these rows stand instead of those.
    pub(crate) fn with_rows(
        mut self,
        old: &BTreeMap<ItemId, Vec<FileRow>>,
        new: &BTreeMap<ItemId, Vec<FileRow>>,
    ) -> Self {
        if self.server.family.looks_at_files() {
            for row in old.values().flatten() {
                self.files.remove(row.path.path());
            }
            for row in new.values().flatten() {
                self.files.insert(row.path.path().to_owned(), row.bytes);
            }
        }
        self
    }

    pub(crate) fn scene(&self) -> Scene<'_> {
        Scene {
            family: &self.server.family,
            server: &self.facts,
            files: &self.files,
            play: self.server.roster.play.as_deref(),
            choices: &self.server.roster.choices,
        }
    }
}

/// An item on the server, with the entries that are taken.
pub(crate) struct Taken<'a> {
    pub(crate) id: &'a ItemId,
    pub(crate) held: &'a Held,
    entries: Vec<Caught>,
}

impl<'a> Taken<'a> {
    pub(crate) fn of(server: &Server, id: &'a ItemId, held: &'a Held) -> Self {
        let take = server.roster.want(id).and_then(|w| w.take.as_ref());
        let rule = server.family.rules.kind.get(&held.kind).and_then(|k| k.entry.as_ref());
        let taken = |e: &&Caught| match (take, rule) {
            (Some(take), Some(rule)) => entry_name(rule, e).is_some_and(|n| take.contains(&n)),
            _ => true,
        };
        Self { id, held, entries: held.entries.iter().filter(taken).cloned().collect() }
    }

    /// The item as the rules see it; `None` when the family has no such kind (any more).
    pub(crate) fn item<'b>(&'b self, server: &'b Server, order: usize) -> Option<Item<'b>> {
        Some(Item {
            id: self.id,
            kind: server.family.rules.kind.get(&self.held.kind)?,
            version: &self.held.facts.version,
            name: &self.held.name,
            title: &self.held.title,
            number: self.held.number.as_deref(),
            fields: &self.held.fields,
            entries: &self.entries,
            order,
        })
    }
}

/// What the roster calls one of several things in an item.
pub(crate) fn entry_name(rule: &EntryRule, entry: &Caught) -> Option<String> {
    rule.name.fill(|f| entry.get(f).map(|v| v.as_str().into()))
}

/// Whether everything that the roster takes of an item is in it.
pub(crate) fn named_entries(server: &Server, id: &ItemId, held: &Held) -> Result<(), Error> {
    let Some(take) = server.roster.want(id).and_then(|w| w.take.as_ref()) else { return Ok(()) };
    let rule = server.family.rules.kind.get(&held.kind).and_then(|k| k.entry.as_ref());
    let names: Vec<String> = rule.iter().flat_map(|r| held.entries.iter().filter_map(|e| entry_name(r, e))).collect();
    let Some(none) = take.iter().find(|t| !names.contains(t)) else { return Ok(()) };
    let hint = match did_you_mean(none, names.iter().map(String::as_str)) {
        hint if !hint.is_empty() => hint,
        _ if names.is_empty() => ": there is only one thing in it; take it without `take`".to_owned(),
        _ => format!("; it has {}", listed(&names.iter().map(|n| format!("`{}`", clean(n, 60))).collect::<Vec<_>>())),
    };
    Err(Error::Choice(format!("{id} has no `{}`{hint}", clean(none, 60))))
}
