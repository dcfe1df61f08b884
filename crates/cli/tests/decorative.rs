//! No rule is decorative: of a finished server, each single file, line, value, entry and condition that a family's rules
//! put there is taken out or misspelt, and the server or its player must fail over it.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // a test may stop where it fails

mod club;

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

use club::Club;
use yalotheca_core::family::{Family, Of};
use yalotheca_core::ledger::{FileRow, Ledger};
use yalotheca_core::settings::{Document, Path as At, Value, guess};
use yalotheca_core::slot::Owner;
use yalotheca_core::text::glob;

/// The family's own file.
fn family(game: &str) -> Family {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("../../families/{game}.family.toml"));
    Family::parse(&fs::read_to_string(path).unwrap()).unwrap()
}

fn ledger(club: &Club) -> (Ledger, Vec<FileRow>) {
    let heads = club.path(".yalotheca/heads");
    let mut names: Vec<_> = fs::read_dir(&heads).unwrap().map(|e| e.unwrap().path()).collect();
    names.sort();
    let all = names.iter().filter_map(|p| Ledger::parse(&fs::read(p).unwrap()).ok());
    let head = all.max_by_key(|l| l.generation).unwrap();
    let rows = |digest: &yalotheca_core::id::Digest| -> Vec<FileRow> {
        let path = club.path(&format!(".yalotheca/lists/{digest}.json"));
        serde_json::from_slice(&fs::read(path).unwrap()).unwrap()
    };
    let rows = head.items.values().flat_map(|h| rows(&h.files)).collect();
    (head, rows)
}

/// Does something to a file of the server, looks how it starts then, and puts the file back.
fn with(club: &Club, file: &str, change: impl FnOnce(&Path)) -> String {
    let path = club.path(file);
    let before = fs::read(&path).unwrap();
    change(&path);
    let log = club.visit();
    let beside = path.with_file_name("misspelt-name");
    let _ = fs::remove_file(beside);
    fs::write(&path, before).unwrap();
    log
}

/// The word in a settings file that a claim put there.
fn word(value: &Value) -> String {
    match value {
        Value::List(row) => row.iter().filter_map(Value::text).find(|t| t.len() > 2).unwrap(),
        Value::Map(pairs) => pairs.first().and_then(|(_, v)| v.text()).unwrap(),
        other => other.text().unwrap(),
    }
}

/// Every value that names something is misspelt once, and every name that only one may have is given twice.
fn references(club: &Club, family: &Family, game: &str, noticed: &dyn Fn(&str, &[&str], &str)) {
    let files: Vec<String> = club.tree().into_keys().filter(|p| !p.ends_with('/')).collect();
    for rule in &family.rules.reference {
        let mut tried = 0;
        for file in files.iter().filter(|f| glob(&rule.file, f)) {
            for (value, line) in names_in(club, file, &rule.at, rule.of == Of::Keys) {
                let text = club.read(file);
                let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
                lines[line - 1] = lines[line - 1].replacen(&value, &format!("{value}x"), 1);
                let log = with(club, file, |p| fs::write(p, lines.join("\n") + "\n").unwrap());
                noticed(&format!("that `{value}` in {file} names nothing"), &[&format!("{value}x")], &log);
                tried += 1;
            }
        }
        assert!(tried > 0, "{game}: nothing stands at {} in {}", rule.at, rule.file);
    }
    for rule in &family.rules.unique {
        let named: Vec<(&String, String)> = files
            .iter()
            .filter(|f| rule.file.fits(f))
            .filter_map(|f| Some((f, names_in(club, f, &rule.at, rule.of == Of::Keys).into_iter().next()?.0)))
            .collect();
        let [(_, name), .., (file, other)] = named.as_slice() else { panic!("{game}: {} is had once", rule.title) };
        let text = club.read(file).replacen(other.as_str(), name, 1);
        let log = with(club, file, |p| fs::write(p, text).unwrap());
        noticed(&format!("that `{name}` stands in {file} too"), &[name], &log);
    }
}

/// The names at a path of a file, with their lines.
fn names_in(club: &Club, file: &str, at: &str, keys: bool) -> Vec<(String, usize)> {
    let bytes = fs::read(club.path(file)).unwrap();
    let format = guess(file, &bytes).unwrap();
    let mut document = Document::parse(format, &bytes).unwrap();
    let mut out = Vec::new();
    for spot in document.select(&At::parse(at).unwrap()).unwrap() {
        match &spot.value {
            Value::Map(pairs) if keys => {
                // a key stands in a line of its own, or in the map's
                for (key, _) in pairs {
                    let line = document.get(&spot.path.key(key)).unwrap().map_or(spot.line, |s| s.line);
                    out.push((key.clone(), line));
                }
            }
            Value::Map(_) | Value::List(_) => {}
            value => out.push((value.text().unwrap(), spot.line)),
        }
    }
    out
}

