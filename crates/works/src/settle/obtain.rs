//! Brings downloads into the store, side by side. A version of several files becomes one download: they are packed
//! together under their names, so that one digest stands for all.

use std::fs::File;
use std::io::Read;

use yalotheca_core::facts::FileFact;
use yalotheca_core::id::Digest;
use yalotheca_core::manifest::SentFrom;
use yalotheca_core::text::clean;

use super::choose::Picked;
use crate::fetch::{FetchError, Job};
use crate::server::Server;
use crate::{Error, archive};

/// A file to be fetched.
#[derive(Debug, Clone)]
pub(super) struct Part {
    name: String,
    addresses: Vec<String>,
    sha256: Digest,
    bytes: Option<u64>,
    sha512: Option<String>,
}

impl Part {
    /// Returns a file that a catalogue names, with its addresses made whole.
    pub(super) fn new(file: &FileFact, addresses: Vec<String>) -> Self {
        Self {
            name: file.name.clone(),
            addresses,
            sha256: file.sha256.clone(),
            bytes: Some(file.bytes),
            sha512: file.sha512.clone(),
        }
    }

    /// Returns an address from which anybody can fetch it, if there is one.
    pub(super) fn link(&self) -> Option<&str> {
        let open = |a: &&String| a.starts_with("https://") || a.starts_with("http://");
        self.addresses.iter().find(open).map(String::as_str)
    }

    /// Returns the digest that it must have.
    pub(super) fn sha256(&self) -> &Digest {
        &self.sha256
    }

    /// Returns its size, where that is known beforehand.
    pub(super) fn bytes(&self) -> Option<u64> {
        self.bytes
    }

    /// Returns what a link of the roster gives.
    pub(super) fn of_link(address: &str, sha256: &Digest) -> Self {
        let name = address.rsplit('/').next().unwrap_or(address).to_owned();
        Self { name, addresses: vec![address.to_owned()], sha256: sha256.clone(), bytes: None, sha512: None }
    }
}

/// Fetches what the store has not, and packs what comes in several files.
pub(super) fn obtain<'a>(server: &Server, items: impl Iterator<Item = &'a mut Picked>) -> Result<(), Error> {
    let items: Vec<&mut Picked> = items.collect();
    fetch(server, &items)?;
    let home = &server.around.home;
    for one in items.into_iter().filter(|p| p.parts.len() > 1) {
        let entry = |part: &Part| {
            let path = home.store_path(&part.sha256);
            let file = File::open(&path).map_err(Error::disk(path, "cannot be read"))?;
            Ok((part.name.clone(), Box::new(file) as Box<dyn Read>))
        };
        one.held.download = archive::pack(home, one.parts.iter().map(entry))?;
        one.held.download_name = format!("{}-{}.zip", one.id, one.held.facts.version);
    }
    Ok(())
}

fn fetch(server: &Server, items: &[&mut Picked]) -> Result<(), Error> {
    let home = &server.around.home;
    let (mut jobs, mut wanted) = (Vec::new(), Vec::new());
    for one in items {
        for part in one.parts.iter().filter(|p| !home.has(&p.sha256)) {
            // a catalogue in a folder has its files beside it
            let local = part.addresses.iter().find(|a| !a.starts_with("http://") && !a.starts_with("https://"));
            if let Some(path) = local {
                let mut file = File::open(path).map_err(Error::disk(path, "cannot be read"))?;
                let (digest, _) = home.take(&mut file, std::path::Path::new(path))?;
                promised(path, &digest, &part.sha256)?;
                continue;
            }
            let mut what = format!("{} {}", one.id, one.held.facts.version);
            if one.parts.len() > 1 {
                what = format!("{what} {}", part.name);
            }
            let known = part.bytes.map(|bytes| (bytes, part.sha256.clone()));
            jobs.push(Job { what, addresses: part.addresses.clone(), wanted: known, sha512: part.sha512.clone() });
            wanted.push(part);
        }
    }
    let got = server.fetcher.fetch(home, &jobs, server.around.progress.as_ref());
    for (got, part) in got.into_iter().zip(wanted) {
        promised(part.addresses.first().map_or("", String::as_str), &got?.sha256, &part.sha256)?;
    }
    Ok(())
}

/// Fetches what the install scripts of items would fetch, and checks it: nothing of a bundle is run.
pub(super) fn obtain_sent(server: &Server, items: &[Picked]) -> Result<(), Error> {
    let home = &server.around.home;
    let mut wanted: Vec<(&str, &Digest)> = Vec::new();
    for sent in items.iter().filter_map(|p| p.learnt.as_ref()).flat_map(|l| &l.found.sent) {
        if let SentFrom::Link(link, digest) = &sent.from
            && !home.has(digest)
            && !wanted.iter().any(|(_, d)| *d == digest)
        {
            wanted.push((link, digest));
        }
    }
    let job = |(link, _): &(&str, &Digest)| {
        let what = clean(link.rsplit('/').next().unwrap_or(link), 60);
        Job { what, addresses: vec![(*link).to_owned()], wanted: None, sha512: None }
    };
    let jobs: Vec<Job> = wanted.iter().map(job).collect();
    let got = server.fetcher.fetch(home, &jobs, server.around.progress.as_ref());
    for (got, (link, digest)) in got.into_iter().zip(wanted) {
        promised(link, &got?.sha256, digest)?;
    }
    Ok(())
}

fn promised(address: &str, found: &Digest, wanted: &Digest) -> Result<(), Error> {
    if found == wanted {
        return Ok(());
    }
    let why = format!("its sha256 is {}…, not {}…", found.short(), wanted.short());
    Err(FetchError::Other { address: address.to_owned(), why }.into())
}
