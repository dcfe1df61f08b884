use clap::Args;
use serde_json::{Value, json};
use yalotheca_core::version::Range;
use yalotheca_works::Error;
use yalotheca_works::want::resolve;
use yalotheca_works::why::{Because, Link, why};

use super::server;
use crate::setting::Setting;
use crate::ui::{Ui, paint};
use crate::view::order;
use crate::view::table::wrapped;

/// Explains why an item is here, why in this version, why at this place in the load order, and what it set
///
/// `yalotheca why ITEM@VERSION` says what stands against a version that was not taken.
#[derive(Debug, Args)]
pub(crate) struct Why {
    /// The item, or the item with a version
    #[arg(value_name = "ITEM[@VERSION]")]
    item: String,
}

pub(crate) fn run(args: &Why, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let server = server(setting)?;
    let (name, range) = args.item.split_once('@').map_or((args.item.as_str(), None), |(n, r)| (n, Some(r)));
    let range = range.map(Range::parse).transpose()?;
    let ledger = yalotheca_works::state::head(server.tree.as_ref())?;
    let known = yalotheca_core::id::ItemId::new(name).ok().filter(|id| ledger.items.contains_key(id));
    let id = match known {
        Some(id) => id,
        None => resolve(&server, name)?,
    };
    let found = why(&server, &id, range.as_ref())?;
    write(&found, ui);
    ui.object(&object(&found));
    Ok(0)
}

fn heading(ui: &Ui, text: &str) {
    ui.line(paint::in_style(paint::STRONG, text));
}

fn write(found: &Because, ui: &Ui) {
    let say = |text: &str| ui.line(format!("  {}", wrapped(text, ui.width - 2, "    ")));
    match &found.here {
        Some((version, kind)) => heading(ui, &format!("{} {version}, {}", found.id, yalotheca_core::text::a(kind))),
        None => heading(ui, &format!("{} is not on the server", found.id)),
    }
    if found.here.is_some() {
        heading(ui, "why it is here");
        for chain in &found.chains {
            say(&chain.iter().map(link).collect::<Vec<_>>().join("; "));
        }
        match (found.chains.is_empty(), found.more) {
            (true, _) => say("nothing on the roster leads to it any more; the next settle takes it away"),
            (_, 0) => {}
            (_, more) => say(&format!("and {more} more ways")),
        }
    }
    match (&found.against, &found.here) {
        (Some(against), _) if !against.why.is_empty() => {
            heading(ui, &format!("why not {}", against.version));
            against.why.iter().for_each(|w| say(w));
        }
        (Some(against), Some(_)) => {
            heading(ui, &format!("why not {}", against.version));
            say(&format!("nothing stands against it: yalotheca renew {}", found.id));
        }
        (Some(against), None) => say(&format!("{} could be had: yalotheca want {}", against.version, found.id)),
        (None, Some(_)) => {
            heading(ui, "why this version");
            say("it is the newest there is");
        }
        (None, None) => say("nobody offers it"),
    }
    if let Some((at, line)) = &found.place {
        heading(ui, &format!("why at place {at} of the load order"));
        say(&order::said(&line.why));
    }
    if !found.set.is_empty() {
        heading(ui, "what it set");
        for (file, at, value) in &found.set {
            let at = if at.is_empty() { String::new() } else { format!(" {at}") };
            say(&format!("{file}{at}: {value}"));
        }
    }
}

fn link(link: &Link) -> String {
    match &link.owner {
        None => format!("roster line {} wants {}", link.line, link.asks),
        Some((id, version)) => format!("{id} {version} needs {}", link.asks),
    }
}

fn object(found: &Because) -> Value {
    let chains: Vec<Vec<String>> = found.chains.iter().map(|c| c.iter().map(link).collect()).collect();
    let set: Vec<Value> = found.set.iter().map(|(f, a, v)| json!({ "file": f, "at": a, "value": v })).collect();
    json!({
        "item": found.id,
        "version": found.here.as_ref().map(|(v, _)| v),
        "kind": found.here.as_ref().map(|(_, k)| k),
        "chains": chains,
        "more": found.more,
        "against": found.against.as_ref().map(|a| json!({ "version": a.version, "why": a.why })),
        "place": found.place.as_ref().map(|(at, l)| json!({ "at": at, "why": order::said(&l.why) })),
        "set": set,
    })
}
