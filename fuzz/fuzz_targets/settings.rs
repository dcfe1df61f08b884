//! One target per settings format: the program's name is the format's word.
#![no_main]

use std::sync::OnceLock;

use libfuzzer_sys::fuzz_target;
use yalotheca_core::settings::{Format, Path, Value, guess, merge, paste, slip};

#[path = "../../crates/core/tests/exercise/mod.rs"]
mod exercise;

fn format() -> Format {
    static FORMAT: OnceLock<Format> = OnceLock::new();
    *FORMAT.get_or_init(|| {
        let program = std::env::args().next().unwrap_or_default();
        let word = program.rsplit('/').next().unwrap_or_default().to_owned();
        Format::of_word(&word).expect("the program is named like a format")
    })
}

fuzz_target!(|bytes: &[u8]| {
    let format = format();
    if exercise::exercise(format, bytes).is_none() && bytes.len() < 400 {
        if let Some(slip) = slip(format, bytes) {
            assert!(Value::read(format, &slip.bytes).is_ok() || format == Format::Yaml);
        }
    }
    let _ = guess("strange", bytes);
    // the file in three parts: an old default, the administrator's, a new default
    let third = bytes.len() / 3;
    let (old, rest) = bytes.split_at(third);
    let (mine, new) = rest.split_at(rest.len() / 2);
    if let Ok(merged) = merge(format, old, mine, new) {
        let _ = yalotheca_core::settings::Document::parse(format, &merged.bytes).expect("a merged file reads");
    }
    if let (Ok(mut document), Ok(snippet)) =
        (yalotheca_core::settings::Document::parse(format, mine), Value::read(format, new))
    {
        if let Ok(edits) = paste(&mut document, &snippet) {
            let _ = document.edit(&edits);
        }
    }
    if let Ok(text) = std::str::from_utf8(bytes) {
        if let Ok(path) = Path::parse(text) {
            assert_eq!(Path::parse(&path.to_string()).expect("a path is written as it is read"), path);
        }
    }
});
