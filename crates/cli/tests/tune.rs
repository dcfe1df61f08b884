//! `tune`, whole: what it prints, and the bytes it leaves.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod club;

use std::fs;

use club::Club;
use snapbox::{assert_data_eq, str};

/// A family that says what settings mean, over the same stand-in server.
const MEANS: &str = r#"
[[settings-file]]
file = "sheets/*.cfg"
format = "blocks"

[[setting]]
file = "start.conf"
at = "weather"
choices = ["calm", "rough"]

[[setting]]
file = "stops/*.json"
at = "at"
title = "Where it stands"
names = ["x", "y", "z", "turn"]

[[setting]]
file = "start.conf"
at = "places"
between = " | "

[[reference]]
file = "stops/*.json"
at = "next"
to = "stops/{value}.json"
"#;

const FERRIES: &str = "{\n  // the ferries\n  \"north\": { \"fare\": 3, \"goods\": true },\n  \"south\": { \"fare\": 5, \"goods\": false },\n  \"multipliers\": {\n    \"xp\": 1.50, // slow\n    \"ore\": 2\n  },\n  \"stops\": [\n    \"pier\",\n    \"mole\"\n  ]\n}\n";

fn club() -> Club {
    let club = Club::new();
    let own = include_str!("../../../families/quarrywake.family.toml");
    fs::create_dir_all(club.home().join("families")).unwrap();
    fs::write(club.home().join("families/quarrywake.family.toml"), format!("{own}\n{MEANS}")).unwrap();
    club.ok("adopt --catalogue HOST");
    club.write("ferries.json", FERRIES);
    club
}

/// Runs words that may hold spaces: parted by ` ¦ `.
fn run(club: &Club, words: &str) -> club::Ran {
    let parts: Vec<&str> = words.split(" ¦ ").collect();
    let mut command = club.command("tune");
    command.args(&parts);
    let output = command.output().unwrap();
    let (out, err) = (String::from_utf8(output.stdout).unwrap(), String::from_utf8(output.stderr).unwrap());
    let code = output.status.code().unwrap_or(-1);
    let mut text = format!("$ yalotheca tune {}\n{out}", parts.join(" "));
    if !err.trim().is_empty() {
        text.push_str(&format!("--- stderr\n{}\n", err.trim_end()));
    }
    text.push_str(&format!("--- exit {code}\n"));
    club::Ran { text, out, err, code }
}

fn ok(club: &Club, words: &str) -> club::Ran {
    let ran = run(club, words);
    assert_eq!(ran.code, 0, "{}", ran.text);
    ran
}

fn settings_of(club: &Club) -> String {
    let roster = club.read("roster.toml");
    roster.find("\n[settings").map_or(String::new(), |at| roster[at + 1..].to_owned())
}

