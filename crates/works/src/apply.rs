//! Does what a plan says: everything new is staged first, then put in place by renames, and the ledger's new head
//! comes last. Nothing is deleted: what goes is moved to quarantine, by digest. A failure on the way is taken back.

use std::collections::{BTreeMap, BTreeSet};

use yalotheca_core::changes::Step;
use yalotheca_core::id::{Digest, ServerPath};
use yalotheca_core::ledger::{Entry, Ledger, render_rows};
use yalotheca_core::place::Source;

use crate::home::write_whole;
use crate::server::{MOST_SETTINGS, Server};
use crate::settle::Plan;
use crate::state::{self, kept_path};
use crate::tree::{Content, Effect, STATE, Stat, Tree, TreeError, state_path};
use crate::{Error, recover};

/// Carries a plan out. Returns the history entry it made.
///
/// # Errors
/// Something on the server moved meanwhile, another run holds it, or an effect failed: nothing is changed then.
/// [`Error::HalfDone`] when a failure could not be taken back.
pub fn carry_out(server: &Server, plan: Plan) -> Result<Entry, Error> {
    let tree = server.tree.as_ref();
    let _hold = tree.hold(&format!("pid {} since {}", std::process::id(), server.around.now))?;
    let number = plan.before.generation + 1;
    if state::newest(tree)? != plan.before.generation {
        return Err(Error::Moved { path: STATE.to_owned() });
    }
    let seen = unmoved(tree, &plan)?;
    let mut after = plan.after.clone();
    after.generation = number;
    let mut work = Work {
        server,
        number,
        make: Vec::new(),
        stage: Vec::new(),
        switch: Vec::new(),
        made: BTreeSet::new(),
        kept: tree.names(&state_path("quarantine")?)?.into_iter().collect(),
        doubles: Vec::new(),
    };
    work.folders(&["heads", "history", "lists", "plans", "quarantine", "staging"])?;
    work.folder(&state_path(&format!("staging/{number:06}"))?);
    work.files(&plan, &mut after)?;
    work.docs(&plan, &seen)?;
    for bytes in &plan.keep {
        work.keep(bytes.clone())?;
    }
    let entry = work.records(&plan, &after)?;
    // the way, written whole before anything moves: a killed run is taken back by the next (crate::recover)
    let way = recover::plan_path(number)?;
    work.stage.push(Effect::Write(way.clone(), Content::Bytes(recover::render(&work.switch))));
    let (switch, doubles) = (work.switch, work.doubles);
    let staged = Staged::of(&work.stage, &work.make);
    let stage: Vec<Effect> = work.make.into_iter().chain(work.stage).collect();
    tree.apply(&stage).and_then(|()| tree.barrier(&staged.files)).inspect_err(|_| staged.sweep(tree))?;
    server.around.go_on().inspect_err(|_| staged.sweep(tree))?;
    if let Err(failure) = tree.apply(&switch) {
        let done = match &failure {
            TreeError::Effect { done, .. } => *done,
            _ => 0,
        };
        take_back(tree, &switch, done, &failure)?;
        staged.sweep(tree);
        return Err(failure.into());
    }
    if let Some(text) = &plan.roster_after {
        write_whole(&server.roster_path, text.as_bytes())?;
    }
    // empty folders of ours go; that is tidiness, not truth
    let mut gone: Vec<ServerPath> = plan.before.folders.difference(&after.folders).cloned().collect();
    gone.reverse();
    let gone = gone.into_iter().map(Effect::RemoveFolder);
    let doubles = doubles.into_iter().chain([way]).map(Effect::Discard);
    let _ = tree.apply(&gone.chain(doubles).chain(staged.folders()).collect::<Vec<_>>());
    Ok(entry)
}

/// Checks that what the plan was made for still stands; returns the bytes of the settings files.
fn unmoved(tree: &dyn Tree, plan: &Plan) -> Result<BTreeMap<ServerPath, Option<Vec<u8>>>, Error> {
    let docs: Vec<ServerPath> = plan.docs.iter().map(|d| d.path.clone()).collect();
    let read = if docs.is_empty() { Vec::new() } else { tree.read(&docs, MOST_SETTINGS)? };
    for (doc, now) in plan.docs.iter().zip(&read) {
        if doc.before != *now {
            return Err(Error::Moved { path: doc.path.to_string() });
        }
        if doc.before.is_some() && !tree.writable(&doc.path)? {
            let why = "is read-only, so it is left alone; make it writable, then run the same command again".to_owned();
            return Err(Error::NoSettings { file: doc.path.to_string(), why });
        }
    }
    let files: Vec<ServerPath> = plan.steps.iter().map(|s| s.path().clone()).collect();
    for (step, seen) in plan.steps.iter().zip(state::seen(tree, &files)?) {
        let now = match seen {
            yalotheca_core::changes::Seen::File(digest) => Some(digest),
            _ => None,
        };
        if now != step.digests().0 {
            return Err(Error::Moved { path: step.path().to_string() });
        }
    }
    Ok(docs.into_iter().zip(read).collect())
}

