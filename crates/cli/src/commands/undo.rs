use std::collections::BTreeSet;

use clap::Args;
use yalotheca_core::id::ServerPath;
use yalotheca_works::Error;
use yalotheca_works::settle::Options;
use yalotheca_works::undo::plan;

use super::{server, settle};
use crate::setting::Setting;
use crate::ui::Ui;

/// Goes back to what the server was before
///
/// Files, settings and roster lines come back byte for byte; what you changed by hand since stays. An undo can be
/// undone.
#[derive(Debug, Args)]
pub(crate) struct Undo {
    /// Goes back to before this history entry, instead of the last one
    #[arg(value_name = "NUMBER")]
    number: Option<u64>,
    /// Only shows the changes
    #[arg(long)]
    dry_run: bool,
    /// Replaces this file though it was changed by hand since; may be given several times
    #[arg(long, value_name = "PATH")]
    put_back: Vec<String>,
}

pub(crate) fn run(args: &Undo, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let server = server(setting)?;
    let put_back = args.put_back.iter().map(|p| ServerPath::try_from(p.clone())).collect::<Result<BTreeSet<_>, _>>()?;
    let plan = plan(&server, args.number, &Options { put_back, accept_terms: None })?;
    settle::finish(&server, plan, args.dry_run, ui)
}
