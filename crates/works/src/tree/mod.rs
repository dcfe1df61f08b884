//! The one way a server's files are read and changed: in bulk, wherever they are.
//!
//! A [`Tree`] is a local folder ([`local`]) or a made-up one in memory ([`memory`]); hosts reached over a network
//! come behind the same trait. No other module touches a server's files, and none knows which tree it is.

pub mod local;
pub mod memory;

use std::io::{Read, Seek};
use std::path::PathBuf;

use thiserror::Error;
use yalotheca_core::id::{Digest, ServerPath};

/// What stands at a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stat {
    /// Nothing.
    Absent,
    /// A plain file.
    File {
        /// Its size in bytes.
        bytes: u64,
        /// When it was changed, in nanoseconds since 1970; as fine as the host tells.
        changed: i64,
    },
    /// A folder.
    Folder,
    /// A link, a device, a pipe.
    Other,
}

/// Where the bytes of a write come from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Content {
    /// These.
    Bytes(Vec<u8>),
    /// A local file, whose digest is checked while it is copied.
    File(PathBuf, Digest),
    /// A member of a local archive, whose digest is checked while it is unpacked.
    Member(PathBuf, String, Digest),
    /// Another file of the tree, whose digest is checked while it is copied.
    Tree(ServerPath, Digest),
}

/// One effect on a tree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Effect {
    /// Makes a folder, if it is not there; the ones above it must be.
    Folder(ServerPath),
    /// Writes a file that is not there yet (or overwrites one of the same name in our own state folder).
    Write(ServerPath, Content),
    /// Renames a file over whatever stands there.
    Rename(ServerPath, ServerPath),
    /// Takes a folder away, if it is empty.
    RemoveFolder(ServerPath),
    /// Takes away a file of our own staging.
    Discard(ServerPath),
}

/// Why a tree failed.
#[derive(Debug, Error)]
pub enum TreeError {
    /// The system said no.
    #[error("`{path}` {doing}: {source}")]
    Io {
        /// The file on the server.
        path: String,
        /// What was tried, after the path: `cannot be written`.
        doing: &'static str,
        /// The system's word.
        #[source]
        source: std::io::Error,
    },
    /// An effect of a batch failed; those before it were done.
    #[error("{source}")]
    Effect {
        /// How many effects were done.
        done: usize,
        /// What failed.
        #[source]
        source: Box<TreeError>,
    },
    /// The bytes written are not those that were meant.
    #[error("`{path}` came out with other bytes than were fetched; run the same command again")]
    Damaged {
        /// The file.
        path: String,
    },
    /// A part of the path is a link: it could lead anywhere.
    #[error("`{path}` leads through a link, which is not followed; put a real folder there")]
    Link {
        /// The path.
        path: String,
    },
    /// The family names a root that this server does not have.
    #[error("no root `{0}` is known on this server")]
    Root(String),
    /// A file is larger than what may be read at once.
    #[error("`{path}` has {bytes} bytes, more than the {most} that are read of such a file")]
    TooLarge {
        /// The file.
        path: String,
        /// Its size.
        bytes: u64,
        /// The bound.
        most: u64,
    },
    /// Another run holds the server.
    #[error("another run holds this server: {holder}")]
    Held {
        /// Who, since when.
        holder: String,
    },
    /// An archive in the store could not be unpacked any more.
    #[error("{0}")]
    Archive(#[from] crate::archive::ArchiveError),
}

impl TreeError {
    /// Whether it was refused for safety, not because something outside failed.
    pub fn is_refusal(&self) -> bool {
        match self {
            TreeError::Link { .. } | TreeError::Damaged { .. } | TreeError::TooLarge { .. } => true,
            TreeError::Effect { source, .. } => source.is_refusal(),
            _ => false,
        }
    }

    pub(crate) fn io(path: impl ToString, doing: &'static str) -> impl FnOnce(std::io::Error) -> Self {
        let path = path.to_string();
        move |source| TreeError::Io { path, doing, source }
    }
}

/// Something readable at any place.
pub trait ReadSeek: Read + Seek + Send {}
impl<T: Read + Seek + Send> ReadSeek for T {}

/// Held while a server is changed; let go when dropped.
pub trait Hold: Send {}

/// A server's files, in bulk.
pub trait Tree: Send + Sync {
    /// Returns where the tree is, for people.
    fn place(&self) -> String;

    /// Returns every file below the root `server`, by path, without our own state folder. Folders are walked,
    /// links are told as [`Stat::Other`] and not followed.
    ///
    /// # Errors
    /// A folder that cannot be read.
    fn walk(&self) -> Result<Vec<(ServerPath, Stat)>, TreeError>;

    /// Returns the names in a folder, in no order; none when it is not there.
    ///
    /// # Errors
    /// It cannot be listed.
    fn names(&self, folder: &ServerPath) -> Result<Vec<String>, TreeError>;

    /// Returns what stands at each path, in the order asked.
    ///
    /// # Errors
    /// The host fails.
    fn stat(&self, paths: &[ServerPath]) -> Result<Vec<Stat>, TreeError>;

    /// Returns the bytes of each file, `None` where nothing stands, in the order asked.
    ///
    /// # Errors
    /// One is no file, cannot be read, or is larger than `most` bytes.
    fn read(&self, paths: &[ServerPath], most: u64) -> Result<Vec<Option<Vec<u8>>>, TreeError>;

    /// Opens one file for reading at any place; `None` where nothing stands.
    ///
    /// # Errors
    /// It is no file or cannot be read.
    fn open(&self, path: &ServerPath) -> Result<Option<Box<dyn ReadSeek>>, TreeError>;

    /// Whether a file may be written: one that somebody made read-only is left alone.
    ///
    /// # Errors
    /// The host fails.
    fn writable(&self, _path: &ServerPath) -> Result<bool, TreeError> {
        Ok(true)
    }

    /// Returns the digest of each file, `None` where no file stands, in the order asked.
    ///
    /// # Errors
    /// One cannot be read.
    fn digest(&self, paths: &[ServerPath]) -> Result<Vec<Option<Digest>>, TreeError>;

    /// Does the effects in order. Writes into one batch may be done side by side, before the effects that follow
    /// the last of them.
    ///
    /// # Errors
    /// [`TreeError::Effect`] with the number of effects done.
    fn apply(&self, effects: &[Effect]) -> Result<(), TreeError>;

    /// Waits until what was applied would survive a loss of power.
    ///
    /// # Errors
    /// The host fails.
    fn barrier(&self, written: &[ServerPath]) -> Result<(), TreeError>;

    /// Holds the server for one run; `note` says who.
    ///
    /// # Errors
    /// [`TreeError::Held`] when another run has it.
    fn hold(&self, note: &str) -> Result<Box<dyn Hold>, TreeError>;
}

/// The folder where the truth about a server lives, below its root.
pub const STATE: &str = ".yalotheca";

/// Returns a path in the state folder.
///
/// # Errors
/// `below` is no path.
pub fn state_path(below: &str) -> Result<ServerPath, yalotheca_core::id::IdError> {
    ServerPath::server(&format!("{STATE}/{below}"))
}
