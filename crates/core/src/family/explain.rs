//! A family in plain sentences.

use super::{Body, Family, FetchedBy, Kind, Of, Players, Role, Wiring};
use crate::text::{a, listed};

impl Family {
    /// Returns what the family does, sentence by sentence under headings.
    pub fn explain(&self) -> Vec<(String, Vec<String>)> {
        let rules = &self.rules;
        let mut out: Vec<(String, Vec<String>)> = Vec::new();
        let marks: Vec<String> = rules
            .recognise
            .iter()
            .map(|m| match &m.holds {
                Some(text) => format!("`{}` with `{text}` in it makes it {} % sure.", m.path, m.sure),
                None => format!("`{}` makes it {} % sure.", m.path, m.sure),
            })
            .collect();
        out.push(("How it is recognised".to_owned(), marks));
        for kind in rules.kind.values() {
            let title = crate::text::a(&kind.title);
            let (first, rest) = title.split_at(1);
            out.push((format!("{}{rest}", first.to_uppercase()), kind_said(kind)));
        }
        if let Some(active) = &rules.active {
            let mut said = vec![format!("The fact `{}` says which is played.", active.now)];
            said.extend(active.set.iter().map(|w| format!("To play one, {}.", wiring_said(w))));
            out.push(("The map that is played".to_owned(), said));
        }
        if let Some(rotation) = &rules.rotation {
            let said = format!(
                "`{}` lists them: `{}` is in, `{}` is out{}.",
                rotation.file,
                rotation.is_in,
                rotation.is_out,
                if rotation.turns.is_some() { ", with the number of turns" } else { "" }
            );
            out.push(("The maps in turn".to_owned(), vec![said]));
        }
        let mut conditions: Vec<String> = Vec::new();
        for bound in &rules.bound {
            let of: Vec<String> = bound.of.iter().map(|p| format!("`{p}`")).collect();
            let top = bound.most.map(|m| format!(", {m} at most")).unwrap_or_default();
            conditions.push(format!("`{}` in `{}` is large enough for {}{top}.", bound.at, bound.file, listed(&of)));
        }
        for default in &rules.default {
            conditions.push(format!("Where nothing is set, {}.", wiring_said(default)));
        }
        if let Some(terms) = &rules.terms {
            conditions.push(format!("A person must accept the terms ({}); nothing does so unasked.", terms.text));
        }
        for kind in rules.kind.values() {
            if let Some(capability) = &kind.needs_capability {
                conditions.push(format!("The core must take {capability} for {}.", crate::text::a(&kind.title)));
            }
        }
        if !conditions.is_empty() {
            out.push(("What a clean start needs".to_owned(), conditions));
        }
        let mut links: Vec<String> = Vec::new();
        for rule in &rules.reference {
            let (what, at) = (if rule.of == Of::Keys { "Each key of" } else { "What stands at" }, &rule.at);
            let place = if at.is_empty() { "the file itself" } else { at.as_str() };
            let to = rule.to.as_str();
            links.push(match &rule.key {
                None => format!("{what} `{place}` in `{}` names `{to}`.", rule.file),
                Some(key) if key.is_empty() => format!("{what} `{place}` in `{}` stands in `{to}`.", rule.file),
                Some(key) => format!("{what} `{place}` in `{}` stands at `{key}` in `{to}`.", rule.file),
            });
        }
        for rule in &rules.unique {
            links.push(format!(
                "A name of {} (`{}`) is had by one only, else {}.",
                a(&rule.title),
                rule.file,
                rule.why
            ));
        }
        if !links.is_empty() {
            out.push(("What must go together".to_owned(), links));
        }
        let mut running = Vec::new();
        if let Some(start) = &rules.start {
            running.push(format!(
                "It is started with `{}` and stopped with the line `{}`.",
                start.command.join(" "),
                start.stop
            ));
        }
        let list = |files: &[String]| listed(&files.iter().map(|f| format!("`{f}`")).collect::<Vec<_>>());
        if !rules.running.file.is_empty() {
            running.push(format!("It runs while {} is there.", list(&rules.running.file)));
        }
        if !rules.running.rewrites.is_empty() {
            running.push(format!("It writes {} anew when it stops.", list(&rules.running.rewrites)));
        }
        if !running.is_empty() {
            out.push(("Start and stop".to_owned(), running));
        }
        for hand in &rules.hand {
            out.push((format!("By hand: {}", hand.name), vec![format!("A person must enter it {}.", hand.place)]));
        }
        if !rules.own.is_empty() {
            let said =
                format!("{} are the server's or yours: only what is said above changes in them.", list(&rules.own));
            out.push(("Left alone".to_owned(), vec![said]));
        }
        out
    }
}

