//! Merging a snippet into a settings file: tables are merged, lists get what they lack.

use super::{Document, Edit, EditError, Path, Seat, Value};

/// Returns the edits that bring a snippet's values into a file; none for what stands there already.
///
/// # Errors
/// A place that means several things.
pub fn paste(document: &mut Document, snippet: &Value) -> Result<Vec<Edit>, EditError> {
    let mut out = Vec::new();
    go(document, &Path(Vec::new()), snippet, &mut out)?;
    Ok(out)
}

fn go(document: &mut Document, path: &Path, snippet: &Value, out: &mut Vec<Edit>) -> Result<(), EditError> {
    let there = document.get(path)?.map(|s| s.value);
    match (there, snippet) {
        (Some(Value::Map(_) | Value::Null), Value::Map(pairs)) => {
            for (key, value) in pairs {
                go(document, &path.key(key), value, out)?;
            }
        }
        (Some(Value::List(there)), Value::List(items)) => {
            let values: Vec<Value> = items.iter().filter(|v| !there.iter().any(|t| t.same(v))).cloned().collect();
            if !values.is_empty() {
                out.push(Edit::Add { path: path.clone(), values, seat: Seat::Last });
            }
        }
        (Some(there), value) if there.same(value) => {}
        (_, value) => out.push(Edit::Set { path: path.clone(), value: value.clone(), force: None }),
    }
    Ok(())
}
