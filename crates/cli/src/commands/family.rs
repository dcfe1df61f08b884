use std::path::PathBuf;

use clap::{Args, Subcommand};
use serde_json::json;
use yalotheca_core::family::Family;
use yalotheca_works::{Error, families};

use super::FINDINGS;
use crate::setting::Setting;
use crate::ui::{Ui, paint};
use crate::view::table;

/// Lists, explains and checks family files: how kinds of game servers take content
#[derive(Debug, Args)]
pub(crate) struct FamilyArgs {
    #[command(subcommand)]
    what: What,
}

#[derive(Debug, Subcommand)]
enum What {
    /// Lists the families that are known here
    List,
    /// Prints a family's file
    Show {
        /// The family
        name: String,
    },
    /// Says in plain sentences what a family does
    Explain {
        /// The family
        name: String,
    },
    /// Tells everything that is wrong with a family file
    Check {
        /// The file
        file: PathBuf,
    },
}

pub(crate) fn run(args: &FamilyArgs, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    match &args.what {
        What::List => list(setting, ui),
        What::Show { name } => {
            let text = families::text_of(&setting.home, name)?;
            ui.line(text.trim_end());
            ui.object(&json!({ "family": name, "text": text }));
            Ok(0)
        }
        What::Explain { name } => {
            let family = families::named(&setting.home, name)?;
            let said = family.explain();
            ui.line(paint::in_style(paint::STRONG, &family.rules.title));
            ui.line(table::wrapped(&family.rules.about, ui.width, ""));
            for (heading, sentences) in &said {
                ui.line("");
                ui.line(paint::in_style(paint::STRONG, heading));
                for sentence in sentences {
                    ui.line(table::wrapped(&format!("  {sentence}"), ui.width, "    "));
                }
            }
            let parts = said.iter().map(|(h, s)| json!({ "about": h, "said": s })).collect::<Vec<_>>();
            ui.object(&json!({ "family": family.rules.name, "title": family.rules.title, "parts": parts }));
            Ok(0)
        }
        What::Check { file } => check(file, ui),
    }
}

fn list(setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let all = families::all(&setting.home)?;
    let kinds = |f: &Family| f.rules.kind.values().map(|k| k.title.clone()).collect::<Vec<_>>();
    let rows: Vec<Vec<String>> =
        all.iter().map(|f| vec![f.rules.name.clone(), f.rules.title.clone(), kinds(f).join(", ")]).collect();
    table::write(ui, &["family", "game", "takes"], &rows);
    let object = |f: &Family| json!({ "name": f.rules.name, "title": f.rules.title, "kinds": f.rules.kind.keys().collect::<Vec<_>>(), "digest": f.digest.hex() });
    ui.object(&json!({ "families": all.iter().map(object).collect::<Vec<_>>() }));
    Ok(0)
}

fn check(file: &std::path::Path, ui: &Ui) -> Result<u8, Error> {
    let (family, faults) = families::checked(file)?;
    for fault in &faults {
        let place = format!("{}:{}:{}", file.display(), fault.line, fault.column);
        ui.line(table::wrapped(&format!("{} {}", paint::in_style(paint::STRONG, &place), fault.why), ui.width, "    "));
    }
    match &family {
        Some(family) => {
            let kinds = family.rules.kind.len();
            ui.line(format!("{} is a family file: {} kinds of items.", file.display(), kinds));
        }
        None => ui.line(format!("{} in all.", yalotheca_core::text::counted(faults.len(), "fault"))),
    }
    let object = |f: &yalotheca_core::family::FamilyError| json!({ "line": f.line, "column": f.column, "why": f.why });
    ui.object(&json!({ "good": family.is_some(), "faults": faults.iter().map(object).collect::<Vec<_>>() }));
    Ok(if faults.is_empty() { 0 } else { FINDINGS })
}
