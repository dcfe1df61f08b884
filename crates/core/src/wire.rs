//! What makes the server load the items: claims on settings and lists, from the family's rules.

use crate::facts::ServerFacts;
use crate::family::{Family, Wiring};
use crate::id::{ItemId, ServerPath};
use crate::place::{Fields, PlaceError};
use crate::slot::{Claim, Owner, SlotKey};
use crate::version::Version;

/// An item to be wired.
#[derive(Debug, Clone, Copy)]
pub struct Wired<'a> {
    /// The item.
    pub id: &'a ItemId,
    /// Its kind's word.
    pub kind: &'a str,
    /// Its version.
    pub version: &'a Version,
    /// The name of its real file.
    pub name: &'a str,
}

/// Returns the claims of the family's defaults, of the items (which stand in load order), of what the administrator
/// tuned, and of accepted terms: the order of their precedence.
///
/// # Errors
/// A template that cannot be filled.
pub fn wire(
    family: &Family,
    items: &[Wired<'_>],
    server: &ServerFacts,
    tuned: &[Claim],
    terms: Option<&str>,
) -> Result<Vec<Claim>, PlaceError> {
    let mut out = Vec::new();
    for rule in &family.rules.default {
        let value = rule.value.fill(|field| server.get(field).map(Into::into));
        if let (Some(value), Ok(key)) = (value, rule.key()) {
            out.push(claim(rule, key, Owner::Family, value));
        }
    }
    for item in items {
        let Some(kind) = family.rules.kind.get(item.kind) else { continue };
        let fields = Fields { id: item.id, version: item.version, name: item.name, path: item.name, server };
        for rule in &kind.wire {
            let key = rule.key().map_err(|source| PlaceError::Path { item: item.id.clone(), source })?;
            out.push(claim(rule, key, Owner::Item(item.id.clone()), fields.fill(&rule.value)?));
        }
    }
    out.extend(tuned.iter().cloned());
    if let (Some(rules), Some(number)) = (&family.rules.terms, terms)
        && let Ok(path) = ServerPath::server(&rules.file)
    {
        let key = SlotKey::value(path, rules.format, rules.at.clone());
        out.push(Claim::new(key, Owner::Terms, number));
    }
    Ok(out)
}

fn claim(rule: &Wiring, key: SlotKey, owner: Owner, words: String) -> Claim {
    let value = rule.typed(words);
    Claim { key, owner, value, force: None, seat: rule.seat.clone() }
}
