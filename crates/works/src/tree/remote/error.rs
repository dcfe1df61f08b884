//! Why a rented host could not be worked with.

use thiserror::Error;

/// Why a rented host could not be worked with.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum HostError {
    /// Nobody answers.
    #[error("{host} does not answer: {why}; look at the address and the port, and whether the host is up")]
    Silent {
        /// The host and port.
        host: String,
        /// What happened.
        why: String,
    },
    /// It answered, and then the connection was lost, again and again.
    #[error("the connection to {host} was lost, {tries} times in a row: {why}")]
    Lost {
        /// The host and port.
        host: String,
        /// How often it was tried.
        tries: u32,
        /// What happened last.
        why: String,
    },
    /// Nobody gave a password.
    #[error("{whom} needs a password, and nobody is there to be asked")]
    NoPassword {
        /// User and host.
        whom: String,
    },
    /// The host lets nobody in with that.
    #[error("{whom} was not let in: {why}")]
    Login {
        /// User and host.
        whom: String,
        /// What was tried.
        why: String,
    },
    /// A password file that others can read, or that cannot be read.
    #[error("the password file `{file}` {why}")]
    PasswordFile {
        /// The file.
        file: String,
        /// What is wrong.
        why: String,
    },
    /// A key file that cannot be used.
    #[error("the key file `{file}` cannot be used: {why}")]
    KeyFile {
        /// The file.
        file: String,
        /// What is wrong.
        why: String,
    },
    /// The host was never seen before.
    #[error("{host} was never seen before; its {what} has the fingerprint {fingerprint}")]
    Unknown {
        /// The host and port.
        host: String,
        /// What the fingerprint is of: `key`, `certificate`.
        what: &'static str,
        /// The fingerprint.
        fingerprint: String,
    },
    /// The host has another key than before.
    #[error("{host} shows another {what} than before: {fingerprint}; somebody may be in between")]
    Changed {
        /// The host and port.
        host: String,
        /// What the fingerprint is of.
        what: &'static str,
        /// The fingerprint it shows now.
        fingerprint: String,
        /// Where the known one stands.
        file: String,
    },
    /// The server's folder is not there.
    #[error("there is no folder `{folder}` on {host}")]
    NoFolder {
        /// The folder.
        folder: String,
        /// The host and port.
        host: String,
    },
    /// The host takes no names with a dot, and no plain folder may be used.
    #[error(
        "{host} takes no names that begin with a dot, and the family allows no plain folder for our own files; \
         add state-folder = {{ name = \"…\" }} to the family file"
    )]
    NoDotNames {
        /// The host and port.
        host: String,
    },
    /// The host says no to something.
    #[error("`{path}` {doing}: the host says: {why}")]
    Refused {
        /// The path on the host.
        path: String,
        /// What was tried, after the path.
        doing: &'static str,
        /// Its words, made fit to print.
        why: String,
    },
    /// The host does not follow the protocol, or answers without end.
    #[error("{host} answers in a way that cannot be: {why}")]
    Strange {
        /// The host and port.
        host: String,
        /// What it did.
        why: String,
    },
    /// The network was forbidden.
    #[error("{host} was not asked, because of --offline")]
    Offline {
        /// The host and port.
        host: String,
    },
    /// Somebody pressed Ctrl-C.
    #[error("stopped")]
    Stopped,
}

impl HostError {
    /// Whether it was refused for safety.
    pub(crate) fn is_refusal(&self) -> bool {
        matches!(self, HostError::Changed { .. } | HostError::PasswordFile { .. } | HostError::Strange { .. })
    }

    /// Whether a person's answer is needed.
    pub(crate) fn needs_answer(&self) -> bool {
        matches!(self, HostError::Unknown { .. } | HostError::NoPassword { .. })
    }
}
