//! The one way a server's files are read and changed: in bulk, wherever they are.
//!
//! A [`Tree`] is a local folder ([`local`]), a rented host reached over SFTP or FTP ([`remote`]), or a made-up one in
//! memory ([`memory`]). No other module touches a server's files, and none knows which tree it is.

mod access;
pub mod die;
mod hold;
mod laid;
pub mod local;
pub mod memory;
mod open;
pub mod remote;

pub use access::{Access, Ask, Nobody};
pub use hold::{Hold, Holder, hold};
pub use laid::Laid;
pub use open::open;
pub use yalotheca_core::roster::Login;

use std::io::{Read, Seek};
use std::path::{Path, PathBuf};

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
    /// A local file, whose digest is checked. The last says whether it may get a second name instead of being copied,
    /// since nobody writes into it.
    File(PathBuf, Digest, bool),
    /// A member of a local archive, whose digest is checked while it is unpacked.
    Member(PathBuf, String, Digest),
    /// Another file of the tree, whose digest is checked; the last as for a local file.
    Tree(ServerPath, Digest, bool),
}

/// One effect on a tree. Each can be asked for twice: what is done already is no error.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Effect {
    /// Makes a folder, if it is not there; the ones above it must be.
    Folder(ServerPath),
    /// Writes a file of our own state folder, whole; its size is checked afterwards.
    Write(ServerPath, Content),
    /// Renames a file or folder to a name that is free.
    Rename(ServerPath, ServerPath),
    /// Puts a new file in the place of one that stands there, which gets another name. Where the host can, there
    /// is a whole file at the place at every moment.
    Swap {
        /// The new file.
        new: ServerPath,
        /// The place.
        at: ServerPath,
        /// Where the file that stands at the place goes.
        old: ServerPath,
    },
    /// Takes a folder away, if it is empty.
    RemoveFolder(ServerPath),
    /// Takes away a file of our own state folder.
    Discard(ServerPath),
}

/// Whether a file may be replaced now.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Standing {
    /// Nothing speaks against it, or nothing stands there.
    Free,
    /// Somebody made it read-only.
    ReadOnly,
    /// A program holds it.
    InUse,
}

