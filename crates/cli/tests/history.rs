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
3    2026-11-23 12:00:00  undo     back to before entry 2, - deep-winch 2.2.1,
                                   - quarry-moss 1.2.0, - rope-ladders 1.1.0,
                                   - slate-nights 1.0.0
4    2026-11-23 12:00:00  undo     back to before entry 3, + deep-winch 2.2.1,
                                   + quarry-moss 1.2.0, + rope-ladders 1.1.0,
                                   + slate-nights 1.0.0
--- stderr

Back to before the last entry: yalotheca undo; before another: with its number
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
    club.ok("undo 2 --yes");
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
