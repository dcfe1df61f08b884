//! Takes back an entry of the history, or all from one on. An undo is an entry itself, so it can be undone.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use yalotheca_core::changes::{self, Before, Seen, Step, WantedFile, Why};
use yalotheca_core::family::HAND;
use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::id::{Digest, ItemId, ServerPath};
use yalotheca_core::ledger::{Act, Entry, FileRow, Ledger};
use yalotheca_core::place::Source;
use yalotheca_core::roster::{Roster, merge_back, put_in, take_in};
use yalotheca_core::slot::{Claim, DocChange};
use yalotheca_core::take_back::take_back;

use crate::Error;
use crate::server::{MOST_SETTINGS, Server};
use crate::settle::{ItemChange, Options, Plan, slots};
use crate::want::{roster_error, toml_text};
use crate::{running, state};

/// What to take back.
#[derive(Debug, Clone, Copy, Default)]
pub struct Back {
    /// The entry; the newest when absent.
    pub number: Option<u64>,
    /// Whether all later ones go too.
    pub later_too: bool,
}

/// Plans the way back. What the administrator changed since stays.
///
/// # Errors
/// There is no such entry, later ones stand on it, or what was put aside is gone.
pub fn plan(server: &Server, back: Back, options: &Options) -> Result<Plan, Error> {
    let told = server.told.clone();
    let tree = server.tree.as_ref();
    let before = state::head(tree)?;
    let history = state::history(tree)?;
    let target = match back.number {
        None => history.last(),
        Some(number) => history.iter().find(|e| e.number == number),
    };
    let target = target.ok_or_else(|| no_entry(back.number, &history))?;
    if target.act == Act::Adopt {
        return Err(Error::NothingToUndo("it goes back to the day this server was adopted".to_owned()));
    }
    let from = state::head_of(tree, target.from)?;
    let later: Vec<&Entry> = history.iter().filter(|e| e.number > target.number).collect();
    let alone = !later.is_empty() && !back.later_too;
    let (goal, undone): (Ledger, Vec<&Entry>) = if alone {
        let at = state::head_of(tree, target.number)?;
        let goal = take_back(&before, target, &from, &at, &later)
            .map_err(|against| Error::StandsOn { entry: target.number, against })?;
        (goal, vec![target])
    } else {
        (from.clone(), history.iter().filter(|e| e.number >= target.number).collect())
    };
    let (old_rows, rows) = (state::rows(tree, &before)?, state::rows(tree, &goal)?);
    let touched = first_found(&undone);
    let wanted = wanted_files(&rows, &touched);
    let ours: BTreeMap<ServerPath, Digest> =
        old_rows.values().flatten().filter(|r| r.is_plain()).map(|r| (r.path.clone(), r.sha256.clone())).collect();
    let paths: BTreeSet<ServerPath> = ours.keys().chain(wanted.keys()).cloned().collect();
    let seen = state::seen_by_path(tree, paths)?;
    let known = Before { ours, bases: before.bases.clone(), seen, put_back: options.put_back.clone() };
    let mut changes = changes::files(&known, &wanted);
    // what none of the undone entries touched is not ours to bring back
    changes.steps.retain(|s| touched.contains_key(s.path()));
    if !changes.blocked.is_empty() {
        return Err(Error::Undecided(changes.blocked));
    }
    let claims: Vec<Claim> = goal
        .slots
        .iter()
        .flat_map(|s| s.claims.iter().map(|(owner, value)| Claim::new(s.key.clone(), owner.clone(), value.clone())))
        .collect();
    let computed = slots(server, &before, &claims, &options.put_back)?;
    let mut docs = exact(server, &undone, computed.docs)?;
    let plain: BTreeSet<&ServerPath> =
        old_rows.values().chain(rows.values()).flatten().filter(|r| r.is_plain()).map(|r| &r.path).collect();
    let told_beside = written_beside(server, &undone, &plain, &mut docs, &mut changes.steps)?;
    let roster_after = match alone {
        true => roster_back(server, target.roster.1.as_ref(), target.roster.0.as_ref())?,
        false => roster_back(server, before.roster.as_ref(), goal.roster.as_ref())?,
    };
    let items = item_changes(server, &before, &goal);
    let mut after = Ledger { generation: before.generation, slots: computed.slots, bases: changes.bases, ..goal };
    after.made = computed.made;
    after.folders = before.folders.clone();
    after.roster = Some(Digest::of(roster_after.as_deref().unwrap_or(&server.text).as_bytes()));
    let plan = Plan {
        act: if back.later_too && !later.is_empty() { Act::Undo(target.number) } else { Act::TakeBack(target.number) },
        before,
        after,
        rows,
        steps: changes.steps,
        docs,
        items,
        findings: changes.findings.into_iter().chain(computed.findings).chain(told_beside).chain(told).collect(),
        left: Vec::new(),
        keep: Vec::new(),
        roster_after,
        facts: server.facts()?,
    };
    running::looked(server, plan)
}

