//! JSON, with or without comments and trailing commas, over the tokens of a well-kept scanner.

use jsonc_parser::tokens::Token;
use jsonc_parser::{Scanner, ScannerOptions};

use super::SettingsError;
use super::node::{Entry, Form, Key, Node, Sort, Span};

/// Deeper nesting is refused.
pub(crate) const MOST_DEPTH: usize = 128;

pub(crate) fn parse(text: &str) -> Result<Node, SettingsError> {
    let options = ScannerOptions {
        allow_single_quoted_strings: false,
        allow_hexadecimal_numbers: false,
        allow_unary_plus_numbers: false,
        allow_bare_decimal_point_numbers: false,
        allow_non_finite_numbers: false,
        allow_extended_string_escapes: false,
    };
    let mut reader = Reader { text, scanner: Scanner::new(text, &options), next: None, span: (0, 0), last: 0 };
    reader.advance()?;
    let node = reader.value(0)?;
    match reader.next {
        None => Ok(node),
        Some(_) => Err(reader.fail("the file ends here, and more follows")),
    }
}

struct Reader<'a> {
    text: &'a str,
    scanner: Scanner<'a>,
    next: Option<Token<'a>>,
    span: (usize, usize),
    /// Where the token before ended.
    last: usize,
}

impl<'a> Reader<'a> {
    /// Goes to the next token that is no comment.
    fn advance(&mut self) -> Result<(), SettingsError> {
        self.last = self.span.1;
        loop {
            let from = self.scanner.token_end();
            let token = self.scanner.scan().map_err(|e| {
                let at = e.range().start;
                let why = match self.text.get(at..).and_then(|t| t.chars().next()) {
                    Some('"') => "a text is not closed: its end quote is missing".to_owned(),
                    Some('\'') => "texts stand in double quotes here".to_owned(),
                    _ => format!("this cannot be read ({})", crate::text::clean(&e.kind().to_string(), 80)),
                };
                SettingsError::at(self.text, at, why)
            })?;
            self.span = (self.scanner.token_start(), self.scanner.token_end());
            // the scanner forgives white space that JSON does not have
            let gap = self.text.get(from..self.span.0).unwrap_or("");
            if let Some(at) = gap.find(|c| !matches!(c, ' ' | '\t' | '\n' | '\r')) {
                return Err(SettingsError::at(self.text, from + at, "an invisible character stands here; take it out"));
            }
            match token {
                Some(Token::CommentLine(_) | Token::CommentBlock(_)) => {}
                other => {
                    self.next = other;
                    return Ok(());
                }
            }
        }
    }

    fn fail(&self, why: impl Into<String>) -> SettingsError {
        let at = if self.next.is_none() { self.text.trim_end().len() } else { self.span.0 };
        SettingsError::at(self.text, at, why)
    }

