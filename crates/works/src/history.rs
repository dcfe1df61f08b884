//! What was done to a server, oldest first.

use yalotheca_core::ledger::Entry;

use crate::Error;
use crate::server::Server;
use crate::state;

/// Returns the history, oldest first.
///
/// # Errors
/// The server's state cannot be read.
pub fn history(server: &Server) -> Result<Vec<Entry>, Error> {
    state::history(server.tree.as_ref())
}
