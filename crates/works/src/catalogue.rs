//! Asks catalogues, over HTTP or in a folder. Only what is asked for is fetched, and what the root's digests say
//! is known already is not fetched again.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use yalotheca_core::catalogue::{self, CatalogueError, Index, MOST_BYTES, ROOT, Root};
use yalotheca_core::facts::ItemFacts;
use yalotheca_core::id::{Digest, ItemId};
use yalotheca_core::solve::Question;

use crate::Error;
use crate::fetch::{Answer, Fetcher};
use crate::home::Home;

/// The catalogues of a roster, in its order.
#[derive(Debug)]
pub struct Catalogues {
    list: Vec<One>,
    pinned: BTreeMap<ItemId, String>,
}

#[derive(Debug)]
struct One {
    address: String,
    place: Place,
    home: Home,
    fetcher: Fetcher,
    root: RefCell<Option<Root>>,
}

#[derive(Debug)]
enum Place {
    Http(String),
    Folder(PathBuf),
}

/// An item with the catalogue that has it.
#[derive(Debug, Clone)]
pub struct Offered {
    /// The catalogue's address, as the roster writes it.
    pub catalogue: String,
    /// What it says.
    pub facts: ItemFacts,
}

impl Catalogues {
    /// Returns the catalogues at `addresses`; folders are relative to `beside`.
    pub fn new(addresses: &[String], beside: &Path, home: &Home, fetcher: &Fetcher) -> Self {
        let one = |address: &String| {
            let place = if address.starts_with("http://") || address.starts_with("https://") {
                let slash = if address.ends_with('/') { "" } else { "/" };
                Place::Http(format!("{address}{slash}"))
            } else {
                Place::Folder(beside.join(address))
            };
            One {
                address: address.clone(),
                place,
                home: home.clone(),
                fetcher: fetcher.clone(),
                root: RefCell::new(None),
            }
        };
        Self { list: addresses.iter().map(one).collect(), pinned: BTreeMap::new() }
    }

    /// Takes some items from one catalogue only: item to its address.
    pub fn pin(&mut self, items: BTreeMap<ItemId, String>) {
        self.pinned = items;
    }

    /// Returns the addresses, first one first.
    pub fn addresses_of_all(&self) -> Vec<&str> {
        self.list.iter().map(|o| o.address.as_str()).collect()
    }

    /// Returns what each catalogue but the first that has it says of an item, whatever it is pinned to.
    ///
    /// # Errors
    /// As [`Catalogues::items`].
    pub fn others(&self, id: &ItemId, but: &str) -> Result<Vec<Offered>, Error> {
        let mut out = Vec::new();
        for one in self.list.iter().filter(|o| o.address != but) {
            let found =
                one.items(&[id])?.into_iter().map(|(_, facts)| Offered { catalogue: one.address.clone(), facts });
            out.extend(found);
        }
        Ok(out)
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.list.is_empty()
    }

    /// Returns each item with what the first catalogue that has it says; absent ones are left out.
    ///
    /// # Errors
    /// A catalogue that does not answer, or answers what cannot be.
    pub fn items(&self, ids: &BTreeSet<ItemId>) -> Result<BTreeMap<ItemId, Offered>, Error> {
        let mut out = BTreeMap::new();
        for one in &self.list {
            let mine = |id: &&ItemId| self.pinned.get(*id).is_none_or(|p| *p == one.address);
            let missing: Vec<&ItemId> = ids.iter().filter(|id| !out.contains_key(*id)).filter(mine).collect();
            for (id, facts) in one.items(&missing)? {
                out.insert(id, Offered { catalogue: one.address.clone(), facts });
            }
        }
        Ok(out)
    }

    /// Returns, for each question but [`Question::Versions`], the items that all catalogues name.
    ///
    /// # Errors
    /// As [`Catalogues::items`].
    pub fn named(&self, questions: &[Question]) -> Result<Vec<Vec<ItemId>>, Error> {
        let key = |q: &Question| match q {
            Question::Provides(id) => Some((Index::Provides, id.to_string())),
            Question::Replaces(id) => Some((Index::Replaces, id.to_string())),
            Question::Number(number) => Some((Index::Numbers, number.clone())),
            Question::File(digest) => Some((Index::Files, digest.to_string())),
            Question::Versions(_) => None,
        };
        self.looked_up(&questions.iter().map(key).collect::<Vec<_>>())
    }

    /// Returns the number that a link to an item's page carries, by the shapes that the catalogues know. A catalogue
    /// that cannot be asked has no say.
    pub fn number_in(&self, link: &str) -> Option<String> {
        self.list.iter().filter_map(|one| one.root().ok()).find_map(|root| root.number_in(link))
    }

