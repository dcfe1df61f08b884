//! `history` and `undo`: what was done, and back again, byte for byte.

mod club;

use club::{Club, differ};
use snapbox::{assert_data_eq, str};

const NONE: Vec<String> = Vec::new();

#[test]
fn an_undo_brings_everything_back_and_can_be_undone() {
    let club = Club::adopted();
    let before = club.tree();
    club.ok("want deep-winch rope-ladders slate-nights quarry-moss");
    club.ok("settle --yes");
    let settled = club.tree();
    assert_data_eq!(
        club.run("undo --dry-run").text,
        str![[r#"
$ yalotheca undo --dry-run
items
  - deep-winch    2.2.1  plugin     as it was before
  - quarry-moss   1.2.0  data pack  as it was before
  - rope-ladders  1.1.0  plugin     as it was before
  - slate-nights  1.0.0  data pack  as it was before
files
  - addpacks/quarry-moss/addpack.json  goes to quarantine
  - addpacks/quarry-moss/stones/quarry-moss.json  goes to quarantine
  - addpacks/slate-nights/addpack.json  goes to quarantine
  - addpacks/slate-nights/stones/slate-nights.json  goes to quarantine
  - plugins/deep-winch.qpl  goes to quarantine
  - plugins/lib/ropes.qlib  goes to quarantine
  - plugins/rope-ladders.qpl  goes to quarantine
settings
  - addpacks/order.list  - quarry-moss
  - addpacks/order.list  - slate-nights
roster
    goes back to what it was; what you edited since stays
--- exit 1

"#]]
    );
    assert_eq!(club.tree(), settled);
    club.ok("undo --yes");
    assert_eq!(differ(&before, &club.tree()), NONE);
    club.ok("settle");
    club.ok("undo --yes");
    assert_eq!(differ(&settled, &club.tree()), NONE);
    assert_eq!(club.ok("settle").out, "Nothing to do: the server matches the roster.\n");
    assert_data_eq!(
        club.run("history").text,
        str![[r#"
$ yalotheca history
no.  when (UTC)           command  what changed
1    2026-11-23 12:00:00  adopt    + ferrite 3.4.0, + gull-counter 0.3.0, +
                                   harbour-bell 1.0.0
2    2026-11-23 12:00:00  settle   + deep-winch 2.2.1, + rope-ladders 1.1.0, +
                                   slate-nights 1.0.0, + quarry-moss 1.2.0
3    2026-11-23 12:00:00  undo     took entry 2 back, - deep-winch 2.2.1, -
                                   quarry-moss 1.2.0, - rope-ladders 1.1.0, -
                                   slate-nights 1.0.0
4    2026-11-23 12:00:00  undo     took entry 3 back, + deep-winch 2.2.1, +
                                   quarry-moss 1.2.0, + rope-ladders 1.1.0, +
                                   slate-nights 1.0.0
--- stderr

More: yalotheca history show NUMBER. Back again: yalotheca undo [NUMBER]
--- exit 0

"#]]
    );
}

#[test]
fn what_was_changed_by_hand_since_survives() {
    let club = Club::settled("quarry-moss");
    let list = club.read("addpacks/order.list") + "mine-too\n";
    club.write("addpacks/order.list", &list);
    let roster = club.read("roster.toml") + "# a note of mine\n";
    club.write("roster.toml", &roster);
    club.ok("undo --yes");
    assert_eq!(club.read("addpacks/order.list"), "mine-too\n");
    assert!(club.read("roster.toml").ends_with("# a note of mine\n"));
    assert!(!club.read("roster.toml").contains("quarry-moss"));
    club.ok("undo --yes");
    assert!(club.read("addpacks/order.list").contains("quarry-moss"));
    assert!(club.read("roster.toml").contains("quarry-moss"));
}

#[test]
fn several_steps_at_once() {
    let club = Club::adopted();
    let before = club.tree();
    for item in ["chest-locks", "quarry-moss", "deep-winch"] {
        club.ok(&format!("want {item}"));
        club.ok("settle --yes");
    }
    club.ok("drop quarry-moss");
    club.ok("settle --yes");
    let last = club.tree();
    club.ok("undo 2 --and-later --yes");
    assert_eq!(differ(&before, &club.tree()), NONE);
    club.ok("undo --yes");
    assert_eq!(differ(&last, &club.tree()), NONE);
}

#[test]
fn there_is_an_end_to_undoing() {
    let club = Club::adopted();
    assert_data_eq!(
        club.run("undo --yes").text,
        str![[r#"
$ yalotheca undo --yes
--- stderr
error: there is nothing to undo: it goes back to the day this server was
       adopted
--- exit 2

"#]]
    );
    assert_data_eq!(
        club.run("undo 7 --yes").text,
        str![[r#"
$ yalotheca undo 7 --yes
--- stderr
error: there is nothing to undo: the history has no entry 7; its last is
       1
--- exit 2

"#]]
    );
    let bare = Club::new();
    assert_data_eq!(
        bare.run("history").text,
        str![[r#"
$ yalotheca history
--- stderr
error: there is no roster `roster.toml`
  fix: go to the folder of your roster, name it with --roster FILE, or
       begin with: yalotheca adopt
--- exit 2

"#]]
    );
}

#[test]
fn a_damaged_head_is_passed_over_and_a_newer_one_refused() {
    let club = Club::settled("chest-locks");
    let heads = club.path(".yalotheca/heads");
    std::fs::write(heads.join("000003.json"), "{\"format\": 1, \"che").unwrap();
    assert_eq!(club.ok("settle").out, "Nothing to do: the server matches the roster.\n");
    std::fs::write(heads.join("000004.json"), "{\"format\": 9}").unwrap();
    assert_data_eq!(
        club.run("settle").text,
        str![[r#"
$ yalotheca settle
--- stderr
error: the ledger's format is 9, and this program knows 1; use the
       program that wrote it, or a newer one
  fix: the server itself is not touched; keep .yalotheca as it is and ask
       for help
--- exit 5

"#]]
    );
}

#[test]
fn one_entry_is_taken_back_and_the_later_ones_stay() {
    let club = Club::adopted();
    club.ok("want chest-locks");
    club.ok("settle --yes");
    club.ok("tune start.conf door.name=Slack_Water --yes");
    club.ok("want quarry-moss");
    club.ok("settle --yes");
    let all = club.tree();
    club.ok("undo 2 --yes");
    assert!(!club.path("plugins/chest-locks.qpl").exists() && !club.path("plugins/lock-core.qpl").exists());
    assert!(club.path("addpacks/quarry-moss/addpack.json").exists());
    assert!(club.read("start.conf").contains("door.name=Slack_Water"));
    let roster = club.read("roster.toml");
    assert!(!roster.contains("chest-locks") && roster.contains("quarry-moss"), "{roster}");
    assert_eq!(club.ok("settle").out, "Nothing to do: the server matches the roster.\n");
    // and that is taken back like any other
    club.ok("undo --yes");
    assert_eq!(differ(&all, &club.tree()), NONE);
    // a setting alone
    club.ok("undo 3 --yes");
    assert!(!club.read("start.conf").contains("Slack_Water") && club.path("plugins/chest-locks.qpl").exists());
    assert_data_eq!(
        club.run("history").out,
        str![[r#"
no.  when (UTC)           command  what changed
1    2026-11-23 12:00:00  adopt    + ferrite 3.4.0, + gull-counter 0.3.0, +
                                   harbour-bell 1.0.0
2    2026-11-23 12:00:00  settle   + chest-locks 2.1.0, + lock-core 1.4.2
3    2026-11-23 12:00:00  tune     tuned start.conf, 1 file
4    2026-11-23 12:00:00  settle   + quarry-moss 1.2.0
5    2026-11-23 12:00:00  undo     took entry 2 back, - chest-locks 2.1.0, -
                                   lock-core 1.4.2
6    2026-11-23 12:00:00  undo     took entry 5 back, + chest-locks 2.1.0, +
                                   lock-core 1.4.2
7    2026-11-23 12:00:00  undo     took entry 3 back, 1 file

"#]]
    );
}

#[test]
fn what_later_entries_stand_on_is_named() {
    let club = Club::adopted();
    club.ok("want lock-core");
    club.ok("settle --yes");
    club.ok("want chest-locks");
    club.ok("settle --yes");
    club.ok("tune start.conf door.name=Slack_Water --yes");
    club.ok("tune start.conf door.name=High_Water --yes");
    let before = club.tree();
    assert_data_eq!(
        club.run("undo 2 --yes").text,
        str![[r#"
$ yalotheca undo 2 --yes
--- stderr
error: entry 2 cannot be taken back alone
  - entry 3: chest-locks needs lock-core, which entry 2 brought
  fix: take those back first, or all together: yalotheca undo 2
       --and-later
--- exit 3

"#]]
    );
    assert_data_eq!(
        club.run("undo 4 --yes").text,
        str![[r#"
$ yalotheca undo 4 --yes
--- stderr
error: entry 4 cannot be taken back alone
  - entry 5: it set door.name of start.conf again
  fix: take those back first, or all together: yalotheca undo 4
       --and-later
--- exit 3

"#]]
    );
    assert_eq!(differ(&before, &club.tree()), NONE);
}

#[test]
fn an_entry_is_shown_with_its_settings() {
    let club = Club::adopted();
    club.ok("want chest-locks quarry-moss");
    club.ok("settle --yes");
    club.ok("tune start.conf door.name=Slack_Water --yes");
    assert_data_eq!(
        club.run("history show 2").text,
        str![[r#"
$ yalotheca history show 2
Entry 2: settle, 2026-11-23 12:00:00 UTC, by mira on workshop
items
item         before  after  why
chest-locks  -       2.1.0  wanted
quarry-moss  -       1.2.0  wanted
lock-core    -       1.4.2  needed by chest-locks
files
  + addpacks/quarry-moss/addpack.json
  + addpacks/quarry-moss/stones/quarry-moss.json
  + plugins/chest-locks.qpl
  + plugins/lock-core.qpl
  + addpacks/order.list
addpacks/order.list
  line 1
  + quarry-moss
roster
  line 15
    gull-counter = { here = "plugins/gull-counter.qpl", sha256 = "81ede6f5a2fa14…
    harbour-bell = "*"
  + chest-locks = "*"
  + quarry-moss = "*"
--- exit 0

"#]]
    );
    assert_data_eq!(
        club.run("history show 3").text,
        str![[r#"
$ yalotheca history show 3
Entry 3: tune, 2026-11-23 12:00:00 UTC, by mira on workshop
  tuned start.conf, 1 file
files
  ~ start.conf
start.conf
  line 4
    
    # what the door says
  - door.name=The Tidewrack Quarry
  + door.name=Slack_Water
roster
  line 17
    chest-locks = "*"
    quarry-moss = "*"
  + 
  + [settings."start.conf"]
  + "door.name" = "Slack_Water"
--- exit 0

"#]]
    );
    assert_data_eq!(
        club.run("history show 9").text,
        str![[r#"
$ yalotheca history show 9
--- stderr
error: the history has no entry 9; it goes from 1 to 3
  fix: see what there is: yalotheca history
--- exit 2

"#]]
    );
    let json = club.run("history show 3 --json").json();
    assert_eq!(json["entry"]["act"]["tune"][0], "start.conf", "{json}");
}

#[test]
fn what_is_old_is_forgotten_when_asked() {
    let club = Club::settled("chest-locks");
    assert_eq!(club.run("history prune").code, 0);
    club.ok("drop chest-locks");
    club.ok("settle --yes");
    club.ok("want quarry-moss");
    let mut later = club.command("settle --yes");
    later.env("YALOTHECA_NOW", "2027-03-01T12:00:00Z");
    assert!(later.status().unwrap().success());
    let prune = |words: &str| {
        let mut command = club.command(words);
        command.env("YALOTHECA_NOW", "2027-03-02T12:00:00Z");
        club.ran(words, command)
    };
    let before = club::tree(&club.path(".yalotheca"));
    assert_data_eq!(
        prune("history prune --dry-run").text,
        str![[r#"
$ yalotheca history prune --dry-run
  - entry 1 of 2026-11-23: + ferrite 3.4.0, + gull-counter 0.3.0, + harbour-bell 1.0.0
  - entry 2 of 2026-11-23: + chest-locks 2.1.0, + lock-core 1.4.2
  - entry 3 of 2026-11-23: - chest-locks 2.1.0, - lock-core 1.4.2
7 files with 11.7 KB would go; 11.6 KB would stay.
--- exit 1

"#]]
    );
    assert_eq!(prune("history prune").code, 6, "nobody is there to be asked");
    assert_eq!(differ(&before, &club::tree(&club.path(".yalotheca"))), NONE);
    assert_eq!(prune("history prune --yes").code, 0);
    assert_data_eq!(
        club.run("history").out,
        str![[r#"
no.  when (UTC)           command  what changed
4    2027-03-01 12:00:00  settle   + quarry-moss 1.2.0

"#]]
    );
    assert_data_eq!(
        club.run("undo 2").err,
        str![[r#"
error: there is nothing to undo: entry 2 was pruned; the history goes
       from 4 to 4

"#]]
    );
    // what stays can still be taken back, and the server is as it was
    club.ok("undo --yes");
    assert!(!club.path("addpacks/quarry-moss").exists());
    assert_eq!(club.run("settle").code, 0);
    // a size too
    let roster = club.read("roster.toml") + "\n[limits]\nquarantine-mb = 0\n";
    club.write("roster.toml", roster);
    let found = club.run("check --json").json();
    assert!(found["findings"].as_array().unwrap().iter().any(|f| f["code"] == "quarantine-full"), "{found}");
    club.ok("history prune --yes");
    assert_eq!(club.run("history --json").json()["entries"].as_array().unwrap().len(), 1, "the newest stays");
}

#[test]
fn a_plan_that_cannot_be_read_stops_everything() {
    let club = Club::settled("chest-locks");
    club.write(".yalotheca/plans/000003.json", "{\"format\":1,\"number\":3,\"ste");
    let before = club.tree();
    assert_data_eq!(
        club.run("settle --yes").text,
        str![[r#"
$ yalotheca settle --yes
--- stderr
error: the ledger's file is damaged: plans/000003.json: EOF while parsing
       a string at line 1 column 27; what it moved lies in quarantine/
       and staging/ beside it; put that back, then take the plan away
  fix: do not start the server before that; if in doubt, keep .yalotheca
       as it is and ask for help
--- exit 5

"#]]
    );
    assert_eq!(differ(&before, &club.tree()), NONE);
}

#[test]
fn a_file_that_a_program_holds_is_left_alone() {
    let club = Club::settled("chest-locks");
    let held = std::fs::File::open(club.path("plugins/chest-locks.qpl")).unwrap();
    held.lock().unwrap();
    club.ok("drop chest-locks");
    let before = club.tree();
    assert_data_eq!(
        club.run("settle --yes").err,
        str![[r#"
error: `plugins/chest-locks.qpl` is in use by a program, so it is left
       alone; stop the server, then run the same command again

"#]]
    );
    assert_eq!(differ(&before, &club.tree()), NONE);
    drop(held);
    club.ok("settle --yes");
}

#[test]
fn what_nobody_writes_into_gets_a_second_name_instead_of_a_copy() {
    use std::os::unix::fs::MetadataExt as _;
    let club = Club::settled("chest-locks quarry-moss");
    let before = club.tree();
    club.ok("undo --yes");
    club.ok("undo --yes");
    assert_eq!(differ(&before, &club.tree()), NONE);
    let names = |path: &str| std::fs::metadata(club.path(path)).unwrap().nlink();
    assert_eq!(names("addpacks/quarry-moss/addpack.json"), 2, "the family says that data packs are only read");
    assert_eq!(names("plugins/chest-locks.qpl"), 1, "and says no such thing of plugins");
    // a second round, and what is dropped is still there to come back
    club.ok("drop quarry-moss");
    club.ok("settle --yes");
    club.ok("undo --yes");
    assert_eq!(differ(&before, &club.tree()), NONE);
}
