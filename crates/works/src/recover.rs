//! What a killed run left half done is taken back by the next one.
//!
//! Before anything moves, a run writes its renames as one file, `plans/NUMBER.json`. When that file is there and the
//! generation it leads to is not, the run died on the way: how far it came is read from the tree itself, and the way
//! is gone back. Each step back is done by a rename, so dying on the way back is no harm either.

use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::id::ServerPath;

use crate::server::Server;
use crate::tree::{Effect, STATE, Stat, Tree, TreeError, state_path};
use crate::{Error, state};

/// A run's way, as it is written: `[from, to]` for a rename, `[folder]` for a folder that was made.
type Way = Vec<Vec<ServerPath>>;

/// Returns where a run's way is written.
pub(crate) fn plan_path(number: u64) -> Result<ServerPath, Error> {
    Ok(state_path(&format!("plans/{number:06}.json"))?)
}

/// Returns a run's way as bytes.
pub(crate) fn render(switch: &[Effect]) -> Vec<u8> {
    let step = |e: &Effect| match e {
        Effect::Rename(from, to) => Some(vec![from.clone(), to.clone()]),
        Effect::Folder(path) => Some(vec![path.clone()]),
        _ => None,
    };
    let way: Way = switch.iter().filter_map(step).collect();
    serde_json::to_vec(&way).unwrap_or_default()
}

/// Takes back what a killed run left half done; returns what to tell about it.
///
/// # Errors
/// The tree fails.
pub fn recover(server: &Server) -> Result<Option<Finding>, Error> {
    let tree = server.tree.as_ref();
    if state::numbers(tree, "plans")?.is_empty() {
        return Ok(None);
    }
    let _hold = match tree.hold(&format!("pid {} since {}", std::process::id(), server.around.now)) {
        Ok(hold) => hold,
        // the run that wrote the plan is still at work
        Err(TreeError::Held { .. }) => return Ok(None),
        Err(e) => return Err(e.into()),
    };
    let newest = state::newest(tree)?;
    let mut told = None;
    for number in state::numbers(tree, "plans")? {
        let path = plan_path(number)?;
        let way = tree.read(std::slice::from_ref(&path), u64::MAX)?.pop().flatten();
        // half a plan means that nothing had moved yet
        let way: Way = way.and_then(|b| serde_json::from_slice(&b).ok()).unwrap_or_default();
        let mut back = if number > newest { way_back(tree, &way)? } else { Vec::new() };
        if back.iter().any(|e| matches!(e, Effect::Rename(..))) {
            let cause = format!("a run was ended in the middle of change {number}: it was taken back");
            let fix = "look at the changes, and settle again";
            told = Some(Finding::new("taken-back", Severity::Warning, cause, fix));
        }
        let staged =
            way.iter().filter_map(|s| s.first()).filter(|p| p.path().starts_with(&format!("{STATE}/staging/")));
        back.extend(staged.cloned().map(Effect::Discard));
        back.push(Effect::Discard(path));
        tree.apply(&back)?;
    }
    Ok(told)
}

/// The steps back from wherever the run was ended.
fn way_back(tree: &dyn Tree, way: &Way) -> Result<Vec<Effect>, Error> {
    let state = format!("{STATE}/");
    // a staged file that is gone was put in place; a file that lies in quarantine was moved there
    let probe = |step: &Vec<ServerPath>| match step.as_slice() {
        [from, to] if from.path().starts_with(&state) => Some((from.clone(), to.clone(), true)),
        [from, to] => Some((to.clone(), from.clone(), false)),
        _ => None,
    };
    let probes: Vec<Option<(ServerPath, ServerPath, bool)>> = way.iter().map(probe).collect();
    let paths: Vec<ServerPath> = probes.iter().flatten().map(|(p, ..)| p.clone()).collect();
    let mut stats = if paths.is_empty() { Vec::new() } else { tree.stat(&paths)? }.into_iter();
    let mut done = 0;
    for (at, probe) in probes.iter().enumerate() {
        let Some((_, _, staged)) = probe else { continue };
        let there = stats.next().is_some_and(|s| s != Stat::Absent);
        if there != *staged {
            done = at + 1;
        }
    }
    let step = |step: &Vec<ServerPath>| match step.as_slice() {
        [from, to] => Some(Effect::Rename(to.clone(), from.clone())),
        [folder] => Some(Effect::RemoveFolder(folder.clone())),
        _ => None,
    };
    Ok(way.iter().take(done).rev().filter_map(step).collect())
}
