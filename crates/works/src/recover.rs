//! What a run that was ended left half done is taken back or finished by the next one.
//!
//! Before anything moves, a run writes its whole way as one file, `plans/NUMBER.json`. As long as the generation it
//! leads to is not there, it is taken back; once that is there, what was left to do is finished. How far the run came
//! is read from the tree itself, and each step back is a step of the same sort, so dying on the way back is no harm
//! either.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use serde::{Deserialize, Serialize};
use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::id::{Digest, ServerPath};
use yalotheca_core::ledger::LedgerError;
use yalotheca_core::roster::merge_back;

use crate::home::write_whole;
use crate::tree::{Effect, Holder, Stat, Tree, TreeError, hold, state_path};
use crate::{Error, state};

/// A run's whole way, as it is written before anything moves (`docs/ledger-format.md`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Way {
    /// The format's number: 1.
    pub format: u32,
    /// The generation it leads to.
    pub number: u64,
    /// Who went it.
    pub who: String,
    /// The steps.
    pub steps: Vec<WayStep>,
    /// The roster's bytes before and after, by digest, where the run changes it.
    pub roster: Option<(Digest, Digest)>,
    /// Second copies in quarantine that go when all is done.
    pub doubles: Vec<ServerPath>,
    /// Folders of ours that go when all is done and nothing is left in them.
    pub folders: Vec<ServerPath>,
}

/// A step of a way.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum WayStep {
    /// A folder is made.
    Make(ServerPath),
    /// A file gets another name.
    Move {
        /// Its name before.
        from: ServerPath,
        /// Its name after.
        to: ServerPath,
        /// Its bytes.
        sha256: Digest,
        /// Its size.
        bytes: u64,
    },
    /// A new file takes the place of another.
    Swap {
        /// The new file, staged.
        new: ServerPath,
        /// The place.
        at: ServerPath,
        /// Where the other one goes.
        old: ServerPath,
        /// The new file's bytes.
        sha256: Digest,
        /// The new file's size.
        bytes: u64,
    },
}

impl WayStep {
    /// Returns what is done on the tree.
    pub(crate) fn effect(&self) -> Effect {
        match self.clone() {
            WayStep::Make(path) => Effect::Folder(path),
            WayStep::Move { from, to, .. } => Effect::Rename(from, to),
            WayStep::Swap { new, at, old, .. } => Effect::Swap { new, at, old },
        }
    }
}

/// Returns where a run's way is written.
pub(crate) fn plan_path(number: u64) -> Result<ServerPath, Error> {
    Ok(state_path(&format!("plans/{number:06}.json"))?)
}

/// What was found and done.
#[derive(Debug, Clone, Default)]
pub struct Recovered {
    /// What to tell about it.
    pub told: Vec<Finding>,
    /// Whether the roster was written.
    pub roster: bool,
}

/// A file of a server is compared byte for byte on the way back up to this size; a larger one by its size (bytes).
const COMPARED: u64 = 1_000_000;

/// Takes back or finishes what a run that was ended left.
///
/// # Errors
/// The tree fails, or a plan is damaged.
pub fn recover(tree: &Arc<dyn Tree>, roster: &Path, holder: &Holder) -> Result<Recovered, Error> {
    let mut out = Recovered::default();
    let mut left = tree.list(&[state_path("plans")?, state_path("staging")?])?.into_iter();
    let (plans, staged) = (left.next().unwrap_or_default(), left.next().unwrap_or_default());
    if plans.is_empty() && staged.is_empty() {
        return Ok(out);
    }
    let _hold = match hold(tree, holder) {
        Ok(hold) => hold,
        // the run that wrote the plan is still at work
        Err(TreeError::Held { .. }) => return Ok(out),
        Err(e) => return Err(e.into()),
    };
    let tree = tree.as_ref();
    let newest = state::newest(tree)?;
    for number in state::numbers(tree, "plans")? {
        let path = plan_path(number)?;
        let Some(bytes) = tree.read(std::slice::from_ref(&path), u64::MAX)?.pop().flatten() else { continue };
        let way: Way = serde_json::from_slice(&bytes).map_err(|e| {
            let why = yalotheca_core::text::clean(&e.to_string(), 120);
            let fix =
                "what it moved lies in quarantine/ and staging/ beside it; put that back, then take the plan away";
            LedgerError::Damaged(format!("plans/{number:06}.json: {why}; {fix}"))
        })?;
        if number > newest {
            let (moved, changed) = take_back(tree, &way.steps)?;
            if moved {
                let cause = format!("a run was ended in the middle of change {number}: it was taken back");
                out.told.push(Finding::new(
                    "taken-back",
                    Severity::Warning,
                    cause,
                    "look at the changes, and settle again",
                ));
            }
            out.told.extend(changed);
        } else {
            out.roster |= finish(tree, roster, &way)?;
            let cause = format!("a run was ended just after change {number} was made: it was finished");
            out.told.push(Finding::new("finished", Severity::Note, cause, "nothing is left to do"));
        }
        sweep(tree, number)?;
        tree.apply(&[Effect::Discard(path)])?;
    }
    // what was staged before its plan was written
    for (name, _) in tree.list(&[state_path("staging")?])?.into_iter().flatten() {
        if let Ok(number) = name.parse() {
            sweep(tree, number)?;
        }
    }
    Ok(out)
}

