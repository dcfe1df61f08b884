mod stories;

use std::io::{BufReader, Write as _};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::atomic::Ordering;
use std::time::Duration;

use clap::Args;
use serde_json::{Value, json};
use yalotheca_standin::host::Host;
use yalotheca_standin::quarrywake::Habits;
use yalotheca_standin::{catalogue, club, games, quarrywake, rented};
use yalotheca_works::Error;

use crate::setting::Setting;
use crate::ui::{Ui, paint};
use stories::{GAMES, RENTED};

/// Runs the made-up club's servers: seven games here, or one on a rented host
///
/// Everything is made up and stays in one folder: the server, a catalogue host on a free loopback port, and what is
/// fetched. The commands it runs are shown as you would type them.
#[derive(Debug, Args)]
pub(crate) struct Demo {
    /// Which story: a game's, `rented` (the first one's over SFTP), or all games, one after the other
    #[arg(
        default_value = "all",
        value_parser = ["all", "quarrywake", "capstan", "coldrail", "lanternfall", "thornmere", "gridlock", "mirelands", "rented"],
        value_name = "STORY"
    )]
    story: String,
    /// Keeps the server in this new folder, and the host running until you press Ctrl-C
    #[arg(long, value_name = "FOLDER")]
    keep: Option<PathBuf>,
    /// Acts as one of the made-up programs, for the demo's own use
    #[arg(long, hide = true, num_args = 1.., allow_hyphen_values = true, value_name = "PROGRAM")]
    stand_in: Vec<String>,
}

pub(crate) fn run(args: &Demo, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    if let Some((program, arguments)) = args.stand_in.split_first() {
        return Ok(act(program, arguments));
    }
    let temporary = match &args.keep {
        Some(_) => None,
        None => Some(tempfile::tempdir().map_err(failed(Path::new("(temporary folder)")))?),
    };
    let folder = match (&args.keep, &temporary) {
        (Some(folder), _) => folder.clone(),
        (None, Some(temporary)) => temporary.path().to_owned(),
        (None, None) => PathBuf::from("."),
    };
    if args.keep.is_some() && folder.exists() {
        return Err(Error::Disk {
            path: folder,
            doing: "stands here already; name a new folder",
            source: std::io::ErrorKind::AlreadyExists.into(),
        });
    }
    if args.story == "rented" {
        return rented(&folder, args.keep.is_some(), setting, ui);
    }
    let keep = args.keep.is_some();
    // what is kept is one server
    let told = if keep && args.story == "all" { "quarrywake" } else { args.story.as_str() };
    let mut objects: Vec<Value> = Vec::new();
    for (game, title, steps) in GAMES.iter().filter(|(game, ..)| told == "all" || told == *game) {
        if told == "all" {
            ui.line("");
            ui.line(paint::in_style(paint::STRONG, &format!("==== {title}")));
        }
        let below = if told == "all" { folder.join(game) } else { folder.clone() };
        objects.push(story(game, title, steps, &below, keep, setting, ui)?);
    }
    if let ("all", true) = (told, !keep) {
        ui.object(&json!({ "stories": objects }));
    } else if let Some(only) = objects.pop() {
        ui.object(&only);
    }
    if !keep {
        ui.hint("");
        ui.hint("That was the demo; its folder is gone again. To play with it: yalotheca demo GAME --keep FOLDER");
    }
    Ok(0)
}

