use std::fs::File;
use std::io::Read as _;
use std::path::{Path, PathBuf};
use std::process::Command;

use clap::Args;
use serde_json::{Value, json};
use yalotheca_works::Error;
use yalotheca_works::order::{Lines, edit, lines};

use super::{NEEDS_ANSWER, server, want};
use crate::setting::Setting;
use crate::ui::{Ui, paint};
use crate::view::{order, table};

/// A file with an order is no larger than this (bytes).
const MOST_LIST: u64 = 4_000_000;

/// Shows the load order, each line with what fixes it there
///
/// `--edit` opens the list in your editor; put the lines into another order, save, and it becomes yours: `[order]` on the
/// roster. What an item needs stays before it.
#[derive(Debug, Args)]
pub(crate) struct Order {
    /// Takes your own order from your editor, or from this file: one item a line
    #[arg(long, value_name = "FILE", num_args = 0..=1)]
    edit: Option<Option<PathBuf>>,
    /// Only shows what it would come to; the roster stays as it is
    #[arg(long, requires = "edit")]
    dry_run: bool,
}

pub(crate) fn run(args: &Order, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let server = server(setting)?;
    let found = lines(&server)?;
    let Some(from) = &args.edit else {
        show(&found, ui);
        return Ok(0);
    };
    let text = match from {
        Some(file) => read(file)?,
        None => match setting.editor.as_deref().filter(|_| setting.interactive) {
            Some(editor) => edited(&found, editor)?,
            None => {
                let fix = "give a file with the order, one item a line: yalotheca order --edit FILE";
                ui.error(format!("error: no editor can be opened here\n  fix: {fix}"));
                ui.object(&json!({ "error": { "exit": NEEDS_ANSWER, "message": "no editor can be opened here", "fix": fix } }));
                return Ok(NEEDS_ANSWER);
            }
        },
    };
    let outcome = edit(&server, &text, !args.dry_run)?;
    Ok(want::told(&outcome, args.dry_run, ui))
}

/// A list of the administrator's own; one that is larger than any order is refused.
fn read(path: &Path) -> Result<String, Error> {
    let failed = |source| Error::Disk { path: path.to_owned(), doing: "cannot be read", source };
    let mut bytes = Vec::new();
    File::open(path).and_then(|f| f.take(MOST_LIST + 1).read_to_end(&mut bytes)).map_err(failed)?;
    if bytes.len() as u64 > MOST_LIST {
        let shown = path.display();
        return Err(Error::Usage(format!("`{shown}` is larger than a list of items can be; give one item a line")));
    }
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

fn show(found: &Lines, ui: &Ui) {
    let rows: Vec<Vec<String>> = found
        .lines
        .iter()
        .enumerate()
        .map(|(at, l)| {
            vec![(at + 1).to_string(), l.id.to_string(), l.version.clone(), l.kind.clone(), order::said(&l.why)]
        })
        .collect();
    table::write(ui, &["", "item", "version", "kind", "stands here because"], &rows);
    for (earlier, later) in &found.given_way {
        ui.line(paint::in_style(
            paint::FAINT,
            &format!("gave way: {earlier} before {later} was asked for, and something stronger stands against it"),
        ));
    }
    if found.moves {
        ui.hint("This is the order after the next settle: yalotheca settle");
    }
    let line = |l: &yalotheca_works::order::Line| json!({ "item": l.id, "version": l.version, "kind": l.kind, "why": order::said(&l.why) });
    let lines: Vec<Value> = found.lines.iter().map(line).collect();
    ui.object(&json!({ "order": lines, "given_way": found.given_way, "settled": !found.moves }));
}

/// The list as it comes back from the editor.
fn edited(found: &Lines, editor: &str) -> Result<String, Error> {
    let failed = |source| Error::Disk { path: PathBuf::from(editor), doing: "cannot be run", source };
    let file = tempfile::Builder::new().prefix("order-").suffix(".txt").tempfile().map_err(failed)?;
    let mut text =
        String::from("# One item a line, first read first. Move the lines; what an item needs stays before it.\n");
    for line in &found.lines {
        text.push_str(&format!("{}  # {}\n", line.id, order::said(&line.why)));
    }
    std::fs::write(file.path(), text).map_err(failed)?;
    let mut words = editor.split_whitespace();
    let program = words.next().unwrap_or(editor);
    let status = Command::new(program).args(words).arg(file.path()).status().map_err(failed)?;
    if !status.success() {
        return Err(Error::Stopped);
    }
    std::fs::read_to_string(file.path()).map_err(failed)
}
