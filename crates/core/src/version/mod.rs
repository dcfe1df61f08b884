//! Versions as they are really written, put in order by a scheme.
//!
//! A version's text is cut into a *release* (numbers), a *suffix* (what follows a dash, or a word that
//! follows a number) and a *build* (what follows `+`). The release decides first, missing numbers count
//! as 0; then the suffix, whose side of the plain release depends on the [`Scheme`]; then the build.
//! `docs/versions.md` states the orders for people.

mod range;

use std::cmp::Ordering;
use std::fmt;

pub use range::{Range, RangeError};
use serde::{Deserialize, Serialize};

/// How the versions of an item are put in order. Every scheme is a total order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Scheme {
    /// A suffix that begins with a word for "not yet" (dev, alpha, beta, rc …) comes before the release;
    /// any other suffix (`-12.5.0`, `-hotfix`) comes after.
    #[default]
    Plain,
    /// Every dash suffix comes before the release: `2.0-1` < `2.0`.
    DashBefore,
    /// Every dash suffix comes after the release: `2.0` < `2.0-rc1`.
    DashAfter,
    /// The date of publication decides; the text only where dates are the same or absent.
    ByDate,
}

/// How far it is from one version to another.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Leap {
    /// The first number is another.
    Major,
    /// The second number is another.
    Minor,
    /// A later number, or what follows the numbers, is another.
    Patch,
    /// It is older.
    Downgrade,
}

impl fmt::Display for Leap {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Leap::Major => "major",
            Leap::Minor => "minor",
            Leap::Patch => "patch",
            Leap::Downgrade => "downgrade",
        })
    }
}

/// A version as it was written, with what its order is decided by.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(from = "String", into = "String")]
pub struct Version {
    text: String,
    release: Vec<Part>,
    suffix: Vec<Part>,
    dashed: bool,
    build: Vec<Part>,
}

/// One run of digits or letters.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
enum Part {
    /// A number.
    Number(u64),
    /// A larger one: how many digits, and the digits without leading zeros.
    Huge(usize, String),
    /// A lower-case word.
    Word(String),
}

impl Part {
    fn number(digits: &str) -> Self {
        let digits = digits.trim_start_matches('0');
        match digits.parse() {
            Ok(number) => Part::Number(number),
            Err(_) if digits.is_empty() => Part::Number(0),
            Err(_) => Part::Huge(digits.len(), digits.to_owned()),
        }
    }

    fn is_zero(&self) -> bool {
        matches!(self, Part::Number(0))
    }
}

/// Words that say "not yet released", in their order.
const EARLY: [&str; 14] =
    ["dev", "nightly", "snapshot", "a", "alpha", "b", "beta", "m", "milestone", "p", "pre", "preview", "cr", "rc"];

fn early(word: &str) -> Option<usize> {
    EARLY.iter().position(|w| *w == word)
}

impl Version {
    /// Returns the version for any text: there is none that cannot be put in order. Control characters become `·`,
    /// and no more than 200 characters count: the text goes to terminals.
    pub fn new(text: &str) -> Self {
        let text = crate::text::clean(text.trim(), 200);
        let text = text.trim();
        let body = match text.strip_prefix(['v', 'V']) {
            Some(rest) if rest.starts_with(|c: char| c.is_ascii_digit()) => rest,
            _ => text,
        };
        let (body, build) = body.split_once('+').unwrap_or((body, ""));
        let end = release_end(body);
        let (release, suffix) = body.split_at(end);
        let mut release = parts(release);
        while release.last().is_some_and(Part::is_zero) {
            release.pop();
        }
        Self {
            text: text.to_owned(),
            release,
            dashed: suffix.starts_with('-'),
            suffix: parts(suffix),
            build: parts(build),
        }
    }

    /// Returns the text as it was written.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// Returns the order of two versions as ranges see it: `1.0` equals `1.0.0`, `v3` equals `3`.
    pub fn compare(&self, other: &Self, scheme: Scheme) -> Ordering {
        padded(&self.release, &other.release)
            .then_with(|| self.side(scheme).cmp(&other.side(scheme)))
            .then_with(|| suffixes(&self.suffix, &other.suffix))
            .then_with(|| self.build.cmp(&other.build))
    }

