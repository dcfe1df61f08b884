//! Family files: the user's own first, then the built-in ones; and which of them a person approved.

use std::collections::BTreeSet;
use std::path::Path;

use yalotheca_core::family::{Family, FamilyError, Mark};
use yalotheca_core::id::ServerPath;
use yalotheca_core::text::{clean, did_you_mean, glob};

use crate::Error;
use crate::catalogue::Catalogues;
use crate::fetch::{Fetcher, Job};
use crate::home::Home;
use crate::progress::Silent;
use crate::tree::{Stat, Tree, TreeError};

include!(concat!(env!("OUT_DIR"), "/families.rs"));

/// A file larger than this is not searched for a mark's text (bytes).
const MOST_MARK: u64 = 1_000_000;

/// The texts of the user's own family files, by path.
fn own_files(home: &Home) -> Result<Vec<(String, String)>, Error> {
    let entries = std::fs::read_dir(home.at("families")).into_iter().flatten().flatten();
    let mut paths: Vec<_> = entries.map(|e| e.path()).collect();
    paths.retain(|p| p.to_string_lossy().ends_with(".family.toml"));
    paths.sort();
    let read = |path: std::path::PathBuf| {
        let text = std::fs::read_to_string(&path).map_err(Error::disk(&path, "cannot be read"))?;
        Ok((path.display().to_string(), text))
    };
    paths.into_iter().map(read).collect()
}

/// Returns all families, the user's own first; a built-in one of the same name is left out.
///
/// # Errors
/// A family file cannot be read, with its line.
pub fn all(home: &Home) -> Result<Vec<Family>, Error> {
    let mut out: Vec<Family> = Vec::new();
    for (path, text) in own_files(home)? {
        out.push(parse(&path, &text)?);
    }
    for text in BUILT_IN {
        let family = parse("(built in)", text)?;
        if !out.iter().any(|f| f.rules.name == family.rules.name) {
            out.push(family);
        }
    }
    Ok(out)
}

/// Returns the family of that name. A slip in a file that speaks of another family is no concern here.
///
/// # Errors
/// There is none, or its file cannot be read.
pub fn named(home: &Home, name: &str) -> Result<Family, Error> {
    let mut names = Vec::new();
    let built_in = BUILT_IN.iter().map(|text| ("(built in)".to_owned(), (*text).to_owned()));
    for (path, text) in own_files(home)?.into_iter().chain(built_in) {
        let speaks_of_it = text.contains(&format!("{name:?}"));
        match parse(&path, &text) {
            Ok(family) if family.rules.name == name => return Ok(family),
            Ok(family) => names.push(family.rules.name),
            Err(e) if speaks_of_it => return Err(e),
            Err(_) => {}
        }
    }
    let near = did_you_mean(name, names.iter().map(String::as_str));
    let hint = if near.is_empty() { format!(" (known: {})", names.join(", ")) } else { near };
    Err(Error::NoFamily { name: clean(name, 60), hint })
}

/// Returns a family's text as it is written.
///
/// # Errors
/// There is none of that name.
pub fn text_of(home: &Home, name: &str) -> Result<String, Error> {
    let family = named(home, name)?;
    let built_in = BUILT_IN.iter().map(|text| (*text).to_owned());
    let mut all = own_files(home)?.into_iter().map(|(_, text)| text).chain(built_in);
    let mine = |text: &String| yalotheca_core::id::Digest::of(text.as_bytes()) == family.digest;
    all.find(mine).ok_or_else(|| Error::NoFamily { name: name.to_owned(), hint: String::new() })
}

/// Returns the text of a family file: a file here, a link, or a name that a catalogue carries.
///
/// # Errors
/// There is none, it cannot be fetched, or it is no text.
pub fn brought(home: &Home, what: &str, catalogues: &Catalogues, fetcher: &Fetcher) -> Result<String, Error> {
    let bytes = if what.starts_with("http://") || what.starts_with("https://") {
        let job = Job { what: clean(what, 60), addresses: vec![what.to_owned()], wanted: None, sha512: None };
        let got = fetcher.fetch(home, &[job], &Silent).pop().unwrap_or(Err(Error::Stopped))?;
        let path = home.store_path(&got.sha256);
        small(&path)?
    } else if Path::new(what).is_file() || what.contains(['/', '\\']) {
        small(Path::new(what))?
    } else {
        let near = |names: BTreeSet<String>| did_you_mean(what, names.iter().map(String::as_str));
        match catalogues.family(what)? {
            Some(bytes) => bytes,
            None => {
                let hint = match near(catalogues.families()?) {
                    hint if hint.is_empty() => " (no file here is called so, and no catalogue carries it)".to_owned(),
                    hint => hint,
                };
                return Err(Error::NoFamily { name: clean(what, 60), hint });
            }
        }
    };
    String::from_utf8(bytes).map_err(|_| {
        let why = std::io::Error::other("it is no UTF-8 text");
        Error::disk(Path::new(what), "is no family file")(why)
    })
}

