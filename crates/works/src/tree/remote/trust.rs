//! Which hosts are known: the person's own `known_hosts`, and ours beside what was fetched.
//!
//! A host that is seen for the first time is asked about, with its fingerprint; one that shows another key than
//! before is refused. Certificates of FTPS hosts that no public authority vouches for are known the same way.

use std::path::PathBuf;

use russh::keys::{HashAlg, PublicKey, known_hosts};
use yalotheca_core::id::Digest;

use super::super::Access;
use super::error::HostError;
use crate::home::{Home, write_whole};

/// What was known before, and whom to ask.
pub(super) struct Trust {
    pub(super) access: Access,
    pub(super) home: Home,
    /// The host and port.
    pub(super) host: String,
    pub(super) port: u16,
}

impl Trust {
    fn place(&self) -> String {
        format!("{}:{}", self.host, self.port)
    }

    fn ours(&self) -> PathBuf {
        self.home.at("known_hosts")
    }

    /// Judges a host's key.
    pub(super) fn key(&self, key: &PublicKey) -> Result<(), HostError> {
        let fingerprint = key.fingerprint(HashAlg::Sha256).to_string();
        let files = self.access.ssh.iter().map(|s| s.join("known_hosts")).chain([self.ours()]);
        let mut changed = None;
        for file in files {
            let known = known_hosts::known_host_keys_path(&self.host, self.port, &file).unwrap_or_default();
            if known.iter().any(|(_, k)| k.key_data() == key.key_data()) {
                return Ok(());
            }
            if !known.is_empty() {
                changed = changed.or(Some(file.display().to_string()));
            }
        }
        if let Some(file) = changed {
            return Err(HostError::Changed { host: self.place(), what: "key", fingerprint, file });
        }
        self.asked("key", &fingerprint)?;
        // a disk that cannot be written to asks again next time
        let _ = std::fs::create_dir_all(self.home.at(""));
        let _ = known_hosts::learn_known_hosts_path(&self.host, self.port, key, self.ours());
        Ok(())
    }

    /// Judges a certificate that no public authority vouches for (its DER bytes).
    pub(super) fn certificate(&self, der: &[u8]) -> Result<(), HostError> {
        let fingerprint = format!("SHA256:{}", Digest::of(der).hex());
        let file = self.home.at("known_certificates");
        let known = std::fs::read_to_string(&file).unwrap_or_default();
        let place = self.place();
        let mut ours = known.lines().filter_map(|l| l.split_once(' ')).filter(|(p, _)| *p == place).peekable();
        if ours.peek().is_some() {
            return if ours.any(|(_, f)| f == fingerprint) {
                Ok(())
            } else {
                let file = file.display().to_string();
                Err(HostError::Changed { host: place, what: "certificate", fingerprint, file })
            };
        }
        self.asked("certificate", &fingerprint)?;
        let _ = write_whole(&file, format!("{known}{place} {fingerprint}\n").as_bytes());
        Ok(())
    }

    fn asked(&self, what: &'static str, fingerprint: &str) -> Result<(), HostError> {
        let host = self.place();
        let unknown = || HostError::Unknown { host: host.clone(), what, fingerprint: fingerprint.to_owned() };
        if let Some(given) = &self.access.trusted {
            return if given == fingerprint { Ok(()) } else { Err(unknown()) };
        }
        let question = format!(
            "{host} was never seen before. Its {what} has the fingerprint\n  {fingerprint}\nCompare it with what your \
             host tells you. Is it that one?"
        );
        match self.access.ask.yes(&question) {
            Some(true) => Ok(()),
            _ => Err(unknown()),
        }
    }
}
