//! Settings files as a person reads them: tables of values, differences, layers.

use serde_json::{Value as Json, json};
use similar::{ChangeTag, TextDiff};
use yalotheca_core::family::Setting;
use yalotheca_core::id::ServerPath;
use yalotheca_core::ledger::Entry;
use yalotheca_core::settings::{Path, Spot, Value};
use yalotheca_core::slot::DocChange;
use yalotheca_core::text::{clean, counted};
use yalotheca_works::Error;
use yalotheca_works::server::Server;
use yalotheca_works::settle::Plan;
use yalotheca_works::tune::{Layer, Sheet, shown};

use super::table::wrapped;
use super::{findings, table};
use crate::ui::{Ui, paint};

/// More values than this are told by their number.
const MOST_ROWS: usize = 500;
/// More lines of differences than this are told by their number.
const MOST_LINES: usize = 60;
/// A value longer than this is cut.
const MOST_VALUE: usize = 300;

/// What stands for a secret.
const HIDDEN: &str = "(secret)";

fn text_of(value: &Value) -> String {
    let text = match value {
        Value::List(items) => items.iter().map(Value::shown).collect::<Vec<_>>().join(", "),
        Value::Text(words) if words.is_empty() => "\"\"".to_owned(),
        other => other.shown(),
    };
    clean(&text, MOST_VALUE)
}

/// What a setting means: its title, range and unit.
fn meaning(setting: &Setting) -> String {
    let unit = setting.unit.as_deref().unwrap_or("");
    let range = match setting.range() {
        (Some(least), Some(most)) => format!("{least} to {most} {unit}"),
        (Some(least), None) => format!("{least} {unit} or more"),
        (None, Some(most)) => format!("{most} {unit} or less"),
        (None, None) if !setting.choices.is_empty() => setting.choices.join(", "),
        (None, None) => unit.to_owned(),
    };
    let range = range.split_whitespace().collect::<Vec<_>>().join(" ");
    match (setting.title.as_str(), range.as_str()) {
        (title, "") => title.to_owned(),
        ("", range) => range.to_owned(),
        (title, range) => format!("{title} ({range})"),
    }
}

/// Writes every value of a file, with the path to type.
pub(crate) fn list(ui: &Ui, server: &Server, sheet: &Sheet) {
    let (rows, count) = sheet.document.rows(MOST_ROWS);
    let mut lines = Vec::new();
    let mut objects = Vec::new();
    let mut any = false;
    for row in &rows {
        let hidden = server.family.is_secret(&sheet.path, &row.path);
        let value = if hidden { HIDDEN.to_owned() } else { text_of(&row.value) };
        let setting = server.family.setting(&sheet.path, &row.path);
        let named = names(server, &sheet.path, &row.path);
        let mean = setting.map(meaning).unwrap_or_default();
        let mean = if named.is_empty() { mean } else { format!("{mean} [{}]", named.join(", ")).trim().to_owned() };
        any |= !mean.is_empty();
        let path = server.family.named(&sheet.path, &row.path).to_string();
        objects.push(json!({
            "path": path, "value": if hidden { Json::Null } else { plain(&row.value) }, "line": row.line,
            "secret": hidden, "meaning": mean,
        }));
        lines.push(vec![clean(&path, 200), value, clean(&mean, 120)]);
    }
    if lines.is_empty() {
        let none = match sheet.format {
            yalotheca_core::settings::Format::Text => {
                "No format of settings was recognised; values can be reached by a pattern over lines: '/speed (\\d+)/'"
            }
            _ => "The file holds no values.",
        };
        ui.line(wrapped(none, ui.width, "  "));
    } else if any {
        table::write(ui, &["path to type", "value", "meaning"], &lines);
    } else {
        let lines: Vec<Vec<String>> = lines
            .into_iter()
            .map(|mut l| {
                l.truncate(2);
                l
            })
            .collect();
        table::write(ui, &["path to type", "value"], &lines);
    }
    if count > rows.len() {
        ui.line(format!("… and {}", counted(count - rows.len(), "more value")));
    }
    ui.hint("");
    ui.hint(format!("Read as {}. To set one: yalotheca tune {} 'PATH=VALUE'", sheet.format.word(), sheet.path));
    ui.object(
        &json!({ "file": sheet.path.to_string(), "format": sheet.format.word(), "values": objects, "count": count }),
    );
}

