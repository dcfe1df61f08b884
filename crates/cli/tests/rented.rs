//! The built program on a rented host: the same story, over SFTP and over FTP.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod club;

use club::Club;
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

fn story(club: &Club, host: &Host) {
    club.story(&adopt(host));
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
    let host = ftp(&club, Habits { ftp: ways, minutes: true, no_rename_over: true, ..Habits::default() });
    // a folder from where the login begins
    club.story(&adopt(&host).replace("/quarry", "/~/quarry"));
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
