//! What a family says of settings: their formats, what they mean, and what they refer to.

use serde::Deserialize;

use super::Family;
use crate::id::ServerPath;
use crate::settings::{Format, Path, Sort, Value, number_order};
use crate::text::glob;

/// A settings file whose name does not tell its format.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct SettingsFile {
    /// A glob pattern over the server's files.
    pub file: String,
    /// Their format.
    pub format: Format,
}

/// What a setting means.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Setting {
    /// A glob pattern over the server's files.
    pub file: String,
    /// Its path in them; wildcards stand for many settings alike.
    pub at: String,
    /// Its name for people.
    #[serde(default)]
    pub title: String,
    /// What it is counted in.
    pub unit: Option<String>,
    /// The least number it takes.
    pub least: Option<Bound>,
    /// The largest number it takes.
    pub most: Option<Bound>,
    /// The values it takes.
    #[serde(default)]
    pub choices: Vec<String>,
    /// Names for the positions of a row of values.
    #[serde(default)]
    pub names: Vec<String>,
    /// What parts the elements of a list inside the value.
    pub between: Option<String>,
    /// Whether its value is shown and recorded nowhere.
    #[serde(default)]
    pub secret: bool,
}

/// What of a value is meant: what it holds, or the keys it is made of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Of {
    /// What it holds.
    #[default]
    Values,
    /// Its keys.
    Keys,
}

/// Names that only one file of some may have.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Unique {
    /// What a name is for, for people.
    pub title: String,
    /// A pattern over the server's files that have names.
    pub file: super::Pattern,
    /// Their format.
    pub format: Format,
    /// Where in them the names stand.
    #[serde(default)]
    pub at: String,
    /// Whether the keys of a map there are the names (of a list it is always the elements).
    #[serde(default = "keys")]
    pub of: Of,
    /// What happens to a name that stands twice.
    pub why: String,
}

fn keys() -> Of {
    Of::Keys
}

/// A value that names a file of the server, or something in one.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Reference {
    /// A glob pattern over the files in which it stands.
    pub file: String,
    /// Its path in them; wildcards stand for many.
    pub at: String,
    /// Whether the keys of a map there are what names.
    #[serde(default)]
    pub of: Of,
    /// The file it names: a template over `{value}`; or the one in which it must stand, with `key`.
    pub to: super::Template,
    /// Where in that file the map or list stands that must have it.
    pub key: Option<String>,
}

/// A number in a family file.
#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(untagged)]
pub enum Bound {
    /// A whole one.
    Whole(i64),
    /// Any other.
    Decimal(f64),
}

impl std::fmt::Display for Bound {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Bound::Whole(n) => write!(f, "{n}"),
            Bound::Decimal(n) => write!(f, "{n}"),
        }
    }
}

impl Setting {
    /// Returns the least and the largest number it takes, as text.
    pub fn range(&self) -> (Option<String>, Option<String>) {
        (self.least.map(|b| b.to_string()), self.most.map(|b| b.to_string()))
    }

    /// Returns why a value is none that it takes; `None` where it is.
    pub fn refuses(&self, value: &Value) -> Option<String> {
        let shown =
            if self.secret { "the value".to_owned() } else { format!("`{}`", crate::text::clean(&value.shown(), 60)) };
        let unit = self.unit.as_ref().map_or(String::new(), |u| format!(" {u}"));
        let words = value.text().unwrap_or_default();
        let (least, most) = self.range();
        if least.is_some() || most.is_some() {
            let below = |limit: &Option<String>, wrong| {
                limit.as_ref().is_some_and(|l| number_order(&words, l).is_none_or(|o| o == wrong))
            };
            if below(&least, std::cmp::Ordering::Less) || below(&most, std::cmp::Ordering::Greater) {
                let range = match (least, most) {
                    (Some(l), Some(m)) => format!("{l} to {m}{unit}"),
                    (Some(l), None) => format!("{l}{unit} or more"),
                    (_, m) => format!("{}{unit} or less", m.unwrap_or_default()),
                };
                return Some(format!("{shown} is out of range: it takes {range}"));
            }
        }
        if !self.choices.is_empty() && value.sort() != Some(Sort::Nothing) && !self.choices.contains(&words) {
            let hint = crate::text::did_you_mean(&words, self.choices.iter().map(String::as_str));
            return Some(format!("{shown} is no choice{hint}; it takes {}", self.choices.join(", ")));
        }
        None
    }
}

impl Family {
    /// Returns the format of a settings file, where the family names it.
    pub fn format_of(&self, path: &ServerPath) -> Option<Format> {
        let name = path.to_string();
        let rules = &self.rules;
        let named = rules.settings_file.iter().find(|f| glob(&f.file, &name)).map(|f| f.format);
        let wired = || {
            let wirings = rules.default.iter().chain(rules.kind.values().flat_map(|k| &k.wire));
            wirings.filter(|w| w.file.as_str() == name).map(|w| w.format).next()
        };
        named.or_else(wired)
    }

    /// Returns what a setting means, where the family says it.
    pub fn setting(&self, path: &ServerPath, at: &Path) -> Option<&Setting> {
        let name = path.to_string();
        self.rules
            .setting
            .iter()
            .find(|s| glob(&s.file, &name) && Path::parse(&s.at).is_ok_and(|pattern| pattern.covers(at)))
    }

    /// Whether the family says that a setting is secret.
    pub fn is_secret(&self, path: &ServerPath, at: &Path) -> bool {
        let name = path.to_string();
        self.rules.setting.iter().filter(|s| s.secret && glob(&s.file, &name)).any(|s| {
            // what stands in a secret table is secret, too
            Path::parse(&s.at).is_ok_and(|p| (0..=at.parts()).any(|count| p.covers(&at.first_parts(count))))
        })
    }

    /// Returns the paths of a file's secret settings.
    pub fn secrets(&self, path: &ServerPath) -> Vec<Path> {
        let name = path.to_string();
        let own = self.rules.setting.iter().filter(|s| s.secret && glob(&s.file, &name));
        own.filter_map(|s| Path::parse(&s.at).ok()).collect()
    }

    /// Returns a path with the names of a row's positions turned into positions: `at.x` into `at[1]`.
    pub fn unnamed(&self, path: &ServerPath, at: &Path) -> Path {
        let name = path.to_string();
        let mut out = at.clone();
        for setting in self.rules.setting.iter().filter(|s| !s.names.is_empty() && glob(&s.file, &name)) {
            if let Ok(pattern) = Path::parse(&setting.at) {
                out = out.with_positions(&pattern, &setting.names);
            }
        }
        out
    }

    /// Returns a path with positions turned into their names, as people type them.
    pub fn named(&self, path: &ServerPath, at: &Path) -> Path {
        let name = path.to_string();
        let mut out = at.clone();
        for setting in self.rules.setting.iter().filter(|s| !s.names.is_empty() && glob(&s.file, &name)) {
            if let Ok(pattern) = Path::parse(&setting.at) {
                out = out.with_names(&pattern, &setting.names);
            }
        }
        out
    }
}
