//! Findings as a person reads them, and as JSON.

use serde_json::{Value, json};
use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::text::clean;

use super::table::wrapped;
use crate::ui::{Ui, paint};

/// Returns a finding's lines: where, what is wrong, what to do.
pub(crate) fn lines(finding: &Finding, width: usize) -> Vec<String> {
    let word = match finding.severity {
        Severity::Error => paint::in_style(paint::BAD, "error"),
        Severity::Warning => paint::in_style(paint::CARE, "warning"),
        Severity::Note => paint::in_style(paint::FAINT, "note"),
    };
    let file = finding.file.as_ref().map(|f| match finding.line {
        Some(line) => format!("{f}:{line}"),
        None => f.clone(),
    });
    let place = file.or_else(|| finding.item.clone()).map(|p| format!("  {}", clean(&p, 120))).unwrap_or_default();
    let code = paint::in_style(paint::FAINT, finding.code);
    // what is to be copied exactly stands on lines of its own, unbroken
    let mut cause = finding.cause.split('\n');
    let said = cause.next().unwrap_or_default();
    let mut out =
        vec![format!("{word}{place}  {code}"), format!("    {}", wrapped(&clean(said, 600), width - 4, "    "))];
    out.extend(cause.map(|line| format!("      {}", clean(line, 2_000))));
    out.push(format!("    fix: {}", wrapped(&clean(&finding.fix, 600), width - 9, "         ")));
    out
}

/// Writes findings.
pub(crate) fn write(ui: &Ui, findings: &[Finding]) {
    for finding in findings {
        for line in lines(finding, ui.width) {
            ui.line(line);
        }
    }
}

/// Returns the findings as JSON.
pub(crate) fn object(findings: &[Finding]) -> Value {
    json!(findings)
}
