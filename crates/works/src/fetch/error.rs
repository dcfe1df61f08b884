//! Why something could not be fetched.

use thiserror::Error;

/// Why something could not be fetched.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum FetchError {
    /// The address is none.
    #[error("`{0}` is no http or https address")]
    Address(String),
    /// The host does not answer.
    #[error("{address} does not answer: {why}")]
    Silent {
        /// The address.
        address: String,
        /// What happened.
        why: String,
    },
    /// The host says no.
    #[error("{address} answers {status}")]
    Status {
        /// The address.
        address: String,
        /// The status: number and words.
        status: String,
    },
    /// It ended before its time, again and again.
    #[error("{address} was cut short: {got} of {wanted} came; try again later")]
    Cut {
        /// The address.
        address: String,
        /// What came.
        got: String,
        /// What was announced.
        wanted: String,
    },
    /// It is larger than it may be.
    #[error("{address} sends more than {most}; refused")]
    TooLarge {
        /// The address.
        address: String,
        /// The bound, in words.
        most: String,
    },
    /// A catalogue's file is larger than any may be.
    #[error("{address} sends more than {most}, which no file of a catalogue has; refused")]
    Swollen {
        /// The address.
        address: String,
        /// The bound, in words.
        most: String,
    },
    /// It is not what was promised.
    #[error("{address} is not the file that was promised: {why}; refused")]
    Other {
        /// The address.
        address: String,
        /// Size or digest: got and wanted.
        why: String,
    },
    /// A page came where a file was meant.
    #[error("{address} is a web page, not a file; look on that page for the direct link")]
    Page {
        /// The address.
        address: String,
    },
    /// The network was forbidden.
    #[error("{address} was not asked, because of --offline, and is not in the store")]
    Offline {
        /// The address.
        address: String,
    },
    /// The network part could not be made ready.
    #[error("the network could not be made ready: {0}")]
    Setup(String),
    /// Somebody pressed Ctrl-C.
    #[error("stopped: nothing was changed")]
    Stopped,
}

impl FetchError {
    /// Whether what came was refused for safety, not because the outside failed.
    pub fn is_refusal(&self) -> bool {
        matches!(
            self,
            FetchError::TooLarge { .. }
                | FetchError::Swollen { .. }
                | FetchError::Other { .. }
                | FetchError::Page { .. }
        )
    }

    /// Whether another try at the same address may go better.
    pub(super) fn may_pass(&self) -> bool {
        matches!(self, FetchError::Cut { .. } | FetchError::Silent { .. })
    }
}
