//! Gathers what a check looks at.

use std::collections::{BTreeMap, BTreeSet};

use yalotheca_core::bound;
use yalotheca_core::check::{Situation, check as judge};
use yalotheca_core::facts::ServerFacts;
use yalotheca_core::family::HAND;
use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::id::{ItemId, ServerPath};
use yalotheca_core::ledger::{FileRow, Ledger};
use yalotheca_core::slot::{Claim, Owner};
use yalotheca_core::text::bytes;
use yalotheca_core::wire;

use crate::Error;
use crate::links::links;
use crate::scene::{Around, Taken};
use crate::server::{MOST_SETTINGS, Server};
use crate::settle::{bounded, map_findings, slots};
use crate::state;
use crate::strangers::strangers;
use crate::tree::Stat;
use crate::{history, prune, tune};

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
    let files = tree.walk()?;
    let unknown = unknown_files(server, &ledger, &ours, &files);
    let mut settings = settings(server, &ledger)?;
    settings.extend(told);
    let facts = server.facts()?;
    settings.extend(waiting(server, &ledger, &facts)?);
    let strange = strangers(server, &ledger, &facts, &unknown)?;
    settings.extend(links(server, &files)?);
    settings.extend(quarantine(server)?);
    settings.extend(history::behind(server, &ledger)?);
    let mut found = judge(&Situation {
        family: &server.family,
        server: &facts,
        roster: &server.roster,
        ledger: &ledger,
        rows: &rows,
        seen: &seen,
        unknown: &unknown,
        settings: &settings,
    });
    // what is known of a stranger says more than that it is one
    found.retain(|f| f.code != "unknown-file" || !strange.iter().any(|s| about(s, f)));
    found.extend(strange);
    cut_short(server, &rows, &mut found)?;
    Ok(found)
}

/// Whether a finding is about a file, or about one in a folder, that another finding is about.
fn about(one: &Finding, other: &Finding) -> bool {
    let (Some(file), Some(place)) = (&one.file, &other.file) else { return false };
    file == place || (place.ends_with('/') && file.starts_with(place.as_str()))
}

/// A file of ours that lost its end was not changed by hand: it was copied by half.
fn cut_short(server: &Server, rows: &BTreeMap<ItemId, Vec<FileRow>>, found: &mut [Finding]) -> Result<(), Error> {
    for finding in found.iter_mut().filter(|f| f.code == "changed-by-hand") {
        let row = rows.values().flatten().find(|r| finding.file.as_ref() == Some(&r.path.to_string()));
        let Some(row) = row.filter(|r| !r.settings) else { continue };
        let stat = server.tree.stat(std::slice::from_ref(&row.path))?.pop();
        if let Some(Stat::File { bytes: now, .. }) = stat
            && now < row.bytes
        {
            let cause = format!("it has {now} bytes of {}: it was copied by half, cut, or changed by hand", row.bytes);
            let fix = format!("have it whole again: yalotheca settle --put-back {}", row.path);
            *finding = Finding { code: "half-copied", severity: Severity::Error, cause, fix, ..finding.clone() };
        }
    }
    yalotheca_core::finding::sort_slice(found);
    Ok(())
}

/// What waits for a start, bounds that do not hold, and a map that is to be played and is not there.
fn waiting(server: &Server, ledger: &Ledger, facts: &ServerFacts) -> Result<Vec<Finding>, Error> {
    let around = Around::of(server, facts)?;
    let scene = around.scene();
    let in_order = ledger.order.iter().filter_map(|id| Some((id, ledger.items.get(id)?)));
    let taken: Vec<Taken<'_>> = in_order.map(|(id, held)| Taken::of(server, id, held)).collect();
    let items: Vec<_> = taken.iter().enumerate().filter_map(|(at, t)| t.item(server, at + 1)).collect();
    let wires = wire::wire(&items, &scene, &[], None)?;
    let claims: Vec<Claim> = claims(ledger).into_iter().filter(|c| c.owner != Owner::Bound).collect();
    let bounds = bound::bounds(&scene, &ledger.slots, &claims, &bounded(server)?);
    let mut out = map_findings(server, &wires);
    out.extend(bounds.findings);
    out.extend(by_hand(server, ledger, wires.claims)?);
    // a bound that would have to be raised now is not as it was settled
    for claim in bounds.claims {
        let has = ledger
            .slots
            .iter()
            .any(|s| s.key == claim.key && s.claims.iter().any(|(o, v)| *o == Owner::Bound && *v == claim.value));
        if !has {
            let at = claim.key.at.clone().unwrap_or_default();
            let cause =
                format!("`{at}` is too small for what is installed: it must be {} or more", claim.value.shown());
            out.push(
                Finding::new("bound-too-low", Severity::Error, cause, "yalotheca settle raises it").at(&claim.key.path),
            );
        }
    }
    Ok(out)
}

/// What only a person can enter, and has not entered yet.
fn by_hand(server: &Server, ledger: &Ledger, wired: Vec<Claim>) -> Result<Vec<Finding>, Error> {
    if server.family.rules.hand.is_empty() {
        return Ok(Vec::new());
    }
    let mut claims = wired;
    claims.extend(tune::tuning(server, ledger, &BTreeMap::new())?.claims);
    claims.retain(|c| c.key.path.root() == HAND);
    let mut entered = Ledger { slots: ledger.slots.clone(), made: ledger.made.clone(), ..Ledger::default() };
    entered.slots.retain(|s| s.key.path.root() == HAND);
    Ok(slots(server, &entered, &claims, &BTreeSet::new())?.findings)
}

/// What is claimed of the settings, as the ledger has it.
fn claims(ledger: &Ledger) -> Vec<Claim> {
    let of = |s: &yalotheca_core::slot::Slot| {
        let claim =
            |(o, v): &(Owner, _)| Claim::new(s.key.clone(), o.clone(), yalotheca_core::settings::Value::clone(v));
        s.claims.iter().map(claim).collect::<Vec<_>>()
    };
    ledger.slots.iter().flat_map(of).collect()
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
fn unknown_files(
    server: &Server,
    ledger: &Ledger,
    ours: &BTreeSet<ServerPath>,
    files: &[(ServerPath, Stat)],
) -> Vec<ServerPath> {
    let claimed: BTreeSet<&ServerPath> = ledger.slots.iter().map(|s| &s.key.path).collect();
    let roster = server.roster_path.file_name().and_then(|n| n.to_str()).unwrap_or("");
    let plain = files.iter().filter(|(_, stat)| matches!(stat, Stat::File { .. })).map(|(p, _)| p);
    plain
        .filter(|p| !ours.contains(*p) && !claimed.contains(p) && p.path() != roster && !server.family.owns(p.path()))
        .cloned()
        .collect()
}

/// What the settings files reveal, computed with the claims as they are.
fn settings(server: &Server, ledger: &Ledger) -> Result<Vec<Finding>, Error> {
    let claims = claims(ledger);
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
