//! The settings of a settle: wiring and tuned values as slots, and settings files that items ship, which are the
//! administrator's once they are there: a new version's default is merged into them.

use std::collections::{BTreeMap, BTreeSet};

use yalotheca_core::bound;
use yalotheca_core::changes::Seen;
use yalotheca_core::family::server_path;
use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::id::{Digest, ItemId, ServerPath};
use yalotheca_core::ledger::{FileRow, Ledger};
use yalotheca_core::place::Source;
use yalotheca_core::settings::merge;
use yalotheca_core::slot::{self, Claim, DocChange, Slot, Slots};
use yalotheca_core::wire::Wires;

use super::choose::Picked;
use super::{Options, Rows, claims, places_of};
use crate::scene::Around;
use crate::server::{MOST_SETTINGS, Server};
use crate::{Error, archive, state, tune};

/// A file larger than this is not compared line by line (bytes).
const MOST_SHOWN: u64 = 1_000_000;

/// What a settle makes of settings.
pub(super) struct Settings {
    pub(super) slots: Slots,
    /// Shipped defaults that are kept for the next merge.
    pub(super) keep: Vec<Vec<u8>>,
    pub(super) findings: Vec<Finding>,
    /// The roster's text, where arithmetic was done anew.
    pub(super) text: Option<String>,
}

/// The bytes of every file that slots or claims are about.
pub(super) fn docs(server: &Server, before: &Ledger, claims: &[Claim]) -> Result<BTreeMap<ServerPath, Vec<u8>>, Error> {
    let paths: BTreeSet<ServerPath> =
        before.slots.iter().map(|s| s.key.path.clone()).chain(claims.iter().map(|c| c.key.path.clone())).collect();
    read(server, paths)
}

fn read(server: &Server, paths: BTreeSet<ServerPath>) -> Result<BTreeMap<ServerPath, Vec<u8>>, Error> {
    let paths: Vec<ServerPath> = paths.into_iter().collect();
    let read = if paths.is_empty() { Vec::new() } else { server.tree.read(&paths, MOST_SETTINGS)? };
    Ok(paths.into_iter().zip(read).filter_map(|(p, b)| Some((p, b?))).collect())
}

/// Settings files that items ship: where they stand, and the defaults before and now.
#[derive(Default)]
struct Shipped {
    /// The files as they are to be before any claim.
    start: BTreeMap<ServerPath, Vec<u8>>,
    /// Defaults that are kept for the next merge.
    keep: Vec<Vec<u8>>,
    /// Files beside: new defaults where both sides changed a value.
    beside: Vec<DocChange>,
    /// Slots that begin anew, because the default under them is another.
    anew: BTreeSet<ServerPath>,
    /// Files that go with their item.
    gone: BTreeMap<ServerPath, Digest>,
    findings: Vec<Finding>,
}

pub(super) fn settle(
    around: &Around<'_>,
    options: &Options,
    before: &Ledger,
    old: &Rows,
    rows: &Rows,
    picked: &[Picked],
    order: &[ItemId],
) -> Result<Settings, Error> {
    let server = around.server;
    let shipped = shipped(around, before, old, rows, picked)?;
    let mut ledger = before.clone();
    ledger.slots = begun_anew(before, &shipped);
    let tuning = tune::tuning(server, &ledger, &shipped.start)?;
    let wires = claims(around, before, picked, order, &tuning.claims)?;
    let mut claims = wires.claims.clone();
    let mut files = docs(server, &ledger, &claims)?;
    files.extend(bounded(server)?);
    files.extend(shipped.start.clone());
    let later = Around { server, facts: around.facts.clone(), files: around.files.clone() }.with_rows(old, rows);
    let bounds = bound::bounds(&later.scene(), &ledger.slots, &claims, &files);
    // lower than what anybody wants, higher than what stood there before
    claims.splice(0..0, bounds.claims);
    let slotted = slot::Around { put_back: options.put_back.clone(), secret: tune::secrets_of(server, &claims) };
    let mut slots = slot::settle(&ledger.slots, &ledger.made, &claims, &files, &slotted)?;
    let real = read(server, shipped.start.keys().chain(shipped.gone.keys()).cloned().collect())?;
    for (path, start) in &shipped.start {
        let now = real.get(path).cloned();
        match slots.docs.iter_mut().find(|d| d.path == *path) {
            Some(doc) => doc.before.clone_from(&now),
            None if now.as_ref() != Some(start) => {
                let notes = if now.is_none() { Vec::new() } else { vec!["the new default is merged in".to_owned()] };
                slots.docs.push(DocChange { path: path.clone(), before: now, after: Some(start.clone()), notes });
            }
            None => {}
        }
    }
    slots.docs.retain(|d| d.before != d.after);
    let mut text = tuning.text.filter(|t| *t != server.text);
    let waiting = super::hand::put_off(server, before, &mut slots, &options.done, &mut text)?;
    go_with_item(before, &shipped, &real, &mut slots)?;
    slots.docs.extend(shipped.beside);
    let findings = shipped.findings.into_iter().chain(tuning.findings).chain(bounds.findings);
    let findings = findings.chain(waiting).chain(map_findings(server, &wires)).collect();
    Ok(Settings { slots, keep: shipped.keep, findings, text })
}

