//! What must change on the server: the wanted files against those that are there.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use crate::finding::{Finding, Severity};
use crate::id::{Digest, ItemId, ServerPath};
use crate::place::Source;

/// A file that should stand on the server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WantedFile {
    /// The digest of its bytes.
    pub sha256: Digest,
    /// Its size in bytes.
    pub bytes: u64,
    /// Where its bytes come from.
    pub source: Source,
    /// The items it belongs to.
    pub owners: BTreeSet<ItemId>,
    /// Whether it is a settings file, the administrator's once it is there.
    pub settings: bool,
    /// Whether it is the administrator's as a whole once it is there: never replaced, never complained of.
    pub once: bool,
    /// Whether it lies over a stock file that the server's own updater puts back.
    pub layer: bool,
}

/// What stands at a path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Seen {
    /// Nothing.
    Absent,
    /// A file with this digest.
    File(Digest),
    /// A folder, a link or something else that is no plain file.
    Other(&'static str),
}

/// Why a file is placed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Why {
    /// It is new.
    New,
    /// Another version of it was ours.
    Renewed,
    /// It was ours and somebody took it away.
    PutBack,
    /// Another file stood there.
    InsteadOf,
}

/// One step on one file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    /// Put a file there; what stands there goes to quarantine.
    Place {
        /// Where.
        path: ServerPath,
        /// The file.
        file: WantedFile,
        /// What stands there now.
        was: Option<Digest>,
        /// Why.
        why: Why,
    },
    /// Move a file of ours to quarantine; put back what stood there before us, if anything did.
    Remove {
        /// Where.
        path: ServerPath,
        /// What stands there now.
        was: Digest,
        /// What comes back.
        back: Option<Digest>,
    },
}

impl Step {
    /// Returns the path.
    pub fn path(&self) -> &ServerPath {
        match self {
            Step::Place { path, .. } | Step::Remove { path, .. } => path,
        }
    }

    /// Returns the file's digest before and after.
    pub fn digests(&self) -> (Option<Digest>, Option<Digest>) {
        match self {
            Step::Place { file, was, .. } => (was.clone(), Some(file.sha256.clone())),
            Step::Remove { was, back, .. } => (Some(was.clone()), back.clone()),
        }
    }
}

/// The changes of files.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct FileChanges {
    /// The steps, by path.
    pub steps: Vec<Step>,
    /// What stood where our files stand from now on.
    pub bases: BTreeMap<ServerPath, Digest>,
    /// What the administrator did since, told.
    pub findings: Vec<Finding>,
    /// Findings that stop the settle until somebody decides.
    pub blocked: Vec<Finding>,
}

/// What is known of the files before.
#[derive(Debug, Clone, Default)]
pub struct Before {
    /// The files that the ledger has, by path, with their digests.
    pub ours: BTreeMap<ServerPath, Digest>,
    /// What stood there before us.
    pub bases: BTreeMap<ServerPath, Digest>,
    /// What stands there now, for each path of the ledger and each wanted one.
    pub seen: BTreeMap<ServerPath, Seen>,
    /// Hand-changed files that may be replaced.
    pub put_back: BTreeSet<ServerPath>,
}

/// Computes the changes of files. A file that the administrator changed is never replaced unless `put_back` names
/// it, and stays when the item goes.
pub fn files(before: &Before, wanted: &BTreeMap<ServerPath, WantedFile>) -> FileChanges {
    let mut out = FileChanges::default();
    let paths: BTreeSet<&ServerPath> = before.ours.keys().chain(wanted.keys()).collect();
    for path in paths {
        let seen = before.seen.get(path).unwrap_or(&Seen::Absent);
        let ours = before.ours.get(path);
        let base = before.bases.get(path);
        match (wanted.get(path), ours) {
            (Some(file), _) => {
                if let (Some(base), true) = (base, ours.is_some()) {
                    out.bases.insert(path.clone(), base.clone());
                }
                // a layer whose stock file came back is laid over it again
                let stock = base.filter(|b| file.layer && ours.is_some() && **b != file.sha256);
                if stock.is_some() && matches!(seen, Seen::File(now) if Some(now) == stock) {
                    out.laid_again(path, file, stock);
                    continue;
                }
                out.want(path, file, ours, seen, before.put_back.contains(path));
            }
            (None, Some(ours)) => match seen {
                Seen::File(now) if now == ours => {
                    out.steps.push(Step::Remove {
                        path: path.clone(),
                        was: now.clone(),
                        back: base.filter(|b| *b != now).cloned(),
                    });
                    if base == Some(now) {
                        // it stood there before us, the same: nothing to do
                        out.steps.pop();
                    }
                }
                Seen::File(_) => out.findings.push(
                    Finding::new(
                        "changed-by-hand",
                        Severity::Note,
                        "it was changed by hand, so it stays where it is and is yours now",
                        "remove it yourself if you do not want it",
                    )
                    .at(path),
                ),
                Seen::Absent | Seen::Other(_) => {}
            },
            (None, None) => {}
        }
    }
    out
}

