use std::path::PathBuf;

use clap::{Args, Subcommand};
use serde_json::json;
use yalotheca_core::family::Family;
use yalotheca_core::text::clean;
use yalotheca_works::{Error, families};

use super::FINDINGS;
use crate::setting::Setting;
use crate::ui::{Reply, Ui, paint};
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
    /// Lets a family that was not shipped with this program run its commands, once you read what they are
    Approve {
        /// The family
        name: String,
        /// The digest of its file, or how that begins, where nobody is there to be asked
        digest: Option<String>,
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
        What::Approve { name, digest } => {
            let family = families::named(&setting.home, name)?;
            let command = family.commands().join("; ");
            if families::approved(&setting.home, &family) {
                ui.line(format!("{name} was shipped with this program, or is approved already."));
            } else {
                approved(&family, &command, digest.as_deref(), setting, ui)?;
                ui.line(format!("{name} is approved. A changed file asks again."));
            }
            ui.object(&json!({ "family": name, "digest": family.digest.hex(), "runs": family.commands() }));
            Ok(0)
        }
        What::Check { file } => check(file, ui),
    }
}

/// Asks once whether a family may run its commands; `given` is the digest that somebody read.
pub(super) fn approved(
    family: &Family,
    command: &str,
    given: Option<&str>,
    setting: &Setting,
    ui: &Ui,
) -> Result<(), Error> {
    let name = &family.rules.name;
    let (digest, command) = (&family.digest, clean(command, 300));
    let question = format!("The family `{name}` was not shipped with this program. It would run: {command}\nMay it?");
    // --yes is for changes; a stranger's command is approved by its digest or by a person
    let right = match given {
        Some(given) => given.len() >= 8 && digest.hex().starts_with(given),
        None => !ui.json() && ui.ask_person(&question) == Reply::Yes,
    };
    if right {
        return families::approve(&setting.home, family);
    }
    Err(Error::NotApproved { family: name.clone(), digest: digest.short().to_owned(), command })
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
            let kinds = yalotheca_core::text::counted(family.rules.kind.len(), "kind");
            ui.line(format!("{} is a family file: {kinds} of items.", file.display()));
        }
        None => ui.line(format!("{} in all.", yalotheca_core::text::counted(faults.len(), "fault"))),
    }
    let object = |f: &yalotheca_core::family::FamilyError| json!({ "line": f.line, "column": f.column, "why": f.why });
    ui.object(&json!({ "good": family.is_some(), "faults": faults.iter().map(object).collect::<Vec<_>>() }));
    Ok(if faults.is_empty() { 0 } else { FINDINGS })
}