/// The files in which bounds stand.
pub(crate) fn bounded(server: &Server) -> Result<BTreeMap<ServerPath, Vec<u8>>, Error> {
    let rules = &server.family.rules.bound;
    read(server, rules.iter().filter_map(|b| server_path(&b.file).ok()).collect())
}

/// What waits for a start, and a map that is to be played and is not there.
pub(crate) fn map_findings(server: &Server, wires: &Wires) -> Vec<Finding> {
    let mut out = Vec::new();
    let mut told: BTreeSet<(&ItemId, &str)> = BTreeSet::new();
    for pending in &wires.pending {
        if told.insert((&pending.item, &pending.field)) {
            let cause = format!(
                "{} is not wired in {} yet: its {} is known only once the server has fetched it",
                pending.item, pending.file, pending.field
            );
            let fix = "yalotheca trial starts the server and completes it";
            out.push(
                Finding::new("waits-for-start", Severity::Warning, cause, fix).at(&pending.file).of(&pending.item),
            );
        }
    }
    if let (Some(play), false) = (&server.roster.play, wires.played)
        && wires.pending.is_empty()
    {
        let cause =
            format!("the roster plays `{}`, and no map of that name is on it", yalotheca_core::text::clean(play, 60));
        out.push(Finding::new("no-such-map", Severity::Error, cause, "see what there is: yalotheca maps").at("roster"));
    }
    out
}

/// The slots as a new default leaves them: what was ours is taken out of the file before it is merged, so it is
/// claimed on the new default; what was set by hand stays known as such.
fn begun_anew(before: &Ledger, shipped: &Shipped) -> Vec<Slot> {
    let keeps = |s: &&Slot| !shipped.anew.contains(&s.key.path) || s.hand.is_some();
    before.slots.iter().filter(keeps).cloned().collect()
}

/// A settings file whose item goes: it goes too when nothing in it is the administrator's.
fn go_with_item(
    before: &Ledger,
    shipped: &Shipped,
    real: &BTreeMap<ServerPath, Vec<u8>>,
    slots: &mut Slots,
) -> Result<(), Error> {
    for (path, default) in &shipped.gone {
        let Some(now) = real.get(path) else { continue };
        let bare = without_ours(before, path, now)?;
        if Digest::of(&bare) == *default {
            let doc = DocChange { path: path.clone(), before: Some(now.clone()), after: None, notes: Vec::new() };
            slots.docs.retain(|d| d.path != *path);
            slots.docs.push(doc);
            slots.slots.retain(|s| s.key.path != *path);
        } else {
            let cause = "you changed it, so it stays where it is and is yours now";
            let fix = "remove it yourself if you do not want it";
            slots.findings.push(Finding::new("changed-by-hand", Severity::Note, cause, fix).at(path));
        }
    }
    Ok(())
}

/// A file's bytes with nothing of ours in them.
fn without_ours(before: &Ledger, path: &ServerPath, now: &[u8]) -> Result<Vec<u8>, Error> {
    let mine: Vec<Slot> = before.slots.iter().filter(|s| s.key.path == *path && s.hand.is_none()).cloned().collect();
    let docs = [(path.clone(), now.to_vec())].into();
    let out = slot::settle(&mine, &BTreeSet::new(), &[], &docs, &slot::Around::default())?;
    Ok(out.docs.into_iter().find(|d| d.path == *path).and_then(|d| d.after).unwrap_or_else(|| now.to_vec()))
}

