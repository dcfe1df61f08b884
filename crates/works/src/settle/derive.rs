//! Containers that are made of files of several items.

mod command;

use std::collections::BTreeMap;

use yalotheca_core::container::Shape;
use yalotheca_core::derive::{self, Derived, EntryClaim, Known, Written};
use yalotheca_core::family::{Caught, Derive, Template, server_path};
use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::id::{Digest, ItemId, ServerPath};
use yalotheca_core::ledger::Ledger;
use yalotheca_core::manifest::{Member, Real};
use yalotheca_core::place::PlaceError;
use yalotheca_core::scene::Fields;
use yalotheca_core::slot::DocChange;

use super::Options;
use super::choose::{self, Picked};
use crate::learn::Learnt;
use crate::scene::{Around, Taken};
use crate::server::MOST_SETTINGS;
use crate::{Error, archive, state};

/// What becomes of the containers.
#[derive(Default)]
pub(super) struct Made {
    pub(super) derived: Vec<Derived>,
    pub(super) docs: Vec<DocChange>,
    /// What stood there before us, which is kept.
    pub(super) keep: Vec<Vec<u8>>,
    pub(super) findings: Vec<Finding>,
}

/// What items want of a container: how it is made up, what makes it, the entries.
#[derive(Default)]
struct Wanted {
    shape: Option<Shape>,
    command: Vec<Template>,
    claims: Vec<EntryClaim>,
}

type Claims = BTreeMap<ServerPath, Wanted>;

/// Makes the containers anew whose claims changed, or that somebody else changed.
pub(super) fn settle(
    around: &Around<'_>,
    options: &Options,
    before: &Ledger,
    picked: &[Picked],
    order: &[ItemId],
) -> Result<Made, Error> {
    let server = around.server;
    let mut wanted = Claims::new();
    for id in order {
        let Some(one) = picked.iter().find(|p| p.id == *id) else { continue };
        let rules = server.family.rules.kind.get(&one.held.kind).map(|k| k.derive.as_slice()).unwrap_or_default();
        if rules.is_empty() {
            continue;
        }
        match &one.learnt {
            None => {
                for old in &before.derived {
                    let mine: Vec<EntryClaim> = old.claims.iter().filter(|c| c.owner == one.id).cloned().collect();
                    if !mine.is_empty() {
                        let here = wanted.entry(old.path.clone()).or_default();
                        here.shape.get_or_insert_with(|| old.shape.clone());
                        here.command = command_of(rules, &old.shape);
                        here.claims.extend(mine);
                    }
                }
            }
            Some(learnt) => {
                for rule in rules {
                    claim(around, one, learnt, rule, &mut wanted)?;
                }
            }
        }
    }
    for old in &before.derived {
        wanted.entry(old.path.clone()).or_default();
    }
    let mut out = Made::default();
    for (path, wanted) in wanted {
        container(around, options, before, picked, path, wanted, &mut out)?;
    }
    Ok(out)
}

/// The program behind a container of the ledger.
fn command_of(rules: &[Derive], shape: &Shape) -> Vec<Template> {
    let same = |d: &&Derive| d.shape().as_ref() == Some(shape);
    rules.iter().find(same).map(|d| d.command.clone()).unwrap_or_default()
}

fn claim(around: &Around<'_>, one: &Picked, learnt: &Learnt, rule: &Derive, wanted: &mut Claims) -> Result<(), Error> {
    let taken = Taken::of(around.server, &one.id, &one.held);
    let Some(item) = taken.item(around.server, 0) else { return Ok(()) };
    let scene = around.scene();
    if rule.when.as_ref().is_some_and(|w| !w.holds(&Fields::of(&scene, &item))) {
        return Ok(());
    }
    let unfilled = |template: &Template| PlaceError::Field {
        item: one.id.clone(),
        template: template.as_str().to_owned(),
        field: String::new(),
    };
    for (path, sha256, caught) in files(learnt, rule) {
        // what an entry is made of goes with that entry
        let entry = item.kind.entry.as_ref().and_then(|e| e.path.catch(&path));
        if entry.as_ref().is_some_and(|e| !item.entries.contains(e)) {
            continue;
        }
        let fields = Fields { caught: Some(&caught), entry: entry.as_ref(), path: &path, ..Fields::of(&scene, &item) };
        let file = fields.fill(&rule.file).ok_or_else(|| unfilled(&rule.file))?;
        let path = server_path(&file).map_err(|source| PlaceError::Path { item: one.id.clone(), source })?;
        let entry = fields.fill(&rule.entry).ok_or_else(|| unfilled(&rule.entry))?;
        let written = rule.digest.as_ref().and_then(|digest| {
            Some(Written {
                entry: digest.entry.clone(),
                format: digest.format,
                at: digest.at.fill_path(|f| fields.get(f))?,
                value: digest.value.fill(|f| (f == "sha256").then(|| sha256.hex().into()))?,
            })
        });
        let here = wanted.entry(path).or_default();
        here.shape = rule.shape();
        here.command.clone_from(&rule.command);
        here.claims.push(EntryClaim { owner: one.id.clone(), entry, sha256, written });
    }
    Ok(())
}

