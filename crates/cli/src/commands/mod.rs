//! The commands, one file each: resolve, call one operation, show.

mod adopt;
mod check;
mod demo;
mod drop;
mod family;
mod find;
mod guide;
mod history;
mod maps;
mod order;
mod renew;
mod report;
mod settle;
mod show;
mod trial;
mod tune;
mod undo;
mod want;
mod why;

use std::path::PathBuf;
use std::sync::Arc;

use clap::{Args, Parser, Subcommand};
use yalotheca_works::Error;
use yalotheca_works::progress::{Progress, Silent};
use yalotheca_works::server::{Server, Surroundings};
use yalotheca_works::tree::Access;

use crate::progress::Bar;
use crate::setting::Setting;
use crate::ui::Ui;
use crate::view;

/// Installs and updates what a game server needs, so that it starts cleanly.
///
/// Every command works on the roster of the current folder (roster.toml): what you want on one server. Begin with
/// `yalotheca adopt` in the server's folder, or try the made-up club's servers with `yalotheca demo`.
#[derive(Debug, Parser)]
#[command(name = "yalotheca", version, max_term_width = 80, arg_required_else_help = true, after_help = CODES)]
pub(crate) struct Cli {
    #[command(flatten)]
    pub(crate) globals: Globals,
    #[command(subcommand)]
    command: Command,
}

const CODES: &str = "Exit codes: 0 done; 1 findings, or a dry run with changes; 2 wrong usage; 3 it cannot be; \
4 the outside failed (network, disk, host); 5 refused for safety; 6 needs an answer.";

/// Flags that mean the same everywhere.
#[derive(Debug, Args)]
#[command(next_help_heading = "Everywhere")]
pub(crate) struct Globals {
    /// Works on this roster instead of the current folder's
    #[arg(long, global = true, value_name = "FILE")]
    pub(crate) roster: Option<PathBuf>,
    /// Prints one JSON object and nothing else
    #[arg(long, global = true)]
    pub(crate) json: bool,
    /// Answers every question with yes
    #[arg(long, short, global = true)]
    pub(crate) yes: bool,
    /// Prints only results and errors
    #[arg(long, short, global = true)]
    pub(crate) quiet: bool,
    /// Uses only what was fetched before
    #[arg(long, global = true)]
    pub(crate) offline: bool,
    /// Trusts a rented host that is seen for the first time, if it shows this
    #[arg(long, global = true, value_name = "FINGERPRINT")]
    pub(crate) trust_host: Option<String>,
}

#[derive(Debug, Subcommand)]
enum Command {
    Adopt(adopt::Adopt),
    Find(find::Find),
    Show(show::Show),
    Want(want::Want),
    Drop(drop::Drop),
    Settle(settle::Settle),
    Renew(renew::Renew),
    Why(why::Why),
    Order(order::Order),
    Check(check::Check),
    Trial(trial::Trial),
    Maps(maps::Maps),
    Tune(tune::Tune),
    History(history::History),
    Undo(undo::Undo),
    Report(report::Report),
    Family(family::FamilyArgs),
    Demo(demo::Demo),
    Guide(guide::Guide),
}

/// Exit code of a run with findings, or of a dry run with changes.
pub(crate) const FINDINGS: u8 = 1;
/// Exit code of a run that needs an answer nobody is there to give.
pub(crate) const NEEDS_ANSWER: u8 = 6;

/// Runs the command; returns the exit code.
pub(crate) fn run(cli: Cli, setting: &Setting, ui: &Ui) -> u8 {
    let done = match cli.command {
        Command::Adopt(args) => adopt::run(&args, setting, ui),
        Command::Find(args) => find::run(&args, setting, ui),
        Command::Show(args) => show::run(&args, setting, ui),
        Command::Want(args) => want::run(&args, setting, ui),
        Command::Drop(args) => drop::run(&args, setting, ui),
        Command::Settle(args) => settle::run(&args, setting, ui),
        Command::Renew(args) => renew::run(&args, setting, ui),
        Command::Why(args) => why::run(&args, setting, ui),
        Command::Order(args) => order::run(&args, setting, ui),
        Command::Check(args) => check::run(&args, setting, ui),
        Command::Trial(args) => trial::run(&args, setting, ui),
        Command::Maps(args) => maps::run(&args, setting, ui),
        Command::Report(args) => report::run(&args, setting, ui),
        Command::Family(args) => family::run(&args, setting, ui),
        Command::Tune(args) => tune::run(&args, setting, ui),
        Command::History(args) => history::run(&args, setting, ui),
        Command::Undo(args) => undo::run(&args, setting, ui),
        Command::Demo(args) => demo::run(&args, setting, ui),
        Command::Guide(args) => guide::run(&args, ui),
    };
    done.unwrap_or_else(|error| view::error::write(ui, &error))
}

/// What the operations need to know of this run.
pub(crate) fn surroundings(setting: &Setting) -> Surroundings {
    let progress: Arc<dyn Progress> =
        if setting.draws && !setting.quiet { Arc::new(Bar::new()) } else { Arc::new(Silent) };
    Surroundings {
        home: setting.home.clone(),
        offline: setting.offline,
        stop: setting.stop.clone(),
        progress,
        now: setting.now.clone(),
        who: setting.who.clone(),
        machine: setting.machine.clone(),
        verify: false,
        stopped: false,
        access: Access {
            password: setting.password.clone(),
            archive_password: setting.archive_password.clone(),
            agent: setting.agent.clone(),
            ssh: setting.ssh.clone(),
            trusted: setting.trust_host.clone(),
            ask: Arc::new(Ui::new(setting)),
        },
    }
}

/// Opens the server of the current roster; what a run that was ended left half done is taken back or finished.
pub(crate) fn server(setting: &Setting) -> Result<Server, Error> {
    shelf(setting)?.recovered()
}

/// Opens the server of the current roster for its catalogues; the server itself is not asked.
pub(crate) fn shelf(setting: &Setting) -> Result<Server, Error> {
    Server::open(&setting.roster, &surroundings(setting))
}
