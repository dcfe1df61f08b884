//! The stand-in server of Coldrail.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use ring::signature::{ED25519, Ed25519KeyPair, KeyPair as _, UnparsedPublicKey};
use serde_json::Value;
use sha2::Digest as _;

use super::{Game, names};

/// The land that every server has.
const STOCK: &str = "Old Spur";

/// Coldrail over a folder.
#[derive(Debug, Default)]
pub struct Coldrail {
    loaded: Vec<String>,
    land: Option<String>,
    story: String,
}

impl Game for Coldrail {
    fn start(&mut self, folder: &Path, say: &mut dyn FnMut(String)) -> Result<(), String> {
        let read = |file: &str| fs::read_to_string(folder.join(file)).map_err(|_| format!("no {file}"));
        let pool = pool(&read("coldrail.conf")?).ok_or("coldrail.conf sets no memory pool_mb")?;
        let tonight = read("tonight.yaml")?;
        let launch = read("launch.args")?;
        let mut others = false;
        for mod_folder in launch.lines().filter_map(|l| l.trim().strip_prefix("--with=")) {
            match self.load(folder, mod_folder, pool, &mut others, say) {
                Ok(true) => {
                    say(format!("mod {mod_folder} loaded"));
                    self.loaded.push(mod_folder.to_owned());
                }
                Ok(false) => {}
                Err(why) => say(format!("mod {mod_folder} not loaded: {why}")),
            }
        }
        let set = |key: &str| {
            let value = tonight.lines().find_map(|l| l.strip_prefix(key)?.strip_prefix(':'));
            value.map(|v| v.trim().trim_matches('"').to_owned()).unwrap_or_default()
        };
        let land = set("land");
        if land != STOCK && self.land.as_ref() != Some(&land) {
            return Err(format!("land {land} of tonight.yaml is not loaded"));
        }
        let story = set("story");
        let about = fs::read_to_string(folder.join(format!("stories/{story}/story.toml")))
            .map_err(|_| format!("no stories/{story}/story.toml"))?;
        let of = about.lines().find_map(|l| l.strip_prefix("land")?.trim().strip_prefix('=')).unwrap_or("");
        let of = of.trim().trim_matches('"');
        if of != land {
            return Err(format!("story {story} is of land {of}"));
        }
        if !folder.join(format!("stories/{story}/cast.txt")).is_file() {
            return Err(format!("no stories/{story}/cast.txt"));
        }
        say(format!("playing {story} on {land}"));
        self.story = story;
        Ok(())
    }

    fn join(&mut self, folder: &Path, baggage: &[&str]) -> Result<String, String> {
        if let Some(lacks) = self.loaded.iter().find(|l| !baggage.contains(&l.as_str()) && !baggage.contains(&"all")) {
            return Err(format!("you lack mod {lacks}"));
        }
        let save = folder.join(format!("saves/{}.save", self.story));
        let visits = fs::read_to_string(&save).map_or(0, |s| s.lines().count()) + 1;
        let _ = fs::create_dir_all(folder.join("saves"));
        let _ = fs::write(&save, "somebody was here\n".repeat(visits));
        Ok(format!("{}, visit {visits}", self.story))
    }
}

