//! Opens what was fetched and finds out what it is.

use std::path::Path;

use yalotheca_core::family::Family;
use yalotheca_core::id::Digest;
use yalotheca_core::manifest::{self, Found, Look, ManifestError, Real};
use yalotheca_core::place::real_name;
use yalotheca_core::roster::Limits;

use crate::Error;
use crate::archive::{self, ArchiveError, Sort};
use crate::home::Home;

/// What a file of the store turned out to be.
#[derive(Debug, Clone)]
pub struct Learnt {
    /// Its kind's word.
    pub kind: String,
    /// The listing.
    pub look: Look,
    /// Which of its files is the real one.
    pub real: Real,
    /// What its manifest says.
    pub found: Found,
}

/// Opens a file of the store.
///
/// # Errors
/// It is no item of this family, or an archive that was refused.
pub fn learn(home: &Home, family: &Family, digest: &Digest, name: &str, limits: Limits) -> Result<Learnt, Error> {
    let look = look(home, digest, name, limits)?;
    let (word, real) = manifest::tell_kind(family, &look)?;
    let Some(kind) = family.rules.kind.get(word) else {
        return Err(Error::Manifest(ManifestError::NoKind {
            name: name.to_owned(),
            family: family.rules.title.clone(),
            expected: word.to_owned(),
        }));
    };
    let refused = |source: ArchiveError| Error::Archive { name: name.to_owned(), source };
    // the manifest is inside the real file: the download itself, or an archive in it
    let (holder, members) = match &real {
        Real::Itself => (digest.clone(), look.members.clone()),
        Real::Inside(member) => {
            if !home.has(&member.sha256) {
                let mut outer = archive::open(&home.archive_path(digest)).map_err(refused)?;
                archive::with_member(&mut outer, &member.path, |read| home.take(read, Path::new(&member.path)))
                    .map_err(refused)??;
            }
            (member.sha256.clone(), self::look(home, &member.sha256, real_name(&look, &real), limits)?.members)
        }
    };
    let absent = || {
        Error::Manifest(ManifestError::Absent {
            name: name.to_owned(),
            inside: kind.manifest.inside.clone(),
            kind: kind.title.clone(),
        })
    };
    let path = members.as_deref().and_then(|m| manifest::manifest_path(kind, m)).ok_or_else(absent)?;
    let bytes = archive::read_member(&home.archive_path(&holder), &path).map_err(refused)?;
    let found = manifest::read(kind, name, &bytes)?;
    Ok(Learnt { kind: word.to_owned(), look, real, found })
}

/// Lists a file of the store, from memory when it was opened before.
fn look(home: &Home, digest: &Digest, name: &str, limits: Limits) -> Result<Look, Error> {
    let path = home.store_path(digest);
    let unreadable = || Error::disk(path.clone(), "cannot be read");
    let bytes = std::fs::metadata(&path).map_err(unreadable())?.len();
    let refused = |source: ArchiveError| Error::Archive { name: name.to_owned(), source };
    let sort = archive::sort(&path).map_err(unreadable())?;
    let turned = |sort| sort == Sort::Zip || home.opened_path(digest).is_file();
    let members = match (home.look(digest), sort) {
        (Some(members), Some(sort)) if turned(sort) => Some(members),
        (_, Some(sort)) => {
            let most = limits.unpacked_mb.saturating_mul(1_000_000);
            if sort != Sort::Zip {
                let mut file = home.temporary()?;
                archive::unify(&path, sort, most, file.as_file_mut()).map_err(refused)?;
                home.keep_opened(file, digest)?;
            }
            let listed = archive::list(&home.archive_path(digest), most).map_err(refused)?;
            home.keep_look(digest, &listed);
            Some(listed)
        }
        (_, None) => None,
    };
    Ok(Look { name: name.to_owned(), sha256: digest.clone(), bytes, members })
}