fn names(server: &Server, file: &ServerPath, at: &Path) -> Vec<String> {
    server.family.setting(file, at).map(|s| s.names.clone()).unwrap_or_default()
}

fn plain(value: &Value) -> Json {
    serde_json::from_str(&value.json()).unwrap_or(Json::Null)
}

/// Writes the values of some paths: one alone as it is, several as a table.
pub(crate) fn read(ui: &Ui, server: &Server, sheet: &mut Sheet, paths: &[Path]) -> Result<(), Error> {
    let mut spots: Vec<Spot> = Vec::new();
    for path in paths {
        let at = server.family.unnamed(&sheet.path, path);
        let found = sheet.document.select(&at);
        spots.extend(found.map_err(|source| Error::Edit { file: sheet.path.to_string(), source })?);
    }
    let hidden = |s: &Spot| server.family.is_secret(&sheet.path, &s.path);
    let value = |s: &Spot| if hidden(s) { HIDDEN.to_owned() } else { clean(&s.value.shown(), 10_000) };
    let path = |s: &Spot| server.family.named(&sheet.path, &s.path).to_string();
    match spots.as_slice() {
        [one] => ui.line(value(one)),
        many => {
            let rows: Vec<Vec<String>> =
                many.iter().take(MOST_ROWS).map(|s| vec![clean(&path(s), 200), value(s)]).collect();
            table::write(ui, &["path", "value"], &rows);
            if many.len() > rows.len() {
                ui.line(format!("… and {}", counted(many.len() - rows.len(), "more value")));
            }
        }
    }
    if let [one] = spots.as_slice()
        && let Some(setting) = server.family.setting(&sheet.path, &one.path)
    {
        ui.hint(meaning(setting));
    }
    let objects: Vec<Json> = spots
        .iter()
        .map(|s| json!({ "path": path(s), "value": if hidden(s) { Json::Null } else { plain(&s.value) }, "line": s.line, "column": s.column, "secret": hidden(s) }))
        .collect();
    ui.object(&json!({ "file": sheet.path.to_string(), "format": sheet.format.word(), "values": objects }));
    Ok(())
}

/// Writes every layer that has a say in a value, lowest first.
pub(crate) fn layers(ui: &Ui, file: &str, at: &Path, layers: &[Layer]) {
    ui.line(format!("{} in {}", paint::in_style(paint::STRONG, &clean(&at.to_string(), 200)), clean(file, 200)));
    let none = || "(nothing)".to_owned();
    let wide = layers.iter().map(|l| l.name.chars().count()).max().unwrap_or(0);
    for layer in layers {
        let value = layer.value.as_ref().map_or_else(none, text_of);
        let mark = if layer.wins { paint::in_style(paint::GOOD, "→") } else { " ".to_owned() };
        let told = if layer.wins { "  this one stands" } else { "" };
        let text = format!("{:wide$}  {value}{told}", layer.name);
        ui.line(format!("  {mark} {}", wrapped(&text, ui.width - 4, "      ")));
    }
    let objects: Vec<Json> = layers
        .iter()
        .map(|l| json!({ "layer": l.name, "value": l.value.as_ref().map(plain), "stands": l.wins }))
        .collect();
    ui.object(&json!({ "file": file, "path": at.to_string(), "layers": objects }));
}

