//! Draws downloads on a terminal: shown after a quarter of a second, silent in a pipe.

use std::collections::BTreeSet;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use yalotheca_works::progress::Progress;

/// One bar for all downloads of a run.
pub(crate) struct Bar {
    inner: Mutex<Inner>,
}

struct Inner {
    bar: ProgressBar,
    began: Option<Instant>,
    shown: bool,
    running: BTreeSet<String>,
}

impl Bar {
    pub(crate) fn new() -> Self {
        let bar = ProgressBar::with_draw_target(Some(0), ProgressDrawTarget::hidden());
        if let Ok(style) = ProgressStyle::with_template(
            "  {decimal_bytes:>10} of {decimal_total_bytes:<10} {bar:24} {decimal_bytes_per_sec:>12}  {wide_msg}",
        ) {
            bar.set_style(style.progress_chars("█▌ "));
        }
        Self { inner: Mutex::new(Inner { bar, began: None, shown: false, running: BTreeSet::new() }) }
    }

    fn with(&self, change: impl FnOnce(&mut Inner)) {
        let mut inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        let began = *inner.began.get_or_insert_with(Instant::now);
        if !inner.shown && began.elapsed() > Duration::from_millis(250) {
            inner.shown = true;
            inner.bar.set_draw_target(ProgressDrawTarget::stderr_with_hz(20));
        }
        change(&mut inner);
        let names: Vec<String> = inner.running.iter().cloned().collect();
        inner.bar.set_message(names.join(", "));
        if inner.running.is_empty() {
            inner.bar.finish_and_clear();
        }
    }
}

impl Progress for Bar {
    fn begin(&self, what: &str, total: u64) {
        self.with(|inner| {
            inner.bar.inc_length(total);
            inner.running.insert(what.to_owned());
        });
    }

    fn known(&self, _: &str, total: u64) {
        self.with(|inner| inner.bar.inc_length(total));
    }

    fn more(&self, _: &str, bytes: u64) {
        self.with(|inner| {
            let position = inner.bar.position() + bytes;
            if inner.bar.length().is_some_and(|l| l < position) {
                inner.bar.set_length(position);
            }
            inner.bar.inc(bytes);
        });
    }

    fn end(&self, what: &str) {
        self.with(|inner| {
            inner.running.remove(what);
        });
    }
}
