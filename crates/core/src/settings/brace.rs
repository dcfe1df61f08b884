//! Brace tables of scripting languages: `name = { key = value, { … }, "item" }`; code around them is left alone.

use super::SettingsError;
use super::node::{Entry, Form, Key, Node, Shut, Sort, Span, is_number};

/// Deeper nesting is refused.
const MOST_DEPTH: usize = 64;

/// A token, where it begins and ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Token {
    what: What,
    start: usize,
    end: usize,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum What {
    Word,
    Number,
    Text,
    Sign(char),
    /// A sign of two characters, as `==`.
    Double,
}

pub(crate) fn parse(text: &str) -> Result<Node, SettingsError> {
    let tokens = tokens(text)?;
    let mut reader = Reader { text, tokens, at: 0 };
    let entries = reader.file()?;
    Ok(Node::many(Span::new(0, text.len()), Form::Lines, true, entries))
}

fn tokens(text: &str) -> Result<Vec<Token>, SettingsError> {
    let mut out = Vec::new();
    let mut at = 0;
    while let Some(c) = text.get(at..).and_then(|t| t.chars().next()) {
        let rest = text.get(at..).unwrap_or("");
        if c.is_whitespace() {
            at += c.len_utf8();
            continue;
        }
        if rest.starts_with("--") {
            at += match long(rest.get(2..).unwrap_or("")) {
                Some(length) => {
                    let length = length.map_err(|()| SettingsError::at(text, at, "this comment is not closed"))?;
                    2 + length
                }
                None => rest.find('\n').unwrap_or(rest.len()),
            };
            continue;
        }
        let (what, length) = if c.is_alphabetic() || c == '_' {
            (What::Word, rest.find(|c: char| !(c.is_alphanumeric() || c == '_')).unwrap_or(rest.len()))
        } else if c.is_ascii_digit() {
            let mut end = rest.find(|c: char| !(c.is_alphanumeric() || c == '.')).unwrap_or(rest.len());
            let exponent = rest.get(..end).is_some_and(|n| n.ends_with(['e', 'E']) && !n.starts_with("0x"));
            if exponent && rest.get(end..).is_some_and(|r| r.starts_with(['+', '-'])) {
                let more = rest.get(end + 1..).unwrap_or("");
                end += 1 + more.find(|c: char| !c.is_ascii_digit()).unwrap_or(more.len());
            }
            (What::Number, end)
        } else if matches!(c, '"' | '\'') {
            let open = || SettingsError::at(text, at, "a text is not closed: its end quote is missing");
            (What::Text, quoted(rest, c).ok_or_else(open)?)
        } else if let Some(length) = long(rest) {
            (What::Text, length.map_err(|()| SettingsError::at(text, at, "this long text is not closed"))?)
        } else if ["==", "~=", "!=", "<=", ">=", "..", "::"].iter().any(|d| rest.starts_with(d)) {
            (What::Double, 2)
        } else {
            (What::Sign(c), c.len_utf8())
        };
        out.push(Token { what, start: at, end: at + length.max(1) });
        at += length.max(1);
    }
    Ok(out)
}

/// The length of a quoted text on one line.
fn quoted(rest: &str, quote: char) -> Option<usize> {
    let mut escaped = false;
    for (at, c) in rest.char_indices().skip(1) {
        match c {
            _ if escaped => escaped = false,
            '\\' => escaped = true,
            '\n' => return None,
            c if c == quote => return Some(at + 1),
            _ => {}
        }
    }
    None
}

/// The length of a long text `[[ … ]]` or `[=[ … ]=]`; an error when it is not closed.
fn long(rest: &str) -> Option<Result<usize, ()>> {
    let after = rest.strip_prefix('[')?;
    let level = after.len() - after.trim_start_matches('=').len();
    after.get(level..)?.strip_prefix('[')?;
    let close = format!("]{}]", "=".repeat(level));
    Some(rest.find(&close).map(|at| at + close.len()).ok_or(()))
}

struct Reader<'a> {
    text: &'a str,
    tokens: Vec<Token>,
    at: usize,
}

