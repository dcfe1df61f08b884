//! A made-up club for each test: a server folder, a catalogue host, and the built program run in between.
#![allow(dead_code, unreachable_pub, missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)] // a helper of tests; none uses all of it

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use yalotheca_standin::host::Host;
use yalotheca_standin::rented::PASSWORD;
use yalotheca_standin::{catalogue, club};

/// The built program.
pub const PROGRAM: &str = env!("CARGO_BIN_EXE_yalotheca");

pub struct Club {
    pub dir: tempfile::TempDir,
    pub host: Host,
    pub game: &'static str,
}

/// What a run printed and how it ended.
pub struct Ran {
    pub text: String,
    pub out: String,
    pub err: String,
    pub code: i32,
}

impl Ran {
    pub fn json(&self) -> serde_json::Value {
        serde_json::from_str(&self.out).unwrap_or_else(|e| panic!("{e}: {}", self.text))
    }
}

impl Club {
    /// A server as the club ran it by hand so far.
    pub fn new() -> Self {
        let club = Self::empty();
        club::lay_quarrywake(&club.server()).unwrap();
        club
    }

    /// A server of another game, as the club ran it by hand so far.
    pub fn of(game: &'static str) -> Self {
        let club = Self::empty_of(game);
        club::lay(game, &club.server()).unwrap();
        club
    }

    /// A server of another game under care.
    pub fn adopted_of(game: &'static str) -> Self {
        let club = Self::of(game);
        club.ok("adopt --catalogue HOST --quiet");
        club
    }

    /// What the game's server says when it starts on what stands there, and how a player fares who has everything.
    pub fn visit(&self) -> String {
        yalotheca_standin::games::visit(self.game, &self.server(), &["all"])
    }

    /// An empty server folder with nothing but the game's own program.
    pub fn empty() -> Self {
        Self::empty_of("quarrywake")
    }

    /// The same for another game.
    pub fn empty_of(game: &'static str) -> Self {
        // a path of always the same length, so that lines break at the same words everywhere
        let dir = tempfile::Builder::new().prefix("club-").tempdir_in("/tmp").unwrap();
        let host = Host::start(catalogue::write("Tidewrack Club", game, 12, &club::items_of(game))).unwrap();
        let club = Self { dir, host, game };
        fs::create_dir_all(club.server()).unwrap();
        club.launcher("");
        club
    }

    /// A server under care.
    pub fn adopted() -> Self {
        let club = Self::new();
        let ran = club.run("adopt --catalogue HOST");
        assert_eq!(ran.code, 0, "{}", ran.text);
        club
    }

    /// A server under care with these items settled.
    pub fn settled(items: &str) -> Self {
        let club = Self::adopted();
        club.ok(&format!("want {items}"));
        club.ok("settle --yes");
        club
    }

    /// Writes the game's own program, with options of the stand-in.
    pub fn launcher(&self, options: &str) {
        use std::os::unix::fs::PermissionsExt as _;
        let game = self.game;
        let path = self.server().join(game);
        // a running script must not be written over
        let _ = fs::remove_file(&path);
        fs::write(&path, format!("#!/bin/sh\nexec '{PROGRAM}' demo --stand-in {game} {options}\n")).unwrap();
        fs::set_permissions(&path, fs::Permissions::from_mode(0o755)).unwrap();
    }

    pub fn server(&self) -> PathBuf {
        self.dir.path().join(if self.game == "quarrywake" { "quarry" } else { self.game })
    }

    pub fn home(&self) -> PathBuf {
        self.dir.path().join("home")
    }

    pub fn path(&self, below: &str) -> PathBuf {
        self.server().join(below)
    }

    pub fn read(&self, below: &str) -> String {
        fs::read_to_string(self.path(below)).unwrap_or_else(|e| panic!("{below}: {e}"))
    }

    pub fn write(&self, below: &str, bytes: impl AsRef<[u8]>) {
        let path = self.path(below);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }

    pub fn command(&self, words: &str) -> Command {
        let mut command = Command::new(PROGRAM);
        command
            .args(words.split_whitespace().map(|w| w.replace("HOST", self.host.address())))
            .current_dir(self.server())
            .env_clear()
            .env("PATH", "/usr/bin:/bin")
            .env("YALOTHECA_HOME", self.home())
            .env("YALOTHECA_NOW", "2026-11-23T12:00:00Z")
            .env("YALOTHECA_WHO", "mira on workshop")
            .stdin(Stdio::null());
        command
    }

    /// Runs the program as it would be typed; `HOST` stands for the catalogue's address.
    pub fn run(&self, words: &str) -> Ran {
        self.ran(words, self.command(words))
    }

    /// The folder of somebody who reaches the server only over a rented host.
    pub fn desk(&self, name: &str) -> PathBuf {
        let desk = self.dir.path().join(name);
        fs::create_dir_all(&desk).unwrap();
        desk
    }

    /// The program as somebody runs it from a machine of their own, with the host's password in the environment.
    pub fn away(&self, desk: &str, words: &str) -> Command {
        let mut command = self.command(words);
        let folder = self.desk(desk);
        command.env("YALOTHECA_HOME", folder.join("home")).env("YALOTHECA_PASSWORD", PASSWORD).current_dir(folder);
        command.env("YALOTHECA_WHO", desk);
        command
    }