impl FileChanges {
    fn laid_again(&mut self, path: &ServerPath, file: &WantedFile, stock: Option<&Digest>) {
        let owners = crate::text::listed(&file.owners.iter().map(ToString::to_string).collect::<Vec<_>>());
        let cause = "the server's own updater put its stock file back: ours is laid over it again";
        let fix = format!("to leave the stock file: yalotheca drop {owners}");
        self.findings.push(Finding::new("stock-put-back", Severity::Warning, cause, fix).at(path).of(&owners));
        let (path, file, was) = (path.clone(), file.clone(), stock.cloned());
        self.steps.push(Step::Place { path, file, was, why: Why::PutBack });
    }

    fn want(&mut self, path: &ServerPath, file: &WantedFile, ours: Option<&Digest>, seen: &Seen, put_back: bool) {
        let owners = crate::text::listed(&file.owners.iter().map(ToString::to_string).collect::<Vec<_>>());
        let place =
            |was: Option<&Digest>, why| Step::Place { path: path.clone(), file: file.clone(), was: was.cloned(), why };
        match (seen, ours) {
            (Seen::Other(what), _) => self.blocked.push(
                Finding::new(
                    "in-the-way",
                    Severity::Error,
                    format!("{owners} needs this place for a file, and {what} stands there"),
                    "move it elsewhere, then settle again",
                )
                .at(path)
                .of(&owners),
            ),
            (Seen::File(now), None) if *now == file.sha256 => {
                self.bases.insert(path.clone(), now.clone());
            }
            (Seen::File(now), None) if file.once => {
                self.bases.insert(path.clone(), now.clone());
                let cause = format!("{owners} brings this file, and one stands there already: yours is kept");
                let fix = "nothing to do; to have the item's own, move yours away and settle";
                self.findings.push(Finding::new("settings-kept", Severity::Note, cause, fix).at(path).of(&owners));
            }
            (Seen::File(_), Some(_)) if file.once => {}
            (Seen::File(now), None) => {
                self.bases.insert(path.clone(), now.clone());
                self.steps.push(place(Some(now), Why::InsteadOf));
            }
            (Seen::Absent, None) => self.steps.push(place(None, Why::New)),
            (Seen::File(now), _) if *now == file.sha256 => {}
            (Seen::File(now), Some(ours)) if now == ours || put_back => self.steps.push(place(Some(now), Why::Renewed)),
            (Seen::File(_), Some(ours)) if *ours == file.sha256 => self.findings.push(
                Finding::new(
                    "changed-by-hand",
                    Severity::Warning,
                    "it was changed by hand since it was placed: kept",
                    format!("to have the item's own file again: yalotheca settle --put-back {path}"),
                )
                .at(path)
                .of(&owners),
            ),
            (Seen::File(_), Some(_)) => self.blocked.push(
                Finding::new(
                    "changed-by-hand",
                    Severity::Error,
                    format!("it was changed by hand, and the new version of {owners} brings another"),
                    format!("keep a copy if you need it, then: yalotheca settle --put-back {path}"),
                )
                .at(path)
                .of(&owners),
            ),
            (Seen::Absent, Some(_)) => {
                self.findings.push(
                    Finding::new(
                        "missing-file",
                        Severity::Warning,
                        "it was taken away by hand: put back, because the roster wants it",
                        format!("to leave it out: yalotheca drop {owners}"),
                    )
                    .at(path)
                    .of(&owners),
                );
                self.steps.push(place(None, Why::PutBack));
            }
        }
    }
}

