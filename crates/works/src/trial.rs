//! A supervised start of the server that ends in a verdict.

use std::io::{BufRead as _, BufReader, Read, Write as _};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{self, RecvTimeoutError};
use std::time::{Duration, Instant};

use yalotheca_core::family::Family;
use yalotheca_core::scene::Fields;
use yalotheca_core::verdict::{Ended, Judge, Verdict};

use crate::scene::{Around, Taken};
use crate::server::Server;
use crate::settle::{self, Options, Plan};
use crate::tree::{Content, Effect, hold, state_path};
use crate::{Error, families, state};

/// A line of the log longer than this is cut (bytes).
const MOST_LINE: u64 = 64_000;

/// Hears the log while the server starts.
pub trait Listener {
    /// A line of the log, as the server wrote it.
    fn line(&mut self, line: &str);
}

/// Returns what the family would run, when no person approved that yet.
pub fn unapproved(server: &Server) -> Option<String> {
    server.family.rules.start.as_ref()?;
    (!families::approved(&server.around.home, &server.family)).then(|| server.family.commands().join("; "))
}

/// Plans the acceptance of the terms with this number: a claim like any other, recorded with the number.
///
/// # Errors
/// The terms in force have another number, or the server asks for none.
pub fn accept_terms(server: &Server, number: &str) -> Result<Plan, Error> {
    let Some(rules) = &server.family.rules.terms else { return Err(Error::NoTerms) };
    let facts = server.facts()?;
    let wanted = facts.get(&rules.wanted).ok_or(Error::NoTerms)?;
    if wanted != number {
        return Err(Error::OtherTerms { wanted: wanted.to_owned(), given: yalotheca_core::text::clean(number, 20) });
    }
    let options = Options { accept_terms: Some(number.to_owned()), ..Options::default() };
    // only what is on the server counts here: the roster as it was settled last
    let settled = state::head(server.tree.as_ref())?;
    let plan = settle::plan_terms(server, &settled, &options)?;
    Ok(plan)
}

/// So often a server is started in one trial, when it asks for one more start or a start told something.
const MOST_STARTS: usize = 3;

/// What a trial came to.
#[derive(Debug)]
pub struct Tried {
    /// The verdict on the last start.
    pub verdict: Verdict,
    /// How often it was started.
    pub starts: usize,
    /// Why it was started more than once, in words.
    pub why: Vec<String>,
}

/// Starts the server, reads its log until it is up, stops, or takes too long, and judges. When it asks for one more
/// start, or the start told what a wiring waited for, that is written and it is started once more.
///
/// # Errors
/// The family names no start, it was not approved, or the command cannot be run.
pub fn trial(server: &Server, listener: &mut dyn Listener) -> Result<Tried, Error> {
    let mut kept = Kept { to: listener, log: String::new() };
    let done = started(server, &mut kept);
    if !kept.log.is_empty() {
        // only a help for whoever looks at it later
        let _ = keep_log(server, kept.log);
    }
    done
}

/// The log of the last trial, in the state folder.
pub(crate) const LAST_LOG: &str = "trial.log";
/// So much of it is kept (bytes).
const MOST_LOG: usize = 1_000_000;

fn keep_log(server: &Server, log: String) -> Result<(), Error> {
    server.tree.ready()?;
    server.tree.apply(&[Effect::Write(state_path(LAST_LOG)?, Content::Bytes(log.into_bytes()))])?;
    Ok(())
}

/// Remembers the log, and hands it on.
struct Kept<'a> {
    to: &'a mut dyn Listener,
    log: String,
}

impl Listener for Kept<'_> {
    fn line(&mut self, line: &str) {
        if self.log.len() + line.len() < MOST_LOG {
            self.log.push_str(line);
            self.log.push('\n');
        }
        self.to.line(line);
    }
}

fn started(server: &Server, listener: &mut dyn Listener) -> Result<Tried, Error> {
    let family = &server.family;
    let start = family.rules.start.as_ref().ok_or_else(|| Error::NoStart(family.rules.name.clone()))?;
    if let Some(command) = unapproved(server) {
        let digest = family.digest.short().to_owned();
        let family = family.rules.name.clone();
        let how = format!("yalotheca family approve {family} {digest}");
        return Err(Error::NotApproved { family, digest, command, how });
    }
    let folder = server.tree.folder().ok_or_else(|| Error::Elsewhere(server.tree.place()))?;
    let mut why = Vec::new();
    for starts in 1.. {
        let mut judge = Judge::new(family);
        let ended = {
            // while it runs, nobody changes anything under its feet
            let _hold = hold(&server.tree, &server.around.holder())?;
            let mut child = run(family, folder)?;
            let lines = follow(&mut child);
            let ended = wait(server, &mut child, &lines, start.seconds, &mut judge, listener);
            stop(&mut child, &start.stop, &lines, listener);
            ended?
        };
        let again = judge.again().first().cloned();
        let told = completed(server)?;
        if starts < MOST_STARTS && (again.is_some() || told.is_some()) {
            why.extend(again.map(|line| format!("the server asked for it: \"{line}\"")));
            why.extend(told);
            continue;
        }
        let verdict = judge.end(ended, &names(server)?);
        return Ok(Tried { verdict, starts, why });
    }
    Err(Error::Stopped)
}

