use std::collections::BTreeSet;

use clap::Args;
use yalotheca_core::id::ServerPath;
use yalotheca_works::Error;
use yalotheca_works::settle::Options;
use yalotheca_works::undo::{Back, plan};

use super::{server, settle};
use crate::setting::Setting;
use crate::ui::Ui;

/// Takes back what was done last, or another entry of the history
///
/// Files, settings and roster lines come back byte for byte; what you changed by hand since stays. An undo can be
/// undone.
#[derive(Debug, Args)]
pub(crate) struct Undo {
    /// The history entry to take back, instead of the last one; later ones stay
    #[arg(value_name = "NUMBER")]
    number: Option<u64>,
    /// Takes back all later entries too
    #[arg(long, requires = "number")]
    and_later: bool,
    /// Only shows the changes
    #[arg(long)]
    dry_run: bool,
    /// Replaces this file though it was changed by hand since; may be given several times
    #[arg(long, value_name = "PATH")]
    put_back: Vec<String>,
    /// Takes the server for stopped, whatever its signs say
    #[arg(long)]
    stopped: bool,
}

pub(crate) fn run(args: &Undo, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let mut server = server(setting)?;
    server.around.stopped = args.stopped;
    let put_back = args.put_back.iter().map(|p| ServerPath::try_from(p.clone())).collect::<Result<BTreeSet<_>, _>>()?;
    let back = Back { number: args.number, later_too: args.and_later };
    let plan = plan(&server, back, &Options { put_back, ..Options::default() })?;
    settle::finish(&server, plan, args.dry_run, ui)
}
