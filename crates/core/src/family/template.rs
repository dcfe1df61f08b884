//! One template syntax for every place a family names: `plugins/{id}.qpl`. `{{` and `}}` are braces. A field may have a
//! form: `{order:03}` has three digits or more, `{id:lower}` and `{id:upper}` change the letters' case.

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
    Field(String, Form),
}

/// How a field's value is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Form {
    Plain,
    Digits(usize),
    Lower,
    Upper,
}

impl Form {
    fn parse(word: &str) -> Option<Self> {
        match word {
            "lower" => Some(Form::Lower),
            "upper" => Some(Form::Upper),
            _ => word.strip_prefix('0')?.parse().ok().filter(|n| (1..=9).contains(n)).map(Form::Digits),
        }
    }

    fn write(self, value: &str) -> String {
        match self {
            Form::Plain => value.to_owned(),
            Form::Digits(most) => format!("{value:0>most$}"),
            Form::Lower => value.to_lowercase(),
            Form::Upper => value.to_uppercase(),
        }
    }
}

/// A template that cannot be read or filled.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TemplateError {
    /// A brace that is not closed, or closed and never opened.
    #[error("template `{0}` has a brace without its partner; write `{{{{` for a brace itself")]
    Brace(String),
    /// A field with a form that is none.
    #[error("template `{0}` has a form after `:` that is none; there are `01` to `09`, `lower` and `upper`")]
    Form(String),
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
                let (field, form) = match field.split_once(':') {
                    Some((field, form)) => {
                        (field, Form::parse(form).ok_or_else(|| TemplateError::Form(text.to_owned()))?)
                    }
                    None => (field, Form::Plain),
                };
                parts.push(Part::Field(field.to_owned(), form));
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
                Part::Field(name, form) => out.push_str(&form.write(&field(name)?)),
            }
        }
        Some(out)
    }

    /// Returns the text filled as a path into a settings file: a value that holds signs of paths is put in quotes.
    pub fn fill_path<'a>(&self, field: impl Fn(&str) -> Option<std::borrow::Cow<'a, str>>) -> Option<String> {
        let mut out = String::new();
        let mut quoted = false;
        for part in &self.parts {
            match part {
                Part::Text(text) => {
                    quoted ^= text.matches('"').count() % 2 == 1;
                    out.push_str(text);
                }
                Part::Field(name, form) => {
                    let value = form.write(&field(name)?);
                    let plain = |c: char| c.is_alphanumeric() || c == '-' || c == '_';
                    let escaped = value.replace('\\', "\\\\").replace('"', "\\\"");
                    if quoted {
                        out.push_str(&escaped);
                    } else if !value.is_empty() && value.chars().all(plain) {
                        out.push_str(&value);
                    } else {
                        out.push_str(&format!("\"{escaped}\""));
                    }
                }
            }
        }
        Some(out)
    }

    /// Returns the fields it names.
    pub fn fields(&self) -> impl Iterator<Item = &str> {
        self.parts.iter().filter_map(|p| match p {
            Part::Field(name, _) => Some(name.as_str()),
            Part::Text(_) => None,
        })
    }

    /// Returns what its one field must be for the template to come to `filled`; `None` where nothing does.
    pub fn word_for(&self, filled: &str) -> Option<String> {
        let (before, after) = match self.parts.as_slice() {
            [Part::Text(before), Part::Field(..), Part::Text(after)] => (before, after),
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
                Part::Field(name, _) if name == "path" => "**",
                Part::Field(..) => "*",
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
