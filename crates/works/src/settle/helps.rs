//! What helps where no versions go together, put on the roster.

use yalotheca_core::id::ItemId;
use yalotheca_core::roster::{Origin, Want, put_item, take_item};
use yalotheca_core::solve::{Help, Helped, Reasons, tell};
use yalotheca_core::version::{Range, Version};

use crate::Error;
use crate::server::Server;
use crate::want::{roster_error, taken_off, toml_text};

/// There is no set of versions that fits: why, and the changes that would help.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NoWay {
    /// Why.
    pub reasons: Reasons,
    /// The changes, cheapest first; each was tried.
    pub helps: Vec<Helped>,
}

impl NoWay {
    /// Returns the changes that would help, a sentence each.
    pub fn helps_said(&self) -> Vec<String> {
        self.helps.iter().map(|h| self.reasons.help_said(h)).collect()
    }

    /// Returns why, in one sentence: what stands closest to a version that cannot be.
    pub fn briefly(&self, id: &ItemId) -> String {
        let own = |l: &&String| l.starts_with(&format!("{id} "));
        let of_it = |l: &&String| l.contains(&format!(" {id} "));
        let told = tell(&self.reasons);
        let rest = told.iter().filter(|l| !l.starts_with("roster line") && !l.starts_with("you want"));
        let first = rest.clone().find(own).or_else(|| rest.clone().find(of_it)).or_else(|| rest.clone().next());
        first.or(told.first()).cloned().unwrap_or_default()
    }
}

/// Returns the roster's text with a change that helps, counted from 1.
///
/// # Errors
/// There are not so many.
pub fn take_help(server: &Server, way: &NoWay, number: usize) -> Result<String, Error> {
    let helped = number.checked_sub(1).and_then(|at| way.helps.get(at)).ok_or_else(|| {
        let all = match way.helps.len() {
            0 => "no change that would help was found".to_owned(),
            1 => "there is one change that would help: --take 1".to_owned(),
            many => format!("there are {many} changes that would help: --take 1 to --take {many}"),
        };
        Error::Usage(format!("no change has the number {number}; {all}"))
    })?;
    let mut text = server.text.clone();
    for (help, version) in helped.changes.iter().zip(&helped.versions) {
        let want = server.roster.want(help.item()).cloned();
        text = match (help, want, version) {
            (Help::Drop(id), ..) => taken_off(server, &text, id)?.unwrap_or(text),
            (Help::Allow(id), Some(want), _) => put(server, &text, id, &Want { line: 0, ..want })?,
            (Help::Allow(id), None, _) => take_item(&text, id).map_err(|e| roster_error(server, e))?.unwrap_or(text),
            (Help::Widen(id), Some(want), Some(version)) => {
                put(server, &text, id, &Want { range: about(version), ..want })?
            }
            (Help::Core(core), Some(want), _) => {
                put(server, &text, &core.id, &Want { range: Range::exactly(&core.version), ..want })?
            }
            (Help::Beta(id), Some(want), _) => put(server, &text, id, &Want { beta: true, ..want })?,
            (Help::Free(id), Some(want), _) => put(server, &text, id, &Want { hold: false, ..want })?,
            _ => text,
        };
    }
    Ok(text)
}

/// The range that begins with a version and stays near it.
fn about(version: &Version) -> Range {
    Range::parse(&format!("^{version}")).unwrap_or_else(|_| Range::exactly(version))
}

fn put(server: &Server, text: &str, id: &ItemId, want: &Want) -> Result<String, Error> {
    // what is never to be taken of it stays, unless that is what changes (then its line is none)
    let never = server.roster.never.iter().find(|n| n.id == *id && want.line > 0).map(|n| n.range.clone());
    put_item(text, id, &written(want, never.as_ref())).map_err(|e| roster_error(server, e))
}

/// Returns what the roster writes for an item that is wanted.
pub(crate) fn written(want: &Want, never: Option<&Range>) -> String {
    let mut words: Vec<String> = Vec::new();
    let mut add = |word: &str, value: Option<String>| words.extend(value.map(|v| format!("{word} = {v}")));
    let text = |t: &String| toml_text(t);
    let (file, link, here, number, sha256) = match &want.from {
        None => (None, None, None, None, None),
        Some(Origin::File { path, sha256 }) => (Some(path), None, None, None, Some(sha256.to_string())),
        Some(Origin::Link { address, sha256 }) => (None, Some(address), None, None, Some(sha256.to_string())),
        Some(Origin::Here { path, sha256 }) => (None, None, Some(path), None, Some(sha256.to_string())),
        Some(Origin::Number { number, .. }) => (None, None, None, Some(number), None),
    };
    let range = want.range.to_string();
    add("version", (want.from.is_none() || !want.range.is_any()).then(|| toml_text(&range)));
    add("file", file.map(text));
    add("link", link.map(text));
    add("here", here.map(text));
    add("number", number.map(text));
    add("sha256", sha256.as_ref().map(text));
    add("kind", want.kind.as_ref().map(text));
    let names = |t: &Vec<String>| format!("[{}]", t.iter().map(text).collect::<Vec<_>>().join(", "));
    add("take", want.take.as_ref().map(names));
    add("password-file", want.password_file.as_ref().map(text));
    add("catalogue", want.catalogue.as_ref().map(text));
    add("never", never.map(|r| toml_text(&r.to_string())));
    add("beta", want.beta.then(|| "true".to_owned()));
    add("hold", want.hold.then(|| "true".to_owned()));
    match words.as_slice() {
        [one] if one.starts_with("version = ") => toml_text(&range),
        _ => format!("{{ {} }}", words.join(", ")),
    }
}
