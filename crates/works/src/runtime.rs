//! The one runtime on which everything waits that comes over a network.

use std::sync::OnceLock;

use tokio::runtime::Runtime;

/// Returns the runtime, made when it is first needed.
///
/// # Errors
/// The system gives no threads, in its own words.
pub(crate) fn shared() -> Result<&'static Runtime, String> {
    static SHARED: OnceLock<Result<Runtime, String>> = OnceLock::new();
    let made = SHARED.get_or_init(|| {
        let built = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build();
        built.map_err(|e| e.to_string())
    });
    made.as_ref().map_err(Clone::clone)
}
