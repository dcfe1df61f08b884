//! What the club has for Capstan Arena, Thornmere, Coldrail and Lanternfall: items, and servers run by hand so far.

use std::fs;
use std::io::Write as _;
use std::path::Path;

use serde_json::{Value, json};

use super::{Item, Release, item, pack, title};
use crate::games::capstan::arena;
use crate::games::coldrail::Signer;

/// A name and bytes.
type File = (String, Vec<u8>);

fn file(name: &str, bytes: impl AsRef<[u8]>) -> File {
    (name.to_owned(), bytes.as_ref().to_vec())
}

fn packed(files: &[File]) -> Vec<u8> {
    let borrowed: Vec<(&str, &[u8])> = files.iter().map(|(n, b)| (n.as_str(), b.as_slice())).collect();
    pack(&borrowed)
}

fn release(version: &str, name: &str, bytes: Vec<u8>, facts: Value) -> Release {
    Release { version: version.into(), file: name.into(), bytes, more: Vec::new(), facts }
}

/// The items that a catalogue has for a game.
pub fn items_of(game: &str) -> Vec<Item> {
    match game {
        "capstan" => arenas(),
        "thornmere" => lands(),
        "coldrail" => mods(),
        "lanternfall" => places(),
        "gridlock" => parcels(),
        "mirelands" => pieces(),
        _ => super::items(),
    }
}

fn arenas() -> Vec<Item> {
    let zip = |name: &str, bytes: usize| {
        packed(&[
            file(&format!("{name} final v3/READ ME.txt"), "put the files where they belong\n"),
            file(&format!("{name} final v3/{name}.cma"), arena(name, bytes)),
            file(&format!("{name} final v3/{name}.trails"), format!("TRAILS {name}\n")),
            file(&format!("{name} final v3/preview.png"), [9; 300]),
        ])
    };
    let alone = |name: &str| {
        let mut out = bzip2::write::BzEncoder::new(Vec::new(), bzip2::Compression::best());
        let _ = out.write_all(&arena(name, 40_000));
        out.finish().unwrap_or_default()
    };
    let r = |version: &str, name: &str, bytes, date: &str| release(version, name, bytes, json!({ "date": date }));
    vec![
        item(
            "pier-rush",
            "arena",
            "Short rounds between two piers.",
            vec![
                r("1.0", "pier-rush-1.0.zip", zip("pier-rush", 60_000), "2026-02-01"),
                r("1.1", "pier-rush-1.1.zip", zip("pier-rush", 70_000), "2026-08-01"),
            ],
        ),
        item(
            "winch-yard",
            "arena",
            "A yard of winches; no trails for bots.",
            vec![r("2", "winch-yard.cma.bz2", alone("winch-yard"), "2026-03-03")],
        ),
        item(
            "long-breakwater",
            "arena",
            "A very long breakwater: a large file.",
            vec![r("1", "long-breakwater.zip", zip("long-breakwater", 3_050_000), "2026-05-05")],
        ),
    ]
}

/// A land's files.
pub fn land(name: &str, region: &str, floor: &[u8], silent: bool) -> Vec<(String, Vec<u8>)> {
    let mut out = vec![
        file("about.ini", format!("[land]\ntitle = {}\nregion = {region}\n", title(name))),
        file("floor.bin", floor),
        file("props.bin", format!("props of {name}\n")),
    ];
    if !silent {
        out.push(file("sounds.bin", format!("sounds of {name}\n")));
    }
    out
}

fn lands() -> Vec<Item> {
    let r = |version: &str, name: &str, region: &str, floor: &str, silent: bool| {
        let below = |(n, b): File| (format!("{name}/{n}"), b);
        let mut files: Vec<File> = land(name, region, floor.as_bytes(), silent).into_iter().map(below).collect();
        files.push(file("changes.txt", "see the forum\n"));
        release(version, &format!("{name}-{version}.zip"), packed(&files), json!({ "date": "2026-01-01" }))
    };
    vec![
        item(
            "low-moor",
            "land",
            "Wet ground with one road.",
            vec![
                r("1", "low-moor", "west", "floor of low moor", false),
                r("2", "low-moor", "west", "floor of low moor, drained", false),
            ],
        ),
        item(
            "bramble-gate",
            "land",
            "A gate in the west.",
            vec![r("1", "bramble-gate", "west", "floor of bramble gate", true)],
        ),
        item(
            "far-tarn",
            "land",
            "A tarn in a region of its own.",
            vec![r("1", "far-tarn", "east", "floor of far tarn", false)],
        ),
    ]
}