fn kind_said(kind: &Kind) -> Vec<String> {
    let mut out = Vec::new();
    let marks: Vec<String> = kind.marks().iter().map(|p| format!("`{p}`")).collect();
    let known = match (&kind.file, kind.fetched_by) {
        (_, FetchedBy::Server) => "The server fetches it itself, by its number".to_owned(),
        (Some(file), _) => format!("One file, `{file}`, by itself or in an archive"),
        (None, _) => format!("A folder with {}", listed(&marks)),
    };
    let role = match kind.role {
        Role::AddOn => "the server loads it",
        Role::Map => "a place to play",
        Role::Pack => "for players",
        Role::Bundle => "many items and files in one",
        Role::Core => "the server build itself",
        Role::Framework => "other items stand on it",
    };
    out.push(format!("{known}: {role}."));
    if let Some(why) = &kind.refuse {
        out.push(format!("It is refused: it {}.", why.as_str()));
    }
    if let Some(why) = &kind.only {
        out.push(format!("There can be one only: {why}."));
    }
    let ticked = |all: &[String]| listed(&all.iter().map(|p| format!("`{p}`")).collect::<Vec<_>>());
    if let Some(bring) = &kind.bring {
        out.push(format!("Its list `{}` sends files to their places, to {} only.", bring.at, ticked(&bring.within)));
    }
    if let Some(fetch) = &kind.fetch {
        out.push(format!(
            "What `{}` would fetch is fetched and checked, and goes to {} only; nothing is run.",
            fetch.inside,
            ticked(&fetch.within)
        ));
    }
    if let Some(slate) = &kind.clean_slate {
        let but = if slate.keeps.is_empty() { String::new() } else { format!(", but not {}", ticked(&slate.keeps)) };
        out.push(format!("For a clean slate, {} go to quarantine{but}.", ticked(&slate.clears)));
    }
    for place in &kind.place {
        let take = if place.takes_real() { "The file".to_owned() } else { format!("`{}`", place.take) };
        let needed = if place.needed { " (it must be there)" } else { "" };
        let owner = match (place.once, place.settings) {
            (true, _) => ", and is yours from then on",
            (_, true) => ", and is yours from then on; new defaults are merged in",
            _ => "",
        };
        let when = place.when.as_ref().map(|w| format!(" when {}", w.said())).unwrap_or_default();
        out.push(format!("{take} goes to `{}`{owner}{needed}{when}.", place.to.as_str()));
    }
    if let Some(seal) = &kind.seal {
        out.push(format!(
            "`{}` must be signed in `{}`; trusted keys are `{}`.",
            seal.of,
            seal.file,
            seal.trusted.as_str()
        ));
    }
    for wiring in &kind.wire {
        out.push(format!("So that it is loaded, {}.", wiring_said(wiring)));
    }
    for derive in &kind.derive {
        let (file, entry, take) = (derive.file.as_str(), derive.entry.as_str(), &derive.take);
        let command: Vec<&str> = derive.command.iter().map(super::Template::as_str).collect();
        out.push(match command.as_slice() {
            [] => format!("`{file}` is made anew with `{entry}` of `{take}` in it; its other entries stay."),
            words => format!("`{file}` is made anew by `{}` with `{entry}` of `{take}`.", words.join(" ")),
        });
    }
    for (name, choice) in &kind.choice {
        let values = if choice.values.is_empty() { String::new() } else { format!(" ({})", choice.values.join(", ")) };
        out.push(format!("You choose `{name}`{values}: {}. It is `{}` unless you do.", choice.title, choice.default));
    }
    for (name, pattern) in kind.late_fields() {
        out.push(format!("Its `{name}` is known once the server has made `{pattern}`, if no catalogue knows it."));
    }
    match kind.players {
        Players::No => {}
        Players::May => out.push("Players may have it, too.".to_owned()),
        Players::Need => out.push("Players cannot join without it.".to_owned()),
        Players::Sent => out.push("The server sends it to players.".to_owned()),
    }
    out
}

fn wiring_said(wiring: &Wiring) -> String {
    let value = match &wiring.value {
        Body::Text(one) => format!("`{}`", one.as_str()),
        Body::Row(row) => {
            let next = |at: usize| wiring.number.as_ref().is_some_and(|n| n.parse() == Ok(at + 1));
            let column = |(at, t): (usize, &super::Template)| if next(at) { "NUMBER" } else { t.as_str() }.to_owned();
            let row = format!("`{}`", row.iter().enumerate().map(column).collect::<Vec<_>>().join(" "));
            if wiring.number.is_some() { format!("{row} (the next free number)") } else { row }
        }
        Body::Table(table) => {
            let pairs: Vec<String> = table.iter().map(|(k, t)| format!("{k} {}", t.as_str())).collect();
            format!("`{{ {} }}`", pairs.join(", "))
        }
    };
    let file = wiring.file.as_str();
    let when = wiring.when.as_ref().map(|w| format!(" when {}", w.said())).unwrap_or_default();
    match (&wiring.at, wiring.list || wiring.by.is_some() || wiring.between.is_some()) {
        (Some(at), false) => format!("`{}` in `{file}` is {value}{when}", at.as_str()),
        (Some(at), true) => format!("{value} is one of `{}` in `{file}`{when}", at.as_str()),
        (None, _) => format!("`{file}` has the line {value}{when}"),
    }
}