fn check(game: &'static str, items: &str, play: Option<&str>) {
    let club = if game == "quarrywake" { Club::new() } else { Club::of(game) };
    let family = family(game);
    let rules = &family.rules;
    // what a default is for must be missing
    for default in &rules.default {
        let file = default.file.as_str();
        let at = default.at.as_ref().unwrap().as_str();
        let kept: String = club.read(file).lines().filter(|l| !l.starts_with(at)).map(|l| format!("{l}\n")).collect();
        club.write(file, kept);
    }
    club.ok(&format!("adopt --family {game} --catalogue HOST --quiet"));
    club.ok(&format!("want {items} --quiet"));
    club.ok("settle --yes");
    // terms are a condition that only a person meets
    if rules.terms.is_some() {
        let log = club.visit();
        assert!(log.contains("terms number 7 not accepted"), "{log}");
        club.ok("trial --accept-terms 7");
    } else {
        club.ok("trial");
    }
    if let Some(play) = play {
        club.ok(&format!("maps use {play} --quiet"));
        club.ok("settle --yes");
        club.ok("trial");
    }
    let good = club.visit();
    let (ledger, rows) = ledger(&club);
    // visits are counted; all else must be the same
    let plain = |log: &str| log.split(", visit").next().unwrap().to_owned();
    let noticed = |what: &str, names: &[&str], log: &str| {
        assert_ne!(plain(log), plain(&good), "{game}: nobody notices {what}");
        // a server that loads whatever lies in a folder says nothing of what is gone: its line is missing then
        let lost = good.lines().filter(|l| game == "quarrywake" && !log.contains(l));
        let news: Vec<&str> = log.lines().filter(|l| !good.contains(l)).chain(lost).collect();
        assert!(
            news.iter().any(|l| names.iter().any(|n| l.contains(n))),
            "{game}: {what} is noticed, and not named ({names:?}): {news:?}"
        );
    };
    let mut used: BTreeSet<String> = BTreeSet::new();
    // every placed file: taken away, and misspelt
    for row in &rows {
        let path = row.path.path();
        let parts: Vec<&str> = path.split(['/', '.']).collect();
        for (kind, place) in rules.kind.iter().flat_map(|(w, k)| k.place.iter().map(move |p| (w, p))) {
            if glob(&place.to.glob(), path) {
                used.insert(format!("{kind} {}", place.to.as_str()));
            }
        }
        if rules.kind.values().any(|k| k.seal.as_ref().is_some_and(|s| glob(&s.trusted.glob(), path))) {
            used.insert("trusted".to_owned());
        }
        let log = with(&club, path, |p| fs::remove_file(p).unwrap());
        noticed(&format!("that {path} is gone"), &parts, &log);
        let log = with(&club, path, |p| fs::rename(p, p.with_file_name("misspelt-name")).unwrap());
        noticed(&format!("that {path} is misspelt"), &parts, &log);
    }
    // every value and element
    for slot in &ledger.slots {
        let file = slot.key.path.path();
        for (owner, value) in &slot.claims {
            let values = slot.written.iter().find(|w| word(w) == word(value)).unwrap_or(value);
            let word = word(values);
            used.insert(format!("{owner} {file}"));
            used.insert(format!("wire {file} {}", slot.key.at.as_deref().unwrap_or("")));
            let text = club.read(file);
            let found = text.rfind(&word).unwrap_or_else(|| panic!("{game}: {word} is not in {file}"));
            let smaller = matches!(owner, Owner::Bound);
            let misspelt = if smaller { "1".to_owned() } else { format!("{word}x") };
            let bad = format!("{}{misspelt}{}", &text[..found], &text[found + word.len()..]);
            let at = slot.key.at.clone().unwrap_or_default();
            let mut names: Vec<&str> = at.split(['"', '.', ' ']).filter(|p| p.len() > 2).collect();
            let id = owner.to_string();
            names.extend([word.as_str(), id.as_str(), file]);
            if smaller {
                // what is too large for it is what is named
                names.extend(ledger.items.keys().map(yalotheca_core::id::ItemId::as_str));
            }
            names.extend(ledger.items.values().flat_map(|h| h.fields.values()).map(String::as_str));
            let mut log = with(&club, file, |p| fs::write(p, bad).unwrap());
            if plain(&log) == plain(&good) {
                // free words cannot be misspelt, but they can be gone
                let bad = format!("{}{}", &text[..found], &text[found + word.len()..]);
                log = with(&club, file, |p| fs::write(p, bad).unwrap());
            }
            noticed(&format!("`{word}` misspelt or gone in {file}"), &names, &log);
        }
    }
    // every entry of a container
    for derived in &ledger.derived {
        used.insert("derive".to_owned());
        for claim in &derived.claims {
            let path = derived.path.path();
            let log = with(&club, path, |p| {
                let mut old = zip::ZipArchive::new(fs::File::open(p).unwrap()).unwrap();
                let mut new = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
                for at in 0..old.len() {
                    let member = old.by_index_raw(at).unwrap();
                    if member.name().unwrap() != claim.entry {
                        new.raw_copy_file(member).unwrap();
                    }
                }
                let bytes = new.finish().unwrap().into_inner();
                fs::write(p, bytes).unwrap();
            });
            noticed(&format!("that {path} lacks {}", claim.entry), &[claim.owner.as_str()], &log);
        }
    }
    references(&club, &family, game, &noticed);
    // and no rule was left out of all this
    for (word, kind) in &rules.kind {
        for place in &kind.place {
            assert!(
                used.contains(&format!("{word} {}", place.to.as_str())),
                "{game}: no file was placed by {word} {place:?}"
            );
        }
        for wire in &kind.wire {
            let file = wire.file.as_str();
            assert!(used.iter().any(|u| u.starts_with(&format!("wire {file} "))), "{game}: nothing is wired in {file}");
        }
        assert!(kind.derive.is_empty() || used.contains("derive"), "{game}: nothing was derived");
        assert!(kind.seal.is_none() || used.contains("trusted"), "{game}: nobody was vouched for");
    }
    for bound in &rules.bound {
        assert!(used.contains(&format!("@bound {}", bound.file)), "{game}: no bound was met: {}", bound.file);
    }
    for default in &rules.default {
        assert!(used.contains(&format!("@family {}", default.file.as_str())), "{game}: no default was set");
    }
    for wire in rules.active.iter().flat_map(|a| &a.set) {
        let key = format!("wire {} {}", wire.file.as_str(), wire.at.as_ref().unwrap().as_str());
        assert!(used.contains(&key), "{game}: nothing is set for the map that is played: {key}");
    }
}

