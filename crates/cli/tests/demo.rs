//! `demo`: the whole story, as a newcomer sees it.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod club;

use std::io::{BufRead as _, BufReader};
use std::process::Stdio;

use club::Club;
use snapbox::{assert_data_eq, str};

#[test]
fn the_story_is_told_to_its_end() {
    let club = Club::empty();
    let ran = club.run("demo quarrywake --quiet");
    assert_eq!(ran.code, 0, "{}", ran.text);
    // the address and the folder differ from run to run
    let shown: Vec<String> = ran
        .out
        .lines()
        .map(|l| match l.split_once("http://127.0.0.1:") {
            Some((before, after)) => {
                format!("{before}http://HOST/{}", after.split_once('/').map_or("", |(_, rest)| rest))
            }
            None if l.contains("server lies in") => "The club's Quarrywake server lies in FOLDER".to_owned(),
            None => l.to_owned(),
        })
        .collect();
    assert_data_eq!(
        shown.join("\n"),
        str![[r#"
The club's Quarrywake server lies in FOLDER
The club's catalogue answers at      http://HOST/

# The club ran this server by hand so far. Take it under care.
$ yalotheca adopt --catalogue http://HOST/
This is a Quarrywake server.
  core          ferrite
  core release  3.4.0
  game version  1.8.2
  runtime       17

item          version  kind    known by   file
ferrite       3.4.0    core    catalogue  core/ferrite.qcore
gull-counter  0.3.0    plugin  manifest   plugins/gull-counter.qpl
harbour-bell  1.0.0    plugin  catalogue  plugins/harbour-bell.qpl

1 other file left alone:
  plugins/notes from Ada.txt: nobody knows this file

# What is there for chests and lights?
$ yalotheca find lights locks
item         fits here  kind    what it does
chest-locks  2.1.0      plugin  Locks chests and doors against other players.
lock-core    1.4.2      plugin  What locks have in common.
pier-lights  1.2.0      plugin  Lamps along the pier that come on at dusk.
salvage-kit  1.1        kit     Locks and long nights, as the salvagers play.

# Look at one more closely: its newest version is for a newer game.
$ yalotheca show chest-locks
chest-locks  Chest locks
  Locks chests and doors against other players.
  kind       plugin
  also       ChestLocks
  number     30117
  catalogue  http://HOST/
  goes to    plugins/chest-locks.qpl, plugins/lib/*

version  date        size   fits here                             needs
3.0.0    2026-10-30  348 B  no: fits game >=1.9, this server has  lock-core ^2
                            1.8.2
2.1.0    2026-05-20  345 B  yes                                   lock-core ^1
2.0.0    2026-01-14  345 B  yes                                   lock-core ^1
1.4.0    2025-03-02  328 B  yes

# Three plugins; two of them need lock-core, each in another range.
$ yalotheca want chest-locks pier-lights tide-biome
chest-locks is on the roster: chest-locks = "*"
pier-lights is on the roster: pier-lights = "*"
tide-biome is on the roster: tide-biome = "*"

`yalotheca settle` would do this:
items
  + chest-locks  2.1.0  plugin  wanted
  + pier-lights  1.2.0  plugin  wanted
  + tide-biome   1.4.0  plugin  wanted
  + lock-core    1.3.0  plugin  needed by chest-locks and pier-lights
files
  + plugins/chest-locks.qpl  345 B
  + plugins/lock-core.qpl    319 B
  + plugins/pier-lights.qpl  372 B
  + plugins/tide-biome.qpl   324 B

# Make the server match the roster.
$ yalotheca settle --yes
items
  + chest-locks  2.1.0  plugin  wanted
  + pier-lights  1.2.0  plugin  wanted
  + tide-biome   1.4.0  plugin  wanted
  + lock-core    1.3.0  plugin  needed by chest-locks and pier-lights
files
  + plugins/chest-locks.qpl  345 B
  + plugins/lock-core.qpl    319 B
  + plugins/pier-lights.qpl  372 B
  + plugins/tide-biome.qpl   324 B

Done: 4 items and 4 files changed (settle, history entry 2).

# Would it start?
$ yalotheca check
error  start.conf  terms-not-accepted
    the terms number 7 are not accepted (none were accepted so far), and the
    server will not start
    fix: read terms.txt (the first yalotheca trial brings it), then:
         yalotheca trial --accept-terms 7
warning  plugins/notes from Ada.txt  unknown-file
    the server does not read this file here: it reads `plugins/*.qpl` and
    `plugins/lib/*`
    fix: remove it, or give it the right name

1 error and 1 warning.
(exit code 1)

# Try it: the terms of the core were never accepted.
$ yalotheca trial
Terms: the server stopped, because nobody accepted its terms yet:
  "terms number 7 not accepted: read terms.txt, then set
  terms.accepted=7 in start.conf"
  fix: read terms.txt in the server's folder; if you accept, run:
       yalotheca trial --accept-terms 7
(exit code 6)

# The club has read terms.txt, and accepts.
$ yalotheca trial --accept-terms 7
item          verdict  why
ferrite       loaded
gull-counter  loaded
harbour-bell  loaded
lock-core     loaded
chest-locks   loaded
pier-lights   loaded
tide-biome    loaded

Clean: the server came up and nothing failed.

# A second settle finds nothing to do.
$ yalotheca settle
Nothing to do: the server matches the roster.

# A version that cannot be, and why.
$ yalotheca want chest-locks@^3
(exit code 3)

# Two data packs: their order matters.
$ yalotheca want slate-nights quarry-moss --quiet
slate-nights is on the roster: slate-nights = "*"
quarry-moss is on the roster: quarry-moss = "*"

`yalotheca settle` would do this:
items
  + slate-nights  1.0.0  data pack  wanted
  + quarry-moss   1.2.0  data pack  wanted
files
  + addpacks/quarry-moss/addpack.json               85 B
  + addpacks/quarry-moss/stones/quarry-moss.json    18 B
  + addpacks/slate-nights/addpack.json              100 B
  + addpacks/slate-nights/stones/slate-nights.json  18 B
settings
  + addpacks/order.list  + quarry-moss
  + addpacks/order.list  + slate-nights

$ yalotheca settle --yes
items
  + slate-nights  1.0.0  data pack  wanted
  + quarry-moss   1.2.0  data pack  wanted
files
  + addpacks/quarry-moss/addpack.json               85 B
  + addpacks/quarry-moss/stones/quarry-moss.json    18 B
  + addpacks/slate-nights/addpack.json              100 B
  + addpacks/slate-nights/stones/slate-nights.json  18 B
settings
  + addpacks/order.list  + quarry-moss
  + addpacks/order.list  + slate-nights

Done: 2 items, 4 files and 1 settings file changed (settle, history entry 4).

# The moss was a mistake. Back again.
$ yalotheca undo --yes
items
  - quarry-moss   1.2.0  data pack  as it was before
  - slate-nights  1.0.0  data pack  as it was before
files
  - addpacks/quarry-moss/addpack.json  goes to quarantine
  - addpacks/quarry-moss/stones/quarry-moss.json  goes to quarantine
  - addpacks/slate-nights/addpack.json  goes to quarantine
  - addpacks/slate-nights/stones/slate-nights.json  goes to quarantine
settings
  - addpacks/order.list  - quarry-moss
  - addpacks/order.list  - slate-nights
roster
    goes back to what it was; what you edited since stays

Done: 2 items, 4 files and 1 settings file changed (undo, history entry 5).

# A pack that players fetch themselves: link, size and digest are written for them.
$ yalotheca want wet-stone --quiet
wet-stone is on the roster: wet-stone = "*"

`yalotheca settle` would do this:
items
  + wet-stone  1.1  resource pack  wanted
settings
  + offers.list  + must 289
      sha256:DIGEST
      http://HOST/files/wet-stone-…

$ yalotheca settle --yes
items
  + wet-stone  1.1  resource pack  wanted
settings
  + offers.list  + must 289
      sha256:DIGEST
      http://HOST/files/wet-stone-…

Done: 1 item and 1 settings file changed (settle, history entry 6).

# A whole kit instead, on a clean slate: what stands there would go to quarantine, worlds and players stay.
$ yalotheca settle --clean-slate salvage-kit --dry-run
items
  + salvage-kit   1.1            kit        wanted
  ~ lock-core     1.3.0 → 1.4.2  plugin     needed by salvage-kit and
      chest-locks
  + slate-nights  1.0.0          data pack  needed by salvage-kit
  - gull-counter  0.3.0          plugin     no longer wanted or needed
  - harbour-bell  1.0.0          plugin     no longer wanted or needed
  - pier-lights   1.2.0          plugin     no longer wanted or needed
  - tide-biome    1.4.0          plugin     no longer wanted or needed
files
  + addpacks/slate-nights/addpack.json              100 B
  + addpacks/slate-nights/stones/slate-nights.json  18 B
  - plugins/gull-counter.qpl  goes to quarantine
  - plugins/harbour-bell.qpl  goes to quarantine
  ~ plugins/lock-core.qpl                           319 B
  - plugins/pier-lights.qpl  goes to quarantine
  - plugins/tide-biome.qpl  goes to quarantine
  - settings/gull-counter.yaml  goes to quarantine
  - settings/harbour-bell.yaml  goes to quarantine
  - settings/lock-core.yaml  goes to quarantine
  - settings/pier-lights.yaml  goes to quarantine
  - settings/tide-biome.yaml  goes to quarantine
  + worlds/camp.map                                 7 B
settings
  + addpacks/order.list  + slate-nights
  ~ settings/chest-locks.yaml
left out of the downloads
    salvage-kit: salvage-kit-1.1/install.sh,
      salvage-kit-1.1/logs/build.log, salvage-kit-1.1/README.txt
roster
  - gull-counter = { here = "plugins/gull-counter.qpl", sha256 = "81ede6f5a2…
  - harbour-bell = "*"
  - chest-locks = "*"
  - pier-lights = "*"
  - tide-biome = "*"
  + salvage-kit = "*"
(exit code 1)

# What is newer, and why is the rest not taken?
$ yalotheca renew --dry-run
item         now    then   step   why not newer
chest-locks  2.1.0  2.1.0  stays  3.0.0: fits game >=1.9, this server has
                                  1.8.2
ferrite      3.4.0  3.4.0  stays  4.0.0: needs runtime 21, this server has 17
lock-core    1.3.0  1.3.0  stays  2.0.0: fits game >=1.9, this server has
                                  1.8.2
tide-biome   1.4.0  1.4.0  stays  2.0.0: fits game >=1.9, this server has
                                  1.8.2
Nothing moves.

# Could the server move to the game's next version?
$ yalotheca renew --for game=2.0
item          now    for game 2.0
chest-locks   2.1.0  ready after renewing  to 3.0.0
ferrite       3.4.0  the core              no version is known to bring it
gull-counter  0.3.0  no fitting version    the newest is 0.3.0
harbour-bell  1.0.0  no fitting version    the newest is 1.1.0
lock-core     1.3.0  ready after renewing  to 2.0.0
pier-lights   1.2.0  no fitting version    the newest is 1.2.0
tide-biome    1.4.0  ready after renewing  to 2.0.0
wet-stone     1.1    ready

Not yet: something on it has no version that fits.
(exit code 1)

# Why is this here, and why not newer?
$ yalotheca why lock-core
lock-core 1.3.0, a plugin
why it is here
  roster line 17 wants chest-locks; chest-locks 2.1.0 needs lock-core ^1
  roster line 18 wants pier-lights; pier-lights 1.2.0 needs lock-core >=1.2
    <1.4
why not 2.0.0
  lock-core 2.0.0 fits game >=1.9, this server has 1.8.2
why at place 4 of the load order
  it was there before

# In which order is all of it read, and why?
$ yalotheca order
   item          version  kind           stands here because
1  ferrite       3.4.0    core           it was there before
2  gull-counter  0.3.0    plugin         its kind comes after the one before
3  harbour-bell  1.0.0    plugin         it was there before
4  lock-core     1.3.0    plugin         it was there before
5  chest-locks   2.1.0    plugin         it needs lock-core
6  pier-lights   1.2.0    plugin         it needs lock-core
7  tide-biome    1.4.0    plugin         it was there before
8  wet-stone     1.1      resource pack  it was there before

# What was done, all in all?
$ yalotheca history
no.  when (UTC)           command  what changed
1    2026-11-23 12:00:00  adopt    + ferrite 3.4.0, + gull-counter 0.3.0, +
                                   harbour-bell 1.0.0
2    2026-11-23 12:00:00  settle   + chest-locks 2.1.0, + pier-lights 1.2.0, +
                                   tide-biome 1.4.0, + lock-core 1.3.0
3    2026-11-23 12:00:00  terms    accepted the terms number 7, 1 file
4    2026-11-23 12:00:00  settle   + slate-nights 1.0.0, + quarry-moss 1.2.0
5    2026-11-23 12:00:00  undo     took entry 4 back, - quarry-moss 1.2.0, -
                                   slate-nights 1.0.0
6    2026-11-23 12:00:00  settle   + wet-stone 1.1
"#]]
    );
}

#[test]
fn the_story_is_data_too() {
    let club = Club::empty();
    let steps = club.ok("demo quarrywake --json").json()["steps"].clone();
    let exits: Vec<i64> = steps.as_array().unwrap().iter().map(|s| s["exit"].as_i64().unwrap()).collect();
    assert_eq!(exits, [0, 0, 0, 0, 0, 1, 6, 0, 0, 3, 0, 0, 0, 0, 0, 1, 0, 1, 0, 0, 0]);
}

#[test]
fn every_game_has_its_story() {
    let club = Club::empty();
    let told = club.ok("demo --json").json();
    let exits = |story: &serde_json::Value| -> Vec<i64> {
        story["steps"].as_array().unwrap().iter().map(|s| s["exit"].as_i64().unwrap()).collect()
    };
    let stories: Vec<Vec<i64>> = told["stories"].as_array().unwrap().iter().map(exits).collect();
    assert_eq!(stories[1], [0, 0, 0, 0, 0, 0, 0], "capstan");
    assert_eq!(stories[2], [0, 6, 0, 0, 0, 0, 0, 0], "coldrail");
    assert_eq!(stories[3], [0, 0, 0, 0, 0, 0], "lanternfall");
    assert_eq!(stories[4], [0, 0, 0, 0, 0, 0], "thornmere");
}

#[test]
fn a_kept_demo_can_be_played_with() {
    let club = Club::empty();
    let mut child = club.command("demo --keep ../kept").stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    let out = BufReader::new(child.stdout.take().unwrap());
    let mut seen = String::new();
    for line in out.lines() {
        let line = line.unwrap();
        seen.push_str(&line);
        seen.push('\n');
        if line.contains("until you press Ctrl-C") {
            break;
        }
    }
    let mut command = club.command("find rope");
    let found = command
        .current_dir(club.dir.path().join("kept/quarry"))
        .env("YALOTHECA_HOME", club.dir.path().join("kept/home"));
    let found = found.output().unwrap();
    assert!(String::from_utf8_lossy(&found.stdout).contains("rope-ladders"), "{seen}");
    assert!(std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap().success());
    assert_eq!(child.wait().unwrap().code(), Some(0));
    assert_eq!(club.run("demo --keep ../kept").code, 4);
}

#[test]
fn the_story_of_a_rented_host_is_told_to_its_end() {
    let club = Club::empty();
    let ran = club.run("demo rented --json");
    assert_eq!(ran.code, 0, "{}", ran.text);
    let json = ran.json();
    let steps = json["steps"].as_array().unwrap();
    let exits: Vec<i64> = steps.iter().map(|s| s["exit"].as_i64().unwrap()).collect();
    assert_eq!(exits, [6, 0, 0, 0, 1, 0, 0, 0, 0, 0], "{json:#}");
    let history = &steps.last().unwrap()["said"]["entries"];
    let acts: Vec<&str> = history.as_array().unwrap().iter().map(|e| e["who"].as_str().unwrap()).collect();
    assert_eq!(acts, ["mira", "mira", "mira", "ada"], "{history:#}");
}
