//! Catalogues that disagree: one version with other bytes, an item that comes from elsewhere, are never taken silently.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)] // a test may stop where it fails

mod club;

use club::{Club, differ};
use yalotheca_standin::catalogue;
use yalotheca_standin::club::{items, plugin};
use yalotheca_standin::host::Host;

fn flat(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// A second host that has chest-locks too, with what it says changed.
fn second(change: impl Fn(&mut Vec<yalotheca_standin::club::Item>)) -> Host {
    let mut all: Vec<_> = items().into_iter().filter(|i| i.id == "chest-locks").collect();
    change(&mut all);
    Host::start(catalogue::write("Driftwood", "quarrywake", 3, &all)).unwrap()
}

#[test]
fn other_bytes_for_one_version_are_a_question() {
    let club = Club::adopted();
    let other = second(|items| {
        for release in &mut items[0].releases {
            release.bytes =
                plugin("chest-locks", &release.version, "^1.8", &[("lock-core", "^1")], "fault: not ours\n");
        }
    });
    let roster = club.read("roster.toml");
    let first = format!("\"{}\"", club.host.address());
    club.write("roster.toml", roster.replace(&first, &format!("{first}, \"{}\"", other.address())));
    let before = club.tree();
    let ran = club.run("settle");
    assert_eq!(ran.code, 0, "what is not new is no question: {}", ran.text);
    let ran = club.run("want chest-locks");
    let text = flat(&ran.text);
    assert!(ran.code == 6 && text.contains("other-bytes") && text.contains("2.1.0 has other bytes in"), "{}", ran.text);
    // the roster has the line; nothing is settled before somebody decides
    let ran = club.run("settle --yes");
    assert!(ran.code == 6 && ran.text.contains("--catalogue"), "{}", ran.text);
    assert_eq!(differ(&before, &club.tree()), ["roster.toml"]);
    club.ok("want chest-locks --catalogue HOST --quiet");
    club.ok("settle --yes --quiet");
    assert!(club.visit().contains("plugin chest-locks") || club.path("plugins/chest-locks.qpl").is_file());
    let ran = club.run("want chest-locks --catalogue http://127.0.0.1:1/");
    assert!(ran.code == 2 && flat(&ran.text).contains("which is no catalogue of the roster"), "{}", ran.text);
}

#[test]
fn an_item_that_moved_elsewhere_is_a_question() {
    let club = Club::adopted();
    club.ok("want chest-locks@=2.0.0 --quiet");
    club.ok("settle --yes --quiet");
    // the first has it no more, and another one does
    let rest: Vec<_> = items().into_iter().filter(|i| i.id != "chest-locks").collect();
    club.host.replace(catalogue::write("Tidewrack Club", "quarrywake", 13, &rest));
    let other = second(|_| {});
    let first = format!("\"{}\"", club.host.address());
    let roster = club.read("roster.toml").replace("\"=2.0.0\"", "\"*\"");
    club.write("roster.toml", roster.replace(&first, &format!("{first}, \"{}\"", other.address())));
    assert!(club.ok("settle").text.contains("Nothing to do"), "what stays is no question");
    let ran = club.run("renew --yes");
    let text = flat(&ran.text);
    assert!(ran.code == 6 && text.contains("moved-catalogue") && text.contains("would come from"), "{}", ran.text);
    let mut command = club.command("want chest-locks --quiet --catalogue");
    command.arg(other.address());
    assert_eq!(club.ran("want", command).code, 0);
    club.ok("renew --yes --quiet");
    assert!(club.run("history").text.contains("chest-locks 2.0.0 → 2.1.0"));
}