/// The story of one game's server on this machine.
fn story(
    game: &str,
    title: &str,
    told: &[stories::Step],
    folder: &Path,
    keep: bool,
    setting: &Setting,
    ui: &Ui,
) -> Result<Value, Error> {
    let server = folder.join(if game == "quarrywake" { "quarry" } else { game });
    std::fs::create_dir_all(&server).map_err(failed(folder))?;
    if game == "quarrywake" {
        club::lay_quarrywake(&server).map_err(failed(&server))?;
    } else {
        club::lay(game, &server).map_err(failed(&server))?;
    }
    launcher_of(game, &server, &setting.program, &[]).map_err(failed(&server))?;
    let files = catalogue::write("Tidewrack Club", game, 12, &club::items_of(game));
    let host = Host::start(files).map_err(failed(folder))?;
    ui.line(format!("The club's {title} server lies in {}", server.display()));
    ui.line(format!("The club's catalogue answers at      {}", host.address()));
    let mut steps: Vec<Value> = Vec::new();
    for (about, words) in told {
        if setting.stop.load(Ordering::Relaxed) {
            return Err(Error::Stopped);
        }
        let words: Vec<&str> = words.iter().map(|w| if *w == "HOST" { host.address() } else { w }).collect();
        ui.line("");
        if !about.is_empty() {
            ui.line(paint::in_style(paint::FAINT, &format!("# {about}")));
        }
        ui.line(paint::in_style(paint::STRONG, &format!("$ yalotheca {}", words.join(" "))));
        steps.push(step(&words, folder, &server, &[], setting, ui)?);
    }
    if keep {
        playing(game, folder, &server, &host, setting, ui);
    }
    Ok(json!({ "server": server.display().to_string(), "catalogue": host.address(), "steps": steps }))
}

/// The story of a rented host.
fn rented(folder: &Path, keep: bool, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let server = folder.join("host/quarry");
    std::fs::create_dir_all(&server).map_err(failed(folder))?;
    club::lay_quarrywake(&server).map_err(failed(&server))?;
    launcher(&server, &setting.program, &[]).map_err(failed(&server))?;
    let files = catalogue::write("Tidewrack Club", "quarrywake", 12, &club::items());
    let catalogues = Host::start(files).map_err(failed(folder))?;
    let habits = rented::Habits { delay: Duration::from_millis(10), ..rented::Habits::default() };
    let host = rented::Host::start("sftp", &folder.join("host"), habits, &[]).map_err(failed(folder))?;
    let at = host.address("quarry");
    ui.line(format!("The club's rented server answers at {at}"));
    ui.line(format!("The club's catalogue answers at     {}", catalogues.address()));
    let mut steps: Vec<Value> = Vec::new();
    for (who, about, words) in RENTED {
        if setting.stop.load(Ordering::Relaxed) {
            return Err(Error::Stopped);
        }
        let word = |word: &&'static str| match *word {
            "HOST" => catalogues.address().to_owned(),
            "AT" => at.clone(),
            "SEEN" => host.fingerprint().to_owned(),
            other => other.to_owned(),
        };
        let words: Vec<String> = words.iter().map(word).collect();
        let typed: Vec<String> =
            words.iter().map(|w| if w.contains(' ') { format!("'{w}'") } else { w.clone() }).collect();
        ui.line("");
        if !about.is_empty() {
            ui.line(paint::in_style(paint::FAINT, &format!("# {about}")));
        }
        ui.line(paint::in_style(paint::STRONG, &format!("{who} $ yalotheca {}", typed.join(" "))));
        let desk = folder.join(who);
        std::fs::create_dir_all(&desk).map_err(failed(&desk))?;
        let more = [("YALOTHECA_PASSWORD", rented::PASSWORD), ("YALOTHECA_WHO", who)];
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        steps.push(step(&words, &desk, &desk, &more, setting, ui)?);
    }
    ui.object(&json!({ "server": at, "catalogue": catalogues.address(), "steps": steps }));
    ui.hint("");
    if !keep {
        ui.hint("That was the demo; its folder is gone again. To play with it: yalotheca demo rented --keep FOLDER");
        return Ok(0);
    }
    let home = folder.join("mira/home");
    ui.line("Now you. In another terminal:");
    for line in [
        format!("  cd {}", folder.join("mira").display()),
        format!("  export YALOTHECA_HOME={} YALOTHECA_PASSWORD='{}'", home.display(), rented::PASSWORD),
        "  yalotheca want deep-winch rope-ladders && yalotheca settle".to_owned(),
    ] {
        ui.line(line);
    }
    ui.line("Host and catalogue answer until you press Ctrl-C here.");
    let _ = std::io::stdout().flush();
    while !setting.stop.load(Ordering::Relaxed) {
        std::thread::sleep(Duration::from_millis(100));
    }
    Ok(0)
}

