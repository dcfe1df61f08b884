//! Rules that hold for every command.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod club;

use club::Club;
use snapbox::{assert_data_eq, str};

/// Every command with arguments that work on a settled server, and its exit code there.
const COMMANDS: &[(&str, i32)] = &[
    ("find lights", 0),
    ("show chest-locks", 0),
    ("want tide-biome --dry-run", 1),
    ("drop chest-locks --dry-run", 1),
    ("settle", 0),
    ("settle --dry-run", 0),
    ("renew --dry-run", 0),
    ("renew --for game=1.9", 0),
    ("why chest-locks", 0),
    ("order", 0),
    ("show chest-locks --tree", 0),
    ("check", 1),
    ("trial", 6),
    ("maps", 0),
    ("maps rotation", 0),
    ("family list", 0),
    ("family show quarrywake", 0),
    ("family explain quarrywake", 0),
    ("history", 0),
    ("tune start.conf", 0),
    ("tune start.conf door.name", 0),
    ("tune start.conf door.name=Salt --dry-run", 1),
    ("tune start.conf door.name --why", 0),
    ("undo --dry-run", 1),
    ("report --for-help", 0),
    ("guide --shell bash", 0),
    ("guide --man ../man", 0),
];

fn words() -> Vec<String> {
    let mut out: Vec<String> = COMMANDS.iter().map(|(c, _)| c.split(' ').next().unwrap().to_owned()).collect();
    out.extend(["adopt".to_owned(), "demo".to_owned()]);
    out.sort();
    out.dedup();
    out
}

#[test]
fn the_table_here_knows_every_command() {
    let club = Club::empty();
    let help = club.ok("--help").out;
    let listed = help.split("Commands:").nth(1).unwrap().split("\n\n").next().unwrap();
    let mut listed: Vec<String> = listed
        .lines()
        .filter(|l| l.starts_with("  ") && !l.starts_with("   "))
        .map(|l| l.split_whitespace().next().unwrap().to_owned())
        .collect();
    listed.retain(|w| w != "help");
    listed.sort();
    assert_eq!(listed, words());
}

