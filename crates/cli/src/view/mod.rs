//! How results look: tables, changes, findings, errors.

pub(crate) mod changes;
pub(crate) mod error;
pub(crate) mod findings;
pub(crate) mod table;
