//! Ranges of versions: `^2`, `~1.4`, `>=1.2 <2`, `1.x`, `=2.1.0`, `*`, alternatives with `||`.

use std::cmp::Ordering;
use std::fmt;

use serde::{Deserialize, Serialize};
use smallvec::SmallVec;
use thiserror::Error;

use super::{Part, Scheme, Version};

/// A set of versions, written as people write it. Parts that stand side by side (parted by spaces or
/// commas) must all hold; `||` parts alternatives. A bare version means exactly that version.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Range {
    text: String,
    alternatives: Vec<Vec<Bound>>,
    /// Whether one of them bounds nothing.
    any: bool,
}

impl std::hash::Hash for Range {
    fn hash<H: std::hash::Hasher>(&self, state: &mut H) {
        // the text says all of it
        self.text.hash(state);
    }
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Bound {
    Equal(Version),
    NotEqual(Version),
    AtLeast(Version),
    Above(Version),
    AtMost(Version),
    Below(Version),
    /// The release numbers stay below these; so `^2` holds no `3.0-beta`.
    ReleaseBelow(Vec<Part>),
}

/// A range that cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("`{range}` is no version range ({why}); write for example `^2`, `~1.4`, `>=1.2 <2`, `1.x`, `=2.1.0` or `*`")]
pub struct RangeError {
    /// The text as given, made fit to print.
    pub range: String,
    /// What is wrong.
    pub why: String,
}

impl Range {
    /// Returns the range that holds every version.
    pub fn any() -> Self {
        Self { text: "*".to_owned(), alternatives: vec![Vec::new()], any: true }
    }

    /// Returns the range that holds exactly `version`.
    pub fn exactly(version: &Version) -> Self {
        Self { text: format!("={version}"), alternatives: vec![vec![Bound::Equal(version.clone())]], any: false }
    }

    /// Returns the range that `text` writes.
    ///
    /// # Errors
    /// [`RangeError`] for an operator without a version or a word that is none.
    pub fn parse(text: &str) -> Result<Self, RangeError> {
        let fail = |why: String| RangeError { range: crate::text::clean(text, 60), why };
        if text.chars().any(char::is_control) {
            return Err(fail("it has a control character".to_owned()));
        }
        if text.len() > 500 {
            return Err(fail("it is longer than 500 characters".to_owned()));
        }
        let mut alternatives = Vec::new();
        for side in text.split("||") {
            let mut bounds = Vec::new();
            let mut words = side.split([' ', ',']).filter(|w| !w.is_empty()).peekable();
            if words.peek().is_none() && text.contains("||") {
                return Err(fail("nothing stands on one side of `||`".to_owned()));
            }
            while let Some(word) = words.next() {
                let (sign, mut rest) = split_sign(word);
                if rest.is_empty() {
                    // `>= 1.2`: the version is the next word
                    rest = words.next().ok_or_else(|| fail(format!("`{sign}` stands without a version")))?;
                }
                bounds.extend(read_bound(sign, rest).map_err(fail)?);
            }
            alternatives.push(bounds);
        }
        let any = alternatives.iter().any(Vec::is_empty);
        Ok(Self { text: text.trim().to_owned(), alternatives, any })
    }

    /// Whether `version` is in the range, its order taken by `scheme`.
    pub fn holds(&self, version: &Version, scheme: Scheme) -> bool {
        self.any || self.alternatives.iter().any(|all| all.iter().all(|bound| bound.holds(version, scheme)))
    }

    /// Returns which of some versions are in the range, by their places, as ascending stretches that do not touch. They stand
    /// newest first by the order of the scheme, so only few of them are looked at.
    pub(crate) fn among<T>(
        &self,
        versions: &[T],
        of: impl Fn(&T) -> &Version,
        scheme: Scheme,
    ) -> SmallVec<[std::ops::Range<usize>; 1]> {
        // the first place from which on a test holds
        let from = |test: &dyn Fn(&Version) -> bool| versions.partition_point(|v| !test(of(v)));
        let mut out: SmallVec<[std::ops::Range<usize>; 1]> = SmallVec::new();
        for all in &self.alternatives {
            let (mut start, mut end) = (0, versions.len());
            let mut without: Vec<std::ops::Range<usize>> = Vec::new();
            for bound in all {
                match bound {
                    Bound::AtMost(_) | Bound::Below(_) | Bound::ReleaseBelow(_) => {
                        start = start.max(from(&|v| bound.holds(v, scheme)));
                    }
                    Bound::AtLeast(_) | Bound::Above(_) => end = end.min(from(&|v| !bound.holds(v, scheme))),
                    Bound::Equal(e) | Bound::NotEqual(e) => {
                        let same = from(&|v| v.compare(e, scheme).is_le())..from(&|v| v.compare(e, scheme).is_lt());
                        if matches!(bound, Bound::NotEqual(_)) {
                            without.push(same);
                        } else {
                            (start, end) = (start.max(same.start), end.min(same.end));
                        }
                    }
                }
            }
            without.sort_unstable_by_key(|r| r.start);
            for gap in without {
                out.push(start..gap.start.min(end));
                start = start.max(gap.end);
            }
            out.push(start..end);
        }
        out.retain(|r| r.start < r.end);
        out.sort_unstable_by_key(|r| r.start);
        out.dedup_by(|next, last| {
            let joins = next.start <= last.end;
            if joins {
                last.end = last.end.max(next.end);
            }
            joins
        });
        out
    }

