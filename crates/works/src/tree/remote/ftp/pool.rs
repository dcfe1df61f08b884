//! Connections to an FTP host: several, within what the host allows, made anew when they are lost.

use std::net::{SocketAddr, TcpStream, ToSocketAddrs as _};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::Duration;

use suppaftp::types::FileType;
use suppaftp::{FtpError, Mode, RustlsConnector, RustlsFtpStream, Status};
use yalotheca_core::text::clean;

use super::super::error::HostError;
use super::super::login::Door;
use super::super::sftp::CONNECT;
use super::super::wire::{Stop, TRIES, pause};
use super::super::{Scheme, trust};
use super::tls::{self, Judge};

/// So many connections are made where neither roster nor host says otherwise.
const USUAL: usize = 4;
/// How long an answer may take.
const ANSWER: Duration = Duration::from_secs(60);

/// A connection that is logged in.
pub(super) struct Conn {
    pub(super) ftp: RustlsFtpStream,
    /// Where the login begins: a listing may lead elsewhere, so all paths are whole ones.
    base: String,
    /// Whether the host knows MLSD.
    pub(super) mlsd: bool,
    /// Whether a transfer can go on in the middle.
    pub(super) rest: bool,
    /// Whether its session can be gone on with again and again.
    pub(super) one_session: bool,
}

impl Conn {
    /// Returns a path from the top of what the login sees.
    pub(super) fn whole(&self, path: &str) -> String {
        match path {
            _ if path.starts_with('/') => path.to_owned(),
            "." => self.base.clone(),
            below => format!("{}/{below}", self.base.trim_end_matches('/')),
        }
    }
}

/// What became of a command.
pub(super) enum Fault {
    /// The host said no: its number and words.
    No(u32, String),
    /// The connection is gone or silent.
    Lost(String),
    /// Not to be tried again.
    Host(HostError),
}

impl From<FtpError> for Fault {
    fn from(e: FtpError) -> Self {
        match e {
            FtpError::UnexpectedResponse(response) => {
                let words = clean(String::from_utf8_lossy(&response.body).trim(), 160);
                // the library knows not every number
                let code = words.get(..3).and_then(|c| c.parse().ok());
                match response.status {
                    Status::NotAvailable | Status::CannotOpenDataConnection | Status::TransferAborted => {
                        Fault::Lost(words)
                    }
                    status => Fault::No(code.unwrap_or(status.code()), words),
                }
            }
            other => Fault::Lost(clean(&other.to_string(), 160)),
        }
    }
}

impl From<HostError> for Fault {
    fn from(e: HostError) -> Self {
        Fault::Host(e)
    }
}

pub(super) type Done<T> = Result<T, Fault>;

#[derive(Default)]
struct Slots {
    idle: Vec<Conn>,
    /// Connections that are there, idle or at work.
    count: usize,
    /// The most that the host takes, once it refused one more.
    most: Option<usize>,
}

/// What encrypts connections, and judges certificates.
type Made = Result<(Arc<rustls::ClientConfig>, Arc<Judge>), String>;

/// The connections to one host.
pub(super) struct Pool {
    pub(super) door: Door,
    slots: Mutex<Slots>,
    freed: Condvar,
    tls: [OnceLock<Made>; 2],
    /// Whether one session is to be gone on with again and again, which TLS 1.2 can.
    one_session: AtomicBool,
    /// Whether the host takes EPSV; else PASV.
    extended: AtomicBool,
    stop: Arc<Stop>,
}

impl Pool {
    pub(super) fn new(door: Door, stop: Arc<Stop>) -> Self {
        let (slots, freed, tls) = (Mutex::default(), Condvar::new(), [OnceLock::new(), OnceLock::new()]);
        let (one_session, extended) = (AtomicBool::new(false), AtomicBool::new(true));
        Self { door, slots, freed, tls, one_session, extended, stop }
    }

    fn lock(&self) -> MutexGuard<'_, Slots> {
        self.slots.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The most connections that are made.
    pub(super) fn most(&self) -> usize {
        let wanted = self.door.login.connections.map_or(USUAL, usize::from).max(1);
        self.lock().most.map_or(wanted, |m| m.min(wanted))
    }

    /// Does something over a connection, and again over a new one where that was lost.
    pub(super) fn again<T>(&self, act: impl FnMut(&mut Conn, u32) -> Done<T>) -> Result<Done<T>, HostError> {
        self.with_progress(&AtomicU64::new(0), act)
    }