fn by_path(rows: &Rows) -> BTreeMap<&ServerPath, (&ItemId, &FileRow)> {
    let of = |(id, rows)| -> Vec<(&ServerPath, (&ItemId, &FileRow))> {
        let rows: &Vec<FileRow> = rows;
        rows.iter().filter(|r| !r.is_plain()).map(|r| (&r.path, (id, r))).collect()
    };
    rows.iter().flat_map(of).collect()
}

fn shipped(around: &Around<'_>, before: &Ledger, old: &Rows, rows: &Rows, picked: &[Picked]) -> Result<Shipped, Error> {
    let server = around.server;
    let (was, will) = (by_path(old), by_path(rows));
    let mut out = Shipped::default();
    for (path, (_, row)) in &was {
        if !will.contains_key(path) {
            out.gone.insert((*path).clone(), row.sha256.clone());
        }
    }
    yours(around, old, rows, picked, &mut out)?;
    let here = read(server, will.keys().map(|p| (*p).clone()).collect())?;
    for (path, (id, row)) in will {
        let now = here.get(path);
        let old_row = was.get(path).map(|(_, r)| *r);
        if now.is_some() && old_row.is_some_and(|o| o.sha256 == row.sha256) {
            continue;
        }
        let new = default_bytes(around, picked, id, row)?;
        out.keep.push(new.clone());
        let Some(now) = now else {
            if old_row.is_some() {
                let cause = "it was taken away by hand: put back, because the roster wants its item";
                let fix = format!("to leave it out: yalotheca drop {id}");
                out.findings.push(Finding::new("missing-file", Severity::Warning, cause, fix).at(path).of(id));
            }
            out.anew.insert(path.clone());
            out.start.insert(path.clone(), new);
            continue;
        };
        let Some(old_row) = old_row else {
            // it stood there before the item came: the administrator's
            if *now != new {
                let cause = format!("{id} brings this settings file, and one stands there already: yours is kept");
                let fix = "nothing to do; to have the item's own, move yours away and settle";
                out.findings.push(Finding::new("settings-kept", Severity::Note, cause, fix).at(path).of(id));
            }
            continue;
        };
        let default = state::kept(server.tree.as_ref(), &old_row.sha256)?;
        let bare = without_ours(before, path, now)?;
        let format = tune::format_of(server, path, Some(now));
        match merge(format, &default, &bare, &new) {
            Ok(merged) => {
                if !merged.collisions.is_empty() {
                    collided(server, path, id, &merged.collisions, &new, &mut out)?;
                }
                out.anew.insert(path.clone());
                out.start.insert(path.clone(), merged.bytes);
            }
            Err(error) => {
                let beside = beside(server, path, &new, &mut out)?;
                let cause = format!("the new default of {id} could not be merged into it ({error}): yours is kept");
                let fix = format!("the new default lies beside it: {beside}");
                out.findings.push(Finding::new("settings-not-merged", Severity::Warning, cause, fix).at(path).of(id));
            }
        }
    }
    Ok(out)
}

