//! Why an item is here, why in this version, why at this place, and who needs whom.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)] // a test may stop where it fails

mod club;

use club::Club;

fn flat(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

#[test]
fn every_way_to_an_item_is_told() {
    let club = Club::settled("chest-locks pier-lights slate-nights quarry-moss");
    let text = flat(&club.ok("why lock-core").text);
    assert!(text.contains("wants chest-locks; chest-locks 2.1.0 needs lock-core ^1"), "{text}");
    assert!(text.contains("wants pier-lights; pier-lights 1.2.0 needs lock-core >=1.2 <1.4"), "{text}");
    assert!(text.contains("why not 2.0.0 lock-core 2.0.0 fits game >=1.9, this server has 1.8.2"), "{text}");
    assert!(text.contains("of the load order"), "{text}");
    let object = club.ok("why slate-nights --json").json();
    assert_eq!(object["set"][0]["file"], "addpacks/order.list", "{object}");
    assert_eq!(object["set"][0]["value"], "slate-nights");
    assert!(object["place"]["why"].as_str().unwrap().contains("quarry-moss"), "{object}");
    // one that is not taken
    let text = flat(&club.ok("why lock-core@1.4.2").text);
    assert!(text.contains("pier-lights 1.2.0 needs lock-core >=1.2 <1.4"), "{text}");
    assert!(!text.contains("you want"), "{text}");
    let text = flat(&club.ok("why rope-ladders").text);
    assert!(
        text.contains("rope-ladders is not on the server") && text.contains("yalotheca want rope-ladders"),
        "{text}"
    );
    for (words, says) in [
        ("why lock-core@77", "has no version"),
        ("why lock-cor", "did you mean"),
        ("why lock-core@^^", "no version range"),
    ] {
        let ran = club.run(words);
        assert!(ran.code != 0 && flat(&ran.text).contains(says), "{}", ran.text);
    }
}

#[test]
fn needs_are_drawn_as_a_tree() {
    let club = Club::settled("chest-locks pier-lights");
    assert!(club.ok("show chest-locks --tree").text.contains("└─ lock-core 1.3.0  as lock-core ^1"));
    let text = club.ok("show lock-core --tree --reverse").text;
    assert!(text.contains("├─ chest-locks 2.1.0  needs lock-core ^1  (roster line"), "{text}");
    assert!(club.ok("show chest-locks --tree --reverse").text.contains("nothing else needs it"));
    let object = club.ok("show lock-core --tree --reverse --json").json();
    assert_eq!(object["below"].as_array().unwrap().len(), 2, "{object}");
    assert_ne!(club.run("show rope-ladders --tree").code, 0);
    assert_eq!(club.run("show lock-core --reverse").code, 2);
}
