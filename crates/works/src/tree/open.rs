//! Opens the tree that a roster speaks of.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use yalotheca_core::roster::Login;
use yalotheca_core::text::clean;

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
pub fn open(
    at: &str,
    roots: &BTreeMap<String, String>,
    beside: &Path,
    login: &Login,
    around: &Surroundings,
) -> Result<Arc<dyn Tree>, Error> {
    let tree: Arc<dyn Tree> = match Address::parse(at)? {
        None => {
            let folder = beside.join(at);
            if !folder.is_dir() {
                let here = beside == Path::new(".");
                return Err(Error::NoServer(if here { at.to_owned() } else { folder.display().to_string() }));
            }
            let mut tree = LocalTree::new(folder);
            for (name, folder) in roots {
                let real = beside.join(folder);
                if !real.is_dir() {
                    let (name, folder) = (clean(name, 40), clean(folder, 200));
                    return Err(Error::Beside(format!("`{name}` is to be `{folder}`, and there is no such folder")));
                }
                tree = tree.with_root(name, real);
            }
            Arc::new(tree)
        }
        Some(address) => {
            let (access, home) = (around.access.clone(), around.home.clone());
            let (offline, stop, login) = (around.offline, around.stop.clone(), login.clone());
            let opening = Opening { address, roots, login, beside, access, home, offline, stop };
            Arc::new(RemoteTree::new(opening).map_err(super::TreeError::from)?)
        }
    };
    Ok(tree)
}
