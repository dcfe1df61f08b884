use clap::{Args, Subcommand};
use serde_json::{Value, json};
use yalotheca_core::id::ItemId;
use yalotheca_core::ledger::{Act, Entry};
use yalotheca_core::text::{bytes, clean, counted};
use yalotheca_works::history::{Told, history, show};
use yalotheca_works::server::Server;
use yalotheca_works::{Error, prune};

use super::{FINDINGS, server, settle};
use crate::setting::Setting;
use crate::ui::{Ui, paint};
use crate::view::{settings, table};

/// Tells what was done to the server
#[derive(Debug, Args)]
pub(crate) struct History {
    #[command(subcommand)]
    act: Option<Look>,
}

#[derive(Debug, Subcommand)]
enum Look {
    /// Tells one entry: who, when, why, which files, and the settings line by line
    Show {
        /// The entry's number
        number: u64,
    },
    /// Forgets the oldest entries, and what was kept only for them
    ///
    /// Entries older than `quarantine-days` under [limits] on the roster go (90 days unless set), and then the oldest until what
    /// is kept fits into `quarantine-mb` (10,000 unless set). They cannot be taken back any more. The newest entry stays.
    Prune {
        /// Only shows what would go
        #[arg(long)]
        dry_run: bool,
    },
}

pub(crate) fn run(args: &History, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let server = server(setting)?;
    match &args.act {
        None => list(&server, ui),
        Some(Look::Show { number }) => tell(&server, *number, ui),
        Some(Look::Prune { dry_run }) => forget(&server, *dry_run, ui),
    }
}

fn list(server: &Server, ui: &Ui) -> Result<u8, Error> {
    let entries = history(server)?;
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
        ui.hint("More: yalotheca history show NUMBER. Back again: yalotheca undo [NUMBER]");
    }
    ui.object(&json!({ "entries": entries }));
    Ok(0)
}

fn tell(server: &Server, number: u64, ui: &Ui) -> Result<u8, Error> {
    let Told { entry, docs, roster } = show(server, number)?;
    let when = clean(&entry.when.replace('T', " ").replace('Z', " UTC"), 30);
    let who = if entry.who.is_empty() { "somebody".to_owned() } else { clean(&entry.who, 60) };
    ui.line(format!("Entry {number}: {}, {when}, by {who}", paint::in_style(paint::STRONG, entry.act.word())));
    let what = what(&entry);
    if entry.items.is_empty() && !what.is_empty() {
        ui.line(format!("  {what}"));
    }
    if !entry.items.is_empty() {
        ui.line("items");
        let rows: Vec<Vec<String>> = entry.items.iter().map(|i| item(i, &entry)).collect();
        table::write(ui, &["item", "before", "after", "why"], &rows);
    }
    if !entry.files.is_empty() {
        ui.line("files");
        for (path, before, after) in &entry.files {
            let path = clean(&path.to_string(), 200);
            ui.line(match (before, after) {
                (None, Some(_)) => paint::in_style(paint::GOOD, &format!("  + {path}")),
                (Some(_), None) => paint::in_style(paint::BAD, &format!("  - {path}")),
                _ => paint::in_style(paint::CARE, &format!("  ~ {path}")),
            });
        }
    }
    let lines: Vec<(String, Option<Vec<settings::Line>>)> =
        docs.iter().map(|d| (d.path.to_string(), settings::lines(server, d))).collect();
    for (path, lines) in &lines {
        ui.line(paint::in_style(paint::STRONG, &clean(path, 200)));
        match lines {
            Some(lines) => settings::difference(ui, lines),
            None => ui.line("  (it holds a secret, so its lines are not shown)"),
        }
    }
    let roster = roster.map(|(before, after)| settings::between(&before, &after));
    if let Some(lines) = &roster {
        ui.line(paint::in_style(paint::STRONG, "roster"));
        settings::difference(ui, lines);
    }
    let docs: Vec<Value> = lines
        .iter()
        .map(|(path, lines)| json!({ "path": path, "diff": lines.as_deref().map(settings::difference_object) }))
        .collect();
    let roster = roster.as_deref().map(settings::difference_object);
    ui.object(&json!({ "entry": entry, "settings": docs, "roster": roster }));
    Ok(0)
}

fn item((id, before, after): &(ItemId, Option<String>, Option<String>), entry: &Entry) -> Vec<String> {
    let version = |v: &Option<String>| v.as_ref().map_or_else(|| "-".to_owned(), |v| clean(v, 30));
    let why = entry.why.iter().find(|(i, _)| i == id).map(|(_, why)| clean(why, 120)).unwrap_or_default();
    vec![id.to_string(), version(before), version(after), why]
}

fn forget(server: &Server, dry_run: bool, ui: &Ui) -> Result<u8, Error> {
    let plan = prune::plan(server)?;
    let numbers: Vec<u64> = plan.entries.iter().map(|e| e.number).collect();
    let said = |done: Option<u64>| json!({ "pruned": done.is_some(), "entries": numbers, "files": plan.files.len(), "bytes": plan.bytes, "bytes_left": plan.left });
    if plan.entries.is_empty() && plan.files.is_empty() {
        ui.line(format!("Nothing to forget: what is kept has {}.", bytes(plan.left)));
        ui.object(&said(None));
        return Ok(0);
    }
    for entry in &plan.entries {
        ui.line(format!(
            "  - entry {} of {}: {}",
            entry.number,
            clean(entry.when.get(..10).unwrap_or(&entry.when), 30),
            what(entry)
        ));
    }
    let files = counted(plan.files.len(), "file");
    ui.line(format!("{files} with {} would go; {} would stay.", bytes(plan.bytes), bytes(plan.left)));
    if dry_run {
        ui.object(&said(None));
        return Ok(FINDINGS);
    }
    let question = "Forget that? It cannot be brought back.";
    if let Some(code) = settle::refused_to(ui, question, &said) {
        return Ok(code);
    }
    prune::carry_out(server, &plan)?;
    ui.line(format!("{} {files} gone.", paint::in_style(paint::GOOD, "Done:")));
    ui.object(&said(Some(0)));
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
        Act::TakeBack(number) => vec![format!("took entry {number} back")],
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
