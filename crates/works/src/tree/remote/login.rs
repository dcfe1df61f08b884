//! Logging in over SSH: the host's key, then the person's keys, agent or password.

use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};

use russh::client::{AuthResult, Handle, KeyboardInteractiveAuthResponse};
use russh::keys::agent::AgentIdentity;
use russh::keys::agent::client::AgentClient;
use russh::keys::{HashAlg, PrivateKeyWithHashAlg, PublicKeyOrCertificate, load_secret_key};
use yalotheca_core::roster::Login;
use yalotheca_core::text::clean;

use super::address::Address;
use super::error::HostError;
use super::sftp::CONNECT;
use super::trust::Trust;

/// Everything that is needed to get into a host.
pub(super) struct Door {
    pub(super) address: Address,
    pub(super) login: Login,
    /// The folder of the roster, which key and password files are relative to.
    pub(super) beside: PathBuf,
    pub(super) trust: Trust,
    /// A password that was asked for once.
    pub(super) asked: Mutex<Option<String>>,
}

/// An SSH connection that is logged in.
pub(super) struct Connection {
    handle: Handle<Keys>,
    host: String,
}

/// Hears the host's key; what is wrong with it is kept, since the library passes on its own errors only.
struct Keys {
    trust: Arc<Trust>,
    wrong: Arc<Mutex<Option<HostError>>>,
}

impl russh::client::Handler for Keys {
    type Error = russh::Error;

    async fn check_server_key(&mut self, key: &PublicKeyOrCertificate) -> Result<bool, Self::Error> {
        let judged = match key {
            PublicKeyOrCertificate::PublicKey { key, .. } => tokio::task::block_in_place(|| self.trust.key(key)),
            PublicKeyOrCertificate::Certificate(_) => Err(HostError::Strange {
                host: self.trust.host.clone(),
                why: "it shows a certificate where its key was asked for".to_owned(),
            }),
        };
        let fine = judged.is_ok();
        *self.wrong.lock().unwrap_or_else(PoisonError::into_inner) = judged.err();
        Ok(fine)
    }
}

impl Connection {
    pub(super) fn is_closed(&self) -> bool {
        self.handle.is_closed()
    }

    /// Opens the SFTP part of the connection.
    pub(super) async fn sftp(&self) -> Result<russh::ChannelStream<russh::client::Msg>, HostError> {
        let strange = |e: russh::Error| HostError::Strange {
            host: self.host.clone(),
            why: format!("it opens no SFTP channel: {}", clean(&e.to_string(), 120)),
        };
        let channel = self.handle.channel_open_session().await.map_err(strange)?;
        channel.request_subsystem(true, "sftp").await.map_err(strange)?;
        Ok(channel.into_stream())
    }
}

impl Door {
    /// Returns the password, asked for at most once.
    pub(super) fn password(&self) -> Result<Option<String>, HostError> {
        let mut asked = self.asked.lock().unwrap_or_else(PoisonError::into_inner);
        if asked.is_none() {
            *asked = self.trust.access.password(&self.login, &self.beside, &self.address.whom())?;
        }
        Ok(asked.clone())
    }

    /// Connects and logs in.
    pub(super) async fn connect(&self) -> Result<Connection, HostError> {
        let host = self.address.whom();
        let silent = |why: String| HostError::Silent { host: host.clone(), why };
        let config = russh::client::Config {
            window_size: 16 << 20,
            channel_buffer_size: 512,
            keepalive_interval: Some(std::time::Duration::from_secs(20)),
            keepalive_max: 3,
            nodelay: true,
            ..Default::default()
        };
        let wrong = Arc::new(Mutex::new(None));
        let trust = Trust {
            access: self.trust.access.clone(),
            home: self.trust.home.clone(),
            host: self.trust.host.clone(),
            port: self.trust.port,
        };
        let keys = Keys { trust: Arc::new(trust), wrong: wrong.clone() };
        let to = (self.address.host.as_str(), self.address.port);
        // a person who is asked about a key may take their time
        let connected = tokio::time::timeout(CONNECT * 15, russh::client::connect(Arc::new(config), to, keys)).await;
        let handle = match connected {
            Ok(Ok(handle)) => handle,
            Ok(Err(e)) => {
                let judged = wrong.lock().unwrap_or_else(PoisonError::into_inner).take();
                return Err(judged.unwrap_or_else(|| silent(clean(&e.to_string(), 120))));
            }
            Err(_) => return Err(silent("no answer in time".to_owned())),
        };
        let mut connection = Connection { handle, host: host.clone() };
        let mut tried = Vec::new();
        if self.with_agent(&mut connection, &mut tried).await
            || self.with_keys(&mut connection, &mut tried).await?
            || self.with_password(&mut connection, &mut tried).await?
        {
            return Ok(connection);
        }
        let why = format!("tried {}", yalotheca_core::text::listed(&tried));
        Err(HostError::Login { whom: host, why })
    }

