use clap::Args;
use serde_json::json;
use yalotheca_core::finding::Severity;
use yalotheca_core::text::{counted, listed};
use yalotheca_works::Error;
use yalotheca_works::check::check;
use yalotheca_works::state::forget;

use super::{FINDINGS, server};
use crate::setting::Setting;
use crate::ui::{Ui, paint};
use crate::view::findings;

/// Tells everything that would stop a clean start, with fixes
#[derive(Debug, Args)]
pub(crate) struct Check {
    /// Reads every file of ours again, instead of trusting those whose size and time are as they were
    #[arg(long)]
    verify: bool,
}

pub(crate) fn run(args: &Check, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let server = server(setting)?;
    if args.verify {
        forget(server.tree.as_ref());
    }
    let found = check(&server)?;
    findings::write(ui, &found);
    let count = |severity| found.iter().filter(|f| f.severity == severity).count();
    let (errors, warnings, notes) = (count(Severity::Error), count(Severity::Warning), count(Severity::Note));
    let mut parts = Vec::new();
    for (number, word) in [(errors, "error"), (warnings, "warning"), (notes, "note")] {
        if number > 0 {
            parts.push(counted(number, word));
        }
    }
    if found.is_empty() {
        ui.line(format!("{} nothing stands in the way of a clean start.", paint::in_style(paint::GOOD, "Good:")));
    } else {
        ui.line("");
        ui.line(format!("{}.", listed(&parts)));
    }
    ui.object(&json!({ "errors": errors, "warnings": warnings, "notes": notes, "findings": findings::object(&found) }));
    Ok(if errors + warnings > 0 { FINDINGS } else { 0 })
}
