//! Text that comes from strangers, and words that are nearly right.

/// Returns `text` fit for a terminal: control characters become `·`, and it is cut at `most` characters.
pub fn clean(text: &str, most: usize) -> String {
    let mut out = String::new();
    for (count, c) in text.chars().enumerate() {
        if count == most {
            out.push('…');
            break;
        }
        out.push(if is_hidden(c) { '·' } else { c });
    }
    out
}

/// Whether a character could move the cursor, colour the screen or turn the reading direction.
fn is_hidden(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{feff}')
}

/// Returns the word of `known` nearest to `word`, if one is near enough to be meant.
pub fn nearest<'a>(word: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let lower = word.to_lowercase();
    known
        .into_iter()
        .map(|k| (strsim::damerau_levenshtein(&lower, &k.to_lowercase()), k))
        .filter(|(distance, k)| *distance <= 1 + k.chars().count().min(word.chars().count()) / 4)
        .min_by_key(|(distance, k)| (*distance, k.len()))
        .map(|(_, k)| k)
}

/// Returns `", did you mean X?"` when a known word is near, else nothing.
pub fn did_you_mean<'a>(word: &str, known: impl IntoIterator<Item = &'a str>) -> String {
    nearest(word, known).map_or_else(String::new, |k| format!(", did you mean `{k}`?"))
}

/// Returns line and column (both from 1, the column in characters) of a byte offset in `text`.
pub fn line_column(text: &str, offset: usize) -> (usize, usize) {
    let before = text.get(..offset.min(text.len())).unwrap_or(text);
    let line = before.matches('\n').count() + 1;
    let column = before.rsplit('\n').next().unwrap_or("").chars().count() + 1;
    (line, column)
}

/// Whether a path matches a glob pattern: `*` within a part, `**` over parts, `?`, `[…]`, `{a,b}`.
pub fn glob(pattern: &str, path: &str) -> bool {
    fast_glob::glob_match(pattern, path)
}

/// Returns names as a person lists them: `a`, `a and b`, `a, b and c`.
pub fn listed(names: &[String]) -> String {
    match names {
        [] => String::new(),
        [one] => one.clone(),
        [rest @ .., last] => format!("{} and {last}", rest.join(", ")),
    }
}

/// Returns a count with its noun: `1 item`, `3 items`.
pub fn counted(count: usize, one: &str) -> String {
    if count == 1 { format!("1 {one}") } else { format!("{count} {one}s") }
}

/// Returns a byte count for people: `312 B`, `4.1 KB`, `12.0 MB` (steps of 1,000).
pub fn bytes(count: u64) -> String {
    const UNITS: [&str; 5] = ["KB", "MB", "GB", "TB", "PB"];
    if count < 1000 {
        return format!("{count} B");
    }
    let mut tenths = count / 100;
    let mut unit = 0;
    while tenths >= 10_000 && unit + 1 < UNITS.len() {
        tenths /= 1000;
        unit += 1;
    }
    format!("{}.{} {}", tenths / 10, tenths % 10, UNITS.get(unit).copied().unwrap_or("PB"))
}

/// Returns a word with its article: `an arena`, `a land`.
pub fn a(word: &str) -> String {
    let vowel = word.chars().next().is_some_and(|c| "aeiouAEIOU".contains(c));
    format!("{} {word}", if vowel { "an" } else { "a" })
}

/// Returns what lines a text loses and gains on the way to another, in a few words: ` (- fog = 1, + fog = 2)`.
pub fn line_changes(before: &str, after: &str) -> String {
    let lines = |text: &str| text.lines().map(str::trim).map(str::to_owned).collect::<Vec<_>>();
    let (old, new) = (lines(before), lines(after));
    let gone = old.iter().filter(|l| !l.is_empty() && !new.contains(l)).map(|l| format!("- {}", clean(l, 60)));
    let come = new.iter().filter(|l| !l.is_empty() && !old.contains(l)).map(|l| format!("+ {}", clean(l, 60)));
    let all: Vec<String> = gone.chain(come).collect();
    match all.len() {
        0 => String::new(),
        1..=4 => format!(" ({})", all.join(", ")),
        more => format!(" ({}, and {} more lines)", all.get(..4).unwrap_or_default().join(", "), more - 4),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn clean_hides_what_moves_the_cursor() {
        assert_eq!(clean("a\x1b[31mb\u{202e}c\n", 80), "a·[31mb·c·");
        assert_eq!(clean("abcdef", 3), "abc…");
    }

    #[test]
    fn nearest_finds_a_slip_and_not_a_stranger() {
        assert_eq!(nearest("versoin", ["version", "id"]), Some("version"));
        assert_eq!(nearest("banana", ["version", "id"]), None);
    }

    #[test]
    fn bytes_are_short() {
        assert_eq!(bytes(999), "999 B");
        assert_eq!(bytes(4_120), "4.1 KB");
        assert_eq!(bytes(12_000_000), "12.0 MB");
        assert_eq!(bytes(u64::MAX), "18446.7 PB");
    }

    #[test]
    fn line_column_counts_characters() {
        assert_eq!(line_column("aä\nöx", 6), (2, 2));
    }
}
