//! Carries a plan out, all or nothing, on any tree.
//!
//! Everything new is staged first, in the state folder, on the same disk and where no game looks. Then the whole way
//! is written as one file (`plans/NUMBER.json`), and only then do files move: each by a rename, what stood there to
//! quarantine under its digest. The last step is the commit: the ledger's new head under the next generation's number. A failure on
//! the way is taken back at once; a run that is ended is taken back, or finished, by the next one
//! ([`crate::recover`]).
//!
//! On a local disk three moments wait until the disk has everything: before the plan gets its name, before the commit,
//! and after it. Small settings files are read again right before the first step: old hosts tell times to the
//! minute only.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use yalotheca_core::changes::Step;
use yalotheca_core::id::{Digest, ServerPath};
use yalotheca_core::ledger::{Entry, Ledger, render_rows};
use yalotheca_core::place::Source;

use yalotheca_core::text::bytes as sized;

use crate::home::write_whole;
use crate::recover::{Way, WayStep};
use crate::server::{MOST_SETTINGS, Server};
use crate::settle::Plan;
use crate::state::{self, kept_path};
use crate::tree::{Content, Effect, STATE, Standing, Stat, Tree, TreeError, hold, shown, state_path};
use crate::{Error, recover, running};

/// Carries a plan out. Returns the history entry it made.
///
/// # Errors
/// Something on the server moved meanwhile, another run holds it, there is no room, or an effect failed: nothing is
/// changed then. [`Error::HalfDone`] when a failure could not be taken back; the next command does.
pub fn carry_out(server: &Server, plan: Plan) -> Result<Entry, Error> {
    running::guard(&plan)?;
    let tree = server.tree.as_ref();
    let _hold = hold(&server.tree, &server.around.holder())?;
    let number = plan.before.generation + 1;
    if state::newest(tree)? != plan.before.generation {
        return Err(Error::Moved { path: STATE.to_owned() });
    }
    let (docs, stats) = unmoved(tree, &plan)?;
    let mut after = plan.after.clone();
    after.generation = number;
    let mut work = Work::new(server, number)?;
    work.files(&plan, &mut after)?;
    work.docs(&plan, &docs)?;
    for bytes in &plan.keep {
        work.keep(bytes.clone())?;
    }
    let (entry, head) = work.records(&plan, &after)?;
    let mut gone: Vec<ServerPath> = plan.before.folders.difference(&after.folders).cloned().collect();
    gone.reverse();
    let way = work.way(&plan, gone)?;
    room(tree, &work.stage)?;
    let swept = |e: Error| {
        // what cannot be swept now is swept by the next run
        let _ = recover::sweep(tree, number);
        e
    };
    work.stage(tree).map_err(Error::from).map_err(swept)?;
    server.around.go_on().map_err(swept)?;
    if unmoved(tree, &plan).map_err(swept)? != (docs, stats) {
        return Err(swept(Error::Moved { path: server.tree.place() }));
    }
    tree.finishing(true);
    let done = switch(server, &plan, &work, &way, head);
    tree.finishing(false);
    done?;
    let _ = state::note(tree, &placed(&plan));
    Ok(entry)
}

/// Moves everything into place, commits, and tidies up; a failure is taken back.
fn switch(server: &Server, plan: &Plan, work: &Work<'_>, way: &Way, head: ServerPath) -> Result<(), Error> {
    let (tree, number) = (server.tree.as_ref(), work.number);
    let swept = |e: Error| {
        let _ = recover::sweep(tree, number);
        e
    };
    let (staged, written) = (work.staged_plan()?, recover::plan_path(number)?);
    tree.apply(&[Effect::Rename(staged, written.clone())]).map_err(Error::from).map_err(swept)?;
    let switch: Vec<Effect> = way.steps.iter().map(WayStep::effect).collect();
    let targets: Vec<ServerPath> = switch.iter().filter_map(target).collect();
    let commit = Effect::Rename(head, state_path(&format!("heads/{number:06}.json"))?);
    let done = tree
        .apply(&switch)
        .and_then(|()| tree.barrier(&targets))
        .and_then(|()| tree.apply(std::slice::from_ref(&commit)));
    // a host that was lost at the commit may have done it
    if let Err(failure) = done
        && state::newest(tree).ok() != Some(number)
    {
        recover::take_back(tree, &way.steps)
            .map_err(|e| Error::HalfDone { why: format!("{failure}; and taking it back failed too: {e}") })?;
        let _ = recover::sweep(tree, number);
        let _ = tree.apply(&[Effect::Discard(written)]);
        return Err(failure.into());
    }
    tree.barrier(&target(&commit).into_iter().collect::<Vec<_>>())?;
    if let Some(text) = &plan.roster_after {
        crate::tree::die::point();
        write_whole(&server.roster_path, text.as_bytes())?;
    }
    // the rest is tidiness, not truth; what fails here is done by the next run
    let gone = way.folders.iter().cloned().map(Effect::RemoveFolder);
    let _ = tree.apply(&way.doubles.iter().cloned().map(Effect::Discard).chain(gone).collect::<Vec<_>>());
    let _ = tree.apply(&work.folders_back());
    let _ = tree.apply(&[Effect::Discard(written)]);
    Ok(())
}