/// The bytes of a file that is small enough to be a family.
fn small(path: &Path) -> Result<Vec<u8>, Error> {
    let bytes = std::fs::metadata(path).map_err(Error::disk(path, "cannot be read"))?.len();
    if bytes > MOST_FAMILY {
        let why = std::io::Error::other("it is too large to be a family file");
        return Err(Error::disk(path, "cannot be read")(why));
    }
    std::fs::read(path).map_err(Error::disk(path, "cannot be read"))
}

/// Keeps a family file in the home; returns whether it took the place of another one of that name.
///
/// # Errors
/// The disk says no.
pub fn keep(home: &Home, family: &Family, text: &str) -> Result<bool, Error> {
    let name = &family.rules.name;
    let below = format!("families/{name}.family.toml");
    let before = named(home, name).ok().filter(|f| f.digest != family.digest);
    // one of that name in a file called otherwise would still be read first
    for (path, old) in own_files(home)? {
        let same = Family::check(&old).0.is_some_and(|f| f.rules.name == *name);
        if same && !path.ends_with(&below) {
            let why = std::io::Error::other(format!("it has the family `{name}` too; move it away first"));
            return Err(Error::disk(Path::new(&path), "is in the way")(why));
        }
    }
    home.write(&below, text.as_bytes())?;
    Ok(before.is_some())
}

/// A family file larger than this is none (bytes).
const MOST_FAMILY: u64 = 4_000_000;

/// Reads a family file wherever it lies, and tells everything that is wrong with it.
///
/// # Errors
/// The file cannot be read.
pub fn checked(path: &Path) -> Result<(Option<Family>, Vec<FamilyError>), Error> {
    let meta = std::fs::metadata(path).map_err(Error::disk(path, "cannot be read"))?;
    if meta.len() > MOST_FAMILY {
        let why = std::io::Error::other("it is too large to be a family file");
        return Err(Error::disk(path, "cannot be read")(why));
    }
    let text = std::fs::read_to_string(path).map_err(Error::disk(path, "cannot be read"))?;
    Ok(Family::check(&text))
}

fn parse(path: &str, text: &str) -> Result<Family, Error> {
    Family::parse(text).map_err(|source| Error::Family { path: path.to_owned(), text: text.to_owned(), source })
}

/// Returns the families with how sure the files make each, surest first.
///
/// # Errors
/// A family file or the tree cannot be read.
pub fn recognise(home: &Home, tree: &dyn Tree, files: &[(ServerPath, Stat)]) -> Result<Vec<(Family, u32)>, Error> {
    let mut out = Vec::new();
    for family in all(home)? {
        let mut failure: Option<TreeError> = None;
        let sure = family.certainty(|mark| {
            holds(tree, files, mark).unwrap_or_else(|e| {
                failure.get_or_insert(e);
                false
            })
        });
        if let Some(e) = failure {
            return Err(e.into());
        }
        out.push((family, sure));
    }
    out.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.rules.name.cmp(&b.0.rules.name)));
    Ok(out)
}

fn holds(tree: &dyn Tree, files: &[(ServerPath, Stat)], mark: &Mark) -> Result<bool, TreeError> {
    let matching = files.iter().filter(|(p, s)| matches!(s, Stat::File { .. }) && glob(&mark.path, p.path()));
    let Some(text) = &mark.holds else { return Ok(matching.count() > 0) };
    let small: Vec<ServerPath> = matching
        .filter(|(_, s)| matches!(s, Stat::File { bytes, .. } if *bytes <= MOST_MARK))
        .map(|(p, _)| p.clone())
        .take(100)
        .collect();
    let read = tree.read(&small, MOST_MARK)?;
    Ok(read.into_iter().flatten().any(|bytes| String::from_utf8_lossy(&bytes).contains(text)))
}

/// Whether a person approved what this family would run. Built-in families are approved.
pub fn approved(home: &Home, family: &Family) -> bool {
    let built_in = BUILT_IN.iter().any(|text| yalotheca_core::id::Digest::of(text.as_bytes()) == family.digest);
    built_in || list(home).contains(family.digest.hex())
}

/// Remembers that a person approved this family, by its digest: a changed file asks again.
///
/// # Errors
/// The disk says no.
pub fn approve(home: &Home, family: &Family) -> Result<(), Error> {
    let mut digests = list(home);
    digests.insert(family.digest.hex().to_owned());
    let bytes = serde_json::to_vec_pretty(&digests).unwrap_or_default();
    home.write("approved.json", &bytes)
}

fn list(home: &Home) -> BTreeSet<String> {
    let path = home.at("approved.json");
    std::fs::read(Path::new(&path)).ok().and_then(|b| serde_json::from_slice(&b).ok()).unwrap_or_default()
}
