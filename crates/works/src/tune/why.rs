//! Why a value is what it is: every layer that has a say, and the one that wins.

use yalotheca_core::settings::{EditError, Path, Value};
use yalotheca_core::slot::Owner;

use super::sheet::open;
use crate::Error;
use crate::server::Server;
use crate::state;

/// One layer that has a say in a value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Layer {
    /// Who: the base, the family, an item, what was tuned, accepted terms, a hand edit.
    pub name: String,
    /// The value; `None` where the layer takes it out or has none.
    pub value: Option<Value>,
    /// Whether this is what stands in the file.
    pub wins: bool,
}

/// Returns the layers of a value, lowest first, and a path that means it alone.
///
/// # Errors
/// Nothing stands there and nobody claims it.
pub fn why(server: &Server, file: &str, at: &Path) -> Result<(Path, Vec<Layer>), Error> {
    let mut sheet = open(server, file, None)?;
    let asked = server.family.unnamed(&sheet.path, at);
    let fail = |source: EditError| Error::Edit { file: sheet.path.to_string(), source };
    let found = sheet.document.get(&asked).map_err(fail)?;
    let ledger = state::head(server.tree.as_ref())?;
    let slot = ledger.slots.iter().find(|s| s.key.path == sheet.path && s.key.place().is_ok_and(|p| p == asked));
    let secret = server.family.is_secret(&sheet.path, &asked);
    let hide = |v: Option<Value>| if secret { v.map(|_| Value::Text("(secret)".to_owned())) } else { v };
    let mut layers: Vec<Layer> = Vec::new();
    let mut put = |name: String, value: Option<Value>| layers.push(Layer { name, value: hide(value), wins: false });
    let now = found.as_ref().map(|s| s.value.clone());
    let Some(slot) = slot else {
        let Some(now) = now else {
            // the nearest path is told
            let error = sheet.document.select(&asked).err();
            let error = error.unwrap_or(EditError::NoSuch { path: asked.to_string(), hint: String::new() });
            return Err(Error::Edit { file: sheet.path.to_string(), source: error });
        };
        put("the file itself".to_owned(), Some(now));
        if let Some(only) = layers.last_mut() {
            only.wins = true;
        }
        return Ok((asked, layers));
    };
    let list = slot.key.is_list();
    let base = if list { Some(Value::List(slot.base.clone())) } else { slot.base.first().cloned() };
    let empty_base = slot.base.is_empty();
    let (family, others): (Vec<_>, Vec<_>) = slot.claims.iter().partition(|(o, _)| *o == Owner::Family);
    for (_, value) in family {
        put("the family's default".to_owned(), Some(value.clone()));
    }
    put("the file before (base)".to_owned(), base);
    for (owner, value) in others {
        let line = server.roster.tuned.iter().find(|t| t.file == sheet.path && t.at == asked).map(|t| t.line);
        let name = match (owner, line) {
            (Owner::Tuned | Owner::TunedOut, Some(line)) => format!("tuned (line {line} of the roster)"),
            (Owner::Tuned | Owner::TunedOut, None) => "tuned".to_owned(),
            (Owner::Item(id), _) => format!("item {id}"),
            (Owner::Terms, _) => "terms you accepted".to_owned(),
            (Owner::Bound, _) => "what is installed needs it".to_owned(),
            (Owner::Family, _) => "the family's default".to_owned(),
        };
        put(name, (*owner != Owner::TunedOut || list).then(|| value.clone()));
    }
    // what a settle has not seen yet is told, too
    let changed = !list && now.is_some() && now.as_ref() != slot.written.first();
    match (&slot.hand, &now) {
        (Some(hand), _) if !changed => put("set by hand since".to_owned(), Some(hand.clone())),
        (_, Some(now)) if changed => put("set by hand since".to_owned(), Some(now.clone())),
        _ => {}
    }
    if !list {
        let defaults = layers.first().is_some_and(|l| l.name == "the family's default");
        let winner = match (defaults && empty_base, layers.len()) {
            // a default wins only where nothing else has a say
            (true, 2) => 0,
            (_, count) => count.saturating_sub(1),
        };
        if let Some(layer) = layers.get_mut(winner) {
            layer.wins = true;
        }
    }
    Ok((asked, layers))
}