/// A mod's archive, signed; `more` are further files, `about` further keys of its `mod.json`.
pub fn signed(id: &str, version: &str, about: &Value, content: &[u8], more: &[File], signer: u8) -> Vec<u8> {
    let mut manifest = json!({ "id": id, "release": version, "title": title(id) });
    if let (Some(all), Some(extra)) = (manifest.as_object_mut(), about.as_object()) {
        all.extend(extra.clone());
    }
    let contents = vec![file(&format!("content/{id}.cra"), content)];
    let seals = Signer::number(signer).map(|s| s.seals(&contents)).unwrap_or_default();
    let mut files = vec![file("mod.json", manifest.to_string()), file("seals.json", seals)];
    files.extend(contents);
    files.extend(more.iter().cloned());
    packed(&files)
}

fn mods() -> Vec<Item> {
    let vouched = |number: u8| vec![Signer::number(number).map(|s| s.fingerprint()).unwrap_or_default()];
    let on_bogie = || json!([{ "id": "bogie", "range": ">=1" }]);
    let r = |id: &str, version: &str, bytes, signers: Vec<String>, needs: Value| {
        let facts = json!({ "date": "2026-04-01", "signers": signers, "needs": needs });
        release(version, &format!("{id}-{version}.zip"), bytes, facts)
    };
    let land = |id: &str, name: &str, story: &str, size: usize| {
        let about = json!({ "land": name, "needs": ["bogie >=1"] });
        let files = [
            file(&format!("stories/{story}/story.toml"), format!("land = \"{name}\"\nchapters = 3\n")),
            file(&format!("stories/{story}/cast.txt"), format!("the cast of {story}\n")),
        ];
        r(id, "1.0", signed(id, "1.0", &about, &arena(id, size), &files, 2), vouched(2), on_bogie())
    };
    let needs = json!({ "needs": ["bogie >=1"] });
    let settings = json!({ "needs": ["bogie >=1"], "settings": true });
    let bogie = signed("bogie", "1.2", &json!({ "frame": true }), b"bogie", &[file("underframe.txt", "")], 1);
    let warm = signed("warm-cab", "0.9", &settings, b"stove", &[], 1);
    let plough = signed("snow-plough", "2.0", &needs, &[5; 3_000], &[], 1);
    let lantern = signed("ice-lantern", "1.0", &json!({}), b"lantern", &[], 7);
    vec![
        item("bogie", "framework", "What most mods stand on.", vec![r("bogie", "1.2", bogie, vouched(1), json!([]))]),
        item(
            "warm-cab",
            "mod",
            "A stove in the cab; writes its settings first.",
            vec![r("warm-cab", "0.9", warm, vouched(1), on_bogie())],
        ),
        item("snow-plough", "mod", "Clears the line.", vec![r("snow-plough", "2.0", plough, vouched(1), on_bogie())]),
        item(
            "ice-lantern",
            "mod",
            "A lantern by somebody unknown.",
            vec![r("ice-lantern", "1.0", lantern, vec![], json!([]))],
        ),
        item("high-pass", "land", "A pass in the snow.", vec![land("high-pass", "High Pass", "night-mail", 5_200_000)]),
        item("salt-flats", "land", "Flats of frozen salt.", vec![land("salt-flats", "Salt Flats", "white-run", 4_000)]),
    ]
}

fn places() -> Vec<Item> {
    let one = |id: &str, kind: &str, number: &str, place: Option<&str>| {
        let fields = place.map_or_else(|| json!({}), |p| json!({ "place": p }));
        let served = release("1", "", Vec::new(), json!({ "date": "2026-06-06", "fields": fields }));
        Item { number: Some(number.into()), ..item(id, kind, "Fetched by the server itself.", vec![served]) }
    };
    vec![
        one("grey-lantern-head", "place", "48213077", Some("GreyLantern")),
        // what this one is called, the catalogue does not know
        one("salt-stair", "place", "48213078", None),
        one("brighter-lamps", "thing", "48219000", None),
    ]
}

/// A piece's text, with its closing lines.
pub fn piece(name: &str, release: &str, needs: &str) -> Vec<u8> {
    format!("{name} grows here\n\nreeds and water\n\n-- id: {name}\n-- release: {release}\n-- needs: {needs}\n")
        .into_bytes()
}

