//! Gridlock Bay: parcels in stages and in order, and the assets that only one may have.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)] // a test may stop where it fails

mod club;

use std::fs;

use club::{Club, differ};
use yalotheca_standin::club::parcel;

fn codes(club: &Club) -> Vec<String> {
    let found = club.run("check --json").json();
    found["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn parcels_open_in_stages_and_in_order() {
    let club = Club::of("gridlock");
    let twin = Club::of("gridlock");
    club.ok("adopt --catalogue HOST --quiet");
    let ran = club.ok("want neon-row tram-loop");
    assert!(ran.text.contains("needed by neon-row") && ran.text.contains("needed by pier-seven"), "{}", ran.text);
    assert!(ran.text.contains("neon-row: neon-row names.txt"), "{}", ran.text);
    club.ok("settle --yes");
    assert_eq!(
        club.read("opening.yaml"),
        "# what opens when; order matters\nstages:\n  - name: ground\n    parcels: [quay-ground]\n  - name: streets   # the \
         city itself\n    parcels:\n      - town-hall\n      - pier-seven\n      - tram-loop\n  - name: signs\n    \
         parcels: [neon-row]\n"
    );
    let log = club.visit();
    assert!(log.contains("parcel neon-row loaded in signs, 30 assets") && log.ends_with("in: 5 parcels\n"), "{log}");
    assert_eq!(club.run("check").code, 0, "{}", club.run("check").text);
    assert_eq!(club.ok("trial").code, 0);
    assert_eq!(twin.visit().lines().last(), Some("in: 1 parcels"));
    // a newer one has more assets; a hand change stays and is told
    club.ok("want pier-seven@=1.0 --quiet");
    club.ok("settle --yes --quiet");
    club.write("parcels/pier-seven/mesh/pise-001.gbm", "mine, and longer than it was before");
    assert_eq!(codes(&club), ["changed-by-hand"]);
    let ran = club.run("want pier-seven@=1.1 --quiet");
    assert!(ran.code == 0 || ran.code == 6, "{}", ran.text);
    club.ok("settle --yes --quiet --put-back parcels/pier-seven/mesh/pise-001.gbm");
    // and all of it back
    club.ok("drop neon-row tram-loop pier-seven --quiet");
    club.ok("settle --yes --quiet");
    let mut left = club.tree();
    left.remove("roster.toml");
    left.retain(|path, _| path != "gridlock.log");
    assert_eq!(differ(&twin.tree(), &left), Vec::<String>::new());
}

#[test]
fn an_asset_is_had_by_one_parcel_only() {
    let club = Club::of("gridlock");
    club.ok("adopt --catalogue HOST --quiet");
    club.ok("want tram-loop --quiet");
    club.ok("settle --yes --quiet");
    let ran = club.run("want old-market");
    let text = ran.text.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(
        text.contains("name-twice the asset `lamp-a` is in parcels/old-market/parcel.toml too: it flickers"),
        "{}",
        ran.text
    );
    club.ok("settle --yes --quiet");
    assert_eq!(codes(&club), ["name-twice"]);
    assert!(
        club.visit().ends_with("not in: asset lamp-a of old-market flickers with that of tram-loop\n"),
        "{}",
        club.visit()
    );
    club.ok("drop old-market --quiet");
    club.ok("settle --yes --quiet");
    assert_eq!(codes(&club), Vec::<String>::new());
    // one put there by hand is looked at too, however many names it has
    for (path, bytes) in parcel("huge-block", "streets", &[], 10_000, &["lamp-a"]) {
        club.write(&format!("parcels/huge-block/{path}"), bytes);
    }
    assert_eq!(codes(&club), ["name-twice", "unknown-file"]);
}

#[test]
fn a_stage_that_names_what_is_not_there() {
    let club = Club::of("gridlock");
    club.ok("adopt --catalogue HOST --quiet");
    let list = club.read("opening.yaml");
    club.write("opening.yaml", list.replace("- town-hall", "- town-hall\n      - town-hal"));
    let text = club.run("check").text.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(text.contains("opening.yaml:8 dangling-reference"), "{text}");
    assert!(
        text.contains("names `town-hal`, and parcels/town-hal/parcel.toml is not there, did you mean `town-hall`?"),
        "{text}"
    );
    // a group that has no stage
    club.write("opening.yaml", list.replace("name: streets", "name: street"));
    let before = club.tree();
    let ran = club.run("want tram-loop");
    let text = ran.text.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(ran.code != 0 && text.contains("opening.yaml") && text.contains("streets"), "{}", ran.text);
    assert_eq!(differ(&before, &club.tree()), Vec::<String>::new());
    fs::remove_file(club.path("opening.yaml")).unwrap();
    let ran = club.run("want tram-loop");
    assert!(ran.code != 0 && ran.text.contains("opening.yaml"), "{}", ran.text);
}