/// What a folder holds: names, and what stands there.
pub type Listing = Vec<(String, Stat)>;

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
    /// A file came out with another size than was sent.
    #[error("`{path}` came out on the host with {got} bytes instead of {wanted}; run the same command again")]
    Short {
        /// The file.
        path: String,
        /// Its size there.
        got: u64,
        /// The size that was sent.
        wanted: u64,
    },
    /// A name in the way of what was to be made.
    #[error("`{path}` stands there already; look at it, and move it away")]
    Taken {
        /// The path.
        path: String,
    },
    /// The host would run out of room.
    #[error("{needed} are to be written and {free} are free at `{place}`; make room, then run the same command again")]
    NoRoom {
        /// What is needed, in words.
        needed: String,
        /// What is free, in words.
        free: String,
        /// The server.
        place: String,
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
    /// A path in a folder beside the server's own, and the roster names no such folder.
    #[error("`{0}:` is no folder that the roster names")]
    Root(String),
    /// A file cannot be moved in one step, since its place is on another disk.
    #[error("`{path}` is on another disk than the server's folder, and nothing could be put there in one step")]
    OtherDisk {
        /// The place.
        path: String,
    },
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
        /// Who, since when, and when it would be given up.
        holder: String,
    },
    /// A rented host could not be worked with.
    #[error(transparent)]
    Host(#[from] remote::HostError),
    /// An archive in the store could not be unpacked any more.
    #[error("{0}")]
    Archive(#[from] crate::archive::ArchiveError),
}

impl TreeError {
    /// Whether it was refused for safety, not because something outside failed.
    pub fn is_refusal(&self) -> bool {
        match self {
            TreeError::Link { .. } | TreeError::Damaged { .. } | TreeError::TooLarge { .. } => true,
            TreeError::Taken { .. } => true,
            TreeError::Host(e) => e.is_refusal(),
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

/// A server's files, in bulk.
///
/// A host that can unpack archives by itself would take a [`Content::Member`] as what it is: an archive and a name.
pub trait Tree: Send + Sync {
    /// Returns where the tree is, for people.
    fn place(&self) -> String;

    /// Returns the server's folder on this machine, where it is here.
    fn folder(&self) -> Option<&Path> {
        None
    }

    /// Returns the host's name, where the server is on one.
    fn host(&self) -> Option<String> {
        None
    }

    /// Tells that files begin to move, or that they have ended to: in between, nothing is broken off.
    fn finishing(&self, _moves: bool) {}

    /// Names the plain folder that the family allows for our state ([`StateFolder`]).
    fn allow_state(&self, _folder: &StateFolder) {}

    /// Makes the state folder, if it is not there.
    ///
    /// # Errors
    /// The host fails.
    fn ready(&self) -> Result<(), TreeError>;

    /// Returns every file below the root `server`, by path, without our own state folder. Folders are walked,
    /// links are told as [`Stat::Other`] and not followed.
    ///
    /// # Errors
    /// A folder that cannot be read.
    fn walk(&self) -> Result<Vec<(ServerPath, Stat)>, TreeError>;

    /// Returns what each folder holds, in no order; nothing when it is not there.
    ///
    /// # Errors
    /// One cannot be listed.
    fn list(&self, folders: &[ServerPath]) -> Result<Vec<Listing>, TreeError>;

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

    /// Returns whether each file may be replaced, in the order asked; as far as the host tells.
    ///
    /// # Errors
    /// The host fails.
    fn standing(&self, paths: &[ServerPath]) -> Result<Vec<Standing>, TreeError> {
        Ok(vec![Standing::Free; paths.len()])
    }

    /// Returns the digest of each file, `None` where no file stands, in the order asked. All bytes are read.
    ///
    /// # Errors
    /// One cannot be read.
    fn digest(&self, paths: &[ServerPath]) -> Result<Vec<Option<Digest>>, TreeError>;

    /// Does the effects. Neighbours of one sort (and folders of one depth) are a run, which may be done side by
    /// side; a run begins when the one before it ended.
    ///
    /// # Errors
    /// Something failed; what was done is to be read from the tree.
    fn apply(&self, effects: &[Effect]) -> Result<(), TreeError>;

    /// Waits until these files, and their names, would survive a loss of power; as far as the host can.
    ///
    /// # Errors
    /// The host fails.
    fn barrier(&self, written: &[ServerPath]) -> Result<(), TreeError>;

    /// Returns how many bytes are free, where the host tells.
    ///
    /// # Errors
    /// The host fails.
    fn space(&self) -> Result<Option<u64>, TreeError> {
        Ok(None)
    }

    /// Returns what was remembered of this tree's files ([`Tree::remember`]); only a help.
    fn remembered(&self) -> Option<Vec<u8>>;

    /// Remembers something about this tree's files until the next run.
    fn remember(&self, bytes: &[u8]);

    /// Returns how far the host's clock is ahead of ours, in nanoseconds, as far as that is known.
    fn clock_ahead(&self) -> i64 {
        0
    }
}

/// Where the state folder may be, besides [`STATE`] (`state-folder` of the family file).
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct StateFolder {
    /// A plain folder for hosts that hide or refuse names with a dot.
    pub plain: Option<String>,
    /// Whether the plain one is taken everywhere, because the game would load what stands in the other.
    pub always: bool,
}

/// The folder where the truth about a server lives, below its root.
pub const STATE: &str = ".yalotheca";

/// The root name of paths in the state folder.
pub const STATE_ROOT: &str = "state";

/// Returns a path in the state folder.
///
/// # Errors
/// `below` is no path.
pub fn state_path(below: &str) -> Result<ServerPath, yalotheca_core::id::IdError> {
    ServerPath::new(STATE_ROOT, below)
}

/// Returns a path as people see it.
pub(crate) fn shown(path: &ServerPath) -> String {
    if path.root() == STATE_ROOT { format!("{STATE}/{}", path.path()) } else { path.to_string() }
}

/// Returns the effects as runs of neighbours that may be done side by side.
pub(crate) fn runs(effects: &[Effect]) -> impl Iterator<Item = &[Effect]> {
    let sort = |e: &Effect| match e {
        Effect::Folder(path) => (0, path.path().matches('/').count()),
        Effect::Write(..) => (1, 0),
        Effect::Rename(..) => (2, 0),
        Effect::Swap { .. } => (3, 0),
        Effect::RemoveFolder(path) => (4, path.path().matches('/').count()),
        Effect::Discard(_) => (5, 0),
    };
    effects.chunk_by(move |a, b| sort(a) == sort(b))
}
