//! Which kind a download is, and which of its files is the real one. Nothing is guessed.

use super::{Found, Look, ManifestError, Member};
use crate::family::{Family, FetchedBy, Kind, Pattern};
use crate::text::{a, clean, listed};

/// So many ways to take a download are told.
const MOST_FITS: usize = 4;

/// What of a download is the item.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Real {
    /// The download itself is the one real file.
    Itself,
    /// A file inside it.
    Inside(Member),
    /// A folder inside it: its path with a slash at the end, or nothing for all of it.
    Folder(String),
    /// Nothing: the server fetches it itself.
    Elsewhere,
}

impl Real {
    /// Returns the name of the real file, or of the item's folder (the download's own where it is the whole).
    pub fn name(&self, look: &Look) -> String {
        let last = |path: &str| path.trim_end_matches('/').rsplit('/').next().unwrap_or(path).to_owned();
        match self {
            Real::Itself | Real::Elsewhere => look.name.clone(),
            Real::Inside(member) => last(&member.path),
            Real::Folder(folder) if folder.is_empty() => look.name.clone(),
            // so that the name has an extension to lose, like that of a file
            Real::Folder(folder) => format!("{}.", last(folder)),
        }
    }

    /// Returns where the item's files stand among the members: a folder with its slash, or nothing.
    pub fn folder(&self) -> String {
        match self {
            Real::Inside(member) => member.path.rfind('/').and_then(|at| member.path.get(..=at)).unwrap_or("").into(),
            Real::Folder(folder) => folder.clone(),
            Real::Itself | Real::Elsewhere => String::new(),
        }
    }

    /// Returns where the files stand among the members that belong to the item itself: those of the real file, where
    /// that is an archive, with a needless top folder passed over.
    pub(crate) fn folder_in(&self, members: &[Member]) -> String {
        match self {
            Real::Folder(folder) => folder.clone(),
            Real::Inside(m) if members.iter().any(|o| o.path == m.path) => self.folder(),
            _ => members.first().and_then(|m| m.path.get(..top_folder(members))).unwrap_or("").to_owned(),
        }
    }
}

/// Returns the length of the needless top folder all members share (with its slash), 0 when there is none.
pub fn top_folder(members: &[Member]) -> usize {
    let Some(folder) = members.first().and_then(|m| m.path.split_once('/')).map(|(top, _)| top.len() + 1) else {
        return 0;
    };
    let same = |m: &Member| members.first().is_some_and(|f| m.path.get(..folder) == f.path.get(..folder));
    if members.iter().all(same) { folder } else { 0 }
}

/// A way in which a download could be taken.
struct Fit<'f> {
    word: &'f str,
    real: Real,
    why: String,
}