fn target(effect: &Effect) -> Option<ServerPath> {
    match effect {
        Effect::Rename(_, to) => Some(to.clone()),
        Effect::Swap { at, .. } => Some(at.clone()),
        _ => None,
    }
}

/// The files that a plan puts there, with their digests.
fn placed(plan: &Plan) -> BTreeMap<ServerPath, Digest> {
    plan.steps.iter().filter_map(|s| Some((s.path().clone(), s.digests().1?))).collect()
}

/// Checks that what is to be staged has room on the server's disk, where that is known.
fn room(tree: &dyn Tree, stage: &[Staged]) -> Result<(), Error> {
    let Some(free) = tree.space()? else { return Ok(()) };
    // folders and names need a little too
    let needed: u64 = stage.iter().map(|s| s.bytes.div_ceil(4096) * 4096).sum::<u64>() + 65_536;
    if needed > free {
        let (needed, free) = (sized(needed), sized(free));
        return Err(TreeError::NoRoom { needed, free, place: tree.place() }.into());
    }
    Ok(())
}

/// The settings files' bytes, and what stands where files are placed.
type Found = (BTreeMap<ServerPath, Option<Vec<u8>>>, Vec<Stat>);

/// Checks that what the plan was made for still stands, that no folder on the way became a link, and that nothing
/// that is to be replaced is read-only or in use.
fn unmoved(tree: &dyn Tree, plan: &Plan) -> Result<Found, Error> {
    let docs: Vec<ServerPath> = plan.docs.iter().map(|d| d.path.clone()).collect();
    let files: Vec<ServerPath> = plan.steps.iter().map(|s| s.path().clone()).collect();
    let touched: Vec<ServerPath> = docs.iter().chain(&files).cloned().collect();
    if touched.is_empty() {
        return Ok(Found::default());
    }
    let above: Vec<ServerPath> = above(&touched)?.into_iter().collect();
    if let Some((path, _)) = above.iter().zip(tree.stat(&above)?).find(|(_, s)| *s == Stat::Other) {
        return Err(TreeError::Link { path: path.to_string() }.into());
    }
    let read = if docs.is_empty() { Vec::new() } else { tree.read(&docs, MOST_SETTINGS)? };
    for (doc, now) in plan.docs.iter().zip(&read) {
        if doc.before != *now {
            return Err(Error::Moved { path: doc.path.to_string() });
        }
    }
    for (path, standing) in touched.iter().zip(tree.standing(&touched)?) {
        let file = path.to_string();
        match standing {
            Standing::Free => {}
            Standing::ReadOnly => return Err(Error::Kept { file, why: "is read-only", fix: "make it writable" }),
            Standing::InUse => {
                return Err(Error::Kept { file, why: "is in use by a program", fix: "stop the server" });
            }
        }
    }
    let stats = if files.is_empty() { Vec::new() } else { tree.stat(&files)? };
    for (step, seen) in plan.steps.iter().zip(state::seen(tree, &files)?) {
        let now = match seen {
            yalotheca_core::changes::Seen::File(digest) => Some(digest),
            _ => None,
        };
        if now != step.digests().0 {
            return Err(Error::Moved { path: step.path().to_string() });
        }
    }
    Ok((docs.into_iter().zip(read).collect(), stats))
}

/// The folders above some paths.
fn above(paths: &[ServerPath]) -> Result<BTreeSet<ServerPath>, Error> {
    let mut out = BTreeSet::new();
    for path in paths {
        for (at, _) in path.path().match_indices('/') {
            out.insert(ServerPath::new(path.root(), path.path().get(..at).unwrap_or_default())?);
        }
    }
    Ok(out)
}

/// Something to be written into staging.
struct Staged {
    path: ServerPath,
    content: Content,
    sha256: Digest,
    bytes: u64,
}

