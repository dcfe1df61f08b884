//! What a settings file says, as a tree whose parts know which bytes of the text they are.

use std::borrow::Cow;
use std::ops::Range;

use serde::Deserialize;

/// A range of bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct Span {
    pub(crate) start: u32,
    pub(crate) end: u32,
}

impl Span {
    /// Files are bounded (see [`super::source::Source::read`]), so positions fit.
    pub(crate) fn new(start: usize, end: usize) -> Self {
        let fit = |n: usize| u32::try_from(n).unwrap_or(u32::MAX);
        Self { start: fit(start), end: fit(end.max(start)) }
    }

    pub(crate) fn start(self) -> usize {
        self.start as usize
    }

    pub(crate) fn end(self) -> usize {
        self.end as usize
    }

    pub(crate) fn range(self) -> Range<usize> {
        self.start()..self.end()
    }

    pub(crate) fn of(self, text: &str) -> &str {
        text.get(self.range()).unwrap_or("")
    }

    pub(crate) fn join(self, other: Self) -> Self {
        Self { start: self.start.min(other.start), end: self.end.max(other.end) }
    }
}

/// What a single value is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Sort {
    /// Nothing (`null`, or a key without a value).
    Nothing,
    /// `true` or `false`.
    Flag,
    /// A number.
    Number,
    /// Text.
    Text,
}

impl Sort {
    /// Returns its name, as `--as` and the roster write it.
    pub fn name(self) -> &'static str {
        match self {
            Sort::Nothing => "nothing",
            Sort::Flag => "flag",
            Sort::Number => "number",
            Sort::Text => "text",
        }
    }

    /// Returns the word for people.
    pub fn word(self) -> &'static str {
        match self {
            Sort::Nothing => "nothing",
            Sort::Flag => "true or false",
            Sort::Number => "a number",
            Sort::Text => "text",
        }
    }
}

/// How the entries of a list or map are laid out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Form {
    /// Between brackets, parted by a separator.
    Bracket,
    /// One entry after the other, each on lines of its own, told by indentation (YAML).
    Block,
    /// Lines after a header (TOML, INI), or a whole file of lines.
    Lines,
    /// The keys that begin with the same word (`a.b`, `a.c` in TOML).
    Dotted,
    /// No header of its own, only headers below it (`[a.b]` for `a` in TOML).
    Implied,
    /// Parts of one line (a row of a table).
    Row,
    /// Statements between braces.
    Braces,
    /// An element of XML.
    Element,
    /// No list in the file: the same key several times.
    Again,
}

/// Why a value is read and never edited.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Shut {
    /// A YAML alias.
    Alias,
    /// A YAML value that aliases elsewhere repeat.
    Anchored,
    /// A YAML value with a tag.
    Tagged,
    /// An expression or function of a script.
    Code,
    /// XML text with elements in between.
    Mixed,
}

impl Shut {
    pub(crate) fn why(self) -> &'static str {
        match self {
            Shut::Alias => "is an alias (`*name`): it repeats what stands elsewhere; change it there",
            Shut::Anchored => "has an anchor (`&name`) that other places repeat; an edit would change those, too",
            Shut::Tagged => "carries a tag (`!name`), which only the server understands",
            Shut::Code => "is code, which is left alone",
            Shut::Mixed => "is text with elements in between, which is left alone",
        }
    }
}

/// A single value, a list or a map.
#[derive(Debug, Clone)]
pub(crate) struct Node {
    /// The value's bytes, quotes and brackets included.
    pub(crate) span: Span,
    pub(crate) body: Body,
    pub(crate) shut: Option<Shut>,
}

#[derive(Debug, Clone)]
pub(crate) enum Body {
    One(One),
    Many(Many),
}

/// A single value.
#[derive(Debug, Clone)]
pub(crate) struct One {
    pub(crate) sort: Sort,
    /// How many bytes at both ends of the span are quotes.
    pub(crate) quotes: u8,
    /// The text, where it is not simply what stands between the quotes.
    pub(crate) cooked: Option<Box<str>>,
}

/// A list (no entry has a key) or a map.
#[derive(Debug, Clone)]
pub(crate) struct Many {
    pub(crate) form: Form,
    pub(crate) map: bool,
    pub(crate) entries: Vec<Entry>,
}

#[derive(Debug, Clone)]
pub(crate) struct Entry {
    pub(crate) key: Option<Key>,
    /// From the key (or the value, in a list) to the end of the value.
    pub(crate) whole: Span,
    pub(crate) node: Node,
}