/// Writes what a plan changes in files and on the roster.
pub(crate) fn changes(ui: &Ui, server: &Server, plan: &Plan) {
    if plan.is_empty() {
        ui.line("Nothing to do: it is so already.");
    }
    for doc in &plan.docs {
        ui.line(paint::in_style(paint::STRONG, &doc.path.to_string()));
        match lines(server, doc) {
            Some(lines) => difference(ui, &lines),
            None => {
                for note in &doc.notes {
                    ui.line(format!("  {}", wrapped(&clean(note, 300), ui.width - 2, "    ")));
                }
            }
        }
    }
    if plan.roster_after.is_some() && plan.docs.is_empty() {
        ui.line("Only the roster changes.");
    }
    if !plan.findings.is_empty() {
        findings::write(ui, &plan.findings);
    }
}

pub(crate) type Line = (Option<ChangeTag>, String);

/// Writes lines that differ.
pub(crate) fn difference(ui: &Ui, lines: &[Line]) {
    for (tag, text) in lines.iter().take(MOST_LINES) {
        let text = clean(text, ui.width.saturating_sub(4).max(20));
        ui.line(match tag {
            Some(ChangeTag::Insert) => paint::in_style(paint::GOOD, &format!("  + {text}")),
            Some(ChangeTag::Delete) => paint::in_style(paint::BAD, &format!("  - {text}")),
            Some(ChangeTag::Equal) => format!("    {text}"),
            None => paint::in_style(paint::FAINT, &format!("  {text}")),
        });
    }
    if lines.len() > MOST_LINES {
        ui.line(format!("  … and {}", counted(lines.len() - MOST_LINES, "more line")));
    }
}

/// Returns lines that differ as a script reads them.
pub(crate) fn difference_object(lines: &[Line]) -> Vec<String> {
    let sign = |tag: &Option<ChangeTag>| match tag {
        Some(ChangeTag::Insert) => "+ ",
        Some(ChangeTag::Delete) => "- ",
        Some(ChangeTag::Equal) => "  ",
        None => "@ ",
    };
    lines.iter().map(|(tag, text)| format!("{}{text}", sign(tag))).collect()
}

/// The lines that differ with two of what stands around them; `None` where secrets cannot be told apart.
pub(crate) fn lines(server: &Server, doc: &DocChange) -> Option<Vec<Line>> {
    let text = |bytes: &Option<Vec<u8>>| match bytes {
        Some(bytes) => shown(server, &doc.path, bytes),
        None => Some(String::new()),
    };
    Some(between(&text(&doc.before)?, &text(&doc.after)?))
}

/// The lines in which two texts differ, with two of what stands around them.
pub(crate) fn between(before: &str, after: &str) -> Vec<Line> {
    let diff = TextDiff::from_lines(before, after);
    let mut out = Vec::new();
    for group in diff.grouped_ops(2) {
        let start = group.first().map_or(0, |op| op.new_range().start);
        out.push((None, format!("line {}", start + 1)));
        for op in group {
            for change in diff.iter_changes(&op) {
                out.push((Some(change.tag()), change.value().trim_end_matches(['\r', '\n']).to_owned()));
            }
        }
    }
    out
}

/// Returns a plan as JSON.
pub(crate) fn object(server: &Server, plan: &Plan) -> Json {
    let files: Vec<Json> = plan
        .docs
        .iter()
        .map(|doc| {
            let diff = lines(server, doc).map(|l| difference_object(&l));
            json!({ "path": doc.path.to_string(), "notes": doc.notes, "diff": diff })
        })
        .collect();
    json!({
        "nothing_to_do": plan.is_empty(),
        "files": files,
        "roster_changes": plan.roster_after.is_some(),
        "findings": findings::object(&plan.findings),
    })
}

/// Returns in one line what was done.
pub(crate) fn done(entry: &Entry) -> String {
    let what = match entry.files.len() {
        0 => "on the roster; no file changed".to_owned(),
        count => format!("{} changed", counted(count, "file")),
    };
    format!("{} {what} (history entry {}). Back: yalotheca undo", paint::in_style(paint::GOOD, "Done:"), entry.number)
}
