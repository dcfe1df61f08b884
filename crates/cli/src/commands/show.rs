use std::collections::BTreeSet;

use clap::Args;
use serde_json::{Value, json};
use yalotheca_core::family::Template;
use yalotheca_core::id::ItemId;
use yalotheca_core::text::{bytes, clean};
use yalotheca_works::Error;
use yalotheca_works::want::resolve;
use yalotheca_works::why::{Branch, tree};

use super::shelf;
use crate::setting::Setting;
use crate::ui::{Ui, paint};
use crate::view::table;

/// Shows an item: versions, needs, sizes, where its files would go
#[derive(Debug, Args)]
pub(crate) struct Show {
    /// The item's id, another name of it, or its catalogue number
    #[arg(value_name = "ITEM")]
    item: String,
    /// Shows what it needs on the server, and what that needs, as a tree
    #[arg(long)]
    tree: bool,
    /// With --tree: who needs it
    #[arg(long, requires = "tree")]
    reverse: bool,
}

/// Draws a tree of items.
fn draw(branch: &Branch, reverse: bool, before: &str, ui: &Ui) {
    for (at, one) in branch.below.iter().enumerate() {
        let last = at + 1 == branch.below.len();
        let word = if reverse { "needs" } else { "as" };
        let more = if one.told { " (told above)" } else { "" };
        let line = if one.line > 0 { format!("  (roster line {})", one.line) } else { String::new() };
        let (corner, bar) = if last { ("└─ ", "   ") } else { ("├─ ", "│  ") };
        let asks = paint::in_style(paint::FAINT, &format!("{word} {}", clean(&one.asks, 60)));
        ui.line(format!("{before}{corner}{} {}  {asks}{line}{more}", one.id, clean(one.version.as_str(), 20)));
        draw(one, reverse, &format!("{before}{bar}"), ui);
    }
}

fn object(branch: &Branch) -> Value {
    let below: Vec<Value> = branch.below.iter().map(object).collect();
    json!({ "item": branch.id, "version": branch.version, "asks": branch.asks, "roster_line": branch.line, "told": branch.told, "below": below })
}

/// The place of a file, with `*` for what only the download tells.
fn whereto(to: &Template, id: &str) -> String {
    to.fill(|field| Some(if field == "id" { id.to_owned() } else { "*".to_owned() }.into())).unwrap_or_default()
}

pub(crate) fn run(args: &Show, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let server = shelf(setting)?;
    if args.tree {
        let found = tree(&server, &ItemId::new(&args.item)?, args.reverse)?;
        let line = if found.line > 0 { format!("  (roster line {})", found.line) } else { String::new() };
        ui.line(format!(
            "{} {}{line}",
            paint::in_style(paint::STRONG, found.id.as_str()),
            clean(found.version.as_str(), 20)
        ));
        if found.below.is_empty() {
            ui.line(if args.reverse { "nothing else needs it" } else { "it needs nothing else" });
        }
        draw(&found, args.reverse, "", ui);
        ui.object(&object(&found));
        return Ok(0);
    }
    let id = resolve(&server, &args.item)?;
    let offered = server.catalogues.items(&BTreeSet::from([id.clone()]))?.remove(&id);
    let offered = offered
        .ok_or_else(|| Error::NotOffered { item: id.to_string(), hint: "; it is only on the roster".to_owned() })?;
    let known = server.facts()?;
    let facts = &offered.facts;
    let kind = server.family.rules.kind.get(&facts.kind);
    ui.line(format!("{}  {}", paint::in_style(paint::STRONG, id.as_str()), clean(&facts.title, 80)));
    ui.line(format!("  {}", clean(&facts.about, 300)));
    ui.line(format!("  kind       {}", kind.map_or(clean(&facts.kind, 40), |k| k.title.clone())));
    if !facts.names.is_empty() {
        ui.line(format!("  also       {}", clean(&facts.names.join(", "), 200)));
    }
    if let Some(number) = &facts.number {
        ui.line(format!("  number     {}", clean(number, 40)));
    }
    ui.line(format!("  catalogue  {}", offered.catalogue));
    let places: Vec<String> = kind.into_iter().flat_map(|k| &k.place).map(|p| whereto(&p.to, id.as_str())).collect();
    if !places.is_empty() {
        ui.line(format!("  goes to    {}", places.join(", ")));
    }
    ui.line("");
    let mut rows = Vec::new();
    let mut versions: Vec<Value> = Vec::new();
    for version in &facts.versions {
        let misfit = version.misfit(&known, facts.scheme).map(|m| m.to_string());
        let verdict = match &misfit {
            Some(why) => format!("no: {why}"),
            None if version.channel == "stable" => "yes".to_owned(),
            None => format!("yes, a {}", version.channel),
        };
        let needs: Vec<String> = version.needs.iter().map(ToString::to_string).collect();
        let size: u64 = version.files.iter().map(|f| f.bytes).sum();
        rows.push(vec![
            clean(version.version.as_str(), 30),
            clean(&version.date, 10),
            bytes(size),
            clean(&verdict, 120),
            clean(&needs.join(", "), 200),
        ]);
        versions.push(json!({
            "version": version.version, "date": version.date, "channel": version.channel, "bytes": size,
            "misfit": misfit, "needs": needs, "games": version.games,
        }));
    }
    table::write(ui, &["version", "date", "size", "fits here", "needs"], &rows);
    ui.object(&json!({
        "item": id, "kind": facts.kind, "title": facts.title, "about": facts.about, "names": facts.names,
        "number": facts.number, "catalogue": offered.catalogue, "goes_to": places, "versions": versions,
    }));
    Ok(0)
}
