//! Why an item stands where it stands in the load order, in words.

use yalotheca_core::order::Why;

/// Returns the reason, as the end of a sentence.
pub(crate) fn said(why: &Why) -> String {
    match why {
        Why::First => "the roster has it first".to_owned(),
        Why::Last => "the roster has it last".to_owned(),
        Why::Pinned(id) => format!("the roster has it after {id}"),
        Why::Ahead(id) => format!("the roster has it before {id}"),
        Why::Needs(id) => format!("it needs {id}"),
        Why::Asked(id) => format!("it comes after {id}, as one of them asks"),
        Why::Kind => "its kind comes after the one before".to_owned(),
        Why::Stays => "it was there before".to_owned(),
        Why::New => "it is new, and nothing asks for more".to_owned(),
    }
}
