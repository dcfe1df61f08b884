//! Reading a family file: every word known, every pattern readable, every template fillable.

use thiserror::Error;

use super::{Family, Rules, Template};
use crate::id::Digest;
use crate::settings::Path;
use crate::text::{clean, did_you_mean, line_column};

/// A family file that cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{why}")]
pub struct FamilyError {
    /// What is wrong and what to write instead.
    pub why: String,
    /// Where: byte offset and length in the file.
    pub span: (usize, usize),
    /// The line, from 1.
    pub line: usize,
    /// The column, from 1.
    pub column: usize,
}

/// The fields a placing may name.
pub(crate) const PLACE_FIELDS: [&str; 5] = ["id", "version", "name", "stem", "path"];

impl Family {
    /// Reads a family file.
    ///
    /// # Errors
    /// The first thing that is wrong, with its line and the nearest right word.
    pub fn parse(text: &str) -> Result<Self, FamilyError> {
        let rules: Rules = crate::roster::from_toml(text).map_err(|e| at(text, e.span, e.why))?;
        let family = Self { rules, digest: Digest::of(text.as_bytes()) };
        match family.fault() {
            None => Ok(family),
            Some((word, why)) => {
                let span = text.find(&word).map_or((0, 0), |start| (start, word.len()));
                Err(at(text, span, why))
            }
        }
    }

    /// Returns the first rule that could never work: the word it stands under, and why.
    fn fault(&self) -> Option<(String, String)> {
        let rules = &self.rules;
        if rules.format != 1 {
            return Some(("format".into(), format!("format is {}, and this program knows 1", rules.format)));
        }
        if crate::id::ItemId::new(&rules.name).is_err() {
            return Some(("name".into(), "`name` must be a plain word".into()));
        }
        let words = [&rules.title, &rules.about].into_iter().chain(rules.kind.values().map(|k| &k.title));
        for word in words.chain(rules.kind.keys()) {
            if word.chars().any(char::is_control) {
                return Some(("title".into(), format!("`{}` has a control character", clean(word, 40))));
            }
        }
        if rules.recognise.iter().map(|m| m.sure).sum::<u32>() < 100 {
            return Some((
                "recognise".into(),
                "the marks together never reach 100, so no server would be recognised".into(),
            ));
        }
        let facts: Vec<&str> = rules.fact.keys().map(String::as_str).collect();
        let unknown = |template: &Template, known: &[&str]| {
            template.fields().find(|f| !known.contains(f)).map(|f| {
                let hint = did_you_mean(f, known.iter().copied());
                let all = known.join("`, `");
                (
                    template.as_str().to_owned(),
                    format!(
                        "the template `{}` names `{f}`, which nothing fills here{hint} (there are `{all}`)",
                        template.as_str()
                    ),
                )
            })
        };
        for source in rules.fact.values() {
            if let Some(fault) = unknown(&source.file, &facts) {
                return Some(fault);
            }
        }
        let item_fields: Vec<&str> = PLACE_FIELDS.iter().copied().chain(facts.iter().copied()).collect();
        for kind in rules.kind.values() {
            for place in &kind.place {
                if let Some(fault) = unknown(&place.to, &item_fields) {
                    return Some(fault);
                }
                if place.take == "real" && kind.file.is_none() {
                    return Some((
                        "\"real\"".into(),
                        format!("a {} has no `file` pattern, so it has no real file to take", kind.title),
                    ));
                }
            }
            if kind.place.is_empty() {
                return Some(("place".into(), format!("a {} is placed nowhere", kind.title)));
            }
            for wiring in &kind.wire {
                if let Some(fault) = unknown(&wiring.value, &item_fields).or_else(|| unwirable(wiring)) {
                    return Some(fault);
                }
            }
        }
        for wiring in &rules.default {
            if let Some(fault) = unknown(&wiring.value, &facts).or_else(|| unwirable(wiring)) {
                return Some(fault);
            }
        }
        if let Some(terms) = &rules.terms {
            for fact in [&terms.wanted, &terms.accepted] {
                if !facts.contains(&fact.as_str()) {
                    let hint = did_you_mean(fact, facts.iter().copied());
                    return Some((format!("\"{fact}\""), format!("no `[fact.{fact}]` stands in this file{hint}")));
                }
            }
            if let Err(e) = Path::parse(&terms.at) {
                return Some((terms.at.clone(), e.to_string()));
            }
        }
        if let Some(fault) = unsettable(rules) {
            return Some(fault);
        }
        if rules.start.as_ref().is_some_and(|s| s.command.is_empty()) {
            return Some(("command".into(), "the start command is empty".into()));
        }
        for rule in &rules.log {
            if let Err(e) = regex_lite::Regex::new(&rule.pattern) {
                return Some((
                    rule.pattern.clone(),
                    format!("the pattern cannot be read: {}", clean(&e.to_string(), 160)),
                ));
            }
        }
        None
    }
}

/// Paths that cannot be read, ranges that nothing is in, references that name nothing.
fn unsettable(rules: &Rules) -> Option<(String, String)> {
    for setting in &rules.setting {
        if let Err(e) = Path::parse(&setting.at) {
            return Some((setting.at.clone(), e.to_string()));
        }
        if let (Some(least), Some(most)) = setting.range()
            && crate::settings::number_order(&least, &most) == Some(std::cmp::Ordering::Greater)
        {
            return Some((setting.at.clone(), format!("no number is {least} or more and {most} or less")));
        }
    }
    for reference in &rules.reference {
        if let Err(e) = Path::parse(&reference.at) {
            return Some((reference.at.clone(), e.to_string()));
        }
        if reference.to.fields().collect::<Vec<_>>() != ["value"] {
            let why = "a reference's `to` names the file by `{value}`, once, and by nothing else";
            return Some((reference.to.as_str().to_owned(), why.into()));
        }
    }
    None
}

fn unwirable(wiring: &super::Wiring) -> Option<(String, String)> {
    use crate::settings::Format;
    if crate::id::storable(&wiring.file).is_err() {
        return Some((wiring.file.clone(), format!("`{}` is no path inside the server's folder", wiring.file)));
    }
    let lines = matches!(wiring.format, Format::Lines | Format::Columns);
    let Some(at) = &wiring.at else {
        let why = "`at` is missing: where in the file the value stands (only a list of lines needs none)";
        return (!lines).then(|| (wiring.file.clone(), why.into()));
    };
    if lines && !wiring.list {
        return Some((wiring.file.clone(), "a list of lines takes no `at`: each item is a line of it".into()));
    }
    match Path::parse(at) {
        Ok(path) if path.is_wide() => Some((at.clone(), format!("`{at}` means many places, and a wiring is one"))),
        Ok(_) => None,
        Err(e) => Some((at.clone(), e.to_string())),
    }
}

fn at(text: &str, span: (usize, usize), why: String) -> FamilyError {
    let (line, column) = line_column(text, span.0);
    FamilyError { why, span, line, column }
}