/// Puts the files of all items together by path. Two items may bring the same bytes to one path (both own it then);
/// different bytes, or names that differ only in case, are findings.
pub fn gather(
    items: impl IntoIterator<Item = (ItemId, crate::place::Placed)>,
) -> Result<BTreeMap<ServerPath, WantedFile>, Vec<Finding>> {
    let mut out: BTreeMap<ServerPath, WantedFile> = BTreeMap::new();
    let mut folded: HashMap<String, ServerPath> = HashMap::new();
    let mut findings = Vec::new();
    let owners =
        |file: &WantedFile| crate::text::listed(&file.owners.iter().map(ToString::to_string).collect::<Vec<_>>());
    for (id, placed) in items {
        let lower = placed.path.to_string().to_lowercase();
        if let Some(other) = folded.insert(lower, placed.path.clone()).filter(|p| *p != placed.path) {
            let cause = format!(
                "{id} brings `{}`, and `{other}` differs from it only in case: many systems take them for one file",
                placed.path
            );
            findings.push(
                Finding::new("case", Severity::Error, cause, format!("drop {id}, or the item that brings the other"))
                    .at(&placed.path)
                    .of(&id),
            );
        }
        match out.get_mut(&placed.path) {
            Some(file) if file.sha256 == placed.sha256 => {
                file.owners.insert(id);
            }
            Some(file) => {
                let cause = format!("{} and {id} bring different files for the same place", owners(file));
                let fix = format!("drop one of them: yalotheca drop {id}");
                findings.push(Finding::new("two-owners", Severity::Error, cause, fix).at(&placed.path).of(&id));
            }
            None => {
                out.insert(
                    placed.path,
                    WantedFile {
                        sha256: placed.sha256,
                        bytes: placed.bytes,
                        source: placed.source,
                        owners: BTreeSet::from([id]),
                        settings: placed.settings,
                        once: placed.once,
                        layer: placed.layer,
                    },
                );
            }
        }
    }
    if findings.is_empty() { Ok(out) } else { Err(findings) }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn path(text: &str) -> ServerPath {
        ServerPath::server(text).unwrap()
    }

    fn file(bytes: &str, owners: &[&str]) -> WantedFile {
        WantedFile {
            sha256: Digest::of(bytes.as_bytes()),
            bytes: bytes.len() as u64,
            source: Source::Store(Digest::of(bytes.as_bytes())),
            owners: owners.iter().map(|o| ItemId::new(o).unwrap()).collect(),
            settings: false,
            once: false,
            layer: false,
        }
    }

    fn run(
        ours: Option<&str>,
        base: Option<&str>,
        seen: Option<&str>,
        wanted: Option<&str>,
        put_back: bool,
    ) -> FileChanges {
        let digest = |t: &str| Digest::of(t.as_bytes());
        let at = |t: Option<&str>| t.map(|t| (path("f"), digest(t))).into_iter().collect();
        let before = Before {
            ours: at(ours),
            bases: at(base),
            seen: [(path("f"), seen.map_or(Seen::Absent, |t| Seen::File(digest(t))))].into(),
            put_back: if put_back { [path("f")].into() } else { BTreeSet::new() },
        };
        files(&before, &wanted.map(|w| (path("f"), file(w, &["a"]))).into_iter().collect())
    }

    fn told(changes: &FileChanges) -> String {
        let step = changes.steps.first().map(|s| match s {
            Step::Place { why, .. } => format!("{why:?}"),
            Step::Remove { back, .. } => format!("Remove{}", if back.is_some() { "+back" } else { "" }),
        });
        let codes: Vec<_> = changes.findings.iter().chain(&changes.blocked).map(|f| f.code).collect();
        format!(
            "{} {}{}",
            step.unwrap_or_default(),
            codes.join(","),
            if changes.blocked.is_empty() { "" } else { " blocked" }
        )
    }

    #[test]
    fn every_state_of_a_file_has_its_step() {
        let cases = [
            (None, None, None, Some("1"), "New "),
            (None, None, Some("x"), Some("1"), "InsteadOf "),
            (None, None, Some("1"), Some("1"), " "),
            (Some("1"), None, Some("1"), Some("1"), " "),
            (Some("1"), None, Some("1"), Some("2"), "Renewed "),
            (Some("1"), None, None, Some("1"), "PutBack missing-file"),
            (Some("1"), None, Some("h"), Some("1"), " changed-by-hand"),
            (Some("1"), None, Some("h"), Some("2"), " changed-by-hand blocked"),
            (Some("1"), None, Some("2"), Some("2"), " "),
            (Some("1"), None, Some("1"), None, "Remove "),
            (Some("1"), Some("x"), Some("1"), None, "Remove+back "),
            (Some("1"), Some("1"), Some("1"), None, " "),
            (Some("1"), None, Some("h"), None, " changed-by-hand"),
            (Some("1"), None, None, None, " "),
        ];
        for (ours, base, seen, wanted, expected) in cases {
            assert_eq!(told(&run(ours, base, seen, wanted, false)), expected, "{ours:?} {base:?} {seen:?} {wanted:?}");
        }
        assert_eq!(told(&run(Some("1"), None, Some("h"), Some("1"), true)), "Renewed ");
        assert!(run(None, None, Some("x"), Some("1"), false).bases.contains_key(&path("f")));
    }

    #[test]
    fn files_have_owners_and_clashes_are_findings() {
        let placed = |p: &str, b: &str| crate::place::Placed {
            path: path(p),
            source: Source::Store(Digest::of(b.as_bytes())),
            sha256: Digest::of(b.as_bytes()),
            bytes: 1,
            settings: false,
            once: false,
            layer: false,
        };
        let id = |t: &str| ItemId::new(t).unwrap();
        let both = gather([(id("a"), placed("lib/x", "1")), (id("b"), placed("lib/x", "1"))]).unwrap();
        assert_eq!(both[&path("lib/x")].owners.len(), 2);
        let codes = |r: Result<_, Vec<Finding>>| r.unwrap_err().iter().map(|f| f.code).collect::<Vec<_>>();
        assert_eq!(codes(gather([(id("a"), placed("x", "1")), (id("b"), placed("x", "2"))])), ["two-owners"]);
        assert_eq!(codes(gather([(id("a"), placed("x", "1")), (id("b"), placed("X", "1"))])), ["case"]);
    }
}