/// Goes back from wherever a run was ended; returns whether anything had moved, and what was met on the way.
pub(crate) fn take_back(tree: &dyn Tree, steps: &[WayStep]) -> Result<(bool, Vec<Finding>), Error> {
    let places = |step: &WayStep| match step {
        WayStep::Make(_) => Vec::new(),
        WayStep::Move { from, to, .. } => vec![from.clone(), to.clone()],
        WayStep::Swap { new, at, old, .. } => vec![new.clone(), at.clone(), old.clone()],
    };
    let paths: Vec<ServerPath> = steps.iter().flat_map(places).collect();
    let stats = if paths.is_empty() { Vec::new() } else { tree.stat(&paths)? };
    let stood: BTreeMap<&ServerPath, Stat> = paths.iter().zip(stats).collect();
    let there = |path: &ServerPath| stood.get(path).is_some_and(|s| *s != Stat::Absent);
    let (mut away, mut back, mut folders, mut told) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for step in steps.iter().rev() {
        match step {
            WayStep::Make(path) => folders.push(Effect::RemoveFolder(path.clone())),
            WayStep::Move { from, to, sha256, bytes } if !there(from) && there(to) => {
                let kept = put_aside(tree, to, stood.get(to), (sha256, *bytes), &mut told)?;
                away.push(Effect::Rename(to.clone(), kept.unwrap_or_else(|| from.clone())));
            }
            WayStep::Move { .. } => {}
            WayStep::Swap { new, at, old, sha256, bytes } if there(old) => match (there(at), there(new)) {
                (true, true) => {
                    // the old file had got its second name only, unless somebody put another one there since
                    if matches!(tree.digest(&[at.clone(), old.clone()])?.as_slice(), [a, b] if a == b) {
                        away.push(Effect::Discard(old.clone()));
                    }
                }
                (true, false) => {
                    let kept = put_aside(tree, at, stood.get(at), (sha256, *bytes), &mut told)?;
                    away.push(Effect::Rename(at.clone(), kept.unwrap_or_else(|| new.clone())));
                    back.push(Effect::Rename(old.clone(), at.clone()));
                }
                (false, _) => back.push(Effect::Rename(old.clone(), at.clone())),
            },
            WayStep::Swap { .. } => {}
        }
    }
    let moved = !away.is_empty() || !back.is_empty();
    for effects in [away, back, folders] {
        if !effects.is_empty() {
            tree.apply(&effects)?;
        }
    }
    Ok((moved, told))
}

/// What somebody changed since the run was ended is kept in quarantine under its own digest, and told; `None` when
/// the file is what the run put there.
fn put_aside(
    tree: &dyn Tree,
    path: &ServerPath,
    stat: Option<&Stat>,
    meant: (&Digest, u64),
    told: &mut Vec<Finding>,
) -> Result<Option<ServerPath>, Error> {
    let Some(Stat::File { bytes, .. }) = stat else { return Ok(None) };
    if path.root() == crate::tree::STATE_ROOT || (*bytes == meant.1 && *bytes > COMPARED) {
        return Ok(None);
    }
    let Some(digest) = tree.digest(std::slice::from_ref(path))?.pop().flatten() else { return Ok(None) };
    if digest == *meant.0 {
        return Ok(None);
    }
    let kept = state::kept_path(&digest)?;
    let cause = "it was changed after a run was ended in the middle; the file from before that run is back";
    let fix = format!("your version is kept as {} in quarantine", digest.short());
    told.push(Finding::new("changed-in-between", Severity::Warning, cause, fix).at(path));
    let free = tree.stat(std::slice::from_ref(&kept))?.first() == Some(&Stat::Absent);
    Ok(free.then_some(kept))
}

/// Does what is left of a run whose generation is there; returns whether the roster was written.
fn finish(tree: &dyn Tree, roster: &Path, way: &Way) -> Result<bool, Error> {
    let mut written = false;
    if let Some((before, after)) = &way.roster {
        let now = std::fs::read(roster).ok();
        if now.as_ref().is_none_or(|n| Digest::of(n) != *after) {
            let text = |digest| Ok::<_, Error>(String::from_utf8_lossy(&state::kept(tree, digest)?).into_owned());
            let after = text(after)?;
            let merged = match now.map(|n| String::from_utf8_lossy(&n).into_owned()) {
                // what was edited since stays
                Some(now) => merge_back(&after, &text(before)?, &now).unwrap_or(after),
                None => after,
            };
            write_whole(roster, merged.as_bytes())?;
            written = true;
        }
    }
    let doubles = way.doubles.iter().cloned().map(Effect::Discard);
    let folders = way.folders.iter().cloned().map(Effect::RemoveFolder);
    tree.apply(&doubles.chain(folders).collect::<Vec<_>>())?;
    Ok(written)
}

/// Takes away what a run staged.
pub(crate) fn sweep(tree: &dyn Tree, number: u64) -> Result<(), Error> {
    let top = state_path(&format!("staging/{number:06}"))?;
    let below = |folder: &ServerPath, name: &str| ServerPath::new(folder.root(), &format!("{}/{name}", folder.path()));
    let mut folders = vec![top.clone()];
    let mut effects = Vec::new();
    let listed = tree.list(std::slice::from_ref(&top))?.pop().unwrap_or_default();
    for (name, stat) in &listed {
        match stat {
            Stat::Folder => folders.push(below(&top, name)?),
            _ => effects.push(Effect::Discard(below(&top, name)?)),
        }
    }
    let inner = folders.get(1..).unwrap_or_default();
    if !inner.is_empty() {
        for (folder, listed) in inner.iter().zip(tree.list(inner)?) {
            for (name, _) in listed {
                effects.push(Effect::Discard(below(folder, &name)?));
            }
        }
    }
    effects.extend(folders.into_iter().rev().map(Effect::RemoveFolder));
    Ok(tree.apply(&effects)?)
}
