//! Whether the catalogues agree on what is taken: one version with other bytes elsewhere, or an item that comes from another
//! catalogue than before, is never taken without a word.

use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::ledger::{HeldFrom, Ledger};
use yalotheca_core::text::{clean, did_you_mean};

use super::choose::Picked;
use crate::Error;
use crate::server::Server;

/// Checks what is new among the chosen items.
///
/// # Errors
/// [`Error::Undecided`] with everything that somebody must decide.
pub(super) fn agreed(server: &Server, before: &Ledger, picked: &[Picked]) -> Result<(), Error> {
    known(server)?;
    let mut findings = Vec::new();
    for one in picked {
        let HeldFrom::Catalogue(from) = &one.held.from else { continue };
        let pinned = server.roster.want(&one.id).is_some_and(|w| w.catalogue.is_some());
        let held = before.items.get(&one.id);
        if pinned || held.is_some_and(|h| h.download == one.held.download) {
            continue;
        }
        let fix = |which: &str| format!("say which: yalotheca want {} --catalogue {}", one.id, clean(which, 120));
        if let Some(HeldFrom::Catalogue(was)) = held.map(|h| &h.from)
            && was != from
        {
            let cause = format!(
                "it came from {}, and {} would come from {}",
                clean(was, 80),
                one.held.facts.version,
                clean(from, 80)
            );
            findings.push(Finding::new("moved-catalogue", Severity::Error, cause, fix(from)).of(&one.id));
        }
        for other in server.catalogues.others(&one.id, from)? {
            let same = other.facts.versions.iter().find(|v| v.version == one.held.facts.version);
            let bytes = same.map(|v| v.files.iter().map(|f| &f.sha256).collect::<Vec<_>>()).unwrap_or_default();
            let ours = one.parts_digests();
            if !bytes.is_empty() && !ours.is_empty() && bytes != ours {
                let cause = format!(
                    "{} has other bytes in {} than in {}",
                    one.held.facts.version,
                    clean(&other.catalogue, 80),
                    clean(from, 80)
                );
                findings.push(Finding::new("other-bytes", Severity::Error, cause, fix(from)).of(&one.id));
            }
        }
    }
    if findings.is_empty() { Ok(()) } else { Err(Error::Undecided(findings)) }
}

/// Whether every catalogue that the roster takes an item from is on it.
fn known(server: &Server) -> Result<(), Error> {
    for want in &server.roster.wants {
        let Some(from) = &want.catalogue else { continue };
        if !server.roster.catalogues.contains(from) {
            let hint = did_you_mean(from, server.roster.catalogues.iter().map(String::as_str));
            let all: Vec<String> = server.roster.catalogues.iter().map(|c| clean(c, 80)).collect();
            let id = &want.id;
            return Err(Error::Choice(format!(
                "{id} is to come from `{}`, which is no catalogue of the roster{hint}; it has {}",
                clean(from, 80),
                all.join(", ")
            )));
        }
    }
    Ok(())
}
