use clap::{Args, Subcommand, ValueEnum};
use serde_json::json;
use yalotheca_works::Error;
use yalotheca_works::maps::{maps, play, rotate};

use super::{server, want};
use crate::setting::Setting;
use crate::ui::{Ui, paint};
use crate::view::table;

/// Shows the maps on the server: which is played, which are played in turn
///
/// Without a word it lists them. `use` and `rotation` put your word on the roster and show what settle would do.
#[derive(Debug, Args)]
pub(crate) struct Maps {
    #[command(subcommand)]
    what: Option<What>,
}

#[derive(Debug, Subcommand)]
enum What {
    /// Plays this map: everything that must be set for it is set together
    Use {
        /// The map, as the server calls it, or its item
        name: String,
        /// Only shows; the roster stays as it is
        #[arg(long)]
        dry_run: bool,
    },
    /// Shows which maps are played in turn, or says that of one
    Rotation {
        /// The map, as the server calls it, or its item
        #[arg(requires = "state")]
        name: Option<String>,
        /// Whether it is played in turn
        state: Option<State>,
        /// For how many turns
        turns: Option<String>,
        /// Only shows; the roster stays as it is
        #[arg(long)]
        dry_run: bool,
    },
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum State {
    In,
    Out,
}

pub(crate) fn run(args: &Maps, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let server = server(setting)?;
    match &args.what {
        Some(What::Use { name, dry_run }) => {
            let outcome = play(&server, name, !dry_run)?;
            let words = if outcome.changed { "is to be played" } else { "is to be played already" };
            ui.line(format!("{} {words}", paint::in_style(paint::GOOD, name)));
            Ok(want::told(&outcome, *dry_run, ui))
        }
        Some(What::Rotation { name: Some(name), state: Some(state), turns, dry_run }) => {
            let outcome = rotate(&server, name, *state == State::In, turns.as_deref(), !dry_run)?;
            let words = if *state == State::In { "is to be played in turn" } else { "is to be left out" };
            ui.line(format!("{} {words}", paint::in_style(paint::GOOD, name)));
            Ok(want::told(&outcome, *dry_run, ui))
        }
        None | Some(What::Rotation { .. }) => {
            let all = maps(&server)?;
            let row = |m: &yalotheca_works::maps::Map| {
                let (state, turns) = m.turn.clone().unwrap_or_default();
                vec![
                    m.name.clone().unwrap_or_else(|| "(known after a start)".to_owned()),
                    if m.active { "played".to_owned() } else { String::new() },
                    state,
                    turns,
                    m.item.as_ref().map_or_else(|| "was there before".to_owned(), ToString::to_string),
                ]
            };
            let mut rows: Vec<Vec<String>> = all.iter().map(row).collect();
            let mut heading = vec!["map", "now", "rotation", "turns", "item"];
            // columns that say nothing here are left out
            for at in (1..4).rev() {
                if rows.iter().all(|r| r.get(at).is_none_or(String::is_empty)) {
                    heading.remove(at);
                    rows.iter_mut().for_each(|r| drop(r.remove(at)));
                }
            }
            if rows.is_empty() {
                ui.line("No maps are known on this server.");
            } else {
                table::write(ui, &heading, &rows);
            }
            let object = |m: &yalotheca_works::maps::Map| {
                json!({
                    "name": m.name, "item": m.item, "played": m.active,
                    "rotation": m.turn.as_ref().map(|(state, turns)| json!({ "state": state, "turns": turns }))
                })
            };
            ui.object(&json!({ "maps": all.iter().map(object).collect::<Vec<_>>() }));
            Ok(0)
        }
    }
}
