//! The load order of what is on the server, line by line with its reasons; and an order of the administrator's own.

use std::collections::BTreeSet;

use yalotheca_core::id::ItemId;
use yalotheca_core::order::{Why, broken, order};
use yalotheca_core::roster::put_in;
use yalotheca_core::text::{clean, did_you_mean};

use crate::server::Server;
use crate::settle::to_order;
use crate::want::{Outcome, finish, roster_error, toml_text};
use crate::{Error, state};

/// One line of the load order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Line {
    /// The item.
    pub id: ItemId,
    /// Its kind's title.
    pub kind: String,
    /// Its version.
    pub version: String,
    /// Why it stands there.
    pub why: Why,
}

/// The load order.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Lines {
    /// First read first.
    pub lines: Vec<Line>,
    /// Hints that gave way: (earlier, later).
    pub given_way: Vec<(ItemId, ItemId)>,
    /// Whether a settle would bring another order than the server has now.
    pub moves: bool,
}

/// Returns the load order of what is on the server, as the roster would have it now.
///
/// # Errors
/// Needs or pins go in a circle.
pub fn lines(server: &Server) -> Result<Lines, Error> {
    let ledger = state::head(server.tree.as_ref())?;
    let ordered = order(&to_order(server, ledger.items.iter()), &server.roster.pins, &ledger.order)?;
    let line = |(id, why): (&ItemId, &Why)| {
        let held = ledger.items.get(id)?;
        let (kind, version) = (server.family.kind_title(&held.kind).to_owned(), held.facts.version.to_string());
        Some(Line { id: id.clone(), kind, version, why: why.clone() })
    };
    Ok(Lines {
        lines: ordered.order.iter().zip(&ordered.why).filter_map(line).collect(),
        moves: ordered.order != ledger.order,
        given_way: ordered.given_way,
    })
}

/// Puts an order of the administrator's own on the roster: one item a line, `#` begins a note. What it comes to is planned
/// first.
///
/// # Errors
/// A line names nothing that is on the server, one stands twice or is missing, or an item stands before one that it needs.
pub fn edit(server: &Server, text: &str, write: bool) -> Result<Outcome, Error> {
    let ledger = state::head(server.tree.as_ref())?;
    let mut list: Vec<ItemId> = Vec::new();
    for (at, line) in text.lines().enumerate() {
        let word = line.split('#').next().unwrap_or_default().trim();
        if word.is_empty() {
            continue;
        }
        let fail = |why: String| Error::Choice(format!("line {}: `{}` {why}", at + 1, clean(word, 60)));
        let known = ledger.items.keys().map(ItemId::as_str);
        let hint = did_you_mean(word, known);
        let id = ItemId::new(word).ok().filter(|id| ledger.items.contains_key(id));
        let id = id.ok_or_else(|| fail(format!("is not on the server{hint}; one item stands on each line")))?;
        if list.contains(&id) {
            return Err(fail("stands twice; keep one of them".to_owned()));
        }
        list.push(id);
    }
    let given: BTreeSet<&ItemId> = list.iter().collect();
    if let Some(missing) = ledger.order.iter().find(|id| !given.contains(id)) {
        return Err(Error::Choice(format!(
            "`{missing}` is missing; every item stands in the order (to take one off: yalotheca drop {missing})"
        )));
    }
    if let Some((item, need)) = broken(&to_order(server, ledger.items.iter()), &list).into_iter().next() {
        return Err(Error::Choice(format!("{item} stands before {need}, and needs it; put {need} before it")));
    }
    let ids: Vec<String> = list.iter().map(|id| toml_text(id.as_str())).collect();
    let value = format!("[{}]", ids.join(", "));
    let text = put_in(&server.text, &["order"], "fixed", &value).map_err(|e| roster_error(server, e))?;
    finish(server, text, Vec::new(), write)
}
