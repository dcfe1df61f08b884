//! The reasoning of Yalotheca, on values and bytes.
//!
//! Nothing here touches disk, network, clock, environment or terminal. Each stage of a settle is a
//! function from values to values: [`solve`], [`order`], [`place`], [`wire`], [`changes`].

pub mod bound;
pub mod catalogue;
pub mod changes;
pub mod check;
pub mod container;
pub mod derive;
pub mod facts;
pub mod family;
pub mod finding;
pub mod id;
pub mod ledger;
pub mod links;
pub mod manifest;
pub mod order;
pub mod place;
pub mod roster;
pub mod running;
pub mod scene;
pub mod seal;
pub mod settings;
pub mod slot;
pub mod solve;
pub mod take_back;
pub mod text;
pub mod verdict;
pub mod version;
pub mod wire;
