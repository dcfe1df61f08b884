//! A slot that is a list: elements of ours among others.

use super::{Claim, ListIn, Owner, Slot, SlotFault, SlotKey, Told, first_missing};
use crate::finding::{Finding, Severity};
use crate::settings::{Delimited, Document, Seat, Value, alike};

pub(super) fn settle(
    key: &SlotKey,
    old: Option<&Slot>,
    claims: &[&Claim],
    doc: &mut Document,
    told: &mut Told,
) -> Result<Slot, SlotFault> {
    let path = key.place()?;
    let seen = elements(key, doc)?;
    let there = seen.clone().unwrap_or_default();
    let ours: Vec<Value> = old.map(|s| s.written.clone()).unwrap_or_default();
    let mut base = there.clone();
    for value in &ours {
        if let Some(at) = base.iter().position(|b| alike(b, value)) {
            base.remove(at);
        }
    }
    let mut made = old.and_then(|s| s.made.clone());
    // what is to be out, and what was and is not any more
    let out: Vec<&Value> = claims.iter().filter(|c| c.owner == Owner::TunedOut).map(|c| &c.value).collect();
    let mut taken: Vec<(usize, Value)> = old.map(|s| s.taken.clone()).unwrap_or_default();
    let back: Vec<(usize, Value)> = taken.iter().filter(|(_, v)| !out.iter().any(|o| alike(o, v))).cloned().collect();
    taken.retain(|(_, v)| out.iter().any(|o| alike(o, v)));
    let mut going: Vec<Value> = Vec::new();
    for (at, value) in there.iter().enumerate() {
        if base.iter().any(|b| alike(b, value)) && out.iter().any(|o| alike(o, value)) {
            going.push(value.clone());
            if !taken.iter().any(|(_, v)| alike(v, value)) {
                taken.push((at, value.clone()));
            }
        }
    }
    base.retain(|b| !going.iter().any(|g| alike(g, b)));
    let mut wanted: Vec<Value> = Vec::new();
    for claim in claims.iter().filter(|c| c.owner != Owner::TunedOut) {
        let known = |v: &Value| alike(v, &claim.value);
        if !base.iter().any(known) && !wanted.iter().any(known) && !out.iter().any(|o| known(o)) {
            wanted.push(claim.value.clone());
        }
    }
    for line in ours.iter().filter(|l| !there.iter().any(|t| alike(t, l)) && wanted.iter().any(|w| alike(w, l))) {
        let what = if key.at.is_none() { "line" } else { "element" };
        let of = format!("the {what} {} was taken out by hand, and the roster wants it", told.shown(line));
        let fix = "yalotheca settle puts it back; to leave it out, drop its item";
        told.findings.push(Finding::new("missing-setting", Severity::Warning, of, fix).at(&key.path));
    }
    let before = doc.render();
    if !wanted.is_empty() && seen.is_none() && made.is_none() && key.at.is_some() {
        made = first_missing(doc, &path).map(|p| p.to_string());
    }
    let seat = claims.iter().find(|c| c.owner != Owner::TunedOut).map(|c| c.seat.clone()).unwrap_or_default();
    match &key.list {
        Some(ListIn::Between(between)) => {
            let result = arranged(&there, &ours, &wanted, &going, &back, &seat);
            delimited(between, doc, &path, &result)?;
        }
        _ => {
            if !going.is_empty() {
                doc.arrange(&path, &going, &[], &Seat::Last)?;
            }
            for (at, value) in &back {
                let seat = there.get(*at).and_then(Value::text).map_or(Seat::Last, Seat::Before);
                doc.arrange(&path, &[], std::slice::from_ref(value), &seat)?;
            }
            doc.arrange(&path, &ours, &wanted, &seat)?;
        }
    }
    // a list that was not there before goes with the last of ours
    let empty = wanted.is_empty() && base.is_empty() && back.is_empty() && going.is_empty() && taken.is_empty();
    if empty && made.is_some() && seen.is_some() && key.at.is_some() {
        doc.remove(&path)?;
    } else if empty && old.is_some_and(|s| s.base == [Value::Null]) {
        doc.set(&path, Value::Null, None)?;
    }
    for line in wanted.iter().filter(|l| !there.iter().any(|t| alike(t, l))) {
        told.notes.push(named(key, '+', line, told));
    }
    for line in back.iter().map(|(_, v)| v).filter(|l| !there.iter().any(|t| alike(t, l))) {
        told.notes.push(named(key, '+', line, told));
    }
    let left = |l: &&Value| {
        there.iter().any(|t| alike(t, l)) && !wanted.iter().any(|w| alike(w, l)) && !base.iter().any(|b| alike(b, l))
    };
    for line in ours.iter().filter(left).chain(&going) {
        told.notes.push(named(key, '-', line, told));
    }
    if before != doc.render() && told.notes.is_empty() {
        told.notes.push("lines of ours change places".to_owned());
    }
    let claims = claims.iter().map(|c| (c.owner.clone(), c.value.clone())).collect();
    // a key that held nothing is remembered as such
    let nothing = matches!(doc_before(&before, key), Some(Value::Null)) && old.is_none()
        || old.is_some_and(|s| s.base == [Value::Null]);
    let base = if nothing && base.is_empty() { vec![Value::Null] } else { base };
    Ok(Slot { base, claims, written: wanted, taken, made, ..Slot::new(key.clone()) })
}

