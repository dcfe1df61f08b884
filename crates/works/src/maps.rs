//! The maps on a server: which is played, which are played in turn.

use std::collections::BTreeMap;

use yalotheca_core::family::Role;
use yalotheca_core::id::ItemId;
use yalotheca_core::ledger::Ledger;
use yalotheca_core::roster::{put_in, take_in};
use yalotheca_core::scene::Fields;
use yalotheca_core::settings::{Document, Path, Value};
use yalotheca_core::slot::Owner;
use yalotheca_core::text::{clean, did_you_mean};

use crate::scene::{Around, Taken};
use crate::server::{MOST_SETTINGS, Server};
use crate::want::{Outcome, finish, roster_error, toml_text};
use crate::{Error, state};

/// A map on the server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Map {
    /// What the server calls it; absent where only a start tells.
    pub name: Option<String>,
    /// The item that brings it; absent for one that was there before us.
    pub item: Option<ItemId>,
    /// What the roster calls it, where an item brings several.
    pub entry: Option<String>,
    /// Whether it is played, where one map is played.
    pub active: bool,
    /// What the rotation says of it, and for how many turns.
    pub turn: Option<(String, String)>,
}

/// An item with its maps: the name that the server has for each (absent where only a start tells), and what the roster
/// calls it where an item brings several.
pub(crate) type Named = (ItemId, Vec<(Option<String>, Option<String>)>);

/// Returns the maps: those of items first, then those that were there before.
///
/// # Errors
/// The server or its ledger cannot be read.
pub fn maps(server: &Server) -> Result<Vec<Map>, Error> {
    let ledger = state::head(server.tree.as_ref())?;
    let facts = server.facts()?;
    let around = Around::of(server, &facts)?;
    let rows = rotation_rows(server)?;
    let played = server.family.rules.active.as_ref().and_then(|a| facts.get(&a.now)).map(str::to_owned);
    let mut out: Vec<Map> = Vec::new();
    for (item, names) in names(server, &around, &ledger) {
        for (name, entry) in names {
            let turn = name.as_ref().and_then(|n| rows.get(n)).cloned();
            let active = name.is_some() && played == name;
            out.push(Map { name, item: Some(item.clone()), entry, active, turn });
        }
    }
    let known = |name: &String| out.iter().any(|m| m.name.as_ref() == Some(name));
    let mut others: BTreeMap<String, Option<(String, String)>> =
        rows.iter().filter(|(n, _)| !known(n)).map(|(n, t)| (n.clone(), Some(t.clone()))).collect();
    for stock in played.clone().into_iter().chain(base_of(server)?).filter(|p| !known(p)) {
        others.entry(stock).or_default();
    }
    let stock = |(name, turn): (String, Option<(String, String)>)| {
        let active = played.as_ref() == Some(&name);
        Map { name: Some(name), item: None, entry: None, active, turn }
    };
    out.extend(others.into_iter().map(stock));
    Ok(out)
}

/// The maps that items bring, by the names the server has for them.
fn names(server: &Server, around: &Around<'_>, ledger: &Ledger) -> Vec<Named> {
    let rules = &server.family.rules;
    let scene = around.scene();
    let mut out = Vec::new();
    for (id, held) in &ledger.items {
        if rules.kind.get(&held.kind).is_none_or(|k| k.role != Role::Map) {
            continue;
        }
        let taken = Taken::of(server, id, held);
        let Some(item) = taken.item(server, 0) else { continue };
        let entry = |e| {
            let fields = Fields { entry: Some(e), ..Fields::of(&scene, &item) };
            (fields.map(), fields.label())
        };
        let mut names: Vec<_> = match item.entries {
            [] => vec![(Fields::of(&scene, &item).map(), None)],
            [one] => vec![(entry(one).0, None)],
            several => several.iter().map(entry).collect(),
        };
        // where no rule plays one map, the rotation's rows have their names
        if let Some(rotation) = rules.rotation.as_ref().filter(|_| names.iter().any(|(name, _)| name.is_none())) {
            let slots = ledger.slots.iter().filter(|s| s.key.path.path() == rotation.file);
            let mine = slots.flat_map(|s| &s.claims).filter(|(o, _)| *o == Owner::Item(id.clone()));
            let rows: Vec<String> = mine.filter_map(|(_, v)| part(v, &rotation.name)).collect();
            // a row an entry, in their order
            if rows.len() == names.len() {
                names.iter_mut().zip(rows).for_each(|(n, row)| n.0 = Some(row));
            } else if !rows.is_empty() {
                names = rows.into_iter().map(|row| (Some(row), None)).collect();
            }
        }
        out.push((id.clone(), names));
    }
    out
}

fn part(value: &Value, by: &str) -> Option<String> {
    match value {
        Value::Map(pairs) => pairs.iter().find(|(k, _)| k == by).and_then(|(_, v)| v.text()),
        Value::List(row) => row.get(by.parse::<usize>().ok()?.checked_sub(1)?)?.text(),
        other => other.text(),
    }
}

/// What the rotation's file says of each map: state and turns.
fn rotation_rows(server: &Server) -> Result<BTreeMap<String, (String, String)>, Error> {
    let Some(rule) = &server.family.rules.rotation else { return Ok(BTreeMap::new()) };
    let path = yalotheca_core::family::server_path(&rule.file)?;
    let bytes = server.tree.read(&[path], MOST_SETTINGS)?.pop().flatten().unwrap_or_default();
    let Ok(mut document) = Document::parse(rule.format, &bytes) else { return Ok(BTreeMap::new()) };
    let at = Path::parse(rule.at.as_deref().unwrap_or("")).map_err(|e| Error::Maps(e.to_string()))?;
    let Some(Value::List(rows)) = document.get(&at).ok().flatten().map(|s| s.value) else { return Ok(BTreeMap::new()) };
    let row = |row: &Value| {
        let turns = rule.turns.as_ref().and_then(|(column, _)| part(row, column)).unwrap_or_default();
        Some((part(row, &rule.name)?, (part(row, &rule.state)?, turns)))
    };
    Ok(rows.iter().filter_map(row).collect())
}

