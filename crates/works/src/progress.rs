//! What long work tells while it runs. The library defines it, the CLI draws it.

/// Hears of long work. Every method may be called from any thread.
pub trait Progress: Send + Sync {
    /// A download of `total` bytes (0 when unknown) begins.
    fn begin(&self, what: &str, total: u64);
    /// Its size became known.
    fn known(&self, what: &str, total: u64);
    /// `bytes` more of it came.
    fn more(&self, what: &str, bytes: u64);
    /// It ended, well or badly.
    fn end(&self, what: &str);
}

/// Hears nothing.
#[derive(Debug, Clone, Copy)]
pub struct Silent;

impl Progress for Silent {
    fn begin(&self, _: &str, _: u64) {}
    fn known(&self, _: &str, _: u64) {}
    fn more(&self, _: &str, _: u64) {}
    fn end(&self, _: &str) {}
}
