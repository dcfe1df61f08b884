use clap::Args;
use serde_json::{Value, json};
use yalotheca_core::text::clean;
use yalotheca_core::verdict::{State, Verdict, Whole};
use yalotheca_works::Error;
use yalotheca_works::apply::carry_out;
use yalotheca_works::server::Server;
use yalotheca_works::trial::{Listener, Tried, accept_terms, trial, unapproved};

use super::family::approved;
use super::{FINDINGS, NEEDS_ANSWER, server};
use crate::setting::Setting;
use crate::ui::{Ui, paint};
use crate::view::table::{self, wrapped};

/// Starts the server, reads its log, and tells what loaded
///
/// The server is stopped again when it is up. Terms that a person must accept are never accepted unasked.
#[derive(Debug, Args)]
pub(crate) struct Trial {
    /// Accepts the terms with this number, which you have read; recorded in the ledger
    #[arg(long, value_name = "NUMBER")]
    accept_terms: Option<String>,
}

struct Shown<'a> {
    ui: &'a Ui,
}

impl Listener for Shown<'_> {
    fn line(&mut self, line: &str) {
        self.ui.log(&clean(line, 300));
    }
}

pub(crate) fn run(args: &Trial, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let server = server(setting)?;
    if let Some(command) = unapproved(&server) {
        approved(&server.family, &command, None, None, setting, ui)?;
    }
    if let Some(number) = &args.accept_terms {
        let plan = accept_terms(&server, number)?;
        if !plan.docs.is_empty() {
            let entry = carry_out(&server, plan)?;
            ui.hint(format!("Accepted the terms number {} (history entry {}).", clean(number, 20), entry.number));
        }
    }
    let Tried { verdict, starts, why } = trial(&server, &mut Shown { ui })?;
    ui.hint("");
    if starts > 1 {
        ui.line(format!("It was started {starts} times:"));
        for why in &why {
            ui.line(format!("  {}", wrapped(&clean(why, 300), ui.width - 4, "  ")));
        }
        ui.line("");
    }
    told(&verdict, starts, &server, ui);
    Ok(match verdict.whole {
        Whole::Clean => 0,
        Whole::Terms { .. } => NEEDS_ANSWER,
        _ => FINDINGS,
    })
}

fn told(verdict: &Verdict, starts: usize, server: &Server, ui: &Ui) {
    let terms = server.family.rules.terms.as_ref();
    let number = terms.and_then(|t| server.facts().ok()?.get(&t.wanted).map(str::to_owned)).unwrap_or_default();
    let text = terms.map(|t| t.text.clone()).unwrap_or_default();
    let started = matches!(verdict.whole, Whole::Clean | Whole::Unclean);
    if started && !verdict.items.is_empty() {
        let rows: Vec<Vec<String>> = verdict.items.iter().map(|(item, state)| row(item, state)).collect();
        table::write(ui, &["item", "verdict", "why"], &rows);
        ui.line("");
    }
    let (word, line, fix) = match &verdict.whole {
        Whole::Clean => {
            (paint::in_style(paint::GOOD, "Clean:"), "the server came up and nothing failed.".to_owned(), String::new())
        }
        Whole::Unclean => (
            paint::in_style(paint::BAD, "Not clean:"),
            "the server came up, and something was not loaded.".to_owned(),
            "see why above; yalotheca check tells more".to_owned(),
        ),
        Whole::Terms { log } => (
            paint::in_style(paint::CARE, "Terms:"),
            format!("the server stopped, because nobody accepted its terms yet: \"{}\"", clean(log, 200)),
            format!("read {text} in the server's folder; if you accept, run: yalotheca trial --accept-terms {number}"),
        ),
        Whole::Stopped { log, status } => (
            paint::in_style(paint::BAD, "Did not start:"),
            format!("it stopped by itself ({status}). Its word: \"{}\"", clean(log, 300)),
            "yalotheca check tells what stands in the way".to_owned(),
        ),
        Whole::TooSlow { seconds, log } => (
            paint::in_style(paint::BAD, "Not up in time:"),
            format!("it was stopped after {seconds} seconds. Its last word: \"{}\"", clean(log, 300)),
            "if it only needs longer, raise `seconds` under [start] in the family file".to_owned(),
        ),
    };
    ui.line(format!("{word} {}", wrapped(&line, ui.width - 16, "  ")));
    if !fix.is_empty() {
        ui.line(format!("  fix: {}", wrapped(&fix, ui.width - 7, "       ")));
    }
    let items: Vec<Value> = verdict
        .items
        .iter()
        .map(|(item, state)| {
            let mut object = json!(state);
            object["item"] = json!(item);
            object
        })
        .collect();
    let mut object = json!(verdict.whole);
    object["items"] = json!(items);
    object["starts"] = json!(starts);
    ui.object(&object);
}

fn row(item: &str, state: &State) -> Vec<String> {
    let (word, why) = match state {
        State::Loaded => ("loaded", String::new()),
        State::Failed { log, line, .. } => ("FAILED", format!("log line {line}: \"{}\"", clean(log, 300))),
        State::NotMentioned => ("not mentioned", "the log says nothing of it".to_owned()),
    };
    vec![clean(item, 60), word.to_owned(), why]
}
