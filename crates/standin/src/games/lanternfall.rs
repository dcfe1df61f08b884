//! The stand-in server of Lanternfall.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use serde_json::Value;

use super::{Game, names};

/// The place that every server has, and that stands last.
const STOCK: &str = "Old Harbour";

/// What the game's own host has: number, and the place in it (none for an item that is no place).
pub const DEPOT: [(&str, Option<&str>); 4] = [
    ("48213077", Some("GreyLantern")),
    ("48213078", Some("saltstair")),
    ("48219000", None),
    ("48220111", Some("Deep Bell")),
];

/// Lanternfall over a folder.
#[derive(Debug, Default)]
pub struct Lanternfall {
    begin: String,
}

type Sections = BTreeMap<String, BTreeMap<String, String>>;

impl Game for Lanternfall {
    fn start(&mut self, folder: &Path, say: &mut dyn FnMut(String)) -> Result<(), String> {
        let json = |file: &str| -> Result<Value, String> {
            let bytes = fs::read(folder.join(file)).map_err(|_| format!("no {file}"))?;
            serde_json::from_slice(&bytes).map_err(|_| format!("{file} is broken"))
        };
        let wanted = json("fetch.json")?;
        let world = fs::read_to_string(folder.join("world.ini")).map_err(|_| "no world.ini".to_owned())?;
        let world = ini(&world);
        let arrivals = json("arrivals.json")?;
        let wanted = wanted.as_object().ok_or("fetch.json is broken")?;
        fetch(folder, wanted, say);
        let set = |section: &str, key: &str| world.get(section).and_then(|s| s.get(key)).cloned().unwrap_or_default();
        let mut brought: Vec<String> = Vec::new();
        for number in names(&folder.join("fetched")) {
            let section = format!("item {number}");
            let why = match (world.contains_key(&section), set(&section, "title"), set(&section, "on")) {
                (false, ..) => format!("world.ini has no [{section}]"),
                (_, title, _) if title.is_empty() => format!("world.ini has [{section}] without title"),
                (.., on) if on != "yes" => format!("world.ini has [{section}] not on"),
                _ => String::new(),
            };
            if !why.is_empty() {
                say(format!("item {number} not loaded: {why}"));
                continue;
            }
            say(format!("item {number} loaded"));
            let below = folder.join("fetched").join(&number);
            brought.extend(names(&below).into_iter().filter(|n| below.join(n).join("place.mark").is_file()));
        }
        let sequence: Vec<String> =
            set("world", "sequence").split('|').map(|p| p.trim().to_owned()).filter(|p| !p.is_empty()).collect();
        if sequence.last().map(String::as_str) != Some(STOCK) {
            return Err(format!("sequence must end with {STOCK}"));
        }
        self.begin = set("world", "begin");
        if !sequence.contains(&self.begin) {
            return Err(format!("begin is {}, which is not in the sequence", self.begin));
        }
        for place in brought.iter().filter(|p| !sequence.contains(p)) {
            say(format!("place {place} not loaded: the sequence does not name it"));
        }
        let mut loaded = Vec::new();
        for place in &sequence {
            let arrival = arrivals.as_array().into_iter().flatten().find(|a| a["place"] == place.as_str());
            let points = arrival.and_then(|a| a["points"].as_str());
            if place != STOCK && !brought.contains(place) {
                say(format!("place {place} not loaded: nothing fetched brings it"));
            } else if let Some(points) = points {
                if folder.join(points).is_file() {
                    say(format!("place {place} loaded"));
                    loaded.push(place);
                } else {
                    say(format!("place {place} not loaded: its points file {points} is not there"));
                }
            } else {
                say(format!("place {place} not loaded: arrivals.json has no arrival for it"));
            }
        }
        if loaded.contains(&&self.begin) {
            Ok(())
        } else {
            Err(format!("{}, where all begin, is not loaded", self.begin))
        }
    }

    fn join(&mut self, _: &Path, _: &[&str]) -> Result<String, String> {
        Ok(self.begin.clone())
    }
}

/// Fetches what is wanted, and takes away what is not any more.
fn fetch(folder: &Path, wanted: &serde_json::Map<String, Value>, say: &mut dyn FnMut(String)) {
    let good = |word: &Value| word == "latest";
    for (number, word) in wanted {
        if !good(word) {
            say(format!("item {number} not fetched: its word is {word}, not latest"));
            continue;
        }
        let Some((_, place)) = DEPOT.iter().find(|(n, _)| n == number) else {
            say(format!("item {number} not fetched: no such number"));
            continue;
        };
        let below = folder.join("fetched").join(number);
        if below.is_dir() {
            continue;
        }
        let inner = place.map_or_else(|| below.clone(), |p| below.join(p));
        let _ = fs::create_dir_all(&inner);
        if place.is_some() {
            let _ = fs::write(inner.join("place.mark"), "");
            let _ = fs::write(inner.join("points.json"), "[[0, 0]]\n");
        } else {
            let _ = fs::write(inner.join("lamp.txt"), "a lamp\n");
        }
        say(format!("fetched {number}"));
    }
    for number in names(&folder.join("fetched")).into_iter().filter(|n| !wanted.get(n).is_some_and(good)) {
        let _ = fs::remove_dir_all(folder.join("fetched").join(&number));
        say(format!("swept {number}"));
    }
    // a folder with nothing in it is taken away, too
    let _ = fs::remove_dir(folder.join("fetched"));
}

fn ini(text: &str) -> Sections {
    let mut out = Sections::new();
    let mut section = String::new();
    for line in text.lines().map(str::trim).filter(|l| !l.starts_with(';') && !l.is_empty()) {
        if let Some(name) = line.strip_prefix('[').and_then(|l| l.strip_suffix(']')) {
            section = name.to_owned();
            out.entry(section.clone()).or_default();
        } else if let Some((key, value)) = line.split_once('=') {
            out.entry(section.clone()).or_default().insert(key.trim().to_owned(), value.trim().to_owned());
        }
    }
    out
}
