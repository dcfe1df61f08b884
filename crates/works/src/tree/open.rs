//! Opens the tree that a roster speaks of.

use std::path::Path;
use std::sync::Arc;

use yalotheca_core::roster::Login;

use super::Tree;
use super::local::LocalTree;
use super::remote::{Address, Opening, RemoteTree};
use crate::Error;
use crate::server::Surroundings;

/// Opens a server: a folder, relative to the roster's, or an address of a rented host. A host is connected when
/// something is first asked of it.
///
/// # Errors
/// There is no such folder, or the address cannot be read.
pub fn open(at: &str, beside: &Path, login: &Login, around: &Surroundings) -> Result<Arc<dyn Tree>, Error> {
    let tree: Arc<dyn Tree> = match Address::parse(at)? {
        None => {
            let folder = beside.join(at);
            if !folder.is_dir() {
                let here = beside == Path::new(".");
                return Err(Error::NoServer(if here { at.to_owned() } else { folder.display().to_string() }));
            }
            Arc::new(LocalTree::new(folder))
        }
        Some(address) => {
            let (access, home) = (around.access.clone(), around.home.clone());
            let (offline, stop, login) = (around.offline, around.stop.clone(), login.clone());
            let opening = Opening { address, login, beside, access, home, offline, stop };
            Arc::new(RemoteTree::new(opening).map_err(super::TreeError::from)?)
        }
    };
    Ok(tree)
}
