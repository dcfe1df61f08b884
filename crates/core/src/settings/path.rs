//! The one path syntax into settings files (`docs/paths.md`): `world.ferries[name=north].fare`.

use std::fmt;

use thiserror::Error;

/// A way into a settings file.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Path(pub(crate) Vec<Step>);

/// One step of a way.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Step {
    /// The value of a key. A number is also a position, where a list stands.
    Key(String),
    /// Every key that fits a pattern with `*`.
    Glob(String),
    /// A position, from 1.
    Position(usize),
    /// The last element.
    Last,
    /// Every element.
    Every,
    /// The elements with a field of this value.
    Field(String, String),
    /// The elements that are this value.
    Is(String),
    /// The line that fits a pattern, and in it the pattern's group.
    Line(String),
}

/// A path that cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("`{path}` is no path: {why}")]
pub struct PathError {
    /// What was written.
    pub path: String,
    /// What is wrong with it and what to write.
    pub why: String,
}

impl Path {
    /// Reads a path. An empty one is the whole file.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn parse(text: &str) -> Result<Self, PathError> {
        let (path, rest) = Self::before_sign(text)?;
        if rest.is_empty() {
            return Ok(path);
        }
        let why = format!("`{}` is not part of one; put a key that holds it in quotes", crate::text::clean(rest, 20));
        Err(PathError { path: crate::text::clean(text, 120), why })
    }

    /// Reads the path that a text begins with, up to `=`, `+=` or `-=`, and returns what is left.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn before_sign(text: &str) -> Result<(Self, &str), PathError> {
        let fail = |why: &str| PathError { path: crate::text::clean(text, 120), why: why.to_owned() };
        let mut steps = Vec::new();
        let mut rest = text;
        loop {
            if let Some(after) = rest.strip_prefix('[') {
                let (step, left) = selector(after).map_err(|why| fail(&why))?;
                steps.push(step);
                rest = left;
            } else if steps.is_empty() && rest.starts_with('/') {
                let (pattern, left) = line_pattern(rest).ok_or_else(|| fail("the pattern has no closing `/`"))?;
                steps.push(Step::Line(pattern));
                rest = left;
            } else {
                let (step, left) = key(rest).map_err(|why| fail(&why))?;
                match step {
                    Some(step) => steps.push(step),
                    None if steps.is_empty() && (left.is_empty() || signed(left)) => return Ok((Self(steps), left)),
                    None => return Err(fail("a key is missing; an empty key is written \"\"")),
                }
                rest = left;
            }
            match rest.strip_prefix('.') {
                Some(after) => {
                    rest = after;
                    if rest.is_empty() {
                        return Err(fail("it ends in a dot"));
                    }
                }
                None if rest.starts_with('[') => {}
                None => return Ok((Self(steps), rest)),
            }
        }
    }

    /// Returns the path of one key of a file without nesting, whose keys may hold dots.
    pub(crate) fn flat(key: &str) -> Self {
        match Self::parse(key) {
            Ok(path) if path.joined().as_deref() == Some(key) => path,
            _ => Self(vec![Step::Key(key.to_owned())]),
        }
    }

    /// Returns the keys joined by dots, where the path has nothing but keys: how files without nesting read it.
    pub(crate) fn joined(&self) -> Option<String> {
        let keys: Option<Vec<&str>> =
            self.0.iter().map(|s| if let Step::Key(k) = s { Some(&**k) } else { None }).collect();
        keys.filter(|k| !k.is_empty()).map(|k| k.join("."))
    }

    /// Whether it may mean several places.
    pub fn is_wide(&self) -> bool {
        self.0.iter().any(|s| matches!(s, Step::Glob(_) | Step::Every))
    }

    /// Whether it is the whole file.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Returns the path with a key after it.
    #[must_use]
    pub fn key(&self, key: &str) -> Self {
        self.with(Step::Key(key.to_owned()))
    }

    /// Returns how many steps it has.
    pub fn parts(&self) -> usize {
        self.0.len()
    }

    /// Returns its first steps.
    #[must_use]
    pub fn first_parts(&self, count: usize) -> Self {
        Self(self.0.iter().take(count).cloned().collect())
    }

    /// Returns the key of its last step, where that is one.
    pub fn last_key(&self) -> Option<&str> {
        match self.0.last() {
            Some(Step::Key(key)) => Some(key),
            _ => None,
        }
    }

    /// Returns the path with another behind it.
    #[must_use]
    pub fn join(&self, other: &Self) -> Self {
        Self(self.0.iter().chain(&other.0).cloned().collect())
    }

    /// Whether its first steps are those of another.
    pub fn begins_with(&self, other: &Self) -> bool {
        self.0.starts_with(&other.0)
    }

    /// Whether this path, as a pattern, means another one among the places it means.
    pub fn covers(&self, other: &Self) -> bool {
        if let (Some(a), Some(b)) = (self.joined(), other.joined()) {
            return a == b;
        }
        self.0.len() == other.0.len() && self.0.iter().zip(&other.0).all(|(p, s)| covers(p, s))
    }

    /// The path with a key behind what `pattern` covers turned into the position it names.
    pub(crate) fn with_positions(&self, pattern: &Self, names: &[String]) -> Self {
        self.mapped(pattern, |step| {
            let place = |name: &String| names.iter().position(|n| n == name).map(|at| at + 1);
            match step {
                Step::Key(key) => place(key).map(Step::Position),
                Step::Field(name, value) => place(name).map(|at| Step::Field(at.to_string(), value.clone())),
                _ => None,
            }
        })
    }

    /// The path with a position behind what `pattern` covers turned into its name.
    pub(crate) fn with_names(&self, pattern: &Self, names: &[String]) -> Self {
        self.mapped(pattern, |step| match step {
            Step::Position(at) => names.get(at.checked_sub(1)?).cloned().map(Step::Key),
            _ => None,
        })
    }

    fn mapped(&self, pattern: &Self, change: impl Fn(&Step) -> Option<Step>) -> Self {
        let count = pattern.parts();
        let mut out = self.clone();
        let fields = count.checked_sub(1).filter(|_| matches!(pattern.0.last(), Some(Step::Every)));
        // a row chosen by a field of it: `[name=pier]` where rows are `[*]`
        for place in [Some(count), fields].into_iter().flatten() {
            let before = if place == count { pattern.clone() } else { pattern.first_parts(place) };
            if self.parts() > place
                && before.covers(&self.first_parts(place))
                && let Some(step) = self.0.get(place).and_then(&change)
                && let Some(slot) = out.0.get_mut(place)
            {
                *slot = step;
            }
        }
        out
    }

    pub(crate) fn with(&self, step: Step) -> Self {
        let mut steps = self.0.clone();
        steps.push(step);
        Self(steps)
    }
}

