//! Everything that would stop a clean start, from what is known of the server.

use std::collections::{BTreeMap, BTreeSet};

use crate::changes::Seen;
use crate::facts::{Need, ServerFacts};
use crate::family::Family;
use crate::finding::{Finding, Severity, sort};
use crate::id::{Digest, ItemId, ServerPath};
use crate::ledger::{FileRow, Ledger};
use crate::roster::Roster;
use crate::version::{Scheme, Version};

/// What a check looks at.
#[derive(Debug)]
pub struct Situation<'a> {
    /// The family.
    pub family: &'a Family,
    /// What the family's rules read on the server.
    pub server: &'a ServerFacts,
    /// The roster.
    pub roster: &'a Roster,
    /// What is on the server.
    pub ledger: &'a Ledger,
    /// The items' files.
    pub rows: &'a BTreeMap<ItemId, Vec<FileRow>>,
    /// What stands at each of these files' paths.
    pub seen: &'a BTreeMap<ServerPath, Seen>,
    /// Files on the server that are nobody's: neither ours nor the family's own.
    pub unknown: &'a [ServerPath],
    /// What the settings files revealed (from [`crate::slot::settle`] with the present claims).
    pub settings: &'a [Finding],
}

/// Returns the findings, worst first.
pub fn check(at: &Situation<'_>) -> Vec<Finding> {
    let mut out: Vec<Finding> = at.settings.to_vec();
    items(at, &mut out);
    files(at, &mut out);
    unknown(at, &mut out);
    terms(at, &mut out);
    core(at, &mut out);
    unsettled(at, &mut out);
    sort(&mut out);
    out
}

fn items(at: &Situation<'_>, out: &mut Vec<Finding>) {
    for (id, held) in &at.ledger.items {
        let scheme = at.family.rules.kind.get(&held.kind).map_or(Scheme::Plain, |k| k.scheme);
        if let Some(misfit) = held.facts.misfit(at.server, scheme) {
            let code = match misfit {
                crate::facts::Misfit::Game { .. } => "wrong-game",
                crate::facts::Misfit::Core { .. } => "wrong-core",
                crate::facts::Misfit::Runtime { .. } => "runtime-too-old",
                crate::facts::Misfit::Capability { .. } => "no-capability",
                crate::facts::Misfit::PlayersOnly | crate::facts::Misfit::Beta => "wrong-side",
            };
            let cause = format!("{id} {} {misfit}", held.facts.version);
            let fix = format!("yalotheca settle takes a version that fits, if there is one; else yalotheca drop {id}");
            out.push(Finding::new(code, Severity::Error, cause, fix).of(id));
        }
        for need in &held.facts.needs {
            if !at.ledger.items.iter().any(|(other, o)| meets(need, other, &o.facts)) {
                let cause = format!("{id} {} needs {need}, which is not on the server", held.facts.version);
                let fix = match need.targets().first() {
                    Some(t) if at.ledger.items.contains_key(&t.id) => {
                        format!("yalotheca settle takes versions that go together, or drop {id}")
                    }
                    Some(t) => format!("yalotheca want {}, then yalotheca settle", t.id),
                    None => "yalotheca settle".to_owned(),
                };
                out.push(Finding::new("missing-need", Severity::Error, cause, fix).of(id));
            }
        }
        for clash in &held.facts.clashes {
            let there =
                at.ledger.items.iter().find(|(other, o)| {
                    *other != id && **other == clash.id && clash.range.holds(&o.facts.version, scheme)
                });
            if let Some((other, o)) = there {
                let cause = format!("{id} {} cannot stand beside {other} {}", held.facts.version, o.facts.version);
                out.push(
                    Finding::new("clash", Severity::Error, cause, format!("yalotheca drop {id}, or drop {other}"))
                        .of(id),
                );
            }
        }
    }
}

fn meets(need: &Need, id: &ItemId, facts: &crate::facts::VersionFacts) -> bool {
    let plain = |range: &crate::version::Range, v: &Version| range.holds(v, Scheme::Plain);
    need.targets().iter().any(|t| {
        (t.id == *id && plain(&t.range, &facts.version))
            || facts
                .provides
                .iter()
                .any(|p| p.id == t.id && plain(&t.range, p.version.as_ref().unwrap_or(&facts.version)))
            || facts.replaces.iter().any(|r| r.id == t.id)
    })
}