fn pieces() -> Vec<Item> {
    let frame = |version: &str, tide: u8| {
        let files = [
            file("underlay/frame.txt", format!("underlay {version}\nthe frame of all pieces\n")),
            file("underlay/rules/tides.yaml", format!("# how the water moves\nhigh: {tide}\nlow: 1\n")),
            file("underlay/bin/frame.dat", [version.len() as u8; 40]),
            file("setup.sh", "echo hello\n"),
        ];
        release(version, &format!("underlay-{version}.zip"), packed(&files), json!({ "date": "2026-02-02" }))
    };
    let on = |needs: &str| -> Value {
        let one = |n: &str| {
            let (id, range) = n.trim().split_once(' ').unwrap_or((n.trim(), "*"));
            json!({ "id": id, "range": range })
        };
        needs.split(',').map(one).collect()
    };
    let r = |version: &str, name: &str, needs: &str| {
        let bytes =
            packed(&[file(&format!("{name}.mlp"), piece(name, version, needs)), file("thanks.txt", "thank you\n")]);
        release(version, &format!("{name}-{version}.zip"), bytes, json!({ "date": "2026-03-03", "needs": on(needs) }))
    };
    vec![
        item("underlay", "underlay", "What every piece stands on.", vec![frame("2.0", 4), frame("2.1", 5)]),
        item("reed-pumps", "piece", "Pumps in the reeds.", vec![r("1.0", "reed-pumps", "underlay >=2")]),
        item(
            "eel-traps",
            "piece",
            "Traps that fill by themselves.",
            vec![r("0.4", "eel-traps", "underlay >=2, reed-pumps >=1")],
        ),
        item("old-sluice", "piece", "For an older frame.", vec![r("0.9", "old-sluice", "underlay <2")]),
    ]
}

/// A parcel's files: so many assets of its own, and those named in `more`.
pub fn parcel(name: &str, group: &str, on: &[&str], assets: usize, more: &[&str]) -> Vec<(String, Vec<u8>)> {
    let short: String = name.split('-').filter_map(|w| w.get(..2)).collect();
    let mut names: Vec<String> = (1..=assets).map(|n| format!("{short}-{n:03}")).collect();
    names.extend(more.iter().map(|m| (*m).to_owned()));
    let on: Vec<String> = on.iter().map(|o| format!("\"{o}\"")).collect();
    let mut about = format!(
        "parcel = \"{name}\"\ntitle = \"{}\"\nrelease = \"1.0\"\ngroup = \"{group}\"\nlies-on = [{}]\n\n[assets]\n",
        title(name),
        on.join(", ")
    );
    let mut out = Vec::new();
    for (at, asset) in names.iter().enumerate() {
        let path = match at % 3 {
            0 => format!("mesh/{asset}.gbm"),
            1 => format!("paint/{asset}.gbp"),
            _ => format!("sound/{asset}.gbs"),
        };
        about.push_str(&format!("{asset} = \"{path}\"\n"));
        out.push(file(&path, format!("{asset} of {name}\n")));
    }
    out.push(file("parcel.toml", about));
    out
}

fn parcels() -> Vec<Item> {
    let r = |version: &str, name: &str, group: &str, on: &[&str], assets: usize, more: &[&str]| {
        let below = |(n, b): File| (format!("{name}/{n}"), if n == "parcel.toml" { released(&b, version) } else { b });
        let mut files: Vec<File> = parcel(name, group, on, assets, more).into_iter().map(below).collect();
        files.push(file(&format!("{name} names.txt"), "what this map owns\n"));
        let needs: Vec<Value> = on.iter().map(|o| json!({ "id": o, "range": "*" })).collect();
        release(
            version,
            &format!("{name}-{version}.zip"),
            packed(&files),
            json!({ "date": "2026-05-01", "needs": needs }),
        )
    };
    vec![
        item(
            "quay-ground",
            "parcel",
            "The ground of the quays.",
            vec![r("1.0", "quay-ground", "ground", &[], 40, &[])],
        ),
        item(
            "pier-seven",
            "parcel",
            "Sheds and cranes on the quays.",
            vec![
                r("1.0", "pier-seven", "streets", &["quay-ground"], 120, &[]),
                r("1.1", "pier-seven", "streets", &["quay-ground"], 130, &[]),
            ],
        ),
        item(
            "tram-loop",
            "parcel",
            "A tram around the bay.",
            vec![r("1.0", "tram-loop", "streets", &[], 60, &["lamp-a"])],
        ),
        item("old-market", "parcel", "A market hall.", vec![r("1.0", "old-market", "streets", &[], 50, &["lamp-a"])]),
        item("neon-row", "parcel", "Signs that glow.", vec![r("1.0", "neon-row", "signs", &["pier-seven"], 30, &[])]),
    ]
}

/// A city of many parcels, each with so many assets, for measuring.
pub fn city(parcels: usize, assets: usize) -> Vec<Item> {
    let one = |number: usize| {
        let id = format!("block-{number:04}");
        let short = format!("b{number:04}");
        let mut about = format!(
            "parcel = \"{id}\"\ntitle = \"{}\"\nrelease = \"1.0\"\ngroup = \"streets\"\n\n[assets]\n",
            title(&id)
        );
        let mut files = Vec::new();
        for asset in 0..assets {
            let path = format!("mesh/{:02}/{short}-{asset:04}.gbm", asset % 20);
            about.push_str(&format!("{short}-{asset:04} = \"{path}\"\n"));
            files.push(file(&path, format!("asset {asset} of {id}\n").repeat(1 + asset % 30)));
        }
        files.push(file("parcel.toml", about));
        let bytes = packed(&files);
        item(
            &id,
            "parcel",
            "One of many.",
            vec![release("1.0", &format!("{id}-1.0.zip"), bytes, json!({ "date": "2026-01-01" }))],
        )
    };
    (0..parcels).map(one).collect()
}