/// The item's files that a rule takes: path, digest, what the pattern caught.
fn files(learnt: &Learnt, rule: &Derive) -> Vec<(String, Digest, Caught)> {
    let look = &learnt.look;
    match &learnt.real {
        Real::Itself | Real::Elsewhere => {
            let caught = if rule.takes_real() { Some(Caught::new()) } else { rule.take.catch(&look.name) };
            caught.map(|c| (look.name.clone(), look.sha256.clone(), c)).into_iter().collect()
        }
        Real::Inside(m) if rule.takes_real() => vec![(m.path.clone(), m.sha256.clone(), Caught::new())],
        Real::Inside(_) | Real::Folder(_) => {
            let folder = learnt.real.folder();
            let below = |m: &Member| {
                let path = m.path.strip_prefix(folder.as_str())?;
                Some((path.to_owned(), m.sha256.clone(), rule.take.catch(path)?))
            };
            look.members.as_deref().unwrap_or_default().iter().filter_map(below).collect()
        }
    }
}

fn container(
    around: &Around<'_>,
    options: &Options,
    before: &Ledger,
    picked: &[Picked],
    path: ServerPath,
    wanted: Wanted,
    out: &mut Made,
) -> Result<(), Error> {
    let server = around.server;
    let Wanted { shape, command, claims } = wanted;
    let old = before.derived.iter().find(|d| d.path == path);
    let now = server.tree.read(std::slice::from_ref(&path), MOST_SETTINGS)?.pop().flatten();
    let shape = shape.or_else(|| old.map(|o| o.shape.clone())).unwrap_or_default();
    if let (Some(old), Some(now)) = (old, &now)
        && old.claims == claims
        && old.shape == shape
        && Digest::of(now) == old.made
    {
        out.derived.push(old.clone());
        return Ok(());
    }
    if let (Some(old), Some(_), Shape::Command) = (old, &now, &shape)
        && old.claims == claims
        && !options.put_back.contains(&path)
    {
        let cause = "it was changed by hand since it was made: kept";
        let fix = format!("to have it made anew: yalotheca settle --put-back {path}");
        out.findings.push(Finding::new("changed-by-hand", Severity::Warning, cause, fix).at(&path));
        out.derived.push(old.clone());
        return Ok(());
    }
    let base = match old {
        Some(old) => old.base.as_ref().map(|d| state::kept(server.tree.as_ref(), d)).transpose()?,
        None => now.clone(),
    };
    let failure = std::cell::RefCell::new(None);
    let made = |claim: &EntryClaim| {
        let one = picked.iter().find(|p| p.id == claim.owner)?;
        bytes(around, one, &claim.sha256).map_err(|e| failure.borrow_mut().get_or_insert(e).to_string()).ok()
    };
    let known = Known { shape: &shape, old, now: now.as_deref(), base: base.as_deref() };
    let after = match shape {
        Shape::Command if !claims.is_empty() => {
            whole(options, &path, known)?;
            command::made(server, &path, &command, base.as_deref(), &claims, &made).map(|bytes| Ok(Some(bytes)))?
        }
        _ => derive::derive(&path, known, &claims, &made),
    };
    if let Some(failure) = failure.into_inner() {
        return Err(failure);
    }
    let after = after?;
    let hand = old.is_some_and(|o| o.changed(now.as_deref()));
    let notes: Vec<String> = claims.iter().map(|c| format!("{} from {}", c.entry, c.owner)).collect();
    if after != now {
        out.docs.push(DocChange { path: path.clone(), before: now, after: after.clone(), notes });
    }
    if let (Some(after), false) = (after, claims.is_empty()) {
        let base = base.map(|b| {
            let digest = Digest::of(&b);
            out.keep.push(b);
            digest
        });
        out.derived.push(Derived { path, shape, base, made: Digest::of(&after), claims, hand });
    }
    Ok(())
}

/// What a program makes is replaced as a whole: somebody else's change of it would be lost.
fn whole(options: &Options, path: &ServerPath, known: Known<'_>) -> Result<(), Error> {
    let changed = known.old.is_some_and(|o| known.now.is_some_and(|n| Digest::of(n) != o.made));
    if !changed || options.put_back.contains(path) {
        return Ok(());
    }
    let cause = "it was changed by hand, and it is made anew as a whole: that change would be lost";
    let fix = format!("keep a copy if you need it, then: yalotheca settle --put-back {path}");
    Err(Error::Undecided(vec![Finding::new("changed-by-hand", Severity::Error, cause, fix).at(path)]))
}

/// The bytes of a file of an item, by digest.
fn bytes(around: &Around<'_>, one: &Picked, sha256: &Digest) -> Result<Vec<u8>, Error> {
    let learnt = match &one.learnt {
        Some(learnt) => learnt.clone(),
        None => choose::open(around.server, one)?,
    };
    if learnt.look.sha256 == *sha256 {
        let path = around.server.around.home.store_path(sha256);
        return std::fs::read(&path).map_err(Error::disk(path, "cannot be read"));
    }
    let members = learnt.look.members.as_deref().unwrap_or_default();
    let member = members.iter().find(|m| m.sha256 == *sha256).ok_or_else(|| Error::Disagree {
        item: one.id.to_string(),
        why: "what a container was made of is not in it any more".to_owned(),
    })?;
    let path = around.server.around.home.archive_path(&learnt.look.sha256);
    let refused = |source| Error::Archive { name: one.id.to_string(), source };
    let mut archive = archive::open(&path).map_err(refused)?;
    if member.bytes > MOST_SETTINGS {
        let why = format!("its `{}` is too large for a container", yalotheca_core::text::clean(&member.path, 80));
        return Err(refused(archive::ArchiveError::TooLarge(why)));
    }
    let mut out = Vec::new();
    archive::with_member(&mut archive, &member.path, |read| read.read_to_end(&mut out))
        .map_err(refused)?
        .map_err(Error::disk(&path, "cannot be read"))?;
    Ok(out)
}
