//! What was typed and what the environment says, resolved once into plain values.

use std::io::IsTerminal as _;
use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use clap::{CommandFactory as _, FromArgMatches as _};
use etcetera::BaseStrategy as _;
use yalotheca_works::home::Home;

use crate::commands::Cli;

/// Everything a command may depend on, besides its own arguments.
pub(crate) struct Setting {
    /// The roster's path.
    pub(crate) roster: PathBuf,
    /// One JSON object on stdout and nothing else.
    pub(crate) json: bool,
    /// Questions are answered with yes.
    pub(crate) yes: bool,
    /// Only results and errors.
    pub(crate) quiet: bool,
    /// The network is not used.
    pub(crate) offline: bool,
    /// Somebody sits at a terminal and can be asked.
    pub(crate) interactive: bool,
    /// Progress can be drawn.
    pub(crate) draws: bool,
    /// Columns to fill.
    pub(crate) width: usize,
    /// Where this machine keeps what was fetched.
    pub(crate) home: Home,
    /// The time, RFC 3339 in UTC.
    pub(crate) now: String,
    /// Set by Ctrl-C.
    pub(crate) stop: Arc<AtomicBool>,
    /// This program, for the demo.
    pub(crate) program: PathBuf,
}

/// Reads the command line and the environment.
pub(crate) fn resolve() -> Result<(Cli, Setting), ExitCode> {
    let out_is_terminal = std::io::stdout().is_terminal();
    let seen = terminal_size::terminal_size().map(|(w, _)| usize::from(w.0));
    let width = if out_is_terminal { seen.unwrap_or(80).clamp(40, 100) } else { 80 };
    let command = Cli::command().term_width(width.min(80));
    let matches = command.try_get_matches().map_err(|e| {
        let _ = e.print();
        ExitCode::from(u8::try_from(e.exit_code()).unwrap_or(2))
    })?;
    let cli = Cli::from_arg_matches(&matches).map_err(|e| {
        let _ = e.print();
        ExitCode::from(2)
    })?;
    let stop = Arc::new(AtomicBool::new(false));
    for signal in [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM] {
        // the second one ends the program at once, as a person who presses twice expects
        let _ = signal_hook::flag::register_conditional_shutdown(signal, 130, stop.clone());
        let _ = signal_hook::flag::register(signal, stop.clone());
    }
    let setting = Setting {
        roster: cli.globals.roster.clone().unwrap_or_else(|| PathBuf::from("roster.toml")),
        json: cli.globals.json,
        yes: cli.globals.yes,
        quiet: cli.globals.quiet || cli.globals.json,
        offline: cli.globals.offline,
        interactive: std::io::stdin().is_terminal() && std::io::stderr().is_terminal() && !cli.globals.json,
        draws: std::io::stderr().is_terminal(),
        width,
        home: Home::new(home()),
        now: variable("YALOTHECA_NOW").unwrap_or_else(now),
        stop,
        program: std::env::current_exe().unwrap_or_else(|_| PathBuf::from("yalotheca")),
    };
    Ok((cli, setting))
}

fn home() -> PathBuf {
    if let Some(folder) = variable("YALOTHECA_HOME") {
        return PathBuf::from(folder);
    }
    etcetera::choose_base_strategy()
        .map_or_else(|_| PathBuf::from(".yalotheca-home"), |s| s.data_dir().join("yalotheca"))
}

/// Returns a variable of the environment; `None` where it is not set, or empty.
#[allow(clippy::disallowed_methods)] // the one place that reads the environment
pub(crate) fn variable(name: &str) -> Option<String> {
    std::env::var(name).ok().filter(|v| !v.is_empty())
}

fn now() -> String {
    jiff::Timestamp::now().strftime("%Y-%m-%dT%H:%M:%SZ").to_string()
}
