//! `adopt`: recognises the family, reads the server, lists what is on it, writes roster and ledger.

mod club;

use club::Club;
use snapbox::{assert_data_eq, str};

#[test]
fn a_server_run_by_hand_is_taken_under_care() {
    let club = Club::new();
    let before = club.tree();
    assert_data_eq!(
        club.run("adopt --catalogue HOST").text,
        str![[r#"
$ yalotheca adopt --catalogue HOST
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
--- stderr

Wrote roster.toml. Next: yalotheca want ITEM, then yalotheca settle
--- exit 0

"#]]
    );
    assert_data_eq!(
        club.read("roster.toml").replace(club.host.address(), "http://HOST/"),
        str![[r##"
# What you want on this server (Quarrywake). Edit it by hand, or with `yalotheca want` and
# `yalotheca drop`; comments and order are kept. `yalotheca settle` makes the server match it.
format = 1

# Where items are looked for, first one first: addresses or folders.
catalogues = ["http://HOST/"]

[server]
family = "quarrywake"
at = "."    # the server's folder, from here, or a rented host

# One line an item: the versions it may have ("*" any, "^2" 2 and up but below 3, "=2.1.0").
[items]
ferrite = "*"
gull-counter = { here = "plugins/gull-counter.qpl", sha256 = "81ede6f5a2fa14b4dae52dfa478d3121ed48e8a12d15e30b974a5429bcb0138d" }
harbour-bell = "*"

"##]]
    );
    let mut after = club.tree();
    after.remove("roster.toml");
    assert_eq!(before, after, "adopting changes nothing on the server");
    assert_data_eq!(
        club.run("settle --dry-run").text,
        str![[r#"
$ yalotheca settle --dry-run
Nothing to do: the server matches the roster.
--- exit 0

"#]]
    );
}

#[test]
fn a_dry_run_only_looks() {
    let club = Club::new();
    let before = club.tree();
    assert!(club.ok("adopt --dry-run").out.contains("gull-counter"));
    assert_eq!(before, club.tree());
    assert!(!club.path(".yalotheca").exists());
}

#[test]
fn nothing_is_guessed_about_a_strange_folder() {
    let club = Club::empty();
    assert_data_eq!(
        club.run("adopt").text,
        str![[r#"
$ yalotheca adopt
--- stderr
error: no family was recognised in `.`
  fix: check that this is the server's own folder, or say what it is:
       yalotheca adopt --family NAME
--- exit 2

"#]]
    );
    club.write("start.conf", "core.file=x.qcore\n");
    assert_data_eq!(
        club.run("adopt").text,
        str![[r#"
$ yalotheca adopt
--- stderr
error: no family was recognised in `.`
  - it could be quarrywake (70 of the 100 that make it certain)
  fix: check that this is the server's own folder, or say what it is:
       yalotheca adopt --family NAME
--- exit 2

"#]]
    );
    assert_data_eq!(
        club.run("adopt --family quarywake").text,
        str![[r#"
$ yalotheca adopt --family quarywake
--- stderr
error: no family is called `quarywake`, did you mean `quarrywake`?
--- exit 2

"#]]
    );
    assert_data_eq!(
        club.run("adopt nowhere --family quarrywake").text,
        str![[r#"
$ yalotheca adopt nowhere --family quarrywake
--- stderr
error: there is no folder `nowhere`
  fix: check the path (on a roster: `at` under [server]), or make the
       folder
--- exit 2

"#]]
    );
    assert!(!club.path("roster.toml").exists());
}

#[test]
fn a_second_adopt_is_refused() {
    let club = Club::adopted();
    assert_data_eq!(
        club.run("adopt").text,
        str![[r#"
$ yalotheca adopt
--- stderr
error: `roster.toml` stands here already, so this server is under care
  fix: use it as it is, or move it away to adopt the server anew
--- exit 2

"#]]
    );
}

#[test]
fn a_lost_roster_is_brought_back_from_the_server() {
    let club = Club::settled("chest-locks");
    let roster = club.read("roster.toml");
    std::fs::remove_file(club.path("roster.toml")).unwrap();
    assert_data_eq!(
        club.run("adopt").text,
        str![[r#"
$ yalotheca adopt
This server is under care already: its roster is as it was settled last.
Taken as a Quarrywake server.
  core          ferrite
  core release  3.4.0
  game version  1.8.2
  runtime       17

item          version  kind    known by   file
chest-locks   2.1.0    plugin  catalogue  plugins/chest-locks.qpl
ferrite       3.4.0    core    catalogue  core/ferrite.qcore
gull-counter  0.3.0    plugin  manifest   plugins/gull-counter.qpl
harbour-bell  1.0.0    plugin  catalogue  plugins/harbour-bell.qpl
lock-core     1.4.2    plugin  catalogue  plugins/lock-core.qpl
--- stderr

Wrote roster.toml. Next: yalotheca want ITEM, then yalotheca settle
--- exit 0

"#]]
    );
    assert_eq!(club.read("roster.toml"), roster);
    assert_eq!(club.ok("settle").out, "Nothing to do: the server matches the roster.\n");
}

#[test]
fn without_catalogues_manifests_tell() {
    let club = Club::new();
    club.write("plugins/half.qpl", &b"PK\x03\x04 cut"[..]);
    club.write("plugins/renamed.qpl", yalotheca_standin::club::plugin("true-name", "1.0.0", "^1.8", &[], ""));
    assert_data_eq!(
        club.run("adopt --catalogue http://127.0.0.1:9/").text,
        str![[r#"
$ yalotheca adopt --catalogue http://127.0.0.1:9/
This is a Quarrywake server.
  core          ferrite
  core release  3.4.0
  game version  1.8.2
  runtime       17

item          version  kind    known by  file
ferrite       3.4.0    core    manifest  core/ferrite.qcore
gull-counter  0.3.0    plugin  manifest  plugins/gull-counter.qpl
harbour-bell  1.0.0    plugin  manifest  plugins/harbour-bell.qpl

3 other files left alone:
  plugins/half.qpl: half.qpl: the archive is broken or cut short: invalid Zip archive: Could not find EOCD; fetch it again, or ask its author
  plugins/notes from Ada.txt: nobody knows this file
  plugins/renamed.qpl: it calls itself true-name, so its file should be `plugins/true-name.qpl`; rename it, then `yalotheca want` it
--- stderr
warning: the catalogues could not be asked:
  http://127.0.0.1:9/catalogue.json does not answer: Connection refused (os
  error 111)

Wrote roster.toml. Next: yalotheca want ITEM, then yalotheca settle
--- exit 0

"#]]
    );
}

#[test]
fn an_adopted_list_keeps_its_order_and_its_strangers() {
    let club = Club::new();
    for id in ["zinc-dust", "alder-bark"] {
        club.write(
            &format!("addpacks/{id}/addpack.json"),
            format!("{{\"id\": \"{id}\", \"release\": \"1.0.0\", \"game\": \"^1.8\"}}"),
        );
    }
    let list = "# read in this order\nzinc-dust\nsomebody-elses # keep\nalder-bark\n";
    club.write("addpacks/order.list", list);
    club.ok("adopt --catalogue HOST");
    assert_eq!(club.ok("settle").out, "Nothing to do: the server matches the roster.\n");
    assert_eq!(club.read("addpacks/order.list"), list);
    let before = club.tree();
    club.ok("drop zinc-dust");
    club.ok("settle --yes");
    assert_eq!(club.read("addpacks/order.list"), "# read in this order\nsomebody-elses # keep\nalder-bark\n");
    assert!(!club.path("addpacks/zinc-dust/addpack.json").exists());
    club.ok("undo --yes");
    let mut after = club.tree();
    after.insert("roster.toml".to_owned(), before["roster.toml"].clone());
    assert_eq!(club::differ(&before, &after), Vec::<String>::new());
}

#[test]
fn from_an_empty_folder_to_a_clean_start() {
    let club = Club::empty();
    club.ok("adopt --family quarrywake --catalogue HOST");
    assert_data_eq!(
        club.run("check").text,
        str![[r#"
$ yalotheca check
error  no-core
    no core was found on the server, so it cannot start and nothing can be
    fitted to it
    fix: put a core on the roster (yalotheca find core), or upload one
         and name it in the settings

1 error.
--- exit 1

"#]]
    );
    // plugins that fit the core which is only about to come
    club.ok("want ferrite@^3 chest-locks deep-winch rope-ladders quarry-moss");
    assert_data_eq!(
        club.run("settle --yes").text,
        str![[r#"
$ yalotheca settle --yes
items
  + ferrite       3.4.0  core       wanted
  + chest-locks   2.1.0  plugin     wanted
  + deep-winch    2.2.1  plugin     wanted
  + rope-ladders  1.1.0  plugin     wanted
  + quarry-moss   1.2.0  data pack  wanted
  + lock-core     1.4.2  plugin     needed by chest-locks
files
  + addpacks/quarry-moss/addpack.json             85 B
  + addpacks/quarry-moss/stones/quarry-moss.json  18 B
  + core/ferrite.qcore                            321 B
  + plugins/chest-locks.qpl                       345 B
  + plugins/deep-winch.qpl                        372 B
  + plugins/lib/ropes.qlib                        29 B  shared by
      deep-winch and rope-ladders
  + plugins/lock-core.qpl                         319 B
  + plugins/rope-ladders.qpl                      349 B
settings
  + addpacks/order.list  + quarry-moss
  + start.conf  core.file: (nothing) → `ferrite.qcore`
  + start.conf  runtime: (nothing) → `17`
left out of the downloads
    deep-winch: README.txt
    rope-ladders: README.txt

Done: 6 items, 8 files and 2 settings files changed (settle, history entry 2).
--- stderr
To take it back: yalotheca undo. To see whether it starts: yalotheca trial
--- exit 0

"#]]
    );
    assert_eq!(club.run("trial").code, 6);
    assert_data_eq!(
        club.run("trial --accept-terms 7").text,
        str![[r#"
$ yalotheca trial --accept-terms 7
item          verdict  why
ferrite       loaded
deep-winch    loaded
lock-core     loaded
chest-locks   loaded
rope-ladders  loaded
quarry-moss   loaded

Clean: the server came up and nothing failed.
--- stderr
Accepted the terms number 7 (history entry 3).
  | core ferrite 3.4.0 for game 1.8.2
  | plugin deep-winch 2.2.1 loaded
  | first start: wrote settings/deep-winch.yaml
  | plugin lock-core 1.4.2 loaded
  | first start: wrote settings/lock-core.yaml
  | plugin chest-locks 2.1.0 loaded
  | first start: wrote settings/chest-locks.yaml
  | plugin rope-ladders 1.1.0 loaded
  | first start: wrote settings/rope-ladders.yaml
  | addpack quarry-moss 1.2.0 loaded
  | quarrywake is up
  | quarrywake has stopped
--- exit 0

"#]]
    );
    // and back: nothing is left but what the server itself wrote
    club.ok("drop chest-locks deep-winch rope-ladders quarry-moss ferrite");
    club.ok("settle --yes");
    let left: Vec<String> = club.tree().into_keys().collect();
    assert_data_eq!(
        left.join("\n"),
        str![[r#"
quarrywake
roster.toml
settings/
settings/chest-locks.yaml
settings/deep-winch.yaml
settings/lock-core.yaml
settings/rope-ladders.yaml
start.conf
terms.txt
"#]]
    );
}
