//! Takes a server under care: recognises its family, finds what is on it, writes a roster and the first ledger.
//! Nothing on the server itself is changed.

pub(crate) mod found;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use yalotheca_core::facts::ServerFacts;
use yalotheca_core::family::Family;
use yalotheca_core::finding::Finding;
use yalotheca_core::id::{Digest, ItemId, ServerPath};
use yalotheca_core::ledger::{Act, Held, HeldFrom, Ledger, LedgerError, render_rows};
use yalotheca_core::roster::{Origin, Roster};
use yalotheca_core::slot::{self, Claim, Slot};
use yalotheca_core::solve::Question;
use yalotheca_core::wire;

use crate::home::write_whole;
use crate::recover::recover;
use crate::scene::{Around, Taken};
use crate::server::{MOST_SETTINGS, Server, Surroundings, state_folder};
use crate::settle::{ItemChange, Plan};
use crate::tree::{self, Login, Stat, Tree};
use crate::{Error, apply, families, state};
use found::{candidates, held};

/// A family is taken as recognised from this certainty on.
const CERTAIN: u32 = 100;

/// What to adopt.
#[derive(Debug, Clone)]
pub struct Request {
    /// Where the roster is to stand.
    pub roster: PathBuf,
    /// The server's folder, as it is to be written on the roster.
    pub at: String,
    /// The family, when it is not to be recognised.
    pub family: Option<String>,
    /// The catalogues to write on the roster.
    pub catalogues: Vec<String>,
    /// Folders beside the server's own, by name, as they are to be written on the roster.
    pub roots: BTreeMap<String, String>,
    /// How to reach a rented host, as it is to be written on the roster.
    pub login: Login,
    /// Whether roster and ledger are written; else it is only looked.
    pub write: bool,
}

/// How an item on the server became known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KnownBy {
    /// A catalogue has a file of the same digest.
    Hash,
    /// Its own manifest.
    Manifest,
}

/// An item found on the server.
#[derive(Debug, Clone)]
pub struct FoundItem {
    /// The item.
    pub id: ItemId,
    /// Its version.
    pub version: String,
    /// Its kind's title.
    pub kind: String,
    /// How it became known.
    pub by: KnownBy,
    /// Its first file.
    pub path: ServerPath,
}

/// What adopting found and did.
#[derive(Debug, Clone)]
pub struct Adopted {
    /// The family's name and title.
    pub family: (String, String),
    /// How sure its marks make it; absent when it was named.
    pub certainty: Option<u32>,
    /// What was read on the server.
    pub facts: ServerFacts,
    /// What the family reads, whether it was there or not.
    pub reads: Vec<String>,
    /// The items found.
    pub items: Vec<FoundItem>,
    /// Files that could not be placed, and why not.
    pub unplaced: Vec<(ServerPath, String)>,
    /// Catalogues that could not be asked.
    pub unasked: Option<String>,
    /// Whether the server was under care already; its ledger stays as it is.
    pub again: bool,
    /// What was met when the server was opened: a run that had been ended half way.
    pub told: Vec<Finding>,
}

