//! Writes a catalogue: the static files of `docs/catalogue-format.md`, from items, with code of its own.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Value, json};
use sha2::{Digest as _, Sha256, Sha512};

use crate::club::Item;

/// Files by their path below the catalogue's address.
pub type Files = BTreeMap<String, Vec<u8>>;

/// Returns the SHA-256 of some bytes as hexadecimal digits.
pub fn sha256(bytes: &[u8]) -> String {
    Sha256::digest(bytes).iter().map(|b| format!("{b:02x}")).collect()
}

fn sha512(bytes: &[u8]) -> String {
    Sha512::digest(bytes).iter().map(|b| format!("{b:02x}")).collect()
}

/// Writes the catalogue of some items for one family.
pub fn write(name: &str, family: &str, generation: u64, items: &[Item]) -> Files {
    let mut files = Files::new();
    let mut indexes: BTreeMap<&str, BTreeMap<String, BTreeMap<String, Value>>> = BTreeMap::new();
    let mut index = |which: &'static str, key: &str, value: Value| {
        let shard = sha256(key.as_bytes()).get(..1).unwrap_or("0").to_owned();
        let entry = indexes.entry(which).or_default().entry(shard).or_default();
        match (entry.get_mut(key), value) {
            (Some(Value::Array(list)), Value::Array(more)) => {
                for one in more {
                    if !list.contains(&one) {
                        list.push(one);
                    }
                }
            }
            (_, value) => {
                entry.insert(key.to_owned(), value);
            }
        }
    };
    for item in items {
        let mut versions = Vec::new();
        for release in &item.releases {
            let digest = sha256(&release.bytes);
            let address = format!("files/{}", release.file);
            let mut version = json!({ "version": release.version });
            if let (Some(to), Some(from)) = (version.as_object_mut(), release.facts.as_object()) {
                to.extend(
                    from.iter()
                        .filter(|(_, v)| !v.as_array().is_some_and(Vec::is_empty))
                        .map(|(k, v)| (k.clone(), v.clone())),
                );
            }
            let mut file = json!({ "name": release.file, "bytes": release.bytes.len(), "sha256": digest, "sha512": sha512(&release.bytes), "addresses": [address] });
            if let Some(holds) = packed(&release.file, &release.bytes) {
                file["holds"] = json!(holds);
            }
            let mut named = vec![file];
            for (name, bytes) in &release.more {
                let address = format!("files/{}-{}/{name}", item.id, release.version);
                named.push(
                    json!({ "name": name, "bytes": bytes.len(), "sha256": sha256(bytes), "addresses": [address] }),
                );
                files.insert(address, bytes.clone());
            }
            // what the server itself fetches has no file here
            let served = release.file.is_empty();
            if !served {
                version["files"] = json!(named);
                index("files", &digest, json!([item.id]));
            }
            for (which, key) in [("provides", "provides"), ("replaces", "replaces")] {
                let list = release.facts.get(key).and_then(Value::as_array).cloned().unwrap_or_default();
                for id in list.iter().filter_map(|p| p.get("id")).filter_map(Value::as_str) {
                    index(which, id, json!([item.id]));
                }
            }
            versions.push(version);
            if !served {
                files.insert(address, release.bytes.clone());
            }
        }
        let mut about = json!({
            "format": 1, "id": item.id, "family": family, "kind": item.kind, "title": item.title,
            "about": item.about, "names": item.names, "versions": versions,
        });
        if let Some(number) = &item.number {
            about["number"] = json!(number);
            index("numbers", number, json!([item.id]));
        }
        let text = [item.id.as_str(), &item.title, &item.about, &item.kind, &item.names.join(" ")].join(" ");
        let words: BTreeSet<String> =
            text.split(|c: char| !c.is_alphanumeric()).filter(|w| w.len() > 1).map(str::to_lowercase).collect();
        for word in words {
            index("words", &word, json!([item.id]));
        }
        let bytes = serde_json::to_vec_pretty(&about).unwrap_or_default();
        index("items", &item.id, json!(sha256(&bytes)));
        files.insert(format!("items/{}.json", item.id), bytes);
    }
    let mut named: BTreeMap<&str, BTreeMap<String, String>> = BTreeMap::new();
    for (which, shards) in indexes {
        for (shard, entries) in shards {
            let bytes = serde_json::to_vec(&entries).unwrap_or_default();
            named.entry(which).or_default().insert(shard.clone(), sha256(&bytes));
            files.insert(format!("index/{which}/{shard}.json"), bytes);
        }
    }
    let root = json!({
        "format": 1, "name": name, "generation": generation, "families": [family], "pages": ["https://tidewrack.example/items/{number}"],
        "shard_digits": 1, "index": named,
    });
    files.insert("catalogue.json".to_owned(), serde_json::to_vec_pretty(&root).unwrap_or_default());
    files
}

/// Puts a family file into a catalogue's files.
pub fn carry(files: &mut Files, name: &str, text: &str) {
    let Some(mut root) = files.get("catalogue.json").and_then(|r| serde_json::from_slice::<Value>(r).ok()) else {
        return;
    };
    root["carries"][name] = json!(sha256(text.as_bytes()));
    files.insert("catalogue.json".to_owned(), serde_json::to_vec_pretty(&root).unwrap_or_default());
    files.insert(format!("families/{name}.family.toml"), text.as_bytes().to_vec());
}

/// What is packed in a download: name and size of each file.
fn packed(name: &str, bytes: &[u8]) -> Option<BTreeMap<String, u64>> {
    if let Some(bare) = name.strip_suffix(".bz2") {
        let size = std::io::copy(&mut bzip2::read::BzDecoder::new(bytes), &mut std::io::sink()).ok()?;
        return Some(BTreeMap::from([(bare.to_owned(), size)]));
    }
    let mut zip = name.ends_with(".zip").then(|| zip::ZipArchive::new(std::io::Cursor::new(bytes)).ok())??;
    let mut out = BTreeMap::new();
    for at in 0..zip.len() {
        let file = zip.by_index(at).ok()?;
        let name = file.name().ok()?.rsplit('/').next()?.to_owned();
        if !name.is_empty() {
            out.insert(name, file.size());
        }
    }
    Some(out)
}

/// Writes the files below a folder.
///
/// # Errors
/// The disk says no.
pub fn lay(files: &Files, folder: &std::path::Path) -> std::io::Result<()> {
    for (path, bytes) in files {
        let to = folder.join(path);
        if let Some(above) = to.parent() {
            std::fs::create_dir_all(above)?;
        }
        std::fs::write(to, bytes)?;
    }
    Ok(())
}