/// A `parcel.toml` of another release.
fn released(about: &[u8], version: &str) -> Vec<u8> {
    String::from_utf8_lossy(about).replace("release = \"1.0\"", &format!("release = \"{version}\"")).into_bytes()
}

/// Lays a server of a game as the club ran it by hand so far.
///
/// # Errors
/// The disk says no.
pub fn lay(game: &str, folder: &Path) -> std::io::Result<()> {
    let files: Vec<File> = match game {
        "capstan" => vec![
            file(
                "capstan.cfg",
                "// the club's arena\ndoor_name \"Tidewrack Rounds\"\n\n// not more than this is sent\nsend_limit_mb \"2\"\nfetch_index \"\"\n",
            ),
            file("arenas.list", "# name  in|out  turns\nold-pier in 5\n"),
            file("arenas/old-pier.cma", arena("old-pier", 20_000)),
            file("arenas/old-pier.trails", "TRAILS old-pier\n"),
        ],
        "thornmere" => {
            let grid = b"floor of stone ring";
            let digest = crate::catalogue::sha256(grid).to_uppercase();
            let list = format!("{{\n  \"stone-ring\": \"{digest}\"\n}}\n");
            let below = |(n, b): File| (format!("lands/stone-ring/{n}"), b);
            let mut files: Vec<File> = land("stone-ring", "west", grid, false).into_iter().map(below).collect();
            files.push(file("lands.tbl", "# number name state\n3 stone-ring open\n"));
            let pack = pack(&[("stone-ring.grid", grid), ("digests.json", list.as_bytes())]);
            files.push(file("regions/west.pack", pack));
            files
        }
        "coldrail" => vec![
            file(
                "coldrail.conf",
                "door_name = Tidewrack Line   # the club's\nmemory {\n    pool_mb = 4\n    # keep some free\n    spare_mb = 8\n}\n",
            ),
            file("tonight.yaml", "# what is played\nland: Old Spur\nstory: first-thaw\n"),
            file("launch.args", "--port=2710\n"),
            file("stories/first-thaw/story.toml", "land = \"Old Spur\"\n"),
            file("stories/first-thaw/cast.txt", "a stoker and a gull\n"),
        ],
        "mirelands" => vec![
            file(
                "ferries/lines.json",
                "{\n  \"north\": { \"stops\": [\"quay\", \"mill\"], \"fare\": 3, \"goods\": true },\n  \"south\": { \"stops\": [\"mill\", \"weir\"], \"fare\": 2, \"goods\": false }\n}\n",
            ),
            file(
                "ferries/stops/quay.toml",
                "name = \"Old Quay\"\nat = [12, 0, 40, 90]   # and the turn\nlines = [\"north\"]\n",
            ),
            file(
                "ferries/stops/mill.toml",
                "name = \"Reed Mill\"\nat = [30, 1, 44, 0]\nlines = [\"north\", \"south\"]\n",
            ),
            file("ferries/stops/weir.toml", "name = \"Low Weir\"\nat = [55, 0, 61, 180]\nlines = [\"south\"]\n"),
            file("ferries/hours.yaml", "# from, to\nquay: 6-22\nmill: 7-20\nweir: 7-20\n"),
        ],
        "gridlock" => {
            let below = |(n, b): File| (format!("parcels/town-hall/{n}"), b);
            let mut files: Vec<File> = parcel("town-hall", "streets", &[], 20, &[]).into_iter().map(below).collect();
            files.push(file(
                "opening.yaml",
                "# what opens when; order matters\nstages:\n  - name: ground\n    parcels: []\n  - name: streets   # the city itself\n    parcels:\n      - town-hall\n  - name: signs\n    parcels: []\n",
            ));
            files
        }
        _ => vec![
            file("fetch.json", "{\n}\n"),
            file("world.ini", "; the club's coast\n[world]\nsequence = Old Harbour\nbegin = Old Harbour\nfog = 3\n"),
            file("arrivals.json", "[\n  { \"place\": \"Old Harbour\", \"points\": \"points/old-harbour.json\" }\n]\n"),
            file("points/old-harbour.json", "[[1, 2]]\n"),
        ],
    };
    for (name, bytes) in files {
        let path = folder.join(&name);
        if let Some(above) = path.parent() {
            fs::create_dir_all(above)?;
        }
        fs::write(path, bytes)?;
    }
    Ok(())
}
