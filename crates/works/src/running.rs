//! Looks whether a server runs, by the signs that its family names.

use std::net::{TcpStream, ToSocketAddrs as _};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::id::ServerPath;
use yalotheca_core::running::{RUNS, judge, lines};

use crate::Error;
use crate::server::Server;
use crate::settle::Plan;
use crate::tree::Stat;

/// How long a port may take to answer.
const PORT: Duration = Duration::from_millis(400);

/// Returns what shows that the server runs, if anything does.
///
/// # Errors
/// The server cannot be reached.
pub fn sign(server: &Server) -> Result<Option<String>, Error> {
    let rules = &server.family.rules.running;
    if !rules.can_tell() {
        return Ok(None);
    }
    let logs = rules.log.iter().map(|l| l.file.as_str());
    let paths: Vec<ServerPath> =
        rules.file.iter().map(String::as_str).chain(logs).map(ServerPath::server).collect::<Result<_, _>>()?;
    let stats = if paths.is_empty() { Vec::new() } else { server.tree.stat(&paths)? };
    let mut seen = paths.iter().zip(stats);
    for (path, stat) in seen.by_ref().take(rules.file.len()) {
        if stat != Stat::Absent {
            return Ok(Some(format!("{path} is there")));
        }
    }
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    let now = i64::try_from(now.as_nanos()).unwrap_or(0).saturating_add(server.tree.clock_ahead());
    for (log, (path, stat)) in rules.log.iter().zip(seen) {
        if let Stat::File { changed, .. } = stat {
            let ago = now.saturating_sub(changed) / 1_000_000_000;
            if (0..i64::from(log.seconds)).contains(&ago) {
                return Ok(Some(format!("{path} grew {ago} s ago")));
            }
        }
    }
    if !rules.port.is_empty() {
        let facts = server.facts()?;
        let host = server.tree.host().unwrap_or_else(|| "127.0.0.1".to_owned());
        for port in &rules.port {
            let filled = port.fill(|field| facts.get(field).map(|v| v.to_owned().into()));
            let Some(port) = filled.and_then(|p| p.trim().parse::<u16>().ok()) else { continue };
            let answers = |to| TcpStream::connect_timeout(&to, PORT).is_ok();
            if (host.as_str(), port).to_socket_addrs().is_ok_and(|mut all| all.any(answers)) {
                return Ok(Some(format!("port {port} answers")));
            }
        }
    }
    Ok(None)
}

/// Adds to a plan what a running server makes of it.
///
/// # Errors
/// The server cannot be reached.
pub(crate) fn looked(server: &Server, mut plan: Plan) -> Result<Plan, Error> {
    let changed: Vec<ServerPath> =
        plan.steps.iter().map(|s| s.path().clone()).chain(plan.docs.iter().map(|d| d.path.clone())).collect();
    let lines = lines(&server.family.rules.live, &changed);
    if !lines.is_empty() && !server.around.stopped {
        let what = if lines.len() == 1 { "this line" } else { "these lines" };
        let all: String = lines.iter().map(|l| format!("\n{}", yalotheca_core::text::clean(l, 200))).collect();
        let cause = format!("a server that runs hears of it by {what} on its console:{all}");
        plan.findings.push(Finding::new("live", Severity::Note, cause, "type it when it suits, or restart the server"));
    }
    if !changed.is_empty() && !server.around.stopped {
        let sign = sign(server)?;
        plan.findings.extend(judge(&server.family.rules.running, sign.as_deref(), &changed));
    }
    Ok(plan)
}

/// Refuses a plan that must wait until the server is stopped.
///
/// # Errors
/// [`Error::Runs`] with what must wait.
pub(crate) fn guard(plan: &Plan) -> Result<(), Error> {
    match plan.findings.iter().find(|f| f.code == RUNS) {
        Some(held) => Err(Error::Runs(Box::new(held.clone()))),
        None => Ok(()),
    }
}
