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
    /// The person and the machine, for other people.
    pub(crate) who: String,
    /// The machine's name.
    pub(crate) machine: String,
    /// The password of a rented host.
    pub(crate) password: Option<String>,
    /// The password of encrypted archives.
    pub(crate) archive_password: Option<String>,
    /// The socket of an SSH agent.
    pub(crate) agent: Option<PathBuf>,
    /// The person's SSH folder.
    pub(crate) ssh: Option<PathBuf>,
    /// The person's editor.
    pub(crate) editor: Option<String>,
    /// The fingerprint of a host that is trusted at first sight.
    pub(crate) trust_host: Option<String>,
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
    if let Some(effect) = variable("YALOTHECA_DIE_AT").and_then(|n| n.parse().ok()) {
        // only builds with debug assertions hear it (works::tree::die)
        yalotheca_works::tree::die::at(effect);
    }
    let machine = machine();
    let setting = Setting {
        who: variable("YALOTHECA_WHO").unwrap_or_else(|| format!("{} on {machine}", person())),
        machine,
        password: variable("YALOTHECA_PASSWORD"),
        archive_password: variable("YALOTHECA_ARCHIVE_PASSWORD"),
        agent: variable("SSH_AUTH_SOCK").map(PathBuf::from),
        ssh: variable("HOME").or_else(|| variable("USERPROFILE")).map(|h| PathBuf::from(h).join(".ssh")),
        editor: variable("VISUAL").or_else(|| variable("EDITOR")),
        trust_host: cli.globals.trust_host.clone(),
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

fn person() -> String {
    ["USER", "LOGNAME", "USERNAME"].iter().find_map(|v| variable(v)).unwrap_or_else(|| "somebody".to_owned())
}

fn machine() -> String {
    let told = variable("COMPUTERNAME").or_else(|| std::fs::read_to_string("/proc/sys/kernel/hostname").ok());
    let told = told.or_else(|| std::fs::read_to_string("/etc/hostname").ok()).map(|t| t.trim().to_owned());
    told.filter(|t| !t.is_empty()).unwrap_or_else(|| "this machine".to_owned())
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
