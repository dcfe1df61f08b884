use std::collections::BTreeMap;

use clap::Args;
use serde_json::{Value, json};
use yalotheca_core::id::ItemId;
use yalotheca_core::text::{clean, did_you_mean};
use yalotheca_works::Error;
use yalotheca_works::renew::{Readiness, Ready, Row, ready, rows};
use yalotheca_works::server::Server;
use yalotheca_works::settle::{Options, Renew as Which, plan};

use super::settle::{finish_with, helped};
use super::{FINDINGS, server};
use crate::setting::Setting;
use crate::ui::{Ui, paint};
use crate::view::{changes, table};

/// Moves to the newest versions that fit
///
/// Without ITEM everything that is not held moves; with it, only these, and what else must. `--for game=1.9` changes nothing:
/// it shows whether the server could move there.
#[derive(Debug, Args)]
pub(crate) struct Renew {
    /// The items that are to move
    #[arg(value_name = "ITEM")]
    items: Vec<String>,
    /// Only shows; ends with 1 when something is due
    #[arg(long)]
    dry_run: bool,
    /// Shows what is ready for another `game=VERSION`, `core=NAME` or `runtime=VERSION`; may be given several times
    #[arg(long = "for", value_name = "WHAT=VALUE", conflicts_with_all = ["items", "dry_run", "take"])]
    suppose: Vec<String>,
    /// Makes one of the changes that would help where no versions fit, by its number, and goes on
    #[arg(long, value_name = "NUMBER")]
    take: Option<usize>,
}

/// What can be supposed of a server.
const SUPPOSED: [&str; 3] = ["game", "core", "runtime"];

pub(crate) fn run(args: &Renew, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let server = server(setting)?;
    if !args.suppose.is_empty() {
        let suppose = args.suppose.iter().map(|w| supposed(w)).collect::<Result<BTreeMap<_, _>, _>>()?;
        let found = ready(&server, &Options { suppose: suppose.clone(), ..Options::default() })?;
        return Ok(readiness(&found, &suppose, ui));
    }
    let renew = match args.items.as_slice() {
        [] => Which::All,
        some => Which::These(some.iter().map(|i| on_it(&server, i)).collect::<Result<_, _>>()?),
    };
    let options = Options { renew, ..Options::default() };
    let plan = helped(&server, args.take, |s| plan(s, &options))?;
    let rows = rows(&server, &plan, &options)?;
    write(&rows, ui);
    if plan.is_empty() {
        ui.line(if rows.is_empty() { "Everything is at its newest version." } else { "Nothing moves." });
    } else {
        ui.line("");
        changes::write(ui, &plan, &server.text);
    }
    finish_with(&server, plan, args.dry_run, ui, Some(json!(rows.iter().map(object).collect::<Vec<_>>())))
}

fn supposed(word: &str) -> Result<(String, String), Error> {
    let fail = |why: &str| Error::Usage(format!("`{}` {why}; write --for game=1.9", clean(word, 60)));
    let (name, value) = word.split_once('=').ok_or_else(|| fail("is not WHAT=VALUE"))?;
    if !SUPPOSED.contains(&name) {
        let hint = did_you_mean(name, SUPPOSED);
        return Err(fail(&format!("names nothing that a server could be ({}){hint}", SUPPOSED.join(", "))));
    }
    if value.trim().is_empty() {
        return Err(fail("has no value"));
    }
    Ok((name.to_owned(), value.trim().to_owned()))
}

fn on_it(server: &Server, word: &str) -> Result<ItemId, Error> {
    let id = ItemId::new(word)?;
    let ledger = yalotheca_works::state::head(server.tree.as_ref())?;
    match ledger.items.contains_key(&id) || server.roster.want(&id).is_some() {
        true => Ok(id),
        false => {
            let known = ledger.items.keys().map(ItemId::as_str);
            Err(Error::NotWanted { item: word.to_owned(), hint: did_you_mean(word, known) })
        }
    }
}