struct Work<'a> {
    server: &'a Server,
    number: u64,
    /// Folders of our state to make first.
    make: Vec<ServerPath>,
    /// New files, written before anything moves.
    stage: Vec<Staged>,
    /// Folders of the server to make, the outer first.
    folders: Vec<ServerPath>,
    /// What moves.
    steps: Vec<WayStep>,
    /// The names that are taken in quarantine.
    kept: BTreeSet<String>,
    /// The names of the file lists that are there.
    lists: BTreeSet<String>,
    /// Names in quarantine under which bytes lie a second time, until everything is done.
    doubles: Vec<ServerPath>,
}

impl<'a> Work<'a> {
    fn new(server: &'a Server, number: u64) -> Result<Self, Error> {
        let listed = server.tree.list(&[state_path("quarantine")?, state_path("lists")?])?;
        let mut names = listed.into_iter().map(|l| l.into_iter().map(|(name, _)| name).collect::<BTreeSet<_>>());
        let (kept, lists) = (names.next().unwrap_or_default(), names.next().unwrap_or_default());
        let mut make = Vec::new();
        for name in ["heads", "history", "lists", "plans", "quarantine", "staging"] {
            make.push(state_path(name)?);
        }
        make.push(state_path(&format!("staging/{number:06}"))?);
        let (stage, folders, steps, doubles) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        Ok(Self { server, number, make, stage, folders, steps, kept, lists, doubles })
    }

    /// Plans new bytes to be staged, never in too large a folder; returns where.
    fn staged(&mut self, content: Content, sha256: Digest, bytes: u64) -> Result<ServerPath, Error> {
        let at = self.stage.len();
        let folder = state_path(&format!("staging/{:06}/{}", self.number, at / 256))?;
        if self.make.last() != Some(&folder) {
            self.make.push(folder.clone());
        }
        let path = state_path(&format!("{}/{at}", folder.path()))?;
        self.stage.push(Staged { path: path.clone(), content, sha256, bytes });
        Ok(path)
    }

    fn staged_plan(&self) -> Result<ServerPath, Error> {
        Ok(state_path(&format!("staging/{:06}/plan.json", self.number))?)
    }

    /// Stages everything, and brings it safely to disk.
    fn stage(&self, tree: &dyn Tree) -> Result<(), TreeError> {
        let folders = self.make.iter().cloned().map(Effect::Folder);
        tree.apply(&folders.collect::<Vec<_>>())?;
        let write = |s: &Staged| Effect::Write(s.path.clone(), s.content.clone());
        tree.apply(&self.stage.iter().map(write).collect::<Vec<_>>())?;
        let paths: Vec<ServerPath> = self.stage.iter().map(|s| s.path.clone()).collect();
        tree.barrier(&paths)?;
        if self.server.around.verify {
            for (staged, came) in self.stage.iter().zip(tree.digest(&paths)?) {
                if came.as_ref() != Some(&staged.sha256) {
                    return Err(TreeError::Damaged { path: shown(&staged.path) });
                }
            }
        }
        Ok(())
    }

    /// The folders of this run, to be taken away again, the innermost first.
    fn folders_back(&self) -> Vec<Effect> {
        let own = self.make.iter().filter(|f| f.path().contains('/'));
        own.rev().cloned().map(Effect::RemoveFolder).collect()
    }

    /// Stages new bytes of our own and moves them to a free name.
    fn put(&mut self, to: ServerPath, bytes: Vec<u8>) -> Result<(), Error> {
        let (sha256, size) = (Digest::of(&bytes), bytes.len() as u64);
        let from = self.staged(Content::Bytes(bytes), sha256.clone(), size)?;
        self.steps.push(WayStep::Move { from, to, sha256, bytes: size });
        Ok(())
    }

    /// A free name in quarantine for these bytes. Nothing there is written over: until all is done, the way back
    /// needs every file.
    fn aside(&mut self, digest: &Digest) -> Result<ServerPath, Error> {
        if self.kept.insert(digest.hex().to_owned()) {
            return kept_path(digest);
        }
        let to = state_path(&format!("quarantine/{digest}.{}-{}", self.number, self.doubles.len()))?;
        self.doubles.push(to.clone());
        Ok(to)
    }