#[test]
fn values_are_listed_read_and_set() {
    let club = club();
    assert_data_eq!(
        run(&club, "ferries.json").text,
        str![[r#"
$ yalotheca tune ferries.json
path to type     value
north.fare       3
north.goods      true
south.fare       5
south.goods      false
multipliers.xp   1.50
multipliers.ore  2
stops            pier, mole
--- stderr

Read as json. To set one: yalotheca tune ferries.json 'PATH=VALUE'
--- exit 0

"#]]
    );
    assert_data_eq!(
        run(&club, "ferries.json ¦ north.fare").text,
        str![[r#"
$ yalotheca tune ferries.json north.fare
3
--- exit 0

"#]]
    );
    assert_data_eq!(
        run(&club, "ferries.json ¦ *.fare").text,
        str![[r#"
$ yalotheca tune ferries.json *.fare
path        value
north.fare  3
south.fare  5
--- exit 0

"#]]
    );
    assert_data_eq!(
        run(&club, "ferries.json ¦ north.fare=4 ¦ stops+=quay").text,
        str![[r#"
$ yalotheca tune ferries.json north.fare=4 stops+=quay
ferries.json
  line 1
    {
      // the ferries
  -   "north": { "fare": 3, "goods": true },
  +   "north": { "fare": 4, "goods": true },
      "south": { "fare": 5, "goods": false },
      "multipliers": {
  line 9
      "stops": [
        "pier",
  -     "mole"
  +     "mole",
  +     "quay"
      ]
    }
Done: 1 file changed (history entry 2). Back: yalotheca undo
--- exit 0

"#]]
    );
    let expected = FERRIES.replace("\"fare\": 3", "\"fare\": 4").replace("\"mole\"\n", "\"mole\",\n    \"quay\"\n");
    assert_eq!(club.read("ferries.json"), expected);
    assert_data_eq!(
        settings_of(&club),
        str![[r#"
[settings."ferries.json"]
"north.fare" = 4
stops = { add = ["quay"] }

"#]]
    );
    // a second time there is nothing to do, and a settle finds nothing, too
    assert_data_eq!(
        run(&club, "ferries.json ¦ north.fare=4").text,
        str![[r#"
$ yalotheca tune ferries.json north.fare=4
Nothing to do: it is so already.
--- exit 0

"#]]
    );
    assert_data_eq!(
        club.run("settle --yes").text,
        str![[r#"
$ yalotheca settle --yes
Nothing to do: the server matches the roster.
--- exit 0

"#]]
    );
    // taken back, the bytes are those from before
    assert_data_eq!(
        run(&club, "ferries.json ¦ --forget").text,
        str![[r#"
$ yalotheca tune ferries.json --forget
ferries.json
  line 1
    {
      // the ferries
  -   "north": { "fare": 4, "goods": true },
  +   "north": { "fare": 3, "goods": true },
      "south": { "fare": 5, "goods": false },
      "multipliers": {
  line 9
      "stops": [
        "pier",
  -     "mole",
  -     "quay"
  +     "mole"
      ]
    }
Done: 1 file changed (history entry 3). Back: yalotheca undo
--- exit 0

"#]]
    );
    assert_eq!(club.read("ferries.json"), FERRIES);
    assert_eq!(settings_of(&club), "");
    club.ok("undo --yes");
    assert_eq!(club.read("ferries.json"), expected);
    club.ok("undo --yes");
    assert_eq!(club.read("ferries.json"), FERRIES);
}

#[test]
fn wildcards_reckon_and_pass_tests() {
    let club = club();
    assert_data_eq!(
        run(&club, "ferries.json ¦ multipliers.*=*2 ¦ --dry-run").text,
        str![[r#"
$ yalotheca tune ferries.json multipliers.*=*2 --dry-run
ferries.json
  line 4
      "south": { "fare": 5, "goods": false },
      "multipliers": {
  -     "xp": 1.50, // slow
  -     "ore": 2
  +     "xp": 3.00, // slow
  +     "ore": 4
      },
      "stops": [
--- exit 1

"#]]
    );
    assert_eq!(club.read("ferries.json"), FERRIES);
    ok(&club, "ferries.json ¦ multipliers.*=*2");
    let twice = FERRIES.replace("1.50", "3.00").replace("\"ore\": 2", "\"ore\": 4");
    assert_eq!(club.read("ferries.json"), twice);
    ok(&club, "ferries.json ¦ *.fare=+1 ¦ --where ¦ goods=true");
    assert_eq!(club.read("ferries.json"), twice.replace("\"fare\": 3", "\"fare\": 4"));
    // reckoned again: the roster knows the base
    ok(&club, "ferries.json ¦ multipliers.ore=- 1");
    assert_data_eq!(
        settings_of(&club),
        str![[r#"
[settings."ferries.json"]
"multipliers.xp" = { do = "*2", base = "1.50", result = "3.00" }
"north.fare" = { do = "+1", base = "3", result = "4" }
"multipliers.ore" = { do = ["*2", "- 1"], base = "2", result = "3" }

"#]]
    );
    assert_data_eq!(
        run(&club, "ferries.json ¦ *.fare=1 ¦ --where ¦ >99").text,
        str![[r#"
$ yalotheca tune ferries.json *.fare=1 --where >99
--- stderr
error: ferries.json: `*.fare`: no value there passes the test of --where
--- exit 2

"#]]
    );
    assert_data_eq!(
        run(&club, "ferries.json ¦ multipliers.ore=/0").text,
        str![[r#"
$ yalotheca tune ferries.json multipliers.ore=/0
--- stderr
error: ferries.json: `multipliers.ore`: nothing can be divided by 0
--- exit 2

"#]]
    );
}

#[test]
fn a_settle_keeps_what_is_tuned() {
    let club = club();
    // before the server made the file
    assert_data_eq!(
        run(&club, "settings/bell.yaml ¦ loud=true").text,
        str![[r#"
$ yalotheca tune settings/bell.yaml loud=true
--- stderr
error: `settings/bell.yaml` is not there
  fix: check the name; where the server makes the file at its first
       start, add --later
--- exit 2

"#]]
    );
    assert_data_eq!(
        run(&club, "settings/bell.yaml ¦ loud=true ¦ --later").text,
        str![[r#"
$ yalotheca tune settings/bell.yaml loud=true --later
Only the roster changes.
note  settings/bell.yaml  waits-for-file
    it is not there yet, and 1 tuned value waits for it
    fix: start the server once, so that it makes the file, then:
         yalotheca settle
Done: on the roster; no file changed (history entry 2). Back: yalotheca undo
--- exit 0

"#]]
    );
    assert_data_eq!(
        club.run("settle --yes").text,
        str![[r#"
$ yalotheca settle --yes
Nothing to do: the server matches the roster.

note  settings/bell.yaml  waits-for-file
    it is not there yet, and 1 tuned value waits for it
    fix: start the server once, so that it makes the file, then:
         yalotheca settle
--- exit 0

"#]]
    );
    club.write("settings/bell.yaml", "# first start\nloud: false\n");
    assert_data_eq!(
        club.run("settle --yes").text,
        str![[r#"
$ yalotheca settle --yes
settings
  ~ settings/bell.yaml  loud: `false` → `true`

Done: 1 settings file changed (settle, history entry 3).
--- stderr
To take it back: yalotheca undo. To see whether it starts: yalotheca trial
--- exit 0

"#]]
    );
    assert_eq!(club.read("settings/bell.yaml"), "# first start\nloud: true\n");
    // an update wrote the file anew
    club.write("settings/bell.yaml", "# second\nnew: 1\nloud: false\n");
    assert_data_eq!(
        club.run("check").text,
        str![[r#"
$ yalotheca check
error  start.conf  terms-not-accepted
    the terms number 7 are not accepted (none were accepted so far), and the
    server will not start
    fix: read terms.txt (the first yalotheca trial brings it), then:
         yalotheca trial --accept-terms 7
warning  settings/bell.yaml:3  tuned-was-reset
    `loud` went back to `false`, and you tuned it to `true`
    fix: yalotheca settle sets it again; to leave it: yalotheca tune
         settings/bell.yaml --forget 'loud'
warning  plugins/notes from Ada.txt  unknown-file
    the server does not read this file here: it reads `plugins/*.qpl` and
    `plugins/lib/*`
    fix: remove it, or give it the right name
note  ferries.json  unknown-file
    nobody knows this file
    fix: nothing to do if it is yours

1 error, 2 warnings and 1 note.
--- exit 1

"#]]
    );
    club.ok("settle --yes");
    assert_eq!(club.read("settings/bell.yaml"), "# second\nnew: 1\nloud: true\n");
    // a hand edit is kept and told
    ok(&club, "settings/bell.yaml ¦ new=5");
    club.write("settings/bell.yaml", "# second\nnew: 7\nloud: true\n");
    assert_data_eq!(
        club.run("settle --yes").text,
        str![[r#"
$ yalotheca settle --yes
Nothing to do: the server matches the roster.

warning  settings/bell.yaml:2  changed-by-hand
    what you tuned wants `new` to be `5`, and it was set by hand to `7`:
    kept
    fix: to set it again: yalotheca settle --put-back
         settings/bell.yaml
--- exit 0

"#]]
    );
    assert_eq!(club.read("settings/bell.yaml"), "# second\nnew: 7\nloud: true\n");
    assert_data_eq!(
        run(&club, "settings/bell.yaml ¦ new ¦ --why").text,
        str![[r#"
$ yalotheca tune settings/bell.yaml new --why
new in settings/bell.yaml
    the file before (base)         1
    tuned (line 20 of the roster)  5
  → set by hand since              7  this one stands
--- exit 0

"#]]
    );
    // and gives way to a new word of the person
    ok(&club, "settings/bell.yaml ¦ new=9");
    assert_eq!(club.read("settings/bell.yaml"), "# second\nnew: 9\nloud: true\n");
    // a base that is another is reckoned with anew
    ok(&club, "settings/bell.yaml ¦ new=*2");
    let roster = club.read("roster.toml").replace("base = \"9\"", "base = \"4\"");
    club.write("roster.toml", roster);
    club.ok("settle --yes");
}

#[test]
fn what_a_family_says_of_settings() {
    let club = club();
    let conf = club.read("start.conf");
    club.write(
        "start.conf",
        format!("{conf}players.most=20\nweather=calm\nplaces=Pier | Old Harbour\nconsole.password=hunter\n"),
    );
    club.write("stops/pier.json", "{ \"at\": [12, 0, 40, 90], \"next\": \"mole\" }\n");
    club.write("stops/mole.json", "{ \"at\": [14, 0, 40, 90], \"next\": \"pier\" }\n");
    assert_data_eq!(
        run(&club, "start.conf").text,
        str![[r#"
$ yalotheca tune start.conf
path to type      value                 meaning
core.file         ferrite.qcore
runtime           17                    Version of the runtime (8 or more)
door.name         The Tidewrack Quarry  What the door says
players.most      20                    Most players at once (1 to 200
                                        players)
weather           calm                  calm, rough
places            Pier | Old Harbour
console.password  (secret)              Password of the console
--- stderr

Read as properties. To set one: yalotheca tune start.conf 'PATH=VALUE'
--- exit 0

"#]]
    );
    assert_data_eq!(
        run(&club, "start.conf ¦ players.most=400").text,
        str![[r#"
$ yalotheca tune start.conf players.most=400
--- stderr
error: this cannot be done as it stands
error  start.conf  out-of-range
    `players.most`: `400` is out of range: it takes 1 to 200 players
    fix: give a value that it takes
--- exit 3

"#]]
    );
    assert_data_eq!(
        run(&club, "start.conf ¦ weather=ruogh").text,
        str![[r#"
$ yalotheca tune start.conf weather=ruogh
--- stderr
error: this cannot be done as it stands
error  start.conf  out-of-range
    `weather`: `ruogh` is no choice, did you mean `rough`?; it takes calm,
    rough
    fix: give a value that it takes
--- exit 3

"#]]
    );
    ok(&club, "start.conf ¦ places+=Salt Pier ¦ --seat ¦ before Old Harbour");
    assert!(club.read("start.conf").contains("places=Pier | Salt Pier | Old Harbour\n"));
    assert_data_eq!(
        run(&club, "stops/pier.json").text,
        str![[r#"
$ yalotheca tune stops/pier.json
path to type  value          meaning
at            12, 0, 40, 90  Where it stands [x, y, z, turn]
next          mole
--- stderr

Read as json. To set one: yalotheca tune stops/pier.json 'PATH=VALUE'
--- exit 0

"#]]
    );
    ok(&club, "stops/pier.json ¦ at.x=14 ¦ at.turn=*2");
    assert_eq!(club.read("stops/pier.json"), "{ \"at\": [14, 0, 40, 180], \"next\": \"mole\" }\n");
    // copies refer to each other
    assert_data_eq!(
        run(&club, "--copy ¦ stops/pier.json ¦ stops/pier-2.json ¦ stops/mole.json ¦ stops/mole-2.json").text,
        str![[r#"
$ yalotheca tune --copy stops/pier.json stops/pier-2.json stops/mole.json stops/mole-2.json
stops/pier-2.json
  line 1
  + { "at": [14, 0, 40, 180], "next": "mole-2" }
stops/mole-2.json
  line 1
  + { "at": [14, 0, 40, 90], "next": "pier-2" }
Done: 2 files changed (history entry 4). Back: yalotheca undo
--- exit 0

"#]]
    );
    assert_eq!(club.read("stops/pier-2.json"), "{ \"at\": [14, 0, 40, 180], \"next\": \"mole-2\" }\n");
    assert_eq!(club.read("stops/mole.json"), "{ \"at\": [14, 0, 40, 90], \"next\": \"pier\" }\n");
    club.ok("undo --yes");
    assert!(!club.path("stops/pier-2.json").exists() && !club.path("stops/mole-2.json").exists());
}

#[test]
fn a_secret_is_shown_and_recorded_nowhere() {
    let club = club();
    let conf = club.read("start.conf");
    club.write("start.conf", format!("{conf}console.password=hunter\nnext=1\n"));
    assert_data_eq!(
        run(&club, "start.conf ¦ console.password=tide").text,
        str![[r#"
$ yalotheca tune start.conf console.password=tide
--- stderr
error: this cannot be done as it stands
error  start.conf  secret
    `console.password` is secret: it is not taken from the command line,
    where others could read it
    fix: yalotheca tune start.conf 'console.password' --secret asks for
         it; --secret FILE or --secret '$NAME' reads it
--- exit 3

"#]]
    );
    assert_data_eq!(
        run(&club, "start.conf ¦ console.password ¦ --secret").text,
        str![[r#"
$ yalotheca tune start.conf console.password --secret
--- stderr
Nobody is there to type the secret.
  fix: name where it is: --secret FILE, --secret '$NAME' or --secret -
--- exit 6

"#]]
    );
    fs::write(club.dir.path().join("word"), "salt-and-tide\n").unwrap();
    let word = club.dir.path().join("word").display().to_string();
    let ran = ok(&club, &format!("start.conf ¦ console.password ¦ --secret ¦ {word}"));
    assert!(club.read("start.conf").contains("console.password=salt-and-tide\n"));
    let all = [
        ran.text,
        run(&club, "start.conf").text,
        run(&club, "start.conf ¦ console.password").text,
        run(&club, "start.conf ¦ console.password ¦ --why").text,
        run(&club, "start.conf ¦ next=2").text,
        run(&club, "start.conf ¦ --json").text,
        club.run("history --json").text,
        club.run("check").text,
        club.read("roster.toml"),
    ];
    for text in &all {
        assert!(!text.contains("salt-and-tide") && !text.contains("hunter"), "{text}");
    }
    for folder in ["heads", "history", "lists"] {
        for entry in fs::read_dir(club.path(".yalotheca").join(folder)).unwrap() {
            let text = fs::read_to_string(entry.unwrap().path()).unwrap();
            assert!(!text.contains("salt-and-tide") && !text.contains("hunter"), "{folder}: {text}");
        }
    }
    let roster = club.read("roster.toml").replace("next = 2", "\"console.password\" = \"leak\"");
    club.write("roster.toml", roster);
    let told = club.run("settle --yes");
    assert!(told.text.contains("secret-on-roster") && !told.text.contains("leak"), "{}", told.text);
    assert!(club.read("start.conf").contains("console.password=salt-and-tide\n"));
}

#[test]
fn each_common_slip_is_told_and_mended() {
    let club = club();
    for (name, broken, line, mended) in [
        ("a.json", "{\n  \"a\": 1\n  \"b\": 2\n}\n", "2", "{\n  \"a\": 1,\n  \"b\": 2\n}\n"),
        (
            "a.json",
            "{\n  \"a\": 1, // one\n  \"b\": 2 // two\n  \"c\": 3\n}\n",
            "3",
            "{\n  \"a\": 1, // one\n  \"b\": 2, // two\n  \"c\": 3\n}\n",
        ),
        ("a.json", "{\n  \"a\": 1,,\n  \"b\": 2\n}\n", "2", "{\n  \"a\": 1,\n  \"b\": 2\n}\n"),
        ("a.json", "{\n  \"a\": \"x,\n  \"b\": 2\n}\n", "2", "{\n  \"a\": \"x\",\n  \"b\": 2\n}\n"),
        ("a.json", "{\n  \"a\": [1, 2,\n  \"b\": 2\n}\n", "", ""),
        ("a.json", "{\n  \"a\": [1, 2\n}\n", "2", "{\n  \"a\": [1, 2]\n}\n"),
        ("a.json", "{\n  \"a\": 1\n", "2", "{\n  \"a\": 1\n}\n"),
        ("a.json", "{\n  \u{201c}a\u{201d}: \u{201c}x\u{201d}\n}\n", "2", "{\n  \"a\": \"x\"\n}\n"),
        ("a.yaml", "a:\n  b: 1\n\tc: 2\n", "3", "a:\n  b: 1\n  c: 2\n"),
        ("a.yaml", "a: \"x\nb: 2\n", "1", "a: \"x\"\nb: 2\n"),
        ("a.yaml", "a: [x, y\nb: 2\n", "1", "a: [x, y]\nb: 2\n"),
        ("a.toml", "a = \"x\nb = 2\n", "1", "a = \"x\"\nb = 2\n"),
        ("a.toml", "a = [1 2]\n", "1", "a = [1, 2]\n"),
        ("a.ini", "[world\na=1\n", "1", "[world]\na=1\n"),
        ("a.cfg", "door \"Salt\nmost \"4\"\n", "1", "door \"Salt\"\nmost \"4\"\n"),
        ("sheets/a.cfg", "world {\n  a = 1\n", "2", "world {\n  a = 1\n}\n"),
        ("a.lua", "a = { x = 1 y = 2 }\n", "1", "a = { x = 1, y = 2 }\n"),
    ] {
        club.write(name, broken);
        let format = if name == "a.cfg" { " ¦ --format ¦ name-value" } else { "" };
        let told = run(&club, &format!("{name}{format}"));
        assert_eq!(told.code, 5, "{}", told.text);
        let unasked = run(&club, &format!("{name} ¦ --mend{format}"));
        if mended.is_empty() {
            assert_eq!(unasked.code, 5, "{}", unasked.text);
            continue;
        }
        assert!(told.text.contains("--mend"), "{}", told.text);
        assert_eq!(unasked.code, 6, "it is shown and asked first: {}", unasked.text);
        assert!(unasked.out.starts_with(&format!("{name}:{line}: ")), "{}", unasked.text);
        assert_eq!(club.read(name), broken);
        ok(&club, &format!("{name} ¦ --mend ¦ --yes{format}"));
        assert_eq!(club.read(name), mended);
        club.ok("undo --yes");
        assert_eq!(club.read(name), broken);
    }
    club.write("a.json", "{\n  \"a\": 1\n  \"b\": 2\n}\n");
    assert_data_eq!(
        run(&club, "a.json ¦ a=2").text,
        str![[r#"
$ yalotheca tune a.json a=2
--- stderr
error: a.json:3: it cannot be read without doubt, so it is left alone: a
       comma is missing before this, after line 2, column 8
  fix: put a comma at the end of line 2: yalotheca tune a.json --mend
--- exit 5

"#]]
    );
    assert_data_eq!(
        run(&club, "a.json ¦ --mend ¦ --dry-run").text,
        str![[r#"
$ yalotheca tune a.json --mend --dry-run
a.json:2: put a comma at the end of line 2
a.json
  line 1
    {
  -   "a": 1
  +   "a": 1,
      "b": 2
    }
--- exit 1

"#]]
    );
    assert_data_eq!(
        run(&club, "ferries.json ¦ --mend").text,
        str![[r#"
$ yalotheca tune ferries.json --mend
--- stderr
error: `ferries.json` reads as it is: there is nothing to mend
--- exit 2

"#]]
    );
}

#[test]
fn snippets_and_entries_that_move() {
    let club = club();
    fs::write(
        club.dir.path().join("night.json"),
        "{ \"multipliers\": { \"xp\": 3, \"fog\": 1 }, \"stops\": [\"mole\", \"quay\"] }",
    )
    .unwrap();
    let snippet = club.dir.path().join("night.json").display().to_string();
    ok(&club, "ferries.json ¦ stops-=pier");
    assert_data_eq!(
        run(&club, &format!("ferries.json ¦ --paste ¦ {snippet}")).out,
        str![[r#"
ferries.json
  line 4
      "south": { "fare": 5, "goods": false },
      "multipliers": {
  -     "xp": 1.50, // slow
  -     "ore": 2
  +     "xp": 3, // slow
  +     "ore": 2,
  +     "fog": 1
      },
      "stops": [
  -     "mole"
  +     "mole",
  +     "quay"
      ]
    }
Done: 1 file changed (history entry 3). Back: yalotheca undo

"#]]
    );
    assert_data_eq!(
        settings_of(&club),
        str![[r#"
[settings."ferries.json"]
"multipliers.xp" = { set = 3, from = "night.json" }
"multipliers.fog" = { set = 1, from = "night.json" }
stops = { without = ["pier"], pasted = { "night.json" = ["quay"] } }

"#]]
    );
    assert_data_eq!(
        run(&club, "ferries.json ¦ --forget ¦ --from ¦ night.json").text,
        str![[r#"
$ yalotheca tune ferries.json --forget --from night.json
ferries.json
  line 4
      "south": { "fare": 5, "goods": false },
      "multipliers": {
  -     "xp": 3, // slow
  -     "ore": 2,
  -     "fog": 1
  +     "xp": 1.50, // slow
  +     "ore": 2
      },
      "stops": [
  -     "mole",
  -     "quay"
  +     "mole"
      ]
    }
Done: 1 file changed (history entry 4). Back: yalotheca undo
--- exit 0

"#]]
    );
    ok(&club, "ferries.json ¦ --forget");
    assert_eq!(club.read("ferries.json"), FERRIES);
    club.write("more.yaml", "stops:\n  - quay\nlines: {}\n");
    assert_data_eq!(
        run(&club, "--move-entry ¦ ferries.json ¦ stops[=mole] ¦ more.yaml ¦ stops").text,
        str![[r#"
$ yalotheca tune --move-entry ferries.json stops[=mole] more.yaml stops
ferries.json
  line 8
      },
      "stops": [
  -     "pier",
  -     "mole"
  +     "pier"
      ]
    }
more.yaml
  line 1
    stops:
      - quay
  +   - mole
    lines: {}
Done: 2 files changed (history entry 6). Back: yalotheca undo
--- exit 0

"#]]
    );
    ok(&club, "--move-entry ¦ ferries.json ¦ south ¦ more.yaml ¦ lines");
    assert_eq!(club.read("more.yaml"), "stops:\n  - quay\n  - mole\nlines: {south: {fare: 5, goods: false}}\n");
    assert!(!club.read("ferries.json").contains("south") && !club.read("ferries.json").contains("mole"));
    assert_data_eq!(
        club.run("settle --yes").text,
        str![[r#"
$ yalotheca settle --yes
Nothing to do: the server matches the roster.
--- exit 0

"#]]
    );
}

#[test]
fn what_cannot_be_tuned_is_one_clear_line() {
    let club = club();
    club.write("binary.json", b"\x00\x01\x02");
    club.write("latin.ini", b"[a]\nx = \x93y\x94\n");
    let wide: String = (0..3000).map(|i| format!("key{i}=1\n")).collect();
    club.write("wide.properties", wide);
    let before = club.tree();
    let cases = [
        "ferries.jsn",
        "plugins",
        "binary.json",
        "latin.ini",
        "huge.json ¦ a=1",
        "ferries.json ¦ north.fair=4",
        "ferries.json ¦ nowhere",
        "ferries.json ¦ north/fare=4",
        "ferries.json ¦ north.fare=free",
        "ferries.json ¦ north.fare=[1]",
        "ferries.json ¦ stops=x",
        "ferries.json ¦ stops-=nobody",
        "ferries.json ¦ a..b=1",
        "ferries.json ¦ north.fare ¦ south.fare=1",
        "ferries.json ¦ --forget",
        "ferries.json ¦ --where ¦ five ¦ *.fare=1",
        "wide.properties ¦ key*=2",
        "../outside.json",
        "--copy ¦ ferries.json",
        "--copy ¦ ferries.json ¦ start.conf",
    ];
    let mut all = String::new();
    for words in cases {
        let huge = words.starts_with("huge");
        if huge {
            fs::File::create(club.path("huge.json")).unwrap().set_len(5_000_000_000).unwrap();
        }
        let ran = run(&club, words);
        if huge {
            fs::remove_file(club.path("huge.json")).unwrap();
        }
        assert!(ran.code >= 2, "{}", ran.text);
        let err = ran.err.replace(&club.dir.path().canonicalize().unwrap().display().to_string(), "DIR");
        all.push_str(&format!("$ tune {}\n{err}--- exit {}\n", words.replace(" ¦ ", " "), ran.code));
        assert_eq!(club::differ(&before, &club.tree()), Vec::<String>::new(), "{words}");
    }
    assert_data_eq!(
        all,
        str![[r#"
$ tune ferries.jsn
error: `ferries.jsn` is not there, did you mean `ferries.json`?
--- exit 2
$ tune plugins
error: `plugins` is a folder; name a file in it
--- exit 2
$ tune binary.json
error: binary.json:1: it cannot be read without doubt, so it is left
       alone: holds control characters: it is no text file
  fix: correct that line by hand, then run the same command again
--- exit 5
$ tune latin.ini
error: latin.ini:2: it cannot be read without doubt, so it is left alone:
       is neither UTF-8 nor Latin-1 text; save it as UTF-8
  fix: correct that line by hand, then run the same command again
--- exit 5
$ tune huge.json a=1
error: `huge.json` is 5.0 GB large, too much for a settings file
--- exit 2
$ tune ferries.json north.fair=4
error: ferries.json: nothing stands at `north.fair`, did you mean
       `north.fare`?
  fix: correct the path (yalotheca tune ferries.json lists them); to make
       a new key, add --new
--- exit 2
$ tune ferries.json nowhere
error: ferries.json: nothing stands at `nowhere`
  fix: see the paths there are: yalotheca tune ferries.json
--- exit 2
$ tune ferries.json north/fare=4
error: ferries.json: nothing stands at `north/fare`, did you mean
       `north.fare`?
  fix: correct the path (yalotheca tune ferries.json lists them); to make
       a new key, add --new
--- exit 2
$ tune ferries.json north.fare=free
error: ferries.json: line 3: a number stands at `north.fare`, and `free`
       is text
  fix: give a value of that sort; to write `free` all the same, add --as
       text
--- exit 3
$ tune ferries.json north.fare=[1]
error: ferries.json: line 3: a number stands at `north.fare`, and `[1]`
       is a list
  fix: give a value of that sort; += adds to a list
--- exit 3
$ tune ferries.json stops=x
error: ferries.json: line 9: a list stands at `stops`, and `x` is text
  fix: give a value of that sort; to write `x` all the same, add --as
       text
--- exit 3
$ tune ferries.json stops-=nobody
error: ferries.json: `stops`: no element `nobody` stands there
--- exit 2
$ tune ferries.json a..b=1
error: `a..b=1` is no path: a key is missing; an empty key is written ""
  fix: see how it is written: the same command with --help
--- exit 2
$ tune ferries.json north.fare south.fare=1
error: name paths to read, or values to set, not both at once
  fix: see how it is written: the same command with --help
--- exit 2
$ tune ferries.json --forget
error: ferries.json: nothing was ever tuned
  fix: see what is: [settings] on the roster
--- exit 2
$ tune ferries.json --where five *.fare=1
error: `five` is no test; write '<5', '>=2', '=salt' or 'kind=fog'
  fix: see how it is written: the same command with --help
--- exit 2
$ tune wide.properties key*=2
Nothing was changed: nobody is there to be asked.
  fix: to make these changes, add --yes
--- exit 6
$ tune ../outside.json
error: path `../outside.json` leads out of the folder
--- exit 2
$ tune --copy ferries.json
error: --copy takes pairs: a file and its new name
  fix: see how it is written: the same command with --help
--- exit 2
$ tune --copy ferries.json start.conf
error: `start.conf` stands there already; choose another name for the
       copy
--- exit 2

"#]]
    );
    // who may read a file stays as it was
    use std::os::unix::fs::PermissionsExt as _;
    club.write("own.json", "{ \"a\": 1 }");
    fs::set_permissions(club.path("own.json"), fs::Permissions::from_mode(0o600)).unwrap();
    ok(&club, "own.json ¦ a=2");
    club.ok("undo --yes");
    ok(&club, "own.json ¦ a=3");
    assert_eq!(fs::metadata(club.path("own.json")).unwrap().permissions().mode() & 0o777, 0o600);
    ok(&club, "own.json ¦ --forget");
    fs::remove_file(club.path("own.json")).unwrap();
    // somebody made it read-only: refused, nothing changed
    let mut mode = fs::metadata(club.path("ferries.json")).unwrap().permissions();
    mode.set_readonly(true);
    fs::set_permissions(club.path("ferries.json"), mode).unwrap();
    let ran = run(&club, "ferries.json ¦ north.fare=4");
    assert!(ran.code == 2 && ran.err.contains("is read-only") && club.read("ferries.json") == FERRIES, "{}", ran.text);
    let kept = fs::read(club.path("ferries.json")).unwrap();
    fs::remove_file(club.path("ferries.json")).unwrap();
    club.write("ferries.json", kept);
    // a key that is new all the same, and a sort that is forced
    ok(&club, "ferries.json ¦ north.fair=4 ¦ --new");
    ok(&club, "ferries.json ¦ south.fare = 7");
    assert!(club.read("ferries.json").contains("\"south\": { \"fare\": 7,"));
    ok(&club, "ferries.json ¦ north.fare=free ¦ --as ¦ text");
    assert!(club.read("ferries.json").contains("{ \"fare\": \"free\", \"goods\": true, \"fair\": 4 }"));
    assert_data_eq!(
        club.run("settle --yes").text,
        str![[r#"
$ yalotheca settle --yes
Nothing to do: the server matches the roster.
--- exit 0

"#]]
    );
}

/// Plugins that ship their settings, which are the administrator's from then on.
fn ships(club: &Club, version: &str, settings: &str) -> String {
    let real = yalotheca_standin::club::plugin("fog-horn", version, "^1.8", &[], "");
    let zip =
        yalotheca_standin::club::pack(&[("fog-horn.qpl", &real), ("settings/fog-horn.yaml", settings.as_bytes())]);
    let name = format!("../fog-horn-{version}.zip");
    fs::write(club.path(&name), zip).unwrap();
    name
}

#[test]
fn a_new_default_is_merged_into_the_administrators_file() {
    let club = Club::new();
    let own = include_str!("../../../families/quarrywake.family.toml");
    let ships_settings = own.replace(
        "  { take = \"lib/*.qlib\", to = \"plugins/lib/{name}\" },\n",
        "  { take = \"lib/*.qlib\", to = \"plugins/lib/{name}\" },\n  { take = \"settings/*.yaml\", to = \"settings/{name}\", settings = true },\n",
    );
    assert_ne!(own, ships_settings);
    fs::create_dir_all(club.home().join("families")).unwrap();
    fs::write(club.home().join("families/quarrywake.family.toml"), ships_settings).unwrap();
    club.ok("adopt --catalogue HOST");
    let bare = club.tree();
    let first = ships(&club, "1.0.0", "# horn\nloud: 5\nrate: 2\nreach: 10\nhours:\n  - dawn\nold: 1\n");
    club.ok(&format!("want {first}"));
    club.ok("settle --yes");
    assert_eq!(club.read("settings/fog-horn.yaml"), "# horn\nloud: 5\nrate: 2\nreach: 10\nhours:\n  - dawn\nold: 1\n");
    club.ok("undo --yes");
    assert!(!club.path("settings/fog-horn.yaml").exists());
    club.ok(&format!("want {first}"));
    club.ok("settle --yes");
    // tuned, reckoned, and changed by hand
    ok(&club, "settings/fog-horn.yaml ¦ loud=7");
    ok(&club, "settings/fog-horn.yaml ¦ rate=*3");
    let hand = club
        .read("settings/fog-horn.yaml")
        .replace("reach: 10", "reach: 11 # mine")
        .replace("- dawn", "- dawn\n  - dusk");
    club.write("settings/fog-horn.yaml", &hand);
    assert_data_eq!(
        club.run("settle --yes").text,
        str![[r#"
$ yalotheca settle --yes
Nothing to do: the server matches the roster.
--- exit 0

"#]]
    );
    // the new version brings other defaults
    let second =
        ships(&club, "1.1.0", "# horn 1.1\nloud: 6\nrate: 4\nreach: 20\nhours:\n  - dawn\n  - noon\nnew: yes\n");
    club.ok(&format!("want {second}"));
    assert_data_eq!(
        club.run("settle --yes").text,
        str![[r#"
$ yalotheca settle --yes
items
  ~ fog-horn  1.0.0 → 1.1.0  plugin  wanted
files
  ~ plugins/fog-horn.qpl  313 B
settings
  ~ settings/fog-horn.yaml  loud: `6` → `7`
  ~ settings/fog-horn.yaml  rate: `4` → `12`
  + settings/fog-horn.yaml.new  the new default, to compare
roster
  - rate = { do = "*3", base = "2", result = "6" }
  + rate = { do = "*3", base = "4", result = "12" }

warning  settings/fog-horn.yaml  settings-collision
    `reach` is `11` by your hand, and the new default of fog-horn makes it
    `20`: yours is kept
    fix: look at settings/fog-horn.yaml.new, then set what you want:
         yalotheca tune settings/fog-horn.yaml 'reach=…'
note  settings/fog-horn.yaml  reckoned-anew
    the default of `rate` is 4 now, so what you tuned comes to 12
    fix: nothing to do; yalotheca settle sets it and writes it on the
         roster

Done: 1 item, 1 file and 2 settings files changed (settle, history entry 7).
--- stderr
To take it back: yalotheca undo. To see whether it starts: yalotheca trial
--- exit 0

"#]]
    );
    assert_data_eq!(
        club.read("settings/fog-horn.yaml"),
        str![[r#"
# horn
loud: 7
rate: 12
reach: 11 # mine
hours:
  - dawn
  - dusk
  - noon
new: yes

"#]]
    );
    assert_eq!(
        club.read("settings/fog-horn.yaml.new"),
        "# horn 1.1\nloud: 6\nrate: 4\nreach: 20\nhours:\n  - dawn\n  - noon\nnew: yes\n"
    );
    assert_data_eq!(
        settings_of(&club),
        str![[r#"
[settings."settings/fog-horn.yaml"]
loud = 7
rate = { do = "*3", base = "4", result = "12" }

"#]]
    );
    assert_data_eq!(
        club.run("settle --yes").text,
        str![[r#"
$ yalotheca settle --yes
Nothing to do: the server matches the roster.
--- exit 0

"#]]
    );
    // forgotten, the values are those of the new default
    ok(&club, "settings/fog-horn.yaml ¦ --forget");
    assert!(club.read("settings/fog-horn.yaml").starts_with("# horn\nloud: 6\nrate: 4\nreach: 11 # mine\n"));
    // an untouched file just becomes the new default, and goes with its item
    fs::remove_file(club.path("settings/fog-horn.yaml.new")).unwrap();
    club.write(
        "settings/fog-horn.yaml",
        "# horn 1.1\nloud: 6\nrate: 4\nreach: 20\nhours:\n  - dawn\n  - noon\nnew: yes\n",
    );
    let third = ships(&club, "1.2.0", "loud: 1\n");
    club.ok(&format!("want {third}"));
    club.ok("settle --yes");
    assert_eq!(club.read("settings/fog-horn.yaml"), "loud: 1\n");
    ok(&club, "settings/fog-horn.yaml ¦ loud=2");
    club.ok("drop fog-horn");
    club.ok("settle --yes");
    let mut left = club.tree();
    left.insert("roster.toml".to_owned(), bare["roster.toml"].clone());
    assert_eq!(club::differ(&bare, &left), Vec::<String>::new());
}