#[test]
fn help_says_what_it_does_and_fits() {
    let club = Club::empty();
    for word in words() {
        let help = club.ok(&format!("{word} --help")).out;
        assert!(help.contains("Usage: yalotheca "), "{help}");
        for line in help.lines() {
            assert!(line.chars().count() <= 80, "{word}: {line}");
        }
        let first = help.lines().next().unwrap();
        assert!(first.len() > 12 && !first.ends_with('.'), "{word}: {first}");
    }
    assert_data_eq!(
        club.ok("--help").out,
        str![[r#"
Installs and updates what a game server needs, so that it starts cleanly.

Every command works on the roster of the current folder (roster.toml): what you
want on one server. Begin with `yalotheca adopt` in the server's folder, or try
the made-up club's servers with `yalotheca demo`.

Usage: yalotheca [OPTIONS] <COMMAND>

Commands:
  adopt    Takes an existing server under care
  find     Searches the catalogues
  show     Shows an item: versions, needs, sizes, where its files would go
  want     Puts items on the roster and shows what settle would do
  drop     Takes items off the roster and shows what settle would do
  settle   Makes the server match the roster
  renew    Moves to the newest versions that fit
  why      Explains why an item is here, why in this version, why at this place
           in the load order, and what it set
  order    Shows the load order, each line with what fixes it there
  check    Tells everything that would stop a clean start, with fixes
  trial    Starts the server, reads its log, and tells what loaded
  maps     Shows the maps on the server: which is played, which are played in
           turn
  tune     Sets values in a settings file without breaking it, and keeps them
           over updates
  history  Tells what was done to the server
  undo     Takes back what was done last, or another entry of the history
  report   Packs what somebody needs who helps you: versions, order, findings,
           settings without secrets, the last log
  family   Lists, explains and checks family files: how kinds of game servers
           take content
  demo     Runs the made-up club's servers: seven games here, or one on a rented
           host
  guide    Writes man pages, or completions for a shell
  help     Print this message or the help of the given subcommand(s)

Options:
  -h, --help
          Print help (see a summary with '-h')

  -V, --version
          Print version

Everywhere:
      --roster <FILE>
          Works on this roster instead of the current folder's

      --json
          Prints one JSON object and nothing else

  -y, --yes
          Answers every question with yes

  -q, --quiet
          Prints only results and errors

      --offline
          Uses only what was fetched before

      --trust-host <FINGERPRINT>
          Trusts a rented host that is seen for the first time, if it shows this

Exit codes: 0 done; 1 findings, or a dry run with changes; 2 wrong usage; 3 it
cannot be; 4 the outside failed (network, disk, host); 5 refused for safety; 6
needs an answer.

"#]]
    );
    assert_data_eq!(
        club.ok("settle --help").out,
        str![[r#"
Makes the server match the roster

Chooses versions that go together, fetches and opens them, puts every file in
its place, writes the settings that make the server load them, shows the changes
and asks. What you changed by hand is kept and told.

Usage: yalotheca settle [OPTIONS]

Options:
      --dry-run
          Only shows the changes

      --put-back <PATH>
          Replaces this file, or the values in it, though it was changed by
          hand; may be given several times

      --vouch <FINGERPRINT>
          Vouches for a signer, by fingerprint, and puts that on the roster; may
          be given several times

      --done <NAME>
          Says that you entered this where only you can, as it was asked for;
          may be given several times

      --like <FILE>
          Brings exactly the versions, order and tuned settings of another
          server: its roster, or a ledger of it

      --clean-slate <WHAT>
          Brings this bundle onto a clean slate: what its family clears goes to
          quarantine, worlds and players stay

      --take <NUMBER>
          Makes one of the changes that would help where no versions fit, by its
          number, and goes on

      --stopped
          Takes the server for stopped, whatever its signs say

      --verify
          Reads every file of ours again, and what is written back before it is
          put in place

  -h, --help
          Print help (see a summary with '-h')

Everywhere:
      --roster <FILE>
          Works on this roster instead of the current folder's

      --json
          Prints one JSON object and nothing else

  -y, --yes
          Answers every question with yes

  -q, --quiet
          Prints only results and errors

      --offline
          Uses only what was fetched before

      --trust-host <FINGERPRINT>
          Trusts a rented host that is seen for the first time, if it shows this

"#]]
    );
}

#[test]
fn json_is_one_object_and_nothing_else() {
    let club = Club::settled("chest-locks");
    for (words, code) in COMMANDS {
        let ran = club.run(&format!("{words} --json"));
        assert_eq!(ran.code, *code, "{}", ran.text);
        assert!(ran.json().is_object(), "{}", ran.text);
        if !words.starts_with("settle") {
            assert_eq!(ran.err, "", "{}", ran.text);
        }
    }
    let failed = club.run("want nobody --json");
    assert_eq!(failed.json()["error"]["exit"], 3);
    let new = Club::new();
    assert!(new.ok("adopt --catalogue HOST --json").json()["items"].is_array());
}

#[test]
fn codes_and_widths_are_the_same_everywhere() {
    let club = Club::settled("chest-locks pier-lights deep-winch");
    for (words, code) in COMMANDS {
        let ran = club.run(words);
        assert_eq!(ran.code, *code, "{}", ran.text);
        let (out, err) = (ran.out, ran.err);
        // a file is printed as it is
        if !words.starts_with("guide") && !words.starts_with("family show") {
            for line in out.lines().chain(err.lines().filter(|l| !l.starts_with("  | "))) {
                assert!(line.chars().count() <= 80, "{words}: {line}");
            }
        }
        assert!(!out.contains('\u{1b}'), "no colour in a pipe: {out}");
    }
    assert_eq!(club.run("settel").code, 2);
    assert_eq!(club.run("settle --dry-rum").code, 2);
    assert_eq!(club.run("").code, 2);
}

#[test]
fn quiet_leaves_hints_out() {
    let club = Club::adopted();
    assert_eq!(club.run("find lights --quiet").err, "");
    assert_eq!(club.run("history --quiet").err, "");
}

#[test]
fn a_roster_elsewhere_is_named() {
    let club = Club::adopted();
    let ran = club.command("check --roster quarry/roster.toml").current_dir(club.dir.path()).output().unwrap();
    assert_eq!(ran.status.code(), Some(1));
}
