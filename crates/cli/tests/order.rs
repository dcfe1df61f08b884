//! The load order: each line with its reason, and an order of one's own.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)] // a test may stop where it fails

mod club;

use std::fs;

use club::Club;

fn flat(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

fn names(club: &Club) -> Vec<String> {
    let object = club.ok("order --json").json();
    object["order"].as_array().unwrap().iter().map(|l| l["item"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn an_order_of_ones_own_is_kept() {
    let club = Club::settled("chest-locks slate-nights quarry-moss");
    let text = flat(&club.ok("order").text);
    assert!(text.contains("chest-locks 2.1.0 plugin it needs lock-core"), "{text}");
    assert!(text.contains("slate-nights 1.0.0 data pack it comes after quarry-moss, as one of them asks"), "{text}");
    assert_eq!(club.read("addpacks/order.list"), "quarry-moss\nslate-nights\n");
    // the other way round, though a hint speaks against it
    let mut list = names(&club);
    list.reverse();
    let lock = list.iter().position(|n| n == "lock-core").unwrap();
    let one = list.remove(lock);
    list.insert(0, one);
    fs::write(club.dir.path().join("mine.txt"), format!("# mine\n{}  # first\n", list.join("\n"))).unwrap();
    let ran = club.ok("order --edit ../mine.txt");
    assert!(club.read("roster.toml").contains("[order]\nfixed = ["), "{}", ran.text);
    club.ok("settle --yes --quiet");
    assert_eq!(club.read("addpacks/order.list"), "slate-nights\nquarry-moss\n");
    assert_eq!(names(&club), list);
    let text = flat(&club.ok("order").text);
    assert!(
        text.contains("the roster has it after slate-nights")
            && text.contains("gave way: quarry-moss before slate-nights"),
        "{text}"
    );
    // what comes later moves nothing
    club.ok("want pier-lights --quiet");
    club.ok("settle --yes --quiet");
    let mut after = names(&club);
    after.retain(|n| n != "pier-lights");
    assert_eq!(after, list);
}

#[test]
fn what_cannot_be_an_order_is_told() {
    let club = Club::settled("chest-locks quarry-moss");
    let before = club.read("roster.toml");
    let list = names(&club);
    let edit = |lines: &[&str]| {
        fs::write(club.dir.path().join("mine.txt"), lines.join("\n")).unwrap();
        let ran = club.run("order --edit ../mine.txt");
        (ran.code, flat(&ran.text))
    };
    let mut backwards: Vec<&str> = list.iter().map(String::as_str).collect();
    backwards.reverse();
    let (code, text) = edit(&backwards);
    assert!(code == 2 && text.contains("chest-locks stands before lock-core, and needs it"), "{text}");
    let (code, text) = edit(&backwards[1..]);
    assert!(code == 2 && text.contains("is missing; every item stands in the order"), "{text}");
    let twice: Vec<&str> = backwards.iter().chain(&backwards).copied().collect();
    assert!(edit(&twice).1.contains("stands twice"));
    assert!(edit(&["chest-lock"]).1.contains("did you mean `chest-locks`?"));
    assert!(edit(&["\u{7}\u{1b}[31m"]).0 == 2);
    assert_ne!(club.run("order --edit ../nowhere.txt").code, 0);
    let ran = club.run("order --edit /dev/zero");
    assert!(ran.code == 2 && ran.text.contains("larger than a list"), "{}", ran.text);
    let ran = club.run("order --edit");
    assert!(ran.code == 6 && ran.text.contains("order --edit FILE"), "{}", ran.text);
    assert_eq!(club.read("roster.toml"), before);
    // pins by hand that go in a circle, or against a need
    club.write("roster.toml", format!("{before}\n[order]\nbefore = {{ chest-locks = [\"lock-core\"] }}\n"));
    let text = flat(&club.run("settle").text);
    assert!(
        text.contains("the roster's [order] puts chest-locks before lock-core, and chest-locks needs lock-core"),
        "{text}"
    );
    club.write("roster.toml", format!("{before}\n[order]\nfrist = [\"lock-core\"]\n"));
    assert!(club.run("settle").text.contains("did you mean `first`?"), "{}", club.run("settle").text);
}
