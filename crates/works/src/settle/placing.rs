//! Where the files of chosen items go: those that stay where their lists say, new ones by the family's rules.

use std::collections::{BTreeMap, HashMap, HashSet};

use yalotheca_core::changes::{self, FileChanges, Step, WantedFile};
use yalotheca_core::family::server_path;
use yalotheca_core::id::{ItemId, ServerPath};
use yalotheca_core::ledger::FileRow;
use yalotheca_core::manifest::{Member, SentFrom};
use yalotheca_core::place::{self, Placed, Source};
use yalotheca_core::scene::Item;

use super::Rows;
use super::choose::{self, Picked};
use crate::Error;
use crate::learn::Learnt;
use crate::scene::{Around, Taken};
use crate::server::Server;

/// Every item's files with their places.
pub(super) struct AllPlaced {
    pub(super) files: BTreeMap<ServerPath, WantedFile>,
    pub(super) rows: Rows,
    pub(super) left: Vec<(ItemId, Vec<String>)>,
}

/// Places the items: those that stay where their lists say, new ones by the family's rules.
pub(super) fn place_all(
    around: &Around<'_>,
    picked: &[Picked],
    order: &[ItemId],
    old: &Rows,
) -> Result<AllPlaced, Error> {
    let mut all: Vec<(ItemId, Placed)> = Vec::new();
    let mut rows = Rows::new();
    let mut left = Vec::new();
    for (at, id) in order.iter().enumerate() {
        let Some(one) = picked.iter().find(|p| p.id == *id) else { continue };
        let placed = if one.learnt.is_none() && !placed_anew(around.server, &one.held.kind) {
            let kept = |row: &FileRow| Placed {
                path: row.path.clone(),
                source: Source::Kept(row.sha256.clone()),
                sha256: row.sha256.clone(),
                bytes: row.bytes,
                settings: row.settings,
                once: row.once,
                layer: row.layer,
            };
            old.get(id).map(|rows| rows.iter().map(kept).collect()).unwrap_or_default()
        } else {
            let places = places_of(around, one, at + 1)?;
            if !places.left.is_empty() {
                left.push((id.clone(), places.left));
            }
            places.files
        };
        let row = |p: &Placed| FileRow {
            path: p.path.clone(),
            sha256: p.sha256.clone(),
            bytes: p.bytes,
            settings: p.settings,
            once: p.once,
            layer: p.layer,
        };
        rows.insert(id.clone(), placed.iter().map(row).collect());
        all.extend(placed.into_iter().map(|p| (id.clone(), p)));
    }
    let files = changes::gather(all).map_err(Error::Forbidden)?;
    Ok(AllPlaced { files, rows, left })
}

/// Whether items of a kind may stand elsewhere though they are the same: their names carry the load order, only some of
/// their entries are taken, or where they go depends on something.
pub(super) fn placed_anew(server: &Server, kind: &str) -> bool {
    let moves = |p: &yalotheca_core::family::Placing| p.when.is_some() || p.to.fields().any(|f| f == "order");
    server.family.rules.kind.get(kind).is_some_and(|k| k.entry.is_some() || k.place.iter().any(moves))
}