/// Adopts a server.
///
/// # Errors
/// A roster stands there already, the folder is not there, or its family is not recognised.
pub fn adopt(request: &Request, around: &Surroundings) -> Result<Adopted, Error> {
    if request.roster.exists() {
        return Err(Error::RosterExists(request.roster.clone()));
    }
    let beside = request.roster.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let tree = tree::open(&request.at, &request.roots, beside, &request.login, around)?;
    let told = recover(&tree, &request.roster, &around.holder())?.told;
    let head = state::head(tree.as_ref())?;
    if head.generation > 0 {
        return again(request, around, &tree, &head, told);
    }
    let files = tree.walk()?;
    let (family, certainty) = which(request, around, tree.as_ref(), &files)?;
    // where a family lets our files be is known only now
    tree.allow_state(&state_folder(&family));
    let head = state::head(tree.as_ref())?;
    if head.generation > 0 {
        return again(request, around, &tree, &head, told);
    }
    let mut text = roster_text(request, &family);
    let server = open(request, &text, &tree, around)?;
    let facts = server.facts()?;
    let mut refused = Vec::new();
    let candidates = candidates(&server, &files, &facts, &|_| true, &mut refused)?;
    let mut unplaced: Vec<(ServerPath, String)> = refused.into_iter().map(|r| (r.path, r.why)).collect();
    let digests: Vec<Question> = candidates.iter().map(|c| Question::File(c.download.clone())).collect();
    let (named, unasked) = match server.catalogues.named(&digests) {
        Ok(named) => (named, None),
        Err(e) => (vec![Vec::new(); digests.len()], Some(e.to_string())),
    };
    let mut items = Vec::new();
    let mut ledger = Ledger { family: family.rules.name.clone(), ..Ledger::default() };
    let mut rows = BTreeMap::new();
    for (one, named) in candidates.into_iter().zip(named) {
        let id = one.learnt.found.id.clone();
        if rows.contains_key(&id) {
            unplaced.push((one.path, format!("{id} is on the server twice; keep one of the two")));
            continue;
        }
        let (held, by) = held(&server, &one, &named)?;
        let line = match (&held.from, by) {
            (HeldFrom::Origin(Origin::Here { path, sha256 }), _) => {
                format!("{{ here = {path:?}, sha256 = \"{sha256}\" }}")
            }
            _ => "\"*\"".to_owned(),
        };
        text = yalotheca_core::roster::put_item(&text, &id, &line).map_err(|source| Error::Roster {
            path: request.roster.clone(),
            text: text.clone(),
            source,
        })?;
        items.push(FoundItem {
            id: id.clone(),
            version: held.facts.version.to_string(),
            kind: family.kind_title(&held.kind).to_owned(),
            by,
            path: one.path,
        });
        ledger.items.insert(id.clone(), Held { files: render_rows(&one.rows)?.0, ..held });
        rows.insert(id, one.rows);
    }
    let claimed: BTreeSet<&ServerPath> = rows.values().flatten().map(|r| &r.path).collect();
    let strangers = files.iter().filter(|(p, s)| {
        matches!(s, Stat::File { .. })
            && !claimed.contains(p)
            && !family.owns(p.path())
            && !unplaced.iter().any(|(u, _)| u == p)
    });
    let strangers: Vec<_> = strangers.map(|(p, _)| (p.clone(), "nobody knows this file".to_owned())).collect();
    unplaced.extend(strangers);
    unplaced.sort();
    (ledger.slots, ledger.order) = slots_as_they_are(&server, &ledger, &facts)?;
    ledger.roster = Some(Digest::of(text.as_bytes()));
    let server = open(request, &text, &tree, around)?;
    let plan = Plan {
        act: Act::Adopt,
        before: Ledger::default(),
        items: items.iter().map(change).collect(),
        after: ledger,
        rows,
        steps: Vec::new(),
        docs: Vec::new(),
        findings: Vec::new(),
        left: Vec::new(),
        keep: Vec::new(),
        roster_after: None,
        facts: facts.clone(),
    };
    if request.write {
        let _ = apply::carry_out(&server, plan)?;
        write_whole(&request.roster, text.as_bytes())?;
    }
    Ok(Adopted {
        family: (family.rules.name, family.rules.title),
        certainty,
        reads: server.family.rules.fact.keys().cloned().collect(),
        facts,
        items,
        unplaced,
        unasked,
        again: false,
        told,
    })
}

/// A server that is under care already, by another machine or a lost roster: its roster is brought back as it was
/// settled last, and its ledger stays.
fn again(
    request: &Request,
    around: &Surroundings,
    tree: &Arc<dyn Tree>,
    head: &Ledger,
    told: Vec<Finding>,
) -> Result<Adopted, Error> {
    let gone = || LedgerError::Damaged("the roster as it was settled last is gone".to_owned());
    let digest = head.roster.as_ref().ok_or_else(gone)?;
    let mut text = String::from_utf8_lossy(&state::kept(tree.as_ref(), digest)?).into_owned();
    let server = open(request, &text, tree, around)?;
    if server.roster.at != request.at {
        text = text.replacen(&format!("at = {:?}", server.roster.at), &format!("at = {:?}", request.at), 1);
    }
    let server = open(request, &text, tree, around)?;
    let facts = server.facts()?;
    let rows = state::rows(tree.as_ref(), head)?;
    let item = |(id, held): (&ItemId, &Held)| {
        let path = rows.get(id).and_then(|r| r.first()).map(|r| r.path.clone())?;
        let by = if matches!(held.from, HeldFrom::Catalogue(_)) { KnownBy::Hash } else { KnownBy::Manifest };
        let kind = server.family.kind_title(&held.kind).to_owned();
        Some(FoundItem { id: id.clone(), version: held.facts.version.to_string(), kind, by, path })
    };
    let items = head.items.iter().filter_map(item).collect();
    if request.write {
        write_whole(&request.roster, text.as_bytes())?;
    }
    let family = (server.family.rules.name.clone(), server.family.rules.title.clone());
    let reads = server.family.rules.fact.keys().cloned().collect();
    Ok(Adopted { family, certainty: None, reads, facts, items, unplaced: Vec::new(), unasked: None, again: true, told })
}

fn change(item: &FoundItem) -> ItemChange {
    ItemChange {
        id: item.id.clone(),
        kind: item.kind.clone(),
        before: None,
        after: Some(item.version.clone()),
        why: "found".to_owned(),
        bytes: 0,
    }
}

fn open(request: &Request, text: &str, tree: &Arc<dyn Tree>, around: &Surroundings) -> Result<Server, Error> {
    let roster = Roster::parse(text).map_err(|source| Error::Roster {
        path: request.roster.clone(),
        text: text.to_owned(),
        source,
    })?;
    Server::in_tree(&request.roster, text.to_owned(), roster, tree.clone(), around)
}