    /// The same for long work: as long as it gets on, it is not given up.
    pub(super) fn with_progress<T>(
        &self,
        progress: &AtomicU64,
        mut act: impl FnMut(&mut Conn, u32) -> Done<T>,
    ) -> Result<Done<T>, HostError> {
        let (mut tried, mut before) = (0, 0);
        loop {
            if self.stop.now() {
                return Err(HostError::Stopped);
            }
            let (mut conn, fresh) = match self.take() {
                Ok(taken) => taken,
                Err(HostError::Silent { .. }) if tried > 0 && tried < TRIES => {
                    tried += 1;
                    std::thread::sleep(pause(tried));
                    continue;
                }
                Err(e) => return Err(e),
            };
            match act(&mut conn, tried) {
                Err(Fault::Lost(why)) => {
                    drop(conn);
                    self.gone();
                    // one that was idle may have been closed by the host long ago
                    let now = progress.load(Ordering::Relaxed);
                    tried = if now > before { 1 } else { tried + 1 };
                    before = now;
                    if tried >= TRIES {
                        return Err(HostError::Lost { host: self.door.address.whom(), tries: tried, why });
                    }
                    if fresh {
                        std::thread::sleep(pause(tried));
                    }
                }
                Err(Fault::Host(e)) => {
                    drop(conn);
                    self.gone();
                    return Err(e);
                }
                other => {
                    self.lock().idle.push(conn);
                    self.freed.notify_one();
                    return Ok(other);
                }
            }
        }
    }

    fn gone(&self) {
        let mut slots = self.lock();
        slots.count = slots.count.saturating_sub(1);
        drop(slots);
        self.freed.notify_one();
    }

    /// A connection, idle or new; and whether it is new.
    fn take(&self) -> Result<(Conn, bool), HostError> {
        let wanted = self.door.login.connections.map_or(USUAL, usize::from).max(1);
        let mut slots = self.lock();
        loop {
            if let Some(conn) = slots.idle.pop() {
                return Ok((conn, false));
            }
            if slots.count < slots.most.map_or(wanted, |m| m.min(wanted)) {
                slots.count += 1;
                drop(slots);
                match self.connect() {
                    Ok(conn) => return Ok((conn, true)),
                    Err((e, full)) => {
                        slots = self.lock();
                        slots.count -= 1;
                        if slots.count == 0 || !full {
                            return Err(e);
                        }
                        // the host takes no more than it has
                        slots.most = Some(slots.count);
                        continue;
                    }
                }
            }
            slots = self.freed.wait(slots).unwrap_or_else(PoisonError::into_inner);
        }
    }

    /// Connects and logs in; with an error comes whether the host merely has too many connections.
    fn connect(&self) -> Result<Conn, (HostError, bool)> {
        let address = &self.door.address;
        let host = address.whom();
        let silent = |why: String| (HostError::Silent { host: host.clone(), why: clean(&why, 120) }, false);
        let one_session = address.scheme == Scheme::Ftp || self.one_session.load(Ordering::Relaxed);
        let password = self.door.password().map_err(|e| (e, false))?;
        let to: SocketAddr = (address.host.as_str(), address.port)
            .to_socket_addrs()
            .ok()
            .and_then(|mut a| a.next())
            .ok_or_else(|| silent("no such host is known".to_owned()))?;
        let judged = |why: FtpError, judge: Option<&Arc<Judge>>| {
            let wrong = judge.and_then(|j| j.wrong.lock().unwrap_or_else(PoisonError::into_inner).take());
            match (wrong, Fault::from(why)) {
                (Some(wrong), _) => (wrong, false),
                (None, Fault::No(421 | 530, words)) | (None, Fault::Lost(words)) if words.starts_with("421") => {
                    (HostError::Silent { host: host.clone(), why: words }, true)
                }
                (None, Fault::No(_, words) | Fault::Lost(words)) => {
                    let full = words.to_lowercase().contains("too many") || words.contains("maximum");
                    (HostError::Silent { host: host.clone(), why: words }, full)
                }
                (None, Fault::Host(e)) => (e, false),
            }
        };
        let plain = || -> Result<RustlsFtpStream, FtpError> {
            let socket = TcpStream::connect_timeout(&to, CONNECT).map_err(FtpError::ConnectionError)?;
            timed(&socket)?;
            RustlsFtpStream::connect_with_stream(socket)
        };
        let secured = || self.tls().map_err(&silent);
        let mut ftp = match address.scheme {
            Scheme::FtpsImplicit => {
                let (config, judge) = secured()?;
                let made = RustlsFtpStream::connect_secure_implicit(to, RustlsConnector::from(config), &address.host);
                made.map_err(|e| judged(e, Some(&judge)))?
            }
            Scheme::FtpsExplicit => {
                let (config, judge) = secured()?;
                let made = plain().and_then(|p| p.into_secure(RustlsConnector::from(config), &address.host));
                made.map_err(|e| judged(e, Some(&judge)))?
            }
            _ => plain().map_err(|e| judged(e, None))?,
        };
        timed(&ftp.get_ref()).map_err(|e| silent(e.to_string()))?;
        let given = password.as_deref().unwrap_or("");
        if let Err(e) = ftp.login(address.user.as_str(), given) {
            return Err(match Fault::from(e) {
                Fault::No(530, words) if words.to_lowercase().contains("too many") || words.contains("maximum") => {
                    (HostError::Silent { host, why: words }, true)
                }
                Fault::No(code, words) if (530..540).contains(&code) || code == 430 => {
                    if password.is_none() {
                        (HostError::NoPassword { whom: host }, false)
                    } else {
                        (
                            HostError::Login { whom: host, why: format!("the password was tried; it says: {words}") },
                            false,
                        )
                    }
                }
                Fault::No(_, words) | Fault::Lost(words) => (HostError::Silent { host, why: words }, true),
                Fault::Host(e) => (e, false),
            });
        }
        self.greet(ftp, one_session).map_err(|fault| match fault {
            Fault::No(_, words) | Fault::Lost(words) => silent(words),
            Fault::Host(e) => (e, false),
        })
    }