fn failed(path: &Path) -> impl FnOnce(std::io::Error) -> Error {
    let path = path.to_owned();
    move |source| Error::Disk { path, doing: "cannot be written to", source }
}

/// Runs this very program in the server's folder, as a person would.
fn step(
    words: &[&str],
    folder: &Path,
    server: &Path,
    more: &[(&str, &str)],
    setting: &Setting,
    ui: &Ui,
) -> Result<Value, Error> {
    let mut command = Command::new(&setting.program);
    command.envs(more.iter().copied());
    command.args(words).current_dir(server);
    let home = folder.canonicalize().unwrap_or_else(|_| folder.to_owned()).join("home");
    command.env("YALOTHECA_HOME", home).env("YALOTHECA_NOW", &setting.now);
    let ran = |source| Error::Run { command: words.join(" "), source };
    let exit = if ui.json() {
        let output = command.arg("--json").output().map_err(ran)?;
        let said: Value = serde_json::from_slice(&output.stdout).unwrap_or(Value::Null);
        return Ok(json!({ "command": words, "exit": output.status.code(), "said": said }));
    } else {
        command.status().map_err(ran)?.code()
    };
    if exit != Some(0) {
        ui.line(paint::in_style(paint::FAINT, &format!("(exit code {})", exit.unwrap_or(-1))));
    }
    Ok(Value::Null)
}

/// Writes the game's own program into the server's folder: a script that runs the stand-in.
fn launcher(server: &Path, program: &Path, more: &[&str]) -> std::io::Result<()> {
    launcher_of("quarrywake", server, program, more)
}

fn launcher_of(game: &str, server: &Path, program: &Path, more: &[&str]) -> std::io::Result<()> {
    let path = server.join(game);
    let script = format!("#!/bin/sh\nexec '{}' demo --stand-in {game} {} \"$@\"\n", program.display(), more.join(" "));
    std::fs::write(&path, script)?;
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt as _;
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755))?;
    }
    Ok(())
}

/// Tells what to try next, and keeps the host until Ctrl-C.
fn playing(game: &str, folder: &Path, server: &Path, host: &Host, setting: &Setting, ui: &Ui) {
    let home = folder.canonicalize().unwrap_or_else(|_| folder.to_owned()).join("home");
    ui.line("");
    ui.line(paint::in_style(paint::STRONG, "The server is yours to play with. In another terminal:"));
    let mut lines = vec![format!("  cd {}", server.display()), format!("  export YALOTHECA_HOME={}", home.display())];
    lines.extend(stories::tries(game).iter().map(|line| format!("  yalotheca {line}")));
    for line in lines {
        ui.line(line);
    }
    ui.line(format!("The catalogue answers at {} until you press Ctrl-C here.", host.address()));
    let _ = std::io::stdout().flush();
    while !setting.stop.load(Ordering::Relaxed) {
        std::thread::sleep(Duration::from_millis(100));
    }
}

