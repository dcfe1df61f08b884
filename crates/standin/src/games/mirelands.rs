//! The stand-in server of Mirelands.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use saphyr::{LoadableYamlNode as _, Yaml};
use serde_json::Value;

use super::{Game, names};

/// Mirelands over a folder.
#[derive(Debug, Default)]
pub struct Mirelands {
    /// The first stop of each line that sails.
    sails: Vec<String>,
}

/// What a stop's file says: its name, its lines, how many numbers stand under `at`.
struct Stop {
    name: String,
    lines: Vec<String>,
    numbers: usize,
}

impl Game for Mirelands {
    fn start(&mut self, folder: &Path, say: &mut dyn FnMut(String)) -> Result<(), String> {
        let text = fs::read(folder.join("ferries/lines.json")).map_err(|_| "no ferries/lines.json".to_owned())?;
        let broken = || "ferries/lines.json is broken".to_owned();
        let lines: Value = serde_json::from_slice(&text).map_err(|_| broken())?;
        let lines = lines.as_object().ok_or_else(broken)?;
        let frame = fs::read_to_string(folder.join("underlay/frame.txt")).ok();
        match frame.as_deref().map(|f| f.lines().next().and_then(|l| l.strip_prefix("underlay "))) {
            Some(None) => return Err("underlay/frame.txt is broken".to_owned()),
            Some(Some(_)) if !folder.join("underlay/bin/frame.dat").is_file() => {
                return Err("no underlay/bin/frame.dat".to_owned());
            }
            Some(Some(release)) => {
                say(format!("underlay {release} loaded"));
                if !folder.join("underlay/rules/tides.yaml").is_file() {
                    say("rules tides.yaml ignored: not there, so the water stands still".to_owned());
                }
            }
            None => {}
        }
        for rule in names(&folder.join("underlay/rules")) {
            let text = fs::read_to_string(folder.join("underlay/rules").join(&rule)).unwrap_or_default();
            match Yaml::load_from_str(&text) {
                Ok(_) => say(format!("rules {rule} read")),
                Err(_) => say(format!("rules {rule} ignored: broken")),
            }
        }
        pieces(folder, frame.is_some(), say);
        let stops = stops(folder, lines, say);
        for (key, line) in lines {
            let all: Vec<&str> = line["stops"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
            match all.iter().find(|s| !stops.contains_key(**s)) {
                Some(none) => say(format!("line {key} not sailing: no ferries/stops/{none}.toml")),
                None => {
                    say(format!("line {key} sails, {} stops", all.len()));
                    self.sails.extend(all.first().map(|s| (*s).to_owned()));
                }
            }
        }
        hours(folder, &stops, say);
        Ok(())
    }

    fn join(&mut self, _: &Path, _: &[&str]) -> Result<String, String> {
        self.sails.first().map(|s| format!("at {s}")).ok_or_else(|| "no ferry sails".to_owned())
    }
}

/// Loads the pieces, each after what it needs; those that cannot be are told.
fn pieces(folder: &Path, framed: bool, say: &mut dyn FnMut(String)) {
    let home = folder.join("underlay/pieces");
    let mut left: Vec<(String, Vec<String>)> = Vec::new();
    for name in names(&home) {
        let fail = |why: String| format!("piece {name} not loaded: {why}");
        let Ok(text) = fs::read_to_string(home.join(&name).join(format!("{name}.mlp"))) else {
            say(fail(format!("no underlay/pieces/{name}/{name}.mlp")));
            continue;
        };
        let closing = |key: &str| {
            text.lines().rev().take(6).find_map(|l| l.strip_prefix("-- ")?.strip_prefix(key)?.strip_prefix(": "))
        };
        let choices = home.join(&name).join("choices.json");
        match (closing("id"), closing("release")) {
            _ if !framed => say(fail("there is no underlay".to_owned())),
            (None, _) => say(fail("its closing lines say no id".to_owned())),
            (_, None) => say(fail("its closing lines say no release".to_owned())),
            (Some(id), _) if id != name => say(fail(format!("it calls itself {id}"))),
            _ if fs::read(&choices).is_ok_and(|b| serde_json::from_slice::<Value>(&b).is_err()) => {
                say(fail("choices.json is broken".to_owned()));
            }
            _ => {
                let needs = closing("needs").unwrap_or_default().split(',').map(str::trim);
                let needs = needs.filter(|n| !n.is_empty()).map(|n| n.split(' ').next().unwrap_or(n).to_owned());
                left.push((name.clone(), needs.collect()));
            }
        }
    }
    let mut loaded = vec!["underlay".to_owned()];
    while let Some(at) = left.iter().position(|(_, needs)| needs.iter().all(|n| loaded.contains(n))) {
        let (name, _) = left.remove(at);
        let choices = home.join(&name).join("choices.json");
        if !choices.is_file() {
            let _ = fs::write(&choices, "{\n  \"depth\": 2,\n  \"reeds\": true\n}\n");
            say(format!("piece {name} wrote choices.json"));
        }
        say(format!("piece {name} loaded"));
        loaded.push(name);
    }
    for (name, needs) in left {
        let lacks = needs.iter().find(|n| !loaded.contains(n)).cloned().unwrap_or_default();
        say(format!("piece {name} not loaded: needs {lacks}, which is not loaded"));
    }
}

/// The stops that can be served, told where they cannot.
fn stops(folder: &Path, lines: &serde_json::Map<String, Value>, say: &mut dyn FnMut(String)) -> BTreeMap<String, Stop> {
    let mut out: BTreeMap<String, Stop> = BTreeMap::new();
    for file in names(&folder.join("ferries/stops")) {
        let Some(stop) = file.strip_suffix(".toml") else { continue };
        let text = fs::read_to_string(folder.join("ferries/stops").join(&file)).unwrap_or_default();
        let about = read(&text);
        let taken = out.iter().find(|(_, other)| other.name == about.name).map(|(other, _)| other.clone());
        if let Some(none) = about.lines.iter().find(|l| !lines.contains_key(*l)) {
            say(format!("stop {stop} not served: no line {none}"));
        } else if let Some(other) = taken {
            say(format!("stop {stop} not served: {} is the name of {other}", about.name));
        } else if about.numbers != 4 {
            say(format!("stop {stop} not served: at has {} numbers, not 4", about.numbers));
        } else {
            out.insert(stop.to_owned(), about);
        }
    }
    out
}

fn read(text: &str) -> Stop {
    let value = |key: &str| {
        text.lines().find_map(|l| l.split_once('=').filter(|(k, _)| k.trim() == key).map(|(_, v)| v.trim().to_owned()))
    };
    let list = |key: &str| -> Vec<String> {
        let inner = value(key).unwrap_or_default();
        let parts = inner.trim_matches(['[', ']']).split(',').map(|p| p.trim().trim_matches('"').to_owned());
        parts.filter(|p| !p.is_empty()).collect()
    };
    let name = value("name").unwrap_or_default().trim_matches('"').to_owned();
    Stop { name, lines: list("lines"), numbers: list("at").len() }
}

fn hours(folder: &Path, stops: &BTreeMap<String, Stop>, say: &mut dyn FnMut(String)) {
    let Ok(text) = fs::read_to_string(folder.join("ferries/hours.yaml")) else { return };
    let documents = Yaml::load_from_str(&text).unwrap_or_default();
    let Some(map) = documents.first().and_then(|d| d.as_mapping()) else {
        return say("hours ignored: ferries/hours.yaml is broken".to_owned());
    };
    for stop in map.iter().filter_map(|(k, _)| k.as_str()).filter(|s| !stops.contains_key(*s)) {
        say(format!("hours of {stop} ignored: no such stop"));
    }
}
