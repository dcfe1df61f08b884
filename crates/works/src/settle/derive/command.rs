//! A container that a program of the server's makes, in a folder of its own, of files that lie there.

use std::io::Read as _;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use yalotheca_core::derive::{DeriveError, EntryClaim};
use yalotheca_core::family::Template;
use yalotheca_core::id::{ServerPath, storable};
use yalotheca_core::text::clean;

use crate::home::write_whole;
use crate::server::{MOST_SETTINGS, Server};
use crate::{Error, families};

/// So long a program may take.
const MOST_TIME: Duration = Duration::from_secs(300);
/// So much of what it prints is read (bytes).
const MOST_SAID: u64 = 20_000;

/// Runs the program and returns what it made.
///
/// # Errors
/// Nobody approved it, the server is elsewhere, it failed, or it made nothing.
pub(super) fn made(
    server: &Server,
    path: &ServerPath,
    command: &[Template],
    base: Option<&[u8]>,
    claims: &[EntryClaim],
    bytes: &dyn Fn(&EntryClaim) -> Option<Vec<u8>>,
) -> Result<Vec<u8>, Error> {
    let broken = |why: String| Error::Derive(Box::new(DeriveError::Unmade { path: path.clone(), why }));
    let Some(server_folder) = server.tree.folder() else {
        return Err(broken("its program runs only where the server is, and that is another machine".to_owned()));
    };
    if !families::approved(&server.around.home, &server.family) {
        let (family, digest) = (server.family.rules.name.clone(), server.family.digest.short().to_owned());
        let how = format!("yalotheca family approve {family} {digest}");
        return Err(Error::NotApproved { family, digest, command: server.family.commands().join("; "), how });
    }
    let here = tempfile::tempdir().map_err(Error::disk(std::env::temp_dir(), "cannot be written to"))?;
    let (entries, base_file, made) = (here.path().join("entries"), here.path().join("base"), here.path().join("made"));
    std::fs::create_dir(&entries).map_err(Error::disk(&entries, "cannot be made"))?;
    for claim in claims {
        storable(&claim.entry).map_err(|why| broken(format!("its entry `{}` {why}", clean(&claim.entry, 80))))?;
        let bytes = bytes(claim).ok_or_else(|| broken(format!("what `{}` is made of is not at hand", claim.entry)))?;
        write_whole(&entries.join(&claim.entry), &bytes)?;
    }
    if let Some(base) = base {
        write_whole(&base_file, base)?;
    }
    let word = |template: &Template| {
        template.fill(|field| {
            let path = match field {
                "entries" => &entries,
                "base" => &base_file,
                _ => &made,
            };
            Some(path.to_string_lossy().into_owned().into())
        })
    };
    let words: Vec<String> = command.iter().filter_map(word).collect();
    let (program, arguments) = words.split_first().ok_or_else(|| broken("the family names no program".to_owned()))?;
    let folder = server_folder.canonicalize().map_err(Error::disk(server_folder, "cannot be reached"))?;
    let program = if program.contains('/') { folder.join(program).into_os_string() } else { program.into() };
    let said = here.path().join("said");
    let out = std::fs::File::create(&said).map_err(Error::disk(&said, "cannot be written"))?;
    let err = out.try_clone().map_err(Error::disk(&said, "cannot be written"))?;
    let mut run = Command::new(&program);
    run.args(arguments).current_dir(&folder).stdin(Stdio::null()).stdout(out).stderr(err);
    let run = run.spawn().map_err(|e| broken(format!("its program cannot be run: {e}")))?;
    let status = ended(run, server, &broken)?;
    if !status.success() {
        let mut text = String::new();
        let _ = std::fs::File::open(&said).map(|f| f.take(MOST_SAID).read_to_string(&mut text));
        let last = text.lines().rev().find(|l| !l.trim().is_empty()).unwrap_or("nothing");
        return Err(broken(format!("its program failed ({status}) and said: {}", clean(last, 200))));
    }
    let file = std::fs::File::open(&made).map_err(|_| broken("its program made no file".to_owned()))?;
    let mut out = Vec::new();
    file.take(MOST_SETTINGS + 1).read_to_end(&mut out).map_err(Error::disk(&made, "cannot be read"))?;
    match out.len() as u64 > MOST_SETTINGS {
        true => Err(broken(format!("its program made more than {}", yalotheca_core::text::bytes(MOST_SETTINGS)))),
        false => Ok(out),
    }
}

/// Waits until the program ended; one that takes too long, or that somebody stops with us, is ended.
fn ended(mut run: Child, server: &Server, broken: &dyn Fn(String) -> Error) -> Result<std::process::ExitStatus, Error> {
    let begun = Instant::now();
    loop {
        match run.try_wait() {
            Ok(Some(status)) => return Ok(status),
            Ok(None) => {}
            Err(e) => return Err(broken(format!("its program cannot be waited for: {e}"))),
        }
        let stopped = server.around.go_on();
        if stopped.is_err() || begun.elapsed() > MOST_TIME {
            let _ = run.kill();
            let _ = run.wait();
            stopped?;
            return Err(broken(format!("its program took longer than {} minutes", MOST_TIME.as_secs() / 60)));
        }
        std::thread::sleep(Duration::from_millis(5));
    }
}