    /// Returns the items that each key of an index names.
    fn looked_up(&self, keys: &[Option<(Index, String)>]) -> Result<Vec<Vec<ItemId>>, Error> {
        let mut out: Vec<Vec<ItemId>> = vec![Vec::new(); keys.len()];
        for one in &self.list {
            for (found, more) in out.iter_mut().zip(one.looked_up(keys)?) {
                for id in more {
                    if !found.contains(&id) {
                        found.push(id);
                    }
                }
            }
        }
        Ok(out)
    }

    /// Returns the family file of that name that a catalogue carries, the first one's that has it.
    ///
    /// # Errors
    /// As [`Catalogues::items`].
    pub fn family(&self, name: &str) -> Result<Option<Vec<u8>>, Error> {
        for one in &self.list {
            let found = one.anew_if_changed(|| {
                let Some(digest) = one.root()?.carries.get(name).cloned() else { return Ok(None) };
                let file = format!("families/{name}.family.toml");
                Ok(one.files(&BTreeSet::from([(file.clone(), digest)]))?.remove(&file))
            })?;
            if found.is_some() {
                return Ok(found);
            }
        }
        Ok(None)
    }

    /// Returns the names of the family files that the catalogues carry.
    ///
    /// # Errors
    /// As [`Catalogues::items`].
    pub fn families(&self) -> Result<BTreeSet<String>, Error> {
        let mut out = BTreeSet::new();
        for one in &self.list {
            out.extend(one.root()?.carries.into_keys());
        }
        Ok(out)
    }

    /// Returns the items found by words, those that answer to most of them first, then by id.
    ///
    /// # Errors
    /// As [`Catalogues::items`].
    pub fn search(&self, words: &[String]) -> Result<Vec<Offered>, Error> {
        let keys: Vec<_> = words.iter().map(|w| Some((Index::Words, w.clone()))).collect();
        let mut hits: BTreeMap<ItemId, usize> = BTreeMap::new();
        for id in self.looked_up(&keys)?.into_iter().flatten() {
            *hits.entry(id).or_default() += 1;
        }
        let best = hits.values().copied().max().unwrap_or(0);
        hits.retain(|_, count| *count == best);
        let items = self.items(&hits.into_keys().take(200).collect())?;
        Ok(items.into_values().collect())
    }

    /// Returns a file's addresses, made whole: relative ones stand to the catalogue's own address.
    pub fn addresses(&self, catalogue: &str, addresses: &[String]) -> Vec<String> {
        let one = self.list.iter().find(|o| o.address == catalogue);
        addresses.iter().map(|a| one.map_or_else(|| a.clone(), |o| o.whole(a))).collect()
    }
}

impl One {
    fn whole(&self, address: &str) -> String {
        if address.starts_with("http://") || address.starts_with("https://") {
            return address.to_owned();
        }
        match &self.place {
            Place::Http(base) => format!("{base}{}", address.trim_start_matches('/')),
            Place::Folder(folder) => folder.join(address).display().to_string(),
        }
    }

    fn items(&self, ids: &[&ItemId]) -> Result<Vec<(ItemId, ItemFacts)>, Error> {
        if ids.is_empty() {
            return Ok(Vec::new());
        }
        self.anew_if_changed(|| {
            let root = self.root()?;
            let shards: Vec<Option<(String, Digest)>> =
                ids.iter().map(|id| root.shard(Index::Items, id.as_str()).map(|(f, d)| (f, d.clone()))).collect();
            let files = self.files(&shards.iter().flatten().cloned().collect::<BTreeSet<_>>())?;
            let mut wanted = BTreeMap::new();
            for (id, shard) in ids.iter().zip(&shards) {
                let Some((file, _)) = shard else { continue };
                let Some(bytes) = files.get(file) else { continue };
                let listed = catalogue::parse_items_shard(file, bytes).map_err(|e| self.error(e))?;
                if let Some(digest) = listed.get(*id) {
                    wanted.insert((*id).clone(), (catalogue::item_file(id), digest.clone()));
                }
            }
            let files = self.files(&wanted.values().cloned().collect())?;
            let read = |(id, (file, _)): (&ItemId, &(String, Digest))| {
                let bytes = files.get(file)?;
                Some(catalogue::parse_item(id, bytes).map(|f| (id.clone(), f)).map_err(|e| self.error(e)))
            };
            wanted.iter().filter_map(read).collect()
        })
    }

    fn looked_up(&self, keys: &[Option<(Index, String)>]) -> Result<Vec<Vec<ItemId>>, Error> {
        self.anew_if_changed(|| {
            let root = self.root()?;
            let shard = |key: &Option<(Index, String)>| {
                key.as_ref().and_then(|(i, k)| root.shard(*i, k).map(|(f, d)| (f, d.clone())))
            };
            let shards: Vec<Option<(String, Digest)>> = keys.iter().map(shard).collect();
            let files = self.files(&shards.iter().flatten().cloned().collect())?;
            let mut out = Vec::new();
            for (key, shard) in keys.iter().zip(&shards) {
                let found = match (key, shard) {
                    (Some((_, key)), Some((file, _))) => match files.get(file) {
                        Some(bytes) => {
                            let mut listed = catalogue::parse_shard(file, bytes).map_err(|e| self.error(e))?;
                            listed.remove(key).unwrap_or_default()
                        }
                        None => Vec::new(),
                    },
                    _ => Vec::new(),
                };
                out.push(found);
            }
            Ok(out)
        })
    }

