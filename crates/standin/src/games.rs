//! What the stand-in servers have in common: a folder is read, a log is written, players knock at the door.

pub mod capstan;
pub mod coldrail;
pub mod gridlock;
pub mod lanternfall;
pub mod mirelands;
pub mod thornmere;

use std::io::{BufRead, Write};
use std::path::Path;

/// A made-up game's server over a folder.
pub trait Game {
    /// Reads the folder and starts; says a line for everything it loads or cannot.
    ///
    /// # Errors
    /// Why it cannot start.
    fn start(&mut self, folder: &Path, say: &mut dyn FnMut(String)) -> Result<(), String>;

    /// Lets a player in, or says why not. `baggage` is what the player has or asks for.
    ///
    /// # Errors
    /// Why the player is not let in.
    fn join(&mut self, folder: &Path, baggage: &[&str]) -> Result<String, String>;
}

/// Returns a game by the name of its program.
pub fn game(name: &str) -> Option<Box<dyn Game>> {
    match name {
        "capstan" => Some(Box::<capstan::Capstan>::default()),
        "coldrail" => Some(Box::<coldrail::Coldrail>::default()),
        "gridlock" => Some(Box::<gridlock::Gridlock>::default()),
        "lanternfall" => Some(Box::<lanternfall::Lanternfall>::default()),
        "mirelands" => Some(Box::<mirelands::Mirelands>::default()),
        "thornmere" => Some(Box::<thornmere::Thornmere>::default()),
        _ => None,
    }
}

/// Runs a server in `folder` until it is told to stop; returns its exit status.
pub fn run(name: &str, folder: &Path, input: &mut dyn BufRead, out: &mut dyn Write) -> i32 {
    let Some(mut game) = game(name) else { return 2 };
    let mut say = |line: String| {
        let _ = writeln!(out, "{line}");
        let _ = out.flush();
    };
    if let Err(why) = game.start(folder, &mut say) {
        say(format!("cannot start: {why}"));
        return 3;
    }
    say(format!("{name} is up"));
    for line in input.lines().map_while(Result::ok) {
        let words: Vec<&str> = line.split_whitespace().collect();
        match words.split_first() {
            Some((&"stop", _)) => break,
            Some((&"reread", [what])) => say(format!("reread {what}")),
            Some((&"join", baggage)) => say(told(game.join(folder, baggage))),
            _ => say(format!("no such command: {}", line.trim())),
        }
    }
    say(format!("{name} has stopped"));
    0
}

fn told(joined: Result<String, String>) -> String {
    match joined {
        Ok(place) => format!("in: {place}"),
        Err(why) => format!("not in: {why}"),
    }
}

/// A start and a player's knock, as one text: the log, then how the player fared.
pub fn visit(name: &str, folder: &Path, baggage: &[&str]) -> String {
    let mut log = String::new();
    if name == "quarrywake" {
        let mut out = Vec::new();
        crate::quarrywake::run(folder, &crate::quarrywake::Habits::default(), &mut std::io::empty(), &mut out);
        let log = String::from_utf8_lossy(&out).into_owned();
        let up = log.contains("quarrywake is up\n");
        return if up { format!("{log}{}\n", told(crate::quarrywake::join(folder))) } else { log };
    }
    let Some(mut game) = game(name) else { return log };
    let started = game.start(folder, &mut |line| log.push_str(&format!("{line}\n")));
    match started {
        Err(why) => log.push_str(&format!("cannot start: {why}\n")),
        Ok(()) => log.push_str(&format!("{name} is up\n{}\n", told(game.join(folder, baggage)))),
    }
    log
}

/// The names in a folder, in order.
fn names(folder: &Path) -> Vec<String> {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let mut out: Vec<String> = entries.filter_map(|e| e.file_name().into_string().ok()).collect();
    out.sort();
    out
}
