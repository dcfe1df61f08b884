//! What only a person can enter, in somebody's web panel: the roster has its text, and nothing here can write it.

use std::collections::BTreeMap;
use std::io::Cursor;
use std::path::Path;
use std::sync::Arc;

use yalotheca_core::family::HAND;
use yalotheca_core::id::{Digest, ServerPath};

use super::{Effect, Listing, ReadSeek, Standing, Stat, StateFolder, Tree, TreeError};

/// A server's files, and beside them the texts that stand in a panel, as `hand:NAME`.
pub struct WithHand {
    tree: Arc<dyn Tree>,
    texts: BTreeMap<String, String>,
}

impl WithHand {
    /// Returns the tree with these texts, by name.
    pub fn new(tree: Arc<dyn Tree>, texts: BTreeMap<String, String>) -> Self {
        Self { tree, texts }
    }

    /// Answers for the texts here, and for the rest by the tree; in the order asked.
    fn each<T>(
        &self,
        paths: &[ServerPath],
        text: impl Fn(Option<&String>) -> T,
        rest: impl FnOnce(&[ServerPath]) -> Result<Vec<T>, TreeError>,
    ) -> Result<Vec<T>, TreeError> {
        let is_hand = |p: &&ServerPath| p.root() == HAND;
        if !paths.iter().any(|p| is_hand(&p)) {
            return rest(paths);
        }
        let others: Vec<ServerPath> = paths.iter().filter(|p| !is_hand(p)).cloned().collect();
        let mut told = if others.is_empty() { Vec::new() } else { rest(&others)? }.into_iter();
        let one = |p: &ServerPath| if is_hand(&p) { Some(text(self.texts.get(p.path()))) } else { told.next() };
        Ok(paths.iter().filter_map(one).collect())
    }
}

impl Tree for WithHand {
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
        self.tree.walk()
    }

    fn list(&self, folders: &[ServerPath]) -> Result<Vec<Listing>, TreeError> {
        self.tree.list(folders)
    }

    fn stat(&self, paths: &[ServerPath]) -> Result<Vec<Stat>, TreeError> {
        let there =
            |text: Option<&String>| text.map_or(Stat::Absent, |t| Stat::File { bytes: t.len() as u64, changed: 0 });
        self.each(paths, there, |rest| self.tree.stat(rest))
    }

    fn read(&self, paths: &[ServerPath], most: u64) -> Result<Vec<Option<Vec<u8>>>, TreeError> {
        let bytes = |text: Option<&String>| text.map(|t| t.clone().into_bytes());
        self.each(paths, bytes, |rest| self.tree.read(rest, most))
    }

    fn open(&self, path: &ServerPath) -> Result<Option<Box<dyn ReadSeek>>, TreeError> {
        if path.root() != HAND {
            return self.tree.open(path);
        }
        let text = self.texts.get(path.path());
        Ok(text.map(|t| Box::new(Cursor::new(t.clone().into_bytes())) as Box<dyn ReadSeek>))
    }

    fn standing(&self, paths: &[ServerPath]) -> Result<Vec<Standing>, TreeError> {
        self.each(paths, |_| Standing::Free, |rest| self.tree.standing(rest))
    }

    fn digest(&self, paths: &[ServerPath]) -> Result<Vec<Option<Digest>>, TreeError> {
        let digest = |text: Option<&String>| text.map(|t| Digest::of(t.as_bytes()));
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
