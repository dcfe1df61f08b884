//! A tree with some files laid over it, or taken out of sight: what only a person can enter in somebody's web panel
//! (`hand:NAME`; the roster has its text, and nothing here can write it), and files that are to go before others come.

use std::collections::BTreeMap;
use std::io::Cursor;
use std::path::Path;
use std::sync::Arc;

use yalotheca_core::family::HAND;
use yalotheca_core::id::{Digest, ServerPath};

use super::{Effect, Listing, ReadSeek, Standing, Stat, StateFolder, Tree, TreeError};

/// A server's files with others laid over them.
pub struct Laid {
    tree: Arc<dyn Tree>,
    /// What stands at a path instead of what stands in the tree; `None` for nothing.
    over: BTreeMap<ServerPath, Option<Vec<u8>>>,
}

impl Laid {
    /// Returns the tree with the texts that stand in a panel, by name.
    pub fn with_hand(tree: Arc<dyn Tree>, texts: &BTreeMap<String, String>) -> Self {
        let text = |(name, text): (&String, &String)| {
            Some((ServerPath::new(HAND, name).ok()?, Some(text.clone().into_bytes())))
        };
        Self { tree, over: texts.iter().filter_map(text).collect() }
    }

    /// Returns the tree as if these files were gone.
    pub fn without<'a>(tree: Arc<dyn Tree>, files: impl IntoIterator<Item = &'a ServerPath>) -> Self {
        Self { tree, over: files.into_iter().map(|f| (f.clone(), None)).collect() }
    }

    fn is_over(&self, path: &ServerPath) -> bool {
        path.root() == HAND || self.over.contains_key(path)
    }

    fn laid(&self, path: &ServerPath) -> Option<&Vec<u8>> {
        self.over.get(path).and_then(Option::as_ref)
    }

    /// Answers for what is laid over here, and for the rest by the tree; in the order asked.
    fn each<T>(
        &self,
        paths: &[ServerPath],
        text: impl Fn(Option<&Vec<u8>>) -> T,
        rest: impl FnOnce(&[ServerPath]) -> Result<Vec<T>, TreeError>,
    ) -> Result<Vec<T>, TreeError> {
        if !paths.iter().any(|p| self.is_over(p)) {
            return rest(paths);
        }
        let others: Vec<ServerPath> = paths.iter().filter(|p| !self.is_over(p)).cloned().collect();
        let mut told = if others.is_empty() { Vec::new() } else { rest(&others)? }.into_iter();
        let one = |p: &ServerPath| if self.is_over(p) { Some(text(self.laid(p))) } else { told.next() };
        Ok(paths.iter().filter_map(one).collect())
    }
}

impl Tree for Laid {
    fn place(&self) -> String {
        self.tree.place()
    }

    fn folder(&self) -> Option<&Path> {
        self.tree.folder()
    }

    fn host(&self) -> Option<String> {
        self.tree.host()
    }

    fn finishing(&self, moves: bool) {
        self.tree.finishing(moves);
    }

    fn allow_state(&self, folder: &StateFolder) {
        self.tree.allow_state(folder);
    }

    fn ready(&self) -> Result<(), TreeError> {
        self.tree.ready()
    }

    fn walk(&self) -> Result<Vec<(ServerPath, Stat)>, TreeError> {
        let mut all = self.tree.walk()?;
        all.retain(|(path, _)| !self.is_over(path));
        Ok(all)
    }

    fn list(&self, folders: &[ServerPath]) -> Result<Vec<Listing>, TreeError> {
        let mut all = self.tree.list(folders)?;
        for (folder, listing) in folders.iter().zip(&mut all) {
            let below = |name: &str| ServerPath::new(folder.root(), &format!("{}/{name}", folder.path()));
            listing.retain(|(name, _)| !below(name).is_ok_and(|p| self.is_over(&p)));
        }
        Ok(all)
    }

    fn stat(&self, paths: &[ServerPath]) -> Result<Vec<Stat>, TreeError> {
        let there =
            |text: Option<&Vec<u8>>| text.map_or(Stat::Absent, |t| Stat::File { bytes: t.len() as u64, changed: 0 });
        self.each(paths, there, |rest| self.tree.stat(rest))
    }

    fn read(&self, paths: &[ServerPath], most: u64) -> Result<Vec<Option<Vec<u8>>>, TreeError> {
        let bytes = |text: Option<&Vec<u8>>| text.cloned();
        self.each(paths, bytes, |rest| self.tree.read(rest, most))
    }

    fn open(&self, path: &ServerPath) -> Result<Option<Box<dyn ReadSeek>>, TreeError> {
        if !self.is_over(path) {
            return self.tree.open(path);
        }
        Ok(self.laid(path).map(|t| Box::new(Cursor::new(t.clone())) as Box<dyn ReadSeek>))
    }

    fn standing(&self, paths: &[ServerPath]) -> Result<Vec<Standing>, TreeError> {
        self.each(paths, |_| Standing::Free, |rest| self.tree.standing(rest))
    }

    fn digest(&self, paths: &[ServerPath]) -> Result<Vec<Option<Digest>>, TreeError> {
        let digest = |text: Option<&Vec<u8>>| text.map(|t| Digest::of(t));
        self.each(paths, digest, |rest| self.tree.digest(rest))
    }

    fn apply(&self, effects: &[Effect]) -> Result<(), TreeError> {
        self.tree.apply(effects)
    }

    fn barrier(&self, written: &[ServerPath]) -> Result<(), TreeError> {
        self.tree.barrier(written)
    }

    fn space(&self) -> Result<Option<u64>, TreeError> {
        self.tree.space()
    }

    fn remembered(&self) -> Option<Vec<u8>> {
        self.tree.remembered()
    }

    fn remember(&self, bytes: &[u8]) {
        self.tree.remember(bytes);
    }

    fn clock_ahead(&self) -> i64 {
        self.tree.clock_ahead()
    }
}
