//! The stand-in server of Capstan Arena.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use super::{Game, names};

/// Capstan Arena over a folder.
#[derive(Debug, Default)]
pub struct Capstan {
    limit: u64,
    index: String,
    /// Arenas that are in, with their bytes.
    playing: Vec<(String, u64)>,
}

impl Game for Capstan {
    fn start(&mut self, folder: &Path, say: &mut dyn FnMut(String)) -> Result<(), String> {
        let cfg = fs::read_to_string(folder.join("capstan.cfg")).map_err(|_| "no capstan.cfg".to_owned())?;
        let set = settings(&cfg);
        if set.get("door_name").is_none_or(String::is_empty) {
            return Err("capstan.cfg sets no door_name".to_owned());
        }
        let limit = set.get("send_limit_mb").map_or("24", String::as_str);
        self.limit = limit
            .parse()
            .ok()
            .filter(|l| *l <= 200)
            .ok_or_else(|| format!("send_limit_mb is {limit}, not 0 to 200"))?;
        self.index = set.get("fetch_index").cloned().unwrap_or_default();
        let list = fs::read_to_string(folder.join("arenas.list")).map_err(|_| "no arenas.list".to_owned())?;
        let arenas = folder.join("arenas");
        let mut seen: Vec<String> = Vec::new();
        for (at, line) in list.lines().enumerate() {
            let words: Vec<&str> = line.split('#').next().unwrap_or("").split_whitespace().collect();
            let (name, is_in, turns) = match words.as_slice() {
                [] => continue,
                [name, "in", turns] => (*name, true, turns.parse::<u8>().ok()),
                [name, "out", turns] => (*name, false, turns.parse::<u8>().ok()),
                _ => ("", false, None),
            };
            let Some(turns) = turns.filter(|t| (1..100).contains(t)) else {
                say(format!("arenas.list line {} is not NAME in|out TURNS", at + 1));
                continue;
            };
            if seen.iter().any(|s| s == name) {
                say(format!("arena {name} not loaded: twice in arenas.list"));
                continue;
            }
            seen.push(name.to_owned());
            let Ok(bytes) = fs::read(arenas.join(format!("{name}.cma"))) else {
                say(format!("arena {name} not loaded: no arenas/{name}.cma"));
                continue;
            };
            if !whole(&bytes) {
                say(format!("arena {name} not loaded: arenas/{name}.cma is cut short"));
                continue;
            }
            let trails = fs::read(arenas.join(format!("{name}.trails"))).ok();
            if trails.is_none() {
                say(format!("arena {name} has no trails: bots stand still"));
            }
            say(format!("arena {name} loaded, {} for {turns} turns", if is_in { "in" } else { "out" }));
            if is_in {
                self.playing.push((name.to_owned(), (bytes.len() + trails.map_or(0, |t| t.len())) as u64));
            }
        }
        for file in names(&arenas) {
            match file.strip_suffix(".cma").or(file.strip_suffix(".trails")) {
                Some(name) if seen.iter().any(|s| s == name) => {}
                Some(name) if file.ends_with(".cma") => {
                    say(format!("arena {name} not loaded: arenas.list has no line for it"));
                }
                _ => say(format!("ignored arenas/{file}")),
            }
        }
        if self.playing.is_empty() { Err("no arena is in".to_owned()) } else { Ok(()) }
    }

    fn join(&mut self, _: &Path, _: &[&str]) -> Result<String, String> {
        for (name, bytes) in &self.playing {
            if *bytes > self.limit * 1_000_000 && self.index.is_empty() {
                return Err(format!("arena {name} has {bytes} bytes, and {} MB may be sent", self.limit));
            }
        }
        Ok(self.playing.iter().map(|(n, _)| n.as_str()).collect::<Vec<_>>().join(", "))
    }
}

/// Lines of `name "value"`.
fn settings(text: &str) -> BTreeMap<String, String> {
    let one = |line: &str| {
        let (name, value) = line.trim().split_once(char::is_whitespace)?;
        Some((name.to_owned(), value.trim().trim_matches('"').to_owned()))
    };
    text.lines().filter(|l| !l.trim_start().starts_with("//")).filter_map(one).collect()
}

/// Whether a file has as many bytes as its head says: `CMA1 BYTES` on a line of its own.
fn whole(bytes: &[u8]) -> bool {
    let head = bytes.split(|b| *b == b'\n').next().unwrap_or_default();
    let text = std::str::from_utf8(head).unwrap_or("");
    text.strip_prefix("CMA1 ").and_then(|n| n.trim().parse::<usize>().ok()) == Some(bytes.len())
}

/// An arena's file of about so many bytes.
pub fn arena(name: &str, about: usize) -> Vec<u8> {
    let mut body = format!("\narena {name}\n").into_bytes();
    // not all alike, or it would pack like a bomb
    let mut state = 7u32;
    let block: Vec<u8> = (0..4096)
        .map(|_| {
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            state.to_be_bytes()[0]
        })
        .collect();
    while body.len() + 16 < about {
        let left = (about - body.len() - 16).min(block.len());
        body.extend_from_slice(block.get(..left).unwrap_or_default());
    }
    let mut total = body.len() + 6;
    while format!("CMA1 {total}").len() + body.len() != total {
        total += 1;
    }
    [format!("CMA1 {total}").into_bytes(), body].concat()
}