struct Work<'a> {
    server: &'a Server,
    number: u64,
    /// Folders of ours to make first.
    make: Vec<Effect>,
    /// New files, written before anything moves.
    stage: Vec<Effect>,
    switch: Vec<Effect>,
    made: BTreeSet<ServerPath>,
    /// The names that are taken in quarantine.
    kept: BTreeSet<String>,
    /// Names in quarantine under which bytes lie a second time, until everything is done.
    doubles: Vec<ServerPath>,
}

impl Work<'_> {
    fn folder(&mut self, path: &ServerPath) {
        if self.made.insert(path.clone()) {
            self.make.push(Effect::Folder(path.clone()));
        }
    }

    fn folders(&mut self, names: &[&str]) -> Result<(), Error> {
        self.folder(&ServerPath::server(STATE)?);
        for name in names {
            self.folder(&state_path(name)?);
        }
        Ok(())
    }

    /// Stages new bytes, never in too large a folder; returns where.
    fn stage(&mut self, content: Content) -> Result<ServerPath, Error> {
        let at = self.stage.len();
        let folder = format!("staging/{:06}/{}", self.number, at / 256);
        self.folder(&state_path(&folder)?);
        let staged = state_path(&format!("{folder}/{at}"))?;
        self.stage.push(Effect::Write(staged.clone(), content));
        Ok(staged)
    }

    /// Stages new bytes and puts them in place.
    fn put(&mut self, path: &ServerPath, content: Content) -> Result<(), Error> {
        let staged = self.stage(content)?;
        self.switch.push(Effect::Rename(staged, path.clone()));
        Ok(())
    }

    /// Moves what stands at a path to quarantine. Nothing there is written over: until all is done, the way back
    /// needs every file.
    fn aside(&mut self, path: &ServerPath, digest: &Digest) -> Result<(), Error> {
        let mut to = kept_path(digest)?;
        if !self.kept.insert(digest.hex().to_owned()) {
            to = state_path(&format!("quarantine/{digest}.{}-{}", self.number, self.doubles.len()))?;
            self.doubles.push(to.clone());
        }
        self.switch.push(Effect::Rename(path.clone(), to));
        Ok(())
    }

    fn files(&mut self, plan: &Plan, after: &mut Ledger) -> Result<(), Error> {
        self.missing_folders(plan, after)?;
        for step in &plan.steps {
            match step {
                Step::Place { path, file, was, .. } => {
                    let content = self.content(&file.source, &file.sha256)?;
                    // what comes from quarantine and goes there must be read before it moves
                    let staged = self.stage(content)?;
                    if let Some(was) = was {
                        self.aside(path, was)?;
                    }
                    self.switch.push(Effect::Rename(staged, path.clone()));
                }
                Step::Remove { path, was, back } => {
                    if let Some(back) = back {
                        let staged = self.stage(Content::Tree(kept_path(back)?, back.clone()))?;
                        self.aside(path, was)?;
                        self.switch.push(Effect::Rename(staged, path.clone()));
                    } else {
                        self.aside(path, was)?;
                    }
                }
            }
        }
        // a folder of ours stays ours as long as something of ours stands in it
        let rows: Vec<&ServerPath> = plan.rows.values().flatten().map(|r| &r.path).collect();
        let docs: Vec<&ServerPath> = after.slots.iter().map(|s| &s.key.path).chain(&after.made).collect();
        let used = |folder: &ServerPath| {
            let below = format!("{}/", folder.path());
            rows.iter().chain(&docs).any(|p| p.root() == folder.root() && p.path().starts_with(&below))
        };
        let used: BTreeSet<ServerPath> = after.folders.iter().filter(|f| used(f)).cloned().collect();
        after.folders = used;
        Ok(())
    }

    /// Makes the folders that new files need and that are not there; they are ours from now on.
    fn missing_folders(&mut self, plan: &Plan, after: &mut Ledger) -> Result<(), Error> {
        let placed = plan.steps.iter().filter(|s| matches!(s, Step::Place { .. } | Step::Remove { back: Some(_), .. }));
        let paths = placed.map(Step::path).chain(plan.docs.iter().filter(|d| d.after.is_some()).map(|d| &d.path));
        let mut above: BTreeSet<ServerPath> = BTreeSet::new();
        for path in paths {
            for (at, _) in path.path().match_indices('/') {
                above.insert(ServerPath::new(path.root(), path.path().get(..at).unwrap_or_default())?);
            }
        }
        let above: Vec<ServerPath> = above.into_iter().collect();
        let stats = if above.is_empty() { Vec::new() } else { self.server.tree.stat(&above)? };
        for (folder, stat) in above.into_iter().zip(stats) {
            match stat {
                Stat::Folder => {}
                Stat::Absent => {
                    self.switch.push(Effect::Folder(folder.clone()));
                    after.folders.insert(folder);
                }
                _ => return Err(TreeError::Link { path: folder.to_string() }.into()),
            }
        }
        Ok(())
    }

    fn content(&self, source: &Source, sha256: &Digest) -> Result<Content, Error> {
        let home = &self.server.around.home;
        Ok(match source {
            Source::Store(digest) => Content::File(home.store_path(digest), sha256.clone()),
            Source::Member { archive, path } => Content::Member(home.store_path(archive), path.clone(), sha256.clone()),
            Source::Kept(digest) => Content::Tree(kept_path(digest)?, sha256.clone()),
        })
    }

    fn docs(&mut self, plan: &Plan, seen: &BTreeMap<ServerPath, Option<Vec<u8>>>) -> Result<(), Error> {
        for doc in &plan.docs {
            if let Some(Some(before)) = seen.get(&doc.path) {
                self.aside(&doc.path, &Digest::of(before))?;
            }
            if let Some(after) = &doc.after {
                self.put(&doc.path, Content::Bytes(after.clone()))?;
                // what we wrote is kept too: undo is undone from it
                self.keep(after.clone())?;
            }
        }
        Ok(())
    }

    /// Puts bytes that are no server file (a roster's, a settings file's) beside those in quarantine.
    fn keep(&mut self, bytes: Vec<u8>) -> Result<Digest, Error> {
        let digest = Digest::of(&bytes);
        if self.kept.insert(digest.hex().to_owned()) {
            self.put(&kept_path(&digest)?, Content::Bytes(bytes))?;
        }
        Ok(digest)
    }

    /// Lists, history entry and, last of all, the head.
    fn records(&mut self, plan: &Plan, after: &Ledger) -> Result<Entry, Error> {
        for (id, rows) in &plan.rows {
            let (digest, bytes) = render_rows(rows)?;
            let known = plan.before.items.get(id).is_some_and(|h| h.files == digest);
            if !known {
                self.put(&state_path(&format!("lists/{digest}.json"))?, Content::Bytes(bytes))?;
            }
        }
        let roster_before = plan.before.roster.clone();
        let roster_text = plan.roster_after.clone().unwrap_or_else(|| self.server.text.clone());
        let roster_after = if plan.after.roster == roster_before && roster_before.is_some() {
            roster_before.clone()
        } else {
            Some(self.keep(roster_text.into_bytes())?)
        };
        if plan.roster_after.is_some() {
            self.keep(self.server.text.clone().into_bytes())?;
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
            act: plan.act.clone(),
            from: plan.before.generation,
            roster: (roster_before, roster_after),
            items: plan.items.iter().map(|i| (i.id.clone(), i.before.clone(), i.after.clone())).collect(),
            files: files.chain(docs).collect(),
        };
        let bytes = serde_json::to_vec_pretty(&entry).unwrap_or_default();
        self.put(&state_path(&format!("history/{:06}.json", self.number))?, Content::Bytes(bytes))?;
        let head = after.render()?;
        self.put(&state_path(&format!("heads/{:06}.json", self.number))?, Content::Bytes(head))?;
        Ok(entry)
    }
}

