//! The built program on a rented host: the same story, over SFTP and over FTP.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod club;

use std::collections::BTreeMap;

use club::{Club, differ};
use yalotheca_standin::rented::{Habits, Host, Tls, Ways};

/// What is typed after `adopt` for the server on a host.
fn adopt(host: &Host) -> String {
    format!("adopt {} --trust-host {} --catalogue HOST", host.address("quarry"), host.fingerprint())
}

fn sftp(club: &Club, habits: Habits) -> Host {
    Host::start("sftp", club.dir.path(), habits, &[]).unwrap()
}

fn ftp(club: &Club, habits: Habits) -> Host {
    Host::start("ftp", club.dir.path(), habits, &[]).unwrap()
}

/// The server as it was: nothing but our own state may be there besides.
fn story(club: &Club, host: &Host) {
    let bare = club.tree();
    club.ok_away("desk", &adopt(host));
    assert!(differ(&bare, &club.tree()).is_empty(), "adopting changes nothing");
    club.ok_away("desk", "want deep-winch rope-ladders quarry-moss");
    club.ok_away("desk", "settle --yes");
    let settled = club.tree();
    assert!(settled.contains_key("plugins/deep-winch.qpl"));
    assert!(settled.contains_key("addpacks/quarry-moss/addpack.json"));
    assert_eq!(club.ok_away("desk", "settle").text.matches("Nothing to do").count(), 1);
    let checked = club.run_away("desk", "check --json").json();
    let codes: Vec<&str> =
        checked["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap()).collect();
    assert_eq!(codes, ["terms-not-accepted", "unknown-file"], "{checked}");
    club.ok_away("desk", "tune start.conf door.name=Low_Tide --yes");
    assert!(club.read("start.conf").contains("door.name=Low_Tide"));
    club.ok_away("desk", "undo --yes");
    assert!(differ(&settled, &club.tree()).is_empty(), "{:?}", differ(&settled, &club.tree()));
    club.ok_away("desk", "drop deep-winch rope-ladders quarry-moss");
    club.ok_away("desk", "settle --yes");
    assert!(differ(&bare, &club.tree()).is_empty(), "{:?}", differ(&bare, &club.tree()));
    club.ok_away("desk", "undo --yes");
    assert!(differ(&settled, &club.tree()).is_empty(), "{:?}", differ(&settled, &club.tree()));
    // nothing is left in staging, and nobody holds the server
    for folder in ["staging", "plans", "locks"] {
        let left = club::tree(&club.path(&format!(".yalotheca/{folder}")));
        assert_eq!(left, BTreeMap::new(), "{folder}");
    }
}

#[test]
fn over_sftp() {
    let club = Club::new();
    story(&club, &sftp(&club, Habits::default()));
}

#[test]
fn over_ftp() {
    let club = Club::new();
    story(&club, &ftp(&club, Habits::default()));
}

#[test]
fn over_ftp_of_an_old_host() {
    let club = Club::new();
    let ways = Ways { no_mlsd: true, no_epsv: true, no_rest: true, ..Ways::default() };
    story(&club, &ftp(&club, Habits { ftp: ways, minutes: true, no_rename_over: true, ..Habits::default() }));
}

#[test]
fn over_ftp_of_a_host_that_lists_as_dos_does() {
    let club = Club::new();
    let ways = Ways { no_mlsd: true, dos: true, ..Ways::default() };
    story(&club, &ftp(&club, Habits { ftp: ways, case_blind: true, ..Habits::default() }));
}

#[test]
fn over_ftp_with_tls() {
    for tls in [Tls::Explicit, Tls::Implicit] {
        let club = Club::new();
        let ways = Ways { tls: Some(tls), same_session: true, ..Ways::default() };
        story(&club, &ftp(&club, Habits { ftp: ways, ..Habits::default() }));
    }
}
