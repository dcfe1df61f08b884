//! What somebody put on the server by hand, held against what catalogues and signers say.

use std::collections::{BTreeMap, BTreeSet};

use yalotheca_core::facts::ServerFacts;
use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::id::{ItemId, ServerPath};
use yalotheca_core::ledger::Ledger;
use yalotheca_core::manifest::stem;
use yalotheca_core::text::{clean, glob, listed};

use crate::Error;
use crate::adopt::found::{Refused, candidates};
use crate::server::Server;
use crate::tree::Stat;

/// Returns what is wrong with files that nobody knows and that the server would load.
///
/// # Errors
/// The server cannot be read. A catalogue that does not answer says nothing.
pub(crate) fn strangers(
    server: &Server,
    ledger: &Ledger,
    facts: &ServerFacts,
    unknown: &[ServerPath],
) -> Result<Vec<Finding>, Error> {
    if unknown.is_empty() {
        return Ok(Vec::new());
    }
    let mut out = half_copied(server, unknown)?;
    out.extend(signed(server, ledger, facts, unknown)?);
    Ok(out)
}

/// Files that have a catalogue's name and not its byte count.
fn half_copied(server: &Server, unknown: &[ServerPath]) -> Result<Vec<Finding>, Error> {
    let kinds = server.family.rules.kind.values().filter(|k| k.file.is_some());
    let places: Vec<String> = kinds.flat_map(|k| k.place.iter().map(|p| p.to.glob())).collect();
    let loaded: Vec<&ServerPath> =
        unknown.iter().filter(|p| places.iter().any(|pattern| glob(pattern, p.path()))).collect();
    let ids: BTreeSet<ItemId> = loaded.iter().filter_map(|p| ItemId::new(stem(p.name())).ok()).collect();
    let Ok(offered) = server.catalogues.items(&ids) else { return Ok(Vec::new()) };
    let mut out = Vec::new();
    for path in loaded {
        let Some(item) = ItemId::new(stem(path.name())).ok().and_then(|id| offered.get(&id)) else { continue };
        let mut known: BTreeMap<u64, String> = BTreeMap::new();
        for version in &item.facts.versions {
            for file in &version.files {
                let alone = (file.name == path.name()).then_some(&file.bytes);
                let bytes = file.holds.get(path.name()).or(alone);
                known.extend(bytes.map(|b| (*b, version.version.to_string())));
            }
        }
        let Some(Stat::File { bytes, .. }) = server.tree.stat(std::slice::from_ref(path))?.pop() else { continue };
        if known.is_empty() || known.contains_key(&bytes) {
            continue;
        }
        let sizes: Vec<String> = known.iter().map(|(b, v)| format!("{b} ({})", clean(v, 30))).collect();
        let cause = format!(
            "it has {bytes} bytes, and the catalogue's has {}: it was copied by half, or is another",
            listed(&sizes)
        );
        let fix = format!("remove it, then have it whole: yalotheca want {}", item.facts.id);
        out.push(Finding::new("half-copied", Severity::Error, cause, fix).at(path));
    }
    Ok(out)
}

/// Signed items whose signature does not hold, or for whose signer nobody vouches.
fn signed(
    server: &Server,
    ledger: &Ledger,
    facts: &ServerFacts,
    unknown: &[ServerPath],
) -> Result<Vec<Finding>, Error> {
    let files: Vec<(ServerPath, Stat)> =
        unknown.iter().map(|p| (p.clone(), Stat::File { bytes: 0, changed: 0 })).collect();
    let mut refused = Vec::new();
    let found = candidates(server, &files, facts, &|kind| kind.seal.is_some(), &mut refused)?;
    let mut out: Vec<Finding> = Vec::new();
    let good: BTreeSet<&ServerPath> = found.iter().map(|c| &c.path).collect();
    let mut told: BTreeSet<ServerPath> = BTreeSet::new();
    for Refused { path, why, .. } in refused.into_iter().filter(|r| r.unsigned && !good.contains(&r.path)) {
        if !told.insert(path.clone()) {
            continue;
        }
        let fix = "remove it, and fetch it again: yalotheca want ITEM, or a file of it";
        out.push(Finding::new("unsound", Severity::Error, clean(&why, 400), fix).at(path));
    }
    for one in found {
        let Some(signer) = &one.learnt.signer else { continue };
        let print = &signer.fingerprint;
        let by_hand = match server.family.rules.kind.get(&one.learnt.kind).and_then(|k| k.seal.as_ref()) {
            Some(seal) => there(server, seal.trusted_file(signer))?,
            None => true,
        };
        let ours = server.roster.signers.contains_key(print);
        if by_hand || ours {
            continue;
        }
        let folder = one.path.path().rsplit_once('/').map_or(".", |(folder, _)| folder);
        let known = ledger.items.get(&one.learnt.found.id).and_then(|h| h.signer.as_ref());
        let cause = match known {
            Some(known) if known != print => {
                format!("it is signed by {print}, and ours is signed by {known}: the server will not load it")
            }
            _ => format!("it is signed by {print}, for whom nobody vouches: the server will not load it"),
        };
        let fix = format!(
            "if you trust that signer: yalotheca want ./{folder}, then yalotheca settle --vouch {print}; else remove it"
        );
        out.push(Finding::new("unknown-signer", Severity::Error, cause, fix).at(&one.path));
    }
    Ok(out)
}

/// Whether the trusted key stands where the server looks for it, as it must be.
fn there(server: &Server, file: Option<(String, String)>) -> Result<bool, Error> {
    let Some((path, content)) = file else { return Ok(true) };
    let path = yalotheca_core::family::server_path(&path)?;
    let now = server.tree.read(&[path], crate::server::MOST_SETTINGS)?.pop().flatten();
    Ok(now.as_deref() == Some(content.as_bytes()))
}
