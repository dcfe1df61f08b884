//! Judging a start from its log, line by line, by the family's patterns.

use std::collections::BTreeMap;

use regex_lite::Regex;
use serde::Serialize;

use crate::family::{Family, Meaning};
use crate::text::clean;

/// What became of one item.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "state")]
pub enum State {
    /// The log says it was loaded.
    Loaded,
    /// The log says it was not.
    Failed {
        /// Why, in the log's words.
        cause: String,
        /// The log's line, whole.
        log: String,
        /// Its number, from 1.
        line: usize,
    },
    /// The log says nothing of it.
    NotMentioned,
}

/// What became of the start as a whole.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "start")]
pub enum Whole {
    /// The server is up and every item was loaded.
    Clean,
    /// The server is up, and something was not loaded.
    Unclean,
    /// It stopped because the terms are not accepted.
    Terms {
        /// The log's line.
        log: String,
    },
    /// It stopped by itself before it was up.
    Stopped {
        /// The line that says why, or the last one.
        log: String,
        /// The exit status, in words.
        status: String,
    },
    /// It was not up in time.
    TooSlow {
        /// The seconds waited.
        seconds: u64,
        /// The last line of the log.
        log: String,
    },
}

/// A start judged.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Verdict {
    /// The whole.
    #[serde(flatten)]
    pub whole: Whole,
    /// Each item that was expected, in load order, and others the log names.
    pub items: Vec<(String, State)>,
}

/// How the process ended, as seen from outside.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Ended {
    /// It said that it is up.
    Ready,
    /// It stopped by itself.
    Stopped(String),
    /// The time ran out.
    TooSlow(u64),
}

/// Follows a log.
#[derive(Debug)]
pub struct Judge {
    rules: Vec<(Meaning, Regex)>,
    states: BTreeMap<String, State>,
    others: Vec<String>,
    terms: Option<String>,
    crash: Option<String>,
    again: Vec<String>,
    last: String,
    count: usize,
}

impl Judge {
    /// Returns a judge by the family's patterns; `expected` are the items on the server.
    pub fn new(family: &Family) -> Self {
        let rules = family.rules.log.iter().filter_map(|r| Some((r.means, Regex::new(&r.pattern).ok()?))).collect();
        Self {
            rules,
            states: BTreeMap::new(),
            others: Vec::new(),
            terms: None,
            crash: None,
            again: Vec::new(),
            last: String::new(),
            count: 0,
        }
    }

    /// Reads a line; returns whether it says that the server is up.
    pub fn line(&mut self, line: &str) -> bool {
        self.count += 1;
        let line = clean(line.trim_end(), 400);
        if !line.is_empty() {
            self.last.clone_from(&line);
        }
        for (means, pattern) in &self.rules {
            let Some(found) = pattern.captures(&line) else { continue };
            let group = |name: &str| found.name(name).map(|m| m.as_str().to_owned());
            match means {
                Meaning::Ready => return true,
                Meaning::Noise => {}
                Meaning::Again => self.again.push(line.clone()),
                Meaning::Terms => self.terms = Some(line.clone()),
                Meaning::Crash => self.crash = Some(line.clone()),
                Meaning::Loaded | Meaning::Failed => {
                    if let Some(item) = group("item") {
                        let cause = group("cause").unwrap_or_else(|| line.clone());
                        let state = if *means == Meaning::Loaded {
                            State::Loaded
                        } else {
                            State::Failed { cause, log: line.clone(), line: self.count }
                        };
                        if !self.others.contains(&item) {
                            self.others.push(item.clone());
                        }
                        self.states.insert(item, state);
                    }
                }
            }
            break;
        }
        false
    }

    /// Returns the lines that ask for one more start.
    pub fn again(&self) -> &[String] {
        &self.again
    }

    /// Returns the verdict. `names` gives, for each expected item in load order, what the log may call it.
    pub fn end(mut self, ended: Ended, names: &[(String, Vec<String>)]) -> Verdict {
        let mut items = Vec::new();
        for (item, calls) in names {
            // an item may be called several names, and what failed of it counts
            let mut found: Option<State> = None;
            for name in std::iter::once(item).chain(calls) {
                let Some(state) = self.states.remove(name) else { continue };
                self.others.retain(|o| o != name);
                if !matches!(found, Some(State::Failed { .. })) {
                    found = Some(state);
                }
            }
            items.push((item.clone(), found.unwrap_or(State::NotMentioned)));
        }
        for other in std::mem::take(&mut self.others) {
            if let Some(state) = self.states.remove(&other) {
                items.push((other, state));
            }
        }
        let whole = match ended {
            Ended::Ready if items.iter().any(|(_, s)| matches!(s, State::Failed { .. })) => Whole::Unclean,
            Ended::Ready => Whole::Clean,
            Ended::Stopped(_) if self.terms.is_some() => Whole::Terms { log: self.terms.unwrap_or_default() },
            Ended::Stopped(status) => Whole::Stopped { log: self.crash.unwrap_or(self.last), status },
            Ended::TooSlow(seconds) => Whole::TooSlow { seconds, log: self.last },
        };
        Verdict { whole, items }
    }
}