    /// Runs the program from a desk.
    pub fn run_away(&self, desk: &str, words: &str) -> Ran {
        self.ran(words, self.away(desk, words))
    }

    /// Runs the program from a desk and wants it to end with 0.
    pub fn ok_away(&self, desk: &str, words: &str) -> Ran {
        let ran = self.run_away(desk, words);
        assert_eq!(ran.code, 0, "{}", ran.text);
        ran
    }

    /// Runs a command that is made ready.
    pub fn ran(&self, words: &str, mut command: Command) -> Ran {
        let output = command.output().unwrap();
        let out = self.plain(&String::from_utf8(output.stdout).unwrap());
        let err = self.plain(&String::from_utf8(output.stderr).unwrap());
        let code = output.status.code().unwrap_or(-1);
        let mut text = format!("$ yalotheca {words}\n{out}");
        if !err.trim().is_empty() {
            text.push_str(&format!("--- stderr\n{}\n", err.trim_end()));
        }
        text.push_str(&format!("--- exit {code}\n"));
        Ran { text, out, err, code }
    }

    /// Runs the program and wants it to end with 0.
    pub fn ok(&self, words: &str) -> Ran {
        let ran = self.run(words);
        assert_eq!(ran.code, 0, "{}", ran.text);
        ran
    }

    /// Replaces what differs from run to run.
    fn plain(&self, text: &str) -> String {
        let text = text.replace(self.host.address(), "http://HOST/");
        let real = self.dir.path().canonicalize().unwrap();
        let text =
            text.replace(&real.display().to_string(), "DIR").replace(&self.dir.path().display().to_string(), "DIR");
        let mut out = String::new();
        let mut hex = String::new();
        for c in text.chars().chain(['\0']) {
            if c.is_ascii_hexdigit() && !c.is_ascii_uppercase() {
                hex.push(c);
                continue;
            }
            out.push_str(if hex.len() == 64 { "DIGEST" } else { &hex });
            hex.clear();
            if c != '\0' {
                out.push(c);
            }
        }
        out
    }

    /// Every file of the server but our own state, with its bytes.
    pub fn tree(&self) -> BTreeMap<String, Vec<u8>> {
        tree(&self.server())
    }
}

impl Club {
    /// The whole story of a server that is reached from a desk, beginning with these words of `adopt`: settled,
    /// tuned, taken back, dropped, taken back. `known` are the codes of the findings that the server has anyway.
    pub fn story(&self, adopt: &str) {
        let none: Vec<String> = Vec::new();
        let bare = self.tree();
        self.ok_away("desk", adopt);
        assert_eq!(differ(&bare, &self.tree()), none, "adopting changes nothing");
        self.ok_away("desk", "want deep-winch rope-ladders quarry-moss");
        self.ok_away("desk", "settle --yes");
        let settled = self.tree();
        assert!(settled.contains_key("plugins/deep-winch.qpl"));
        assert!(settled.contains_key("addpacks/quarry-moss/addpack.json"));
        assert!(self.ok_away("desk", "settle").text.contains("Nothing to do"));
        let checked = self.run_away("desk", "check --json").json();
        let codes: Vec<&str> =
            checked["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap()).collect();
        assert_eq!(codes, ["terms-not-accepted", "unknown-file"], "{checked}");
        self.ok_away("desk", "tune start.conf door.name=Low_Tide --yes");
        assert!(self.read("start.conf").contains("door.name=Low_Tide"));
        self.ok_away("desk", "undo --yes");
        assert_eq!(differ(&settled, &self.tree()), none);
        self.ok_away("desk", "drop deep-winch rope-ladders quarry-moss");
        self.ok_away("desk", "settle --yes");
        assert_eq!(differ(&bare, &self.tree()), none);
        self.ok_away("desk", "undo --yes");
        assert_eq!(differ(&settled, &self.tree()), none);
        // nothing is left in staging, and nobody holds the server
        for folder in ["staging", "plans", "locks"] {
            assert_eq!(tree(&self.path(&format!(".yalotheca/{folder}"))), BTreeMap::new(), "{folder}");
        }
    }
}

/// Every file below a folder but our own state, with its bytes; folders end in a slash.
pub fn tree(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    fn go(folder: &Path, below: &str, out: &mut BTreeMap<String, Vec<u8>>) {
        for entry in fs::read_dir(folder).unwrap() {
            let entry = entry.unwrap();
            let name = format!("{below}{}", entry.file_name().to_string_lossy());
            if name == ".yalotheca" {
                continue;
            }
            if entry.file_type().unwrap().is_dir() {
                out.insert(format!("{name}/"), Vec::new());
                go(&entry.path(), &format!("{name}/"), out);
            } else {
                out.insert(name, fs::read(entry.path()).unwrap_or_default());
            }
        }
    }
    let mut out = BTreeMap::new();
    go(folder, "", &mut out);
    out
}

/// What two trees differ in.
pub fn differ(a: &BTreeMap<String, Vec<u8>>, b: &BTreeMap<String, Vec<u8>>) -> Vec<String> {
    let names: std::collections::BTreeSet<&String> = a.keys().chain(b.keys()).collect();
    names.into_iter().filter(|n| a.get(*n) != b.get(*n)).cloned().collect()
}
