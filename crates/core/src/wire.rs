//! What makes the server load the items: claims on settings and lists, from the family's rules; and what must wait
//! until a start tells more.

use std::collections::BTreeSet;

use crate::family::{Asked as _, Caught, Kind, Wiring, server_path};
use crate::id::ItemId;
use crate::place::PlaceError;
use crate::scene::{Fields, Item, Scene};
use crate::slot::{Claim, Owner, SlotKey};

/// A wiring that waits for a field which only a start can tell.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Pending {
    /// The item.
    pub item: ItemId,
    /// The field.
    pub field: String,
    /// The settings file that waits.
    pub file: String,
}

/// The claims, and what waits.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Wires {
    /// In the order of their precedence: family defaults, items in load order, the map that is played, what is tuned,
    /// accepted terms.
    pub claims: Vec<Claim>,
    /// What waits for a start.
    pub pending: Vec<Pending>,
    /// Whether the map that is to be played was found.
    pub played: bool,
}

/// Returns the claims of the family's defaults, of the items (which stand in load order), of the map that is played,
/// of what the administrator tuned, and of accepted terms.
///
/// # Errors
/// A template that cannot be filled, and never will.
pub fn wire(items: &[Item<'_>], scene: &Scene<'_>, tuned: &[Claim], terms: Option<&str>) -> Result<Wires, PlaceError> {
    let mut out = Wires::default();
    let rules = &scene.family.rules;
    for rule in rules.default.iter().filter(|r| r.when.as_ref().is_none_or(|w| w.holds(scene))) {
        let field = |f: &str| scene.field(f);
        if let (Some(value), Some(Ok(key))) = (rule.value.fill(field), rule.key(field)) {
            out.claims.push(claim(rule, key, Owner::Family, value));
        }
    }
    for item in items {
        for rule in &item.kind.wire {
            for entry in entries_for(rule, item) {
                out.add(rule, &Fields { entry, ..Fields::of(scene, item) })?;
            }
        }
    }
    if let Some(active) = &rules.active {
        for item in items {
            for entry in std::iter::once(None).chain(item.entries.iter().map(Some)) {
                let fields = Fields { entry, ..Fields::of(scene, item) };
                if !fields.active() {
                    continue;
                }
                out.played = true;
                for rule in &active.set {
                    out.add(rule, &fields)?;
                }
            }
        }
    }
    out.claims.extend(tuned.iter().cloned());
    if let (Some(rules), Some(number)) = (&rules.terms, terms)
        && let Ok(path) = server_path(&rules.file)
    {
        let key = SlotKey::value(path, rules.format, rules.at.clone());
        out.claims.push(Claim::new(key, Owner::Terms, number));
    }
    out.pending.sort();
    out.pending.dedup();
    Ok(out)
}

/// The entries a wiring is made for: each, where it names one of their fields; else the item as a whole.
fn entries_for<'a>(rule: &Wiring, item: &Item<'a>) -> Vec<Option<&'a Caught>> {
    let Some(entry) = &item.kind.entry else { return vec![None] };
    let own: BTreeSet<&str> = entry.path.fields().chain(item.kind.choice.keys().map(String::as_str)).collect();
    let names = rule.templates().into_iter().any(|t| t.fields().any(|f| own.contains(f)));
    if names { item.entries.iter().map(Some).collect() } else { vec![None] }
}

impl Wires {
    fn add(&mut self, rule: &Wiring, fields: &Fields<'_>) -> Result<(), PlaceError> {
        if rule.when.as_ref().is_some_and(|w| !w.holds(fields)) {
            return Ok(());
        }
        let id = fields.item.id;
        let (Some(key), Some(value)) = (rule.key(|f| fields.get(f)), rule.value.fill(|f| fields.get(f))) else {
            let missing = |t: &&crate::family::Template| t.fields().any(|f| fields.get(f).is_none());
            let Some(template) = rule.templates().into_iter().find(missing) else { return Ok(()) };
            let field = template.fields().find(|f| fields.get(f).is_none()).unwrap_or_default();
            if is_late(fields.item.kind, field) {
                let file = rule.file.as_str().to_owned();
                self.pending.push(Pending { item: id.clone(), field: field.to_owned(), file });
                return Ok(());
            }
            return Err(PlaceError::unfilled(id, template, fields));
        };
        let key = key.map_err(|source| PlaceError::Path { item: id.clone(), source })?;
        let chosen = |f: &str| fields.item.kind.choice.contains_key(f) && fields.chosen(f).is_some();
        let firm = rule.value.templates().into_iter().any(|t| t.fields().any(chosen));
        let claim = Claim { firm, ..claim(rule, key, Owner::Item(id.clone()), value) };
        if !self.claims.contains(&claim) {
            self.claims.push(claim);
        }
        Ok(())
    }
}

fn is_late(kind: &Kind, field: &str) -> bool {
    kind.late_fields().any(|(name, _)| name == field)
}

fn claim(rule: &Wiring, key: SlotKey, owner: Owner, value: crate::settings::Value) -> Claim {
    let value = rule.typed(value);
    Claim { key, owner, value, force: None, seat: rule.seat.clone(), number: rule.number.clone(), firm: false }
}
