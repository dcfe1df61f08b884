//! What must hold for any file in any format: shared by the property tests, the conformance tests and the fuzz targets.

use yalotheca_core::settings::{Document, Format, Path, Sort, Value};

/// So many values of one file are tried.
const MOST: usize = 12;

/// Edits a file here and there. Returns how many edits were made, or `None` where the file is refused.
pub(crate) fn exercise(format: Format, bytes: &[u8]) -> Option<usize> {
    let document = Document::parse(format, bytes).ok()?;
    assert_eq!(document.render(), bytes, "what is read is written back");
    let (rows, _) = document.rows(200);
    let mut made = 0;
    let step = (rows.len() / MOST).max(1);
    for row in rows.iter().step_by(step).take(MOST) {
        let path = Path::parse(&row.path.to_string()).unwrap();
        assert_eq!(path, row.path, "a path is written as it is read");
        let mut work = document.clone();
        let Ok(spots) = work.select(&path) else { continue };
        assert!(!spots.is_empty());
        if spots.len() > 1 {
            continue;
        }
        assert_eq!(spots[0].value, row.value, "{path}");
        made += usize::from(set(&document, &path, &row.value));
        made += usize::from(take(&document, &path));
    }
    made += usize::from(grow(&document));
    Some(made)
}

/// Sets another value of the same sort, and the old one again.
fn set(document: &Document, path: &Path, old: &Value) -> bool {
    let new = match old.sort() {
        Some(Sort::Number) => Value::Number("7042".to_owned()),
        Some(Sort::Flag) => Value::Bool(*old != Value::Bool(true)),
        Some(_) => Value::Text("salt tide".to_owned()),
        None => return false,
    };
    let mut work = document.clone();
    let range = work.range(path).unwrap();
    let before = work.text().to_owned();
    match work.set(path, new.clone(), None) {
        Ok(true) => {}
        Ok(false) | Err(_) => {
            assert_eq!(work.render(), document.render(), "an edit that is not made changes nothing");
            return false;
        }
    }
    let after = work.text();
    assert!(after.starts_with(&before[..range.start]), "only the value's bytes change");
    assert!(after.ends_with(&before[range.end..]), "only the value's bytes change");
    let mut again = Document::parse(document.format(), &work.render()).unwrap();
    let found = again.get(path);
    // a path may go by the very value that was changed
    if let Ok(Some(found)) = found {
        assert!(found.value.same(&new) || found.value.text() == new.text());
        assert!(!again.set(path, new, None).unwrap(), "a second time changes nothing");
        if *old != Value::Null && again.set(path, old.clone(), old.sort()).is_ok() {
            assert_eq!(again.value(), document.value(), "set back, it says what it said");
        }
    }
    true
}

fn take(document: &Document, path: &Path) -> bool {
    let mut work = document.clone();
    match work.remove(path) {
        Ok(true) => {
            Document::parse(document.format(), &work.render()).unwrap();
            true
        }
        Ok(false) | Err(_) => {
            assert_eq!(work.render(), document.render());
            false
        }
    }
}

/// Adds a key, or an element, and takes it away again.
fn grow(document: &Document) -> bool {
    let mut work = document.clone();
    let value = document.value();
    let path = match &value {
        Value::List(_) => Path::parse("").unwrap(),
        _ => Path::parse("zz_new").unwrap(),
    };
    let new = Value::Text("salt".to_owned());
    let before = work.render();
    let made = match &value {
        Value::List(_) => work.insert(&path, vec![new.clone()], yalotheca_core::settings::Seat::Last),
        _ => work.set(&path, new, None),
    };
    if !matches!(made, Ok(true)) {
        assert_eq!(work.render(), before);
        return false;
    }
    if value == Value::Null {
        // nothing gave way to something
        return true;
    }
    // what was there is there still, in its order
    let after = work.text();
    let mut rest = after.chars();
    assert!(document.text().chars().all(|c| rest.any(|r| r == c)), "adding only adds");
    let mut again = Document::parse(document.format(), &work.render()).unwrap();
    if let Value::Map(_) = value
        && again.remove(&path).is_ok()
        && document.format() != Format::Xml
    {
        assert_eq!(again.value(), document.value(), "taken out again, it says what it said");
    }
    true
}