    fn raw(&self) -> &'a str {
        self.text.get(self.span.0..self.span.1).unwrap_or("")
    }

    fn value(&mut self, depth: usize) -> Result<Node, SettingsError> {
        if depth > MOST_DEPTH {
            return Err(self.fail("is nested too deeply"));
        }
        let (start, end) = self.span;
        let span = Span::new(start, end);
        let node = match self.next.take() {
            Some(Token::OpenBrace) => return self.many(start, true, depth),
            Some(Token::OpenBracket) => return self.many(start, false, depth),
            Some(Token::String(text)) => Node::one(span, Sort::Text, 1, self.cooked(&text)?),
            Some(Token::Number(_)) => Node::one(span, Sort::Number, 0, None),
            Some(Token::Boolean(_)) => Node::one(span, Sort::Flag, 0, None),
            Some(Token::Null) => Node::one(span, Sort::Nothing, 0, None),
            None => return Err(SettingsError::at(self.text, self.text.trim_end().len(), "a value is missing")),
            Some(Token::Word(word)) => {
                let why = format!("`{}` is no value; texts stand in double quotes", crate::text::clean(word, 40));
                return Err(SettingsError::at(self.text, start, why));
            }
            Some(Token::Comma) => return Err(SettingsError::at(self.text, start, "a comma with no value before it")),
            Some(_) => return Err(SettingsError::at(self.text, start, "a value is missing before this")),
        };
        self.advance()?;
        Ok(node)
    }

    /// The text of a string where it is not its bytes; JSON has no control characters in texts.
    fn cooked(&self, text: &str) -> Result<Option<Box<str>>, SettingsError> {
        let raw = self.raw();
        if let Some(at) = raw.find(|c: char| u32::from(c) < 0x20) {
            let why = "a text is not closed: its end quote is missing, or it runs over a line end";
            return Err(SettingsError::at(
                self.text,
                if raw.contains('\n') { self.span.0 } else { self.span.0 + at },
                why,
            ));
        }
        Ok(raw.contains('\\').then(|| text.into()))
    }

    fn many(&mut self, start: usize, map: bool, depth: usize) -> Result<Node, SettingsError> {
        self.advance()?;
        let mut entries: Vec<Entry> = Vec::new();
        let mut keys = std::collections::HashSet::new();
        loop {
            match self.next {
                Some(Token::CloseBrace) if map => break,
                Some(Token::CloseBracket) if !map => break,
                _ => {}
            }
            let entry = if map { self.keyed(depth)? } else { Entry::bare(self.value(depth + 1)?) };
            if let Some(key) = &entry.key
                && !keys.insert(key.text(self.text).to_owned())
            {
                let first = entries.iter().find(|e| e.is(self.text, key.text(self.text)));
                let line = first.map_or(0, |e| crate::text::line_column(self.text, e.whole.start()).0);
                let name = crate::text::clean(key.text(self.text), 40);
                let why = format!("`{name}` stands here and on line {line}; keep one of the two");
                return Err(SettingsError::at(self.text, key.span.start(), why));
            }
            entries.push(entry);
            match self.next {
                Some(Token::Comma) => self.advance()?,
                Some(Token::CloseBrace) if map => break,
                Some(Token::CloseBracket) if !map => break,
                None => {
                    let (line, _) = crate::text::line_column(self.text, start);
                    let sign = if map { '{' } else { '[' };
                    return Err(self.fail(format!("the `{sign}` of line {line} is not closed")));
                }
                Some(Token::CloseBrace | Token::CloseBracket) => {
                    let (line, _) = crate::text::line_column(self.text, start);
                    let sign = if map { '{' } else { '[' };
                    return Err(self.fail(format!("the `{sign}` of line {line} is not closed before this")));
                }
                Some(_) => {
                    let (line, column) = crate::text::line_column(self.text, self.last);
                    let why = format!("a comma is missing before this, after line {line}, column {}", column - 1);
                    return Err(self.fail(why));
                }
            }
        }
        let end = self.span.1;
        self.advance()?;
        Ok(Node::many(Span::new(start, end), Form::Bracket, map, entries))
    }

    fn keyed(&mut self, depth: usize) -> Result<Entry, SettingsError> {
        let span = Span::new(self.span.0, self.span.1);
        let key = match self.next.take() {
            Some(Token::String(text)) => {
                let cooked = match self.cooked(&text)? {
                    Some(text) => text,
                    None => text.into(),
                };
                Key { span, cooked: Some(cooked) }
            }
            None => return Err(SettingsError::at(self.text, self.text.trim_end().len(), "the file ends inside a `{`")),
            Some(Token::Comma) => {
                return Err(SettingsError::at(self.text, span.start(), "a comma too many: no key stands before it"));
            }
            Some(Token::Word(word)) => {
                let why = format!("the key `{}` must stand in double quotes", crate::text::clean(word, 40));
                return Err(SettingsError::at(self.text, span.start(), why));
            }
            Some(_) => {
                return Err(SettingsError::at(self.text, span.start(), "a key in double quotes must stand here"));
            }
        };
        self.advance()?;
        if self.next != Some(Token::Colon) {
            return Err(self.fail("a `:` is missing before this"));
        }
        self.advance()?;
        Ok(Entry::keyed(key, self.value(depth + 1)?))
    }
}