#[derive(Debug, Clone)]
pub(crate) struct Key {
    /// The key's bytes, quotes included.
    pub(crate) span: Span,
    /// The key, where it is not simply those bytes.
    pub(crate) cooked: Option<Box<str>>,
}

impl Key {
    pub(crate) fn text<'a>(&'a self, text: &'a str) -> &'a str {
        self.cooked.as_deref().unwrap_or_else(|| self.span.of(text))
    }
}

impl Entry {
    pub(crate) fn keyed(key: Key, node: Node) -> Self {
        Self { whole: key.span.join(node.span), key: Some(key), node }
    }

    pub(crate) fn bare(node: Node) -> Self {
        Self { key: None, whole: node.span, node }
    }

    pub(crate) fn is(&self, text: &str, key: &str) -> bool {
        self.key.as_ref().is_some_and(|k| k.text(text) == key)
    }
}

impl Node {
    pub(crate) fn one(span: Span, sort: Sort, quotes: u8, cooked: Option<Box<str>>) -> Self {
        Self { span, body: Body::One(One { sort, quotes, cooked }), shut: None }
    }

    pub(crate) fn many(span: Span, form: Form, map: bool, entries: Vec<Entry>) -> Self {
        Self { span, body: Body::Many(Many { form, map, entries }), shut: None }
    }

    /// A value of a format without types: what it looks like is what it is taken for.
    pub(crate) fn by_look(text: &str, span: Span) -> Self {
        let raw = span.of(text);
        let quoted = raw.len() >= 2
            && (raw.starts_with('"') && raw.ends_with('"') || raw.starts_with('\'') && raw.ends_with('\''));
        if quoted {
            return Self::one(span, Sort::Text, 1, None);
        }
        Self::one(span, look(raw), 0, None)
    }

    pub(crate) fn entries(&self) -> &[Entry] {
        match &self.body {
            Body::Many(many) => &many.entries,
            Body::One(_) => &[],
        }
    }

    pub(crate) fn as_many(&self) -> Option<&Many> {
        match &self.body {
            Body::Many(many) => Some(many),
            Body::One(_) => None,
        }
    }

    pub(crate) fn as_one(&self) -> Option<&One> {
        match &self.body {
            Body::One(one) => Some(one),
            Body::Many(_) => None,
        }
    }

    pub(crate) fn is_nothing(&self) -> bool {
        self.as_one().is_some_and(|o| o.sort == Sort::Nothing)
    }

    /// The single value's text.
    pub(crate) fn text<'a>(&'a self, text: &'a str) -> Option<Cow<'a, str>> {
        let one = self.as_one()?;
        Some(match &one.cooked {
            Some(cooked) => Cow::Borrowed(cooked),
            None => {
                let q = usize::from(one.quotes);
                Cow::Borrowed(text.get(self.span.start() + q..self.span.end().saturating_sub(q)).unwrap_or(""))
            }
        })
    }

    /// The entry at the end of a way of positions, and what leads there.
    pub(crate) fn follow(&self, trail: &[usize]) -> Option<&Node> {
        trail.iter().try_fold(self, |node, at| node.entries().get(*at).map(|e| &e.node))
    }
}

/// What a bare word looks like.
pub(crate) fn look(raw: &str) -> Sort {
    match raw {
        "" => Sort::Text,
        "true" | "false" => Sort::Flag,
        _ if is_number(raw) => Sort::Number,
        _ => Sort::Text,
    }
}

/// Whether a text is a number as people and JSON write it: `-12`, `0.5`, `1e6`; not `1.2.3`, `.5`, `0x1f` or `007`.
pub(crate) fn is_number(raw: &str) -> bool {
    let digits = raw.strip_prefix('-').unwrap_or(raw);
    let (mantissa, exponent) = match digits.find(['e', 'E']) {
        Some(at) => (digits.get(..at).unwrap_or(""), digits.get(at + 1..)),
        None => (digits, None),
    };
    let (whole, part) = match mantissa.split_once('.') {
        Some((whole, part)) => (whole, Some(part)),
        None => (mantissa, None),
    };
    let all = |t: &str| !t.is_empty() && t.bytes().all(|b| b.is_ascii_digit());
    all(whole)
        && (whole.len() == 1 || !whole.starts_with('0'))
        && part.is_none_or(all)
        && exponent.is_none_or(|e| all(e.strip_prefix(['+', '-']).unwrap_or(e)))
}
