use std::collections::BTreeSet;
use std::path::PathBuf;

use clap::Args;
use serde_json::{Value, json};
use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::id::ServerPath;
use yalotheca_works::Error;
use yalotheca_works::apply::carry_out;
use yalotheca_works::server::Server;
use yalotheca_works::settle::like::plan_like;
use yalotheca_works::settle::slate::plan_clean;
use yalotheca_works::settle::{Options, Plan, plan, take_help, vouch};
use yalotheca_works::state::forget;

use super::{FINDINGS, NEEDS_ANSWER, server};
use crate::setting::Setting;
use crate::ui::{Reply, Ui};
use crate::view::changes;

/// Makes the server match the roster
///
/// Chooses versions that go together, fetches and opens them, puts every file in its place, writes the settings that
/// make the server load them, shows the changes and asks. What you changed by hand is kept and told.
#[derive(Debug, Args)]
pub(crate) struct Settle {
    /// Only shows the changes
    #[arg(long)]
    dry_run: bool,
    /// Replaces this file, or the values in it, though it was changed by hand; may be given several times
    #[arg(long, value_name = "PATH")]
    put_back: Vec<String>,
    /// Vouches for a signer, by fingerprint, and puts that on the roster; may be given several times
    #[arg(long, value_name = "FINGERPRINT")]
    vouch: Vec<String>,
    /// Says that you entered this where only you can, as it was asked for; may be given several times
    #[arg(long, value_name = "NAME")]
    done: Vec<String>,
    /// Brings exactly the versions, order and tuned settings of another server: its roster, or a ledger of it
    #[arg(long, value_name = "FILE")]
    like: Option<PathBuf>,
    /// Brings this bundle onto a clean slate: what its family clears goes to quarantine, worlds and players stay
    #[arg(long, value_name = "WHAT", conflicts_with = "like")]
    clean_slate: Option<String>,
    /// Makes one of the changes that would help where no versions fit, by its number, and goes on
    #[arg(long, value_name = "NUMBER")]
    take: Option<usize>,
    /// Takes the server for stopped, whatever its signs say
    #[arg(long)]
    stopped: bool,
    /// Reads every file of ours again, and what is written back before it is put in place
    #[arg(long)]
    verify: bool,
}

pub(crate) fn run(args: &Settle, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let mut server = server(setting)?;
    if !args.vouch.is_empty() {
        server = vouch(server, &args.vouch, !args.dry_run)?;
    }
    server.around.stopped = args.stopped;
    server.around.verify = args.verify;
    if args.verify {
        forget(server.tree.as_ref());
    }
    let put_back = args.put_back.iter().map(|p| ServerPath::try_from(p.clone())).collect::<Result<BTreeSet<_>, _>>()?;
    let options = Options { put_back, done: args.done.iter().cloned().collect(), ..Options::default() };
    let plan = match (&args.like, &args.clean_slate) {
        (Some(other), _) => plan_like(&server, other, options)?,
        (_, Some(what)) => plan_clean(&server, what, &options)?,
        _ => helped(&server, args.take, |s| plan(s, &options))?,
    };
    finish(&server, plan, args.dry_run, ui)
}

/// Plans; where no versions fit, with the change of that number put on the roster.
pub(super) fn helped(
    server: &Server,
    take: Option<usize>,
    plan: impl Fn(&Server) -> Result<Plan, Error>,
) -> Result<Plan, Error> {
    match (plan(server), take) {
        (Err(Error::Impossible(way)), Some(number)) => {
            let text = take_help(server, &way, number)?;
            let mut plan = plan(&server.with_roster(text.clone())?)?;
            plan.roster_after.get_or_insert(text);
            Ok(plan)
        }
        (Ok(mut plan), Some(number)) => {
            let cause = format!("nothing is at odds now, so there is no change {number} to take");
            let fix = "nothing must be done; what is shown here needs no change of the roster";
            plan.findings.push(Finding::new("no-help-needed", Severity::Note, cause, fix));
            Ok(plan)
        }
        (done, _) => done,
    }
}

/// Shows a plan, asks, and carries it out.
pub(super) fn finish(server: &Server, plan: Plan, dry_run: bool, ui: &Ui) -> Result<u8, Error> {
    changes::write(ui, &plan, &server.text);
    finish_with(server, plan, dry_run, ui, None)
}

/// The same for a plan that was shown; `renewed` is what is told of it besides.
pub(super) fn finish_with(
    server: &Server,
    plan: Plan,
    dry_run: bool,
    ui: &Ui,
    renewed: Option<Value>,
) -> Result<u8, Error> {
    let planned = changes::object(&plan);
    let said = |applied: Option<u64>| {
        let mut out = json!({ "applied": applied.is_some(), "history_entry": applied, "changes": planned });
        if let (Some(out), Some(rows)) = (out.as_object_mut(), &renewed) {
            out.insert("renew".to_owned(), rows.clone());
        }
        out
    };
    if plan.is_empty() || dry_run {
        ui.object(&said(None));
        return Ok(if plan.is_empty() { 0 } else { FINDINGS });
    }
    ui.line("");
    if let Some(code) = refused(ui, true, &said) {
        return Ok(code);
    }
    let (items, files, docs) = (plan.items.len(), plan.steps.len(), plan.docs.len());
    let entry = carry_out(server, plan)?;
    ui.line(changes::done(items, files, docs, &entry.act, entry.number));
    ui.object(&said(Some(entry.number)));
    ui.hint("To take it back: yalotheca undo. To see whether it starts: yalotheca trial");
    Ok(0)
}

/// Asks whether to make the changes, where that is due; the exit code where they are not to be made. `said` is the
/// result as JSON.
pub(super) fn refused(ui: &Ui, ask: bool, said: &dyn Fn(Option<u64>) -> Value) -> Option<u8> {
    if ask { refused_to(ui, "Make these changes?", said) } else { None }
}

/// The same, with a question of its own.
pub(super) fn refused_to(ui: &Ui, question: &str, said: &dyn Fn(Option<u64>) -> Value) -> Option<u8> {
    match ui.ask(question) {
        Reply::Yes => None,
        Reply::No => {
            ui.object(&said(None));
            ui.hint("Nothing was changed.");
            Some(0)
        }
        Reply::Nobody => {
            ui.object(&said(None));
            ui.error("Nothing was changed: nobody is there to be asked.\n  fix: to make these changes, add --yes");
            Some(NEEDS_ANSWER)
        }
    }
}
