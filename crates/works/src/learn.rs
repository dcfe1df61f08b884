//! Opens what was fetched and finds out what it is.

use std::io::Read as _;
use std::path::Path;

use yalotheca_core::family::{Family, Kind};
use yalotheca_core::id::Digest;
use yalotheca_core::manifest::{self, Found, Look, ManifestError, Member, Real};
use yalotheca_core::roster::Limits;
use yalotheca_core::seal::{SealError, Signer};

use crate::Error;
use crate::archive::{self, ArchiveError, Sort};
use crate::home::Home;
use crate::tree::{Access, TreeError};

/// So deep may an archive lie in archives.
const MOST_DEPTH: usize = 3;
/// A signed file larger than this is not verified but refused (bytes): it must be in memory as a whole.
const MOST_SIGNED: u64 = 512_000_000;

/// What a file of the store turned out to be.
#[derive(Debug, Clone)]
pub struct Learnt {
    /// Its kind's word.
    pub kind: String,
    /// The listing; of the inner archive, where the item was an archive in an archive.
    pub look: Look,
    /// Which of its files is the real one.
    pub real: Real,
    /// What its manifest says.
    pub found: Found,
    /// Who signed it, where its kind is signed.
    pub signer: Option<Signer>,
    /// Files of an outer archive that are left out.
    pub left: Vec<String>,
}

/// What a file is opened by.
#[derive(Clone, Copy)]
pub struct Opener<'a> {
    /// The store.
    pub home: &'a Home,
    /// The family.
    pub family: &'a Family,
    /// Bounds.
    pub limits: Limits,
    /// The kind that a person named.
    pub kind: Option<&'a str>,
    /// Who knows the passwords of archives.
    pub access: &'a Access,
    /// The file that the roster, or a person, names for the password.
    pub password_file: Option<&'a Path>,
}