/// Files that are the administrator's as a whole: a changed default is told with what changed in it, and lies beside.
fn yours(around: &Around<'_>, old: &Rows, rows: &Rows, picked: &[Picked], out: &mut Shipped) -> Result<(), Error> {
    let server = around.server;
    let was: BTreeMap<&ServerPath, &FileRow> =
        old.values().flatten().filter(|r| r.once).map(|r| (&r.path, r)).collect();
    let once = rows.iter().flat_map(|(id, rows)| rows.iter().filter(|r| r.once).map(move |r| (id, r)));
    let renewed = |(id, row): (_, _)| {
        let (id, row): (&ItemId, &FileRow) = (id, row);
        was.get(&row.path).filter(|old| old.sha256 != row.sha256).map(|old| (id, row, *old))
    };
    let renewed: Vec<(&ItemId, &FileRow, &FileRow)> = once.filter_map(renewed).collect();
    let paths: Vec<ServerPath> = renewed.iter().map(|(_, row, _)| row.path.clone()).collect();
    for ((id, row, old), seen) in renewed.into_iter().zip(state::seen(server.tree.as_ref(), &paths)?) {
        let Seen::File(digest) = seen else { continue };
        if digest == row.sha256 {
            continue;
        }
        let path = &row.path;
        let mut changed = String::new();
        // what a person could read
        if row.bytes < MOST_SHOWN
            && let Ok(mut now) = server.tree.read(std::slice::from_ref(path), MOST_SHOWN)
            && let (Some(now), new) = (now.pop().flatten(), default_bytes(around, picked, id, row)?)
            && let (Ok(now), Ok(new)) = (std::str::from_utf8(&now), std::str::from_utf8(&new))
        {
            changed = yalotheca_core::text::line_changes(now, new);
        }
        let hand = if digest == old.sha256 { "you never changed it" } else { "you or the server changed it" };
        let cause = format!("{id} brings another default for it, and it is yours ({hand}): kept{changed}");
        let fix = format!("the new one lies beside it: {path}.new");
        out.findings.push(Finding::new("default-changed", Severity::Note, cause, fix).at(path).of(id));
    }
    Ok(())
}

/// Returns where a new default goes whose place is taken.
pub(super) fn new_beside(path: &ServerPath) -> Option<ServerPath> {
    ServerPath::new(path.root(), &format!("{}.new", path.path())).ok()
}

/// Values that both sides changed: the administrator's stay, and the new default is put beside.
fn collided(
    server: &Server,
    path: &ServerPath,
    id: &ItemId,
    collisions: &[yalotheca_core::settings::Collision],
    new: &[u8],
    out: &mut Shipped,
) -> Result<(), Error> {
    let beside = beside(server, path, new, out)?;
    for collision in collisions {
        let hide = server.family.is_secret(path, &collision.path);
        let shown = |v: &Option<yalotheca_core::settings::Value>| match v {
            _ if hide => "(secret)".to_owned(),
            None => "(nothing)".to_owned(),
            Some(v) => format!("`{}`", yalotheca_core::text::clean(&v.shown(), 80)),
        };
        let cause = format!(
            "`{}` is {} by your hand, and the new default of {id} makes it {}: yours is kept",
            collision.path,
            shown(&collision.mine),
            shown(&collision.new)
        );
        let fix = format!("look at {beside}, then set what you want: yalotheca tune {path} '{}=…'", collision.path);
        out.findings.push(Finding::new("settings-collision", Severity::Warning, cause, fix).at(path).of(id));
    }
    Ok(())
}

/// Puts the new default beside a file; returns where.
fn beside(server: &Server, path: &ServerPath, new: &[u8], out: &mut Shipped) -> Result<ServerPath, Error> {
    let Some(place) = new_beside(path) else { return Ok(path.clone()) };
    let there = read(server, [place.clone()].into())?.remove(&place);
    if there.as_deref() != Some(new) {
        let notes = vec!["the new default, to compare".to_owned()];
        out.beside.push(DocChange { path: place.clone(), before: there, after: Some(new.to_vec()), notes });
    }
    Ok(place)
}

/// The bytes of a default that an item ships.
fn default_bytes(around: &Around<'_>, picked: &[Picked], id: &ItemId, row: &FileRow) -> Result<Vec<u8>, Error> {
    let server = around.server;
    if let Ok(bytes) = state::kept(server.tree.as_ref(), &row.sha256) {
        return Ok(bytes);
    }
    let gone = || Error::NoSettings { file: row.path.to_string(), why: format!("is not in what {id} brings any more") };
    let one = picked.iter().find(|p| p.id == *id).ok_or_else(gone)?;
    let placed = places_of(around, one, 0)?.files.into_iter().find(|f| f.path == row.path).ok_or_else(gone)?;
    let home = &server.around.home;
    match &placed.source {
        Source::Store(digest) | Source::Kept(digest) => {
            let path = home.store_path(digest);
            std::fs::read(&path).map_err(Error::disk(&path, "cannot be read"))
        }
        Source::Member { archive, path } => archive::read_member(&home.archive_path(archive), path)
            .map_err(|source| Error::Archive { name: id.to_string(), source }),
    }
}
