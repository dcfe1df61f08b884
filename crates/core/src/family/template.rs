//! One template syntax for every place a family names: `plugins/{id}.qpl`. `{{` and `}}` are braces.

use serde::Deserialize;
use thiserror::Error;

/// A text with fields in braces.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(try_from = "String")]
pub struct Template {
    text: String,
    parts: Vec<Part>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Part {
    Text(String),
    Field(String),
}

/// A template that cannot be read or filled.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TemplateError {
    /// A brace that is not closed, or closed and never opened.
    #[error("template `{0}` has a brace without its partner; write `{{{{` for a brace itself")]
    Brace(String),
    /// A field that nothing fills here.
    #[error("template `{template}` names the field `{field}`, and there is only {known}")]
    Field {
        /// The template.
        template: String,
        /// The field.
        field: String,
        /// The fields there are.
        known: String,
    },
}

impl Template {
    /// Reads a template.
    ///
    /// # Errors
    /// [`TemplateError::Brace`].
    pub fn parse(text: &str) -> Result<Self, TemplateError> {
        let fail = || TemplateError::Brace(text.to_owned());
        let mut parts = Vec::new();
        let mut plain = String::new();
        let mut rest = text;
        while let Some(at) = rest.find(['{', '}']) {
            let (before, from) = rest.split_at(at);
            plain.push_str(before);
            if let Some(after) = from.strip_prefix("{{").or_else(|| from.strip_prefix("}}")) {
                plain.push_str(from.get(..1).unwrap_or(""));
                rest = after;
            } else {
                let inner = from.strip_prefix('{').ok_or_else(fail)?;
                let (field, after) = inner.split_once('}').ok_or_else(fail)?;
                if field.is_empty() || field.contains('{') {
                    return Err(fail());
                }
                parts.push(Part::Text(std::mem::take(&mut plain)));
                parts.push(Part::Field(field.to_owned()));
                rest = after;
            }
        }
        plain.push_str(rest);
        parts.push(Part::Text(plain));
        Ok(Self { text: text.to_owned(), parts })
    }

    /// Returns the text with every field filled by `field(name)`; `None` when one has no value.
    pub fn fill<'a>(&self, field: impl Fn(&str) -> Option<std::borrow::Cow<'a, str>>) -> Option<String> {
        let mut out = String::new();
        for part in &self.parts {
            match part {
                Part::Text(text) => out.push_str(text),
                Part::Field(name) => out.push_str(&field(name)?),
            }
        }
        Some(out)
    }

    /// Returns the fields it names.
    pub fn fields(&self) -> impl Iterator<Item = &str> {
        self.parts.iter().filter_map(|p| match p {
            Part::Field(name) => Some(name.as_str()),
            Part::Text(_) => None,
        })
    }

    /// Returns what its one field must be for the template to come to `filled`; `None` where nothing does.
    pub fn word_for(&self, filled: &str) -> Option<String> {
        let (before, after) = match self.parts.as_slice() {
            [Part::Text(before), Part::Field(_), Part::Text(after)] => (before, after),
            _ => return None,
        };
        filled.strip_prefix(before.as_str())?.strip_suffix(after.as_str()).map(str::to_owned)
    }

    /// Returns the template as written.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// Returns the glob that matches whatever the fields are filled with: `plugins/*.qpl`. A field that is
    /// a path of several parts (`{path}`) becomes `**`.
    pub fn glob(&self) -> String {
        self.parts
            .iter()
            .map(|p| match p {
                Part::Text(text) => text.as_str(),
                Part::Field(name) if name == "path" => "**",
                Part::Field(_) => "*",
            })
            .collect()
    }
}

impl TryFrom<String> for Template {
    type Error = TemplateError;
    fn try_from(text: String) -> Result<Self, TemplateError> {
        Self::parse(&text)
    }
}