    /// Puts staged bytes at a place; what stands there goes to quarantine.
    fn place(
        &mut self,
        at: &ServerPath,
        was: Option<&Digest>,
        new: ServerPath,
        meant: (Digest, u64),
    ) -> Result<(), Error> {
        let (sha256, bytes) = meant;
        let at = at.clone();
        let step = match was {
            Some(was) => WayStep::Swap { new, at, old: self.aside(was)?, sha256, bytes },
            None => WayStep::Move { from: new, to: at, sha256, bytes },
        };
        self.steps.push(step);
        Ok(())
    }

    fn files(&mut self, plan: &Plan, after: &mut Ledger) -> Result<(), Error> {
        self.missing_folders(plan, after)?;
        for step in &plan.steps {
            match step {
                Step::Place { path, file, was, .. } => {
                    let kinds =
                        file.owners.iter().map(|id| after.items.get(id).map(|h| h.kind.as_str()).unwrap_or_default());
                    let rules = &self.server.family.rules.kind;
                    let link =
                        kinds.map(|k| rules.get(k).is_some_and(|k| k.read_only)).reduce(|a, b| a && b) == Some(true);
                    let content = self.content(&file.source, &file.sha256, link)?;
                    let new = self.staged(content, file.sha256.clone(), file.bytes)?;
                    self.place(path, was.as_ref(), new, (file.sha256.clone(), file.bytes))?;
                }
                Step::Remove { path, was, back: Some(back) } => {
                    let new = self.staged(Content::Tree(kept_path(back)?, back.clone(), false), back.clone(), 0)?;
                    self.place(path, Some(was), new, (back.clone(), 0))?;
                }
                Step::Remove { path, was, back: None } => {
                    let to = self.aside(was)?;
                    self.steps.push(WayStep::Move { from: path.clone(), to, sha256: was.clone(), bytes: 0 });
                }
            }
        }
        // a folder of ours stays ours as long as something of ours stands in it
        let rows = plan.rows.values().flatten().map(|r| &r.path);
        let docs = after.slots.iter().map(|s| &s.key.path).chain(&after.made);
        let mut filled: HashSet<(&str, &str)> = HashSet::new();
        for path in rows.chain(docs) {
            // the innermost first: what is above a folder that was seen was seen too
            let folders = path.path().rmatch_indices('/').filter_map(|(at, _)| path.path().get(..at));
            for folder in folders {
                if !filled.insert((path.root(), folder)) {
                    break;
                }
            }
        }
        let used: BTreeSet<ServerPath> =
            after.folders.iter().filter(|f| filled.contains(&(f.root(), f.path()))).cloned().collect();
        after.folders = used;
        Ok(())
    }

    /// Makes the folders that new files need and that are not there; they are ours from now on.
    fn missing_folders(&mut self, plan: &Plan, after: &mut Ledger) -> Result<(), Error> {
        let placed = plan.steps.iter().filter(|s| matches!(s, Step::Place { .. } | Step::Remove { back: Some(_), .. }));
        let paths = placed.map(Step::path).chain(plan.docs.iter().filter(|d| d.after.is_some()).map(|d| &d.path));
        let above: Vec<ServerPath> = above(&paths.cloned().collect::<Vec<_>>())?.into_iter().collect();
        let stats = if above.is_empty() { Vec::new() } else { self.server.tree.stat(&above)? };
        for (folder, stat) in above.into_iter().zip(stats) {
            match stat {
                Stat::Folder => {}
                Stat::Absent => {
                    self.folders.push(folder.clone());
                    after.folders.insert(folder);
                }
                _ => return Err(TreeError::Link { path: folder.to_string() }.into()),
            }
        }
        Ok(())
    }

    fn content(&self, source: &Source, sha256: &Digest, link: bool) -> Result<Content, Error> {
        let home = &self.server.around.home;
        Ok(match source {
            Source::Store(digest) => Content::File(home.store_path(digest), sha256.clone(), link),
            Source::Member { archive, path } => {
                Content::Member(home.archive_path(archive), path.clone(), sha256.clone())
            }
            Source::Kept(digest) => Content::Tree(kept_path(digest)?, sha256.clone(), link),
        })
    }

    fn docs(&mut self, plan: &Plan, seen: &BTreeMap<ServerPath, Option<Vec<u8>>>) -> Result<(), Error> {
        for doc in &plan.docs {
            let was = seen.get(&doc.path).and_then(|b| b.as_ref()).map(|b| (Digest::of(b), b.len() as u64));
            match (&doc.after, was) {
                (Some(after), was) => {
                    let meant = (Digest::of(after), after.len() as u64);
                    let new = self.staged(Content::Bytes(after.clone()), meant.0.clone(), meant.1)?;
                    self.place(&doc.path, was.as_ref().map(|(d, _)| d), new, meant)?;
                    // what we wrote is kept too: undo is undone from it
                    self.keep(after.clone())?;
                }
                (None, Some((sha256, bytes))) => {
                    let to = self.aside(&sha256)?;
                    self.steps.push(WayStep::Move { from: doc.path.clone(), to, sha256, bytes });
                }
                (None, None) => {}
            }
        }
        Ok(())
    }

