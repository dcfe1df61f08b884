//! What of a server's files can be opened as items, and what is known of them.

use std::collections::BTreeSet;
use std::io::Read;
use std::path::Path;

use yalotheca_core::facts::ServerFacts;
use yalotheca_core::family::Kind;
use yalotheca_core::id::{Digest, ItemId, ServerPath};
use yalotheca_core::ledger::{FileRow, Held, HeldFrom};
use yalotheca_core::place::{Placed, place, real_name};
use yalotheca_core::roster::Origin;
use yalotheca_core::text::glob;

use super::KnownBy;
use crate::learn::{Learnt, learn};
use crate::server::Server;
use crate::tree::Stat;
use crate::{Error, archive};

/// Something on the server that could be opened as an item.
pub(super) struct Candidate {
    pub(super) path: ServerPath,
    pub(super) learnt: Learnt,
    pub(super) download: Digest,
    pub(super) rows: Vec<FileRow>,
}

/// Everything on the server that can be opened as an item of some kind.
pub(super) fn candidates(
    server: &Server,
    files: &[(ServerPath, Stat)],
    facts: &ServerFacts,
    unplaced: &mut Vec<(ServerPath, String)>,
) -> Result<Vec<Candidate>, Error> {
    let mut out = Vec::new();
    let plain: Vec<&ServerPath> =
        files.iter().filter(|(_, s)| matches!(s, Stat::File { .. })).map(|(p, _)| p).collect();
    for kind in server.family.rules.kind.values() {
        server.around.go_on()?;
        for found in of_kind(server, kind, &plain, facts)? {
            match found {
                Ok(candidate) => out.push(candidate),
                Err(refused) => unplaced.push(refused),
            }
        }
    }
    out.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(out)
}

type Refused = (ServerPath, String);

fn of_kind(
    server: &Server,
    kind: &Kind,
    files: &[&ServerPath],
    facts: &ServerFacts,
) -> Result<Vec<Result<Candidate, Refused>>, Error> {
    let mut out = Vec::new();
    for rule in &kind.place {
        if kind.file.is_some() && rule.take != "real" {
            continue;
        }
        // where one item's files begin: the file itself, or the folder that holds its manifest
        let pattern =
            if kind.file.is_some() { rule.to.glob() } else { rule.to.glob().replace("**", &kind.manifest.inside) };
        for path in files.iter().filter(|p| glob(&pattern, p.path())) {
            let (download, name) = if kind.file.is_some() {
                (bring(server, path)?, path.name().to_owned())
            } else {
                let below = path.path().strip_suffix(kind.manifest.inside.as_str()).unwrap_or("").to_owned();
                let members: Vec<&ServerPath> =
                    files.iter().copied().filter(|p| p.path().starts_with(&below)).collect();
                let folder = below.trim_end_matches('/').rsplit('/').next().unwrap_or("folder").to_owned();
                (pack(server, &members, &below)?, format!("{folder}.zip"))
            };
            let learnt = match learn(&server.around.home, &server.family, &download, &name, server.roster.limits) {
                Ok(learnt) => learnt,
                Err(e) => {
                    out.push(Err(((*path).clone(), e.to_string())));
                    continue;
                }
            };
            let id = learnt.found.id.clone();
            let places = place(kind, &id, &learnt.found.facts.version, &learnt.look, &learnt.real, facts)?;
            let row = |p: Placed| FileRow { path: p.path, sha256: p.sha256, bytes: p.bytes, settings: p.settings };
            let rows: Vec<FileRow> = places.files.into_iter().map(row).collect();
            match rows.iter().find(|r| !files.contains(&&r.path)) {
                Some(elsewhere) => {
                    let why = format!(
                        "it calls itself {id}, so its file should be `{}`; rename it, then `yalotheca want` it",
                        elsewhere.path
                    );
                    out.push(Err(((*path).clone(), why)));
                }
                None => out.push(Ok(Candidate { path: (*path).clone(), learnt, download, rows })),
            }
        }
    }
    Ok(out)
}

/// Copies a file of the server into the store.
fn bring(server: &Server, path: &ServerPath) -> Result<Digest, Error> {
    let mut file = server.tree.open(path)?.ok_or_else(|| Error::Moved { path: path.to_string() })?;
    Ok(server.around.home.take(&mut file, Path::new(path.path()))?.0)
}

/// Packs a folder's files into an archive of the store, so that it can be put back one day.
fn pack(server: &Server, members: &[&ServerPath], below: &str) -> Result<Digest, Error> {
    let entry = |path: &&ServerPath| {
        let name = path.path().strip_prefix(below).unwrap_or(path.path()).to_owned();
        let from = server.tree.open(path)?.ok_or_else(|| Error::Moved { path: path.to_string() })?;
        Ok((name, Box::new(from) as Box<dyn Read>))
    };
    archive::pack(&server.around.home, members.iter().map(entry))
}

/// What the ledger will hold of a found item: the catalogue's word where it has this very file, else its own.
pub(super) fn held(server: &Server, one: &Candidate, named: &[ItemId]) -> Result<(Held, KnownBy), Error> {
    let id = &one.learnt.found.id;
    let mut held = Held {
        kind: one.learnt.kind.clone(),
        title: one.learnt.found.title.clone(),
        facts: one.learnt.found.facts.clone(),
        from: HeldFrom::Origin(Origin::Here { path: one.path.to_string(), sha256: one.download.clone() }),
        download: one.download.clone(),
        download_name: one.learnt.look.name.clone(),
        name: real_name(&one.learnt.look, &one.learnt.real).to_owned(),
        files: Digest::of(b""),
    };
    if named.contains(id) {
        let offered = server.catalogues.items(&BTreeSet::from([id.clone()]))?.remove(id);
        let version = offered
            .as_ref()
            .and_then(|o| o.facts.versions.iter().find(|v| v.files.iter().any(|f| f.sha256 == one.download)).cloned());
        if let (Some(offered), Some(facts)) = (offered, version) {
            held.facts = facts;
            held.from = HeldFrom::Catalogue(offered.catalogue);
            return Ok((held, KnownBy::Hash));
        }
    }
    Ok((held, KnownBy::Manifest))
}
