//! How a person gets into a rented host: what the environment and the roster say, and who can be asked.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use yalotheca_core::roster::Login;

use yalotheca_core::text::clean;

use super::remote::HostError;

/// Asks a person, where one is there.
pub trait Ask: Send + Sync {
    /// Asks for a secret, which is not shown; `None` when nobody is there.
    fn secret(&self, question: &str) -> Option<String>;
    /// Asks for yes or no; `None` when nobody is there.
    fn yes(&self, question: &str) -> Option<bool>;
}

/// Asks nobody.
#[derive(Debug, Clone, Copy)]
pub struct Nobody;

impl Ask for Nobody {
    fn secret(&self, _: &str) -> Option<String> {
        None
    }

    fn yes(&self, _: &str) -> Option<bool> {
        None
    }
}

/// What this machine has to get into hosts.
#[derive(Clone)]
pub struct Access {
    /// The password, from the environment.
    pub password: Option<String>,
    /// The password of encrypted archives, from the environment.
    pub archive_password: Option<String>,
    /// The socket of an SSH agent.
    pub agent: Option<PathBuf>,
    /// The person's SSH folder: keys and known hosts.
    pub ssh: Option<PathBuf>,
    /// The fingerprint of a host that is trusted when it is seen for the first time.
    pub trusted: Option<String>,
    /// Whom to ask.
    pub ask: Arc<dyn Ask>,
}

impl Access {
    /// Returns an access that has nothing and asks nobody.
    pub fn none() -> Self {
        Self { password: None, archive_password: None, agent: None, ssh: None, trusted: None, ask: Arc::new(Nobody) }
    }

    /// Returns the password: from the file that the roster names, the environment, or the person.
    pub(super) fn password(&self, login: &Login, beside: &Path, whom: &str) -> Result<Option<String>, HostError> {
        if let Some(file) = &login.password_file {
            return from_file(&beside.join(file)).map(Some);
        }
        Ok(self.password.clone().or_else(|| self.ask.secret(&format!("Password of {whom}"))))
    }
}

impl Access {
    /// Returns the password of an encrypted archive: from a file, the environment, or the person; `None` where none
    /// of them has one.
    ///
    /// # Errors
    /// The file cannot be read, is empty, or others can read it.
    pub fn archive_password(&self, file: Option<&Path>, archive: &str) -> Result<Option<String>, HostError> {
        if let Some(file) = file {
            return from_file(file).map(Some);
        }
        let ask = || self.ask.secret(&format!("Password of {}", clean(archive, 80)));
        Ok(self.archive_password.clone().or_else(ask))
    }
}

fn from_file(file: &Path) -> Result<String, HostError> {
    let fail = |why: String| HostError::PasswordFile { file: file.display().to_string(), why };
    let text = std::fs::read_to_string(file).map_err(|e| fail(format!("cannot be read: {e}")))?;
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt as _;
        let mode = std::fs::metadata(file).map_err(|e| fail(e.to_string()))?.permissions().mode();
        if mode & 0o077 != 0 {
            return Err(fail(format!("can be read by others; make it yours alone: chmod 600 {}", file.display())));
        }
    }
    match text.lines().next().map(str::trim_end).filter(|l| !l.is_empty()) {
        Some(line) => Ok(line.to_owned()),
        None => Err(fail("is empty; its first line is to be the password".to_owned())),
    }
}