    /// Puts bytes that are no server file (a roster's, a settings file's) beside those in quarantine.
    fn keep(&mut self, bytes: Vec<u8>) -> Result<Digest, Error> {
        let digest = Digest::of(&bytes);
        if self.kept.insert(digest.hex().to_owned()) {
            self.put(kept_path(&digest)?, bytes)?;
        }
        Ok(digest)
    }

    /// The whole way, and the file that holds it among what is staged.
    fn way(&mut self, plan: &Plan, gone: Vec<ServerPath>) -> Result<Way, Error> {
        self.folders.sort_by_key(|f| f.path().matches('/').count());
        // folders first, then what moves to free names, then what takes another's place
        let mut steps: Vec<WayStep> = self.folders.iter().cloned().map(WayStep::Make).collect();
        let (moves, swaps): (Vec<WayStep>, Vec<WayStep>) =
            std::mem::take(&mut self.steps).into_iter().partition(|s| matches!(s, WayStep::Move { .. }));
        steps.extend(moves.into_iter().chain(swaps));
        let roster = plan.roster_after.as_ref().map(|after| {
            let before = Digest::of(self.server.text.as_bytes());
            (before, Digest::of(after.as_bytes()))
        });
        let who = self.server.around.who.clone();
        let way =
            Way { format: 1, number: self.number, who, steps, roster, doubles: self.doubles.clone(), folders: gone };
        let bytes = serde_json::to_vec(&way).unwrap_or_default();
        let (sha256, size) = (Digest::of(&bytes), bytes.len() as u64);
        self.stage.push(Staged { path: self.staged_plan()?, content: Content::Bytes(bytes), sha256, bytes: size });
        Ok(way)
    }

    /// Lists and history entry, and the head, which waits in staging for the commit.
    fn records(&mut self, plan: &Plan, after: &Ledger) -> Result<(Entry, ServerPath), Error> {
        for (id, rows) in &plan.rows {
            let (digest, bytes) = render_rows(rows)?;
            let name = format!("{digest}.json");
            let known = plan.before.items.get(id).is_some_and(|h| h.files == digest);
            if !known && self.lists.insert(name.clone()) {
                self.put(state_path(&format!("lists/{name}"))?, bytes)?;
            }
        }
        let roster_before = plan.before.roster.clone();
        let roster_text = plan.roster_after.clone().unwrap_or_else(|| self.server.text.clone());
        let roster_after = if plan.after.roster == roster_before && roster_before.is_some() {
            roster_before.clone()
        } else {
            Some(self.keep(roster_text.into_bytes())?)
        };
        if let Some(after) = &plan.roster_after {
            // a run that is ended before the roster is written is finished from these
            self.keep(self.server.text.clone().into_bytes())?;
            self.keep(after.clone().into_bytes())?;
        }
        let doc_digest = |bytes: &Option<Vec<u8>>| bytes.as_ref().map(|b| Digest::of(b));
        let files = plan.steps.iter().map(|s| {
            let (before, after) = s.digests();
            (s.path().clone(), before, after)
        });
        let docs = plan.docs.iter().map(|d| (d.path.clone(), doc_digest(&d.before), doc_digest(&d.after)));
        let entry = Entry {
            format: 1,
            number: self.number,
            when: self.server.around.now.clone(),
            who: self.server.around.who.clone(),
            why: plan.items.iter().map(|i| (i.id.clone(), i.why.clone())).collect(),
            act: plan.act.clone(),
            from: plan.before.generation,
            roster: (roster_before, roster_after),
            items: plan.items.iter().map(|i| (i.id.clone(), i.before.clone(), i.after.clone())).collect(),
            files: files.chain(docs).collect(),
        };
        let bytes = serde_json::to_vec_pretty(&entry).unwrap_or_default();
        self.put(state_path(&format!("history/{:06}.json", self.number))?, bytes)?;
        let head = after.render()?;
        let (sha256, size) = (Digest::of(&head), head.len() as u64);
        let head = self.staged(Content::Bytes(head), sha256, size)?;
        Ok((entry, head))
    }
}
