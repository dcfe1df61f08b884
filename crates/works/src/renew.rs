//! Moving to the newest versions that fit: what would move, and why the rest does not; and whether the server could run on
//! another version of the game.

use std::collections::{BTreeMap, BTreeSet};

use yalotheca_core::facts::{Misfit, VersionFacts};
use yalotheca_core::family::Role;
use yalotheca_core::id::ItemId;
use yalotheca_core::ledger::Ledger;
use yalotheca_core::solve::{Problem, Reason, Reasons, Wanted, tell};
use yalotheca_core::version::{Leap, Range, Scheme, Version};

use crate::server::Server;
use crate::settle::{Asking, NoWay, Options, Plan};
use crate::{Error, state};

/// One item, and where it moves.
#[derive(Debug, Clone, PartialEq)]
pub struct Row {
    /// The item.
    pub id: ItemId,
    /// The version on the server; `None` for one that comes.
    pub old: Option<Version>,
    /// The version then; `None` for one that goes.
    pub new: Option<Version>,
    /// How far that is.
    pub leap: Option<Leap>,
    /// The newest version that anybody offers, where it is another.
    pub newest: Option<Version>,
    /// Why that one is not taken.
    pub why_not: Option<String>,
    /// What it needs then and did not, and what it needs no more.
    pub needs: Vec<String>,
    /// What is new in it.
    pub notes: String,
    /// Where more can be read.
    pub page: String,
}

/// Returns what a plan of renewing comes to, item by item; those that are the newest already are left out.
///
/// # Errors
/// A catalogue cannot be asked.
pub fn rows(server: &Server, plan: &Plan, options: &Options) -> Result<Vec<Row>, Error> {
    let (before, after) = (&plan.before.items, &plan.after.items);
    let ids: BTreeSet<&ItemId> = before.keys().chain(after.keys()).collect();
    let mut asking = Asking::new(server, options, &plan.before, &plan.facts)?;
    // what is known of all of them, and what they would be
    asking.go_on()?.ok();
    let mut out = Vec::new();
    for id in ids {
        let (old, new) = (before.get(id), after.get(id));
        let (versions, scheme) = offered(&mut asking, id)?;
        // a beta is no newer version for who takes none
        let beta = server.roster.want(id).is_some_and(|w| w.beta);
        let newest = versions.iter().find(|v| beta || v.channel == "stable");
        let newest = newest.filter(|v| new.is_some_and(|n| n.facts.version.total(&v.version, scheme).is_lt()));
        let moved = old.map(|h| &h.facts.version) != new.map(|h| &h.facts.version);
        // only what was asked about
        let asked = options.renew.moves(id) || moved;
        if !asked || (!moved && newest.is_none()) {
            continue;
        }
        let why_not = match newest {
            Some(facts) => Some(against(&mut asking, id, facts, scheme)?),
            None => None,
        };
        let needs = |facts: Option<&VersionFacts>| -> BTreeSet<String> {
            facts.into_iter().flat_map(|f| &f.needs).map(ToString::to_string).collect()
        };
        let (had, has) = (needs(old.map(|h| &h.facts)), needs(new.map(|h| &h.facts)));
        let come = has.difference(&had).map(|n| format!("+ {n}"));
        let needs = if old.is_some() {
            come.chain(had.difference(&has).map(|n| format!("- {n}"))).collect()
        } else {
            Vec::new()
        };
        let taken = new.and_then(|n| versions.iter().find(|v| v.version == n.facts.version)).filter(|_| moved);
        out.push(Row {
            id: id.clone(),
            old: old.map(|h| h.facts.version.clone()),
            new: new.map(|h| h.facts.version.clone()),
            leap: old.zip(new).filter(|_| moved).map(|(o, n)| o.facts.version.leap(&n.facts.version, scheme)),
            newest: newest.map(|v| v.version.clone()),
            why_not,
            needs,
            notes: taken.map(|v| v.notes.clone()).unwrap_or_default(),
            page: taken.map(|v| v.page.clone()).unwrap_or_default(),
        });
    }
    Ok(out)
}