fn covers(pattern: &Step, step: &Step) -> bool {
    match (pattern, step) {
        (Step::Glob(p), Step::Key(k) | Step::Glob(k)) => p == "*" || crate::text::glob(p, k),
        (Step::Glob(p), Step::Field(..) | Step::Position(_)) => p == "*",
        (Step::Every, Step::Position(_) | Step::Last | Step::Field(..) | Step::Is(_) | Step::Every) => true,
        (Step::Every, Step::Key(k)) => k.bytes().all(|b| b.is_ascii_digit()),
        (a, b) => a == b,
    }
}

fn signed(rest: &str) -> bool {
    rest.starts_with('=') || rest.starts_with("+=") || rest.starts_with("-=")
}

/// A key, bare or quoted; `None` where none stands.
fn key(text: &str) -> Result<(Option<Step>, &str), String> {
    if let Some((word, rest)) = quoted(text)? {
        return Ok((Some(Step::Key(word)), rest));
    }
    let end = text
        .char_indices()
        .find(|(at, c)| {
            matches!(c, '.' | '[' | ']' | '=' | '"') || matches!(c, '+' | '-') && signed(text.get(*at..).unwrap_or(""))
        })
        .map_or(text.len(), |(at, _)| at);
    let (word, rest) = text.split_at(end);
    let step = match word.trim() {
        "" => None,
        word if word.contains('*') && word.starts_with(['/', '\'']) => {
            return Err(format!("a key with `*` cannot begin with `{}`", word.get(..1).unwrap_or("")));
        }
        word if word.contains('*') => Some(Step::Glob(word.to_owned())),
        word => Some(Step::Key(word.to_owned())),
    };
    Ok((step, rest))
}

/// A word in quotes, if one stands there, and what follows it. A backslash takes the next character as it is.
fn quoted(text: &str) -> Result<Option<(String, &str)>, String> {
    let Some(quote) = text.chars().next().filter(|c| matches!(c, '"' | '\'')) else { return Ok(None) };
    let mut out = String::new();
    let mut escaped = false;
    for (at, c) in text.char_indices().skip(1) {
        match c {
            _ if escaped => {
                out.push(c);
                escaped = false;
            }
            '\\' => escaped = true,
            c if c == quote => return Ok(Some((out, text.get(at + 1..).unwrap_or("")))),
            c => out.push(c),
        }
    }
    Err(format!("the quote `{quote}` is not closed"))
}

/// What stands between brackets; `text` begins after the opening one.
fn selector(text: &str) -> Result<(Step, &str), String> {
    let word = |text: &str, ends: &[char]| -> Result<(String, usize), String> {
        if let Some((word, rest)) = quoted(text)? {
            return Ok((word, text.len() - rest.len()));
        }
        let end = text.find(ends).unwrap_or(text.len());
        Ok((text.get(..end).unwrap_or("").trim().to_owned(), end))
    };
    let (name, end) = word(text, &['=', ']'])?;
    let rest = text.get(end..).unwrap_or("");
    if let Some(after) = rest.strip_prefix('=') {
        let (value, end) = word(after, &[']'])?;
        let rest = after.get(end..).and_then(|r| r.strip_prefix(']')).ok_or("a `]` is missing")?;
        let step = if name.is_empty() { Step::Is(value) } else { Step::Field(name, value) };
        return Ok((step, rest));
    }
    let rest = rest.strip_prefix(']').ok_or("a `]` is missing")?;
    let step = match (&*name, name.parse()) {
        ("*", _) => Step::Every,
        ("last", _) => Step::Last,
        (_, Ok(0)) => return Err("positions count from 1".to_owned()),
        (_, Ok(at)) => Step::Position(at),
        _ => {
            return Err(format!(
                "`[{}]` is no position; write [1], [last], [*] or a field of the element: [name=north]",
                crate::text::clean(&name, 40)
            ));
        }
    };
    Ok((step, rest))
}