fn files(at: &Situation<'_>, out: &mut Vec<Finding>) {
    let mut owners: BTreeMap<&ServerPath, (&Digest, Vec<String>)> = BTreeMap::new();
    // what is the administrator's once it is there may be whatever it is
    let yours: BTreeSet<&ServerPath> = at.rows.values().flatten().filter(|r| r.settings).map(|r| &r.path).collect();
    for (id, rows) in at.rows {
        for row in rows {
            owners.entry(&row.path).or_insert((&row.sha256, Vec::new())).1.push(id.to_string());
        }
    }
    for (path, (sha256, owners)) in owners {
        let owners = crate::text::listed(&owners);
        match at.seen.get(path).unwrap_or(&Seen::Absent) {
            Seen::File(now) if now == sha256 || yours.contains(path) => {}
            Seen::File(_) => out.push(
                Finding::new(
                    "changed-by-hand",
                    Severity::Warning,
                    format!("this file of {owners} was changed by hand"),
                    format!("keep it, or have the item's own again: yalotheca settle --put-back {path}"),
                )
                .at(path)
                .of(owners),
            ),
            Seen::Absent => out.push(
                Finding::new(
                    "missing-file",
                    Severity::Error,
                    format!("this file of {owners} is gone"),
                    "yalotheca settle puts it back",
                )
                .at(path)
                .of(owners),
            ),
            Seen::Other(what) => out.push(
                Finding::new(
                    "in-the-way",
                    Severity::Error,
                    format!("{what} stands where {owners} has a file"),
                    "move it elsewhere, then yalotheca settle",
                )
                .at(path)
                .of(owners),
            ),
        }
    }
}

/// Files that nobody knows, told file by file where items live and folder by folder elsewhere.
fn unknown(at: &Situation<'_>, out: &mut Vec<Finding>) {
    let places: Vec<(String, &str, Option<usize>)> = at
        .family
        .rules
        .kind
        .values()
        .flat_map(|k| {
            let depth = |to: &str| to.split('/').position(|part| part.contains('{')).map(|at| at + 1);
            k.place.iter().map(move |p| {
                let folder = depth(p.to.as_str()).filter(|_| k.file.is_none());
                (p.to.glob(), k.title.as_str(), folder)
            })
        })
        .collect();
    let folders: BTreeSet<&str> =
        places.iter().filter_map(|(glob, ..)| glob.split_once('/')).map(|(top, _)| top).collect();
    let mut elsewhere: BTreeMap<String, usize> = BTreeMap::new();
    let mut whole: BTreeMap<String, (&str, usize)> = BTreeMap::new();
    let gone = |row: &&FileRow| matches!(at.seen.get(&row.path), None | Some(Seen::Absent));
    let missing: BTreeMap<String, &ServerPath> =
        at.rows.values().flatten().filter(gone).map(|r| (r.path.path().to_lowercase(), &r.path)).collect();
    for path in at.unknown {
        let text = path.path();
        // what differs from a missing file of ours only in case is that file
        if let Some(ours) = missing.get(&text.to_lowercase()) {
            let cause =
                format!("the server looks for `{ours}`: the name differs in case, and to many systems that is another");
            let fix = format!("give it its name back: {ours}; or remove it, and yalotheca settle puts ours there");
            out.push(Finding::new("case", Severity::Error, cause, fix).at(path));
            continue;
        }
        let kind = places.iter().find(|(glob, ..)| fast_glob::glob_match(glob, text));
        let top = text.split_once('/').map_or("", |(top, _)| top);
        // an item that is a folder is told once
        let folder = kind.and_then(|(_, title, depth)| Some((*title, folder_of(text, (*depth)?)?)));
        if let Some((title, folder)) = folder {
            whole.entry(folder.to_owned()).or_insert((title, 0)).1 += 1;
        } else if let Some((_, title, _)) = kind {
            let cause = format!("this {title} is on the server and not on the roster");
            out.push(
                Finding::new(
                    "unknown-file",
                    Severity::Warning,
                    cause,
                    format!("take it under care: yalotheca want ./{text}; or remove it"),
                )
                .at(path),
            );
        } else if folders.contains(top) {
            let expected: Vec<String> = places
                .iter()
                .filter(|(g, ..)| g.starts_with(&format!("{top}/")))
                .map(|(g, ..)| format!("`{g}`"))
                .collect();
            let cause = format!("the server does not read this file here: it reads {}", crate::text::listed(&expected));
            let fix = if text.ends_with(".zip") {
                format!("if it holds an item: yalotheca want ./{text}, then remove it from here")
            } else {
                "remove it, or give it the right name".to_owned()
            };
            out.push(Finding::new("unknown-file", Severity::Warning, cause, fix).at(path));
        } else {
            *elsewhere.entry(if top.is_empty() { text.to_owned() } else { format!("{top}/") }).or_default() += 1;
        }
    }
    for (folder, (title, count)) in whole {
        let files = crate::text::counted(count, "file");
        let cause = format!("this {title} is on the server and not on the roster ({files})");
        let fix = format!("take it under care: yalotheca want ./{folder}; or remove it");
        out.push(Finding::new("unknown-file", Severity::Warning, cause, fix).at(format!("{folder}/")));
    }
    for (place, count) in elsewhere {
        let cause = if place.ends_with('/') {
            format!("{} here that nobody knows", crate::text::counted(count, "file"))
        } else {
            "nobody knows this file".to_owned()
        };
        out.push(Finding::new("unknown-file", Severity::Note, cause, "nothing to do if it is yours").at(place));
    }
}