/// The versions that anybody offers, newest first.
fn offered(asking: &mut Asking<'_>, id: &ItemId) -> Result<(Vec<VersionFacts>, Scheme), Error> {
    if asking.solver.versions(id).is_none() {
        let mut problem = asking.solver.problem().clone();
        problem.wants = vec![any(id)];
        asking.with(problem)?.ok();
    }
    Ok(asking.solver.versions(id).map_or((Vec::new(), Scheme::Plain), |(v, s)| (v.to_vec(), s)))
}

fn any(id: &ItemId) -> Wanted {
    Wanted { id: id.clone(), range: Range::any(), beta: false, line: 0 }
}

/// What stands against one version of an item, in a sentence.
fn against(asking: &mut Asking<'_>, id: &ItemId, facts: &VersionFacts, scheme: Scheme) -> Result<String, Error> {
    if let Some(misfit) = facts.misfit(&asking.solver.problem().server, scheme) {
        return Ok(misfit.to_string());
    }
    Ok(match forced(asking, id, &facts.version)? {
        Ok(()) => "it was settled before that one came; yalotheca renew takes it".to_owned(),
        Err(way) => way.briefly(id),
    })
}

/// Whether an item could be had in a version, beside everything else that is wanted.
pub(crate) fn forced(asking: &mut Asking<'_>, id: &ItemId, version: &Version) -> Result<Result<(), NoWay>, Error> {
    let mut problem = asking.solver.problem().clone();
    // one version of it, on top of what the roster says of it
    problem.wants.insert(0, Wanted { range: Range::exactly(version), ..any(id) });
    let found = asking.with(problem)?;
    Ok(found.map(|_| ()).map_err(|reasons| NoWay { reasons, helps: Vec::new() }))
}

/// Whether an item is ready for what the server would be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Ready {
    /// As it is.
    Ready,
    /// In this version.
    Renewed(Version),
    /// No version fits; the newest there is.
    None(Option<Version>),
    /// It would be, but for this.
    Blocked(Vec<ItemId>, String),
    /// It is what brings that: the version of the core, if one is known.
    Core(Option<Version>),
}

/// Whether a server could move.
#[derive(Debug, Clone, PartialEq)]
pub struct Readiness {
    /// Each item on the server.
    pub items: Vec<(ItemId, Version, Ready)>,
    /// Why not all of them together, where each alone could.
    pub together: Option<Reasons>,
}

impl Readiness {
    /// Whether the server can move now, or after renewing.
    pub fn is_ready(&self) -> bool {
        let ready = |r: &Ready| matches!(r, Ready::Ready | Ready::Renewed(_) | Ready::Core(_));
        self.together.is_none() && self.items.iter().all(|(_, _, r)| ready(r))
    }
}

/// Returns what of the server is ready for what it would be (`options.suppose`); nothing is changed.
///
/// # Errors
/// A catalogue cannot be asked.
pub fn ready(server: &Server, options: &Options) -> Result<Readiness, Error> {
    let before = state::head(server.tree.as_ref())?;
    let mut known = server.facts()?;
    for (name, value) in &options.suppose {
        known.set(name, vec![value.clone()]);
    }
    let mut asking = Asking::new(server, options, &before, &known)?;
    let cores: BTreeSet<ItemId> =
        before.items.iter().filter(|(_, h)| is_core(server, &h.kind)).map(|(id, _)| id.clone()).collect();
    // the core is what is to be another
    let mut problem = asking.solver.problem().clone();
    problem.wants.retain(|w| !cores.contains(&w.id));
    cores.iter().for_each(|id| drop(problem.held.remove(id)));
    let whole = asking.with(problem.clone())?;
    let mut out = Readiness { items: Vec::new(), together: None };
    for (id, held) in &before.items {
        let version = held.facts.version.clone();
        let ready = if cores.contains(id) {
            Ready::Core(brings(&mut asking, id, options)?)
        } else if let Ok(answer) = &whole {
            match answer.chosen.iter().find(|c| c.id == *id) {
                Some(c) if c.facts.version == version => Ready::Ready,
                Some(c) => Ready::Renewed(c.facts.version.clone()),
                // nothing needs it then
                None => continue,
            }
        } else {
            alone(&mut asking, &problem, id, &version)?
        };
        out.items.push((id.clone(), version, ready));
    }
    if let Err(reasons) = whole
        && out.is_ready()
    {
        out.together = Some(reasons);
    }
    Ok(out)
}