impl Reader<'_> {
    fn peek(&self, ahead: usize) -> Option<Token> {
        self.tokens.get(self.at + ahead).copied()
    }

    fn sign(&self, ahead: usize, sign: char) -> bool {
        self.peek(ahead).is_some_and(|t| t.what == What::Sign(sign))
    }

    fn word(&self, token: Token) -> &str {
        self.text.get(token.start..token.end).unwrap_or("")
    }

    /// The assignments of the file that stand in no function or block, and a returned table.
    fn file(&mut self) -> Result<Vec<Entry>, SettingsError> {
        let mut out: Vec<Entry> = Vec::new();
        let mut depth = 0usize;
        let mut round = 0usize;
        while let Some(token) = self.peek(0) {
            let word = if token.what == What::Word { self.word(token) } else { "" };
            match (word, token.what) {
                ("function" | "if" | "do" | "repeat", _) => depth += 1,
                ("end" | "until", _) => depth = depth.saturating_sub(1),
                (_, What::Sign('(')) => round += 1,
                (_, What::Sign(')')) => round = round.saturating_sub(1),
                ("return", _) if depth == 0 && self.sign(1, '{') => {
                    self.at += 1;
                    let node = self.value(0)?;
                    let key = Key { span: Span::new(token.start, token.end), cooked: None };
                    out.push(Entry::keyed(key, node));
                    continue;
                }
                (_, What::Sign('}')) if depth == 0 && round == 0 => {
                    return Err(SettingsError::at(self.text, token.start, "a `}` too many: no table is open here"));
                }
                (word, What::Word) if depth == 0 && round == 0 && word != "local" => {
                    if let Some(entry) = self.assignment(token)? {
                        let name = entry.key.as_ref().map_or("", |k| k.span.of(self.text)).to_owned();
                        match out.iter_mut().find(|e| e.is(self.text, &name)) {
                            Some(first) => super::flat::again(first, entry),
                            None => out.push(entry),
                        }
                        continue;
                    }
                }
                _ => {}
            }
            self.at += 1;
        }
        Ok(out)
    }

    /// `name = value` or `a.b.name = value`, if that stands here.
    fn assignment(&mut self, first: Token) -> Result<Option<Entry>, SettingsError> {
        let mut ahead = 1;
        let mut end = first.end;
        while self.sign(ahead, '.') && self.peek(ahead + 1).is_some_and(|t| t.what == What::Word) {
            end = self.peek(ahead + 1).map_or(end, |t| t.end);
            ahead += 2;
        }
        if !self.sign(ahead, '=') {
            return Ok(None);
        }
        self.at += ahead + 1;
        let key = Key { span: Span::new(first.start, end), cooked: None };
        let node = self.value(0)?;
        Ok(Some(Entry::keyed(key, node)))
    }

    /// A value; in the file itself (`depth` 0) code ends with its line.
    fn value(&mut self, depth: usize) -> Result<Node, SettingsError> {
        let Some(token) = self.peek(0) else {
            return Err(SettingsError::at(self.text, self.text.trim_end().len(), "a value is missing at the end"));
        };
        if token.what == What::Sign('{') {
            if depth >= MOST_DEPTH {
                return Err(SettingsError::at(self.text, token.start, "is nested too deeply"));
            }
            let node = self.table(token, depth)?;
            return Ok(if self.ends(depth, node.span.end()) { node } else { self.code(token.start, depth) });
        }
        let minus = usize::from(token.what == What::Sign('-') && self.peek(1).is_some_and(|t| t.what == What::Number));
        let last = self.peek(minus).unwrap_or(token);
        let span = Span::new(token.start, last.end);
        let raw = span.of(self.text);
        let node = match last.what {
            What::Text if raw.starts_with('[') => {
                let level = raw.find("[").map_or(0, |_| raw.get(1..).and_then(|r| r.find('[')).unwrap_or(0)) + 2;
                let inner = raw.get(level..raw.len() - level).unwrap_or("");
                Node::one(span, Sort::Text, 0, Some(inner.strip_prefix('\n').unwrap_or(inner).into()))
            }
            What::Text => Node::one(span, Sort::Text, 1, unescaped(raw)),
            What::Number => {
                let known = is_number(raw) || raw.starts_with("0x");
                let sort = if known { Sort::Number } else { Sort::Text };
                Node { shut: (!known).then_some(Shut::Code), ..Node::one(span, sort, 0, None) }
            }
            What::Word => match raw {
                "true" | "false" => Node::one(span, Sort::Flag, 0, None),
                "nil" | "null" => Node::one(span, Sort::Nothing, 0, None),
                _ => return Ok(self.code(token.start, depth)),
            },
            What::Sign(',' | ';' | '}') => {
                let why = "a value is missing before this";
                return Err(SettingsError::at(self.text, token.start, why));
            }
            _ => return Ok(self.code(token.start, depth)),
        };
        self.at += minus + 1;
        if self.ends(depth, span.end()) {
            return Ok(node);
        }
        Ok(self.code(token.start, depth))
    }

    /// Whether an expression ends here.
    fn ends(&self, depth: usize, at: usize) -> bool {
        let Some(next) = self.peek(0) else { return true };
        match next.what {
            What::Sign(',' | ';' | '}' | ']') => true,
            // a lost comma is told as such by the table
            What::Text | What::Number | What::Sign('{') if depth > 0 => true,
            What::Word if depth > 0 => !matches!(self.word(next), "and" | "or"),
            What::Word => {
                !matches!(self.word(next), "and" | "or")
                    && self.text.get(at..next.start).is_some_and(|g| g.contains('\n'))
            }
            _ => false,
        }
    }

    /// An expression that is left alone: up to the separator, or in the file itself up to the end of its line.
    fn code(&mut self, start: usize, depth: usize) -> Node {
        let mut open = 0usize;
        let mut end = start;
        while let Some(token) = self.peek(0) {
            if token.start < start {
                self.at += 1;
                continue;
            }
            let fresh = depth == 0 && end > start && self.text.get(end..token.start).is_some_and(|g| g.contains('\n'));
            let word = if token.what == What::Word { self.word(token) } else { "" };
            match (token.what, word) {
                (_, _) if open == 0 && fresh => break,
                (What::Sign(',' | ';' | '}'), _) if open == 0 && depth > 0 => break,
                (What::Sign('(' | '{' | '['), _) | (_, "function" | "if" | "do" | "repeat") => open += 1,
                (What::Sign(')' | '}' | ']'), _) | (_, "end" | "until") => open = open.saturating_sub(1),
                _ => {}
            }
            end = token.end;
            self.at += 1;
        }
        let span = Span::new(start, end);
        Node { shut: Some(Shut::Code), ..Node::one(span, Sort::Text, 0, None) }
    }

    fn table(&mut self, open: Token, depth: usize) -> Result<Node, SettingsError> {
        self.at += 1;
        let mut entries: Vec<Entry> = Vec::new();
        let mut keys: std::collections::HashMap<String, usize> = std::collections::HashMap::new();
        let mut map = false;
        loop {
            let Some(token) = self.peek(0) else {
                let (line, _) = crate::text::line_column(self.text, open.start);
                let end = self.text.trim_end().len();
                return Err(SettingsError::at(self.text, end, format!("the `{{` of line {line} is not closed")));
            };
            if token.what == What::Sign('}') {
                self.at += 1;
                let span = Span::new(open.start, token.end);
                return Ok(Node::many(span, Form::Bracket, map, entries));
            }
            let entry = self.entry(token, depth)?;
            if let Some(key) = &entry.key {
                map = true;
                let name = key.text(self.text).to_owned();
                if let Some(first) = keys.insert(name.clone(), key.span.start()) {
                    let (first, _) = crate::text::line_column(self.text, first);
                    let name = crate::text::clean(&name, 40);
                    let why = format!("`{name}` stands here and on line {first}; keep one of the two");
                    return Err(SettingsError::at(self.text, key.span.start(), why));
                }
            }
            entries.push(entry);
            match self.peek(0) {
                Some(Token { what: What::Sign(',' | ';'), .. }) => self.at += 1,
                Some(Token { what: What::Sign('}'), .. }) | None => {}
                Some(next) => {
                    return Err(SettingsError::at(self.text, next.start, "a comma is missing before this"));
                }
            }
        }
    }

    fn entry(&mut self, token: Token, depth: usize) -> Result<Entry, SettingsError> {
        if token.what == What::Word && self.sign(1, '=') {
            let key = Key { span: Span::new(token.start, token.end), cooked: None };
            self.at += 2;
            return Ok(Entry::keyed(key, self.value(depth + 1)?));
        }
        if token.what == What::Sign('[')
            && self.sign(2, ']')
            && self.sign(3, '=')
            && let (Some(inner), Some(close)) = (self.peek(1), self.peek(2))
        {
            let raw = self.word(inner);
            let name = match inner.what {
                What::Text => unescaped(raw).unwrap_or_else(|| raw.get(1..raw.len() - 1).unwrap_or("").into()),
                _ => raw.into(),
            };
            self.at += 4;
            let key = Key { span: Span::new(token.start, close.end), cooked: Some(name) };
            return Ok(Entry::keyed(key, self.value(depth + 1)?));
        }
        Ok(Entry::bare(self.value(depth + 1)?))
    }
}

/// A quoted text without its escapes; `None` where it has none.
fn unescaped(raw: &str) -> Option<Box<str>> {
    if !raw.contains('\\') {
        return None;
    }
    let mut out = String::new();
    let mut characters = raw.get(1..raw.len() - 1)?.chars();
    while let Some(c) = characters.next() {
        match (c, if c == '\\' { characters.next() } else { None }) {
            ('\\', Some('n')) => out.push('\n'),
            ('\\', Some('t')) => out.push('\t'),
            ('\\', Some('r')) => out.push('\r'),
            ('\\', Some(c)) => out.push(c),
            (c, _) => out.push(c),
        }
    }
    Some(out.into())
}
