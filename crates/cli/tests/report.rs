//! What is packed for somebody who helps: enough to help, and no secret.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)] // a test may stop where it fails

mod club;

use std::collections::BTreeMap;
use std::fs;
use std::io::Read as _;
use std::path::Path;

use club::Club;

fn pages(path: &Path) -> BTreeMap<String, String> {
    let mut zip = zip::ZipArchive::new(fs::File::open(path).unwrap()).unwrap();
    let mut out = BTreeMap::new();
    for at in 0..zip.len() {
        let mut file = zip.by_index(at).unwrap();
        let mut text = String::new();
        file.read_to_string(&mut text).unwrap();
        out.insert(file.name().unwrap().into_owned(), text);
    }
    out
}

#[test]
fn it_has_what_helps_and_no_secret() {
    let club = Club::settled("chest-locks@^2 slate-nights");
    club.run("trial --accept-terms 7");
    let secret = "kelp-and-salt-9";
    let conf = club.read("start.conf");
    club.write("start.conf", format!("{conf}console.password={secret}\nmirror.api-key=abcd1234\n"));
    club.write("settings/chest-locks.yaml", "loud: false\nlog-token: deep-water-77\n");
    // it stands in a log, too
    let state = club.path(".yalotheca/trial.log");
    let log = fs::read_to_string(&state).unwrap();
    fs::write(&state, format!("{log}console opened with {secret}\n")).unwrap();
    let before = club.tree();
    let ran = club.ok("report --for-help --to ../help.zip");
    assert_eq!(before, club.tree(), "nothing on the server changes");
    let pages = pages(&club.dir.path().join("help.zip"));
    for (name, text) in &pages {
        assert!(ran.text.contains(&format!("  {name} ")), "{name}: {}", ran.text);
        for secret in [secret, "abcd1234", "deep-water-77"] {
            assert!(!text.contains(secret), "{name}: {text}");
        }
    }
    assert!(pages["settings/start.conf"].contains("console.password=(secret)"), "{}", pages["settings/start.conf"]);
    assert!(pages["last-trial.log"].contains("plugin chest-locks 2.1.0 loaded"), "{}", pages["last-trial.log"]);
    assert!(pages["last-trial.log"].contains("console opened with (secret)"));
    assert!(pages["about.txt"].contains("lock-core 1.4.2 (plugin)") && pages["about.txt"].contains("core ferrite"));
    assert!(pages["roster.toml"].contains("chest-locks = \"^2\"") && pages["findings.txt"].contains("fix: "));
    // one that is there is never written over
    let ran = club.run("report --for-help --to ../help.zip");
    assert!(ran.code != 0 && ran.text.contains("stands there already"), "{}", ran.text);
    assert_ne!(club.run("report").code, 0);
    // a settings file that cannot be read may hold anything
    club.write("settings/chest-locks.yaml", "loud: [false\n  token: x: y\n\t- deep-water-77\n");
    let ran = club.ok("report --for-help --to ../more.zip");
    assert!(ran.text.contains("left out: settings/chest-locks.yaml"), "{}", ran.text);
}
