//! Conditions under which a rule counts: layouts change between game versions, cores and places.

use std::borrow::Cow;
use std::collections::BTreeMap;

use serde::Deserialize;

use super::Pattern;
use crate::facts::ServerFacts;
use crate::version::{Range, Scheme, Version};

/// A condition; everything it names must hold.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct When {
    /// The game's version is in this range.
    pub game: Option<Range>,
    /// The core has this name.
    pub core: Option<String>,
    /// The core can do this.
    pub capability: Option<String>,
    /// The server has a file that fits.
    pub there: Option<Pattern>,
    /// The server has no file that fits.
    pub missing: Option<Pattern>,
    /// The item is the one that is played, or is not.
    pub active: Option<bool>,
    /// Facts and fields have these values.
    pub is: BTreeMap<String, String>,
}

/// What a condition is asked of.
pub trait Asked {
    /// What the server says.
    fn server(&self) -> &ServerFacts;
    /// A field's value.
    fn field(&self, name: &str) -> Option<Cow<'_, str>>;
    /// Whether the server has a file that fits.
    fn there(&self, pattern: &Pattern) -> bool;
    /// Whether the item is the one that is played.
    fn active(&self) -> bool;
}

impl When {
    /// Whether everything it names holds.
    pub fn holds(&self, at: &impl Asked) -> bool {
        let server = at.server();
        let game = |range: &Range| server.get("game").is_some_and(|g| range.holds(&Version::new(g), Scheme::Plain));
        self.game.as_ref().is_none_or(game)
            && self.core.as_ref().is_none_or(|c| server.get("core") == Some(c))
            && self.capability.as_ref().is_none_or(|c| server.list("capabilities").contains(c))
            && self.there.as_ref().is_none_or(|p| at.there(p))
            && self.missing.as_ref().is_none_or(|p| !at.there(p))
            && self.active.is_none_or(|a| at.active() == a)
            && self.is.iter().all(|(name, value)| at.field(name).is_some_and(|v| v == value.as_str()))
    }

    /// Returns the condition in plain words.
    pub fn said(&self) -> String {
        let mut out = Vec::new();
        if let Some(game) = &self.game {
            out.push(format!("the game is {game}"));
        }
        if let Some(core) = &self.core {
            out.push(format!("the core is {core}"));
        }
        if let Some(capability) = &self.capability {
            out.push(format!("the core takes {capability}"));
        }
        if let Some(there) = &self.there {
            out.push(format!("`{there}` is there"));
        }
        if let Some(missing) = &self.missing {
            out.push(format!("`{missing}` is not there"));
        }
        match self.active {
            Some(true) => out.push("it is the one that is played".to_owned()),
            Some(false) => out.push("it is not the one that is played".to_owned()),
            None => {}
        }
        out.extend(self.is.iter().map(|(name, value)| format!("{name} is {value}")));
        out.join(" and ")
    }
}
