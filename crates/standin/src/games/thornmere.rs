//! The stand-in server of Thornmere.

use std::collections::BTreeMap;
use std::fs;
use std::io::Read as _;
use std::path::Path;

use sha2::Digest as _;

use super::{Game, names};

/// Thornmere over a folder.
#[derive(Debug, Default)]
pub struct Thornmere {
    /// Loaded lands, and whether they are open.
    lands: BTreeMap<String, bool>,
}

impl Game for Thornmere {
    fn start(&mut self, folder: &Path, say: &mut dyn FnMut(String)) -> Result<(), String> {
        let table = fs::read_to_string(folder.join("lands.tbl")).map_err(|_| "no lands.tbl".to_owned())?;
        let mut last = 0u64;
        let mut seen: Vec<String> = Vec::new();
        for (at, line) in table.lines().enumerate().filter(|(_, l)| !l.trim().is_empty() && !l.starts_with('#')) {
            let words: Vec<&str> = line.split_whitespace().collect();
            let bad = || format!("lands.tbl line {} is not NUMBER NAME open|shut", at + 1);
            let [number, name, state @ ("open" | "shut")] = words.as_slice() else { return Err(bad()) };
            let number: u64 = number.parse().map_err(|_| bad())?;
            if number <= last {
                return Err(format!("lands.tbl line {}: numbers must rise", at + 1));
            }
            last = number;
            if seen.iter().any(|s| s == name) {
                say(format!("land {name} not loaded: twice in lands.tbl"));
                continue;
            }
            seen.push((*name).to_owned());
            match land(folder, name) {
                Err(why) => say(format!("land {name} not loaded: {why}")),
                Ok(silent) => {
                    if silent {
                        say(format!("land {name} is silent"));
                    }
                    say(format!("land {name} loaded as {number}, {state}"));
                    self.lands.insert((*name).to_owned(), *state == "open");
                }
            }
        }
        for name in names(&folder.join("lands")).into_iter().filter(|n| !seen.contains(n)) {
            say(format!("land {name} not loaded: lands.tbl does not name it"));
        }
        if self.lands.values().any(|open| *open) { Ok(()) } else { Err("no land is open".to_owned()) }
    }

    fn join(&mut self, _: &Path, baggage: &[&str]) -> Result<String, String> {
        let open = |(name, open): (&String, &bool)| open.then(|| name.clone());
        let asked = baggage.first().map(|b| (*b).to_owned()).or_else(|| self.lands.iter().find_map(open));
        let name = asked.unwrap_or_default();
        match self.lands.get(&name) {
            Some(true) => Ok(name),
            Some(false) => Err(format!("land {name} is shut")),
            None => Err(format!("no land {name}")),
        }
    }
}

/// Whether a land is silent, or why it is not loaded.
fn land(folder: &Path, name: &str) -> Result<bool, String> {
    let place = folder.join("lands").join(name);
    if !place.is_dir() {
        return Err(format!("no lands/{name}"));
    }
    let read = |file: &str| fs::read(place.join(file)).map_err(|_| format!("no lands/{name}/{file}"));
    let floor = read("floor.bin")?;
    read("props.bin")?;
    let about = String::from_utf8_lossy(&read("about.ini")?).into_owned();
    let region = about.lines().find_map(|l| l.trim().strip_prefix("region")?.trim().strip_prefix('=').map(str::trim));
    let region = region.filter(|r| !r.is_empty()).ok_or("about.ini names no region")?;
    let lacks = || format!("regions/{region}.pack has no walk grid of it");
    let file = fs::File::open(folder.join(format!("regions/{region}.pack"))).map_err(|_| lacks())?;
    let mut pack = zip::ZipArchive::new(file).map_err(|_| lacks())?;
    let mut member = |name: &str| {
        let mut out = Vec::new();
        pack.by_name(name).ok()?.read_to_end(&mut out).ok()?;
        Some(out)
    };
    let grid = member(&format!("{name}.grid")).ok_or_else(lacks)?;
    let digests: BTreeMap<String, String> =
        member("digests.json").and_then(|d| serde_json::from_slice(&d).ok()).ok_or_else(lacks)?;
    let digest: String = sha2::Sha256::digest(&grid).iter().map(|b| format!("{b:02X}")).collect();
    match digests.get(name) {
        None => Err(lacks()),
        Some(wanted) if *wanted != digest || grid != floor => Err("its walk grid is of another floor".to_owned()),
        Some(_) => Ok(!place.join("sounds.bin").is_file()),
    }
}