    /// Returns the total order: [`Version::compare`], then the text itself, so that only equal texts are equal.
    pub fn total(&self, other: &Self, scheme: Scheme) -> Ordering {
        self.compare(other, scheme).then_with(|| self.text.cmp(&other.text))
    }

    /// Returns how far it is to another version.
    pub fn leap(&self, to: &Self, scheme: Scheme) -> Leap {
        let number = |v: &Self, at: usize| v.release.get(at).cloned().filter(|p| !p.is_zero());
        if to.total(self, scheme).is_lt() {
            Leap::Downgrade
        } else if number(self, 0) != number(to, 0) {
            Leap::Major
        } else if number(self, 1) != number(to, 1) {
            Leap::Minor
        } else {
            Leap::Patch
        }
    }

    /// Whether the text itself says that this is not a finished release.
    pub fn is_early(&self) -> bool {
        matches!(self.suffix.first(), Some(Part::Word(w)) if early(w).is_some())
    }

    /// -1 before the plain release, 0 the release itself, 1 after it.
    fn side(&self, scheme: Scheme) -> i8 {
        if self.suffix.is_empty() {
            return 0;
        }
        match scheme {
            Scheme::DashBefore if self.dashed => -1,
            Scheme::DashAfter if self.dashed => 1,
            _ if self.is_early() => -1,
            _ => 1,
        }
    }

    /// Compares only the release numbers: what `^`, `~` and `x` bound above.
    fn compare_release(&self, other: &[Part]) -> Ordering {
        padded(&self.release, other)
    }
}

/// Where the release ends: at a dash, or where a letter follows.
fn release_end(body: &str) -> usize {
    body.char_indices().find(|(_, c)| !c.is_ascii_digit() && !matches!(c, '.' | '_')).map_or(body.len(), |(at, _)| at)
}

/// Cuts text into runs of digits and runs of letters; everything else only parts them.
fn parts(text: &str) -> Vec<Part> {
    let mut out = Vec::new();
    let mut rest = text;
    while let Some(first) = rest.chars().next() {
        let digits = first.is_ascii_digit();
        let end = rest
            .char_indices()
            .find(|(_, c)| if digits { !c.is_ascii_digit() } else { !c.is_alphabetic() })
            .map_or(rest.len(), |(at, _)| at)
            .max(first.len_utf8());
        let (run, after) = rest.split_at(end);
        if digits {
            out.push(Part::number(run));
        } else if first.is_alphabetic() {
            out.push(Part::Word(run.to_lowercase()));
        }
        rest = after;
    }
    out
}

/// Compares number by number; a missing one counts as 0.
fn padded(a: &[Part], b: &[Part]) -> Ordering {
    let zero = Part::Number(0);
    (0..a.len().max(b.len()))
        .map(|i| a.get(i).unwrap_or(&zero).cmp(b.get(i).unwrap_or(&zero)))
        .find(|o| o.is_ne())
        .unwrap_or(Ordering::Equal)
}

/// Compares suffixes part by part: numbers before words, words for "not yet" in their own order first,
/// and the shorter of two that begin alike first.
fn suffixes(a: &[Part], b: &[Part]) -> Ordering {
    let key = |part: &Part| match part {
        Part::Number(_) | Part::Huge(..) => (0, 0, part.clone()),
        Part::Word(w) => (1, early(w).unwrap_or(EARLY.len()), part.clone()),
    };
    match (a, b) {
        ([], []) => Ordering::Equal,
        _ => a.iter().map(key).cmp(b.iter().map(key)),
    }
}

impl fmt::Display for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl From<String> for Version {
    fn from(text: String) -> Self {
        Self::new(&text)
    }
}

impl From<Version> for String {
    fn from(version: Version) -> Self {
        version.text
    }
}

#[cfg(test)]
mod tests;
