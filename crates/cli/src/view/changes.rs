//! The changes, shown before they are made.

use serde_json::{Value, json};
use yalotheca_core::changes::{Step, Why};
use yalotheca_core::ledger::Act;
use yalotheca_core::text::{bytes, clean, counted, listed};
use yalotheca_works::settle::{ItemChange, Plan};

use super::findings;
use super::table::wrapped;
use crate::ui::{Ui, paint};

/// More files than this are told by their number.
const MOST_FILES: usize = 30;

/// More lines of the roster than these are told by their number.
const MOST_LINES: usize = 12;

/// Writes what a plan would do; `roster` is the roster's text now.
pub(crate) fn write(ui: &Ui, plan: &Plan, roster: &str) {
    if plan.is_empty() {
        ui.line("Nothing to do: the server matches the roster.");
    }
    items(ui, &plan.items);
    files(ui, &plan.steps);
    settings(ui, plan);
    if !plan.left.is_empty() {
        ui.line(heading("left out of the downloads"));
        for (id, left) in &plan.left {
            let names: Vec<String> = left.iter().take(5).map(|n| clean(n, 60)).collect();
            let more = if left.len() > 5 { format!(" and {} more", left.len() - 5) } else { String::new() };
            let text = format!("{id}: {}{more}", names.join(", "));
            ui.line(format!("    {}", wrapped(&text, ui.width - 4, "      ")));
        }
    }
    if let Some(after) = &plan.roster_after {
        match plan.act {
            Act::Undo(_) | Act::TakeBack(_) => {
                ui.line(heading("roster"));
                ui.line("    goes back to what it was; what you edited since stays");
            }
            _ => lines(ui, roster, after),
        }
    }
    if !plan.findings.is_empty() {
        ui.line("");
        findings::write(ui, &plan.findings);
    }
}

/// The lines that a text loses and gains.
fn lines(ui: &Ui, before: &str, after: &str) {
    let of = |a: &str, b: &str, sign: &str| {
        let other: Vec<&str> = b.lines().map(str::trim).collect();
        let only = |l: &&str| !l.trim().is_empty() && !other.contains(&l.trim());
        a.lines().filter(only).map(|l| format!("  {sign} {}", clean(l.trim(), 72))).collect::<Vec<_>>()
    };
    let all = [of(before, after, "-"), of(after, before, "+")].concat();
    if !all.is_empty() {
        ui.line(heading("roster"));
    }
    for line in all.iter().take(MOST_LINES) {
        ui.line(line);
    }
    if let Some(more) = all.len().checked_sub(MOST_LINES).filter(|m| *m > 0) {
        ui.line(format!("    and {more} more lines"));
    }
}

fn heading(text: &str) -> String {
    paint::in_style(paint::STRONG, text)
}

fn sign(before: bool, after: bool) -> String {
    match (before, after) {
        (false, _) => paint::in_style(paint::GOOD, "+"),
        (true, true) => paint::in_style(paint::CARE, "~"),
        (true, false) => paint::in_style(paint::BAD, "-"),
    }
}

fn items(ui: &Ui, items: &[ItemChange]) {
    if items.is_empty() {
        return;
    }
    ui.line(heading("items"));
    let version = |i: &ItemChange| match (&i.before, &i.after) {
        (Some(before), Some(after)) if before == after => format!("{after}, another file"),
        (Some(before), Some(after)) => format!("{before} → {after}"),
        (one, other) => one.clone().or_else(|| other.clone()).unwrap_or_default(),
    };
    let wide = |of: &dyn Fn(&ItemChange) -> usize| items.iter().map(of).max().unwrap_or(0);
    let (ids, versions, kinds) = (
        wide(&|i| i.id.as_str().chars().count()),
        wide(&|i| version(i).chars().count()),
        wide(&|i| i.kind.chars().count()),
    );
    for item in items {
        let sign = sign(item.before.is_some(), item.after.is_some());
        let text =
            format!("{:ids$}  {:versions$}  {:kinds$}  {}", item.id.as_str(), version(item), item.kind, item.why);
        ui.line(format!("  {sign} {}", wrapped(&text, ui.width - 4, "      ")));
    }
}