    /// Agrees on how files and names travel.
    fn greet(&self, mut ftp: RustlsFtpStream, one_session: bool) -> Done<Conn> {
        if self.door.address.scheme == Scheme::FtpsImplicit {
            for command in ["PBSZ 0", "PROT P"] {
                ftp.custom_command(command, &[Status::CommandOk])?;
            }
        }
        ftp = ftp.passive_stream_builder(|address| {
            let socket = TcpStream::connect_timeout(&address, CONNECT).map_err(FtpError::ConnectionError)?;
            timed(&socket)?;
            Ok(socket)
        });
        ftp.transfer_type(FileType::Binary)?;
        // a host that knows no such question has none of it
        let features = match ftp.feat().map_err(Fault::from) {
            Ok(features) => features,
            Err(Fault::No(..)) => Default::default(),
            Err(other) => return Err(other),
        };
        let has = |name: &str| features.keys().any(|k| k.trim().eq_ignore_ascii_case(name));
        let mlsd = has("MLST") || has("MLSD");
        if has("UTF8") {
            let _ = ftp.opts("UTF8", Some("ON"));
        }
        // the data goes where the control connection goes, whatever the host claims
        ftp.set_passive_nat_workaround(true);
        ftp.set_mode(if self.extended.load(Ordering::Relaxed) { Mode::ExtendedPassive } else { Mode::Passive });
        let rest = has("REST") || has("REST STREAM");
        let base = if self.door.address.folder.starts_with('/') { String::new() } else { ftp.pwd()? };
        Ok(Conn { ftp, base, mlsd, rest, one_session })
    }

    /// A host that does not know EPSV is spoken to with PASV from now on; returns whether that is new.
    pub(super) fn without_extended(&self, conn: &mut Conn) -> bool {
        conn.ftp.set_mode(Mode::Passive);
        self.extended.swap(false, Ordering::Relaxed)
    }

    /// A host that demands one session for all connections is given it from now on; returns whether this
    /// connection did not.
    pub(super) fn with_one_session(&self, conn: &Conn) -> bool {
        self.one_session.store(true, Ordering::Relaxed);
        !conn.one_session
    }

    fn tls(&self) -> Made {
        let once = self.one_session.load(Ordering::Relaxed);
        let [usual, other] = &self.tls;
        let made = if once { other } else { usual }.get_or_init(|| {
            let (access, home) = (self.door.trust.access.clone(), self.door.trust.home.clone());
            let (host, port) = (self.door.trust.host.clone(), self.door.trust.port);
            tls::configured(trust::Trust { access, home, host, port }, once)
        });
        made.clone()
    }
}

fn timed(socket: &TcpStream) -> Result<(), FtpError> {
    let set = socket.set_read_timeout(Some(ANSWER)).and_then(|()| socket.set_write_timeout(Some(ANSWER)));
    let _ = socket.set_nodelay(true);
    set.map_err(FtpError::ConnectionError)
}
