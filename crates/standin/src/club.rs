//! The Tidewrack Club's made-up items, and its Quarrywake server.

mod games;

use std::fs;
use std::io::{Cursor, Write as _};
use std::path::Path;

use serde_json::{Value, json};
use zip::ZipWriter;
use zip::write::SimpleFileOptions;

pub use games::{city, items_of, land, lay, parcel, piece, signed};

/// A release of an item: its file, and what a catalogue says of it.
#[derive(Debug, Clone)]
pub struct Release {
    /// The release.
    pub version: String,
    /// The file's name.
    pub file: String,
    /// The file's bytes.
    pub bytes: Vec<u8>,
    /// Further files that come beside it: name and bytes.
    pub more: Vec<(String, Vec<u8>)>,
    /// What the catalogue says besides, in its own words.
    pub facts: Value,
}

/// An item with its releases.
#[derive(Debug, Clone)]
pub struct Item {
    /// Its id.
    pub id: String,
    /// Its kind.
    pub kind: String,
    /// Its title.
    pub title: String,
    /// What it does.
    pub about: String,
    /// Other names.
    pub names: Vec<String>,
    /// Its catalogue number.
    pub number: Option<String>,
    /// Its releases.
    pub releases: Vec<Release>,
}

/// Packs files into an archive; the same files always give the same bytes.
pub fn pack(files: &[(&str, &[u8])]) -> Vec<u8> {
    let mut archive = ZipWriter::new(Cursor::new(Vec::new()));
    let options = SimpleFileOptions::default().last_modified_time(zip::DateTime::default());
    for (name, bytes) in files {
        if archive.start_file(*name, options).and_then(|()| Ok(archive.write_all(bytes)?)).is_err() {
            return Vec::new();
        }
    }
    archive.finish().map(Cursor::into_inner).unwrap_or_default()
}

/// A plugin's file. `needs` and `welcomes` are (id, range); `more` are further lines of its `about.yaml`.
pub fn plugin(id: &str, release: &str, game: &str, needs: &[(&str, &str)], more: &str) -> Vec<u8> {
    let mut about = format!("id: {id}\nrelease: \"{release}\"\ntitle: {}\ngame: \"{game}\"\n", title(id));
    if !needs.is_empty() {
        about.push_str("needs:\n");
        for (other, range) in needs {
            about.push_str(&format!("  {other}: \"{range}\"\n"));
        }
    }
    about.push_str(more);
    pack(&[("about.yaml", about.as_bytes()), ("code.bin", format!("{id} {release}").repeat(200).as_bytes())])
}

pub(crate) fn title(id: &str) -> String {
    let mut words = id.replace('-', " ");
    if let Some(first) = words.get_mut(0..1) {
        first.make_ascii_uppercase();
    }
    words
}

fn item(id: &str, kind: &str, about: &str, releases: Vec<Release>) -> Item {
    Item {
        id: id.into(),
        kind: kind.into(),
        title: title(id),
        about: about.into(),
        names: vec![],
        number: None,
        releases,
    }
}

fn plugin_release(id: &str, version: &str, date: &str, game: &str, needs: &[(&str, &str)], more: &str) -> Release {
    let targets: Vec<Value> = needs.iter().map(|(i, r)| json!({ "id": i, "range": r })).collect();
    Release {
        version: version.into(),
        file: format!("{id}-{version}.qpl"),
        bytes: plugin(id, version, game, needs, more),
        more: Vec::new(),
        facts: json!({ "date": date, "games": game, "needs": targets }),
    }
}

fn with_library(mut release: Release, id: &str) -> Release {
    let name = format!("{id}.qpl");
    release.bytes = pack(&[
        ("README.txt", b"Put everything where it belongs. Good luck!\n"),
        (&name, &release.bytes),
        ("lib/ropes.qlib", b"ropes and how to splice them\n"),
    ]);
    release.file = release.file.replace(".qpl", ".zip");
    release
}

fn core(id: &str, version: &str, game: &str, runtime: &str, terms: &str, capabilities: &[&str], date: &str) -> Release {
    let about = json!({ "name": id, "release": version, "game": game, "runtime": runtime, "terms": terms, "capabilities": capabilities });
    Release {
        version: version.into(),
        file: format!("{id}-{version}.qcore"),
        bytes: pack(&[("core.json", about.to_string().as_bytes()), ("engine.bin", &[7; 4000])]),
        more: Vec::new(),
        facts: json!({ "date": date, "runtime": runtime, "provides": [{ "id": "game", "version": game }] }),
    }
}

