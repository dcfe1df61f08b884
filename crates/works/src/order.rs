//! The load order of what is on the server, line by line with its reasons; and an order of the administrator's own.

use std::collections::{BTreeSet, HashMap};

use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::id::ItemId;
use yalotheca_core::ledger::Held;
use yalotheca_core::order::{Entry, Why, broken, order, pins_for};
use yalotheca_core::roster::{Pins, RosterError, put_in, take_in};
use yalotheca_core::settings::toml_key;
use yalotheca_core::text::{clean, did_you_mean};

use crate::server::Server;
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
    let entries = to_order(server, ledger.items.iter());
    if let Some((item, need)) = broken(&entries, &list).into_iter().next() {
        return Err(Error::Choice(format!("{item} stands before {need}, and needs it; put {need} before it")));
    }
    // what is pinned already and the list has otherwise is given up
    let kept = server.roster.pins.holding(&list);
    let few = Some(&kept).filter(|pins| pins.fixed.is_empty());
    let few = few.and_then(|pins| pins_for(&entries, pins, &ledger.order, &list));
    let pins = few.unwrap_or(Pins { fixed: list, ..kept });
    let text = with_pins(server, &pins).map_err(|e| roster_error(server, e))?;
    finish(server, text, Vec::new(), write)
}

fn ids_text(ids: &[ItemId]) -> String {
    let ids: Vec<String> = ids.iter().map(|id| toml_text(id.as_str())).collect();
    format!("[{}]", ids.join(", "))
}

/// The roster's text with other pins.
fn with_pins(server: &Server, pins: &Pins) -> Result<String, RosterError> {
    let mut text = server.text.clone();
    let was = &server.roster.pins;
    let lists =
        [("first", &was.first, &pins.first), ("last", &was.last, &pins.last), ("fixed", &was.fixed, &pins.fixed)];
    for (key, _, now) in lists.into_iter().filter(|(_, was, now)| was != now) {
        text = match now.as_slice() {
            [] => take_in(&text, &["order"], key)?,
            ids => put_in(&text, &["order"], key, &ids_text(ids))?,
        };
    }
    for (key, was, now) in [("before", &was.before, &pins.before), ("after", &was.after, &pins.after)] {
        if was == now {
            continue;
        }
        let one = |(id, all): (&ItemId, &Vec<ItemId>)| format!("{} = {}", toml_key(id.as_str()), ids_text(all));
        let value = format!("{{ {} }}", now.iter().map(one).collect::<Vec<_>>().join(", "));
        let inline = || match now.is_empty() {
            true => take_in(&text, &["order"], key),
            false => put_in(&text, &["order"], key, &value),
        };
        text = match inline() {
            Ok(text) => text,
            // it has a table of its own
            Err(_) => {
                let mut gone = was.keys().filter(|id| !now.contains_key(*id));
                let without = gone.try_fold(text, |text, id| take_in(&text, &["order", key], id.as_str()))?;
                now.iter().try_fold(without, |t, (id, all)| put_in(&t, &["order", key], id.as_str(), &ids_text(all)))?
            }
        };
    }
    Ok(text)
}

/// What the load order of some items must heed.
pub(crate) fn to_order<'a>(server: &Server, items: impl Iterator<Item = (&'a ItemId, &'a Held)> + Clone) -> Vec<Entry> {
    // who is meant by an id: the item itself, what provides it, what replaces it
    let mut meant: HashMap<&ItemId, Vec<&ItemId>> = HashMap::new();
    for (id, held) in items.clone() {
        let facts = &held.facts;
        let also = facts.provides.iter().map(|p| &p.id).chain(facts.replaces.iter().map(|r| &r.id));
        for name in std::iter::once(id).chain(also) {
            meant.entry(name).or_default().push(id);
        }
    }
    let entry = |(id, held): (&ItemId, &Held)| {
        let targets = held.facts.needs.iter().flat_map(|n| n.targets());
        let needs = targets.flat_map(|t| meant.get(&t.id).into_iter().flatten()).map(|i| (*i).clone());
        Entry {
            id: id.clone(),
            rank: server.family.rules.kind.get(&held.kind).map_or(0, |k| k.rank),
            needs: needs.collect(),
            after: held.facts.after.clone(),
            before: held.facts.before.clone(),
        }
    };
    items.map(entry).collect()
}

/// The load order, and the hints that give way in it and did not before.
pub(crate) fn load_order<'a>(
    server: &Server,
    items: impl Iterator<Item = (&'a ItemId, &'a Held)> + Clone,
    present: &[ItemId],
) -> Result<(Vec<ItemId>, Vec<Finding>), Error> {
    let ordered = order(&to_order(server, items), &server.roster.pins, present)?;
    let stands = |id: &ItemId| present.iter().position(|o| o == id);
    let told = |(earlier, later): (ItemId, ItemId)| {
        // it was so before
        if stands(&earlier).zip(stands(&later)).is_some_and(|(earlier, later)| later < earlier) {
            return None;
        }
        let cause = format!("{later} would like to be read after {earlier}, and something stronger stands against it");
        let fix = "nothing must be done; what fixes each line: yalotheca order";
        Some(Finding::new("hint-gave-way", Severity::Note, cause, fix).of(&later))
    };
    Ok((ordered.order, ordered.given_way.into_iter().filter_map(told).collect()))
}
