//! Counts the bytes that are in use, and the most that ever were.

use std::alloc::{GlobalAlloc, Layout, System};
use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};

struct Counted;

static NOW: AtomicUsize = AtomicUsize::new(0);
static MOST: AtomicUsize = AtomicUsize::new(0);

#[global_allocator]
static ALLOCATOR: Counted = Counted;

// SAFETY: every call goes to the system's own allocator; only numbers are kept beside it.
unsafe impl GlobalAlloc for Counted {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        let now = NOW.fetch_add(layout.size(), Relaxed) + layout.size();
        MOST.fetch_max(now, Relaxed);
        // SAFETY: as asked.
        unsafe { System.alloc(layout) }
    }
    unsafe fn dealloc(&self, at: *mut u8, layout: Layout) {
        NOW.fetch_sub(layout.size(), Relaxed);
        // SAFETY: as asked.
        unsafe { System.dealloc(at, layout) }
    }
}

/// Begins to look for the most; returns what is in use.
pub fn begin() -> usize {
    let now = NOW.load(Relaxed);
    MOST.store(now, Relaxed);
    now
}

/// Returns the most bytes in use since then.
pub fn most() -> usize {
    MOST.load(Relaxed)
}