fn data_pack(id: &str, version: &str, after: &[&str], date: &str) -> Release {
    let about = json!({ "id": id, "release": version, "title": title(id), "game": "^1.8", "after": after });
    let (manifest, stones) = (format!("{id}-{version}/addpack.json"), format!("{id}-{version}/stones/{id}.json"));
    Release {
        version: version.into(),
        file: format!("{id}-{version}.zip"),
        bytes: pack(&[(&manifest, about.to_string().as_bytes()), (&stones, b"{ \"hardness\": 4 }\n")]),
        more: Vec::new(),
        facts: json!({ "date": date, "games": "^1.8", "after": after }),
    }
}

/// A kit's archive, in one needless folder and among files that nobody needs.
pub fn kit(release: &str, items: &[(&str, &str)], files: &[(&str, &str, &str)]) -> Vec<u8> {
    let items: Vec<Value> = items.iter().map(|(i, r)| json!({ "id": i, "release": r })).collect();
    let sent: serde_json::Map<String, Value> =
        files.iter().map(|(from, to, _)| ((*from).to_owned(), json!(to))).collect();
    let about = json!({ "id": "salvage-kit", "release": release, "title": "Salvage Kit", "game": "^1.8", "items": items, "files": sent });
    let top = format!("salvage-kit-{release}");
    let mut out = vec![
        (format!("{top}/kit.json"), about.to_string().into_bytes()),
        (format!("{top}/install.sh"), b"#!/bin/sh\necho never run\n".to_vec()),
        (format!("{top}/logs/build.log"), b"built\n".to_vec()),
        (format!("{top}/README.txt"), b"run install.sh\n".to_vec()),
    ];
    out.extend(files.iter().map(|(from, _, text)| (format!("{top}/{from}"), text.as_bytes().to_vec())));
    let borrowed: Vec<(&str, &[u8])> = out.iter().map(|(n, b)| (n.as_str(), b.as_slice())).collect();
    pack(&borrowed)
}

/// The players' side of a kit.
pub fn players_kit(release: &str) -> Vec<u8> {
    let about = json!({ "id": "salvage-kit", "release": release, "title": "Salvage Kit", "server": format!("salvage-kit-{release}-server.zip") });
    pack(&[("salvage/players.json", about.to_string().as_bytes()), ("salvage/looks/rust.png", &[8; 60])])
}

/// What players see and hear of a resource pack.
pub fn look(id: &str, release: &str) -> Vec<u8> {
    let about = json!({ "id": id, "release": release, "title": title(id) });
    pack(&[("look.json", about.to_string().as_bytes()), ("pictures/stone.png", &[5; 900])])
}

fn look_release(id: &str, version: &str, date: &str) -> Release {
    Release {
        version: version.into(),
        file: format!("{id}-{version}.zip"),
        bytes: look(id, version),
        more: Vec::new(),
        facts: json!({ "date": date }),
    }
}

fn kit_release(release: &str, date: &str, items: &[(&str, &str)], files: &[(&str, &str, &str)]) -> Release {
    let needs: Vec<Value> = items.iter().map(|(i, r)| json!({ "id": i, "range": r })).collect();
    Release {
        version: release.into(),
        file: format!("salvage-kit-{release}-server.zip"),
        bytes: kit(release, items, files),
        more: Vec::new(),
        facts: json!({ "date": date, "games": "^1.8", "needs": needs }),
    }
}

