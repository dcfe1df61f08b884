//! The stand-ins judge the tool: they share no code with it, and no game's name stands in code.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;
use std::path::{Path, PathBuf};

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

#[test]
fn the_stand_ins_import_neither_core_nor_works() {
    let manifest = fs::read_to_string(root().join("crates/standin/Cargo.toml")).unwrap();
    let dependencies = manifest.split("[dependencies]").nth(1).unwrap();
    assert!(!dependencies.contains("yalotheca"), "{dependencies}");
}

#[test]
fn no_game_stands_in_the_code_of_the_tool() {
    let families: Vec<String> = fs::read_dir(root().join("families"))
        .unwrap()
        .filter_map(|e| e.unwrap().file_name().into_string().unwrap().strip_suffix(".family.toml").map(str::to_owned))
        .collect();
    assert!(!families.is_empty());
    let mut stack =
        vec![root().join("crates/core/src"), root().join("crates/works/src"), root().join("crates/cli/src")];
    while let Some(folder) = stack.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() && path.ends_with("commands/demo") {
                continue;
            }
            if path.is_dir() {
                stack.push(path);
                continue;
            }
            // tests speak of the made-up games, and the demo is about them
            let name = path.file_name().unwrap().to_string_lossy().into_owned();
            if name == "tests.rs" || name == "demo.rs" {
                continue;
            }
            let text = fs::read_to_string(&path).unwrap().to_lowercase();
            let code = text.split("#[cfg(test)]").next().unwrap();
            for family in &families {
                assert!(!code.contains(family.as_str()), "{}: `{family}`", path.display());
            }
        }
    }
}
