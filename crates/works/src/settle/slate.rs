//! A clean slate for a bundle: what the family clears goes to quarantine in the same transaction in which the bundle
//! comes; worlds, players and whatever else the family keeps stay.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use yalotheca_core::changes::{Seen, Step, Why};
use yalotheca_core::family::CleanSlate;
use yalotheca_core::id::{Digest, ItemId, SERVER, ServerPath};
use yalotheca_core::roster::{Roster, put_item, take_setting};
use yalotheca_core::slot::DocChange;

use super::{Options, Plan, Rows, opener, plan};
use crate::server::{MOST_SETTINGS, Server};
use crate::tree::{Laid, Stat};
use crate::want::{How, line, roster_error, taken_off};
use crate::{Error, state, tune};

/// Plans to bring an item onto a clean slate. `what` is an item as `want` takes it, whether it is on the roster or not;
/// what else is on the roster and has files that are cleared goes.
///
/// # Errors
/// Its kind has no clean slate, or what is left cannot be settled.
pub fn plan_clean(server: &Server, what: &str, options: &Options) -> Result<Plan, Error> {
    let before = state::head(server.tree.as_ref())?;
    let rows = state::rows(server.tree.as_ref(), &before)?;
    let (id, value) = match ItemId::new(what).ok().filter(|id| server.roster.want(id).is_some()) {
        Some(id) => (id, None),
        None => line(server, what, &How::default()).map(|(id, value)| (id, Some(value)))?,
    };
    let mut text = server.text.clone();
    if let Some(value) = &value {
        text = put_item(&text, &id, value).map_err(|e| roster_error(server, e))?;
    }
    let wanted = server.with_roster(text.clone())?;
    let slate = slate_of(&wanted, &id)?;
    for want in server.roster.wants.iter().filter(|w| w.id != id) {
        let rows = rows.get(&want.id).map_or(&[][..], Vec::as_slice);
        // what was never settled has no files yet: it is wanted beside what goes
        let never = !before.items.contains_key(&want.id);
        if never || rows.iter().any(|r| r.path.root() == SERVER && slate.takes(r.path.path())) {
            text = taken_off(server, &text, &want.id)?.unwrap_or(text);
        }
    }
    for tuned in server.roster.tuned.iter().filter(|t| t.file.root() == SERVER && slate.takes(t.file.path())) {
        text = take_setting(&text, &tuned.file, &tuned.at).map_err(|e| tune::roster_error(server, &e))?;
    }
    let cleared = cleared(server, &slate, &rows)?;
    let roster = Roster::parse(&text).map_err(|e| roster_error(server, e))?;
    let tree = Arc::new(Laid::without(server.files.clone(), cleared.keys()));
    let bare = Server::in_tree(&server.roster_path, text.clone(), roster, tree, &server.around)?;
    let bare = Server { told: server.told.clone(), ..bare };
    let mut plan = plan(&bare, options)?;
    // what is cleared was taken by us, not by hand
    let by_us = |file: &Option<String>| file.as_ref().is_some_and(|f| cleared.keys().any(|p| p.to_string() == *f));
    plan.findings.retain(|f| !by_us(&f.file));
    clear(server, &cleared, &mut plan)?;
    if text != server.text && plan.roster_after.is_none() {
        plan.roster_after = Some(text);
    }
    Ok(plan)
}

/// The clean slate of an item's kind.
fn slate_of(server: &Server, id: &ItemId) -> Result<CleanSlate, Error> {
    let kinds = &server.family.rules.kind;
    let origin = server.roster.want(id).and_then(|w| Some((w, w.from.as_ref()?)));
    let kind = match origin {
        Some((want, from)) => {
            let password = want.password_file.as_deref().map(|f| server.beside().join(f));
            let learnt = opener(server, want.kind.as_deref(), password.as_deref()).learn(from.sha256(), id.as_str())?;
            Some(learnt.kind)
        }
        None => server.catalogues.items(&BTreeSet::from([id.clone()]))?.remove(id).map(|o| o.facts.kind),
    };
    let kind = kind.as_deref().and_then(|k| kinds.get(k));
    kind.and_then(|k| k.clean_slate.clone()).ok_or_else(|| {
        let title = kind.map_or_else(|| "no item".to_owned(), |k| yalotheca_core::text::a(&k.title));
        Error::Choice(format!("{id} is {title}, for which nothing is cleared; settle without --clean-slate"))
    })
}

/// The files that go, with their digests: but for those of items that are as the ledger has them, which go or stay with
/// their items.
fn cleared(server: &Server, slate: &CleanSlate, rows: &Rows) -> Result<BTreeMap<ServerPath, Digest>, Error> {
    let goes = |(path, stat): (ServerPath, Stat)| {
        let file = matches!(stat, Stat::File { .. }) && path.root() == SERVER && slate.takes(path.path());
        file.then_some(path)
    };
    let paths: BTreeSet<ServerPath> = server.tree.walk()?.into_iter().filter_map(goes).collect();
    let ours: BTreeMap<&ServerPath, &Digest> =
        rows.values().flatten().filter(|r| !r.settings).map(|r| (&r.path, &r.sha256)).collect();
    let seen = state::seen_by_path(server.tree.as_ref(), paths)?;
    let gone = |(path, seen): (ServerPath, Seen)| match seen {
        Seen::File(digest) if ours.get(&path) != Some(&&digest) => Some((path, digest)),
        _ => None,
    };
    Ok(seen.into_iter().filter_map(gone).collect())
}

/// Puts what is cleared into the plan: each file goes, or makes room for what comes to its place.
fn clear(server: &Server, cleared: &BTreeMap<ServerPath, Digest>, plan: &mut Plan) -> Result<(), Error> {
    let mut left = cleared.clone();
    for step in &mut plan.steps {
        if let Step::Place { path, was, why, .. } = step
            && let Some(digest) = left.remove(path)
        {
            *was = Some(digest);
            *why = Why::InsteadOf;
        }
    }
    plan.steps.retain(|s| !matches!(s, Step::Place { file, was: Some(was), .. } if *was == file.sha256));
    let docs: Vec<ServerPath> = plan.docs.iter().map(|d| d.path.clone()).filter(|p| left.contains_key(p)).collect();
    let bytes = if docs.is_empty() { Vec::new() } else { server.tree.read(&docs, MOST_SETTINGS)? };
    for (path, before) in docs.into_iter().zip(bytes) {
        left.remove(&path);
        let doc: Option<&mut DocChange> = plan.docs.iter_mut().find(|d| d.path == path);
        if let Some(doc) = doc {
            doc.before = before;
        }
    }
    plan.docs.retain(|d| d.before != d.after);
    for path in cleared.keys() {
        plan.after.bases.remove(path);
    }
    // folders that are empty then go, too
    let emptied: Vec<ServerPath> = cleared.keys().flat_map(above).collect();
    plan.before.folders.extend(emptied);
    plan.steps.extend(left.into_iter().map(|(path, was)| Step::Remove { path, was, back: None }));
    plan.steps.sort_by(|a, b| a.path().cmp(b.path()));
    Ok(())
}

/// The folders above a file, but for the outermost: that one is the server's own.
fn above(path: &ServerPath) -> Vec<ServerPath> {
    let starts = path.path().match_indices('/').skip(1).filter_map(|(at, _)| path.path().get(..at));
    starts.filter_map(|folder| ServerPath::new(path.root(), folder).ok()).collect()
}