/// Writes what waited for a start and is known now; returns what that was.
fn completed(server: &Server) -> Result<Option<String>, Error> {
    let ledger = state::head(server.tree.as_ref())?;
    let waits = ledger
        .items
        .values()
        .any(|h| server.family.rules.kind.get(&h.kind).is_some_and(|k| k.late_fields().next().is_some()));
    if !waits {
        return Ok(None);
    }
    let plan = settle::plan_waiting(server, &ledger)?;
    if plan.docs.is_empty() {
        return Ok(None);
    }
    let files: Vec<String> = plan.docs.iter().map(|d| d.path.to_string()).collect();
    crate::apply::carry_out(server, plan)?;
    Ok(Some(format!("its start told what {} waited for", yalotheca_core::text::listed(&files))))
}

/// The items in load order, with everything the log may call them.
fn names(server: &Server) -> Result<Vec<(String, Vec<String>)>, Error> {
    let ledger = state::head(server.tree.as_ref())?;
    let around = Around::of(server, &server.facts()?)?;
    let scene = around.scene();
    let mut out = Vec::new();
    for id in &ledger.order {
        let Some(held) = ledger.items.get(id) else { continue };
        let mut calls: Vec<String> = vec![yalotheca_core::manifest::stem(&held.name).to_owned()];
        calls.extend(held.number.clone());
        calls.extend(held.fields.values().cloned());
        let taken = Taken::of(server, id, held);
        if let Some(item) = taken.item(server, 0) {
            let fields = Fields::of(&scene, &item);
            calls.extend(item.kind.late_fields().filter_map(|(name, _)| fields.get(name)).map(|v| v.into_owned()));
        }
        out.push((id.to_string(), calls));
    }
    Ok(out)
}

fn run(family: &Family, folder: &Path) -> Result<Child, Error> {
    let command = family.rules.start.as_ref().map(|s| s.command.clone()).unwrap_or_default();
    let (program, arguments) = command.split_first().ok_or_else(|| Error::NoStart(family.rules.name.clone()))?;
    // a program beside the server's files is found from its folder, whatever ours is
    let program = match program.strip_prefix("./") {
        Some(own) => folder.canonicalize().unwrap_or_else(|_| folder.into()).join(own),
        None => program.into(),
    };
    Command::new(program)
        .args(arguments)
        .current_dir(folder)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .map_err(|source| Error::Run { command: command.join(" "), source })
}

/// Reads both outputs line by line on threads of their own.
fn follow(child: &mut Child) -> mpsc::Receiver<String> {
    let (send, lines) = mpsc::sync_channel(1_000);
    let pump = |from: Option<Box<dyn Read + Send>>, send: mpsc::SyncSender<String>| {
        let Some(from) = from else { return };
        std::thread::spawn(move || {
            let mut reader = BufReader::new(from);
            loop {
                let mut line = Vec::new();
                match (&mut reader).take(MOST_LINE).read_until(b'\n', &mut line) {
                    Ok(0) | Err(_) => return,
                    Ok(_) => {
                        if send.send(String::from_utf8_lossy(&line).trim_end().to_owned()).is_err() {
                            return;
                        }
                    }
                }
            }
        });
    };
    pump(child.stdout.take().map(|o| Box::new(o) as Box<dyn Read + Send>), send.clone());
    pump(child.stderr.take().map(|o| Box::new(o) as Box<dyn Read + Send>), send);
    lines
}

fn wait(
    server: &Server,
    child: &mut Child,
    lines: &mpsc::Receiver<String>,
    seconds: u64,
    judge: &mut Judge,
    listener: &mut dyn Listener,
) -> Result<Ended, Error> {
    let until = Instant::now() + Duration::from_secs(seconds);
    loop {
        server.around.go_on()?;
        match lines.recv_timeout(Duration::from_millis(50)) {
            Ok(line) => {
                listener.line(&line);
                if judge.line(&line) {
                    return Ok(Ended::Ready);
                }
            }
            Err(RecvTimeoutError::Timeout) if Instant::now() >= until => return Ok(Ended::TooSlow(seconds)),
            Err(RecvTimeoutError::Timeout) => {}
            Err(RecvTimeoutError::Disconnected) => {
                let status = child.wait().map(|s| status_words(s.code())).unwrap_or_default();
                return Ok(Ended::Stopped(status));
            }
        }
    }
}

fn status_words(code: Option<i32>) -> String {
    code.map_or_else(|| "was killed".to_owned(), |c| format!("exit status {c}"))
}

/// Stops the server by its own line, and by force when it does not hear it within ten seconds.
fn stop(child: &mut Child, line: &str, lines: &mpsc::Receiver<String>, listener: &mut dyn Listener) {
    if let Some(mut input) = child.stdin.take() {
        let _ = writeln!(input, "{line}");
    }
    let until = Instant::now() + Duration::from_secs(10);
    let mut left_until: Option<Instant> = None;
    loop {
        match lines.recv_timeout(Duration::from_millis(20)) {
            Ok(line) => listener.line(&line),
            Err(RecvTimeoutError::Disconnected) => break,
            Err(RecvTimeoutError::Timeout) => {}
        }
        let now = Instant::now();
        if left_until.is_none() && !matches!(child.try_wait(), Ok(None)) {
            // its last lines may still be on the way; something it left running may never hang up
            left_until = Some(now + Duration::from_millis(500));
        }
        if now > left_until.unwrap_or(until) {
            break;
        }
    }
    while matches!(child.try_wait(), Ok(None)) {
        if Instant::now() > until {
            let _ = child.kill();
        }
        std::thread::sleep(Duration::from_millis(10));
    }
}
