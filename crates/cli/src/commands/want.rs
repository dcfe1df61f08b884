use std::path::PathBuf;

use clap::Args;
use serde_json::{Value, json};
use yalotheca_works::Error;
use yalotheca_works::want::{How, Outcome, want};

use super::{FINDINGS, NEEDS_ANSWER, server};
use crate::setting::Setting;
use crate::ui::{Ui, paint};
use crate::view::{changes, findings};

/// Puts items on the roster and shows what settle would do
///
/// WHAT is an item's id (`chest-locks`), an id with a range (`chest-locks@^2`), a catalogue number, a file
/// (`./chest-locks.zip`) or a link (`https://…`). Nothing on the server changes before `yalotheca settle`.
#[derive(Debug, Args)]
pub(crate) struct Want {
    /// What to put on the roster
    #[arg(required = true, value_name = "WHAT")]
    what: Vec<String>,
    /// Takes it as this kind, where more than one fits
    #[arg(long, value_name = "KIND")]
    kind: Option<String>,
    /// Takes only this of several maps or modes in it; may be given several times. Where no versions fit, the number of a
    /// change that would help
    #[arg(long, value_name = "NAME")]
    take: Vec<String>,
    /// Chooses something for it, as its family lets you: `turns=5`; may be given several times
    #[arg(long, value_name = "FIELD=VALUE")]
    set: Vec<String>,
    /// Takes it from this catalogue of the roster, where several offer it
    #[arg(long, value_name = "ADDRESS")]
    catalogue: Option<String>,
    /// A file that only you can read; its first line is the password of the archive
    #[arg(long, value_name = "FILE")]
    password_file: Option<PathBuf>,
    /// Only shows; the roster stays as it is
    #[arg(long)]
    dry_run: bool,
}

pub(crate) fn run(args: &Want, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let server = server(setting)?;
    let pair = |text: &String| {
        let parts = text.split_once('=').map(|(f, v)| (f.to_owned(), v.to_owned()));
        parts.ok_or_else(|| Error::Usage(format!("`{text}` is not FIELD=VALUE")))
    };
    let choices = args.set.iter().map(pair).collect::<Result<Vec<_>, _>>()?;
    let how = How { kind: args.kind.clone(), take: args.take.clone(), choices, ..How::default() };
    let how = How { password_file: args.password_file.clone(), catalogue: args.catalogue.clone(), ..how };
    let outcome = match (want(&server, &args.what, &how, !args.dry_run), args.take.as_slice()) {
        // a number is none of several things in an item where there is no way without a change
        (Err(Error::Impossible(_)), [number]) if number.parse::<usize>().is_ok() => {
            let how = How { take: Vec::new(), help: number.parse().ok(), ..how };
            want(&server, &args.what, &how, !args.dry_run)?
        }
        (outcome, _) => outcome?,
    };
    Ok(told(&outcome, args.dry_run, ui))
}

/// Shows what became of the roster, and what a settle would do.
pub(super) fn told(outcome: &Outcome, dry_run: bool, ui: &Ui) -> u8 {
    for (id, value) in &outcome.lines {
        let would = if dry_run { "would be" } else { "is" };
        match value {
            Some(value) => {
                ui.line(format!("{} {would} on the roster: {id} = {value}", paint::in_style(paint::GOOD, id.as_str())))
            }
            None => ui.line(format!("{} {would} off the roster", paint::in_style(paint::CARE, id.as_str()))),
        }
    }
    ui.line("");
    match &outcome.plan {
        Some(plan) => {
            if !plan.is_empty() {
                ui.line("`yalotheca settle` would do this:");
            }
            changes::write(ui, plan, plan.roster_after.as_deref().unwrap_or_default());
        }
        None => {
            ui.line("`yalotheca settle` needs your decision first:");
            findings::write(ui, &outcome.undecided);
        }
    }
    let lines: Vec<Value> = outcome.lines.iter().map(|(id, v)| json!({ "item": id, "line": v })).collect();
    ui.object(&json!({ "roster": lines, "roster_changed": outcome.changed && !dry_run, "changes": outcome.plan.as_ref().map(changes::object), "undecided": findings::object(&outcome.undecided) }));
    match &outcome.plan {
        None => NEEDS_ANSWER,
        Some(_) if dry_run && outcome.changed => FINDINGS,
        Some(_) => 0,
    }
}
