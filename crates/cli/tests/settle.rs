//! `settle`: from roster to server, and never over what was changed by hand.

mod club;

use std::fs;

use club::{Club, differ};
use snapbox::{assert_data_eq, str};

#[test]
fn three_plugins_of_which_two_share_a_need() {
    let club = Club::adopted();
    club.ok("want chest-locks pier-lights tide-biome");
    let before = club.tree();
    assert_data_eq!(
        club.run("settle --dry-run").text,
        str![[r#"
$ yalotheca settle --dry-run
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
--- exit 1

"#]]
    );
    assert_data_eq!(
        club.run("settle").text,
        str![[r#"
$ yalotheca settle
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

--- stderr
Nothing was changed: nobody is there to be asked.
  fix: to make these changes, add --yes
--- exit 6

"#]]
    );
    assert_eq!(before, club.tree(), "neither a dry run nor an unanswered question changes anything");
    assert_eq!(club.run("settle --yes").code, 0);
    let added = differ(&before, &club.tree());
    assert_eq!(
        added,
        ["plugins/chest-locks.qpl", "plugins/lock-core.qpl", "plugins/pier-lights.qpl", "plugins/tide-biome.qpl"]
    );
    let settled = club.tree();
    assert_data_eq!(
        club.run("settle --yes").text,
        str![[r#"
$ yalotheca settle --yes
Nothing to do: the server matches the roster.
--- exit 0

"#]]
    );
    assert_eq!(settled, club.tree());
}

#[test]
fn a_shared_library_goes_with_its_last_owner() {
    let club = Club::settled("deep-winch rope-ladders");
    assert!(club.path("plugins/lib/ropes.qlib").exists());
    club.ok("drop deep-winch");
    club.ok("settle --yes");
    assert!(club.path("plugins/lib/ropes.qlib").exists());
    club.ok("drop rope-ladders");
    assert_data_eq!(
        club.run("settle --yes").text,
        str![[r#"
$ yalotheca settle --yes
items
  - rope-ladders  1.1.0  plugin  no longer wanted or needed
files
  - plugins/lib/ropes.qlib  goes to quarantine
  - plugins/rope-ladders.qpl  goes to quarantine

Done: 1 item and 2 files changed (settle, history entry 4).
--- stderr
To take it back: yalotheca undo. To see whether it starts: yalotheca trial
--- exit 0

"#]]
    );
    assert!(!club.path("plugins/lib").exists(), "and the folder that was made for it");
}

#[test]
fn a_file_changed_by_hand_is_kept_and_told() {
    let club = Club::settled("chest-locks@=2.0.0");
    club.write("plugins/chest-locks.qpl", "mine");
    assert_data_eq!(
        club.run("settle --yes").text,
        str![[r#"
$ yalotheca settle --yes
Nothing to do: the server matches the roster.

warning  plugins/chest-locks.qpl  changed-by-hand
    it was changed by hand since it was placed: kept
    fix: to have the item's own file again: yalotheca settle --put-back
         plugins/chest-locks.qpl
--- exit 0

"#]]
    );
    assert_data_eq!(
        club.run("want chest-locks@=2.1.0").text,
        str![[r#"
$ yalotheca want chest-locks@=2.1.0
chest-locks is on the roster: chest-locks = "=2.1.0"

`yalotheca settle` needs your decision first:
error  plugins/chest-locks.qpl  changed-by-hand
    it was changed by hand, and the new version of chest-locks brings
    another
    fix: keep a copy if you need it, then: yalotheca settle --put-back
         plugins/chest-locks.qpl
--- exit 6

"#]]
    );
    let roster = club.read("roster.toml").replace("=2.0.0", "=2.1.0");
    club.write("roster.toml", roster);
    assert_data_eq!(
        club.run("settle --yes").text,
        str![[r#"
$ yalotheca settle --yes
--- stderr
error: this needs your decision first
error  plugins/chest-locks.qpl  changed-by-hand
    it was changed by hand, and the new version of chest-locks brings
    another
    fix: keep a copy if you need it, then: yalotheca settle --put-back
         plugins/chest-locks.qpl
--- exit 6

"#]]
    );
    assert_eq!(club.read("plugins/chest-locks.qpl"), "mine");
    club.ok("settle --yes --put-back plugins/chest-locks.qpl");
    assert_ne!(fs::read(club.path("plugins/chest-locks.qpl")).unwrap(), b"mine");
    club.ok("undo --yes");
    assert_eq!(club.read("plugins/chest-locks.qpl"), "mine", "nothing is deleted");
}

#[test]
fn a_setting_changed_by_hand_is_kept_and_told() {
    let club = Club::empty();
    club.ok("adopt --family quarrywake --catalogue HOST");
    club.ok("want ferrite@^3");
    club.ok("settle --yes");
    let conf = club.read("start.conf");
    assert_eq!(conf, "core.file=ferrite.qcore\nruntime=17\n");
    club.write("start.conf", "# by hand\ncore.file=ferrite.qcore\nruntime=21\n");
    assert_data_eq!(
        club.run("settle --yes").text,
        str![[r#"
$ yalotheca settle --yes
Nothing to do: the server matches the roster.

warning  start.conf:3  changed-by-hand
    the family file wants `runtime` to be `17`, and it was set by hand to
    `21`: kept
    fix: to set it again: yalotheca settle --put-back start.conf
--- exit 0

"#]]
    );
    assert_data_eq!(
        club.run("check").text,
        str![[r#"
$ yalotheca check
error  start.conf  terms-not-accepted
    the terms number 7 are not accepted (none were accepted so far), and the
    server will not start
    fix: read terms.txt (the first yalotheca trial brings it), then:
         yalotheca trial --accept-terms 7
warning  start.conf:3  changed-by-hand
    the family file wants `runtime` to be `17`, and it was set by hand to
    `21`: kept
    fix: to set it again: yalotheca settle --put-back start.conf

1 error and 1 warning.
--- exit 1

"#]]
    );
    club.ok("settle --yes --put-back start.conf");
    assert_eq!(club.read("start.conf"), "# by hand\ncore.file=ferrite.qcore\nruntime=17\n");
}

#[test]
fn a_list_edited_by_hand_keeps_its_lines() {
    let club = Club::settled("quarry-moss");
    let list = format!("# first ours\nmine-too\n{}\n# end\n", club.read("addpacks/order.list").trim_end());
    club.write("addpacks/order.list", &list);
    club.ok("want slate-nights");
    club.ok("settle --yes");
    assert_eq!(club.read("addpacks/order.list"), "# first ours\nmine-too\nquarry-moss\nslate-nights\n# end\n");
    club.ok("drop quarry-moss slate-nights");
    club.ok("settle --yes");
    assert_eq!(club.read("addpacks/order.list"), "# first ours\nmine-too\n# end\n");
}

#[test]
fn a_file_that_stood_there_comes_back() {
    let club = Club::adopted();
    club.write("plugins/tide-biome.qpl", "an old hand-made one");
    club.ok("want tide-biome");
    assert_data_eq!(
        club.run("settle --yes").text,
        str![[r#"
$ yalotheca settle --yes
items
  + tide-biome  1.4.0  plugin  wanted
files
  ~ plugins/tide-biome.qpl  324 B  instead of a file that stands there;
      that one comes back when this goes

Done: 1 item and 1 file changed (settle, history entry 2).
--- stderr
To take it back: yalotheca undo. To see whether it starts: yalotheca trial
--- exit 0

"#]]
    );
    club.ok("drop tide-biome");
    club.ok("settle --yes");
    assert_eq!(club.read("plugins/tide-biome.qpl"), "an old hand-made one");
}

#[test]
fn two_items_that_bring_the_same_file_are_refused() {
    let club = Club::adopted();
    let zip = |id: &str, rope: &str| {
        let real = yalotheca_standin::club::plugin(id, "1.0.0", "^1.8", &[], "");
        yalotheca_standin::club::pack(&[(&format!("{id}.qpl"), &real), ("lib/rope.qlib", rope.as_bytes())])
    };
    fs::write(club.path("../a.zip"), zip("a-net", "hemp")).unwrap();
    fs::write(club.path("../b.zip"), zip("b-net", "wire")).unwrap();
    club.ok("want ../a.zip");
    assert_data_eq!(
        club.run("want ../b.zip").text,
        str![[r#"
$ yalotheca want ../b.zip
--- stderr
error: this cannot be done as it stands
error  plugins/lib/rope.qlib  two-owners
    a-net and b-net bring different files for the same place
    fix: drop one of them: yalotheca drop b-net
--- exit 3

"#]]
    );
}

#[test]
fn a_version_of_several_files_is_one_download() {
    let club = Club::adopted();
    let mut items = yalotheca_standin::club::items();
    let winch = items.iter_mut().find(|i| i.id == "deep-winch").unwrap();
    let real = yalotheca_standin::club::plugin("deep-winch", "2.2.1", "^1.8", &[], "libraries: [ropes.qlib]\n");
    winch.releases[0].file = "deep-winch.qpl".to_owned();
    winch.releases[0].bytes = real.clone();
    winch.releases[0].more = vec![
        ("lib/ropes.qlib".to_owned(), b"ropes, by themselves".to_vec()),
        ("howto.txt".to_owned(), b"pull".to_vec()),
    ];
    club.host.replace(yalotheca_standin::catalogue::write("Tidewrack Club", "quarrywake", 14, &items));
    assert_data_eq!(
        club.run("want deep-winch").text,
        str![[r#"
$ yalotheca want deep-winch
deep-winch is on the roster: deep-winch = "*"

`yalotheca settle` would do this:
items
  + deep-winch  2.2.1  plugin  wanted
files
  + plugins/deep-winch.qpl  346 B
  + plugins/lib/ropes.qlib  20 B
left out of the downloads
    deep-winch: howto.txt
--- exit 0

"#]]
    );
    club.ok("settle --yes");
    assert_eq!(fs::read(club.path("plugins/deep-winch.qpl")).unwrap(), real);
    assert_eq!(club.read("plugins/lib/ropes.qlib"), "ropes, by themselves");
    assert_eq!(club.ok("settle").out, "Nothing to do: the server matches the roster.\n");
    // put back from the catalogue when both server and store have lost it
    fs::remove_dir_all(club.home().join("store")).unwrap();
    fs::remove_file(club.path("plugins/lib/ropes.qlib")).unwrap();
    club.ok("settle --yes");
    assert_eq!(club.read("plugins/lib/ropes.qlib"), "ropes, by themselves");
}

#[test]
fn what_provides_or_replaces_an_item_stands_in_for_it() {
    let club = Club::adopted();
    club.run("trial --accept-terms 7");
    assert_data_eq!(
        club.run("want shaft-lift hoist-gate").text,
        str![[r#"
$ yalotheca want shaft-lift hoist-gate
shaft-lift is on the roster: shaft-lift = "*"
hoist-gate is on the roster: hoist-gate = "*"

`yalotheca settle` would do this:
items
  + shaft-lift  1.0.0  plugin  wanted
  + hoist-gate  1.3.0  plugin  wanted
  + deep-winch  2.2.1  plugin  stands in for what is needed
files
  + plugins/deep-winch.qpl  372 B
  + plugins/hoist-gate.qpl  345 B
  + plugins/lib/ropes.qlib  29 B
  + plugins/shaft-lift.qpl  345 B
left out of the downloads
    deep-winch: README.txt
--- exit 0

"#]]
    );
    club.ok("settle --yes");
    let ran = club.run("trial --quiet");
    assert_eq!(ran.code, 0, "{}", ran.text);
    assert_data_eq!(
        club.run("want old-winch").text,
        str![[r#"
$ yalotheca want old-winch
--- stderr
error: no set of versions fits
  - you want old-winch
  - roster line 17 wants shaft-lift
  - shaft-lift 1.0.0 needs winch-works ^2
  - deep-winch 2.2.1 cannot stand beside old-winch
  what would help:
    1. do without `old-winch`
    2. drop `shaft-lift`
  fix: run the same command again with --take 1, or the number of another
--- exit 3

"#]]
    );
}

#[test]
fn a_need_that_nobody_offers_is_told() {
    let club = Club::adopted();
    let lone = yalotheca_standin::club::plugin("lone-buoy", "1.0.0", "^1.8", &[("fog-horn", "^2")], "");
    fs::write(club.path("../lone-buoy.qpl"), lone).unwrap();
    assert_data_eq!(
        club.run("want ../lone-buoy.qpl").text,
        str![[r#"
$ yalotheca want ../lone-buoy.qpl
--- stderr
error: no set of versions fits
  - you want lone-buoy
  - lone-buoy 1.0.0 needs fog-horn ^2, which no catalogue offers
  what would help:
    1. do without `lone-buoy`
  fix: check the spelling of `fog-horn`, or add a catalogue that offers
       it; or run the same command again with --take 1
--- exit 3

"#]]
    );
}

#[test]
fn what_the_archive_needs_and_the_catalogue_did_not_say_is_learnt() {
    let club = Club::adopted();
    let mut items = yalotheca_standin::club::items();
    let lights = items.iter_mut().find(|i| i.id == "pier-lights").unwrap();
    lights.releases[1].facts["needs"] = serde_json::json!([]);
    club.host.replace(yalotheca_standin::catalogue::write("Tidewrack Club", "quarrywake", 13, &items));
    assert_data_eq!(
        club.run("want pier-lights").text,
        str![[r#"
$ yalotheca want pier-lights
pier-lights is on the roster: pier-lights = "*"

`yalotheca settle` would do this:
items
  + pier-lights  1.2.0  plugin  wanted
  + lock-core    1.3.0  plugin  needed by pier-lights
files
  + plugins/lock-core.qpl    319 B
  + plugins/pier-lights.qpl  372 B
--- exit 0

"#]]
    );
}

#[test]
fn a_swap_of_the_core_changes_what_fits() {
    let club = Club::settled("chest-locks tide-biome");
    let roster = club.read("roster.toml").replace("ferrite = \"*\"", "ferrite = \"^4\"");
    club.write("roster.toml", roster);
    // runtime 17 is too old for it
    assert_data_eq!(
        club.run("settle --dry-run").text,
        str![[r#"
$ yalotheca settle --dry-run
--- stderr
error: no set of versions fits
  - roster line 14 wants ferrite ^4
  - ferrite 4.0.0 needs runtime 21, this server has 17
  what would help:
    1. take `ferrite` 3.4.0 instead of ^4
  fix: run the same command again with --take 1, or the number of another
--- exit 3

"#]]
    );
    club.write("start.conf", club.read("start.conf").replace("runtime=17", "runtime=21"));
    assert_data_eq!(
        club.run("settle --dry-run").text,
        str![[r#"
$ yalotheca settle --dry-run
items
  ~ ferrite  3.4.0 → 4.0.0  core  wanted
files
  ~ core/ferrite.qcore  321 B
--- exit 1

"#]]
    );
}
