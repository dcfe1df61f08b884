//! Records one after the other, in a layout that a family says.

use std::collections::BTreeMap;
use std::fmt;
use std::ops::Range;

use serde::{Deserialize, Serialize};

use super::{MOST_ENTRY, too_large};
use crate::text::clean;

/// How records lie in a file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, try_from = "Raw", into = "Raw")]
pub struct Layout {
    /// What the file begins with.
    pub begins: String,
    /// How many records there are, right after that; absent where they go on to the end.
    pub count: Option<Number>,
    /// The parts of a record.
    pub record: Vec<Part>,
}

#[derive(Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Raw {
    #[serde(default, skip_serializing_if = "String::is_empty")]
    begins: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    count: Option<Number>,
    record: Vec<Part>,
}

impl TryFrom<Raw> for Layout {
    type Error = String;
    fn try_from(raw: Raw) -> Result<Self, String> {
        let count = |what: fn(&Part) -> bool| raw.record.iter().filter(|p| what(p)).count();
        let names = count(|p| matches!(p, Part::Name(_)));
        let sizes = count(|p| matches!(p, Part::Size(_)));
        let place = |what: fn(&Part) -> bool| raw.record.iter().position(what);
        let in_order = place(|p| matches!(p, Part::Size(_))) < place(|p| matches!(p, Part::Data));
        if names != 1 || sizes != 1 || count(|p| matches!(p, Part::Data)) != 1 || !in_order {
            return Err("a record has one name, one size, and then its data: \
                        `record = [\"name:32\", \"size:u32-le\", \"data\"]`"
                .to_owned());
        }
        Ok(Self { begins: raw.begins, count: raw.count, record: raw.record })
    }
}

impl From<Layout> for Raw {
    fn from(layout: Layout) -> Self {
        Self { begins: layout.begins, count: layout.count, record: layout.record }
    }
}

/// A part of a record.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum Part {
    /// The entry's name.
    Name(Text),
    /// How many bytes its data has.
    Size(Number),
    /// The data.
    Data,
    /// So many bytes that mean nothing to us: zero in new records, kept in others.
    Zero(usize),
}

/// How a name is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Text {
    /// In so many bytes, the rest zero.
    Fixed(usize),
    /// Behind its length.
    Behind(Number),
}

/// A whole number without sign, by its size and which byte comes first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Number {
    bytes: usize,
    big: bool,
}

impl TryFrom<String> for Number {
    type Error = String;
    fn try_from(text: String) -> Result<Self, String> {
        let (size, end) = text.split_once('-').unwrap_or((text.as_str(), "le"));
        let bytes = match size {
            "u8" => 1,
            "u16" => 2,
            "u32" => 4,
            "u64" => 8,
            _ => 0,
        };
        if bytes == 0 || !matches!(end, "le" | "be") || (bytes > 1) != text.contains('-') {
            return Err(format!(
                "`{}` is no number's form; there are u8, u16-le, u16-be, u32-le, u32-be, u64-le and u64-be",
                clean(&text, 30)
            ));
        }
        Ok(Self { bytes, big: end == "be" })
    }
}

impl From<Number> for String {
    fn from(number: Number) -> Self {
        number.to_string()
    }
}

impl fmt::Display for Number {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let end = if self.big { "-be" } else { "-le" };
        write!(f, "u{}{}", self.bytes * 8, if self.bytes == 1 { "" } else { end })
    }
}

impl TryFrom<String> for Part {
    type Error = String;
    fn try_from(text: String) -> Result<Self, String> {
        let (word, form) = text.split_once(':').unwrap_or((text.as_str(), ""));
        let wide = || form.parse::<usize>().ok().filter(|n| (1..=65_536).contains(n));
        match (word, wide()) {
            ("name", Some(width)) => Ok(Part::Name(Text::Fixed(width))),
            ("name", None) => Number::try_from(form.to_owned()).map(|n| Part::Name(Text::Behind(n))),
            ("size", None) => Number::try_from(form.to_owned()).map(Part::Size),
            ("zero", Some(width)) => Ok(Part::Zero(width)),
            ("data", None) if form.is_empty() => Ok(Part::Data),
            _ => Err(format!(
                "`{}` is no part of a record; there are `name:32`, `name:u16-le`, `size:u32-le`, `zero:4` and `data`",
                clean(&text, 40)
            )),
        }
    }
}

impl From<Part> for String {
    fn from(part: Part) -> Self {
        match part {
            Part::Name(Text::Fixed(width)) => format!("name:{width}"),
            Part::Name(Text::Behind(number)) => format!("name:{number}"),
            Part::Size(number) => format!("size:{number}"),
            Part::Data => "data".to_owned(),
            Part::Zero(width) => format!("zero:{width}"),
        }
    }
}

impl Number {
    fn read(self, bytes: &[u8]) -> u64 {
        let one = |sum: u64, b: &u8| (sum << 8) | u64::from(*b);
        if self.big { bytes.iter().fold(0, one) } else { bytes.iter().rev().fold(0, one) }
    }

    fn write(self, value: u64, what: &str) -> Result<Vec<u8>, String> {
        if self.bytes < 8 && value >> (8 * self.bytes) != 0 {
            return Err(format!("{what} is {value}, which {self} cannot hold"));
        }
        let mut out: Vec<u8> = value.to_le_bytes().into_iter().take(self.bytes).collect();
        if self.big {
            out.reverse();
        }
        Ok(out)
    }
}

/// A record: its name, all of it, its data.
struct Record {
    name: String,
    whole: Range<usize>,
    data: Range<usize>,
}

