//! Which file of an item goes where.

use std::borrow::Cow;

use thiserror::Error;

use crate::facts::ServerFacts;
use crate::family::{Kind, Template};
use crate::id::{Digest, IdError, ItemId, ServerPath};
use crate::manifest::{Look, Member, Real, top_folder};
use crate::text::clean;
use crate::version::Version;

/// Where a placed file's bytes come from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Source {
    /// A file of the store.
    Store(Digest),
    /// A member of an archive in the store.
    Member {
        /// The archive.
        archive: Digest,
        /// The member's path in it.
        path: String,
    },
    /// A file that was moved aside on the server, by its digest.
    Kept(Digest),
}

/// A file with its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Placed {
    /// Where it goes.
    pub path: ServerPath,
    /// Where its bytes come from.
    pub source: Source,
    /// The digest of its bytes.
    pub sha256: Digest,
    /// Its size in bytes.
    pub bytes: u64,
    /// Whether it is a settings file, the administrator's once it is there.
    pub settings: bool,
}

/// An item's files with their places.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Places {
    /// What goes onto the server.
    pub files: Vec<Placed>,
    /// Members that no rule takes: left out, and listed.
    pub left: Vec<String>,
}

/// Why an item cannot be placed.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum PlaceError {
    /// A path that must not be written.
    #[error("{item}: {source}")]
    Path {
        /// The item.
        item: ItemId,
        /// What is wrong with the path.
        #[source]
        source: IdError,
    },
    /// A template could not be filled.
    #[error("{item}: the place `{template}` cannot be filled, because the server does not say `{field}`")]
    Field {
        /// The item.
        item: ItemId,
        /// The template.
        template: String,
        /// The field without a value.
        field: String,
    },
    /// Two files of one item go to the same place.
    #[error("{item} brings two files for `{path}`; take it apart, or ask its author")]
    Twice {
        /// The item.
        item: ItemId,
        /// The place.
        path: ServerPath,
    },
    /// Nothing of the download is taken.
    #[error("{item}: no file of `{name}` is one that the family places")]
    Nothing {
        /// The item.
        item: ItemId,
        /// The download.
        name: String,
    },
}

/// The fields that templates over an item may name.
#[derive(Debug, Clone, Copy)]
pub struct Fields<'a> {
    /// The item.
    pub id: &'a ItemId,
    /// Its version.
    pub version: &'a Version,
    /// The real file's name.
    pub name: &'a str,
    /// The file's path in the archive, top folder hoisted.
    pub path: &'a str,
    /// What the server says.
    pub server: &'a ServerFacts,
}

impl Fields<'_> {
    /// Returns the template filled, or [`PlaceError::Field`].
    ///
    /// # Errors
    /// A field has no value.
    pub fn fill(&self, template: &Template) -> Result<String, PlaceError> {
        let value = |field: &str| -> Option<Cow<'_, str>> {
            Some(match field {
                "id" => Cow::Borrowed(self.id.as_str()),
                "version" => Cow::Borrowed(self.version.as_str()),
                "name" => Cow::Borrowed(self.name),
                "stem" => Cow::Borrowed(self.name.rsplit_once('.').map_or(self.name, |(stem, _)| stem)),
                "path" => Cow::Borrowed(self.path),
                other => Cow::Borrowed(self.server.get(other)?),
            })
        };
        template.fill(value).ok_or_else(|| PlaceError::Field {
            item: self.id.clone(),
            template: template.as_str().to_owned(),
            field: template.fields().find(|f| value(f).is_none()).unwrap_or_default().to_owned(),
        })
    }
}

/// Returns the name of the real file.
pub fn real_name<'a>(look: &'a Look, real: &'a Real) -> &'a str {
    match real {
        Real::Itself => &look.name,
        Real::Inside(member) => member.path.rsplit('/').next().unwrap_or(&member.path),
    }
}

/// Places an item's files.
///
/// # Errors
/// [`PlaceError`]; nothing is placed then.
pub fn place(
    kind: &Kind,
    id: &ItemId,
    version: &Version,
    look: &Look,
    real: &Real,
    server: &ServerFacts,
) -> Result<Places, PlaceError> {
    let mut out = Places::default();
    let members: &[Member] = look.members.as_deref().unwrap_or_default();
    // the members of the real file itself stay inside it
    let whole = kind.file.is_some() && *real == Real::Itself;
    let members = if whole { &[] } else { members };
    let top = top_folder(members);
    let fields = |name, path| Fields { id, version, name, path, server };
    let mut taken: Vec<&str> = Vec::new();
    for rule in &kind.place {
        let files: Vec<(&str, Source, &Digest, u64)> = if rule.take == "real" {
            match real {
                Real::Itself => {
                    vec![(look.name.as_str(), Source::Store(look.sha256.clone()), &look.sha256, look.bytes)]
                }
                Real::Inside(m) => {
                    taken.push(&m.path);
                    vec![(m.path.as_str(), member_source(look, m), &m.sha256, m.bytes)]
                }
            }
        } else {
            let fits = |m: &&Member| m.path.get(top..).is_some_and(|p| fast_glob::glob_match(&rule.take, p));
            let fitting: Vec<&Member> =
                members.iter().filter(fits).filter(|m| !taken.contains(&m.path.as_str())).collect();
            taken.extend(fitting.iter().map(|m| m.path.as_str()));
            fitting
                .iter()
                .map(|m| (m.path.get(top..).unwrap_or(&m.path), member_source(look, m), &m.sha256, m.bytes))
                .collect()
        };
        for (path, source, sha256, bytes) in files {
            let name = path.rsplit('/').next().unwrap_or(path);
            let to = fields(name, path).fill(&rule.to)?;
            let path = ServerPath::server(&to).map_err(|source| PlaceError::Path { item: id.clone(), source })?;
            if out.files.iter().any(|f| f.path == path) {
                return Err(PlaceError::Twice { item: id.clone(), path });
            }
            out.files.push(Placed { path, source, sha256: sha256.clone(), bytes, settings: rule.settings });
        }
    }
    if out.files.is_empty() {
        return Err(PlaceError::Nothing { item: id.clone(), name: clean(&look.name, 80) });
    }
    out.left = members.iter().map(|m| m.path.clone()).filter(|p| !taken.contains(&p.as_str())).collect();
    Ok(out)
}

fn member_source(look: &Look, member: &Member) -> Source {
    Source::Member { archive: look.sha256.clone(), path: member.path.clone() }
}
