//! Which file of an item goes where.

use thiserror::Error;

use crate::family::{Caught, FetchedBy, Template, server_path};
use crate::id::{Digest, IdError, ItemId, ServerPath};
use crate::manifest::{Look, Member, Real};
use crate::scene::{Fields, Item, Scene};
use crate::text::clean;

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
    /// Whether it is never merged: a new version's is put beside.
    pub once: bool,
    /// Whether it lies over a stock file that the server's own updater puts back.
    pub layer: bool,
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
    /// Players must be told where to fetch it, and nobody knows.
    #[error(
        "{item}: nobody names a link from which players could fetch it; put it where they can, then: yalotheca want LINK"
    )]
    NoLink {
        /// The item.
        item: ItemId,
    },
    /// A file that the kind needs is not in it.
    #[error("{item}: `{name}` has no `{file}`, which {kind} needs; it may be cut: fetch it again, or ask its author")]
    Lacks {
        /// The item.
        item: ItemId,
        /// The download.
        name: String,
        /// What is missing.
        file: String,
        /// The kind.
        kind: String,
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

impl PlaceError {
    /// Returns that a template cannot be filled, with the first field that has no value.
    pub(crate) fn unfilled(item: &ItemId, template: &Template, fields: &Fields<'_>) -> Self {
        let field = template.fields().find(|f| fields.get(f).is_none()).unwrap_or_default().to_owned();
        if field == "link" {
            return PlaceError::NoLink { item: item.clone() };
        }
        PlaceError::Field { item: item.clone(), template: template.as_str().to_owned(), field }
    }
}

/// Returns the item's files with their places.
///
/// # Errors
/// [`PlaceError`]; nothing is placed then.
pub fn place(item: &Item<'_>, look: &Look, real: &Real, scene: &Scene<'_>) -> Result<Places, PlaceError> {
    let mut out = Places::default();
    if item.kind.fetched_by == FetchedBy::Server {
        return Ok(out);
    }
    let members: &[Member] = look.members.as_deref().unwrap_or_default();
    let folder = real.folder_in(members);
    let mut taken: Vec<&str> = Vec::new();
    for rule in &item.kind.place {
        let counts = rule.when.as_ref().is_none_or(|w| w.holds(&Fields::of(scene, item)));
        if !counts {
            continue;
        }
        let files: Vec<Taken<'_>> = if rule.takes_real() {
            match real {
                Real::Itself | Real::Elsewhere => {
                    let source = Source::Store(look.sha256.clone());
                    vec![Taken {
                        path: &look.name,
                        source,
                        sha256: &look.sha256,
                        bytes: look.bytes,
                        caught: Caught::new(),
                    }]
                }
                Real::Inside(m) => {
                    taken.push(&m.path);
                    vec![Taken::member(look, m, m.path.get(folder.len()..).unwrap_or(&m.path), Caught::new())]
                }
                Real::Folder(_) => Vec::new(),
            }
        } else {
            let known = Fields::of(scene, item);
            let fits = |m: &'_ Member| {
                let below = m.path.strip_prefix(folder.as_str())?;
                let caught = rule.take.catch(below)?;
                // what an entry is made of goes with that entry, whichever rule would take it
                let entry = item.kind.entry.as_ref().and_then(|e| e.path.catch(below));
                if entry.is_some_and(|e| !item.entries.contains(&e)) {
                    return None;
                }
                // what is known of the item already must be what stands there
                let agrees = |(k, v): (&String, &String)| {
                    !["stem", "id", "number"].contains(&k.as_str()) || known.get(k).is_some_and(|known| known == *v)
                };
                (caught.iter().all(agrees) && wanted(item, &caught)).then_some(caught)
            };
            let mut fitting = Vec::new();
            for member in members.iter().filter(|m| !taken.contains(&m.path.as_str())) {
                if let Some(caught) = fits(member) {
                    let path = member.path.get(folder.len()..).unwrap_or(&member.path);
                    fitting.push((member, Taken::member(look, member, path, caught)));
                }
            }
            if !rule.copy {
                taken.extend(fitting.iter().map(|(m, _)| m.path.as_str()));
            }
            fitting.into_iter().map(|(_, t)| t).collect()
        };
        if files.is_empty() && rule.needed {
            let lacks = Fields::of(scene, item);
            let lacks = |f: &str| lacks.get(f).map(std::borrow::Cow::into_owned).unwrap_or_else(|| "*".to_owned());
            let file = Template::parse(rule.take.as_str()).ok().and_then(|t| t.fill(|f| Some(lacks(f).into())));
            return Err(PlaceError::Lacks {
                item: item.id.clone(),
                name: clean(&look.name, 80),
                file: file.unwrap_or_else(|| rule.take.to_string()),
                kind: crate::text::a(&item.kind.title),
            });
        }
        for file in files {
            let fields = Fields { caught: Some(&file.caught), path: file.path, ..Fields::of(scene, item) };
            let to = fields.fill(&rule.to).ok_or_else(|| PlaceError::unfilled(item.id, &rule.to, &fields))?;
            let path = server_path(&to).map_err(|source| PlaceError::Path { item: item.id.clone(), source })?;
            if out.files.iter().any(|f| f.path == path) {
                return Err(PlaceError::Twice { item: item.id.clone(), path });
            }
            out.files.push(Placed {
                path,
                source: file.source,
                sha256: file.sha256.clone(),
                bytes: file.bytes,
                settings: rule.settings || rule.once,
                once: rule.once,
                layer: rule.layer,
            });
        }
    }
    if out.files.is_empty() && !item.kind.place.is_empty() {
        return Err(PlaceError::Nothing { item: item.id.clone(), name: clean(&look.name, 80) });
    }
    out.left = members.iter().map(|m| m.path.clone()).filter(|p| !taken.contains(&p.as_str())).collect();
    if matches!(real, Real::Itself) && item.kind.file.is_some() {
        // what is inside the one real file stays inside it
        out.left.clear();
    }
    Ok(out)
}

/// A file that a rule takes.
struct Taken<'a> {
    path: &'a str,
    source: Source,
    sha256: &'a Digest,
    bytes: u64,
    caught: Caught,
}

impl<'a> Taken<'a> {
    fn member(look: &Look, member: &'a Member, path: &'a str, caught: Caught) -> Self {
        let source = Source::Member { archive: look.sha256.clone(), path: member.path.clone() };
        Self { path, source, sha256: &member.sha256, bytes: member.bytes, caught }
    }
}

/// Whether a file belongs to an entry that is taken, or to none.
fn wanted(item: &Item<'_>, caught: &Caught) -> bool {
    let Some(rule) = &item.kind.entry else { return true };
    let shared: Vec<&str> = rule.path.fields().filter(|f| caught.contains_key(*f)).collect();
    shared.is_empty() || item.entries.iter().any(|e| shared.iter().all(|f| e.get(*f) == caught.get(*f)))
}