fn which(
    request: &Request,
    around: &Surroundings,
    tree: &dyn Tree,
    files: &[(ServerPath, Stat)],
) -> Result<(Family, Option<u32>), Error> {
    if let Some(name) = &request.family {
        return Ok((families::named(&around.home, name)?, None));
    }
    let sure = families::recognise(&around.home, tree, files)?;
    let certain: Vec<_> = sure.iter().filter(|(_, s)| *s >= CERTAIN).collect();
    match certain.as_slice() {
        [(family, s)] => Ok((family.clone(), Some(*s))),
        _ => Err(Error::NotRecognised {
            place: request.at.clone(),
            nearest: sure.iter().filter(|(_, s)| *s > 0).map(|(f, s)| (f.rules.name.clone(), *s)).collect(),
        }),
    }
}

fn roster_text(request: &Request, family: &Family) -> String {
    let mut out = String::new();
    let catalogues = request.catalogues.iter().map(|c| format!("{c:?}")).collect::<Vec<_>>().join(", ");
    let _ = write!(
        out,
        "\
# What you want on this server ({title}). Edit it by hand, or with `yalotheca want` and
# `yalotheca drop`; comments and order are kept. `yalotheca settle` makes the server match it.
format = 1

# Where items are looked for, first one first: addresses or folders.
catalogues = [{catalogues}]

[server]
family = {family:?}
at = {at:?}    # the server's folder, from here, or a rented host
{login}{roots}
# One line an item: the versions it may have (\"*\" any, \"^2\" 2 and up but below 3, \"=2.1.0\").
[items]
",
        title = family.rules.title,
        family = family.rules.name,
        at = request.at,
        login = login_lines(&request.login),
        roots = root_lines(&request.roots),
    );
    out
}

fn login_lines(login: &Login) -> String {
    let mut out = String::new();
    if let Some(key) = &login.key {
        let _ = writeln!(out, "key = {key:?}");
    }
    if let Some(file) = &login.password_file {
        let _ = writeln!(out, "password-file = {file:?}");
    }
    if let Some(connections) = login.connections {
        let _ = writeln!(out, "connections = {connections}");
    }
    out
}

fn root_lines(roots: &BTreeMap<String, String>) -> String {
    let mut out = String::new();
    for (at, (name, folder)) in roots.iter().enumerate() {
        if at == 0 {
            out.push_str("\n# Folders beside the server's own.\n[roots]\n");
        }
        let _ = writeln!(out, "{} = {folder:?}", yalotheca_core::settings::toml_key(name));
    }
    out
}

/// The slots with what stands in the settings already as ours, and the load order that the lists show.
fn slots_as_they_are(server: &Server, ledger: &Ledger, facts: &ServerFacts) -> Result<(Vec<Slot>, Vec<ItemId>), Error> {
    let taken: Vec<Taken<'_>> = ledger.items.iter().map(|(id, h)| Taken::of(server, id, h)).collect();
    let wired: Vec<_> = taken.iter().enumerate().filter_map(|(at, t)| t.item(server, at + 1)).collect();
    let around = Around::of(server, facts)?;
    let claims: Vec<Claim> = wire::wire(&wired, &around.scene(), &[], None)?
        .claims
        .into_iter()
        .filter(|c| matches!(c.owner, yalotheca_core::slot::Owner::Item(_)))
        .collect();
    let mut slots: Vec<Slot> = Vec::new();
    let mut places: BTreeMap<ItemId, usize> = BTreeMap::new();
    for claim in &claims {
        let bytes =
            server.tree.read(std::slice::from_ref(&claim.key.path), MOST_SETTINGS)?.pop().flatten().unwrap_or_default();
        let seen = slot::elements_of(&claim.key, &bytes);
        let Some(place) = seen.iter().position(|s| slot::is_element(&claim.key, s, &claim.value)) else { continue };
        if let (yalotheca_core::slot::Owner::Item(id), true) = (&claim.owner, claim.key.is_list()) {
            places.insert(id.clone(), place);
        }
        let at = slots.iter().position(|s| s.key == claim.key).unwrap_or_else(|| {
            let base = if claim.key.is_list() { seen.clone() } else { Vec::new() };
            slots.push(Slot { base, ..Slot::new(claim.key.clone()) });
            slots.len() - 1
        });
        if let Some(slot) = slots.get_mut(at) {
            slot.base.retain(|b| !slot::is_element(&claim.key, b, &claim.value));
            slot.claims.push((claim.owner.clone(), claim.value.clone()));
            slot.written.extend(seen.get(place).cloned());
        }
    }
    for slot in &mut slots {
        // ours stand in the file's order
        let place = |owner: &yalotheca_core::slot::Owner| match owner {
            yalotheca_core::slot::Owner::Item(id) => places.get(id).copied().unwrap_or(usize::MAX),
            _ => usize::MAX,
        };
        slot.claims.sort_by_key(|(owner, _)| place(owner));
        let written = std::mem::take(&mut slot.written);
        let stood = |v: &_| written.iter().find(|w| slot::is_element(&slot.key, w, v)).cloned();
        slot.written = slot.claims.iter().map(|(_, v)| stood(v).unwrap_or_else(|| v.clone())).collect();
    }
    let mut order: Vec<ItemId> = ledger.items.keys().cloned().collect();
    order.sort_by_key(|id| (places.get(id).copied().unwrap_or(usize::MAX), id.clone()));
    Ok((slots, order))
}