    async fn with_agent(&self, connection: &mut Connection, tried: &mut Vec<String>) -> bool {
        let Some(socket) = &self.trust.access.agent else { return false };
        let Ok(mut agent) = AgentClient::connect_uds(socket).await else { return false };
        let Ok(identities) = agent.request_identities().await else { return false };
        for identity in identities {
            let AgentIdentity::PublicKey { key, .. } = identity else { continue };
            let hash = key.algorithm().is_rsa().then_some(HashAlg::Sha256);
            let user = self.address.user.as_str();
            let done = connection.handle.authenticate_publickey_with(user, key, hash, &mut agent).await;
            if matches!(done, Ok(AuthResult::Success)) {
                return true;
            }
        }
        tried.push("the keys of the agent".to_owned());
        false
    }

    /// Tries the key that the roster names, else those in the person's SSH folder.
    async fn with_keys(&self, connection: &mut Connection, tried: &mut Vec<String>) -> Result<bool, HostError> {
        let named = self.login.key.as_ref().map(|k| self.beside.join(k));
        let usual = ["id_ed25519", "id_ecdsa", "id_rsa"];
        let ssh = self.trust.access.ssh.iter().flat_map(|s| usual.iter().map(move |k| s.join(k)));
        let files: Vec<PathBuf> = match &named {
            Some(file) => vec![file.clone()],
            None => ssh.filter(|f| f.is_file()).collect(),
        };
        for file in files {
            let shown = file.display().to_string();
            let mut key = load_secret_key(&file, None);
            if matches!(key, Err(russh::keys::Error::KeyIsEncrypted)) && named.is_some() {
                let question = format!("Passphrase of the key {shown}");
                let phrase = tokio::task::block_in_place(|| self.trust.access.ask.secret(&question));
                key = load_secret_key(&file, phrase.as_deref());
            }
            let key = match key {
                Ok(key) => key,
                // a usual key that is locked is left to the agent
                Err(_) if named.is_none() => continue,
                Err(e) => return Err(HostError::KeyFile { file: shown, why: clean(&e.to_string(), 120) }),
            };
            let hash = key.algorithm().is_rsa().then_some(HashAlg::Sha256);
            let key = PrivateKeyWithHashAlg::new(Arc::new(key), hash);
            let done = connection.handle.authenticate_publickey(self.address.user.as_str(), key).await;
            if matches!(done, Ok(AuthResult::Success)) {
                return Ok(true);
            }
            tried.push(format!("the key {shown}"));
        }
        Ok(false)
    }

    async fn with_password(&self, connection: &mut Connection, tried: &mut Vec<String>) -> Result<bool, HostError> {
        if self.login.key.is_some() && self.login.password_file.is_none() && self.trust.access.password.is_none() {
            return Ok(false);
        }
        let Some(password) = tokio::task::block_in_place(|| self.password())? else {
            return if tried.is_empty() { Err(HostError::NoPassword { whom: self.address.whom() }) } else { Ok(false) };
        };
        let user = self.address.user.as_str();
        if matches!(connection.handle.authenticate_password(user, &password).await, Ok(AuthResult::Success)) {
            return Ok(true);
        }
        // many hosts take a password only as the answer to a question
        let mut reply = connection.handle.authenticate_keyboard_interactive_start(user, None::<String>).await;
        for _ in 0..4 {
            match reply {
                Ok(KeyboardInteractiveAuthResponse::Success) => return Ok(true),
                Ok(KeyboardInteractiveAuthResponse::InfoRequest { prompts, .. }) => {
                    let answers = prompts.iter().map(|_| password.clone()).collect();
                    reply = connection.handle.authenticate_keyboard_interactive_respond(answers).await;
                }
                _ => break,
            }
        }
        tried.push("the password".to_owned());
        *self.asked.lock().unwrap_or_else(PoisonError::into_inner) = None;
        Ok(false)
    }
}
