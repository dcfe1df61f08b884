//! A settings file's bytes as text that can be written back byte for byte.

use super::SettingsError;

/// How the bytes stand for characters.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Encoding {
    Utf8,
    /// One byte a character, ISO 8859-1.
    Latin1,
}

/// A file's text with what is needed to write it back: its encoding and whether a byte-order mark leads it.
#[derive(Debug, Clone)]
pub(crate) struct Source {
    pub(crate) text: String,
    encoding: Encoding,
    mark: bool,
}

/// The byte-order mark of UTF-8.
const MARK: &[u8] = b"\xef\xbb\xbf";

impl Source {
    /// Reads bytes: UTF-8, or Latin-1 where every byte above ASCII is a printed character of it.
    ///
    /// # Errors
    /// A binary file, or one whose encoding is not certain.
    pub(crate) fn read(bytes: &[u8]) -> Result<Self, SettingsError> {
        let mark = bytes.starts_with(MARK);
        let body = if mark { bytes.get(MARK.len()..).unwrap_or_default() } else { bytes };
        let place = |at: usize| {
            let before = body.get(..at).unwrap_or_default();
            let line = before.iter().filter(|b| **b == b'\n').count() + 1;
            let start = before.iter().rposition(|b| *b == b'\n').map_or(0, |p| p + 1);
            (line, at - start + 1)
        };
        if body.len() > u32::MAX as usize / 2 {
            return Err(SettingsError::new(1, 1, "is far too large for a settings file"));
        }
        if bytes.starts_with(b"\xff\xfe") || bytes.starts_with(b"\xfe\xff") {
            return Err(SettingsError::new(1, 1, "is UTF-16 text; save it as UTF-8"));
        }
        let strange = |b: &u8| *b < 0x20 && !matches!(b, b'\t' | b'\n' | b'\r' | 0x0c);
        if let Some(at) = body.iter().position(strange) {
            let (line, column) = place(at);
            return Err(SettingsError::new(line, column, "holds control characters: it is no text file"));
        }
        match std::str::from_utf8(body) {
            Ok(text) => Ok(Self { text: text.to_owned(), encoding: Encoding::Utf8, mark }),
            Err(wrong) => {
                // 0x80 to 0x9f are no characters of Latin-1: another encoding, and nobody says which
                let doubtful = body.iter().position(|b| (0x80..0xa0).contains(b));
                match doubtful {
                    None if !mark => {
                        let text = body.iter().map(|b| char::from(*b)).collect();
                        Ok(Self { text, encoding: Encoding::Latin1, mark })
                    }
                    _ => {
                        let (line, column) = place(doubtful.unwrap_or(wrong.valid_up_to()));
                        let why = "is neither UTF-8 nor Latin-1 text; save it as UTF-8";
                        Err(SettingsError::new(line, column, why))
                    }
                }
            }
        }
    }

    /// Returns the bytes of a text in this file's encoding.
    ///
    /// # Errors
    /// A character that the file's encoding does not have.
    pub(crate) fn write(&self, text: &str) -> Result<Vec<u8>, SettingsError> {
        match self.encoding {
            Encoding::Utf8 if self.mark => Ok([MARK, text.as_bytes()].concat()),
            Encoding::Utf8 => Ok(text.as_bytes().to_vec()),
            Encoding::Latin1 => {
                let mut out = Vec::with_capacity(text.len());
                for (at, c) in text.char_indices() {
                    let byte = u8::try_from(u32::from(c)).map_err(|_| {
                        let why = format!("the file is Latin-1 text, which has no `{c}`; save it as UTF-8 first");
                        SettingsError::at(text, at, why)
                    })?;
                    out.push(byte);
                }
                Ok(out)
            }
        }
    }

    /// Checks that a text can be written in this file's encoding.
    ///
    /// # Errors
    /// A character that it does not have.
    pub(crate) fn check(&self, text: &str) -> Result<(), SettingsError> {
        if self.encoding == Encoding::Utf8 { Ok(()) } else { self.write(text).map(|_| ()) }
    }

    /// Whether this text's bytes are read back as this text: what is left of a file could look like another encoding.
    pub(crate) fn is_plain(&self, text: &str) -> bool {
        let usual = self.encoding == Encoding::Utf8 && (self.mark || !text.starts_with('\u{feff}'));
        let bytes = || self.write(text).ok();
        usual || bytes().and_then(|b| Self::read(&b).ok()).is_some_and(|again| again.text == text)
    }

    /// Returns the file's bytes.
    pub(crate) fn bytes(&self) -> Vec<u8> {
        self.write(&self.text).unwrap_or_default()
    }
}

/// Returns the line end that most lines of a text have.
pub(crate) fn line_end(text: &str) -> &'static str {
    // the first thousand line ends tell
    let (mut windows, mut all) = (0, 0);
    for (at, _) in text.match_indices('\n').take(1000) {
        all += 1;
        windows += usize::from(at > 0 && text.as_bytes().get(at - 1) == Some(&b'\r'));
    }
    if windows * 2 > all { "\r\n" } else { "\n" }
}

/// Returns where the line that holds `at` starts.
pub(crate) fn line_start(text: &str, at: usize) -> usize {
    text.get(..at).and_then(|t| t.rfind('\n')).map_or(0, |p| p + 1)
}

/// Returns where the line that holds `at` ends, before its line end.
pub(crate) fn line_stop(text: &str, at: usize) -> usize {
    match text.get(at..).and_then(|t| t.find('\n')) {
        Some(p) if p > 0 && text.as_bytes().get(at + p - 1) == Some(&b'\r') => at + p - 1,
        Some(p) => at + p,
        None => text.len(),
    }
}

/// Returns where the line after the one that holds `at` starts.
pub(crate) fn next_line(text: &str, at: usize) -> usize {
    text.get(at..).and_then(|t| t.find('\n')).map_or(text.len(), |p| at + p + 1)
}

/// Returns the white space that the line holding `at` begins with.
pub(crate) fn indent(text: &str, at: usize) -> &str {
    let start = line_start(text, at);
    let line = text.get(start..).unwrap_or("");
    line.get(..line.len() - line.trim_start_matches([' ', '\t']).len()).unwrap_or("")
}

/// Returns the line end of the line that holds `at`, or the usual one where that line has none.
pub(crate) fn end_of_line(text: &str, at: usize) -> &'static str {
    let next = next_line(text, at);
    let line = text.as_bytes().get(..next).unwrap_or_default();
    if line.ends_with(b"\r\n") {
        "\r\n"
    } else if line.ends_with(b"\n") {
        "\n"
    } else {
        line_end(text)
    }
}