fn write(rows: &[Row], ui: &Ui) {
    if rows.is_empty() {
        return;
    }
    let text =
        |v: &Option<yalotheca_core::version::Version>| v.as_ref().map(|v| clean(v.as_str(), 20)).unwrap_or_default();
    let line = |r: &Row| {
        let (step, new) = match (&r.old, &r.new, &r.leap) {
            (None, Some(_), _) => ("comes".to_owned(), text(&r.new)),
            (Some(_), None, _) => ("goes".to_owned(), String::new()),
            (_, _, Some(leap)) => (leap.to_string(), text(&r.new)),
            _ => ("stays".to_owned(), text(&r.new)),
        };
        let not = match (&r.newest, &r.why_not) {
            (Some(newest), Some(why)) => format!("{}: {}", clean(newest.as_str(), 20), clean(why, 160)),
            _ => String::new(),
        };
        vec![r.id.to_string(), text(&r.old), new, step, not]
    };
    table::write(ui, &["item", "now", "then", "step", "why not newer"], &rows.iter().map(line).collect::<Vec<_>>());
    for row in rows {
        if !row.needs.is_empty() {
            ui.line(format!("  {} needs: {}", row.id, clean(&row.needs.join(", "), 200)));
        }
        if !row.notes.is_empty() {
            ui.line(format!("  {}: {}", row.id, clean(&row.notes, 300)));
        }
        if !row.page.is_empty() {
            ui.line(format!("  {}: {}", row.id, clean(&row.page, 200)));
        }
    }
}

fn object(row: &Row) -> Value {
    json!({
        "item": row.id, "now": row.old, "then": row.new, "step": row.leap, "newest": row.newest, "why_not_newer": row.why_not,
        "needs": row.needs, "notes": row.notes, "page": row.page,
    })
}

/// Shows whether the server could move.
fn readiness(found: &Readiness, suppose: &BTreeMap<String, String>, ui: &Ui) -> u8 {
    let what: Vec<String> = suppose.iter().map(|(n, v)| format!("{n} {v}")).collect();
    let rows: Vec<Vec<String>> = found
        .items
        .iter()
        .map(|(id, version, ready)| {
            let (state, more) = match ready {
                Ready::Ready => ("ready".to_owned(), String::new()),
                Ready::Renewed(v) => ("ready after renewing".to_owned(), format!("to {}", clean(v.as_str(), 20))),
                Ready::None(newest) => {
                    let newest = newest.as_ref().map(|v| format!("the newest is {}", clean(v.as_str(), 20)));
                    ("no fitting version".to_owned(), newest.unwrap_or_else(|| "nobody offers it".to_owned()))
                }
                Ready::Blocked(by, why) => {
                    let by: Vec<String> = by.iter().map(ToString::to_string).collect();
                    (format!("blocked by {}", yalotheca_core::text::listed(&by)), clean(why, 160))
                }
                Ready::Core(Some(v)) => ("the core".to_owned(), format!("{} brings it", clean(v.as_str(), 20))),
                Ready::Core(None) => ("the core".to_owned(), "no version is known to bring it".to_owned()),
            };
            vec![id.to_string(), clean(version.as_str(), 20), state, more]
        })
        .collect();
    table::write(ui, &["item", "now", &format!("for {}", clean(&what.join(", "), 40)), ""], &rows);
    ui.line("");
    let reasons = found.together.as_ref().map(yalotheca_core::solve::tell).unwrap_or_default();
    let verdict = match (found.is_ready(), reasons.is_empty()) {
        (true, _) => paint::in_style(paint::GOOD, "The server can move: everything on it has a version that fits."),
        (_, true) => paint::in_style(paint::BAD, "Not yet: something on it has no version that fits."),
        (_, false) => paint::in_style(paint::BAD, "Not yet: each could by itself, but not all of them together:"),
    };
    ui.line(verdict);
    for reason in &reasons {
        ui.line(format!("  - {}", clean(reason, 300)));
    }
    if suppose.contains_key("core") {
        ui.hint("What that core can do is not known here: it is taken as what this one can.");
    }
    let item = |(id, version, ready): &(ItemId, yalotheca_core::version::Version, Ready)| {
        let (state, then, by) = match ready {
            Ready::Ready => ("ready", None, None),
            Ready::Renewed(v) => ("renewed", Some(v.clone()), None),
            Ready::None(newest) => ("none", newest.clone(), None),
            Ready::Blocked(by, why) => ("blocked", None, Some(json!({ "items": by, "why": why }))),
            Ready::Core(v) => ("core", v.clone(), None),
        };
        json!({ "item": id, "now": version, "state": state, "version": then, "blocked": by })
    };
    let items: Vec<Value> = found.items.iter().map(item).collect();
    ui.object(&json!({ "for": suppose, "ready": found.is_ready(), "items": items, "reasons": reasons }));
    if found.is_ready() { 0 } else { FINDINGS }
}
