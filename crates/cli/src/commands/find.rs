use clap::Args;
use serde_json::{Value, json};
use yalotheca_core::catalogue::words;
use yalotheca_core::text::clean;
use yalotheca_works::Error;
use yalotheca_works::catalogue::Offered;

use super::shelf;
use crate::setting::Setting;
use crate::ui::Ui;
use crate::view::table;

/// Searches the catalogues
///
/// Every word is looked for in ids, other names, titles and descriptions; items that answer to most words are shown.
#[derive(Debug, Args)]
pub(crate) struct Find {
    /// What to look for
    #[arg(required = true, value_name = "WORDS")]
    words: Vec<String>,
}

pub(crate) fn run(args: &Find, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let server = shelf(setting)?;
    let facts = server.facts()?;
    let mut found = server.catalogues.search(&words(&args.words.join(" ")))?;
    found.retain(|o| o.facts.family == server.family.rules.name);
    let fits = |o: &Offered| {
        let scheme = o.facts.scheme;
        let fit = o.facts.versions.iter().find(|v| v.channel == "stable" && v.misfit(&facts, scheme).is_none());
        fit.map(|v| v.version.to_string())
    };
    let newest = |o: &Offered| o.facts.versions.first().map(|v| v.version.to_string()).unwrap_or_default();
    let rows: Vec<Vec<String>> = found
        .iter()
        .map(|o| {
            let fit = fits(o).unwrap_or_else(|| format!("none (newest {})", clean(&newest(o), 20)));
            let kind = server.family.kind_title(&o.facts.kind).to_owned();
            vec![o.facts.id.to_string(), clean(&fit, 40), clean(&kind, 20), clean(&o.facts.about, 200)]
        })
        .collect();
    if rows.is_empty() {
        let none = if server.catalogues.is_empty() {
            "Nothing to search: the roster names no catalogue. Add one under `catalogues`."
        } else {
            "Nothing found. Try fewer or other words."
        };
        ui.line(none);
    } else {
        table::write(ui, &["item", "fits here", "kind", "what it does"], &rows);
        ui.hint("");
        ui.hint("More of one: yalotheca show ITEM. Take one: yalotheca want ITEM");
    }
    let items: Vec<Value> = found
        .iter()
        .map(|o| {
            json!({
                "item": o.facts.id, "kind": o.facts.kind, "title": o.facts.title, "about": o.facts.about,
                "newest": newest(o), "fits_here": fits(o), "catalogue": o.catalogue,
            })
        })
        .collect();
    ui.object(&json!({ "found": items }));
    Ok(0)
}
