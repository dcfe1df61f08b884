//! What templates and conditions are filled from: an item, one of its entries, and the server around it.

use std::borrow::Cow;
use std::collections::BTreeMap;

use crate::facts::ServerFacts;
use crate::family::{Asked, Caught, Family, Kind, Pattern, Template};
use crate::id::ItemId;
use crate::manifest::{late, stem};
use crate::version::Version;

/// What the administrator chose for items: item, or `ITEM/ENTRY`, to field to value.
pub type Choices = BTreeMap<String, BTreeMap<String, String>>;

/// The server around the items.
#[derive(Debug, Clone, Copy)]
pub struct Scene<'a> {
    /// The family.
    pub family: &'a Family,
    /// What the family's rules read on the server.
    pub server: &'a ServerFacts,
    /// The server's files with their sizes in bytes; may be empty where the family never asks.
    pub files: &'a BTreeMap<String, u64>,
    /// The map that is to be played.
    pub play: Option<&'a str>,
    /// What the administrator chose.
    pub choices: &'a Choices,
}

/// An item to be placed and wired.
#[derive(Debug, Clone, Copy)]
pub struct Item<'a> {
    /// The item.
    pub id: &'a ItemId,
    /// Its kind.
    pub kind: &'a Kind,
    /// Its version.
    pub version: &'a Version,
    /// The name of its real file or folder.
    pub name: &'a str,
    /// Its name for people.
    pub title: &'a str,
    /// Its catalogue number.
    pub number: Option<&'a str>,
    /// Its further fields.
    pub fields: &'a BTreeMap<String, String>,
    /// Its entries that are taken.
    pub entries: &'a [Caught],
    /// Its position in the load order, from 1.
    pub order: usize,
}

/// The fields that templates over an item have besides those of its kind.
pub const ITEM_FIELDS: [&str; 11] =
    ["id", "version", "title", "name", "stem", "path", "number", "order", "link", "bytes", "sha256"];

/// The fields of the download itself: where anybody can fetch it, its size, its digest. They are kept for kinds whose
/// wirings name them.
pub const DOWNLOAD_FIELDS: [&str; 3] = ["link", "bytes", "sha256"];

/// The fields of an item, of one entry, and of one file.
#[derive(Debug, Clone, Copy)]
pub struct Fields<'a> {
    /// The server.
    pub scene: &'a Scene<'a>,
    /// The item.
    pub item: &'a Item<'a>,
    /// The entry, where one is in hand.
    pub entry: Option<&'a Caught>,
    /// What a pattern caught of the file in hand.
    pub caught: Option<&'a Caught>,
    /// The path of the file in hand, in the item's folder.
    pub path: &'a str,
}

impl<'a> Fields<'a> {
    /// Returns the fields of an item as a whole.
    pub fn of(scene: &'a Scene<'a>, item: &'a Item<'a>) -> Self {
        Self { scene, item, entry: None, caught: None, path: item.name }
    }

    /// Returns the template filled; `None` when a field has no value.
    pub fn fill(&self, template: &Template) -> Option<String> {
        template.fill(|f| self.get(f))
    }

    /// Returns a field's value.
    pub fn get(&self, name: &str) -> Option<Cow<'_, str>> {
        let kept = |map: Option<&'a Caught>| map.and_then(|m| m.get(name)).map(|v| Cow::Borrowed(v.as_str()));
        if let Some(value) = kept(self.caught).or_else(|| kept(self.entry)) {
            return Some(value);
        }
        match name {
            "id" => return Some(Cow::Borrowed(self.item.id.as_str())),
            "version" => return Some(Cow::Borrowed(self.item.version.as_str())),
            "title" => return Some(Cow::Borrowed(self.item.title)),
            "name" => {
                let name = self.path.rsplit('/').next().unwrap_or(self.path);
                return Some(Cow::Borrowed(name.trim_end_matches('.')));
            }
            "stem" => return Some(Cow::Borrowed(stem(self.path.rsplit('/').next().unwrap_or(self.path)))),
            "path" => return Some(Cow::Borrowed(self.path)),
            "order" => return Some(Cow::Owned(self.item.order.to_string())),
            "number" => return self.item.number.map(Cow::Borrowed),
            _ => {}
        }
        if let Some(value) = self.item.fields.get(name) {
            return Some(Cow::Borrowed(value));
        }
        if let Some(field) = self.item.kind.field.get(name) {
            if let Some(value) = field.server.as_ref().and_then(|p| self.late(name, p)) {
                return Some(Cow::Owned(value));
            }
            let default = field.default.as_ref()?;
            // a default over itself would never end
            return default.fill(|f| if f == name { None } else { self.get(f) }).map(Cow::Owned);
        }
        if let Some(choice) = self.item.kind.choice.get(name) {
            return Some(Cow::Borrowed(self.chosen(name).unwrap_or(&choice.default)));
        }
        self.scene.server.get(name).map(Cow::Borrowed)
    }

    /// What the administrator chose for this entry, or for the item.
    pub(crate) fn chosen(&self, name: &str) -> Option<&'a str> {
        let of = |key: &str| self.scene.choices.get(key).and_then(|c| c.get(name)).map(String::as_str);
        let entry = self.entry.is_some().then(|| self.label()).flatten();
        entry.and_then(|e| of(&format!("{}/{e}", self.item.id))).or_else(|| of(self.item.id.as_str()))
    }

    /// What the server's own files tell, once they are there.
    fn late(&self, name: &str, pattern: &Pattern) -> Option<String> {
        let known = |f: &str| if f == name { None } else { self.get(f).map(Cow::into_owned) };
        late(pattern, &known, self.scene.files.keys().map(String::as_str)).next().and_then(|c| c.get(name).cloned())
    }

    /// Returns the entry's name.
    pub fn label(&self) -> Option<String> {
        let (rule, entry) = (self.item.kind.entry.as_ref()?, self.entry?);
        rule.name.fill(|f| entry.get(f).map(|v| Cow::Borrowed(v.as_str())))
    }

    /// Returns what the map is called; `None` where it cannot be played, or its name is not known yet.
    pub fn map(&self) -> Option<String> {
        let active = self.scene.family.rules.active.as_ref()?;
        let kinds = &self.scene.family.rules.kind;
        let mine = |word: &&String| kinds.get(word.as_str()).is_some_and(|k| std::ptr::eq(k, self.item.kind));
        active.kinds.iter().find(mine)?;
        self.fill(&active.name)
    }
}

impl Asked for Fields<'_> {
    fn server(&self) -> &ServerFacts {
        self.scene.server
    }

    fn field(&self, name: &str) -> Option<Cow<'_, str>> {
        self.get(name)
    }

    fn there(&self, pattern: &Pattern) -> bool {
        self.scene.there(pattern)
    }

    fn active(&self) -> bool {
        self.map().is_some_and(|m| self.scene.play == Some(m.as_str()))
    }
}

impl Scene<'_> {
    /// Whether the server has a file that fits.
    pub fn there(&self, pattern: &Pattern) -> bool {
        self.files.keys().any(|f| pattern.fits(f))
    }
}

impl Asked for Scene<'_> {
    fn server(&self) -> &ServerFacts {
        self.server
    }

    fn field(&self, name: &str) -> Option<Cow<'_, str>> {
        self.server.get(name).map(Cow::Borrowed)
    }

    fn there(&self, pattern: &Pattern) -> bool {
        Scene::there(self, pattern)
    }

    fn active(&self) -> bool {
        self.play.is_some()
    }
}