/// Reads forward, and never past the end.
struct Reader<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl<'a> Reader<'a> {
    fn take(&mut self, count: usize) -> Option<&'a [u8]> {
        let out = self.bytes.get(self.at..self.at.checked_add(count)?)?;
        self.at += count;
        Some(out)
    }
}

/// The records, and where the last one ends.
fn records(layout: &Layout, container: &[u8]) -> Result<(Vec<Record>, usize), String> {
    let mut reader = Reader { bytes: container, at: 0 };
    if reader.take(layout.begins.len()) != Some(layout.begins.as_bytes()) {
        return Err(format!("it does not begin with `{}`", clean(&layout.begins, 40)));
    }
    let cut = |at: usize| format!("it ends in the middle of record {}", at + 1);
    let count = match layout.count {
        Some(number) => Some(number.read(reader.take(number.bytes).ok_or_else(|| cut(0))?)),
        None => None,
    };
    let mut out = Vec::new();
    while count.map_or(reader.at < container.len(), |c| (out.len() as u64) < c) {
        let at = out.len();
        out.push(record(layout, &mut reader, at).ok_or_else(|| cut(at))??);
    }
    Ok((out, reader.at))
}

/// One record; `None` where the bytes end in it.
fn record(layout: &Layout, reader: &mut Reader<'_>, at: usize) -> Option<Result<Record, String>> {
    let from = reader.at;
    let (mut name, mut size, mut data) = (String::new(), 0, 0..0);
    for part in &layout.record {
        match part {
            Part::Name(form) => {
                let bytes = match form {
                    Text::Fixed(width) => {
                        let all = reader.take(*width)?;
                        all.split(|b| *b == 0).next().unwrap_or_default()
                    }
                    Text::Behind(number) => {
                        let long = number.read(reader.take(number.bytes)?);
                        reader.take(usize::try_from(long).ok()?)?
                    }
                };
                match std::str::from_utf8(bytes) {
                    Ok(text) => name = text.to_owned(),
                    Err(_) => return Some(Err(format!("the name of record {} is no UTF-8 text", at + 1))),
                }
            }
            Part::Size(number) => size = usize::try_from(number.read(reader.take(number.bytes)?)).ok()?,
            Part::Data => {
                reader.take(size)?;
                data = reader.at - size..reader.at;
            }
            Part::Zero(width) => drop(reader.take(*width)?),
        }
    }
    Some(Ok(Record { name, whole: from..reader.at, data }))
}

pub(super) fn member(layout: &Layout, container: &[u8], name: &str) -> Result<Option<Vec<u8>>, String> {
    let Some(found) = records(layout, container)?.0.into_iter().find(|r| r.name == name) else { return Ok(None) };
    if found.data.len() as u64 > MOST_ENTRY {
        return Err(too_large(name));
    }
    Ok(container.get(found.data).map(<[u8]>::to_vec))
}

pub(super) fn write(
    layout: &Layout,
    now: Option<&[u8]>,
    mut files: BTreeMap<String, Vec<u8>>,
    gone: &[String],
) -> Result<Vec<u8>, String> {
    let (mut out, mut count) = (Vec::new(), 0u64);
    let mut rest: &[u8] = &[];
    if let Some(now) = now {
        let (there, end) = records(layout, now)?;
        rest = now.get(end..).unwrap_or_default();
        for old in there {
            if gone.contains(&old.name) {
                continue;
            }
            match files.remove(&old.name) {
                Some(bytes) => out.extend(packed(layout, &old.name, &bytes, now.get(old.whole))?),
                None => out.extend(now.get(old.whole).unwrap_or_default()),
            }
            count += 1;
        }
    }
    for (name, bytes) in &files {
        out.extend(packed(layout, name, bytes, None)?);
        count += 1;
    }
    let mut head = layout.begins.as_bytes().to_vec();
    if let Some(number) = layout.count {
        head.extend(number.write(count, "the count of records")?);
    }
    Ok([head.as_slice(), out.as_slice(), rest].concat())
}

/// A record's bytes; what means nothing to us is kept from the one that stood there.
fn packed(layout: &Layout, name: &str, bytes: &[u8], old: Option<&[u8]>) -> Result<Vec<u8>, String> {
    let mut out = Vec::new();
    let mut before = old.map(|bytes| Reader { bytes, at: 0 });
    let mut size = 0;
    for part in &layout.record {
        match part {
            Part::Name(Text::Fixed(width)) => {
                if name.len() > *width {
                    return Err(format!("the name `{}` has more than {width} bytes", clean(name, 80)));
                }
                out.extend(name.as_bytes());
                out.resize(out.len() + width - name.len(), 0);
                before.as_mut().and_then(|r| r.take(*width));
            }
            Part::Name(Text::Behind(number)) => {
                out.extend(number.write(name.len() as u64, "the length of a name")?);
                out.extend(name.as_bytes());
                before.as_mut().and_then(|r| r.take(number.bytes + name.len()));
            }
            Part::Size(number) => {
                out.extend(number.write(bytes.len() as u64, "the size of an entry")?);
                size = before.as_mut().and_then(|r| r.take(number.bytes)).map_or(0, |b| number.read(b));
            }
            Part::Data => {
                out.extend(bytes);
                before.as_mut().and_then(|r| r.take(usize::try_from(size).ok()?));
            }
            Part::Zero(width) => match before.as_mut().and_then(|r| r.take(*width)) {
                Some(kept) => out.extend(kept),
                None => out.resize(out.len() + width, 0),
            },
        }
    }
    Ok(out)
}
