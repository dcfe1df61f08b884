//! Errors as a person reads them: what happened, to which item or file, what to do now.

use miette::{GraphicalReportHandler, GraphicalTheme, LabeledSpan, MietteDiagnostic, NamedSource, Report};
use serde_json::{Value, json};
use yalotheca_core::ledger::LedgerError;
use yalotheca_core::settings::EditError;
use yalotheca_core::solve::tell;
use yalotheca_core::text::clean;
use yalotheca_works::Error;
use yalotheca_works::archive::ArchiveError;
use yalotheca_works::fetch::FetchError;
use yalotheca_works::tree::TreeError;
use yalotheca_works::tree::remote::HostError;

use super::findings;
use super::table::wrapped;
use crate::ui::{Ui, paint};

/// Writes an error and returns its exit code.
pub(crate) fn write(ui: &Ui, error: &Error) -> u8 {
    let code = error.exit_code();
    if ui.json() {
        ui.object(&object(error));
        return code;
    }
    let heading =
        format!("{} {}", paint::in_style(paint::BAD, "error:"), wrapped(&message(error), ui.width - 7, "       "));
    ui.error(heading);
    if let Some(text) = excerpt(error, ui.width) {
        ui.error(text);
    }
    for line in details(error) {
        ui.error(format!("  - {}", wrapped(&line, ui.width - 4, "    ")));
    }
    if let Error::Forbidden(found) | Error::Undecided(found) = error {
        for line in found.iter().flat_map(|f| findings::lines(f, ui.width)) {
            ui.error(line);
        }
    }
    let helps = helps(error);
    if !helps.is_empty() {
        ui.error("  what would help:");
    }
    for (at, help) in helps.iter().enumerate() {
        ui.error(format!("    {}. {}", at + 1, wrapped(help, ui.width - 7, "       ")));
    }
    let fix = fix(error);
    if !fix.is_empty() {
        ui.error(format!("  fix: {}", wrapped(&fix, ui.width - 7, "       ")));
    }
    code
}

/// Returns an error as JSON.
fn object(error: &Error) -> Value {
    let found = match error {
        Error::Forbidden(found) | Error::Undecided(found) => findings::object(found),
        _ => json!([]),
    };
    json!({ "error": { "exit": error.exit_code(), "message": message(error), "reasons": details(error), "helps": helps(error), "fix": fix(error), "findings": found } })
}

fn message(error: &Error) -> String {
    // the place stands in the excerpt's head already
    let text = match error {
        Error::Roster { path, source, .. } => {
            format!("{}:{}:{}: {}", path.display(), source.line, source.column, source.why)
        }
        Error::Family { path, source, .. } => format!("{path}:{}:{}: {}", source.line, source.column, source.why),
        other => other.to_string(),
    };
    clean(&text, 800)
}

fn details(error: &Error) -> Vec<String> {
    match error {
        Error::Impossible(way) => tell(&way.reasons).iter().map(|l| clean(l, 400)).collect(),
        Error::StandsOn { against, .. } => against
            .iter()
            .map(|s| match s.entry {
                0 => clean(&s.what, 300),
                entry => format!("entry {entry}: {}", clean(&s.what, 300)),
            })
            .collect(),
        Error::NotRecognised { nearest, .. } => nearest
            .iter()
            .map(|(name, sure)| format!("it could be {name} ({sure} of the 100 that make it certain)"))
            .collect(),
        _ => Vec::new(),
    }
}

/// The changes that would help, a sentence each.
fn helps(error: &Error) -> Vec<String> {
    match error {
        Error::Impossible(way) => way.helps_said().iter().map(|l| clean(l, 300)).collect(),
        _ => Vec::new(),
    }
}

/// The line of the file that is wrong, with the place marked.
fn excerpt(error: &Error, width: usize) -> Option<String> {
    let (name, text, span) = match error {
        Error::Roster { path, text, source } => (path.display().to_string(), text, source.span),
        Error::Family { path, text, source } => (path.clone(), text, source.span),
        _ => return None,
    };
    if text.is_empty() {
        return None;
    }
    let mut diagnostic = MietteDiagnostic::new("");
    let start = span.0.min(text.len().saturating_sub(1));
    diagnostic.labels = Some(vec![LabeledSpan::new(Some("here".to_owned()), start, span.1.max(1))]);
    // control characters of a stranger's file never reach the terminal
    let shown: String = text.chars().map(|c| if c.is_control() && c != '\n' && c != '\t' { ' ' } else { c }).collect();
    let report = Report::from(diagnostic).with_source_code(NamedSource::new(name, shown));
    let handler = GraphicalReportHandler::new_themed(GraphicalTheme::unicode_nocolor()).with_width(width);
    let mut out = String::new();
    handler.render_report(&mut out, report.as_ref()).ok()?;
    let lines: Vec<&str> = out.lines().skip_while(|l| !l.contains('╭')).map(str::trim_end).collect();
    Some(lines.join("\n"))
}