/// Tells which kind a download is, and which of its files is the real one. `only` is the kind that a person named.
///
/// # Errors
/// [`ManifestError::NoKind`] or [`ManifestError::Doubtful`].
pub fn tell_kind<'f>(family: &'f Family, look: &Look, only: Option<&str>) -> Result<(&'f str, Real), ManifestError> {
    let kinds = family
        .rules
        .kind
        .iter()
        .filter(|(word, k)| only.is_none_or(|o| o == word.as_str()) && k.fetched_by == FetchedBy::Us);
    let mut fits: Vec<Fit<'_>> = Vec::new();
    for (word, kind) in kinds.clone() {
        match (&kind.file, &look.members) {
            (Some(pattern), _) if named(pattern, &look.name) => {
                // the file as such leaves no doubt
                return Ok((word.as_str(), Real::Itself));
            }
            (Some(pattern), Some(members)) => {
                for member in members.iter().filter(|m| named(pattern, &m.path)) {
                    let why = format!("the {} `{}`", kind.title, clean(&member.path, 80));
                    fits.push(Fit { word, real: Real::Inside(member.clone()), why });
                }
            }
            (None, Some(members)) => {
                for folder in folders(kind, members) {
                    let marks: Vec<String> = kind.marks().iter().map(|p| format!("`{p}`")).collect();
                    let place = if folder.is_empty() { String::new() } else { format!(" in `{}`", clean(&folder, 60)) };
                    let why = format!("{} (it has {}{place})", a(&kind.title), listed(&marks));
                    fits.push(Fit { word, real: Real::Folder(folder), why });
                }
            }
            _ => {}
        }
    }
    let told = |fits: &[Fit<'_>]| {
        let first = fits.iter().take(MOST_FITS).map(|f| f.why.clone()).collect::<Vec<_>>().join(" or ");
        let more = fits.len().saturating_sub(MOST_FITS);
        if more > 0 { format!("{first} or {more} more") } else { first }
    };
    if fits.len() > 1 {
        let words: std::collections::BTreeSet<&str> = fits.iter().map(|f| f.word).collect();
        let fix = if words.len() > 1 {
            let flags: Vec<String> = words.iter().map(|w| format!("--kind {w}")).collect();
            format!("say which: {}", flags.join(" or "))
        } else {
            "give the one file you mean by itself".to_owned()
        };
        return Err(ManifestError::Doubtful { name: clean(&look.name, 80), fits: told(&fits), fix });
    }
    if let Some(fit) = fits.pop() {
        return Ok((fit.word, fit.real));
    }
    let expected = kinds.map(|(_, k)| match &k.file {
        Some(pattern) => format!("{} (`{pattern}`, or an archive with one)", a(&k.title)),
        None => {
            let marks: Vec<String> = k.marks().iter().map(|p| format!("`{p}`")).collect();
            format!("{} (an archive with {})", a(&k.title), listed(&marks))
        }
    });
    Err(ManifestError::NoKind {
        name: clean(&look.name, 80),
        family: family.rules.title.clone(),
        expected: listed(&expected.collect::<Vec<_>>()),
    })
}

/// Whether a kind is not for servers, and what is told then, with what its manifest says (if it could be read).
///
/// # Errors
/// [`ManifestError::NotHere`].
pub fn refused(kind: &Kind, look: &Look, found: Option<&Found>) -> Result<(), ManifestError> {
    let Some(why) = &kind.refuse else { return Ok(()) };
    let field = |name: &str| {
        let found = found?;
        Some(match name {
            "id" => found.id.to_string(),
            "version" => found.facts.version.to_string(),
            "title" => found.title.clone(),
            other => found.fields.get(other)?.clone(),
        })
    };
    // what is not said is left open
    let why = why.fill(|name| Some(field(name).unwrap_or_else(|| "…".to_owned()).into())).unwrap_or_default();
    Err(ManifestError::NotHere { name: clean(&look.name, 80), why: clean(&why, 300) })
}

/// Whether a pattern fits a path: its name, or all of it where the pattern has a slash.
fn named(pattern: &Pattern, path: &str) -> bool {
    let name = path.rsplit('/').next().unwrap_or(path);
    pattern.fits(if pattern.as_str().contains('/') { path } else { name })
}

/// The folders among the members that have every file the kind's folders have; one inside another is its part.
fn folders(kind: &Kind, members: &[Member]) -> Vec<String> {
    let marks = kind.marks();
    let Some((first, others)) = marks.split_first() else { return Vec::new() };
    let mut out: Vec<String> = Vec::new();
    for member in members {
        let starts = std::iter::once(0).chain(member.path.match_indices('/').map(|(at, _)| at + 1));
        for start in starts {
            let (folder, rest) = member.path.split_at(start);
            let has = |p: &&&Pattern| members.iter().any(|m| m.path.strip_prefix(folder).is_some_and(|r| p.fits(r)));
            if first.fits(rest)
                && others.iter().filter(has).count() == others.len()
                && !kind.lacks.iter().any(|p| has(&&p))
            {
                out.push(folder.to_owned());
            }
        }
    }
    out.sort();
    out.dedup();
    let all = out.clone();
    out.retain(|f| !all.iter().any(|o| o != f && f.starts_with(o.as_str())));
    out
}
