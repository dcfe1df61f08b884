//! Made-up game servers and hosts that judge Yalotheca.
//!
//! They read the server folder with code of their own and know neither `yalotheca-core` nor `yalotheca-works`.
//! What they refuse, and how they say it, stands in `REFUSALS.md`.

pub mod catalogue;
pub mod club;
pub mod games;
pub mod host;
pub mod quarrywake;
pub mod rented;
