//! Signers: trusted by a person's or a catalogue's word, never because a key lay beside its seal.

use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::ledger::{HeldFrom, Ledger};
use yalotheca_core::roster::put_in;
use yalotheca_core::text::clean;

use super::choose::Picked;
use crate::Error;
use crate::home::write_whole;
use crate::server::Server;
use crate::want::{roster_error, toml_text};

/// Checks that every signer is vouched for.
///
/// # Errors
/// [`Error::Undecided`] with a finding for each who is not, and for each item that another one signs now.
pub(super) fn trusted(server: &Server, before: &Ledger, picked: &[Picked]) -> Result<(), Error> {
    let mut out = Vec::new();
    for one in picked {
        let Some(signer) = &one.held.signer else { continue };
        if server.roster.signers.contains_key(signer) {
            continue;
        }
        let known = before.items.get(&one.id).and_then(|h| h.signer.as_ref());
        let catalogue = matches!(one.held.from, HeldFrom::Catalogue(_)) && one.held.facts.signers.contains(signer);
        let fix =
            format!("if you trust that signer: yalotheca settle --vouch {signer}; else yalotheca drop {}", one.id);
        match known {
            Some(known) if known == signer => {}
            Some(known) => {
                let cause = format!(
                    "{} {} is signed by {signer}, and what is on the server was signed by {known}: ask its author whether that is meant",
                    one.id, one.held.facts.version
                );
                out.push(Finding::new("changed-signer", Severity::Error, cause, fix).of(&one.id));
            }
            None if catalogue => {}
            None => {
                let cause =
                    format!("{} {} is signed by {signer}, for whom nobody vouches", one.id, one.held.facts.version);
                out.push(Finding::new("unknown-signer", Severity::Error, cause, fix).of(&one.id));
            }
        }
    }
    if out.is_empty() { Ok(()) } else { Err(Error::Undecided(out)) }
}

/// Returns the server with signers on its roster for whom the administrator vouches; the roster itself is written only
/// when `write` says so.
///
/// # Errors
/// One is no fingerprint, or the roster cannot be written.
pub fn vouch(server: Server, signers: &[String], write: bool) -> Result<Server, Error> {
    let mut text = server.text.clone();
    for signer in signers {
        let hex = signer.chars().all(|c| c.is_ascii_hexdigit());
        if !hex || !(8..=64).contains(&signer.len()) {
            let why = format!("`{}` is no fingerprint: it has 8 to 64 hexadecimal digits", clean(signer, 60));
            return Err(Error::Choice(why));
        }
        let by = format!("vouched for by {} on {}", server.around.who, server.around.now.get(..10).unwrap_or(""));
        text = put_in(&text, &["signers"], signer, &toml_text(&by)).map_err(|e| roster_error(&server, e))?;
    }
    if write && text != server.text {
        write_whole(&server.roster_path, text.as_bytes())?;
    }
    Ok(Server { told: server.told.clone(), ..server.with_roster(text)? })
}
