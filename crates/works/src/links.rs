//! Gathers the files that speak of each other.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};

use yalotheca_core::changes::Step;
use yalotheca_core::finding::Finding;
use yalotheca_core::id::{SERVER, ServerPath};
use yalotheca_core::links::{Files, dangling, doubles};
use yalotheca_core::place::Source;
use yalotheca_core::text::glob;

use crate::server::{MOST_SETTINGS, Server};
use crate::tree::Stat;
use crate::tune::format_of;
use crate::{Error, archive, state};

/// Files as they will be: their bytes, or `None` for one that goes.
type Ahead = BTreeMap<String, Option<Vec<u8>>>;

/// Returns what is wrong between the server's files as they are: references to nothing, names that stand twice.
pub(crate) fn links(server: &Server, files: &[(ServerPath, Stat)]) -> Result<Vec<Finding>, Error> {
    let rules = &server.family.rules;
    if rules.reference.is_empty() && rules.unique.is_empty() {
        return Ok(Vec::new());
    }
    let asked = |p: &str| rules.reference.iter().any(|r| glob(&r.file, p) || r.key.is_some() && r.to.as_str() == p);
    let wanted = |p: &str| asked(p) || rules.unique.iter().any(|u| u.file.fits(p));
    with(server, files, &Ahead::new(), &wanted, &|files| {
        dangling(&server.family, files).into_iter().chain(doubles(&server.family, files)).collect()
    })
}

/// Returns the names that would stand twice once these steps are done; nothing where no step has to do with names.
pub(crate) fn ahead(server: &Server, steps: &[Step]) -> Result<Vec<Finding>, Error> {
    let rules = &server.family.rules.unique;
    let named = |p: &str| rules.iter().any(|u| u.file.fits(p));
    let home = &server.around.home;
    let mut ahead = Ahead::new();
    for step in steps.iter().filter(|s| s.path().root() == SERVER && named(s.path().path())) {
        let bytes = match step {
            Step::Place { file, .. } => match &file.source {
                Source::Store(digest) => std::fs::read(home.store_path(digest)).ok(),
                Source::Kept(digest) => state::kept(server.tree.as_ref(), digest).ok(),
                Source::Member { archive, path } => archive::read_member(&home.archive_path(archive), path).ok(),
            },
            Step::Remove { back: Some(back), .. } => state::kept(server.tree.as_ref(), back).ok(),
            Step::Remove { back: None, .. } => None,
        };
        ahead.insert(step.path().path().to_owned(), bytes);
    }
    if ahead.is_empty() {
        return Ok(Vec::new());
    }
    with(server, &server.tree.walk()?, &ahead, &named, &|files| doubles(&server.family, files))
}

fn with(
    server: &Server,
    files: &[(ServerPath, Stat)],
    ahead: &Ahead,
    wanted: &dyn Fn(&str) -> bool,
    judge: &dyn Fn(&Files<'_>) -> Vec<Finding>,
) -> Result<Vec<Finding>, Error> {
    let here = files
        .iter()
        .filter(|(p, s)| p.root() == SERVER && matches!(s, Stat::File { bytes, .. } if *bytes <= MOST_SETTINGS));
    let mut paths: BTreeSet<String> = here.map(|(p, _)| p.path().to_owned()).collect();
    paths.retain(|p| ahead.get(p).is_none_or(Option::is_some));
    paths.extend(ahead.iter().filter(|(_, bytes)| bytes.is_some()).map(|(p, _)| p.clone()));
    let ask: Vec<ServerPath> = paths
        .iter()
        .filter(|p| wanted(p) && !ahead.contains_key(*p))
        .filter_map(|p| ServerPath::server(p).ok())
        .collect();
    let read = if ask.is_empty() { Vec::new() } else { server.tree.read(&ask, MOST_SETTINGS)? };
    let mut known: Ahead = ask.iter().map(|p| p.path().to_owned()).zip(read).collect();
    known.extend(ahead.clone());
    let known = RefCell::new(known);
    let read = |path: &str| {
        if let Some(bytes) = known.borrow().get(path) {
            return bytes.clone();
        }
        let bytes = ServerPath::server(path).ok().and_then(|p| server.tree.read(&[p], MOST_SETTINGS).ok()?.pop()?);
        known.borrow_mut().insert(path.to_owned(), bytes.clone());
        bytes
    };
    let format = |path: &ServerPath, bytes: &[u8]| format_of(server, path, Some(bytes));
    Ok(judge(&Files { paths: &paths, read: &read, format: &format }))
}
