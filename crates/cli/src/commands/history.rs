use clap::Args;
use serde_json::json;
use yalotheca_core::ledger::{Act, Entry};
use yalotheca_core::text::{clean, counted};
use yalotheca_works::Error;
use yalotheca_works::history::history;

use super::server;
use crate::setting::Setting;
use crate::ui::Ui;
use crate::view::table;

/// Tells what was done to the server
#[derive(Debug, Args)]
pub(crate) struct History {}

pub(crate) fn run(_: &History, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let entries = history(&server(setting)?)?;
    if entries.is_empty() {
        ui.line("Nothing was done so far.");
    } else {
        let row = |e: &Entry| {
            vec![
                e.number.to_string(),
                clean(&e.when.replace('T', " ").replace('Z', ""), 19),
                e.act.word().to_owned(),
                what(e),
            ]
        };
        table::write(
            ui,
            &["no.", "when (UTC)", "command", "what changed"],
            &entries.iter().map(row).collect::<Vec<_>>(),
        );
        ui.hint("");
        ui.hint("Back to before the last entry: yalotheca undo; before another: with its number");
    }
    ui.object(&json!({ "entries": entries }));
    Ok(0)
}

fn what(entry: &Entry) -> String {
    let item =
        |(id, before, after): &(yalotheca_core::id::ItemId, Option<String>, Option<String>)| match (before, after) {
            (None, Some(v)) => format!("+ {id} {v}"),
            (Some(v), None) => format!("- {id} {v}"),
            (Some(a), Some(b)) => format!("~ {id} {a} → {b}"),
            (None, None) => id.to_string(),
        };
    let mut parts: Vec<String> = match &entry.act {
        Act::Undo(number) => vec![format!("back to before entry {number}")],
        Act::AcceptTerms(number) => vec![format!("accepted the terms number {number}")],
        Act::Tune(files) => files.iter().map(|f| format!("tuned {f}")).collect(),
        Act::Adopt | Act::Settle => Vec::new(),
    };
    parts.extend(entry.items.iter().take(6).map(item));
    if entry.items.len() > 6 {
        parts.push(format!("and {} more", entry.items.len() - 6));
    }
    if entry.items.is_empty() && !entry.files.is_empty() {
        parts.push(counted(entry.files.len(), "file"));
    }
    clean(&parts.join(", "), 400)
}
