//! What a running server forbids, and what it takes for a change to be heard.

use crate::family::{Live, Running};
use crate::finding::{Finding, Severity};
use crate::id::ServerPath;
use crate::text::{glob, listed};

/// The code of a finding that stops a change while the server runs.
pub const RUNS: &str = "server-runs";

/// Judges a change of some files: what must wait until the server is stopped, and what takes a restart. `sign` is
/// what shows that the server runs.
pub fn judge(rules: &Running, sign: Option<&str>, changed: &[ServerPath]) -> Vec<Finding> {
    let met = |patterns: &[String]| -> Vec<String> {
        let names = changed.iter().map(ToString::to_string);
        names.filter(|p| patterns.iter().any(|pattern| glob(pattern, p))).collect()
    };
    let short = |mut names: Vec<String>| {
        let more = names.len().saturating_sub(3);
        names.truncate(3);
        if more > 0 {
            names.push(format!("{more} more"));
        }
        listed(&names)
    };
    let mut out = Vec::new();
    let (lost, held) = (met(&rules.rewrites), met(&rules.stop_before));
    let restart = met(&rules.restart_after);
    let fix =
        "stop the server, then run the same command again; if it is stopped and the sign is a leftover, add --stopped";
    if let Some(sign) = sign {
        if !lost.is_empty() {
            let cause = format!("the server seems to run ({sign}), and writes {} anew when it stops", short(lost));
            out.push(Finding::new(RUNS, Severity::Error, cause, fix));
        }
        if !held.is_empty() {
            let cause = format!("the server seems to run ({sign}), and must be stopped before {} changes", short(held));
            out.push(Finding::new(RUNS, Severity::Error, cause, fix));
        }
        if !restart.is_empty() {
            let cause =
                format!("the server seems to run ({sign}), and hears of {} only after a restart", short(restart));
            out.push(Finding::new("restart-after", Severity::Warning, cause, "restart it when nobody plays"));
        }
    } else if !rules.can_tell() {
        let waits: Vec<String> = held.into_iter().chain(lost).collect();
        if waits.is_empty() {
            return out;
        }
        let all = short(waits);
        let cause =
            format!("nobody can see from here whether the server runs; it must be stopped before {all} changes");
        out.push(Finding::new("stop-before", Severity::Warning, cause, "stop it first, if it runs"));
    }
    out
}

/// Returns the lines by which a running server hears of changes of some files, each once, in the family's order.
pub fn lines(rules: &[Live], changed: &[ServerPath]) -> Vec<String> {
    let mut out: Vec<String> = Vec::new();
    for rule in rules {
        for path in changed {
            let caught = rule.file.catch(&path.to_string());
            let line = caught.and_then(|c| rule.line.fill(|f| c.get(f).map(|v| v.as_str().into())));
            out.extend(line.filter(|l| !out.contains(l)));
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rules() -> Running {
        Running {
            file: vec!["quarry.running".to_owned()],
            rewrites: vec!["start.conf".to_owned()],
            stop_before: vec!["core/*".to_owned()],
            restart_after: vec!["plugins/**".to_owned()],
            ..Running::default()
        }
    }

    fn codes(rules: &Running, sign: Option<&str>, changed: &[&str]) -> Vec<String> {
        let changed: Vec<ServerPath> = changed.iter().map(|p| ServerPath::server(p).unwrap()).collect();
        judge(rules, sign, &changed).into_iter().map(|f| f.code.to_string()).collect()
    }

    #[test]
    fn a_running_server_is_not_changed_under_its_feet() {
        let sign = Some("quarry.running is there");
        assert_eq!(codes(&rules(), sign, &["start.conf"]), ["server-runs"]);
        assert_eq!(codes(&rules(), sign, &["core/a.qcore"]), ["server-runs"]);
        assert_eq!(codes(&rules(), sign, &["plugins/a.qpl"]), ["restart-after"]);
        assert!(codes(&rules(), sign, &["worlds/a"]).is_empty());
        assert!(codes(&rules(), None, &["start.conf", "core/a", "plugins/b"]).is_empty(), "it is stopped");
        let blind = Running { file: Vec::new(), ..rules() };
        assert_eq!(codes(&blind, None, &["core/a", "plugins/b"]), ["stop-before"]);
    }
}
