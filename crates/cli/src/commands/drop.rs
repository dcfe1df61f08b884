use clap::Args;
use yalotheca_works::Error;
use yalotheca_works::want::drop;

use super::{server, want};
use crate::setting::Setting;
use crate::ui::Ui;

/// Takes items off the roster and shows what settle would do
#[derive(Debug, Args)]
pub(crate) struct Drop {
    /// The items
    #[arg(required = true, value_name = "ITEM")]
    items: Vec<String>,
    /// Only shows; the roster stays as it is
    #[arg(long)]
    dry_run: bool,
}

pub(crate) fn run(args: &Drop, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let server = server(setting)?;
    let outcome = drop(&server, &args.items, !args.dry_run)?;
    Ok(want::told(&outcome, args.dry_run, ui))
}
