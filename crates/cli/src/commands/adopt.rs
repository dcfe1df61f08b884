use clap::Args;
use serde_json::{Value, json};
use yalotheca_core::text::{clean, counted};
use yalotheca_works::Error;
use yalotheca_works::adopt::{KnownBy, Request, adopt};
use yalotheca_works::tree::Login;

use super::surroundings;
use crate::setting::Setting;
use crate::ui::{Ui, paint};
use crate::view::{findings, table};

/// Takes an existing server under care
///
/// Recognises its game, reads its core, runtime and game version, lists what is on it, and writes a roster here and a
/// ledger beside the server's files. The server itself is not changed.
#[derive(Debug, Args)]
pub(crate) struct Adopt {
    /// The server's folder, or the address of a rented host: sftp://club@host:4722/folder, ftp://…, ftps://…
    #[arg(default_value = ".", value_name = "WHERE")]
    at: String,
    /// The private SSH key for that host, as a file
    #[arg(long, value_name = "FILE")]
    key: Option<String>,
    /// A file that only you can read; its first line is the password for that host
    #[arg(long, value_name = "FILE")]
    password_file: Option<String>,
    /// The most connections to make to that host at once (FTP)
    #[arg(long, value_name = "NUMBER", value_parser = clap::value_parser!(u8).range(1..))]
    connections: Option<u8>,
    /// A folder beside the server's own, as its family names it; may be given several times
    #[arg(long = "root", value_name = "NAME=FOLDER")]
    roots: Vec<String>,
    /// Says what kind of server it is, instead of recognising it; also for an empty folder
    #[arg(long, value_name = "NAME")]
    family: Option<String>,
    /// A catalogue to write on the roster: an address or a folder; may be given several times
    #[arg(long = "catalogue", value_name = "ADDRESS")]
    catalogues: Vec<String>,
    /// Only looks; writes neither roster nor ledger
    #[arg(long)]
    dry_run: bool,
}

pub(crate) fn run(args: &Adopt, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let pair = |text: &String| {
        let parts = text.split_once('=').map(|(name, folder)| (name.to_owned(), folder.to_owned()));
        parts.ok_or_else(|| Error::Usage(format!("`{}` is not NAME=FOLDER", clean(text, 80))))
    };
    let request = Request {
        roots: args.roots.iter().map(pair).collect::<Result<_, _>>()?,
        roster: setting.roster.clone(),
        at: args.at.clone(),
        family: args.family.clone(),
        catalogues: args.catalogues.clone(),
        login: Login {
            key: args.key.clone(),
            password_file: args.password_file.clone(),
            connections: args.connections,
        },
        write: !args.dry_run,
    };
    let adopted = adopt(&request, &surroundings(setting))?;
    let (name, title) = &adopted.family;
    let known = |fact: &str| adopted.facts.get(fact).map(|v| clean(v, 60));
    for line in adopted.told.iter().flat_map(|f| findings::lines(f, ui.width)) {
        ui.hint(line);
    }
    if args.at.starts_with("ftp://") {
        ui.hint(format!(
            "{} ftp:// sends your password and files in the clear; if the host has it, use ftps:// or sftp://",
            paint::in_style(paint::CARE, "warning:")
        ));
    }
    if adopted.again {
        ui.line("This server is under care already: its roster is as it was settled last.");
    }
    match adopted.certainty {
        Some(_) => ui.line(format!("This is a {} server.", paint::in_style(paint::STRONG, title))),
        None => ui.line(format!("Taken as a {} server.", paint::in_style(paint::STRONG, title))),
    }
    for (fact, label) in
        [("core", "core"), ("core-release", "core release"), ("game", "game version"), ("runtime", "runtime")]
    {
        // what the family never reads is no news
        if !adopted.reads.iter().any(|f| f == fact) {
            continue;
        }
        ui.line(format!("  {label:13} {}", known(fact).unwrap_or_else(|| "not found".to_owned())));
    }
    if adopted.items.is_empty() {
        ui.line("No items were found on it.");
    } else {
        ui.line("");
        let by = |by| match by {
            KnownBy::Hash => "catalogue",
            KnownBy::Manifest => "manifest",
        };
        let rows: Vec<Vec<String>> = adopted
            .items
            .iter()
            .map(|i| {
                vec![
                    i.id.to_string(),
                    clean(&i.version, 30),
                    i.kind.clone(),
                    by(i.by).to_owned(),
                    clean(&i.path.to_string(), 80),
                ]
            })
            .collect();
        table::write(ui, &["item", "version", "kind", "known by", "file"], &rows);
    }
    if !adopted.unplaced.is_empty() {
        ui.line("");
        ui.line(format!("{} left alone:", counted(adopted.unplaced.len(), "other file")));
        for (path, why) in adopted.unplaced.iter().take(20) {
            ui.line(format!("  {}: {}", clean(&path.to_string(), 80), clean(why, 300)));
        }
        if adopted.unplaced.len() > 20 {
            ui.line(format!("  … and {} more", adopted.unplaced.len() - 20));
        }
    }
    if let Some(why) = &adopted.unasked {
        ui.hint(format!(
            "{} the catalogues could not be asked: {}",
            paint::in_style(paint::CARE, "warning:"),
            clean(why, 300)
        ));
    }
    ui.hint("");
    let next = "Next: yalotheca want ITEM, then yalotheca settle";
    ui.hint(match args.dry_run {
        true => "Nothing was written.".to_owned(),
        false => format!("Wrote {}. {next}", setting.roster.display()),
    });
    let items: Vec<Value> = adopted
        .items
        .iter()
        .map(|i| json!({ "item": i.id, "version": i.version, "kind": i.kind, "known_by": if i.by == KnownBy::Hash { "hash" } else { "manifest" }, "path": i.path.to_string() }))
        .collect();
    let unplaced: Vec<Value> =
        adopted.unplaced.iter().map(|(p, why)| json!({ "path": p.to_string(), "why": why })).collect();
    ui.object(&json!({
        "family": name, "certainty": adopted.certainty, "facts": adopted.facts, "items": items,
        "unplaced": unplaced, "roster": setting.roster.display().to_string(),
    }));
    Ok(0)
}