/// What was staged, to be taken away again.
struct Staged {
    files: Vec<ServerPath>,
    made: Vec<ServerPath>,
}

impl Staged {
    fn of(stage: &[Effect], make: &[Effect]) -> Self {
        let path = |e: &Effect| match e {
            Effect::Write(path, _) | Effect::Folder(path) => Some(path.clone()),
            _ => None,
        };
        let below = |p: &ServerPath| p.path().matches('/').count() > 1;
        Self {
            files: stage.iter().filter_map(path).collect(),
            made: make.iter().filter_map(path).filter(below).collect(),
        }
    }

    /// Takes the folders of this run away, the innermost first, if they are empty.
    fn folders(&self) -> impl Iterator<Item = Effect> + '_ {
        self.made.iter().rev().cloned().map(Effect::RemoveFolder)
    }

    /// Takes everything staged away; what cannot be taken away now is overwritten by the next run.
    fn sweep(&self, tree: &dyn Tree) {
        let discard = self.files.iter().cloned().map(Effect::Discard);
        let _ = tree.apply(&discard.chain(self.folders()).collect::<Vec<_>>());
    }
}

/// Undoes the first `done` effects, the last first.
fn take_back(tree: &dyn Tree, effects: &[Effect], done: usize, failure: &TreeError) -> Result<(), Error> {
    let back: Vec<Effect> = effects
        .iter()
        .take(done)
        .rev()
        .filter_map(|e| match e {
            Effect::Rename(from, to) => Some(Effect::Rename(to.clone(), from.clone())),
            Effect::Folder(path) => Some(Effect::RemoveFolder(path.clone())),
            _ => None,
        })
        .collect();
    tree.apply(&back).map_err(|e| Error::HalfDone { why: format!("{failure}; and taking it back failed too: {e}") })
}
