use std::path::PathBuf;

use clap::{Args, Subcommand};
use serde_json::json;
use yalotheca_core::family::Family;
use yalotheca_core::roster::{Limits, Roster};
use yalotheca_core::text::clean;
use yalotheca_works::catalogue::Catalogues;
use yalotheca_works::fetch::Fetcher;
use yalotheca_works::{Error, families};

use super::{FINDINGS, surroundings};
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
    /// Keeps a family file that somebody else wrote: shows what it would run, and asks
    Add {
        /// A file, a link, or a name that a catalogue carries
        what: String,
        /// The digest of the file, or how that begins, where nobody is there to be asked
        digest: Option<String>,
        /// A catalogue to look in besides the roster's
        #[arg(long, value_name = "ADDRESS")]
        catalogue: Option<String>,
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
                approved(&family, &command, digest.as_deref(), None, setting, ui)?;
                ui.line(format!("{name} is approved. A changed file asks again."));
            }
            ui.object(&json!({ "family": name, "digest": family.digest.hex(), "runs": family.commands() }));
            Ok(0)
        }
        What::Add { what, digest, catalogue } => add(what, digest.as_deref(), catalogue.as_deref(), setting, ui),
        What::Check { file } => check(file, ui),
    }
}

fn add(what: &str, digest: Option<&str>, catalogue: Option<&str>, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let around = surroundings(setting);
    let here = std::path::Path::new(".");
    let fetcher = Fetcher::new(Limits::default(), setting.offline, setting.stop.clone());
    let own = catalogue.map(str::to_owned).into_iter();
    let beside = setting.roster.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(here);
    // a roster that is not there, or cannot be read, names no catalogues
    let text = std::fs::read_to_string(&setting.roster).unwrap_or_default();
    let listed = Roster::parse(&text).map(|r| r.catalogues).unwrap_or_default();
    let all: Vec<String> = own.chain(listed).collect();
    let catalogues = Catalogues::new(&all, beside, &around.home, &fetcher);
    let text = families::brought(&setting.home, what, &catalogues, &fetcher)?;
    let (family, faults) = Family::check(&text);
    let Some(family) = family else {
        return Ok(faulty(what, &faults, ui));
    };
    let name = &family.rules.name;
    ui.line(format!("{} takes {}.", paint::in_style(paint::STRONG, name), family.rules.title));
    let commands = family.commands();
    if !commands.is_empty() && !families::approved(&setting.home, &family) {
        let command = commands.join("; ");
        ui.line(table::wrapped(&format!("It would run: {}", clean(&command, 600)), ui.width, "  "));
        let how = format!("yalotheca family add {what} {}", family.digest.short());
        approved(&family, &command, digest, Some(how), setting, ui)?;
    }
    let instead = families::keep(&setting.home, &family, &text)?;
    let words = if instead { "It takes the place of another one of that name." } else { "It is kept." };
    ui.line(words);
    ui.hint(format!("What it does: yalotheca family explain {name}"));
    let object = json!({ "family": name, "digest": family.digest.hex(), "runs": commands, "good": true, "faults": [] });
    ui.object(&object);
    Ok(0)
}

/// Asks once whether a family may run its commands; `given` is the digest that somebody read, `how` the command that
/// would give it.
pub(super) fn approved(
    family: &Family,
    command: &str,
    given: Option<&str>,
    how: Option<String>,
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
    let digest = digest.short().to_owned();
    let how = how.unwrap_or_else(|| format!("yalotheca family approve {name} {digest}"));
    Err(Error::NotApproved { family: name.clone(), digest, command, how })
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
    if family.is_none() || !faults.is_empty() {
        return Ok(faulty(&file.display().to_string(), &faults, ui));
    }
    if let Some(family) = &family {
        let kinds = yalotheca_core::text::counted(family.rules.kind.len(), "kind");
        ui.line(format!("{} is a family file: {kinds} of items.", file.display()));
    }
    ui.object(&json!({ "good": true, "faults": [] }));
    Ok(0)
}

/// Tells everything that is wrong with a family file.
fn faulty(file: &str, faults: &[yalotheca_core::family::FamilyError], ui: &Ui) -> u8 {
    for fault in faults {
        let place = format!("{file}:{}:{}", fault.line, fault.column);
        ui.line(table::wrapped(&format!("{} {}", paint::in_style(paint::STRONG, &place), fault.why), ui.width, "    "));
    }
    ui.line(format!("{} in all.", yalotheca_core::text::counted(faults.len(), "fault")));
    let object = |f: &yalotheca_core::family::FamilyError| json!({ "line": f.line, "column": f.column, "why": f.why });
    ui.object(&json!({ "good": false, "faults": faults.iter().map(object).collect::<Vec<_>>() }));
    FINDINGS
}
