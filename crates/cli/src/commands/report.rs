use std::path::PathBuf;

use clap::Args;
use serde_json::json;
use yalotheca_core::text::bytes;
use yalotheca_works::Error;
use yalotheca_works::report::report;

use super::server;
use crate::setting::Setting;
use crate::ui::{Ui, paint};

/// Packs what somebody needs who helps you: versions, order, findings, settings without secrets, the last log
///
/// Nothing is sent. Look into the archive before you give it away: it lists here what is in it.
#[derive(Debug, Args)]
pub(crate) struct Report {
    /// For whom it is: the one who helps
    #[arg(long, required = true)]
    for_help: bool,
    /// The archive; a new file
    #[arg(long, value_name = "FILE")]
    to: Option<PathBuf>,
}

pub(crate) fn run(args: &Report, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let server = server(setting)?;
    let day = setting.now.get(..10).unwrap_or("today");
    let name = format!("help-{}-{day}", server.family.rules.name);
    // a second one of a day gets a number
    let mut free =
        std::iter::once(format!("{name}.zip")).chain((2..).map(|n| format!("{name}-{n}.zip"))).map(PathBuf::from);
    let to = args.to.clone().or_else(|| free.find(|p| !p.exists())).unwrap_or_else(|| PathBuf::from(name));
    let packed = report(&server, &to)?;
    ui.line(format!("{} holds:", paint::in_style(paint::GOOD, &packed.path.display().to_string())));
    let width = packed.files.iter().map(|(name, _)| name.chars().count()).max().unwrap_or(0);
    for (name, size) in &packed.files {
        ui.line(format!("  {name:width$}  {}", bytes(*size)));
    }
    for (name, why) in &packed.left {
        ui.line(format!("left out: {name}: {why}"));
    }
    ui.hint("Nothing was sent. What settings call secret stands as (secret); look yourself before you give it away.");
    let files: Vec<_> = packed.files.iter().map(|(name, size)| json!({ "name": name, "bytes": size })).collect();
    let left: Vec<_> = packed.left.iter().map(|(name, why)| json!({ "file": name, "why": why })).collect();
    ui.object(&json!({ "archive": packed.path.display().to_string(), "files": files, "left_out": left }));
    Ok(0)
}
