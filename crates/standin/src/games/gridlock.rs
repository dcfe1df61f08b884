//! The stand-in server of Gridlock Bay.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use saphyr::{LoadableYamlNode as _, Yaml};

use super::{Game, names};

/// Gridlock Bay over a folder.
#[derive(Debug, Default)]
pub struct Gridlock {
    /// Loaded parcels, in order.
    parcels: Vec<String>,
    /// The first asset that two parcels have, with those.
    flickers: Option<(String, String, String)>,
}

impl Game for Gridlock {
    fn start(&mut self, folder: &Path, say: &mut dyn FnMut(String)) -> Result<(), String> {
        let text = fs::read_to_string(folder.join("opening.yaml")).map_err(|_| "no opening.yaml".to_owned())?;
        let stages = stages(&text)?;
        let mut seen: Vec<&String> = Vec::new();
        let mut assets: BTreeMap<String, String> = BTreeMap::new();
        for (stage, parcels) in &stages {
            for name in parcels {
                if seen.contains(&name) {
                    say(format!("parcel {name} not loaded: twice in opening.yaml"));
                    continue;
                }
                seen.push(name);
                match self.parcel(folder, stage, name) {
                    Err(why) => say(format!("parcel {name} not loaded: {why}")),
                    Ok(own) => {
                        say(format!("parcel {name} loaded in {stage}, {} assets", own.len()));
                        for asset in own {
                            if let Some(other) = assets.insert(asset.clone(), name.clone()) {
                                self.flickers.get_or_insert((asset, name.clone(), other));
                            }
                        }
                        self.parcels.push(name.clone());
                    }
                }
            }
        }
        for name in names(&folder.join("parcels")).iter().filter(|n| !seen.contains(n)) {
            say(format!("parcel {name} not loaded: no stage of opening.yaml names it"));
        }
        if self.parcels.is_empty() { Err("no parcel is loaded".to_owned()) } else { Ok(()) }
    }

    fn join(&mut self, _: &Path, _: &[&str]) -> Result<String, String> {
        match &self.flickers {
            None => Ok(format!("{} parcels", self.parcels.len())),
            Some((asset, name, other)) => Err(format!("asset {asset} of {name} flickers with that of {other}")),
        }
    }
}

impl Gridlock {
    /// The assets of a parcel, or why it is not loaded.
    fn parcel(&self, folder: &Path, stage: &str, name: &str) -> Result<Vec<String>, String> {
        let place = folder.join("parcels").join(name);
        let text =
            fs::read_to_string(place.join("parcel.toml")).map_err(|_| format!("no parcels/{name}/parcel.toml"))?;
        let (mut head, mut assets) = (BTreeMap::new(), Vec::new());
        let mut in_assets = false;
        for line in text.lines().map(str::trim).filter(|l| !l.is_empty() && !l.starts_with('#')) {
            if line.starts_with('[') {
                in_assets = line == "[assets]";
                continue;
            }
            let (key, value) = line.split_once('=').ok_or("parcel.toml is broken")?;
            let (key, value) = (key.trim().trim_matches('"').to_owned(), value.trim().to_owned());
            if in_assets { assets.push((key, value)) } else { drop(head.insert(key, value)) }
        }
        let word = |key: &str| head.get(key).map(|v| v.trim_matches('"').to_owned()).unwrap_or_default();
        if word("parcel") != name {
            return Err(format!("parcel.toml calls it {}", word("parcel")));
        }
        if word("group") != stage {
            return Err(format!("it is of group {}, not of {stage}", word("group")));
        }
        let under = head.get("lies-on").map(|v| v.trim_matches(['[', ']']).to_owned()).unwrap_or_default();
        for below in under.split(',').map(|u| u.trim().trim_matches('"')).filter(|u| !u.is_empty()) {
            if !self.parcels.iter().any(|p| p == below) {
                return Err(format!("{below} must be loaded before it"));
            }
        }
        for (asset, file) in &assets {
            let file = file.trim_matches('"');
            if !place.join(file).is_file() {
                return Err(format!("asset {asset} has no file {file}"));
            }
        }
        Ok(assets.into_iter().map(|(asset, _)| asset).collect())
    }
}

/// A stage and its parcels.
type Stage = (String, Vec<String>);

fn find<'a, 'b>(map: &'b saphyr::Mapping<'a>, key: &str) -> Option<&'b Yaml<'a>> {
    map.iter().find(|(k, _)| k.as_str() == Some(key)).map(|(_, v)| v)
}

fn stages(text: &str) -> Result<Vec<Stage>, String> {
    let none = || "opening.yaml has no stages".to_owned();
    let documents = Yaml::load_from_str(text).map_err(|_| none())?;
    let root = documents.first().and_then(|d| d.as_mapping()).ok_or_else(none)?;
    let list = find(root, "stages").ok_or_else(none)?;
    let mut out = Vec::new();
    for (at, stage) in list.as_vec().ok_or_else(none)?.iter().enumerate() {
        let broken = || format!("stage {} of opening.yaml is broken", at + 1);
        let stage = stage.as_mapping().ok_or_else(broken)?;
        let name = find(stage, "name").and_then(Yaml::as_str).ok_or_else(broken)?.to_owned();
        let parcels = find(stage, "parcels").ok_or_else(broken)?;
        let parcels = parcels.as_vec().ok_or_else(broken)?;
        out.push((name, parcels.iter().filter_map(|p| p.as_str().map(str::to_owned)).collect()));
    }
    Ok(out)
}