fn no_entry(number: Option<u64>, history: &[Entry]) -> Error {
    Error::NothingToUndo(match (number, history.first(), history.last()) {
        (Some(n), Some(first), Some(last)) if n < first.number => {
            format!("entry {n} was pruned; the history goes from {} to {}", first.number, last.number)
        }
        (Some(n), _, Some(last)) => format!("the history has no entry {n}; its last is {}", last.number),
        _ => "the history is empty".to_owned(),
    })
}

/// The files as they stood before the undone entries: what the first of them found, which a hand may have changed.
fn wanted_files(rows: &BTreeMap<ItemId, Vec<FileRow>>, touched: &Touched<'_>) -> BTreeMap<ServerPath, WantedFile> {
    let mut out: BTreeMap<ServerPath, WantedFile> = BTreeMap::new();
    for (id, rows) in rows {
        for row in rows.iter().filter(|r| r.is_plain()) {
            let stood = match touched.get(&row.path) {
                Some(None) => continue,
                Some(Some(digest)) => digest.clone(),
                None => row.sha256.clone(),
            };
            let bytes = if stood == row.sha256 { row.bytes } else { 0 };
            let source = Source::Kept(stood.clone());
            let file = WantedFile {
                sha256: stood,
                bytes,
                source,
                owners: BTreeSet::new(),
                settings: false,
                once: row.once,
                layer: false,
            };
            out.entry(row.path.clone()).or_insert(file).owners.insert(id.clone());
        }
    }
    out
}

/// For each path that some entries touched: what the first of them found there.
type Touched<'a> = HashMap<&'a ServerPath, &'a Option<Digest>>;

fn first_found<'a>(entries: &[&'a Entry]) -> Touched<'a> {
    let mut out = HashMap::new();
    for (path, before, _) in entries.iter().flat_map(|e| &e.files) {
        out.entry(path).or_insert(before);
    }
    out
}

/// A settings file that nobody touched since gets its former bytes back exactly; in others only our values go back.
fn exact(server: &Server, undone: &[&Entry], docs: Vec<DocChange>) -> Result<Vec<DocChange>, Error> {
    let mut out = Vec::new();
    for mut doc in docs {
        let touched: Vec<_> = undone.iter().flat_map(|e| &e.files).filter(|(p, ..)| *p == doc.path).collect();
        let now = doc.before.as_ref().map(|b| Digest::of(b));
        if let (Some((_, first, _)), Some((_, _, last))) = (touched.first(), touched.last()) {
            // nobody came between: each entry began where the one before it ended
            let unbroken = touched.windows(2).all(|w| matches!(w, [a, b] if a.2 == b.1));
            if unbroken && *last == now {
                doc.after = match first {
                    Some(digest) => Some(state::kept(server.tree.as_ref(), digest)?),
                    None => None,
                };
            }
        }
        if doc.before != doc.after {
            out.push(doc);
        }
    }
    Ok(out)
}