impl Coldrail {
    fn load(
        &mut self,
        folder: &Path,
        name: &str,
        pool: u64,
        others: &mut bool,
        say: &mut dyn FnMut(String),
    ) -> Result<bool, String> {
        let place = folder.join("mods").join(name);
        let lacks = || format!("no mods/{name}/mod.json");
        let about: Value =
            fs::read(place.join("mod.json")).ok().and_then(|b| serde_json::from_slice(&b).ok()).ok_or_else(lacks)?;
        let seals: Value = fs::read(place.join("seals.json"))
            .ok()
            .and_then(|b| serde_json::from_slice(&b).ok())
            .unwrap_or(Value::Null);
        let written = seals["signer"].as_str().unwrap_or("");
        let key = STANDARD.decode(written).unwrap_or_default();
        for file in names(&place.join("content")) {
            let file = format!("content/{file}");
            let bytes = fs::read(place.join(&file)).unwrap_or_default();
            let seal = seals["seals"][&file].as_str().and_then(|s| STANDARD.decode(s).ok());
            let seal = seal.ok_or_else(|| format!("{file} is not sealed"))?;
            UnparsedPublicKey::new(&ED25519, &key)
                .verify(&bytes, &seal)
                .map_err(|_| format!("the seal of {file} is broken"))?;
            if bytes.len() as u64 > pool * 1_000_000 {
                return Err(format!("{file} does not fit the pool of {pool} MB"));
            }
        }
        for file in seals["seals"].as_object().into_iter().flatten().map(|(name, _)| name) {
            if !place.join(file).is_file() {
                return Err(format!("{file} is not there"));
            }
        }
        if about["frame"] == true && !place.join("underframe.txt").is_file() {
            return Err("no underframe.txt".to_owned());
        }
        let fingerprint = fingerprint(&key);
        let vouched = fs::read_to_string(folder.join(format!("vouched/{fingerprint}.pub"))).unwrap_or_default();
        if vouched.trim() != format!("coldrail-key {written}") {
            return Err(format!("nobody vouches for signer {fingerprint}"));
        }
        for need in about["needs"].as_array().into_iter().flatten().filter_map(Value::as_str) {
            let id = need.split(' ').next().unwrap_or(need);
            if !self.loaded.iter().any(|l| l == id) {
                return Err(format!("{id} must be loaded before it"));
            }
        }
        if place.join("underframe.txt").is_file() {
            if *others {
                return Err("frameworks come first".to_owned());
            }
        } else {
            *others = true;
        }
        if let Some(land) = about["land"].as_str() {
            if let Some(other) = &self.land {
                return Err(format!("land {other} is loaded already"));
            }
            self.land = Some(land.to_owned());
        }
        let settings = folder.join(format!("settings/{name}.conf"));
        if about["settings"] == true && !settings.exists() {
            let _ = fs::create_dir_all(folder.join("settings"));
            let _ = fs::write(&settings, "snow = 3\n");
            say(format!("mod {name} waits: wrote settings/{name}.conf, start again"));
            return Ok(false);
        }
        Ok(true)
    }
}

/// `memory { pool_mb = N }`.
fn pool(conf: &str) -> Option<u64> {
    let plain: String = conf.lines().map(|l| l.split('#').next().unwrap_or("")).collect::<Vec<_>>().join("\n");
    let block = plain.split_once("memory")?.1.split_once('{')?.1.split_once('}')?.0;
    block.lines().find_map(|l| l.trim().strip_prefix("pool_mb")?.trim().strip_prefix('=')?.trim().parse().ok())
}

/// The first 16 digits of the key's SHA-256.
pub fn fingerprint(key: &[u8]) -> String {
    sha2::Sha256::digest(key).iter().take(8).map(|b| format!("{b:02x}")).collect()
}

/// A signer of made-up mods.
#[derive(Debug)]
pub struct Signer(Ed25519KeyPair);

impl Signer {
    /// Returns the signer with this number; always the same one.
    pub fn number(number: u8) -> Option<Self> {
        Ed25519KeyPair::from_seed_unchecked(&[number; 32]).ok().map(Self)
    }

    /// Returns the fingerprint.
    pub fn fingerprint(&self) -> String {
        fingerprint(self.0.public_key().as_ref())
    }

    /// Returns the key as the seals write it.
    pub fn key(&self) -> String {
        STANDARD.encode(self.0.public_key().as_ref())
    }

    /// Returns a mod's `seals.json` over its content files.
    pub fn seals(&self, files: &[(String, Vec<u8>)]) -> Vec<u8> {
        let seals: BTreeMap<&str, String> =
            files.iter().map(|(name, bytes)| (name.as_str(), STANDARD.encode(self.0.sign(bytes).as_ref()))).collect();
        serde_json::to_vec_pretty(&serde_json::json!({ "signer": self.key(), "seals": seals })).unwrap_or_default()
    }
}
