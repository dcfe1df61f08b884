//! Moving to the newest that fits, and whether the server could move.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)] // a test may stop where it fails

mod club;

use club::{Club, differ};

fn flat(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// A server with an older chest-locks that may move.
fn older() -> Club {
    let club = Club::settled("chest-locks@=2.0.0 pier-lights tide-biome");
    club.write("roster.toml", club.read("roster.toml").replace("chest-locks = \"=2.0.0\"", "chest-locks = \"*\""));
    club
}

#[test]
fn what_is_due_is_shown_and_done() {
    let club = older();
    let before = club.tree();
    assert!(club.ok("settle").text.contains("Nothing to do"), "a settle moves nothing by itself");
    let ran = club.run("renew --dry-run");
    let text = flat(&ran.text);
    assert!(ran.code == 1 && text.contains("chest-locks 2.0.0 2.1.0 minor 3.0.0: fits game >=1.9"), "{}", ran.text);
    assert!(
        text.contains("tide-biome 1.4.0 1.4.0 stays 2.0.0: fits game >=1.9, this server has 1.8.2"),
        "{}",
        ran.text
    );
    let due = club.run("renew --dry-run --json");
    let object = due.json();
    let row = object["renew"].as_array().unwrap().iter().find(|r| r["item"] == "chest-locks").unwrap();
    assert_eq!((due.code, &row["then"], &row["step"]), (1, &"2.1.0".into(), &"minor".into()), "{object}");
    assert_eq!(object["applied"], false);
    assert_eq!(differ(&before, &club.tree()), Vec::<String>::new());
    club.ok("renew --yes --quiet");
    assert_eq!(club.run("renew --dry-run").code, 0, "{}", club.run("renew --dry-run").text);
    assert!(club.run("history").text.contains("chest-locks 2.0.0 → 2.1.0"), "{}", club.run("history").text);
    club.ok("undo --yes --quiet");
    // the line that was changed by hand before goes back with it
    assert_eq!(differ(&before, &club.tree()), ["roster.toml"]);
}

#[test]
fn only_some_move_and_what_is_held_stays() {
    let club = older();
    // another item moves only as far as it must: here not at all
    let ran = club.run("renew tide-biome --dry-run");
    assert!(ran.code == 0 && ran.text.contains("Nothing moves."), "{}", ran.text);
    let roster = club.read("roster.toml");
    club.write("roster.toml", roster.replace("chest-locks = \"*\"", "chest-locks = { version = \"*\", hold = true }"));
    let ran = club.run("renew --dry-run");
    assert_eq!(ran.code, 0, "{}", ran.text);
    let text = flat(&club.run("why chest-locks@2.1.0").text);
    assert!(text.contains("is not the version that the roster holds: 2.0.0"), "{text}");
    // and what is never to be taken
    let refused = roster.replace(
        "chest-locks = \"*\"",
        "chest-locks = { version = \">=2\", never = \"2.1.0\" }\nlock-core = \"never\"",
    );
    club.write("roster.toml", &refused);
    let ran = club.run("settle --dry-run");
    let text = flat(&ran.text);
    assert!(ran.code == 3 && text.contains("must not be taken (roster line"), "{}", ran.text);
    assert!(text.contains("2. allow `lock-core` 1.3.0, which the roster refuses"), "{}", ran.text);
    club.ok("settle --take 2 --yes --quiet");
    let roster = club.read("roster.toml");
    assert!(!roster.contains("lock-core") && roster.contains("never = \"2.1.0\""), "{roster}");
    let text = flat(&club.run("why chest-locks@2.1.0").text);
    assert!(text.contains("chest-locks 2.1.0 must not be taken"), "{text}");
    // asking for another range keeps what the roster says of it besides
    club.ok("want chest-locks@>=1.2 --quiet");
    let kept = "chest-locks = { version = \">=1.2\", never = \"2.1.0\" }";
    assert!(club.read("roster.toml").contains(kept), "{}", club.read("roster.toml"));
    for (words, says) in [("renew nobody", "nobody"), ("renew chest-lock", "did you mean `chest-locks`?")] {
        let ran = club.run(words);
        assert!(ran.code != 0 && ran.text.contains(says), "{}", ran.text);
    }
}

#[test]
fn whether_the_server_can_move() {
    let club = older();
    let before = club.tree();
    let ran = club.ok("renew --for game=1.9");
    let text = flat(&ran.text);
    assert!(
        text.contains("chest-locks 2.0.0 ready") && text.contains("ferrite 3.4.0 the core 4.0.0 brings it"),
        "{}",
        ran.text
    );
    assert!(text.contains("The server can move"), "{}", ran.text);
    let ran = club.run("renew --for game=2.0");
    let text = flat(&ran.text);
    assert!(ran.code == 1 && text.contains("Not yet"), "{}", ran.text);
    assert!(text.contains("harbour-bell") && text.contains("no fitting version the newest is"), "{}", ran.text);
    let object = club.run("renew --for game=2.0 --json").json();
    assert_eq!(object["ready"], false);
    assert!(object["items"].as_array().unwrap().iter().any(|i| i["state"] == "none"), "{object}");
    assert_eq!(differ(&before, &club.tree()), Vec::<String>::new(), "nothing is changed");
    for (words, says) in [
        ("renew --for game", "is not WHAT=VALUE"),
        ("renew --for gaem=1.9", "did you mean `game`?"),
        ("renew --for game=", "has no value"),
    ] {
        let ran = club.run(words);
        assert!(ran.code == 2 && flat(&ran.text).contains(says), "{}", ran.text);
    }
    assert_eq!(club.run("renew chest-locks --for game=1.9").code, 2);
}

#[test]
fn one_of_the_changes_that_help_is_taken() {
    let club = Club::adopted();
    let before = club.read("roster.toml");
    let ran = club.run("want chest-locks@^3");
    let text = flat(&ran.text);
    assert!(
        ran.code == 3 && text.contains("what would help: 1. take `chest-locks` 2.1.0 instead of ^3"),
        "{}",
        ran.text
    );
    let helps = club.run("want chest-locks@^3 --json").json()["error"]["helps"].clone();
    assert!(helps.as_array().unwrap().len() >= 2, "{helps}");
    let ran = club.run("want chest-locks@^3 --take 9");
    assert!(ran.code == 2 && ran.text.contains("no change has the number 9"), "{}", ran.text);
    assert_eq!(club.read("roster.toml"), before, "nothing was written");
    club.ok("want chest-locks@^3 --take 1 --quiet");
    assert!(club.read("roster.toml").contains("chest-locks = \"^2.1.0\""), "{}", club.read("roster.toml"));
    club.ok("settle --yes --quiet");
    // on the roster by hand, at odds with another
    club.write("roster.toml", format!("{}pier-lights = \"^1\"\nlock-core = \"^1.4\"\n", club.read("roster.toml")));
    let ran = club.run("settle");
    let text = flat(&ran.text);
    assert!(ran.code == 3 && text.contains("pier-lights") && text.contains("what would help:"), "{}", ran.text);
    assert!(text.contains("take `lock-core` 1.3.0 instead of ^1.4"), "{}", ran.text);
    let ran = club.run("settle --take 1 --dry-run");
    assert!(ran.code == 1 && ran.text.contains("roster\n"), "{}", ran.text);
    club.ok("settle --take 1 --yes --quiet");
    assert!(club.ok("settle").text.contains("Nothing to do"));
    // there is nothing to take any more, and that is told
    let ran = club.ok("settle --take 1");
    assert!(flat(&ran.text).contains("nothing is at odds now, so there is no change 1 to take"), "{}", ran.text);
}

#[test]
fn who_is_blocked_by_whom_and_what_is_new_in_it() {
    use yalotheca_standin::club::{Item, Release, items, plugin};
    let club = older();
    let mut all = items();
    let locks = all.iter_mut().find(|i| i.id == "chest-locks").unwrap();
    let newest = locks.releases.iter_mut().find(|r| r.version == "2.1.0").unwrap();
    newest.facts["notes"] = "doors that creak".into();
    newest.facts["page"] = "https://tidewrack.example/chest-locks".into();
    let needs = [("pier-lights", "^1")];
    all.push(Item {
        id: "pier-roof".into(),
        kind: "plugin".into(),
        title: "Pier roof".into(),
        about: "A roof over the lamps.".into(),
        names: vec![],
        number: None,
        releases: vec![Release {
            version: "1.0".into(),
            file: "pier-roof-1.0.qpl".into(),
            bytes: plugin("pier-roof", "1.0", ">=1.8", &needs, ""),
            more: Vec::new(),
            facts: serde_json::json!({ "date": "2026-01-01", "games": ">=1.8", "needs": [{ "id": "pier-lights", "range": "^1" }] }),
        }],
    });
    club.host.replace(yalotheca_standin::catalogue::write("Tidewrack Club", "quarrywake", 13, &all));
    club.ok("want pier-roof --quiet");
    club.ok("settle --yes --quiet");
    let text = flat(&club.run("renew --for game=2.0").text);
    assert!(text.contains("pier-roof 1.0 blocked by pier-lights pier-lights"), "{text}");
    let object = club.run("renew --for game=2.0 --json").json();
    let roof = object["items"].as_array().unwrap().iter().find(|i| i["item"] == "pier-roof").unwrap();
    assert_eq!((&roof["state"], &roof["blocked"]["items"][0]), (&"blocked".into(), &"pier-lights".into()), "{roof}");
    let text = club.run("renew --dry-run").text;
    assert!(
        text.contains("chest-locks: doors that creak") && text.contains("chest-locks: https://tidewrack.example"),
        "{text}"
    );
}