/// The first parts of a path, where more follow.
fn folder_of(path: &str, depth: usize) -> Option<&str> {
    let (at, _) = path.match_indices('/').nth(depth.checked_sub(1)?)?;
    path.get(..at)
}

fn terms(at: &Situation<'_>, out: &mut Vec<Finding>) {
    let Some(rules) = &at.family.rules.terms else { return };
    let Some(wanted) = at.server.get(&rules.wanted) else { return };
    let accepted = at.server.get(&rules.accepted);
    if accepted != Some(wanted) {
        let have = accepted.map_or("none were accepted so far".to_owned(), |n| format!("number {n} was accepted"));
        let cause = format!("the terms number {wanted} are not accepted ({have}), and the server will not start");
        let fix = format!(
            "read {} (the first yalotheca trial brings it), then: yalotheca trial --accept-terms {wanted}",
            rules.text
        );
        out.push(Finding::new("terms-not-accepted", Severity::Error, cause, fix).at(&rules.file));
    }
}

fn core(at: &Situation<'_>, out: &mut Vec<Finding>) {
    let in_doubt = at.settings.iter().any(|f| f.code == "unreadable-settings");
    if at.family.rules.fact.contains_key("core") && at.server.get("core").is_none() && !in_doubt {
        let cause = "no core was found on the server, so it cannot start and nothing can be fitted to it";
        out.push(Finding::new(
            "no-core",
            Severity::Error,
            cause,
            "put a core on the roster (yalotheca find core), or upload one and name it in the settings",
        ));
    }
    if let (Some(least), Some(have)) = (at.server.get("runtime-least"), at.server.get("runtime"))
        && Version::new(have).compare(&Version::new(least), Scheme::Plain).is_lt()
    {
        let cause = format!("the core needs runtime {least}, and this server has {have}");
        out.push(Finding::new(
            "runtime-too-old",
            Severity::Error,
            cause,
            format!("ask your host for runtime {least}, or take an older core"),
        ));
    }
}

fn unsettled(at: &Situation<'_>, out: &mut Vec<Finding>) {
    for want in &at.roster.wants {
        let fits = at.ledger.items.get(&want.id).is_some_and(|h| {
            let scheme = at.family.rules.kind.get(&h.kind).map_or(Scheme::Plain, |k| k.scheme);
            want.range.holds(&h.facts.version, scheme)
        });
        if !fits {
            let cause = if at.ledger.items.contains_key(&want.id) {
                format!("the roster wants {} {}, and another version is on the server", want.id, want.range)
            } else {
                format!("{} is on the roster and not on the server yet", want.id)
            };
            out.push(
                Finding::new("not-settled", Severity::Warning, cause, "yalotheca settle").of(&want.id).on_line(None),
            );
        }
    }
}