/// Everything the club's catalogue has for Quarrywake.
pub fn items() -> Vec<Item> {
    let p = plugin_release;
    let mut chest = item(
        "chest-locks",
        "plugin",
        "Locks chests and doors against other players.",
        vec![
            p("chest-locks", "1.4.0", "2025-03-02", "^1.7", &[], ""),
            p("chest-locks", "2.0.0", "2026-01-14", "^1.8", &[("lock-core", "^1")], ""),
            p("chest-locks", "2.1.0", "2026-05-20", "^1.8", &[("lock-core", "^1")], ""),
            p("chest-locks", "3.0.0", "2026-10-30", ">=1.9", &[("lock-core", "^2")], ""),
        ],
    );
    chest.names = vec!["ChestLocks".into()];
    chest.number = Some("30117".into());
    let mut winch = with_library(
        p(
            "deep-winch",
            "2.2.1",
            "2026-04-04",
            "^1.8",
            &[],
            "libraries: [ropes.qlib]\nprovides: [winch-works]\nreplaces: [old-winch]\n",
        ),
        "deep-winch",
    );
    winch.facts["provides"] = json!([{ "id": "winch-works" }]);
    winch.facts["replaces"] = json!([{ "id": "old-winch" }]);
    let mut bell = p("harbour-bell", "1.1.0", "2026-07-01", "^1.8", &[], "");
    bell.facts["channel"] = json!("beta");
    vec![
        chest,
        item(
            "pier-lights",
            "plugin",
            "Lamps along the pier that come on at dusk.",
            vec![
                p("pier-lights", "0.9.0", "2025-11-11", "^1.7", &[], ""),
                p(
                    "pier-lights",
                    "1.2.0",
                    "2026-06-03",
                    "^1.8",
                    &[("lock-core", ">=1.2 <1.4")],
                    "after: [tide-biome]\n",
                ),
            ],
        ),
        item(
            "tide-biome",
            "plugin",
            "A biome that floods and falls dry.",
            vec![
                p("tide-biome", "1.4.0", "2026-02-08", "^1.8", &[], ""),
                p("tide-biome", "2.0.0", "2026-11-01", ">=1.9", &[], ""),
            ],
        ),
        item(
            "lock-core",
            "plugin",
            "What locks have in common.",
            vec![
                p("lock-core", "1.0.0", "2025-01-05", "^1.7", &[], ""),
                p("lock-core", "1.3.0", "2026-01-10", "^1.8", &[], ""),
                p("lock-core", "1.4.2", "2026-05-18", "^1.8", &[], ""),
                p("lock-core", "2.0.0", "2026-10-28", ">=1.9", &[], ""),
            ],
        ),
        item("deep-winch", "plugin", "Winches for deep shafts.", vec![winch]),
        item(
            "shaft-lift",
            "plugin",
            "A lift, on whatever winch there is.",
            vec![p("shaft-lift", "1.0.0", "2026-09-01", "^1.8", &[("winch-works", "^2")], "")],
        ),
        item(
            "old-winch",
            "plugin",
            "The winch before deep-winch; nobody keeps it up.",
            vec![p("old-winch", "0.8.0", "2024-04-04", "^1.5", &[], "")],
        ),
        item(
            "hoist-gate",
            "plugin",
            "Gates that rise by an old winch.",
            vec![p("hoist-gate", "1.3.0", "2026-02-02", "^1.8", &[("old-winch", "*")], "")],
        ),
        item(
            "rope-ladders",
            "plugin",
            "Ladders that hang where you throw them.",
            vec![with_library(
                p("rope-ladders", "1.1.0", "2026-03-09", "^1.8", &[], "libraries: [ropes.qlib]\n"),
                "rope-ladders",
            )],
        ),
        item(
            "rust-anchor",
            "plugin",
            "Anchors that rust. Version 0.4 does not load.",
            vec![p("rust-anchor", "0.4.0", "2026-08-19", "^1.8", &[], "fault: \"anchor table has no row 7\"\n")],
        ),
        item(
            "harbour-bell",
            "plugin",
            "Rings when a ship comes in.",
            vec![p("harbour-bell", "1.0.0", "2026-05-05", "^1.8", &[], ""), bell],
        ),
        item(
            "quarry-moss",
            "data-pack",
            "Moss on wet stone.",
            vec![data_pack("quarry-moss", "1.2.0", &[], "2026-02-20")],
        ),
        item(
            "slate-nights",
            "data-pack",
            "Darker nights in the quarry.",
            vec![data_pack("slate-nights", "1.0.0", &["quarry-moss"], "2026-03-30")],
        ),
        item(
            "ferrite",
            "core",
            "The core most clubs run; takes plugins.",
            vec![
                core("ferrite", "3.4.0", "1.8.2", "17", "7", &["plugins"], "2026-01-01"),
                core("ferrite", "4.0.0", "1.9.0", "21", "8", &["plugins"], "2026-10-20"),
            ],
        ),
        item(
            "bare-slate",
            "core",
            "The plain core; takes no plugins.",
            vec![core("bare-slate", "1.0.0", "1.8.2", "17", "7", &[], "2026-01-01")],
        ),
        item(
            "wet-stone",
            "look",
            "Stone that shines after rain, for players.",
            vec![look_release("wet-stone", "1.0", "2026-02-01"), look_release("wet-stone", "1.1", "2026-05-01")],
        ),
        item(
            "old-lanterns",
            "look",
            "Lanterns as they were, for players.",
            vec![look_release("old-lanterns", "2.0", "2026-02-11")],
        ),
        item(
            "salvage-kit",
            "kit",
            "Locks and long nights, as the salvagers play.",
            vec![
                kit_release(
                    "1.0",
                    "2026-04-01",
                    &[("chest-locks", "2.0.0"), ("lock-core", "1.4.2"), ("slate-nights", "1.0.0")],
                    &[
                        ("extra/locks.yaml", "settings/chest-locks.yaml", "# salvagers\nloud: true\nreach: 3\n"),
                        ("extra/camp.map", "worlds/camp.map", "a camp\n"),
                    ],
                ),
                kit_release(
                    "1.1",
                    "2026-07-01",
                    &[("chest-locks", "2.1.0"), ("lock-core", "1.4.2"), ("slate-nights", "1.0.0")],
                    &[
                        ("extra/locks.yaml", "settings/chest-locks.yaml", "# salvagers\nloud: true\nreach: 5\n"),
                        ("extra/camp.map", "worlds/camp.map", "a camp\n"),
                    ],
                ),
            ],
        ),
    ]
}