fn is_core(server: &Server, kind: &str) -> bool {
    server.family.rules.kind.get(kind).is_some_and(|k| k.role == Role::Core)
}

/// The newest version of a core that brings the game's version that is supposed.
fn brings(asking: &mut Asking<'_>, id: &ItemId, options: &Options) -> Result<Option<Version>, Error> {
    let Some(game) = options.suppose.get("game").map(|g| Version::new(g)) else { return Ok(None) };
    let (versions, scheme) = offered(asking, id)?;
    let range = Range::parse(&format!("~{game}")).unwrap_or_else(|_| Range::exactly(&game));
    let brings = |f: &&VersionFacts| {
        f.provides.iter().any(|p| p.id.as_str() == "game" && p.version.as_ref().is_some_and(|v| range.holds(v, scheme)))
    };
    Ok(versions.iter().find(brings).map(|f| f.version.clone()))
}

/// One item by itself.
fn alone(asking: &mut Asking<'_>, problem: &Problem, id: &ItemId, version: &Version) -> Result<Ready, Error> {
    let mut problem = problem.clone();
    let want = problem.wants.iter().find(|w| w.id == *id).cloned().unwrap_or_else(|| any(id));
    problem.wants = vec![want];
    let reasons = match asking.with(problem)? {
        Ok(answer) => {
            let found = answer.chosen.iter().find(|c| c.id == *id).map(|c| c.facts.version.clone());
            return Ok(match found {
                Some(v) if v == *version => Ready::Ready,
                Some(v) => Ready::Renewed(v),
                None => Ready::Ready,
            });
        }
        Err(reasons) => reasons,
    };
    let others: BTreeSet<ItemId> = reasons
        .rules
        .iter()
        .filter(|r| {
            matches!(r, Reason::Misfit { .. } | Reason::Never { .. } | Reason::Held { .. } | Reason::Apart { .. })
        })
        .map(|r| r.item().clone())
        .filter(|i| i != id)
        .chain(reasons.unknown.iter().cloned())
        .collect();
    let newest = offered(asking, id)?.0.first().map(|f| f.version.clone());
    let own = |r: &Reason| matches!(r, Reason::Misfit { id: i, misfit, .. } if i == id && *misfit != Misfit::Beta);
    if others.is_empty() || reasons.rules.iter().filter(|r| r.version().is_some()).all(own) {
        return Ok(Ready::None(newest));
    }
    let way = NoWay { reasons, helps: Vec::new() };
    let first = others.iter().next().cloned().unwrap_or_else(|| id.clone());
    let why = way.briefly(&first);
    Ok(Ready::Blocked(others.into_iter().collect(), why))
}

/// Everything that stands against a version, in sentences.
pub(crate) fn said(way: &NoWay) -> Vec<String> {
    tell(&way.reasons)
}

/// The items on the server by their kinds' titles, for tables.
pub fn kinds(server: &Server, ledger: &Ledger) -> BTreeMap<ItemId, String> {
    let title = |kind: &str| server.family.kind_title(kind).to_owned();
    ledger.items.iter().map(|(id, h)| (id.clone(), title(&h.kind))).collect()
}
