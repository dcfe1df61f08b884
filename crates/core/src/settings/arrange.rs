//! Making some elements of a list be exactly these, in this order, while all others keep their places.

use super::edit::Seat;
use super::path::Path;
use super::select::Found;
use super::verify::{Act, Op};
use super::{Document, Edit, EditError, Value};

impl Document {
    /// Makes the elements that are `ours` be exactly `wanted`, in that order; returns whether anything changed.
    /// Everything else keeps its place: elements of ours that stay keep theirs among themselves, new ones follow the
    /// last of ours, or stand at `seat` when there was none. A list that is missing is made.
    ///
    /// # Errors
    /// [`EditError`].
    pub fn arrange(&mut self, path: &Path, ours: &[Value], wanted: &[Value], seat: &Seat) -> Result<bool, EditError> {
        let Some(there) = self.elements(path)? else {
            if wanted.is_empty() {
                return Ok(false);
            }
            let values = wanted.to_vec();
            return Ok(self.edit(&[Edit::Add { path: path.clone(), values, seat: seat.clone() }])? > 0);
        };
        let mut mine: Vec<usize> = Vec::new();
        let mut unseen: Vec<&Value> = ours.iter().collect();
        for (at, value) in there.iter().enumerate() {
            if let Some(found) = unseen.iter().position(|o| alike(o, value)) {
                unseen.remove(found);
                mine.push(at);
            }
        }
        let stays = |at: &&usize| there.get(**at).is_some_and(|v| wanted.iter().any(|w| alike(w, v)));
        let gone: Vec<usize> = mine.iter().filter(|at| !stays(at)).copied().collect();
        let mut kept: Vec<usize> =
            mine.iter().filter(stays).map(|at| at - gone.iter().filter(|g| *g < at).count()).collect();
        kept.truncate(wanted.len());
        let mut left: Vec<Value> =
            there.iter().enumerate().filter(|(at, _)| !gone.contains(at)).map(|(_, v)| v.clone()).collect();
        let mut changed = false;
        if !gone.is_empty() {
            self.act(path, |trail| Op { trail, act: Act::Take(gone.clone()) })?;
            changed = true;
        }
        let missing = wanted.len() - kept.len();
        if missing > 0 {
            let position = |name: &str| left.iter().position(|v| v.text().as_deref() == Some(name));
            let at = match (kept.last(), seat) {
                (Some(last), _) => last + 1,
                (None, Seat::First) => 0,
                (None, Seat::Last) => left.len(),
                (None, Seat::Before(name)) => position(name).unwrap_or(left.len()),
                (None, Seat::After(name)) => position(name).map_or(left.len(), |p| p + 1),
            };
            let news: Vec<Value> = wanted.iter().skip(kept.len()).cloned().collect();
            if left.is_empty() && self.elements(path)?.is_none_or(|e| e.is_empty()) {
                self.edit(&[Edit::Add { path: path.clone(), values: news.clone(), seat: Seat::Last }])?;
            } else {
                let items = news.iter().map(|v| (None, v.clone())).collect::<Vec<_>>();
                self.act(path, |trail| Op { trail, act: Act::Add { at, items: items.clone() } })?;
            }
            changed = true;
            kept.extend(at..at + missing);
            left.splice(at..at, news);
        }
        for (at, value) in kept.iter().zip(wanted) {
            if left.get(*at).is_some_and(|v| alike(v, value)) {
                continue;
            }
            let place = *at;
            if matches!(value, Value::List(_)) {
                // a row is put in anew: its columns are no values of their own there
                self.act(path, |trail| Op { trail, act: Act::Take(vec![place]) })?;
                let items = vec![(None, value.clone())];
                self.act(path, |trail| Op { trail, act: Act::Add { at: place, items: items.clone() } })?;
                changed = true;
                continue;
            }
            self.act(path, |mut trail| {
                trail.push(place);
                Op { trail, act: Act::Replace(value.clone()) }
            })?;
            changed = true;
        }
        Ok(changed)
    }

    /// The elements of the list at a path: a single value of a key that may stand again is one; `None` where nothing
    /// stands.
    fn elements(&mut self, path: &Path) -> Result<Option<Vec<Value>>, EditError> {
        let Some(spot) = self.get(path)? else { return Ok(None) };
        Ok(Some(match spot.value {
            Value::List(items) => items,
            Value::Null => Vec::new(),
            Value::Map(pairs) if pairs.is_empty() => Vec::new(),
            Value::Map(_) => {
                let why = "keys stand there, no list".to_owned();
                return Err(EditError::Unclear { path: path.to_string(), why });
            }
            one => vec![one],
        }))
    }

    fn act(&mut self, path: &Path, op: impl Fn(Vec<usize>) -> Op) -> Result<(), EditError> {
        let hits = match self.found(path)? {
            Found::Hits(hits) => hits,
            Found::Short { .. } => return Ok(()),
        };
        let Some(hit) = hits.into_iter().next() else { return Ok(()) };
        self.open(&hit)?;
        let mut op = op(hit.trail.clone());
        // the only one of a key that may stand again is taken out with its key, or replaced itself
        if self.root.follow(&hit.trail).is_some_and(|n| n.as_many().is_none()) {
            op = match op.act {
                Act::Take(_) => match super::edit::removal(&hit.trail) {
                    Some(op) => op,
                    None => return Ok(()),
                },
                Act::Replace(value) => Op { trail: hit.trail, act: Act::Replace(value) },
                add @ Act::Add { .. } => Op { trail: hit.trail, act: add },
            };
        }
        self.perform(&[op], path, &mut None)
    }
}

/// The same element: as it stands, or as its text reads.
pub(crate) fn alike(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::List(a), Value::List(b)) => a.len() == b.len() && a.iter().zip(b).all(|(a, b)| alike(a, b)),
        (Value::Map(a), Value::Map(b)) => {
            a.len() == b.len() && a.iter().all(|(k, v)| b.iter().any(|(l, w)| k == l && alike(v, w)))
        }
        _ => a.same(b) || matches!((a.text(), b.text()), (Some(a), Some(b)) if a == b),
    }
}
