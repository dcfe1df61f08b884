//! Gathers what a check looks at.

use std::collections::BTreeSet;

use yalotheca_core::check::{Situation, check as judge};
use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::id::ServerPath;
use yalotheca_core::ledger::Ledger;
use yalotheca_core::slot::Claim;
use yalotheca_core::text::bytes;

use crate::Error;
use crate::server::{MOST_SETTINGS, Server};
use crate::settle::slots;
use crate::state;
use crate::tree::Stat;
use crate::{history, prune};

/// Returns everything that would stop a clean start, worst first.
///
/// # Errors
/// The server or its ledger cannot be read.
pub fn check(server: &Server) -> Result<Vec<Finding>, Error> {
    let told = server.told.clone();
    let tree = server.tree.as_ref();
    let ledger = state::head(tree)?;
    let rows = state::rows(tree, &ledger)?;
    let ours: BTreeSet<ServerPath> = rows.values().flatten().map(|r| r.path.clone()).collect();
    let seen = state::seen_by_path(tree, ours.clone())?;
    let unknown = unknown_files(server, &ledger, &ours)?;
    let mut settings = settings(server, &ledger)?;
    settings.extend(told);
    settings.extend(quarantine(server)?);
    settings.extend(history::behind(server, &ledger)?);
    let facts = server.facts()?;
    Ok(judge(&Situation {
        family: &server.family,
        server: &facts,
        roster: &server.roster,
        ledger: &ledger,
        rows: &rows,
        seen: &seen,
        unknown: &unknown,
        settings: &settings,
    }))
}

/// Whether more is kept to be brought back than the roster allows.
fn quarantine(server: &Server) -> Result<Option<Finding>, Error> {
    let (held, most) =
        (prune::held(server.tree.as_ref())?, server.roster.limits.quarantine_mb.saturating_mul(1_000_000));
    let cause = format!("what is kept to be brought back has {}, and the roster allows {}", bytes(held), bytes(most));
    let fix = "see what would go: yalotheca history prune --dry-run";
    Ok((held > most).then(|| Finding::new("quarantine-full", Severity::Note, cause, fix)))
}

/// Files that are neither ours nor the family's own.
fn unknown_files(server: &Server, ledger: &Ledger, ours: &BTreeSet<ServerPath>) -> Result<Vec<ServerPath>, Error> {
    let claimed: BTreeSet<&ServerPath> = ledger.slots.iter().map(|s| &s.key.path).collect();
    let roster = server.roster_path.file_name().and_then(|n| n.to_str()).unwrap_or("");
    let files = server.tree.walk()?.into_iter().filter(|(_, stat)| matches!(stat, Stat::File { .. })).map(|(p, _)| p);
    Ok(files
        .filter(|p| !ours.contains(p) && !claimed.contains(p) && p.path() != roster && !server.family.owns(p.path()))
        .collect())
}

/// What the settings files reveal, computed with the claims as they are.
fn settings(server: &Server, ledger: &Ledger) -> Result<Vec<Finding>, Error> {
    let claims: Vec<Claim> = ledger
        .slots
        .iter()
        .flat_map(|s| s.claims.iter().map(|(o, v)| Claim::new(s.key.clone(), o.clone(), v.clone())))
        .collect();
    match slots(server, ledger, &claims, &BTreeSet::new()) {
        Ok(slots) => Ok(slots.findings),
        Err(Error::Slot(e)) => {
            let bytes =
                server.tree.read(std::slice::from_ref(&e.path), MOST_SETTINGS)?.pop().flatten().unwrap_or_default();
            Ok(vec![e.finding(&bytes)])
        }
        Err(other) => Err(other),
    }
}
