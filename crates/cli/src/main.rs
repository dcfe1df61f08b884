//! `yalotheca`: installs and updates what a game server needs, so that it starts cleanly.

mod commands;
mod progress;
mod setting;
mod ui;
mod view;

use std::process::ExitCode;

fn main() -> ExitCode {
    let (cli, setting) = match setting::resolve() {
        Ok(resolved) => resolved,
        Err(stop) => return stop,
    };
    let ui = ui::Ui::new(&setting);
    ExitCode::from(commands::run(cli, &setting, &ui))
}
