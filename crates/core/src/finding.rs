//! One result of a diagnosis. Every command that finds something wrong says it through this type.

use serde::Serialize;

/// How bad a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// Worth knowing.
    Note,
    /// The server starts, but something will not be as wanted.
    Warning,
    /// The server does not start cleanly.
    Error,
}

/// One result of a diagnosis: what is wrong, where, why, and what to do now.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Finding {
    /// A word for scripts: stable over releases, listed in `docs/findings.md`.
    pub code: &'static str,
    /// How bad it is.
    pub severity: Severity,
    /// The item it is about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub item: Option<String>,
    /// The file it is about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// The line in that file, from 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<usize>,
    /// What is wrong, one sentence.
    pub cause: String,
    /// What to do now, one sentence.
    pub fix: String,
}

impl Finding {
    /// Returns a finding with neither item nor file.
    pub fn new(code: &'static str, severity: Severity, cause: impl Into<String>, fix: impl Into<String>) -> Self {
        Self { code, severity, item: None, file: None, line: None, cause: cause.into(), fix: fix.into() }
    }

    /// Returns the finding with its item.
    pub fn of(mut self, item: impl ToString) -> Self {
        self.item = Some(item.to_string());
        self
    }

    /// Returns the finding with its file.
    pub fn at(mut self, file: impl ToString) -> Self {
        self.file = Some(file.to_string());
        self
    }

    /// Returns the finding with its line.
    pub fn on_line(mut self, line: Option<usize>) -> Self {
        self.line = line;
        self
    }
}

/// Puts findings in the order they are shown: worst first, then by code, item and file; doubles are dropped.
pub fn sort(findings: &mut Vec<Finding>) {
    sort_slice(findings);
    findings.dedup();
}

/// Puts findings in the order they are shown, and drops none.
pub fn sort_slice(findings: &mut [Finding]) {
    findings.sort_by(|a, b| {
        b.severity.cmp(&a.severity).then_with(|| {
            (a.code, &a.item, &a.file, a.line, &a.cause).cmp(&(b.code, &b.item, &b.file, b.line, &b.cause))
        })
    });
}
