//! A slot that is a list: elements of ours among others.

use super::{Claim, ListIn, Owner, Slot, SlotFault, SlotKey, Told, first_missing, part};
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
    let written: Vec<Value> = old.map(|s| s.written.clone()).unwrap_or_default();
    // an element that a field tells apart is the same, whatever else of it was changed by hand
    let same = |a: &Value, b: &Value| match (ident(key, a), ident(key, b)) {
        (Some(a), Some(b)) => a == b,
        _ => alike(a, b),
    };
    let as_seen = |v: &Value| there.iter().find(|t| same(t, v)).unwrap_or(v).clone();
    let ours: Vec<Value> = written.iter().map(as_seen).collect();
    let mut base = there.clone();
    for value in &ours {
        if let Some(at) = base.iter().position(|b| alike(b, value)) {
            base.remove(at);
        }
    }
    doubles(key, claims, &there, told);
    let mut made = old.and_then(|s| s.made.clone());
    // what is to be out, and what was and is not any more
    let out: Vec<&Value> = claims.iter().filter(|c| c.owner == Owner::TunedOut).map(|c| &c.value).collect();
    let mut taken: Vec<(usize, Value)> = old.map(|s| s.taken.clone()).unwrap_or_default();
    let was = taken.clone();
    let stands = |c: &Claim| old.is_some_and(|o| o.claims.iter().any(|(w, v)| *w == c.owner && alike(v, &c.value)));
    let firm = |v: &Value| {
        let over = |c: &&&Claim| c.firm || (stands(c) && was.iter().any(|(_, t)| alike(t, v)));
        let differs = |c: &&Claim| ident(key, &c.value).is_some() && same(&c.value, v) && !alike(&c.value, v);
        claims.iter().filter(over).any(differs)
    };
    let is_out = |v: &Value| out.iter().any(|o| alike(o, v)) || firm(v);
    let back: Vec<(usize, Value)> = taken.iter().filter(|(_, v)| !is_out(v)).cloned().collect();
    taken.retain(|(_, v)| is_out(v));
    let mut going: Vec<Value> = Vec::new();
    for (at, value) in there.iter().enumerate() {
        if base.iter().any(|b| alike(b, value)) && is_out(value) {
            going.push(value.clone());
            if !taken.iter().any(|(_, v)| alike(v, value)) {
                taken.push((at, value.clone()));
            }
        }
    }
    base.retain(|b| !going.iter().any(|g| alike(g, b)));
    let mut wanted: Vec<Value> = Vec::new();
    for claim in claims.iter().filter(|c| c.owner != Owner::TunedOut) {
        let known = |v: &Value| same(v, &claim.value);
        other_case(key, claim, &base, told);
        if !base.iter().any(known) && !wanted.iter().any(known) && !out.iter().any(|o| known(o)) {
            let value = match as_it_stands(key, claim, old, &there, told) {
                Some(value) => value,
                None => numbered(key, claim, &there, &wanted, &going),
            };
            wanted.push(value);
        }
    }
    for line in ours.iter().filter(|l| !there.iter().any(|t| alike(t, l)) && wanted.iter().any(|w| same(w, l))) {
        let what = if key.at.is_none() { "line" } else { "element" };
        let shown = if told.secret { "(secret)".to_owned() } else { format!("`{}`", line_of(key, line)) };
        let of = format!("the {what} {shown} was taken out by hand, and the roster wants it");
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
            match claims.iter().find_map(|c| c.number.as_ref()) {
                None => {
                    doc.arrange(&path, &ours, &wanted, &seat)?;
                }
                // numbers rise: what is there stays where it is, and what is new stands last
                Some(by) => {
                    wanted
                        .sort_by_key(|v| part(v, by).and_then(Value::text).and_then(|t| t.trim().parse::<u64>().ok()));
                    let (old, new): (Vec<Value>, Vec<Value>) =
                        wanted.iter().cloned().partition(|w| ours.iter().any(|o| same(o, w)));
                    doc.arrange(&path, &ours, &old, &seat)?;
                    if !new.is_empty() {
                        doc.edit(&[crate::settings::Edit::Add { path: path.clone(), values: new, seat: Seat::Last }])?;
                    }
                }
            }
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

/// An element as a person would write it: a row with its columns side by side.
fn line_of(key: &SlotKey, value: &Value) -> String {
    match value {
        Value::List(row) if key.at.is_none() => row.iter().filter_map(Value::text).collect::<Vec<_>>().join(" "),
        other => crate::text::clean(&other.shown(), 120),
    }
}

/// Tells names and numbers that stand twice in a list whose elements they tell apart.
fn doubles(key: &SlotKey, claims: &[&Claim], there: &[Value], told: &mut Told) {
    let number = claims.iter().find_map(|c| c.number.as_ref());
    let named = |v: &Value| ident(key, v);
    let numbered = |v: &Value| number.and_then(|by| part(v, by)).and_then(Value::text).map(|n| format!("number {n}"));
    let mut seen: Vec<String> = Vec::new();
    for name in there.iter().flat_map(|v| [named(v), numbered(v)]).flatten() {
        if seen.contains(&name) {
            let of = format!(
                "`{}` stands there twice, and the server reads one of them or none",
                crate::text::clean(&name, 60)
            );
            let fix = "take one of the two out, then: yalotheca settle";
            told.findings.push(Finding::new("stands-twice", Severity::Error, of, fix).at(&key.path));
        }
        seen.push(name);
    }
}

fn ident(key: &SlotKey, value: &Value) -> Option<String> {
    key.list.as_ref().and_then(|l| l.ident(value))
}

/// An element with its number: the one it has already, else the next free one.
fn numbered(key: &SlotKey, claim: &Claim, there: &[Value], wanted: &[Value], going: &[Value]) -> Value {
    let Some(by) = &claim.number else { return claim.value.clone() };
    let number = |v: &Value| part(v, by).and_then(Value::text).and_then(|t| t.trim().parse::<u64>().ok());
    let mine = ident(key, &claim.value);
    let has = there.iter().chain(going).find(|v| mine.is_some() && ident(key, v) == mine).and_then(number);
    let next = || there.iter().chain(wanted).filter_map(number).max().unwrap_or(0) + 1;
    let number = has.unwrap_or_else(next).to_string();
    let mut value = claim.value.clone();
    match &mut value {
        Value::Map(pairs) => {
            pairs.retain(|(k, _)| k != by);
            pairs.insert(0, (by.clone(), Value::typed(&number)));
        }
        Value::List(row) => {
            if let Some(column) = by.parse::<usize>().ok().and_then(|b| row.get_mut(b.checked_sub(1)?)) {
                *column = Value::Text(number);
            }
        }
        _ => {}
    }
    value
}

/// An element of ours stands as it does, whatever was changed of it by hand, unless what is wanted of it changed since.
fn as_it_stands(key: &SlotKey, claim: &Claim, old: Option<&Slot>, there: &[Value], told: &mut Told) -> Option<Value> {
    let mine = ident(key, &claim.value)?;
    let same = |v: &&Value| ident(key, v).as_ref() == Some(&mine);
    let old = old?;
    let wrote = old.written.iter().find(same)?;
    let claimed = |(owner, value): &&(Owner, Value)| *owner == claim.owner && alike(value, &claim.value);
    old.claims.iter().find(claimed)?;
    let Some(seen) = there.iter().find(same) else { return Some(wrote.clone()) };
    if !alike(wrote, seen) {
        let of = format!("{} was changed by hand to {}: kept", told.shown(wrote), told.shown(seen));
        let fix = "nothing to do; what is chosen for it anew is written again";
        told.findings.push(Finding::new("changed-by-hand", Severity::Note, of, fix).at(&key.path));
    }
    Some(seen.clone())
}

/// Tells an element by hand that differs from a claimed one only in case.
fn other_case(key: &SlotKey, claim: &Claim, base: &[Value], told: &mut Told) {
    let name = |v: &Value| ident(key, v).or_else(|| v.text());
    let Some(mine) = name(&claim.value) else { return };
    let twin = base.iter().filter_map(name).find(|b| *b != mine && b.to_lowercase() == mine.to_lowercase());
    if let Some(twin) = twin {
        let twin = crate::text::clean(&twin, 80);
        let of = format!("`{twin}` stands there by hand, and {} is written `{mine}`: another name", claim.owner.said());
        let fix = format!("take the line or element `{twin}` out");
        told.findings.push(Finding::new("case", Severity::Warning, of, fix).at(&key.path));
    }
}

fn named(key: &SlotKey, sign: char, value: &Value, told: &Told) -> String {
    let value = match value {
        _ if told.secret => "(secret)".to_owned(),
        other => line_of(key, other),
    };
    match &key.at {
        None => format!("{sign} {value}"),
        Some(at) if at.is_empty() => format!("{sign} {value}"),
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
