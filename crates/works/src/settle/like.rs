//! Another server of the same family as the model: its versions, its order, what was tuned there.

use std::path::Path;

use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::ledger::{HeldFrom, Ledger};
use yalotheca_core::roster::{Origin, Roster, Tuned, What, made_like, put_item, put_settings};
use yalotheca_core::settings::Path as At;
use yalotheca_core::slot::Owner;
use yalotheca_core::text::clean;

use super::{Options, Plan, plan};
use crate::server::{Server, Surroundings};
use crate::want::{from_beside, roster_error, toml_text};
use crate::{Error, state, tune};

/// The other server: its roster's text, where that lies, and its ledger.
struct Model {
    text: String,
    folder: std::path::PathBuf,
    ledger: Ledger,
}

/// Plans to make a server like another one: `other` is that one's roster, or a ledger of it.
///
/// # Errors
/// It cannot be read, is of another family, or what it has cannot be had here.
pub fn plan_like(server: &Server, other: &Path, options: Options) -> Result<Plan, Error> {
    let model = model(server, other)?;
    let mut text = made_like(&server.text, &model.text).map_err(|e| roster_error(server, e))?;
    let there = Roster::parse(&model.text).map_err(|source| Error::Roster {
        path: other.to_owned(),
        text: model.text.clone(),
        source,
    })?;
    for want in &there.wants {
        // a file lies beside the other roster
        if let Some(Origin::File { path, sha256 }) = &want.from {
            let here = from_beside(server, &model.folder.join(path));
            let value = format!("{{ file = {}, sha256 = \"{sha256}\" }}", toml_text(&here));
            text = put_item(&text, &want.id, &value).map_err(|e| roster_error(server, e))?;
        }
    }
    let server = Server { told: server.told.clone(), ..server.with_roster(text.clone())? };
    let options = Options { like: Some(Box::new(model.ledger.clone())), ..options };
    let mut plan = plan(&server, &options)?;
    plan.findings.extend(unlike(&plan, &model.ledger));
    let on_disk = std::fs::read(&server.roster_path).map_err(Error::disk(&server.roster_path, "cannot be read"))?;
    if plan.roster_after.is_none() && on_disk != text.as_bytes() {
        plan.roster_after = Some(text);
    }
    Ok(plan)
}

fn model(server: &Server, other: &Path) -> Result<Model, Error> {
    let bytes = std::fs::read(other).map_err(Error::disk(other, "cannot be read"))?;
    let folder = other.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new(".")).to_owned();
    let model = if let Ok(ledger) = Ledger::parse(&bytes) {
        Model { text: written(server, &ledger)?, folder, ledger }
    } else {
        let around = Surroundings { stopped: true, ..server.around.clone() };
        let there = Server::open(other, &around)?;
        let ledger = state::head(there.tree.as_ref())?;
        Model { text: there.text.clone(), folder, ledger }
    };
    let (here, there) = (&server.family.rules.name, &model.ledger.family);
    match here == there {
        true => Ok(model),
        false => Err(Error::Choice(format!(
            "`{}` is a {} server, and this is a {here} server; only servers of one family can be made alike",
            other.display(),
            clean(there, 40)
        ))),
    }
}

/// A roster for a ledger whose own is not at hand: what nothing else needs is wanted, in its very version.
fn written(server: &Server, ledger: &Ledger) -> Result<String, Error> {
    let refused = |e| roster_error(server, e);
    let mut text = format!("format = 1\n\n[server]\nfamily = {:?}\n\n[items]\n", ledger.family);
    for id in &ledger.order {
        let Some(held) = ledger.items.get(id) else { continue };
        let needed = ledger.items.values().any(|o| o.facts.needs.iter().flat_map(|n| n.targets()).any(|t| t.id == *id));
        let value = match &held.from {
            HeldFrom::Catalogue(_) if needed => continue,
            HeldFrom::Catalogue(_) => toml_text(&format!("={}", held.facts.version)),
            HeldFrom::Origin(Origin::File { path, sha256 }) => {
                format!("{{ file = {}, sha256 = \"{sha256}\" }}", toml_text(path))
            }
            HeldFrom::Origin(Origin::Link { address, sha256 }) => {
                format!("{{ link = {}, sha256 = \"{sha256}\" }}", toml_text(address))
            }
            HeldFrom::Origin(Origin::Here { path, sha256 }) => {
                format!("{{ here = {}, sha256 = \"{sha256}\" }}", toml_text(path))
            }
            HeldFrom::Origin(Origin::Number { number, .. }) => {
                format!("{{ number = {}, kind = {} }}", toml_text(number), toml_text(&held.kind))
            }
        };
        text = put_item(&text, id, &value).map_err(refused)?;
    }
    let mut tuned = Vec::new();
    for slot in ledger.slots.iter().filter(|s| !s.key.is_list()) {
        let Some(at) = slot.key.at.as_deref().and_then(|at| At::parse(at).ok()) else { continue };
        for (owner, value) in &slot.claims {
            let what = match owner {
                Owner::Tuned => What::Value(value.clone(), None),
                Owner::TunedOut => What::Gone,
                _ => continue,
            };
            tuned.push(Tuned { file: slot.key.path.clone(), at: at.clone(), what, from: None, line: 0 });
        }
    }
    put_settings(&text, &tuned).map_err(|e| tune::roster_error(server, &e))
}

/// What will not be as it is there.
fn unlike(plan: &Plan, there: &Ledger) -> Vec<Finding> {
    let mut out = Vec::new();
    let mut differs = |item: &str, cause: String| {
        let fix = "see why: yalotheca show ITEM; or settle here without --like";
        out.push(Finding::new("not-like", Severity::Warning, cause, fix).of(item));
    };
    for (id, held) in &there.items {
        match plan.after.items.get(id) {
            None => differs(id.as_str(), format!("{id} {} is there, and will not be here", held.facts.version)),
            Some(here) if here.facts.version != held.facts.version => differs(
                id.as_str(),
                format!("{id} is {} there, and will be {} here", held.facts.version, here.facts.version),
            ),
            Some(here) if here.download != held.download => {
                differs(id.as_str(), format!("{id} {} has other bytes there than here", held.facts.version));
            }
            Some(_) => {}
        }
    }
    for id in plan.after.items.keys().filter(|id| !there.items.contains_key(*id)) {
        differs(id.as_str(), format!("{id} will be here, and is not there"));
    }
    if out.is_empty() && plan.after.order != there.order {
        let fix = "nothing to do where order does not matter";
        out.push(Finding::new("not-like", Severity::Warning, "the load order will be another than there", fix));
    }
    out
}