    /// Whether the range holds every version.
    pub fn is_any(&self) -> bool {
        self.any
    }

    /// Whether the range names this very version (`=2.0-beta`), so that a channel does not matter.
    pub fn names(&self, version: &Version) -> bool {
        self.alternatives.iter().flatten().any(|b| matches!(b, Bound::Equal(v) if v == version))
    }
}

fn split_sign(word: &str) -> (&str, &str) {
    for sign in [">=", "<=", "==", "!=", "=>", "=<", "^", "~", ">", "<", "="] {
        if let Some(rest) = word.strip_prefix(sign) {
            return (sign, rest);
        }
    }
    ("", word)
}

fn read_bound(sign: &str, text: &str) -> Result<Vec<Bound>, String> {
    let wild = |part: &str| matches!(part, "x" | "X" | "*");
    let numbers: Vec<&str> = text.split('.').collect();
    if let Some(at) = numbers.iter().position(|p| wild(p)) {
        if !matches!(sign, "" | "=" | "==" | "^" | "~") {
            return Err(format!("`{sign}` and `x` do not go together"));
        }
        if at == 0 {
            return Ok(Vec::new());
        }
        let base = Version::new(&numbers.get(..at).unwrap_or_default().join("."));
        return Ok(vec![Bound::AtLeast(base.clone()), Bound::ReleaseBelow(raise(&base, at - 1))]);
    }
    if !text.starts_with(|c: char| c.is_alphanumeric()) {
        return Err(format!("`{}` is no version", crate::text::clean(text, 40)));
    }
    let version = Version::new(text);
    let written = text.split(['-', '+']).next().unwrap_or(text).split('.').count();
    Ok(match sign {
        "" | "=" | "==" => vec![Bound::Equal(version)],
        "!=" => vec![Bound::NotEqual(version)],
        ">=" | "=>" => vec![Bound::AtLeast(version)],
        "<=" | "=<" => vec![Bound::AtMost(version)],
        ">" => vec![Bound::Above(version)],
        "<" => vec![Bound::Below(version)],
        "~" => {
            let top = raise(&version, usize::from(written > 1));
            vec![Bound::AtLeast(version), Bound::ReleaseBelow(top)]
        }
        _ => {
            // `^`: the first number that is not 0 stays
            let fixed = version.release.iter().position(|p| !p.is_zero()).unwrap_or(written.saturating_sub(1));
            let top = raise(&version, fixed);
            vec![Bound::AtLeast(version), Bound::ReleaseBelow(top)]
        }
    })
}

/// Returns the release numbers up to `at`, the one there one higher.
fn raise(version: &Version, at: usize) -> Vec<Part> {
    let zero = Part::Number(0);
    let mut out: Vec<Part> = (0..=at).map(|i| version.release.get(i).unwrap_or(&zero).clone()).collect();
    let digits = match out.last() {
        Some(Part::Number(number)) => number.to_string(),
        Some(Part::Huge(_, digits)) => digits.clone(),
        _ => return out,
    };
    out.pop();
    out.push(Part::number(&plus_one(&digits)));
    out
}

fn plus_one(digits: &str) -> String {
    let mut out: Vec<u8> = format!("0{digits}").into_bytes();
    for byte in out.iter_mut().rev() {
        if *byte == b'9' {
            *byte = b'0';
        } else {
            *byte += 1;
            break;
        }
    }
    String::from_utf8(out).unwrap_or_default()
}

impl Bound {
    fn holds(&self, version: &Version, scheme: Scheme) -> bool {
        match self {
            Bound::Equal(v) => version.compare(v, scheme) == Ordering::Equal,
            Bound::NotEqual(v) => version.compare(v, scheme) != Ordering::Equal,
            Bound::AtLeast(v) => version.compare(v, scheme) != Ordering::Less,
            Bound::Above(v) => version.compare(v, scheme) == Ordering::Greater,
            Bound::AtMost(v) => version.compare(v, scheme) != Ordering::Greater,
            Bound::Below(v) => version.compare(v, scheme) == Ordering::Less,
            Bound::ReleaseBelow(top) => version.compare_release(top) == Ordering::Less,
        }
    }
}

impl fmt::Display for Range {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(if self.text.is_empty() { "*" } else { &self.text })
    }
}

impl TryFrom<String> for Range {
    type Error = RangeError;
    fn try_from(text: String) -> Result<Self, RangeError> {
        Self::parse(&text)
    }
}

impl From<Range> for String {
    fn from(range: Range) -> Self {
        range.to_string()
    }
}

impl Default for Range {
    fn default() -> Self {
        Self::any()
    }
}