    /// A catalogue that was renewed between two of our questions is asked once more from its root on.
    fn anew_if_changed<T>(&self, ask: impl Fn() -> Result<T, Error>) -> Result<T, Error> {
        match ask() {
            Err(Error::Catalogue { source: CatalogueError::Digest { .. }, .. }) => {
                *self.root.borrow_mut() = None;
                ask()
            }
            other => other,
        }
    }

    fn error(&self, source: CatalogueError) -> Error {
        Error::Catalogue { address: self.address.clone(), source }
    }

    /// The root: asked for once a run, with the tag of the one we have.
    fn root(&self) -> Result<Root, Error> {
        if let Some(root) = &*self.root.borrow() {
            return Ok(root.clone());
        }
        let bytes = match &self.place {
            Place::Folder(folder) => {
                let path = folder.join(ROOT);
                std::fs::read(&path).map_err(Error::disk(path, "cannot be read"))?
            }
            Place::Http(base) => self.root_over_http(base)?,
        };
        let root = Root::parse(&bytes).map_err(|e| self.error(e))?;
        *self.root.borrow_mut() = Some(root.clone());
        Ok(root)
    }

    fn root_over_http(&self, base: &str) -> Result<Vec<u8>, Error> {
        let key = Digest::of(base.as_bytes());
        let (body, tag) = (format!("catalogues/roots/{key}.json"), format!("catalogues/roots/{key}.tag"));
        let known = std::fs::read(self.home.at(&body)).ok();
        let old_tag = known.as_ref().and_then(|_| std::fs::read_to_string(self.home.at(&tag)).ok());
        if let (true, Some(known)) = (self.fetcher.offline(), &known) {
            return Ok(known.clone());
        }
        let address = format!("{base}{ROOT}");
        let answer = self.fetcher.ask(&[(address.clone(), old_tag)], MOST_BYTES).pop();
        match answer.unwrap_or(Ok(Answer::Nothing))? {
            Answer::Same => Ok(known.unwrap_or_default()),
            Answer::Bytes(bytes, new_tag) => {
                // what cannot be read is not kept
                Root::parse(&bytes).map_err(|e| self.error(e))?;
                let _ = std::fs::remove_file(self.home.at(&tag));
                self.home.write(&body, &bytes)?;
                if let Some(new_tag) = new_tag {
                    self.home.write(&tag, new_tag.as_bytes())?;
                }
                Ok(bytes)
            }
            Answer::Nothing => {
                let why = "no catalogue stands at this address".to_owned();
                Err(self.error(CatalogueError::Format { file: ROOT.to_owned(), why }))
            }
        }
    }

    /// Returns the bytes of files, by name, each checked against the digest that vouches for it.
    fn files(&self, wanted: &BTreeSet<(String, Digest)>) -> Result<BTreeMap<String, Vec<u8>>, Error> {
        let mut out = BTreeMap::new();
        let mut missing = Vec::new();
        let kept = |digest: &Digest| format!("catalogues/files/{digest}");
        for (file, digest) in wanted {
            let path = match &self.place {
                Place::Folder(folder) => folder.join(file),
                Place::Http(_) => self.home.at(&kept(digest)),
            };
            match (std::fs::read(&path), &self.place) {
                (Ok(bytes), _) if Digest::of(&bytes) == *digest => {
                    out.insert(file.clone(), bytes);
                }
                (Ok(bytes), Place::Folder(_)) => return Err(self.other(file, &bytes, digest)),
                (Err(e), Place::Folder(_)) => return Err(Error::disk(path, "cannot be read")(e)),
                (_, Place::Http(base)) => missing.push((file, digest, format!("{base}{file}"))),
            }
        }
        let questions: Vec<_> = missing.iter().map(|(_, _, address)| (address.clone(), None)).collect();
        for ((file, digest, _), answer) in missing.iter().zip(self.fetcher.ask(&questions, MOST_BYTES)) {
            let bytes = match answer? {
                Answer::Bytes(bytes, _) => bytes,
                Answer::Same | Answer::Nothing => Vec::new(),
            };
            if Digest::of(&bytes) != **digest {
                return Err(self.other(file, &bytes, digest));
            }
            self.home.write(&kept(digest), &bytes)?;
            out.insert((*file).clone(), bytes);
        }
        Ok(out)
    }

    fn other(&self, file: &str, bytes: &[u8], wanted: &Digest) -> Error {
        let (got, wanted) = (Digest::of(bytes).short().to_owned(), wanted.short().to_owned());
        self.error(CatalogueError::Digest { file: file.to_owned(), got, wanted })
    }
}
