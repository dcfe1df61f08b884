//! Lists the family files that are built in, so that no game's name stands in code.
#![allow(clippy::disallowed_methods, clippy::print_stdout)] // a build script speaks to Cargo this way

use std::fmt::Write as _;
use std::path::Path;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let folder = Path::new(&std::env::var_os("CARGO_MANIFEST_DIR").unwrap_or_default()).join("../../families");
    println!("cargo:rerun-if-changed={}", folder.display());
    let mut files: Vec<_> = std::fs::read_dir(&folder)?.filter_map(|e| Some(e.ok()?.path())).collect();
    files.retain(|p| p.to_string_lossy().ends_with(".family.toml"));
    files.sort();
    let mut out = String::from("/// The built-in family files.\npub(crate) const BUILT_IN: &[&str] = &[\n");
    for file in files {
        writeln!(out, "    include_str!({:?}),", file.canonicalize()?)?;
    }
    out.push_str("];\n");
    std::fs::write(Path::new(&std::env::var_os("OUT_DIR").unwrap_or_default()).join("families.rs"), out)?;
    Ok(())
}