/// A pattern between slashes (a slash inside is written `\/`).
fn line_pattern(text: &str) -> Option<(String, &str)> {
    let body = text.strip_prefix('/')?;
    let mut out = String::new();
    let mut escaped = false;
    for (at, c) in body.char_indices() {
        match c {
            '/' if escaped => out.push('/'),
            c if escaped => out.extend(['\\', c]),
            '/' => return Some((out, body.get(at + 1..)?)),
            '\\' => {
                escaped = true;
                continue;
            }
            c => out.push(c),
        }
        escaped = false;
    }
    None
}

fn quote(word: &str) -> String {
    format!("\"{}\"", word.replace('\\', "\\\\").replace('"', "\\\""))
}

impl fmt::Display for Path {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, step) in self.0.iter().enumerate() {
            let dot = if at == 0 { "" } else { "." };
            match step {
                Step::Key(key) => {
                    let strange = ['.', '[', ']', '=', '"', '\'', '*', '\\'];
                    let bare = !key.is_empty()
                        && key.trim() == key
                        && !key.contains(strange)
                        && !key.starts_with('/')
                        && !key.ends_with(['+', '-'])
                        && !key.chars().any(char::is_control);
                    if bare { write!(f, "{dot}{key}")? } else { write!(f, "{dot}{}", quote(key))? }
                }
                Step::Glob(pattern) => write!(f, "{dot}{pattern}")?,
                Step::Position(at) => write!(f, "[{at}]")?,
                Step::Last => f.write_str("[last]")?,
                Step::Every => f.write_str("[*]")?,
                Step::Field(name, value) => write!(f, "[{}={}]", plain(name), plain(value))?,
                Step::Is(value) => write!(f, "[={}]", plain(value))?,
                Step::Line(pattern) => write!(f, "/{}/", pattern.replace('/', "\\/"))?,
            }
        }
        Ok(())
    }
}

/// A word inside brackets: bare where it may be.
fn plain(word: &str) -> String {
    let bare = !word.is_empty()
        && word.trim() == word
        && !word.contains(['=', ']', '"', '\'', '\\'])
        && !word.chars().any(char::is_control);
    if bare { word.to_owned() } else { quote(word) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_read_and_written() {
        for text in [
            "a",
            "a.b.c",
            "core.file",
            "\"core.file\".x",
            "item 48213077.title",
            "stops[3].at[last]",
            "lines[name=north].fare",
            "[1]",
            "[2].rules[*].on",
            "multipliers.*",
            "rate_*.x",
            "at[=\"a]b\"]",
            "[1=greywater].3",
            "/^speed is (\\d+) knots$/",
            "a.\"\".b",
            "@id",
        ] {
            let path = Path::parse(text).unwrap();
            assert_eq!(path.to_string(), text);
            assert_eq!(Path::parse(&path.to_string()).unwrap(), path);
        }
        assert_eq!(Path::parse("'a.b'.c").unwrap().to_string(), "\"a.b\".c");
        assert_eq!(Path::parse("").unwrap(), Path(vec![]));
    }

    #[test]
    fn a_sign_ends_a_path() {
        for (text, path, rest) in [
            ("a.b=2", "a.b", "=2"),
            ("list+=x=y", "list", "+=x=y"),
            ("spawn-rate-=x", "spawn-rate", "-=x"),
            ("\"a=b\"=c", "\"a=b\"", "=c"),
            ("a[name=x].y=1", "a[name=x].y", "=1"),
            ("+=x", "", "+=x"),
            ("/^a=(.*)$/=3", "/^a=(.*)$/", "=3"),
        ] {
            let (read, left) = Path::before_sign(text).unwrap();
            assert_eq!((read.to_string().as_str(), left), (path, rest));
        }
    }

    #[test]
    fn what_is_no_path_says_why() {
        for (text, why) in [
            ("a..b", "a key is missing"),
            ("a.", "it ends in a dot"),
            ("a[0]", "positions count from 1"),
            ("a[north]", "is no position"),
            ("a[1", "a `]` is missing"),
            ("\"a", "is not closed"),
            ("a=b", "in quotes"),
            ("/a", "no closing `/`"),
        ] {
            let error = Path::parse(text).unwrap_err().to_string();
            assert!(error.contains(why), "{text}: {error}");
        }
    }
}