/// Places a chosen item; `order` is its position in the load order.
pub(super) fn places_of(around: &Around<'_>, one: &Picked, order: usize) -> Result<place::Places, Error> {
    let server = around.server;
    if choose::fetched_by_server(server, &one.held.kind) {
        return Ok(place::Places::default());
    }
    let learnt = match &one.learnt {
        Some(learnt) => learnt.clone(),
        None => choose::open(server, one)?,
    };
    let taken = Taken::of(server, &one.id, &one.held);
    let Some(item) = taken.item(server, order) else { return Ok(place::Places::default()) };
    let scene = around.scene();
    let mut places = place::place(&item, &learnt.look, &learnt.real, &scene)?;
    sent(server, &item, &learnt, &mut places)?;
    places.left.extend(learnt.left.iter().cloned());
    // its manifest was read, which is all it is for; of what players fetch as it is, nothing is left out
    let folder = learnt.real.folder();
    let manifest = |p: &String| {
        item.kind.manifest.inside.as_ref().is_some_and(|m| p.strip_prefix(folder.as_str()).is_some_and(|p| m.fits(p)))
    };
    let whole = item.kind.place.is_empty() && item.kind.bring.is_none();
    places.left.retain(|p| !whole && !manifest(p));
    if let (Some(seal), Some(signer)) = (&item.kind.seal, &learnt.signer)
        && let Some((path, content)) = seal.trusted_file(signer)
    {
        let path = server_path(&path).map_err(|source| place::PlaceError::Path { item: one.id.clone(), source })?;
        let (sha256, bytes) = server.around.home.take(&mut content.as_bytes(), std::path::Path::new(path.path()))?;
        let source = Source::Store(sha256.clone());
        places.files.push(Placed { path, source, sha256, bytes, settings: false, once: false, layer: false });
    }
    Ok(places)
}

/// A file of an item that stays and must be put back comes from its download again.
pub(super) fn with_sources(
    around: &Around<'_>,
    mut changes: FileChanges,
    picked: &[Picked],
) -> Result<FileChanges, Error> {
    let mut opened: BTreeMap<ItemId, place::Places> = BTreeMap::new();
    for step in &mut changes.steps {
        let Step::Place { path, file, .. } = step else { continue };
        if !matches!(file.source, Source::Kept(_)) {
            continue;
        }
        for owner in &file.owners {
            let Some(one) = picked.iter().find(|p| p.id == *owner) else { continue };
            if !opened.contains_key(owner) {
                opened.insert(owner.clone(), places_of(around, one, 0)?);
            }
            let found = opened.get(owner).and_then(|p| p.files.iter().find(|f| f.path == *path));
            if let Some(found) = found.filter(|f| f.sha256 == file.sha256) {
                file.source = found.source.clone();
                break;
            }
        }
    }
    Ok(changes)
}

/// The files that the item's own lists send to their places; what settings are is told by their names.
fn sent(server: &Server, item: &Item<'_>, learnt: &Learnt, places: &mut place::Places) -> Result<(), Error> {
    if learnt.found.sent.is_empty() {
        return Ok(());
    }
    let folder = learnt.real.folder();
    let members: HashMap<&str, &Member> = learnt.look.members.iter().flatten().map(|m| (m.path.as_str(), m)).collect();
    let mut taken: HashSet<ServerPath> = places.files.iter().map(|f| f.path.clone()).collect();
    let mut inside_ones: HashSet<String> = HashSet::new();
    for one in &learnt.found.sent {
        let path = server_path(&one.to).map_err(|source| place::PlaceError::Path { item: item.id.clone(), source })?;
        let (source, sha256, bytes) = match &one.from {
            SentFrom::Inside(from) => {
                let inside = format!("{folder}{from}");
                let Some(member) = members.get(inside.as_str()) else { continue };
                inside_ones.insert(inside);
                let source = Source::Member { archive: learnt.look.sha256.clone(), path: member.path.clone() };
                (source, member.sha256.clone(), member.bytes)
            }
            SentFrom::Link(_, digest) => {
                let file = server.around.home.store_path(digest);
                let bytes = std::fs::metadata(&file).map_err(Error::disk(&file, "cannot be read"))?.len();
                (Source::Store(digest.clone()), digest.clone(), bytes)
            }
        };
        let settings = one.once || yalotheca_core::settings::guess(&one.to, b"").is_some();
        if !taken.insert(path.clone()) {
            return Err(place::PlaceError::Twice { item: item.id.clone(), path }.into());
        }
        places.files.push(Placed { path, source, sha256, bytes, settings, once: one.once, layer: false });
    }
    places.left.retain(|l| !inside_ones.contains(l));
    Ok(())
}
