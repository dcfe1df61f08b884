//! From a test server to the live one: exactly its versions, its order, what was tuned there.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)] // a test may stop where it fails

mod club;

use std::fs;
use std::path::Path;

use club::Club;
use yalotheca_standin::club::lay_quarrywake;

/// Runs a command in a second server folder of the same club.
fn there(club: &Club, folder: &Path, words: &str) -> club::Ran {
    let mut command = club.command(words);
    command.current_dir(folder);
    let ran = club.ran(words, command);
    assert_eq!(ran.code, 0, "{}", ran.text);
    ran
}

fn versions(club: &Club, folder: &Path) -> Vec<(String, String)> {
    let object = there(club, folder, "adopt --dry-run --roster elsewhere.toml --json").json();
    let item =
        |i: &serde_json::Value| (i["item"].as_str().unwrap().to_owned(), i["version"].as_str().unwrap().to_owned());
    object["items"].as_array().unwrap().iter().map(item).collect()
}

#[test]
fn a_live_server_becomes_like_the_test_server() {
    let club = Club::adopted();
    let test = club.dir.path().join("test");
    fs::create_dir_all(&test).unwrap();
    lay_quarrywake(&test).unwrap();
    there(&club, &test, "adopt --catalogue HOST --quiet");
    // the test server has an older lock-core, an order of packs, something tuned, and a file of its own
    fs::write(test.join("net-mender.qpl"), yalotheca_standin::club::plugin("net-mender", "0.1", "^1.8", &[], ""))
        .unwrap();
    there(&club, &test, "want chest-locks@=2.0.0 lock-core@=1.3.0 quarry-moss slate-nights ./net-mender.qpl --quiet");
    there(&club, &test, "settle --yes --quiet");
    there(&club, &test, "tune start.conf door.name=Salt --yes --quiet");
    // the live one has things of its own
    club.write("roster.toml", format!("# ours, live\n{}", club.read("roster.toml")));
    club.ok("want chest-locks deep-winch --quiet");
    club.ok("settle --yes --quiet");
    let comment = club.read("roster.toml");
    let before = club.tree();
    let ran = club.run("settle --like ../test/roster.toml --dry-run");
    assert_eq!(ran.code, 1, "{}", ran.text);
    assert!(ran.text.contains("~ chest-locks") && ran.text.contains("- deep-winch"), "{}", ran.text);
    assert_eq!(before, club.tree());
    club.ok("settle --like ../test/roster.toml --yes");
    assert_eq!(versions(&club, &club.server()), versions(&club, &test));
    assert_eq!(club.read("addpacks/order.list"), fs::read_to_string(test.join("addpacks/order.list")).unwrap());
    assert!(club.read("start.conf").contains("door.name=Salt"));
    let roster = club.read("roster.toml");
    assert!(roster.starts_with("# ours, live\n") && roster.contains("file = \"../test/net-mender.qpl\""), "{roster}");
    assert_eq!(club.run("settle --dry-run").code, 0, "{}", club.run("settle --dry-run").text);
    // and back again
    club.ok("undo --yes --quiet");
    assert_eq!(club.read("roster.toml"), comment);
    // the ledger alone is enough
    let mut heads: Vec<_> = fs::read_dir(test.join(".yalotheca/heads")).unwrap().map(|e| e.unwrap().path()).collect();
    heads.sort();
    club.ok(&format!("settle --yes --like {}", heads.pop().unwrap().display()));
    assert_eq!(versions(&club, &club.server()), versions(&club, &test));
    assert!(club.read("start.conf").contains("door.name=Salt"));
}

#[test]
fn what_is_no_model_is_refused() {
    let club = Club::adopted();
    let before = club.tree();
    for (other, words) in [("../nowhere.toml", "cannot be read"), ("start.conf", "error")] {
        let ran = club.run(&format!("settle --like {other}"));
        assert!(ran.code != 0 && ran.text.contains(words), "{}", ran.text);
    }
    let arena = club.dir.path().join("arena");
    fs::create_dir_all(&arena).unwrap();
    yalotheca_standin::club::lay("capstan", &arena).unwrap();
    there(&club, &arena, "adopt --quiet");
    let ran = club.run("settle --like ../arena/roster.toml");
    assert!(ran.code == 2 && ran.text.contains("of one family"), "{}", ran.text);
    assert_eq!(before, club.tree());
}