/// Lays the club's Quarrywake server as it was run by hand so far: a core, one plugin that a catalogue knows, one
/// that nobody knows, and a few files of the club's own.
///
/// # Errors
/// The disk says no.
pub fn lay_quarrywake(folder: &Path) -> std::io::Result<()> {
    for below in ["core", "plugins", "addpacks", "worlds/tidewrack", "settings"] {
        fs::create_dir_all(folder.join(below))?;
    }
    let find = |id: &str, version: &str| {
        let found = items().into_iter().find(|i| i.id == id)?.releases.into_iter().find(|r| r.version == version)?;
        Some(found.bytes)
    };
    fs::write(folder.join("core/ferrite.qcore"), find("ferrite", "3.4.0").unwrap_or_default())?;
    fs::write(
        folder.join("start.conf"),
        "# Tidewrack Club, quarry 1\ncore.file=ferrite.qcore\nruntime=17\n\n# what the door says\ndoor.name=The Tidewrack Quarry\n",
    )?;
    fs::write(folder.join("plugins/harbour-bell.qpl"), find("harbour-bell", "1.0.0").unwrap_or_default())?;
    fs::write(folder.join("plugins/gull-counter.qpl"), plugin("gull-counter", "0.3.0", "^1.8", &[], ""))?;
    fs::write(folder.join("plugins/notes from Ada.txt"), "ask Bo about the gulls\n")?;
    fs::write(folder.join("worlds/tidewrack/level.dat"), [42; 64])?;
    fs::write(folder.join("settings/gull-counter.yaml"), "# counted by hand until May\ngulls: 41\n")?;
    Ok(())
}

/// Returns many made-up data packs of many files each, for measuring.
pub fn many(items: usize, files: usize) -> Vec<Item> {
    let one = |number: usize| {
        let id = format!("pack-{number:04}");
        let about = json!({ "id": id, "release": "1.0.0", "title": title(&id), "game": "^1.8", "after": [] });
        let mut members: Vec<(String, Vec<u8>)> = vec![("addpack.json".to_owned(), about.to_string().into_bytes())];
        for file in 1..files {
            let text = format!("{{ \"stone\": {file}, \"of\": \"{id}\" }}\n").repeat(1 + file % 40);
            members.push((format!("stones/{:02}/{file:05}.json", file % 50), text.into_bytes()));
        }
        let borrowed: Vec<(&str, &[u8])> = members.iter().map(|(n, b)| (n.as_str(), b.as_slice())).collect();
        let release = Release {
            version: "1.0.0".into(),
            file: format!("{id}-1.0.0.zip"),
            bytes: pack(&borrowed),
            more: Vec::new(),
            facts: json!({ "date": "2026-01-01", "games": "^1.8" }),
        };
        item(&id, "data-pack", "One of many.", vec![release])
    };
    (0..items).map(one).collect()
}

/// Returns a made-up kit of many items and many files of its own, with those items, for measuring.
pub fn large_kit(items: usize, files: usize) -> Vec<Item> {
    let names: Vec<String> = (0..items).map(|n| format!("cog-{n:04}")).collect();
    let plugin = |id: &String| {
        item(id, "plugin", "One of many.", vec![plugin_release(id, "1.0.0", "2026-01-01", "^1.8", &[], "")])
    };
    let mut out: Vec<Item> = names.iter().map(plugin).collect();
    let wanted: Vec<(&str, &str)> = names.iter().map(|n| (n.as_str(), "1.0.0")).collect();
    let text = |file: usize| format!("{file} salt and kelp\n").repeat(1 + file % 60);
    let own: Vec<(String, String, String)> = (0..files)
        .map(|n| {
            (format!("extra/{:02}/{n:05}.reef", n % 50), format!("worlds/reef/{:02}/{n:05}.reef", n % 50), text(n))
        })
        .collect();
    let own: Vec<(&str, &str, &str)> = own.iter().map(|(a, b, c)| (a.as_str(), b.as_str(), c.as_str())).collect();
    out.push(item("salvage-kit", "kit", "A large one.", vec![kit_release("1.0", "2026-01-01", &wanted, &own)]));
    out
}
