//! The effects of Yalotheca: store, fetching, archives, server trees, apply, history and processes.
//!
//! What is decided is decided in `yalotheca-core`; here it is read, fetched, written and run. Nothing prints.

pub mod adopt;
pub mod apply;
pub mod archive;
pub mod catalogue;
pub mod check;
pub mod error;
pub mod families;
pub mod fetch;
pub mod history;
pub mod home;
pub mod learn;
mod links;
pub mod maps;
pub mod order;
pub mod progress;
pub mod prune;
pub mod recover;
pub mod renew;
pub mod report;
pub mod running;
mod runtime;
mod scene;
pub mod server;
pub mod settle;
pub mod state;
mod strangers;
pub mod tree;
pub mod trial;
pub mod tune;
pub mod undo;
pub mod want;
pub mod why;

pub use error::Error;
