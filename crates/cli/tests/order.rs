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
    let gives_way = "slate-nights would like to be read after quarry-moss, and something stronger stands against it";
    assert!(flat(&ran.text).contains(gives_way), "{}", ran.text);
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
    // what comes later moves nothing, and says nothing of what was so before
    club.ok("want pier-lights --quiet");
    let ran = club.ok("settle --yes");
    assert!(!flat(&ran.text).contains(gives_way), "{}", ran.text);
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

#[test]
fn a_list_that_is_pinned_already_is_written_anew() {
    let club = Club::settled("chest-locks slate-nights quarry-moss pier-lights");
    let list = names(&club);
    let roster = club.read("roster.toml");
    club.write("roster.toml", format!("{roster}\n[order]\nfixed = [\"quarry-moss\", \"slate-nights\"] # mine\n"));
    let mut other = list.clone();
    other.retain(|n| n != "pier-lights");
    other.push("pier-lights".to_owned());
    fs::write(club.dir.path().join("mine.txt"), other.join("\n")).unwrap();
    club.ok("order --edit ../mine.txt --quiet");
    let all: Vec<String> = other.iter().map(|n| format!("\"{n}\"")).collect();
    let wrote = club.read("roster.toml");
    assert!(wrote.ends_with(&format!("[order]\nfixed = [{}] # mine\n", all.join(", "))), "{wrote}");
    assert_eq!(names(&club), other);
}

/// The way over an editor needs a terminal: `script` lends one.
#[cfg(target_os = "linux")]
#[test]
fn an_order_comes_back_from_the_editor() {
    use std::os::unix::fs::PermissionsExt as _;
    use std::process::{Command, Stdio};
    let club = Club::settled("chest-locks slate-nights quarry-moss");
    let list = names(&club);
    let with = |name: &str, lines: &str| {
        let path = club.dir.path().join(name);
        fs::write(&path, format!("#!/bin/sh\n{lines}\n")).unwrap();
        fs::set_permissions(&path, fs::Permissions::from_mode(0o755)).unwrap();
        let plain = club.command("order --edit");
        let ran = Command::new("script")
            .args(["-qec", &format!("{} order --edit", club::PROGRAM), "/dev/null"])
            .current_dir(plain.get_current_dir().unwrap())
            .env_clear()
            .envs(plain.get_envs().filter_map(|(name, value)| Some((name, value?))))
            .env("EDITOR", &path)
            .stdin(Stdio::null())
            .output()
            .unwrap();
        (ran.status.code(), flat(&String::from_utf8_lossy(&ran.stdout)))
    };
    let before = club.read("roster.toml");
    // left as it is, and an editor that failed
    let (code, text) = with("fails", "exit 3");
    assert!(code != Some(0) && club.read("roster.toml") == before, "{text}");
    // the last line goes to the front, behind the comment
    let (code, text) = with("moves", "last=$(tail -n 1 \"$1\"); sed -i -e '$d' -e \"1a $last\" \"$1\"");
    assert_eq!(code, Some(0), "{text}");
    let mut other = list.clone();
    other.rotate_right(1);
    // only what moved is pinned
    let roster = club.read("roster.toml");
    assert!(roster.contains("[order]\nbefore = { ") && !roster.contains("fixed"), "{roster}");
    assert_eq!(names(&club), other, "{text}");
    let text = flat(&club.ok("order").text);
    assert!(text.contains("1 slate-nights 1.0.0 data pack the roster has it before ferrite"), "{text}");
    // and back again: the pin that stands against it goes
    let (code, text) = with("again", "first=$(sed -n 2p \"$1\"); sed -i 2d \"$1\"; echo \"$first\" >> \"$1\"");
    assert_eq!(code, Some(0), "{text}");
    assert_ne!(club.read("roster.toml"), roster, "{text}");
    assert_eq!(names(&club), list, "{text}");
    assert!(!club.read("roster.toml").contains("slate-nights = ["), "{}", club.read("roster.toml"));
}

#[test]
fn pins_in_tables_of_their_own_are_kept_where_they_hold() {
    let club = Club::settled("chest-locks slate-nights quarry-moss");
    let list = names(&club);
    let roster = club.read("roster.toml");
    let order = "\n[order]\nfirst = [\"slate-nights\"]\n\n[order.after]\n# bells last\nharbour-bell = [\"lock-core\", \"chest-locks\"]\n";
    club.write("roster.toml", format!("{roster}{order}"));
    let mut other = list.clone();
    other.retain(|n| n != "harbour-bell" && n != "quarry-moss");
    other.extend(["harbour-bell".to_owned(), "quarry-moss".to_owned()]);
    fs::write(club.dir.path().join("mine.txt"), other.join("\n")).unwrap();
    club.ok("order --edit ../mine.txt --quiet");
    let wrote = club.read("roster.toml");
    assert!(!wrote.contains("first = ") && wrote.contains("# bells last\nharbour-bell = ["), "{wrote}");
    assert_eq!(names(&club), other, "{wrote}");
}