impl Opener<'_> {
    /// Opens a file of the store.
    ///
    /// # Errors
    /// It is no item of this family, its signatures do not hold, or an archive was refused.
    pub fn learn(&self, digest: &Digest, name: &str) -> Result<Learnt, Error> {
        self.within(digest, name, 0)
    }

    fn within(&self, digest: &Digest, name: &str, depth: usize) -> Result<Learnt, Error> {
        let look = self.look(digest, name)?;
        let told = manifest::tell_kind(self.family, &look, self.kind);
        let whole = !matches!(told, Ok((_, Real::Inside(_) | Real::Folder(_))));
        if whole && look.members.is_none() && self.is_page(digest, name) {
            return Err(ManifestError::Page(name.to_owned()).into());
        }
        match told {
            Ok((word, real)) => self.told(word.to_owned(), look, real),
            Err(none @ ManifestError::NoKind { .. }) if depth < MOST_DEPTH => {
                self.inner(&look, depth).unwrap_or(Err(none.into()))
            }
            Err(e) => Err(e.into()),
        }
    }

    /// Whether a file begins as web pages do, and is not named as one.
    fn is_page(&self, digest: &Digest, name: &str) -> bool {
        let lower = name.to_lowercase();
        if lower.ends_with(".html") || lower.ends_with(".htm") {
            return false;
        }
        let mut head = Vec::new();
        let read = std::fs::File::open(self.home.store_path(digest)).map(|f| f.take(512).read_to_end(&mut head));
        let text = String::from_utf8_lossy(&head).trim_start_matches('\u{feff}').trim_start().to_lowercase();
        read.is_ok() && ["<!doctype html", "<html", "<head"].iter().any(|start| text.starts_with(start))
    }

    /// The one archive in an archive that is an item; `None` when none is in it.
    fn inner(&self, look: &Look, depth: usize) -> Option<Result<Learnt, Error>> {
        let members = look.members.as_deref()?;
        let mut fits: Vec<(String, Learnt)> = Vec::new();
        let packed = |m: &&Member| archive::looks_packed(&m.path);
        for member in members.iter().filter(packed).take(50) {
            if let Err(e) = self.bring(look, member) {
                return Some(Err(e));
            }
            let name = member.path.rsplit('/').next().unwrap_or(&member.path);
            match self.within(&member.sha256, name, depth + 1) {
                Ok(learnt) => fits.push((member.path.clone(), learnt)),
                // what it is not is no reason to refuse what it is
                Err(Error::Manifest(ManifestError::NoKind { .. })) => {}
                Err(e) => return Some(Err(e)),
            }
        }
        if fits.len() > 1 {
            let all: Vec<String> =
                fits.iter().map(|(p, _)| format!("`{}`", yalotheca_core::text::clean(p, 80))).collect();
            return Some(Err(Error::Manifest(ManifestError::Doubtful {
                name: look.name.clone(),
                fits: all.join(" or "),
                fix: "unpack it, and give the one archive you mean".to_owned(),
            })));
        }
        let (path, mut learnt) = fits.pop()?;
        learnt.left.extend(members.iter().map(|m| m.path.clone()).filter(|p| *p != path));
        Some(Ok(learnt))
    }

    /// Puts a member into the store.
    fn bring(&self, look: &Look, member: &Member) -> Result<(), Error> {
        if self.home.has(&member.sha256) {
            return Ok(());
        }
        let refused = |source: ArchiveError| Error::Archive { name: look.name.clone(), source };
        let mut outer = archive::open(&self.home.archive_path(&look.sha256)).map_err(refused)?;
        let take = |read: &mut dyn std::io::Read| self.home.take(read, Path::new(&member.path));
        archive::with_member(&mut outer, &member.path, take).map_err(refused)??;
        Ok(())
    }

    fn told(&self, word: String, look: Look, real: Real) -> Result<Learnt, Error> {
        let Some(kind) = self.family.rules.kind.get(&word) else {
            return Err(Error::Manifest(ManifestError::NoKind {
                name: look.name.clone(),
                family: self.family.rules.title.clone(),
                expected: word,
            }));
        };
        // the manifest is inside the real file where that is an archive itself, else beside it
        let (holder, members) = match &real {
            Real::Inside(member) if kind.manifest.inside.is_some() && !kind.manifest.is_real() => {
                self.bring(&look, member)?;
                let inner = self.look(&member.sha256, &real.name(&look))?;
                (member.sha256.clone(), inner.members.unwrap_or_default())
            }
            _ => (look.sha256.clone(), look.members.clone().unwrap_or_default()),
        };
        let path = self.home.archive_path(&holder);
        let itself = || {
            let mut bytes = Vec::new();
            let file = std::fs::File::open(self.home.store_path(&look.sha256)).ok()?;
            file.take(archive::MOST_READ).read_to_end(&mut bytes).ok().map(|_| bytes)
        };
        let read = |member: &str| match member {
            "" => itself(),
            member => archive::read_member(&path, member).ok(),
        };
        let found = manifest::read(kind, &look, &real, &members, &read);
        manifest::refused(kind, &look, found.as_ref().ok())?;
        let found = found?;
        let signer = self.signer(kind, &look, &real)?;
        Ok(Learnt { kind: word, look, real, found, signer, left: Vec::new() })
    }

    /// Verifies every signature that the kind asks for.
    fn signer(&self, kind: &Kind, look: &Look, real: &Real) -> Result<Option<Signer>, Error> {
        let Some(seal) = &kind.seal else { return Ok(None) };
        let refused = |source: SealError| Error::Seal { item: look.name.clone(), source };
        let folder = real.folder();
        let members = look.members.as_deref().unwrap_or_default();
        let path = self.home.archive_path(&look.sha256);
        let broken = |source: ArchiveError| Error::Archive { name: look.name.clone(), source };
        let file = format!("{folder}{}", seal.file);
        let bytes = members.iter().find(|m| m.path == file).and_then(|m| archive::read_member(&path, &m.path).ok());
        let seals = seal.read(bytes.as_deref()).map_err(refused)?;
        let mut archive = archive::open(&path).map_err(broken)?;
        for member in members {
            let Some(below) = member.path.strip_prefix(folder.as_str()).filter(|p| seal.of.fits(p)) else { continue };
            if member.bytes > MOST_SIGNED {
                let why = format!("`{below}` is too large to be verified");
                return Err(broken(ArchiveError::TooLarge(why)));
            }
            let mut bytes = Vec::new();
            archive::with_member(&mut archive, &member.path, |read| std::io::copy(read, &mut bytes))
                .map_err(broken)?
                .map_err(|e| broken(ArchiveError::Broken(e.to_string())))?;
            seals.verify(below, &bytes).map_err(refused)?;
        }
        Ok(Some(seals.signer))
    }

    /// Lists a file of the store, from memory when it was opened before.
    fn look(&self, digest: &Digest, name: &str) -> Result<Look, Error> {
        let home = self.home;
        let path = home.store_path(digest);
        let unreadable = || Error::disk(path.clone(), "cannot be read");
        let bytes = std::fs::metadata(&path).map_err(unreadable())?.len();
        let sort = archive::sort(&path).map_err(unreadable())?;
        let turned = |sort| sort == Sort::Zip || home.opened_path(digest).is_file();
        let members = match (home.look(digest), sort) {
            (Some(members), Some(sort)) if turned(sort) => Some(members),
            (_, Some(sort)) => {
                let most = self.limits.unpacked_mb.saturating_mul(1_000_000);
                if sort != Sort::Zip {
                    self.unify(digest, sort, name, most)?;
                }
                let refused = |source: ArchiveError| Error::Archive { name: name.to_owned(), source };
                let listed = archive::list(&home.archive_path(digest), most).map_err(refused)?;
                home.keep_look(digest, &listed);
                Some(listed)
            }
            (_, None) => None,
        };
        // one that lay under another name when it was opened is called after the name it has now
        let single = sort.is_some_and(Sort::is_single);
        if single && members.iter().flatten().any(|m| m.path != archive::unpacked_name(name)) {
            let turned = home.opened_path(digest);
            std::fs::remove_file(&turned).map_err(Error::disk(&turned, "cannot be written anew"))?;
            return self.look(digest, name);
        }
        Ok(Look { name: name.to_owned(), sha256: digest.clone(), bytes, members })
    }

    /// Turns an archive into a plain zip; a password is only asked for where one is needed.
    fn unify(&self, digest: &Digest, sort: Sort, name: &str, most: u64) -> Result<(), Error> {
        let path = self.home.store_path(digest);
        let turn = |password: Option<&str>| {
            let mut file = self.home.temporary()?;
            let done = archive::unify(&path, sort, archive::unpacked_name(name), password, most, file.as_file_mut());
            Ok::<_, Error>(done.map(|()| file))
        };
        let refused = |source: ArchiveError| Error::Archive { name: name.to_owned(), source };
        let done = match turn(None)? {
            Err(locked @ ArchiveError::Encrypted(_)) => {
                let password = self.access.archive_password(self.password_file, name).map_err(TreeError::from)?;
                turn(Some(&password.ok_or_else(|| refused(locked))?))?
            }
            other => other,
        };
        self.home.keep_opened(done.map_err(refused)?, digest)
    }
}
