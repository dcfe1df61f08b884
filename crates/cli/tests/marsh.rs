//! Mirelands: a framework and its pieces, settings that appear with the first start, ferries that refer to each other.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)] // a test may stop where it fails

mod club;

use std::fs;

use club::{Club, differ};
use yalotheca_standin::club::piece;

fn codes(club: &Club) -> Vec<String> {
    let found = club.run("check --json").json();
    found["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap().to_owned()).collect()
}

fn flat(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

#[test]
fn pieces_stand_on_their_framework() {
    let club = Club::of("mirelands");
    let twin = Club::of("mirelands");
    club.ok("adopt --catalogue HOST --quiet");
    // a value that waits for a file which only the first start makes
    club.ok("want eel-traps underlay@=2.0 --quiet");
    club.ok("settle --yes --quiet");
    let ran = club.ok("tune underlay/pieces/eel-traps/choices.json depth=5 --later --yes");
    assert!(!club.path("underlay/pieces/eel-traps/choices.json").exists(), "{}", ran.text);
    assert!(club.path("underlay/pieces/reed-pumps/reed-pumps.mlp").is_file());
    assert!(!club.path("setup.sh").exists(), "what nobody needs is left");
    let ran = club.run("trial");
    assert_eq!(ran.code, 0, "{}", ran.text);
    // the file is there now, and is the administrator's; the value reaches it, and nothing else changes in it
    club.ok("settle --yes --quiet");
    assert_eq!(club.read("underlay/pieces/eel-traps/choices.json"), "{\n  \"depth\": 5,\n  \"reeds\": true\n}\n");
    assert!(club.visit().ends_with("in: at quay\n"), "{}", club.visit());
    assert_eq!(codes(&club), Vec::<String>::new());
    // rules are yours once they are there, and a newer frame's are merged into them; what it takes live is told
    club.write("underlay/rules/tides.yaml", club.read("underlay/rules/tides.yaml").replace("low: 1", "low: 2"));
    club.ok("want underlay@=2.1 --quiet");
    let ran = club.ok("settle --yes");
    assert!(ran.text.contains("live") && ran.text.contains("\n      reread tides\n"), "{}", ran.text);
    assert_eq!(club.read("underlay/rules/tides.yaml"), "# how the water moves\nhigh: 5\nlow: 2\n");
    // a comma lost there disables the piece: told before the start does
    club.write("underlay/pieces/eel-traps/choices.json", "{\n  \"depth\": 5\n  \"reeds\": true\n}\n");
    let text = flat(&club.run("check").text);
    assert!(text.contains("eel-traps/choices.json:3") && text.contains("unreadable-settings"), "{text}");
    assert!(club.visit().contains("piece eel-traps not loaded: choices.json is broken"));
    club.write("underlay/pieces/eel-traps/choices.json", "{\n  \"depth\": 5,\n  \"reeds\": true\n}\n");
    // the frame cannot go while pieces stand on it
    let ran = club.run("drop underlay");
    assert!(ran.text.contains("needed by") || ran.text.contains("Nothing to do"), "{}", ran.text);
    assert!(!ran.text.contains("- underlay "), "{}", ran.text);
    // an older frame for an old piece is refused with its reasons
    let ran = club.run("want old-sluice");
    assert!(ran.code == 3 && ran.text.contains("old-sluice 0.9 needs underlay <2"), "{}", ran.text);
    // and back: what the server and the administrator made stays
    club.ok("drop eel-traps --quiet");
    club.ok("settle --yes --quiet");
    let left: Vec<String> = differ(&twin.tree(), &club.tree()).into_iter().filter(|p| p != "roster.toml").collect();
    let owned = |p: &String| p.ends_with("choices.json") || p.ends_with('/') || p.contains("rules/tides.yaml");
    assert!(left.iter().all(owned), "{left:?}");
}

#[test]
fn a_piece_says_what_it_is_in_its_closing_lines() {
    let club = Club::of("mirelands");
    club.ok("adopt --catalogue HOST --quiet");
    fs::write(club.dir.path().join("my_download (1).mlp"), piece("mud-bells", "0.3", "underlay >=2, reed-pumps"))
        .unwrap();
    let mut command = club.command("want");
    command.arg("../my_download (1).mlp");
    let ran = club.ran("want FILE", command);
    assert!(ran.code == 0 && ran.text.contains("underlay/pieces/mud-bells/mud-bells.mlp"), "{}", ran.text);
    assert!(ran.text.contains("+ reed-pumps  1.0"), "{}", ran.text);
    for (text, words) in [("no closing lines\n", "does not say its"), ("-- id: ../up\n-- release: 1\n", "is wrong")] {
        fs::write(club.dir.path().join("bad.mlp"), text).unwrap();
        let ran = club.run("want ../bad.mlp");
        assert!(ran.code == 3 && ran.text.contains(words), "{}", ran.text);
    }
}

#[test]
fn ferries_refer_to_each_other() {
    let club = Club::of("mirelands");
    club.ok("adopt --catalogue HOST --quiet");
    assert_eq!(codes(&club), Vec::<String>::new());
    // a stop moves from one line to another in one go, and the numbers of its place have names
    club.ok("tune ferries/stops/weir.toml at.turn=270 --yes --quiet");
    assert!(club.read("ferries/stops/weir.toml").contains("at = [55, 0, 61, 270]"));
    club.ok("tune --move-entry ferries/lines.json north.stops[=quay] ferries/lines.json south.stops --yes --quiet");
    let lines = club.read("ferries/lines.json");
    assert!(lines.contains("[\"mill\"], \"fare\": 3") && lines.contains("[\"mill\", \"weir\", \"quay\"]"), "{lines}");
    // a linked set that is copied refers to its copies
    let set = "ferries/lines.json ferries/night.json ferries/stops/quay.toml ferries/stops/night-quay.toml";
    club.ok(&format!("tune --copy {set} --yes --quiet"));
    assert!(club.read("ferries/night.json").contains("[\"mill\", \"weir\", \"night-quay\"]"));
    assert_eq!(codes(&club), ["name-twice"], "the copy has its model's name until somebody gives it another");
    club.ok("undo --yes --quiet");
    club.ok("undo 3 --yes --quiet");
    let ran = club.run("tune ferries/lines.json south.stops+=wier --yes");
    assert!(ran.text.contains("reread ferries"), "{}", ran.text);
    let text = flat(&club.run("check").text);
    assert!(text.contains("ferries/lines.json:3 dangling-reference"), "{text}");
    assert!(
        text.contains("`south.stops[3]` names `wier`, and ferries/stops/wier.toml is not there, did you mean `weir`?"),
        "{text}"
    );
    club.ok("undo --yes --quiet");
    // a line that a stop names is gone
    let lines = club.read("ferries/lines.json");
    club.write("ferries/lines.json", lines.replace("\"north\"", "\"northern\""));
    let text = flat(&club.run("check").text);
    assert_eq!(codes(&club), ["dangling-reference", "dangling-reference"]);
    assert!(text.contains("ferries/lines.json has none of that name, did you mean `south`?"), "{text}");
    club.write("ferries/lines.json", &lines);
    // two stops of one name, and hours of a stop that is not there
    club.write("ferries/stops/jetty.toml", "name = \"Reed Mill\"\nat = [1, 2, 3, 4]\nlines = []\n");
    club.write("ferries/hours.yaml", format!("{}harbour: 1-2\n", club.read("ferries/hours.yaml")));
    assert_eq!(codes(&club), ["dangling-reference", "name-twice"]);
    let text = flat(&club.run("check").text);
    assert!(text.contains("ferries/hours.yaml:5") && text.contains("`Reed Mill`"), "{text}");
}
