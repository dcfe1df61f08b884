//! How results look: tables, changes, findings, errors.

pub(crate) mod changes;
pub(crate) mod error;
pub(crate) mod findings;
pub(crate) mod order;
pub(crate) mod settings;
pub(crate) mod table;

/// Returns an error about how a command was typed.
pub(crate) fn wrong(why: impl Into<String>) -> yalotheca_works::Error {
    yalotheca_works::Error::Usage(why.into())
}