/// What to do now.
fn fix(error: &Error) -> String {
    let text = match error {
        Error::NoRoster(_) => {
            "go to the folder of your roster, name it with --roster FILE, or begin with: yalotheca adopt"
        }
        Error::RosterExists(_) => "use it as it is, or move it away to adopt the server anew",
        Error::Roster { .. } => "mend that line and try again; nothing was changed",
        Error::Family { .. } => "mend that line of the family file and try again",
        Error::NoFamily { .. } => "",
        Error::NotRecognised { .. } => {
            "check that this is the server's own folder, or say what it is: yalotheca adopt --family NAME"
        }
        Error::NoServer(_) => "check the path (on a roster: `at` under [server]), or make the folder",
        Error::Impossible(way) if !way.helps.is_empty() && way.reasons.unknown.is_empty() => {
            "run the same command again with --take 1, or the number of another"
        }
        Error::Impossible(way) if !way.helps.is_empty() => {
            return format!("{}; or run the same command again with --take 1", way.reasons.fix());
        }
        Error::Impossible(way) => return way.reasons.fix(),
        Error::Tangled => "name exact versions (ITEM@=VERSION) for some of them on the roster, or want fewer at once",
        Error::Circle(_) | Error::Forbidden(_) | Error::Undecided(_) => "",
        Error::NotWanted { .. } => "see what is on it: the [items] of roster.toml",
        Error::NotOffered { .. } => "search with: yalotheca find WORDS",
        Error::OtherFamily { .. } => "look for the same thing made for this game: yalotheca find WORDS",
        Error::Disagree { .. } => "take another version, and tell the catalogue's keeper",
        // what there is was told already
        Error::Choice(why) | Error::Maps(why) if why.contains("did you mean") || why.contains(';') => "",
        Error::Choice(_) => "see what there is: yalotheca family explain NAME",
        Error::Maps(_) => "see what there is: yalotheca maps",
        Error::Seal { .. } | Error::Derive(_) => "",
        Error::Origin { .. } | Error::Manifest(_) | Error::Range(_) | Error::Id(_) => "",
        Error::Moved { .. } => "somebody works on the server too; look, then run the same command again",
        Error::Stopped | Error::Fetch(FetchError::Stopped) => "",
        Error::HalfDone { .. } => {
            "do not start the server; run any command on it again as soon as it can be reached and written to"
        }
        Error::Kept { .. } => "",
        Error::Elsewhere(_) => "start it in your host's panel, and look at its log there",
        Error::Address { .. } => "an address is written sftp://USER@HOST:PORT/FOLDER (or ftp://, ftps://)",
        Error::Usage(_) => "see how it is written: the same command with --help",
        Error::NoSettings { why, .. } if why.contains("did you mean") => "",
        Error::NoSettings { why, .. } if why.starts_with("is not there") => {
            "check the name; where the server makes the file at its first start, add --later"
        }
        Error::NoSettings { .. } => "",
        Error::InDoubt(finding) | Error::Runs(finding) => return clean(&finding.fix, 400),
        Error::NothingToMend(_) => "",
        Error::NotTuned { .. } => "see what is: [settings] on the roster",
        Error::RosterEdit { .. } => "mend the roster by hand and try again; nothing was changed",
        Error::Edit { source, file } => {
            return match source {
                EditError::NoSuch { hint, .. } if !hint.is_empty() => {
                    format!("correct the path (yalotheca tune {file} lists them); to make a new key, add --new")
                }
                EditError::NoSuch { .. } => format!("see the paths there are: yalotheca tune {file}"),
                EditError::OtherSort { given, what, .. } if *what == "text" || *what == "none" => {
                    format!(
                        "give a value of that sort; to write `{given}` all the same, add --as {}",
                        if *what == "none" { "number" } else { what }
                    )
                }
                EditError::OtherSort { .. } => "give a value of that sort; += adds to a list".to_owned(),
                EditError::Shut { .. } | EditError::Doubt { .. } => {
                    "nothing was changed; change that line by hand".to_owned()
                }
                _ => String::new(),
            };
        }
        Error::Slot(_) => "mend that line by hand, then run the same command again",
        Error::Archive { source: ArchiveError::Encrypted(_), .. } => {
            "put its password as the first line of a file that only you can read, and give that: want … --password-file FILE"
        }
        Error::Archive { source: ArchiveError::Password(_), .. } => {
            "ask where you got it for the right password; letters count, and so do blanks at the end"
        }
        Error::Place(_) | Error::Archive { .. } => "",
        Error::Fetch(FetchError::Status { status, .. }) if status.starts_with("404") => {
            "check the address; there is nothing at it"
        }
        Error::Fetch(FetchError::Silent { .. } | FetchError::Status { .. }) => {
            "check the address and the network, or go on with what is here: --offline"
        }
        Error::Fetch(FetchError::Other { .. }) => "do not use that file; take another version, or tell its keeper",
        Error::Fetch(FetchError::TooLarge { .. }) => {
            "if that is meant, raise `download-mb` under [limits] on the roster"
        }
        Error::Fetch(FetchError::Offline { .. }) => "run the same command without --offline",
        Error::Fetch(_) => "",
        Error::Catalogue { .. } => "try again later, or tell the catalogue's keeper",
        Error::Disk { source, .. } => return disk(source).to_owned(),
        Error::Tree(TreeError::Io { source, .. }) => match disk(source) {
            "" => "nothing was changed",
            fix => return format!("{fix}; nothing was changed"),
        },
        Error::Tree(TreeError::Host(e)) => return host(e),
        Error::Tree(TreeError::Held { .. }) => "wait until it has ended, then run the same command again",
        Error::Tree(TreeError::Root(_)) => "name it on the roster, under [roots]",
        Error::Tree(TreeError::OtherDisk { .. }) => "have both on one disk, or do that part by hand",
        Error::Beside(_) => "correct it on the roster, under [roots] or [hand]; to adopt, add: --root NAME=FOLDER",
        Error::Tree(_) => "",
        Error::Ledger(LedgerError::Damaged(what)) if what.starts_with("plans/") => {
            "do not start the server before that; if in doubt, keep .yalotheca as it is and ask for help"
        }
        Error::Ledger(_) => "the server itself is not touched; keep .yalotheca as it is and ask for help",
        Error::NothingToUndo(_) => "",
        Error::NoEntry(_) => "see what there is: yalotheca history",
        Error::StandsOn { entry, .. } => {
            return format!("take those back first, or all together: yalotheca undo {entry} --and-later");
        }
        Error::NoStart(_) => "start the server yourself",
        Error::NotApproved { how, .. } => {
            return format!("read the family file; if it may run that: {how}");
        }
        Error::Run { .. } => "check that the server's program is there and may be run",
        Error::OtherTerms { wanted, .. } => {
            return format!("read the terms, then: yalotheca trial --accept-terms {wanted}");
        }
        Error::NoTerms => "",
    };
    text.to_owned()
}

