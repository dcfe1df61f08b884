//! What a person sees: results on stdout, status, hints and questions on stderr, colour by meaning.

use std::io::{BufRead as _, Write as _};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{self, RecvTimeoutError};
use std::time::Duration;

use anstyle::{AnsiColor, Style};
use serde_json::Value;

use crate::setting::Setting;
use crate::view::table::wrapped;

/// Writes for a person, or one JSON object for a script.
pub(crate) struct Ui {
    json: bool,
    quiet: bool,
    yes: bool,
    interactive: bool,
    stop: Arc<AtomicBool>,
    /// Columns to fill.
    pub(crate) width: usize,
}

/// Colour by meaning. Colour never carries a meaning alone.
pub(crate) mod paint {
    use super::{AnsiColor, Style};

    pub(crate) const GOOD: Style = AnsiColor::Green.on_default();
    pub(crate) const BAD: Style = AnsiColor::Red.on_default().bold();
    pub(crate) const CARE: Style = AnsiColor::Yellow.on_default();
    pub(crate) const FAINT: Style = Style::new().dimmed();
    pub(crate) const STRONG: Style = Style::new().bold();

    /// Returns text in a style.
    pub(crate) fn in_style(style: Style, text: &str) -> String {
        format!("{style}{text}{style:#}")
    }
}

/// What came of a question.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Reply {
    Yes,
    No,
    /// Nobody is there to ask.
    Nobody,
}

/// What a rented host makes us ask.
impl yalotheca_works::tree::Ask for Ui {
    fn secret(&self, question: &str) -> Option<String> {
        self.ask_password(question)
    }

    fn yes(&self, question: &str) -> Option<bool> {
        match self.ask_person(question) {
            Reply::Yes => Some(true),
            Reply::No => Some(false),
            Reply::Nobody => None,
        }
    }
}

impl Ui {
    pub(crate) fn new(setting: &Setting) -> Self {
        Self {
            json: setting.json,
            quiet: setting.quiet,
            yes: setting.yes,
            interactive: setting.interactive,
            stop: setting.stop.clone(),
            width: setting.width,
        }
    }

    /// Whether the result is wanted as JSON.
    pub(crate) fn json(&self) -> bool {
        self.json
    }

    /// Writes a line of the result; not with `--json`.
    pub(crate) fn line(&self, text: impl AsRef<str>) {
        if !self.json {
            let _ = writeln!(anstream::stdout(), "{}", text.as_ref());
        }
    }

    /// Writes the result as one JSON object; only with `--json`.
    pub(crate) fn object(&self, value: &Value) {
        if self.json {
            let text = serde_json::to_string_pretty(value).unwrap_or_default();
            let _ = writeln!(anstream::stdout(), "{text}");
        }
    }

    /// Writes a line of status or a hint; not with `--quiet` or `--json`.
    pub(crate) fn hint(&self, text: impl AsRef<str>) {
        let text = text.as_ref();
        if !self.quiet {
            let fits = text.chars().count() <= self.width || text.starts_with(' ');
            let text = if fits { text.to_owned() } else { wrapped(text, self.width, "  ") };
            let _ = writeln!(anstream::stderr(), "{text}");
        }
    }

    /// Writes a line of somebody's log as it is; not with `--quiet` or `--json`.
    pub(crate) fn log(&self, line: &str) {
        if !self.quiet {
            let _ = writeln!(anstream::stderr(), "{}", paint::in_style(paint::FAINT, &format!("  | {line}")));
        }
    }

    /// Writes a line of an error.
    #[allow(clippy::unused_self)] // all writing goes through a Ui
    pub(crate) fn error(&self, text: impl AsRef<str>) {
        let _ = writeln!(anstream::stderr(), "{}", text.as_ref());
    }

    /// Asks; `--yes` answers, and without a terminal nobody does.
    pub(crate) fn ask(&self, question: &str) -> Reply {
        if self.yes { Reply::Yes } else { self.ask_person(question) }
    }

    /// Asks for a secret, which is not shown while it is typed; `None` where nobody is there to type it.
    pub(crate) fn ask_secret(&self, question: &str) -> Option<String> {
        if !self.interactive {
            self.error(
                "Nobody is there to type the secret.\n  fix: name where it is: --secret FILE, --secret '$NAME' or --secret -",
            );
            return None;
        }
        let _ = write!(anstream::stderr(), "{question} ");
        let _ = anstream::stderr().flush();
        console::Term::stderr().read_secure_line().ok()
    }

    /// Asks for a host's password, which is not shown; `None` where nobody is there.
    fn ask_password(&self, question: &str) -> Option<String> {
        if !self.interactive {
            return None;
        }
        let _ = write!(anstream::stderr(), "{question}: ");
        let _ = anstream::stderr().flush();
        console::Term::stderr().read_secure_line().ok().filter(|p| !p.is_empty())
    }

    /// Asks a person; `--yes` is no answer here.
    pub(crate) fn ask_person(&self, question: &str) -> Reply {
        if !self.interactive {
            return Reply::Nobody;
        }
        let mut err = anstream::stderr();
        let _ = write!(err, "{question} [y/N] ");
        let _ = err.flush();
        // read beside, so that Ctrl-C is heard while nobody types
        let (send, typed) = mpsc::channel();
        std::thread::spawn(move || {
            let mut answer = String::new();
            let read = std::io::stdin().lock().read_line(&mut answer);
            let _ = send.send(read.map(|_| answer).unwrap_or_default());
        });
        loop {
            match typed.recv_timeout(Duration::from_millis(50)) {
                Ok(answer) if matches!(answer.trim().to_lowercase().as_str(), "y" | "yes") => return Reply::Yes,
                Ok(_) | Err(RecvTimeoutError::Disconnected) => return Reply::No,
                Err(RecvTimeoutError::Timeout) if self.stop.load(Ordering::Relaxed) => {
                    let _ = writeln!(err);
                    return Reply::No;
                }
                Err(RecvTimeoutError::Timeout) => {}
            }
        }
    }
}