fn named(key: &SlotKey, sign: char, value: &Value, told: &Told) -> String {
    let value = if told.secret { "(secret)".to_owned() } else { value.shown() };
    match &key.at {
        None => format!("{sign} {value}"),
        Some(at) => format!("{at}: {sign} {value}"),
    }
}

/// What stood at the key before the edits.
fn doc_before(bytes: &[u8], key: &SlotKey) -> Option<Value> {
    let mut doc = Document::parse(key.format, bytes).ok()?;
    doc.get(&key.place().ok()?).ok()?.map(|s| s.value)
}

/// The list's elements; `None` where there is no list.
pub(super) fn elements(key: &SlotKey, doc: &mut Document) -> Result<Option<Vec<Value>>, SlotFault> {
    let Some(spot) = doc.get(&key.place()?)? else { return Ok(None) };
    Ok(Some(match (&key.list, spot.value) {
        (Some(ListIn::Between(between)), value) => {
            let words = value.text().unwrap_or_default();
            Delimited::new(between).read(&words).into_iter().map(Value::Text).collect()
        }
        (_, Value::List(items)) => items,
        (_, Value::Null) => Vec::new(),
        (_, Value::Map(pairs)) if pairs.is_empty() => Vec::new(),
        (_, one) => vec![one],
    }))
}

/// A list with ours exchanged for what is wanted, in the way of [`Document::arrange`].
fn arranged(
    there: &[Value],
    ours: &[Value],
    wanted: &[Value],
    going: &[Value],
    back: &[(usize, Value)],
    seat: &Seat,
) -> Vec<Value> {
    let mut unseen: Vec<&Value> = ours.iter().collect();
    let mut last: Option<usize> = None;
    let mut out: Vec<Value> = Vec::new();
    for value in there {
        if going.iter().any(|g| alike(g, value)) {
            continue;
        }
        if let Some(at) = unseen.iter().position(|o| alike(o, value)) {
            unseen.remove(at);
            last = last.or(Some(out.len()));
            continue;
        }
        out.push(value.clone());
    }
    for (at, value) in back {
        let at = (*at).min(out.len());
        out.insert(at, value.clone());
    }
    let named = |name: &str| out.iter().position(|v| v.text().as_deref() == Some(name));
    let at = match (last, seat) {
        (Some(at), _) => at,
        (None, Seat::First) => 0,
        (None, Seat::Last) => out.len(),
        (None, Seat::Before(name)) => named(name).unwrap_or(out.len()),
        (None, Seat::After(name)) => named(name).map_or(out.len(), |p| p + 1),
    };
    out.splice(at..at, wanted.iter().cloned());
    out
}

/// Writes a list inside one value.
fn delimited(
    between: &str,
    doc: &mut Document,
    path: &crate::settings::Path,
    wanted: &[Value],
) -> Result<(), SlotFault> {
    let words: Vec<String> = wanted.iter().filter_map(Value::text).collect();
    let there = doc.get(path)?.map(|s| s.value);
    let text = there.as_ref().and_then(Value::text).unwrap_or_default();
    let list = Delimited::new(between);
    if list.read(&text) != words && !(there.is_none() && words.is_empty()) {
        let text = list.write(&text, &words);
        doc.set(path, Value::Text(text), there.as_ref().and(Some(crate::settings::Sort::Text)))?;
    }
    Ok(())
}