fn files(ui: &Ui, steps: &[Step]) {
    if steps.is_empty() {
        return;
    }
    ui.line(heading("files"));
    let shown = || steps.iter().take(MOST_FILES);
    let wide = shown().map(|s| s.path().to_string().chars().count()).filter(|w| *w <= 52).max().unwrap_or(0);
    for step in shown() {
        let path = clean(&step.path().to_string(), 200);
        match step {
            Step::Place { file, was, why, .. } => {
                let note = match why {
                    Why::New | Why::Renewed => String::new(),
                    Why::PutBack => "  put back, it was taken away by hand".to_owned(),
                    Why::InsteadOf => {
                        "  instead of a file that stands there; that one comes back when this goes".to_owned()
                    }
                };
                let shared = if file.owners.len() > 1 {
                    let owners: Vec<String> = file.owners.iter().map(ToString::to_string).collect();
                    format!("  shared by {}", listed(&owners))
                } else {
                    String::new()
                };
                let size = if file.bytes > 0 { bytes(file.bytes) } else { String::new() };
                let text = format!("{path:wide$}  {size}{shared}{note}");
                ui.line(format!(
                    "  {} {}",
                    sign(was.is_some(), true),
                    wrapped(text.trim_end(), ui.width - 4, "      ")
                ));
            }
            Step::Remove { back, .. } => {
                let note = if back.is_some() { "  what stood there before comes back" } else { "  goes to quarantine" };
                ui.line(format!("  {} {path}{}", sign(true, back.is_some()), paint::in_style(paint::FAINT, note)));
            }
        }
    }
    if steps.len() > MOST_FILES {
        ui.line(format!("    … and {}", counted(steps.len() - MOST_FILES, "more file")));
    }
}

fn settings(ui: &Ui, plan: &Plan) {
    if plan.docs.is_empty() {
        return;
    }
    ui.line(heading("settings"));
    for doc in &plan.docs {
        let more = doc.notes.len().saturating_sub(MOST_FILES);
        let sign = sign(doc.before.is_some(), doc.after.is_some());
        if doc.notes.is_empty() {
            ui.line(format!("  {sign} {}", doc.path));
        }
        for note in doc.notes.iter().take(MOST_FILES) {
            ui.line(format!(
                "  {sign} {}",
                wrapped(&format!("{}  {}", doc.path, clean(note, 200)), ui.width - 4, "      ")
            ));
        }
        if more > 0 {
            ui.line(format!("    … and {} in {}", counted(more, "more change"), doc.path));
        }
    }
}

/// Returns a plan as JSON.
pub(crate) fn object(plan: &Plan) -> Value {
    let files: Vec<Value> = plan
        .steps
        .iter()
        .map(|step| {
            let (before, after) = step.digests();
            let size = match step {
                Step::Place { file, .. } => Some(file.bytes),
                Step::Remove { .. } => None,
            };
            json!({ "path": step.path().to_string(), "before": before, "after": after, "bytes": size })
        })
        .collect();
    let items: Vec<Value> = plan
        .items
        .iter()
        .map(|i| json!({ "item": i.id, "kind": i.kind, "before": i.before, "after": i.after, "why": i.why, "bytes": i.bytes }))
        .collect();
    let settings: Vec<Value> =
        plan.docs.iter().map(|d| json!({ "path": d.path.to_string(), "notes": d.notes })).collect();
    let left: Vec<Value> = plan.left.iter().map(|(id, left)| json!({ "item": id, "members": left })).collect();
    json!({
        "nothing_to_do": plan.is_empty(),
        "items": items,
        "files": files,
        "settings": settings,
        "left_out": left,
        "load_order": plan.after.order,
        "findings": findings::object(&plan.findings),
    })
}

/// Returns in one line what was done.
pub(crate) fn done(plan_items: usize, plan_files: usize, plan_settings: usize, act: &Act, number: u64) -> String {
    let mut parts = Vec::new();
    for (count, one) in [(plan_items, "item"), (plan_files, "file"), (plan_settings, "settings file")] {
        if count > 0 {
            parts.push(counted(count, one));
        }
    }
    let what = if parts.is_empty() { "nothing on the server".to_owned() } else { listed(&parts) };
    format!("{} {what} changed ({}, history entry {number}).", paint::in_style(paint::GOOD, "Done:"), act.word())
}
