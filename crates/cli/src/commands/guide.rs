use std::io::Write as _;
use std::path::PathBuf;

use clap::{Args, CommandFactory as _};
use serde_json::json;
use yalotheca_works::Error;

use super::Cli;
use crate::ui::Ui;

/// Writes man pages, or completions for a shell
#[derive(Debug, Args)]
#[group(required = true, multiple = false)]
pub(crate) struct Guide {
    /// Writes the man pages into this folder
    #[arg(long, value_name = "FOLDER")]
    man: Option<PathBuf>,
    /// Prints the completions for this shell
    #[arg(long, value_name = "SHELL")]
    shell: Option<clap_complete::Shell>,
}

pub(crate) fn run(args: &Guide, ui: &Ui) -> Result<u8, Error> {
    let mut command = Cli::command();
    if let Some(shell) = args.shell {
        let mut out = Vec::new();
        clap_complete::generate(shell, &mut command, "yalotheca", &mut out);
        let text = String::from_utf8_lossy(&out).into_owned();
        if ui.json() {
            ui.object(&json!({ "completions": text }));
        } else {
            let _ = std::io::stdout().write_all(text.as_bytes());
        }
    }
    if let Some(folder) = &args.man {
        let failed = |source| Error::Disk { path: folder.clone(), doing: "cannot be written to", source };
        std::fs::create_dir_all(folder).map_err(failed)?;
        command.build();
        clap_mangen::generate_to(command, folder).map_err(failed)?;
        ui.line(format!("Wrote the man pages to {}.", folder.display()));
        ui.object(&json!({ "man": folder.display().to_string() }));
    }
    Ok(0)
}
