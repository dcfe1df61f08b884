//! Containers that are made of files of several items.

use std::collections::BTreeMap;

use yalotheca_core::derive::{self, Derived, EntryClaim, Known, Written};
use yalotheca_core::family::{Derive, server_path};
use yalotheca_core::id::{Digest, ItemId, ServerPath};
use yalotheca_core::ledger::Ledger;
use yalotheca_core::place::PlaceError;
use yalotheca_core::scene::Fields;
use yalotheca_core::slot::DocChange;

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
}

type Claims = BTreeMap<ServerPath, Vec<EntryClaim>>;

/// Makes the containers anew whose claims changed, or that somebody else changed.
pub(super) fn settle(around: &Around<'_>, before: &Ledger, picked: &[Picked], order: &[ItemId]) -> Result<Made, Error> {
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
                    let mine = old.claims.iter().filter(|c| c.owner == one.id).cloned();
                    wanted.entry(old.path.clone()).or_default().extend(mine);
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
    for (path, claims) in wanted {
        container(around, before, picked, path, claims, &mut out)?;
    }
    Ok(out)
}

fn claim(around: &Around<'_>, one: &Picked, learnt: &Learnt, rule: &Derive, wanted: &mut Claims) -> Result<(), Error> {
    let taken = Taken::of(around.server, &one.id, &one.held);
    let Some(item) = taken.item(around.server, 0) else { return Ok(()) };
    let scene = around.scene();
    let fields = Fields::of(&scene, &item);
    if rule.when.as_ref().is_some_and(|w| !w.holds(&fields)) {
        return Ok(());
    }
    let folder = learnt.real.folder();
    let members = learnt.look.members.as_deref().unwrap_or_default();
    let Some(member) = members.iter().find(|m| m.path.strip_prefix(folder.as_str()).is_some_and(|p| rule.take.fits(p)))
    else {
        return Ok(());
    };
    let unfilled = |template: &str| PlaceError::Field {
        item: one.id.clone(),
        template: template.to_owned(),
        field: String::new(),
    };
    let file = fields.fill(&rule.file).ok_or_else(|| unfilled(rule.file.as_str()))?;
    let path = server_path(&file).map_err(|source| PlaceError::Path { item: one.id.clone(), source })?;
    let entry = fields.fill(&rule.entry).ok_or_else(|| unfilled(rule.entry.as_str()))?;
    let written = rule.digest.as_ref().and_then(|digest| {
        Some(Written {
            entry: digest.entry.clone(),
            format: digest.format,
            at: digest.at.fill_path(|f| fields.get(f))?,
            value: digest.value.fill(|f| (f == "sha256").then(|| member.sha256.hex().into()))?,
        })
    });
    let claim = EntryClaim { owner: one.id.clone(), entry, sha256: member.sha256.clone(), written };
    wanted.entry(path).or_default().push(claim);
    Ok(())
}

fn container(
    around: &Around<'_>,
    before: &Ledger,
    picked: &[Picked],
    path: ServerPath,
    claims: Vec<EntryClaim>,
    out: &mut Made,
) -> Result<(), Error> {
    let server = around.server;
    let old = before.derived.iter().find(|d| d.path == path);
    let now = server.tree.read(std::slice::from_ref(&path), MOST_SETTINGS)?.pop().flatten();
    if let (Some(old), Some(now)) = (old, &now)
        && old.claims == claims
        && Digest::of(now) == old.made
    {
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
    let known = Known { old, now: now.as_deref(), base: base.as_deref() };
    let after = derive::derive(&path, known, &claims, &made);
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
        out.derived.push(Derived { path, base, made: Digest::of(&after), claims, hand });
    }
    Ok(())
}

/// The bytes of a file of an item, by digest.
fn bytes(around: &Around<'_>, one: &Picked, sha256: &Digest) -> Result<Vec<u8>, Error> {
    let learnt = match &one.learnt {
        Some(learnt) => learnt.clone(),
        None => choose::open(around.server, one)?,
    };
    let members = learnt.look.members.as_deref().unwrap_or_default();
    let member = members.iter().find(|m| m.sha256 == *sha256).ok_or_else(|| Error::Disagree {
        item: one.id.to_string(),
        why: "what a container was made of is not in it any more".to_owned(),
    })?;
    let path = around.server.around.home.archive_path(&learnt.look.sha256);
    archive::read_member(&path, &member.path).map_err(|source| Error::Archive { name: one.id.to_string(), source })
}
