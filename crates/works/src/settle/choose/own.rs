//! Items of the roster that come from no catalogue: from a file, a link, the server itself, or by a number that the server
//! fetches.

use std::collections::BTreeMap;

use yalotheca_core::facts::VersionFacts;
use yalotheca_core::id::Digest;
use yalotheca_core::ledger::{Held, HeldFrom, Ledger};
use yalotheca_core::roster::{Origin, Want};
use yalotheca_core::text::listed;

use super::{Picked, fetched_by_server, opener};
use crate::fetch::Job;
use crate::server::Server;
use crate::settle::obtain::Part;
use crate::{Error, archive};

/// An item that the server fetches by its number, and that no catalogue knows.
fn by_number(server: &Server, want: &Want, origin: &Origin, number: &str) -> Result<Picked, Error> {
    let kinds: Vec<&String> = server.family.rules.kind.keys().filter(|k| fetched_by_server(server, k)).collect();
    let kind = match (&want.kind, kinds.as_slice()) {
        (Some(kind), _) if kinds.contains(&kind) => kind.clone(),
        (None, [one]) => (*one).clone(),
        _ => {
            let why = format!(
                "has no `kind`; it is one of {}",
                listed(&kinds.iter().map(|k| format!("`{k}`")).collect::<Vec<_>>())
            );
            return Err(Error::Origin { item: want.id.to_string(), place: number.to_owned(), why });
        }
    };
    let held = Held {
        kind,
        title: want.id.to_string(),
        facts: VersionFacts::bare("as-served"),
        from: HeldFrom::Origin(origin.clone()),
        download: Digest::of(b""),
        download_name: String::new(),
        name: want.id.to_string(),
        files: Digest::of(b""),
        number: Some(number.to_owned()),
        fields: BTreeMap::new(),
        entries: Vec::new(),
        signer: None,
    };
    Ok(Picked { id: want.id.clone(), held, learnt: None, wanted: true, parts: Vec::new() })
}

/// An item of the roster that comes from a file, a link or the server itself, opened.
pub(super) fn own_item(server: &Server, before: &Ledger, want: &Want, origin: &Origin) -> Result<Picked, Error> {
    if let Origin::Number { number, .. } = origin {
        return by_number(server, want, origin, number);
    }
    let digest = origin.sha256();
    let parts = match origin {
        Origin::Link { address, .. } => vec![Part::of_link(address, digest)],
        _ => Vec::new(),
    };
    if let Some(held) = before.items.get(&want.id).filter(|h| h.download == *digest) {
        let mut held = held.clone();
        held.from = HeldFrom::Origin(origin.clone());
        return Ok(Picked { id: want.id.clone(), held, learnt: None, wanted: true, parts });
    }
    let (name, place) = bring(server, want, origin)?;
    let secret = want.password_file.as_ref().map(|f| server.beside().join(f));
    let learnt = opener(server, want.kind.as_deref(), secret.as_deref()).learn(digest, &name)?;
    if learnt.found.says_id && learnt.found.id != want.id {
        let why = format!("is {} and not {}; put it on the roster again with yalotheca want", learnt.found.id, want.id);
        return Err(Error::Origin { item: want.id.to_string(), place, why });
    }
    let held = Held {
        kind: learnt.kind.clone(),
        title: learnt.found.title.clone(),
        facts: learnt.found.facts.clone(),
        from: HeldFrom::Origin(origin.clone()),
        download: digest.clone(),
        download_name: name,
        name: learnt.real.name(&learnt.look),
        files: Digest::of(b""),
        number: None,
        fields: learnt.found.fields.clone(),
        entries: learnt.found.entries.clone(),
        signer: learnt.signer.as_ref().map(|s| s.fingerprint.clone()),
    };
    Ok(Picked { id: want.id.clone(), held, learnt: Some(learnt), wanted: true, parts })
}

/// Brings the bytes that the roster means into the store; returns the file's name and where it was.
fn bring(server: &Server, want: &Want, origin: &Origin) -> Result<(String, String), Error> {
    let home = &server.around.home;
    let digest = origin.sha256();
    let gone = |place: &str, why: &str| Error::Origin {
        item: want.id.to_string(),
        place: place.to_owned(),
        why: why.to_owned(),
    };
    match origin {
        Origin::File { path, .. } => {
            let mut name = path.rsplit(['/', '\\']).next().unwrap_or(path).to_owned();
            let full = server.beside().join(path);
            if full.is_dir() {
                name.push_str(".zip");
            }
            if !home.has(digest) && full.is_dir() {
                if archive::pack_folder(home, &full, server.roster.limits.download_mb.saturating_mul(1_000_000))?
                    != *digest
                {
                    return Err(gone(
                        path,
                        "is not as it was when it was put on the roster; give it again with yalotheca want",
                    ));
                }
            } else if !home.has(digest) {
                let mut file = std::fs::File::open(&full)
                    .map_err(|_| gone(path, "is gone; give the file again with yalotheca want"))?;
                let (found, _) = home.take(&mut file, &full)?;
                if found != *digest {
                    return Err(gone(
                        path,
                        "is another file than the one that was put on the roster; give it again with yalotheca want",
                    ));
                }
            }
            Ok((name, path.clone()))
        }
        Origin::Link { address, .. } => {
            let job = Job { what: want.id.to_string(), addresses: vec![address.clone()], wanted: None, sha512: None };
            let name =
                address.split(['?', '#']).next().and_then(|a| a.rsplit('/').next()).unwrap_or("download").to_owned();
            if home.has(digest) {
                return Ok((name, address.clone()));
            }
            let got = server.fetcher.fetch(home, &[job], server.around.progress.as_ref()).pop();
            match got {
                Some(Ok(got)) if got.sha256 == *digest => Ok((got.name, address.clone())),
                Some(Ok(_)) => Err(gone(
                    address,
                    "gives another file than the one that was put on the roster; if that is meant, give it again with yalotheca want",
                )),
                Some(Err(e)) => Err(e),
                None => Err(gone(address, "gave nothing")),
            }
        }
        Origin::Number { number, .. } => Err(gone(number, "is fetched by the server, not by us")),
        Origin::Here { path, .. } => {
            if home.has(digest) {
                return Ok((path.rsplit('/').next().unwrap_or(path).to_owned(), path.clone()));
            }
            Err(gone(
                path,
                "was on the server when it was adopted and is in this machine's store no more; give the file again with yalotheca want",
            ))
        }
    }
}