/// Files that the undone entries wrote whole (copies, repairs, defaults that items ship): their former bytes come
/// back where nobody touched them since.
fn written_beside(
    server: &Server,
    undone: &[&Entry],
    plain: &BTreeSet<&ServerPath>,
    docs: &mut Vec<DocChange>,
    steps: &mut Vec<Step>,
) -> Result<Vec<Finding>, Error> {
    let mut findings = Vec::new();
    let mut ends: BTreeMap<&ServerPath, (&Option<Digest>, &Option<Digest>)> = BTreeMap::new();
    for (path, before, after) in undone.iter().flat_map(|e| &e.files) {
        ends.entry(path).and_modify(|e| e.1 = after).or_insert((before, after));
    }
    for (path, (first, last)) in ends {
        if plain.contains(path) || docs.iter().any(|d| d.path == *path) || first == last {
            continue;
        }
        // what came goes, and what went comes back from quarantine, however large it is
        let seen = state::seen(server.tree.as_ref(), std::slice::from_ref(path))?.pop();
        match (seen, first, last) {
            (Some(Seen::Absent), Some(digest), None) => {
                let (sha256, source) = (digest.clone(), Source::Kept(digest.clone()));
                let (owners, settings, once, layer) = (BTreeSet::new(), false, false, false);
                let file = WantedFile { sha256, bytes: 0, source, owners, settings, once, layer };
                steps.push(Step::Place { path: path.clone(), file, was: None, why: Why::PutBack });
                continue;
            }
            (Some(Seen::File(was)), None, Some(digest)) if was == *digest => {
                steps.push(Step::Remove { path: path.clone(), was, back: None });
                continue;
            }
            _ => {}
        }
        let now = server.tree.read(std::slice::from_ref(path), MOST_SETTINGS)?.pop().flatten();
        let digest = now.as_ref().map(|b| Digest::of(b));
        if digest == *first {
            continue;
        }
        if digest != *last {
            let cause = "it was changed since, so it stays as it is";
            findings.push(Finding::new("changed-by-hand", Severity::Note, cause, "look at it yourself").at(path));
            continue;
        }
        let after = first.as_ref().map(|d| state::kept(server.tree.as_ref(), d)).transpose()?;
        let notes = vec!["as it was before".to_owned()];
        docs.push(DocChange { path: path.clone(), before: now, after, notes });
    }
    Ok(findings)
}

/// The roster's text as it was, but for what was edited since.
fn roster_back(server: &Server, now: Option<&Digest>, goal: Option<&Digest>) -> Result<Option<String>, Error> {
    let (Some(now), Some(goal)) = (now, goal) else { return Ok(None) };
    let text = |digest: &Digest| -> Result<String, Error> {
        Ok(String::from_utf8_lossy(&state::kept(server.tree.as_ref(), digest)?).into_owned())
    };
    let (before, after) = (text(goal)?, text(now)?);
    let refused = |source| roster_error(server, source);
    let mut merged = merge_back(&before, &after, &server.text).map_err(refused)?;
    // what stands in a panel does not change by an undo here
    for (name, text) in &server.roster.hand {
        merged = put_in(&merged, &[HAND], name, &toml_text(text)).map_err(refused)?;
    }
    for name in Roster::parse(&merged).map_err(refused)?.hand.keys().filter(|n| !server.roster.hand.contains_key(*n)) {
        merged = take_in(&merged, &[HAND], name).map_err(refused)?;
    }
    Ok((merged != server.text).then_some(merged))
}

fn item_changes(server: &Server, before: &Ledger, goal: &Ledger) -> Vec<ItemChange> {
    let ids: BTreeSet<&ItemId> = before.items.keys().chain(goal.items.keys()).collect();
    let change = |id: &ItemId| {
        let (old, new) = (before.items.get(id), goal.items.get(id));
        let same = old.map(|h| &h.download) == new.map(|h| &h.download);
        let kind = new.or(old).map(|h| server.family.kind_title(&h.kind).to_owned()).unwrap_or_default();
        let version = |h: &yalotheca_core::ledger::Held| h.facts.version.to_string();
        (!same).then(|| ItemChange {
            id: id.clone(),
            kind,
            before: old.map(version),
            after: new.map(version),
            why: "as it was before".to_owned(),
            bytes: 0,
        })
    };
    ids.into_iter().filter_map(change).collect()
}
