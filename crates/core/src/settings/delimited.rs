//! Lists inside one value: `Salt Pier | Old Harbour`, `"a", "b"`, `one two`.

/// What parts the elements of a list inside one value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Delimited {
    /// The sign with the spaces around it, as new elements are joined: ` | `, `,`, ` `.
    pub between: String,
}

impl Delimited {
    /// Returns the list's form for a sign with its spaces.
    pub fn new(between: &str) -> Self {
        Self { between: between.to_owned() }
    }

    fn sign(&self) -> &str {
        self.between.trim()
    }

    /// The elements as they stand, quotes included.
    fn raw<'a>(&self, text: &'a str) -> Vec<&'a str> {
        let parts: Vec<&str> = if self.sign().is_empty() {
            text.split_whitespace().collect()
        } else {
            text.split(self.sign()).map(str::trim).collect()
        };
        parts.into_iter().filter(|p| !p.is_empty()).collect()
    }

    /// Returns the elements, without quotes.
    pub fn read(&self, text: &str) -> Vec<String> {
        self.raw(text).into_iter().map(|p| bare(p).to_owned()).collect()
    }

    /// Returns the text whose elements are `wanted`: those that stand there keep their bytes, new ones take their
    /// neighbours' quotes, and all are parted as they were. The same list gives the same bytes.
    pub fn write(&self, text: &str, wanted: &[String]) -> String {
        let there = self.raw(text);
        if there.iter().map(|p| bare(p)).eq(wanted.iter().map(String::as_str)) {
            return text.to_owned();
        }
        let quote = there.iter().find_map(|p| (bare(p) != *p).then(|| p.chars().next()).flatten());
        let part = |word: &String| match (there.iter().find(|p| bare(p) == word), quote) {
            (Some(raw), _) => (*raw).to_owned(),
            (None, Some(quote)) => format!("{quote}{word}{quote}"),
            (None, None) => word.clone(),
        };
        let parts: Vec<String> = wanted.iter().map(part).collect();
        parts.join(&self.habit(text, &there))
    }

    /// What stands between the first two elements, else the usual.
    fn habit(&self, text: &str, there: &[&str]) -> String {
        let [first, second, ..] = there else { return self.between.clone() };
        let from = text.find(first).map(|at| at + first.len());
        let gap = from.and_then(|from| {
            let rest = text.get(from..)?;
            rest.get(..rest.find(second)?)
        });
        match gap {
            Some(gap) if gap.trim() == self.sign() && !gap.is_empty() => gap.to_owned(),
            _ => self.between.clone(),
        }
    }
}

fn bare(part: &str) -> &str {
    for quote in ['"', '\''] {
        if let Some(inner) = part.strip_prefix(quote).and_then(|p| p.strip_suffix(quote)) {
            return inner;
        }
    }
    part
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(between: &str, text: &str, wanted: &[&str]) -> String {
        let wanted: Vec<String> = wanted.iter().map(|w| (*w).to_owned()).collect();
        let list = Delimited::new(between);
        let out = list.write(text, &wanted);
        assert_eq!(list.read(&out), wanted);
        assert_eq!(list.write(&out, &wanted), out);
        out
    }

    #[test]
    fn elements_keep_their_quotes_and_gaps() {
        assert_eq!(
            run(" | ", "Salt Pier | Old Harbour", &["Fog", "Salt Pier", "Old Harbour"]),
            "Fog | Salt Pier | Old Harbour"
        );
        assert_eq!(run(", ", "\"a\",\"b\"", &["a", "b", "c"]), "\"a\",\"b\",\"c\"");
        assert_eq!(run(" ", "one  two", &["one", "two"]), "one  two");
        assert_eq!(run(",", "a , b", &["b"]), "b");
        assert_eq!(run(",", "", &["x"]), "x");
        assert_eq!(run(",", "x", &[]), "");
        assert_eq!(run(";", "a;b;", &["a", "b"]), "a;b;");
    }
}
