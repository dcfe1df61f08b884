//! Numbers of items' own: a folder, a slot, whatever the family counts.

use std::collections::{BTreeMap, BTreeSet};

use yalotheca_core::family::Pattern;
use yalotheca_core::ledger::Ledger;

use super::choose::Picked;
use crate::Error;
use crate::server::Server;

/// Gives every item the numbers that its kind asks for: those it has, else the least that nobody has.
pub(super) fn give(server: &Server, before: &Ledger, picked: &mut [Picked]) -> Result<(), Error> {
    let mut taken: BTreeMap<String, BTreeSet<u64>> = BTreeMap::new();
    let held = before.items.values().map(|h| (&h.kind, &h.fields));
    for (kind, fields) in held.chain(picked.iter().map(|p| (&p.held.kind, &p.held.fields))) {
        let rules = server.family.rules.kind.get(kind);
        for (name, pattern) in rules.into_iter().flat_map(|k| k.free_fields()) {
            let mine = fields.get(name).and_then(|n| n.parse::<u64>().ok());
            taken.entry(pattern.as_str().to_owned()).or_default().extend(mine);
        }
    }
    let mut walked = None;
    for one in picked {
        let Some(rules) = server.family.rules.kind.get(&one.held.kind) else { continue };
        for (name, pattern) in rules.free_fields() {
            if one.held.fields.contains_key(name) {
                continue;
            }
            let kept = before.items.get(&one.id).filter(|h| h.kind == one.held.kind).and_then(|h| h.fields.get(name));
            if let Some(kept) = kept {
                one.held.fields.insert(name.to_owned(), kept.clone());
                continue;
            }
            let files = match &mut walked {
                Some(files) => files,
                none => none.insert(server.tree.walk()?),
            };
            let known = taken.entry(pattern.as_str().to_owned()).or_default();
            known.extend(files.iter().filter_map(|(path, _)| number_in(pattern, name, path.path())));
            let free = (1..).find(|n| !known.contains(n)).unwrap_or(1);
            known.insert(free);
            one.held.fields.insert(name.to_owned(), free.to_string());
        }
    }
    Ok(())
}

/// The number that a path has where the pattern says.
pub(crate) fn number_in(pattern: &Pattern, name: &str, path: &str) -> Option<u64> {
    pattern.catch(path)?.get(name)?.parse().ok()
}
