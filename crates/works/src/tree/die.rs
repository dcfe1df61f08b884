//! Where a run can be made to stop dead, for tests: each effect on a server or a roster has a number.
//!
//! A build with debug assertions counts them; a release does nothing here.

#[cfg(debug_assertions)]
use std::sync::atomic::{AtomicI64, Ordering};

#[cfg(debug_assertions)]
static LEFT: AtomicI64 = AtomicI64::new(i64::MAX);

/// Makes the run stop dead, without unwinding, before its effect with this number (from 0).
pub fn at(effect: i64) {
    #[cfg(debug_assertions)]
    LEFT.store(effect, Ordering::SeqCst);
    #[cfg(not(debug_assertions))]
    let _ = effect;
}

/// An effect is about to be done.
pub(crate) fn point() {
    #[cfg(debug_assertions)]
    if LEFT.fetch_sub(1, Ordering::SeqCst) == 0 {
        std::process::abort();
    }
}
