//! Every way an operation can fail, by area. The CLI turns them into headings, hints and exit codes.

use std::path::PathBuf;

use thiserror::Error;
use yalotheca_core::catalogue::CatalogueError;
use yalotheca_core::family::FamilyError;
use yalotheca_core::finding::Finding;
use yalotheca_core::id::IdError;
use yalotheca_core::ledger::LedgerError;
use yalotheca_core::manifest::ManifestError;
use yalotheca_core::order::Circle;
use yalotheca_core::place::PlaceError;
use yalotheca_core::roster::RosterError;
use yalotheca_core::settings::EditError;
use yalotheca_core::slot::SlotError;
use yalotheca_core::take_back::StandsOn;

use crate::archive::ArchiveError;
use crate::fetch::FetchError;
use crate::tree::TreeError;
use crate::tree::remote::HostError;

/// Anything that stops an operation. Nothing was changed then, unless the variant says so.
#[derive(Debug, Error)]
pub enum Error {
    /// A command was typed in a way that means nothing.
    #[error("{0}")]
    Usage(String),
    /// There is no roster here.
    #[error("there is no roster `{}`", .0.display())]
    NoRoster(PathBuf),
    /// The roster stands there already.
    #[error("`{}` stands here already, so this server is under care", .0.display())]
    RosterExists(PathBuf),
    /// The roster cannot be read.
    #[error("the roster cannot be read: {source}")]
    Roster {
        /// The file.
        path: PathBuf,
        /// Its text, for showing the line.
        text: String,
        /// What is wrong.
        #[source]
        source: RosterError,
    },
    /// A family file cannot be used.
    #[error("the family file cannot be used: {source}")]
    Family {
        /// The file.
        path: String,
        /// Its text, for showing the line.
        text: String,
        /// What is wrong.
        #[source]
        source: FamilyError,
    },
    /// No such family.
    #[error("no family is called `{name}`{hint}")]
    NoFamily {
        /// The name.
        name: String,
        /// `, did you mean …?` or nothing.
        hint: String,
    },
    /// The folder gives no family away.
    #[error("no family was recognised in `{place}`")]
    NotRecognised {
        /// The folder.
        place: String,
        /// What came nearest: family and certainty.
        nearest: Vec<(String, u32)>,
    },
    /// The address of a rented host cannot be read.
    #[error("`{at}` {why}")]
    Address {
        /// The address.
        at: String,
        /// What is wrong, after it.
        why: String,
    },
    /// The server's folder is not there.
    #[error("there is no folder `{0}`")]
    NoServer(String),
    /// A folder beside the server's own is not named, or not there.
    #[error("{0}")]
    Beside(String),
    /// No set of versions fits.
    #[error("no set of versions fits")]
    Impossible(Box<crate::settle::NoWay>),
    /// Which versions fit was not found out in good time.
    #[error("what these items need of each other is too tangled to be sorted out; nothing was changed")]
    Tangled,
    /// Needs go in a circle.
    #[error(transparent)]
    Circle(#[from] Circle),
    /// Findings that forbid it.
    #[error("this cannot be done as it stands")]
    Forbidden(Vec<Finding>),
    /// The server seems to run, and what is to be changed must wait until it is stopped.
    #[error("nothing was changed: {}", .0.cause)]
    Runs(Box<Finding>),
    /// Findings that need somebody's decision.
    #[error("this needs your decision first")]
    Undecided(Vec<Finding>),
    /// An item is not on the roster.
    #[error("`{item}` is not on the roster{hint}")]
    NotWanted {
        /// The item.
        item: String,
        /// `, did you mean …?` or nothing.
        hint: String,
    },
    /// No catalogue has it.
    #[error("no catalogue has `{item}`{hint}")]
    NotOffered {
        /// What was asked for.
        item: String,
        /// `, did you mean …?` or nothing.
        hint: String,
    },
    /// The item is for another family.
    #[error("`{item}` is for {family}, and this server is {here}")]
    OtherFamily {
        /// The item.
        item: String,
        /// Its family.
        family: String,
        /// The server's family.
        here: String,
    },
    /// The catalogue and the archive say different things.
    #[error("{item}: the catalogue and what came from it disagree: {why}")]
    Disagree {
        /// The item and version.
        item: String,
        /// What each says.
        why: String,
    },
    /// A file on the roster is gone or another.
    #[error("{item}: `{place}` {why}")]
    Origin {
        /// The item.
        item: String,
        /// The file or address.
        place: String,
        /// What is wrong.
        why: String,
    },
    /// The server changed between plan and apply.
    #[error("`{path}` changed while the changes were being made ready")]
    Moved {
        /// The file.
        path: String,
    },
    /// A file cannot be replaced as it stands.
    #[error("`{file}` {why}, so it is left alone; {fix}, then run the same command again")]
    Kept {
        /// The file.
        file: String,
        /// What stands against it: `is read-only`.
        why: &'static str,
        /// What to do.
        fix: &'static str,
    },
    /// Somebody pressed Ctrl-C.
    #[error("stopped: nothing was changed")]
    Stopped,
    /// Something was half done and could not be taken back.
    #[error("the change stopped half way: {why}; the next command that reaches the server takes it back")]
    HalfDone {
        /// What failed, and what stands where.
        why: String,
    },
    /// A version text or range cannot be read.
    #[error("{0}")]
    Range(#[from] yalotheca_core::version::RangeError),
    /// A name cannot be used.
    #[error("{0}")]
    Id(#[from] IdError),
    /// A settings file stands in the way.
    #[error(transparent)]
    Slot(#[from] SlotError),
    /// A file is no settings file that can be tuned.
    #[error("`{file}` {why}")]
    NoSettings {
        /// The file.
        file: String,
        /// What is wrong with it: `is not there`.
        why: String,
    },
    /// A settings file cannot be read without doubt.
    #[error("{}{}: {}", .0.file.as_deref().unwrap_or(""), .0.line.map(|l| format!(":{l}")).unwrap_or_default(), .0.cause)]
    InDoubt(Box<Finding>),
    /// A settings file that is to be mended reads as it is.
    #[error("`{0}` reads as it is: there is nothing to mend")]
    NothingToMend(String),
    /// A value cannot be tuned.
    #[error("{file}: {source}")]
    Edit {
        /// The settings file.
        file: String,
        /// Why.
        #[source]
        source: EditError,
    },
    /// Nothing was tuned there.
    #[error("{file}: {what} was ever tuned{hint}")]
    NotTuned {
        /// The settings file.
        file: String,
        /// What was asked for.
        what: String,
        /// `, did you mean …?` or nothing.
        hint: String,
    },
    /// The roster cannot take a line.
    #[error("`{}` cannot take the line: {why}", .path.display())]
    RosterEdit {
        /// The file.
        path: PathBuf,
        /// Why.
        why: String,
    },
    /// An item cannot be placed.
    #[error(transparent)]
    Place(#[from] PlaceError),
    /// What is signed is not what was signed.
    #[error("`{item}` is refused: {source}")]
    Seal {
        /// The download.
        item: String,
        /// What is wrong.
        #[source]
        source: yalotheca_core::seal::SealError,
    },
    /// What is chosen cannot be.
    #[error("{0}")]
    Choice(String),
    /// What is asked of a map cannot be.
    #[error("{0}")]
    Maps(String),
    /// A container cannot be edited.
    #[error(transparent)]
    Derive(Box<yalotheca_core::derive::DeriveError>),
    /// A download is no item.
    #[error(transparent)]
    Manifest(#[from] ManifestError),
    /// An archive was refused.
    #[error("{name}: {source}")]
    Archive {
        /// The archive's name.
        name: String,
        /// What is wrong.
        #[source]
        source: ArchiveError,
    },
    /// Something could not be fetched.
    #[error(transparent)]
    Fetch(#[from] FetchError),
    /// A catalogue's answer was refused.
    #[error("catalogue {address}: {source}")]
    Catalogue {
        /// The catalogue.
        address: String,
        /// What is wrong.
        #[source]
        source: CatalogueError,
    },
    /// A file of ours cannot be read or written.
    #[error("`{}` {doing}: {source}", .path.display())]
    Disk {
        /// The file.
        path: PathBuf,
        /// What was tried, after the path: `cannot be written`.
        doing: &'static str,
        /// The system's word.
        #[source]
        source: std::io::Error,
    },
    /// The server's tree failed.
    #[error(transparent)]
    Tree(#[from] TreeError),
    /// The ledger cannot be used.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// The history has no such entry.
    #[error("{0}")]
    NoEntry(String),
    /// Later entries of the history stand on the one that is to be taken back.
    #[error("entry {entry} cannot be taken back alone")]
    StandsOn {
        /// The entry.
        entry: u64,
        /// What stands on it.
        against: Vec<StandsOn>,
    },
    /// There is nothing to take back.
    #[error("there is nothing to undo: {0}")]
    NothingToUndo(String),
    /// The family names no start.
    #[error("the family `{0}` does not say how to start the server")]
    NoStart(String),
    /// The server runs on another machine, where nothing can be started from here.
    #[error("{0} is on another machine, and this program cannot start a server there")]
    Elsewhere(String),
    /// The family's start was not approved.
    #[error("the family `{family}` (sha256 {digest}) would run: {command}")]
    NotApproved {
        /// The family.
        family: String,
        /// Its digest.
        digest: String,
        /// What it would run.
        command: String,
        /// The command that lets it.
        how: String,
    },
    /// The start command could not be run.
    #[error("`{command}` could not be run: {source}")]
    Run {
        /// The command.
        command: String,
        /// The system's word.
        #[source]
        source: std::io::Error,
    },
    /// The terms in force have another number.
    #[error("the terms in force have the number {wanted}, not {given}")]
    OtherTerms {
        /// The number in force.
        wanted: String,
        /// What was given.
        given: String,
    },
    /// There are no terms to accept.
    #[error("this server asks for no terms to be accepted")]
    NoTerms,
}

impl From<yalotheca_core::derive::DeriveError> for Error {
    fn from(e: yalotheca_core::derive::DeriveError) -> Self {
        Error::Derive(Box::new(e))
    }
}

impl Error {
    /// Returns the exit code: 2 wrong usage, 3 it cannot be, 4 the outside failed, 5 refused for safety,
    /// 6 needs an answer (`docs/exit-codes.md`).
    pub fn exit_code(&self) -> u8 {
        match self {
            Error::Usage(_)
            | Error::Maps(_)
            | Error::Choice(_)
            | Error::NoRoster(_)
            | Error::RosterExists(_)
            | Error::Roster { .. }
            | Error::Family { .. }
            | Error::NoFamily { .. }
            | Error::NotRecognised { .. }
            | Error::NoServer(_)
            | Error::Beside(_)
            | Error::NotWanted { .. }
            | Error::Range(_)
            | Error::Id(_)
            | Error::NothingToUndo(_)
            | Error::NoEntry(_)
            | Error::NoSettings { .. }
            | Error::Kept { .. }
            | Error::NothingToMend(_)
            | Error::NotTuned { .. }
            | Error::Edit { source: EditError::NoSuch { .. } | EditError::Unclear { .. }, .. }
            | Error::NoStart(_)
            | Error::Elsewhere(_)
            | Error::Address { .. }
            | Error::Tree(TreeError::Host(HostError::NoFolder { .. } | HostError::KeyFile { .. }))
            | Error::OtherTerms { .. }
            | Error::NoTerms => 2,
            Error::Impossible(_)
            | Error::Tangled
            | Error::Circle(_)
            | Error::StandsOn { .. }
            | Error::Forbidden(_)
            | Error::NotOffered { .. }
            | Error::OtherFamily { .. }
            | Error::Edit { source: EditError::OtherSort { .. } | EditError::Cannot { .. }, .. }
            | Error::Place(
                PlaceError::Field { .. }
                | PlaceError::NoLink { .. }
                | PlaceError::Twice { .. }
                | PlaceError::Nothing { .. }
                | PlaceError::Lacks { .. },
            )
            | Error::Manifest(_) => 3,
            Error::Fetch(e) if e.is_refusal() => 5,
            Error::Fetch(_) | Error::Disk { .. } | Error::Run { .. } | Error::Stopped | Error::HalfDone { .. } => 4,
            Error::Tree(TreeError::Root(_)) => 3,
            Error::Tree(TreeError::Host(e)) if e.needs_answer() => 6,
            Error::Tree(e) if e.is_refusal() => 5,
            Error::Tree(_) => 4,
            Error::Place(PlaceError::Path { .. })
            | Error::Disagree { .. }
            | Error::Seal { .. }
            | Error::Derive(_)
            | Error::Origin { .. }
            | Error::Moved { .. }
            | Error::Slot(_)
            | Error::InDoubt(_)
            | Error::Edit { .. }
            | Error::RosterEdit { .. }
            | Error::Archive { .. }
            | Error::Catalogue { .. }
            | Error::Ledger(_) => 5,
            Error::Undecided(_) | Error::Runs(_) | Error::NotApproved { .. } => 6,
        }
    }

    /// Returns a disk error.
    pub(crate) fn disk(path: impl Into<PathBuf>, doing: &'static str) -> impl FnOnce(std::io::Error) -> Self {
        let path = path.into();
        move |source| Error::Disk { path, doing, source }
    }
}