#[test]
fn quarrywake() {
    check("quarrywake", "ferrite@=3.4.0 chest-locks@^2 deep-winch quarry-moss slate-nights wet-stone", None);
}

#[test]
fn capstan() {
    check("capstan", "pier-rush long-breakwater", None);
}

#[test]
fn thornmere() {
    check("thornmere", "low-moor far-tarn", None);
}

#[test]
fn coldrail() {
    check("coldrail", "high-pass snow-plough", Some("night-mail"));
}

#[test]
fn lanternfall() {
    check("lanternfall", "grey-lantern-head salt-stair brighter-lamps", Some("saltstair"));
}

#[test]
fn gridlock() {
    check("gridlock", "neon-row tram-loop", None);
}

#[test]
fn mirelands() {
    check("mirelands", "eel-traps", None);
}

/// Every condition of every family is taken out of its file: the server must then fail over what was done without it.
#[test]
fn conditions() {
    for (game, items, play) in [
        ("quarrywake", "ferrite@=3.4.0", None),
        ("capstan", "pier-rush", None),
        ("thornmere", "low-moor", None),
        ("coldrail", "high-pass salt-flats", Some("night-mail")),
        ("lanternfall", "salt-stair", None),
        ("gridlock", "tram-loop", None),
    ] {
        let path = Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("../../families/{game}.family.toml"));
        let text = fs::read_to_string(path).unwrap();
        let lines: Vec<&str> = text.lines().collect();
        for at in (0..lines.len()).filter(|at| lines[*at].trim_start().starts_with("when")) {
            let without: Vec<&str> = lines.iter().enumerate().filter(|(n, _)| *n != at).map(|(_, l)| *l).collect();
            let club = Club::of(game);
            fs::create_dir_all(club.home().join("families")).unwrap();
            fs::write(club.home().join(format!("families/{game}.family.toml")), without.join("\n")).unwrap();
            club.ok("adopt --catalogue HOST --quiet");
            club.ok(&format!("want {items} --quiet"));
            let play = play.map_or_else(String::new, |p| format!("\n[maps]\nplay = \"{p}\"\n"));
            club.write("roster.toml", format!("{}{play}", club.read("roster.toml")));
            club.ok("settle --yes --quiet");
            let log = club.visit();
            assert!(log.contains("not loaded") || log.contains("cannot start"), "{game}:{}: {log}", at + 1);
        }
        // a condition within a line would pass unseen
        assert!(!lines.iter().any(|l| l.contains(", when =")), "{game}: write a condition on a line of its own");
    }
}