/// Acts as a made-up program: the game server, or lays one or a catalogue in a folder (for pictures and benchmarks).
fn act(program: &str, arguments: &[String]) -> u8 {
    let number = |at: usize, or: usize| arguments.get(at).and_then(|a| a.parse().ok()).unwrap_or(or);
    match program {
        "quarrywake" => {
            let mut input = BufReader::new(std::io::stdin());
            let mut out = std::io::stdout();
            let status = quarrywake::run(Path::new("."), &Habits::parse(arguments), &mut input, &mut out);
            u8::try_from(status).unwrap_or(1)
        }
        // the other games' servers, a catalogue of theirs in a folder, and a server laid
        game if games::game(game).is_some() => match arguments {
            [what, folder, ..] if what == "--catalogue" => {
                let files = catalogue::write("Tidewrack Club", program, 12, &club::items_of(program));
                u8::from(catalogue::lay(&files, Path::new(folder)).is_err())
            }
            [what, folder, ..] if what == "--lay" => {
                let folder = Path::new(folder);
                let this = std::env::current_exe().unwrap_or_else(|_| PathBuf::from("yalotheca"));
                let laid = std::fs::create_dir_all(folder).and_then(|()| club::lay(program, folder));
                u8::from(laid.and_then(|()| launcher_of(program, folder, &this, &[])).is_err())
            }
            _ => {
                let mut input = BufReader::new(std::io::stdin());
                let status = games::run(program, Path::new("."), &mut input, &mut std::io::stdout());
                u8::try_from(status).unwrap_or(1)
            }
        },
        "catalogue" => {
            let folder = arguments.first().map_or_else(|| PathBuf::from("catalogue"), PathBuf::from);
            let files = catalogue::write("Many", "quarrywake", 1, &club::many(number(1, 100), number(2, 1)));
            u8::from(catalogue::lay(&files, &folder).is_err())
        }
        "city" => {
            let folder = arguments.first().map_or_else(|| PathBuf::from("catalogue"), PathBuf::from);
            let files = catalogue::write("A city", "gridlock", 1, &club::city(number(1, 400), number(2, 250)));
            u8::from(catalogue::lay(&files, &folder).is_err())
        }
        "kit" => {
            let folder = arguments.first().map_or_else(|| PathBuf::from("catalogue"), PathBuf::from);
            let files = catalogue::write("A kit", "quarrywake", 1, &club::large_kit(number(1, 300), number(2, 20_000)));
            u8::from(catalogue::lay(&files, &folder).is_err())
        }
        "club" => {
            let folder = arguments.first().map_or_else(|| PathBuf::from("catalogue"), PathBuf::from);
            let files = catalogue::write("Tidewrack Club", "quarrywake", 12, &club::items());
            u8::from(catalogue::lay(&files, &folder).is_err())
        }
        "rented" => {
            let folder = arguments.first().map_or_else(|| PathBuf::from("."), PathBuf::from);
            let protocol = arguments.get(1).map_or("sftp", String::as_str);
            let habits = rented::Habits::parse(arguments.get(2..).unwrap_or_default());
            let Ok(host) = rented::Host::start(protocol, &folder, habits, &[]) else { return 1 };
            let _ = writeln!(std::io::stdout(), "{} {}", host.address(""), host.fingerprint());
            // until its input ends
            let mut line = String::new();
            while std::io::stdin().read_line(&mut line).is_ok_and(|n| n > 0) {
                let counted = host.counted();
                let _ = writeln!(std::io::stdout(), "{} bytes, {} requests", counted.bytes, counted.requests);
                line.clear();
            }
            0
        }
        "line" => {
            let port = arguments.first().and_then(|p| p.parse().ok()).unwrap_or(22);
            let habits = rented::Habits::parse(arguments.get(1..).unwrap_or_default());
            let Ok(line) = rented::Line::to(port, habits) else { return 1 };
            let _ = writeln!(std::io::stdout(), "{}", line.port());
            let mut asked = String::new();
            while std::io::stdin().read_line(&mut asked).is_ok_and(|n| n > 0) {
                let _ = writeln!(std::io::stdout(), "{} bytes", line.bytes());
                asked.clear();
            }
            0
        }
        "server" => {
            let folder = arguments.first().map_or_else(|| PathBuf::from("quarry"), PathBuf::from);
            let program = std::env::current_exe().unwrap_or_else(|_| PathBuf::from("yalotheca"));
            let laid = std::fs::create_dir_all(&folder).and_then(|()| club::lay_quarrywake(&folder));
            let rest: Vec<&str> = arguments.iter().skip(1).map(String::as_str).collect();
            u8::from(laid.and_then(|()| launcher(&folder, &program, &rest)).is_err())
        }
        _ => 2,
    }
}