fn host(e: &HostError) -> String {
    match e {
        HostError::Unknown { fingerprint, .. } => {
            format!("compare it with what your host tells you; if it is that one, add --trust-host {fingerprint}")
        }
        HostError::Changed { file, .. } => format!(
            "ask your host whether they changed it; only if they did, take the old line out of {file} and try again"
        ),
        HostError::NoPassword { .. } => {
            "name a file that only you can read as password-file under [server] on the roster (adopt: --password-file), \
             or set YALOTHECA_PASSWORD"
                .to_owned()
        }
        HostError::Login { .. } => {
            "check user and password in your host's panel; for a key, name it as key under [server] on the roster"
                .to_owned()
        }
        HostError::NoFolder { .. } => {
            "check the folder in the address; ~ stands for where the login begins: sftp://club@host/~/quarry".to_owned()
        }
        HostError::Lost { .. } => "nothing is lost: run the same command again when the host is up".to_owned(),
        HostError::Offline { .. } => "run the same command without --offline".to_owned(),
        HostError::Refused { why, .. } => {
            let why = why.to_lowercase();
            let full = ["quota", "no space", "disk full", "storage", "exceeded"].iter().any(|w| why.contains(w));
            if full {
                "the host has no room left: make some, and run the same command again; nothing was changed".to_owned()
            } else if ["denied", "permission", "not allowed", "read-only"].iter().any(|w| why.contains(w)) {
                "you may not do that there: ask your host; nothing was changed".to_owned()
            } else {
                "nothing was changed".to_owned()
            }
        }
        _ => String::new(),
    }
}

fn disk(source: &std::io::Error) -> &'static str {
    use std::io::ErrorKind;
    match source.kind() {
        ErrorKind::PermissionDenied => "you may not do that there; ask the folder's owner for write permission",
        ErrorKind::StorageFull | ErrorKind::QuotaExceeded => {
            "the disk is full; make room and run the same command again"
        }
        ErrorKind::ReadOnlyFilesystem => "the disk is read-only; ask your host",
        ErrorKind::NotFound => "check the path",
        ErrorKind::InvalidData => "save it as UTF-8 text and try again",
        ErrorKind::IsADirectory => "that is a folder; name a file",
        _ => "",
    }
}
