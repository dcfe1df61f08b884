//! What the demo tells: each step with what it is about, and what is typed.

/// A step of a story: what it is about, and what is typed (`HOST` is the catalogue's address).
pub(super) type Step = (&'static str, &'static [&'static str]);

/// The games whose stories are told, in this order, with the name of their program.
pub(super) const GAMES: &[(&str, &str, &[Step])] = &[
    ("quarrywake", "Quarrywake", QUARRYWAKE),
    ("capstan", "Capstan Arena", CAPSTAN),
    ("coldrail", "Coldrail", COLDRAIL),
    ("lanternfall", "Lanternfall", LANTERNFALL),
    ("thornmere", "Thornmere", THORNMERE),
    ("gridlock", "Gridlock Bay", GRIDLOCK),
    ("mirelands", "Mirelands", MIRELANDS),
];

const QUARRYWAKE: &[Step] = &[
    ("The club ran this server by hand so far. Take it under care.", &["adopt", "--catalogue", "HOST"]),
    ("What is there for chests and lights?", &["find", "lights", "locks"]),
    ("Look at one more closely: its newest version is for a newer game.", &["show", "chest-locks"]),
    (
        "Three plugins; two of them need lock-core, each in another range.",
        &["want", "chest-locks", "pier-lights", "tide-biome"],
    ),
    ("Make the server match the roster.", &["settle", "--yes"]),
    ("Would it start?", &["check"]),
    ("Try it: the terms of the core were never accepted.", &["trial"]),
    ("The club has read terms.txt, and accepts.", &["trial", "--accept-terms", "7"]),
    ("A second settle finds nothing to do.", &["settle"]),
    ("A version that cannot be, and why.", &["want", "chest-locks@^3"]),
    ("Two data packs: their order matters.", &["want", "slate-nights", "quarry-moss", "--quiet"]),
    ("", &["settle", "--yes"]),
    ("The moss was a mistake. Back again.", &["undo", "--yes"]),
    (
        "A pack that players fetch themselves: link, size and digest are written for them.",
        &["want", "wet-stone", "--quiet"],
    ),
    ("", &["settle", "--yes"]),
    (
        "A whole kit instead, on a clean slate: what stands there would go to quarantine, worlds and players stay.",
        &["settle", "--clean-slate", "salvage-kit", "--dry-run"],
    ),
    ("What is newer, and why is the rest not taken?", &["renew", "--dry-run"]),
    ("Could the server move to the game's next version?", &["renew", "--for", "game=2.0"]),
    ("Why is this here, and why not newer?", &["why", "lock-core"]),
    ("In which order is all of it read, and why?", &["order"]),
    ("What was done, all in all?", &["history"]),
];

const CAPSTAN: &[Step] = &[
    ("The club's arena. Its maps are known by their files.", &["adopt", "--catalogue", "HOST"]),
    (
        "Three maps: from a zip full of junk, packed by itself, and a very large one.",
        &["want", "pier-rush", "winch-yard", "long-breakwater", "--quiet"],
    ),
    ("Each gets its line, and what may be sent to players rises with the largest.", &["settle", "--yes"]),
    ("", &["trial"]),
    ("Who is played, and for how many turns?", &["maps"]),
    ("One of them less often, by and by.", &["maps", "rotation", "pier-rush", "out", "2", "--quiet"]),
    ("", &["settle", "--yes"]),
];

const COLDRAIL: &[Step] = &[
    ("On the cold line every mod is signed.", &["adopt", "--catalogue", "HOST"]),
    ("Nobody vouches for the one who signed this.", &["want", "ice-lantern", "--dry-run"]),
    (
        "Two lands, and a mod that writes its settings first.",
        &["want", "high-pass", "salt-flats", "warm-cab", "--quiet"],
    ),
    ("", &["settle", "--yes"]),
    ("Tonight the mail runs: land, story and mods are set together.", &["maps", "use", "night-mail", "--quiet"]),
    ("", &["settle", "--yes"]),
    ("It has to be started twice, and is.", &["trial"]),
    ("", &["maps"]),
];

const LANTERNFALL: &[Step] = &[
    ("Here the server fetches by number itself.", &["adopt", "--catalogue", "HOST"]),
    (
        "A number, and the link of an item's page.",
        &["want", "48213077", "https://tidewrack.example/items/48213078", "--quiet"],
    ),
    ("What the second is called, only a start tells.", &["settle", "--yes"]),
    ("The start tells, the wiring is completed, and it is started again.", &["trial"]),
    ("All begin there.", &["maps", "use", "saltstair", "--quiet"]),
    ("", &["settle", "--yes"]),
];

const THORNMERE: &[Step] = &[
    ("A realm whose walk grids are compiled by region.", &["adopt", "--catalogue", "HOST"]),
    ("", &["want", "low-moor", "bramble-gate", "--quiet"]),
    ("Numbers go on, and the region's pack gets two entries; its others stay.", &["settle", "--yes"]),
    ("Not open yet.", &["maps", "rotation", "low-moor", "out", "--quiet"]),
    ("", &["settle", "--yes"]),
    ("", &["trial"]),
];

const MIRELANDS: &[Step] = &[
    ("A marsh with ferries; what plays on it stands on a framework.", &["adopt", "--catalogue", "HOST"]),
    ("The traps stand on the pumps, and those on the underlay.", &["want", "eel-traps", "--quiet"]),
    (
        "Each piece will write its choices at its first start: deeper water then.",
        &["tune", "underlay/pieces/eel-traps/choices.json", "depth=5", "--later", "--yes"],
    ),
    ("", &["settle", "--yes"]),
    ("", &["trial"]),
    ("Now the file is there, and the value reaches it.", &["settle", "--yes"]),
    ("A stop that is misspelt in a line leads nowhere.", &["tune", "ferries/lines.json", "south.stops+=wier", "--yes"]),
    ("", &["check"]),
    ("", &["undo", "--yes"]),
];

const GRIDLOCK: &[Step] = &[
    ("An open city of parcels, opened in stages; each has hundreds of assets.", &["adopt", "--catalogue", "HOST"]),
    (
        "Two that lie on others. What is needed comes first, each in its stage.",
        &["want", "neon-row", "tram-loop", "--quiet"],
    ),
    ("", &["settle", "--yes"]),
    ("", &["trial"]),
    ("One with an asset that another has too: it would flicker for players.", &["want", "old-market"]),
    ("Then rather not.", &["drop", "old-market", "--quiet"]),
    ("", &["check"]),
];

/// The same for a rented host: what is typed on the desk of which administrator.
pub(super) const RENTED: &[(&str, &str, &[&str])] = &[
    (
        "mira",
        "The server is rented: only SFTP leads to it. This host was never seen before.",
        &["adopt", "AT", "--catalogue", "HOST"],
    ),
    (
        "mira",
        "Its panel shows the same fingerprint. (The password is in the environment.)",
        &["adopt", "AT", "--trust-host", "SEEN", "--catalogue", "HOST"],
    ),
    ("mira", "", &["want", "chest-locks", "slate-nights", "--quiet"]),
    ("mira", "Everything is staged on the host first, then put in place at one go.", &["settle", "--yes"]),
    ("mira", "Only what changed is asked for: nothing is downloaded to know this.", &["check"]),
    ("mira", "A setting, without breaking the file.", &["tune", "start.conf", "door.name=Low Tide", "--yes"]),
    (
        "ada",
        "Ada helps from her own machine: what is known of the server lives with it.",
        &["adopt", "AT", "--trust-host", "SEEN"],
    ),
    ("ada", "What did the last change do?", &["history", "show", "3"]),
    ("ada", "She takes it back.", &["undo", "--yes"]),
    ("mira", "And Mira sees it.", &["history"]),
];

/// What to try next on a server that is kept.
pub(super) fn tries(game: &str) -> &'static [&'static str] {
    match game {
        "quarrywake" => &[
            "find rope",
            "want deep-winch rope-ladders   # they share a library",
            "settle",
            "want rust-anchor && yalotheca settle --yes && yalotheca trial   # one that fails",
            "drop rust-anchor && yalotheca settle",
        ],
        "coldrail" => &["maps", "maps use white-run && yalotheca settle   # and back again", "check", "history"],
        _ => &["maps", "check", "history", "family explain GAME   # what it knows of this game"],
    }
}