/// Puts on the roster which map is to be played; one that was there before us takes the word off the roster again.
///
/// # Errors
/// There is no such map, or the family plays none: the roster stays as it is.
pub fn play(server: &Server, name: &str, write: bool) -> Result<Outcome, Error> {
    if server.family.rules.active.is_none() {
        let title = &server.family.rules.title;
        return Err(Error::Maps(format!("{title} has no one map that is played; see: yalotheca maps rotation")));
    }
    let all = maps(server)?;
    let found = one_of(&all, name)?;
    let base = base_of(server)?;
    let text = match found {
        Some(Map { item: Some(_), name: Some(name), .. }) => {
            put_in(&server.text, &["maps"], "play", &toml_text(name)).map_err(|e| roster_error(server, e))?
        }
        Some(Map { item: Some(item), name: None, .. }) => {
            let why = format!("what {item} is called is known only once the server has fetched it: yalotheca trial");
            return Err(Error::Maps(why));
        }
        _ if base.as_deref() == Some(name) || found.is_some() => {
            take_in(&server.text, &["maps"], "play").map_err(|e| roster_error(server, e))?
        }
        _ => {
            let names: Vec<&str> = all.iter().filter_map(|m| m.name.as_deref()).collect();
            let hint = did_you_mean(name, names.iter().copied());
            let hint = if hint.is_empty() { format!("; there are {}", names.join(", ")) } else { hint };
            return Err(Error::Maps(format!("no map on this server is called `{}`{hint}", clean(name, 60))));
        }
    };
    finish(server, text, Vec::new(), write)
}

/// The map that somebody means: by the server's name for it, or by its item where that brings one only.
fn one_of<'a>(all: &'a [Map], name: &str) -> Result<Option<&'a Map>, Error> {
    if let Some(found) = all.iter().find(|m| m.name.as_deref() == Some(name)) {
        return Ok(Some(found));
    }
    let of_item: Vec<&Map> = all.iter().filter(|m| m.item.as_ref().is_some_and(|i| i.as_str() == name)).collect();
    match of_item.as_slice() {
        [] => Ok(None),
        [one] => Ok(Some(one)),
        several => {
            let names: Vec<String> = several.iter().filter_map(|m| Some(format!("`{}`", m.name.as_ref()?))).collect();
            Err(Error::Maps(format!("{} brings several maps; name one: {}", clean(name, 60), names.join(", "))))
        }
    }
}

/// What was played before us.
fn base_of(server: &Server) -> Result<Option<String>, Error> {
    let ledger = state::head(server.tree.as_ref())?;
    let rules = &server.family.rules;
    let Some(source) = rules.active.as_ref().and_then(|a| rules.fact.get(&a.now)?.0.first()) else { return Ok(None) };
    let here = |s: &&yalotheca_core::slot::Slot| {
        s.key.path.path() == source.file.as_str() && s.key.at.as_deref() == Some(source.at.as_str())
    };
    Ok(ledger.slots.iter().find(here).and_then(|s| s.base.first()).and_then(Value::text))
}

/// Returns the maps that items bring, by the names the server has for them.
pub(crate) fn of_items(server: &Server) -> Result<Vec<Named>, Error> {
    let ledger = state::head(server.tree.as_ref())?;
    let around = Around::of(server, &server.facts()?)?;
    Ok(names(server, &around, &ledger))
}

/// Puts on the roster whether a map is in the rotation, and for how many turns.
///
/// # Errors
/// There is no such map, it was there before us, or the family has no rotation: the roster stays as it is.
pub fn rotate(server: &Server, name: &str, is_in: bool, turns: Option<&str>, write: bool) -> Result<Outcome, Error> {
    let title = &server.family.rules.title;
    let Some(rule) = &server.family.rules.rotation else {
        return Err(Error::Maps(format!("{title} plays no maps in turn; see: yalotheca maps use")));
    };
    let all = maps(server)?;
    let found = one_of(&all, name)?;
    let state = if is_in { &rule.is_in } else { &rule.is_out };
    let Some(found) = found else {
        let names: Vec<&str> = all.iter().filter_map(|m| m.name.as_deref()).collect();
        let hint = did_you_mean(name, names.iter().copied());
        return Err(Error::Maps(format!("no map on this server is called `{}`{hint}", clean(name, 60))));
    };
    let Some(item) = &found.item else {
        let why = format!(
            "{} was there before and is no item; set it in the file: yalotheca tune {} '[{}={}].{}={state}'",
            clean(name, 60),
            rule.file,
            rule.name,
            clean(name, 60),
            rule.state
        );
        return Err(Error::Maps(why));
    };
    let chosen = found.entry.as_ref().map_or_else(|| item.to_string(), |e| format!("{item}/{e}"));
    let put = |text: &str, field: &str, value: &str| {
        put_in(text, &["choices", &chosen], field, &toml_text(value)).map_err(|e| roster_error(server, e))
    };
    let mut text = put(&server.text, &rule.choice, state)?;
    if let Some(turns) = turns {
        let Some((_, choice)) = &rule.turns else {
            return Err(Error::Maps(format!(
                "{title} counts no turns: its maps are {} or {}",
                rule.is_in, rule.is_out
            )));
        };
        text = put(&text, choice, turns)?;
    }
    finish(server, text, Vec::new(), write)
}
