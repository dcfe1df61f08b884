//! What of a server's files can be opened as items, and what is known of them.

use std::collections::BTreeSet;
use std::io::Read;
use std::path::Path;

use yalotheca_core::facts::ServerFacts;
use yalotheca_core::family::Kind;
use yalotheca_core::id::{Digest, ItemId, ServerPath};
use yalotheca_core::ledger::{FileRow, Held, HeldFrom};
use yalotheca_core::place::{Placed, place};
use yalotheca_core::roster::Origin;
use yalotheca_core::scene::{Item, Scene};
use yalotheca_core::text::glob;

use super::KnownBy;
use crate::learn::Learnt;
use crate::server::Server;
use crate::settle::{number_in, opener};
use crate::tree::Stat;
use crate::{Error, archive};

/// Something on the server that could be opened as an item.
pub(crate) struct Candidate {
    pub(crate) path: ServerPath,
    pub(crate) learnt: Learnt,
    pub(super) download: Digest,
    pub(super) rows: Vec<FileRow>,
}

/// Everything on the server that can be opened as an item of some kind.
pub(crate) fn candidates(
    server: &Server,
    files: &[(ServerPath, Stat)],
    facts: &ServerFacts,
    counts: &dyn Fn(&Kind) -> bool,
    unplaced: &mut Vec<Refused>,
) -> Result<Vec<Candidate>, Error> {
    let mut out = Vec::new();
    let plain: Vec<&ServerPath> =
        files.iter().filter(|(_, s)| matches!(s, Stat::File { .. })).map(|(p, _)| p).collect();
    for (word, kind) in server.family.rules.kind.iter().filter(|(_, k)| counts(k)) {
        server.around.go_on()?;
        for found in of_kind(server, word, kind, &plain, facts)? {
            match found {
                Ok(candidate) => out.push(candidate),
                Err(refused) => unplaced.push(refused),
            }
        }
    }
    out.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(out)
}

/// A file that could not be opened as an item, and why not.
pub(crate) struct Refused {
    pub(crate) path: ServerPath,
    pub(crate) why: String,
    /// Whether its signatures are why.
    pub(crate) unsigned: bool,
}

fn of_kind(
    server: &Server,
    word: &str,
    kind: &Kind,
    files: &[&ServerPath],
    facts: &ServerFacts,
) -> Result<Vec<Result<Candidate, Refused>>, Error> {
    let mut out = Vec::new();
    let mark = kind.marks().first().map(|p| p.to_string()).unwrap_or_default();
    for rule in &kind.place {
        let whole = rule.to.as_str().contains("{path}");
        let first = if kind.file.is_some() { rule.takes_real() } else { whole || rule.take.as_str() == mark };
        if !first {
            continue;
        }
        // where one item's files begin: the file itself, or the folder that holds its first mark
        let pattern = if kind.file.is_some() { rule.to.glob() } else { rule.to.glob().replace("**", &mark) };
        let named = |p: &ServerPath| kind.file.as_ref().is_none_or(|f| f.fits(p.name()) || f.fits(p.path()));
        for path in files.iter().filter(|p| glob(&pattern, p.path()) && named(p)) {
            let (download, name) = if kind.file.is_some() {
                match companions(kind, path, files) {
                    more if more.is_empty() => (bring(server, path)?, path.name().to_owned()),
                    mut more => {
                        more.push(path);
                        let below = path.path().strip_suffix(path.name()).unwrap_or("");
                        (pack(server, &more, below)?, format!("{}.zip", path.name()))
                    }
                }
            } else {
                let below = path.path().strip_suffix(mark.as_str()).unwrap_or("").to_owned();
                let members: Vec<&ServerPath> =
                    files.iter().copied().filter(|p| p.path().starts_with(&below)).collect();
                let folder = below.trim_end_matches('/').rsplit('/').next().unwrap_or("folder").to_owned();
                (pack(server, &members, &below)?, format!("{folder}.zip"))
            };
            let learnt = match opener(server, Some(word), None).learn(&download, &name) {
                Ok(mut learnt) => {
                    // it keeps the number that it has here
                    let has = |(name, pattern)| Some((str::to_owned(name), number_in(pattern, name, path.path())?));
                    let numbers = kind.free_fields().filter_map(has).map(|(name, n)| (name, n.to_string()));
                    learnt.found.fields.extend(numbers);
                    learnt
                }
                Err(e) => {
                    let unsigned = matches!(e, Error::Seal { .. });
                    out.push(Err(Refused { path: (*path).clone(), why: e.to_string(), unsigned }));
                    continue;
                }
            };
            let id = learnt.found.id.clone();
            let (none, chosen) = (Default::default(), Default::default());
            let scene = Scene { family: &server.family, server: facts, files: &none, play: None, choices: &chosen };
            let real = learnt.real.name(&learnt.look);
            let item = Item {
                id: &id,
                kind,
                version: &learnt.found.facts.version,
                name: &real,
                title: &learnt.found.title,
                number: None,
                fields: &learnt.found.fields,
                entries: &learnt.found.entries,
                order: 0,
            };
            let places = place(&item, &learnt.look, &learnt.real, &scene)?;
            let row = |p: Placed| FileRow {
                path: p.path,
                sha256: p.sha256,
                bytes: p.bytes,
                settings: p.settings,
                once: p.once,
                layer: p.layer,
            };
            let rows: Vec<FileRow> = places.files.into_iter().map(row).collect();
            match rows.iter().find(|r| !files.contains(&&r.path)) {
                Some(elsewhere) => {
                    let why = format!(
                        "it calls itself {id}, so its file should be `{}`; rename it, then `yalotheca want` it",
                        elsewhere.path
                    );
                    out.push(Err(Refused { path: (*path).clone(), why, unsigned: false }));
                }
                None => out.push(Ok(Candidate { path: (*path).clone(), learnt, download, rows })),
            }
        }
    }
    Ok(out)
}

/// The files beside a real file that its kind takes by its stem.
fn companions<'a>(kind: &Kind, real: &ServerPath, files: &[&'a ServerPath]) -> Vec<&'a ServerPath> {
    let stem = yalotheca_core::manifest::stem(real.name());
    let folder = real.path().strip_suffix(real.name()).unwrap_or("");
    let rules: Vec<_> = kind.place.iter().filter(|p| p.take.fields().any(|f| f == "stem")).collect();
    let mine = |p: &&&ServerPath| {
        let below = p.path().strip_prefix(folder);
        below.is_some_and(|b| {
            rules.iter().any(|r| r.take.catch(b).is_some_and(|c| c.get("stem").is_some_and(|s| s == stem)))
        })
    };
    files.iter().filter(mine).copied().collect()
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
        name: one.learnt.real.name(&one.learnt.look),
        files: Digest::of(b""),
        number: None,
        fields: one.learnt.found.fields.clone(),
        entries: one.learnt.found.entries.clone(),
        signer: one.learnt.signer.as_ref().map(|s| s.fingerprint.clone()),
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
