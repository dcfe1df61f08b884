//! Three-way merge of a settings file: the default it came with, the administrator's file, the new default.

use super::{Document, Edit, Format, Path, Seat, SettingsError, Value};

/// A value that both the administrator and the new default changed; the administrator's is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Collision {
    /// Where.
    pub path: Path,
    /// The administrator's value; `None` where it was taken out.
    pub mine: Option<Value>,
    /// The new default's; `None` where it is gone there.
    pub new: Option<Value>,
}

/// What comes of a merge.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Merged {
    /// The file's bytes: the administrator's, with what is new in the default.
    pub bytes: Vec<u8>,
    /// What both changed.
    pub collisions: Vec<Collision>,
    /// The paths taken over from the new default.
    pub taken: Vec<Path>,
}

/// Merges. A file that the administrator never changed becomes the new default, byte for byte.
///
/// # Errors
/// One of the three cannot be read without doubt.
pub fn merge(format: Format, old: &[u8], mine: &[u8], new: &[u8]) -> Result<Merged, SettingsError> {
    let after = Document::parse(format, new)?.value();
    if mine == old || mine == new {
        return Ok(Merged { bytes: new.to_vec(), collisions: Vec::new(), taken: Vec::new() });
    }
    let before = Document::parse(format, old)?.value();
    let mut document = Document::parse(format, mine)?;
    let now = document.value();
    let mut merger = Merger { edits: Vec::new(), collisions: Vec::new() };
    merger.go(&Path(Vec::new()), Some(&before), Some(&now), Some(&after));
    let mut taken = Vec::new();
    for (edit, collision) in merger.edits {
        match document.edit(std::slice::from_ref(&edit)) {
            Ok(0) => {}
            Ok(_) => taken.push(edit.path().clone()),
            // what cannot be written stays as the administrator has it, and is told
            Err(_) => merger.collisions.push(collision),
        }
    }
    Ok(Merged { bytes: document.render(), collisions: merger.collisions, taken })
}

struct Merger {
    edits: Vec<(Edit, Collision)>,
    collisions: Vec<Collision>,
}

impl Merger {
    fn go(&mut self, path: &Path, old: Option<&Value>, mine: Option<&Value>, new: Option<&Value>) {
        let equal = |a: Option<&Value>, b: Option<&Value>| match (a, b) {
            (Some(a), Some(b)) => a.same(b),
            (None, None) => true,
            _ => false,
        };
        if equal(old, new) || equal(mine, new) {
            return;
        }
        let collision = || Collision { path: path.clone(), mine: mine.cloned(), new: new.cloned() };
        let empty = Value::Map(Vec::new());
        match (old.unwrap_or(&empty), mine, new) {
            (Value::Map(old), Some(Value::Map(mine)), Some(Value::Map(new))) => {
                let find =
                    |map: &'_ [(String, Value)], key: &str| map.iter().find(|(k, _)| k == key).map(|(_, v)| v.clone());
                let gone = old.iter().filter(|(k, _)| find(new, k).is_none());
                for (key, _) in new.iter().chain(gone) {
                    let (o, m, n) = (find(old, key), find(mine, key), find(new, key));
                    self.go(&path.key(key), o.as_ref(), m.as_ref(), n.as_ref());
                }
            }
            (Value::List(old), Some(Value::List(mine)), Some(Value::List(new)))
                if single(old) && single(mine) && single(new) =>
            {
                let lacks = |list: &[Value], v: &Value| !list.iter().any(|l| l.same(v));
                let come: Vec<Value> = new.iter().filter(|v| lacks(old, v) && lacks(mine, v)).cloned().collect();
                let go: Vec<Value> = old.iter().filter(|v| lacks(new, v) && !lacks(mine, v)).cloned().collect();
                if !go.is_empty() {
                    self.edits.push((Edit::Drop { path: path.clone(), values: go }, collision()));
                }
                if !come.is_empty() {
                    self.edits.push((Edit::Add { path: path.clone(), values: come, seat: Seat::Last }, collision()));
                }
            }
            _ if equal(old, mine) => match new {
                Some(new) => {
                    let edit = Edit::Set { path: path.clone(), value: new.clone(), force: new.sort() };
                    self.edits.push((edit, collision()));
                }
                None => self.edits.push((Edit::Remove { path: path.clone() }, collision())),
            },
            _ => self.collisions.push(collision()),
        }
    }
}

fn single(list: &[Value]) -> bool {
    list.iter().all(|v| v.sort().is_some())
}
