//! A rented host on loopback: a folder that is reached only over SFTP or FTP, and that misbehaves on demand.
//!
//! The folder is a real one, so that a made-up game server can run in it. Everything stops when the host is dropped.

pub mod disk;
pub mod ftp;
mod line;
pub mod sftp;

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use disk::Disk;

/// Who may log in.
pub const USER: &str = "club";
/// With which password.
pub const PASSWORD: &str = "low tide at noon";

/// How a host behaves; as a good one, unless told otherwise.
#[derive(Debug, Clone, Default)]
pub struct Habits {
    /// How long a byte is on its way to the host and back.
    pub delay: Duration,
    /// Bytes a second in each direction.
    pub bandwidth: Option<u64>,
    /// Each connection is cut after so many bytes.
    pub cut_after: Option<u64>,
    /// More connections than this are turned away.
    pub connections: Option<usize>,
    /// No more bytes than this may be stored.
    pub quota: Option<u64>,
    /// A file cannot be renamed over another.
    pub no_rename_over: bool,
    /// `A` and `a` are one name.
    pub case_blind: bool,
    /// Folders in which nothing may be changed.
    pub read_only: Vec<String>,
    /// Names with a dot in front are not listed and not taken.
    pub no_dot_names: bool,
    /// Names with letters beyond ASCII are not taken.
    pub plain_names: bool,
    /// Times are told to the minute.
    pub minutes: bool,
    /// The clock is ahead by so many seconds.
    pub clock: i64,
    /// What it lies about.
    pub lie: Option<Lie>,
    /// The ways of FTP.
    pub ftp: Ways,
}

impl Habits {
    /// Reads habits as `--stand-in rented` takes them: `delay=20` (ms), `bandwidth=1000000`, `cut=100000`,
    /// `connections=2`, `quota=5000000`, `clock=10800`, and the words of the others.
    pub fn parse(words: &[String]) -> Self {
        let mut out = Self::default();
        for word in words {
            let (name, value) = word.split_once('=').unwrap_or((word, ""));
            let number: Option<u64> = value.parse().ok();
            match name {
                "delay" => out.delay = Duration::from_millis(number.unwrap_or(0)),
                "bandwidth" => out.bandwidth = number,
                "cut" => out.cut_after = number,
                "connections" => out.connections = number.and_then(|n| usize::try_from(n).ok()),
                "quota" => out.quota = number,
                "clock" => out.clock = value.parse().unwrap_or(0),
                "read-only" => out.read_only.push(value.to_owned()),
                "no-rename-over" => out.no_rename_over = true,
                "case-blind" => out.case_blind = true,
                "no-dot-names" => out.no_dot_names = true,
                "plain-names" => out.plain_names = true,
                "minutes" => out.minutes = true,
                "no-mlsd" => out.ftp.no_mlsd = true,
                "no-epsv" => out.ftp.no_epsv = true,
                "no-rest" => out.ftp.no_rest = true,
                "dos" => out.ftp.dos = true,
                "tls" => out.ftp.tls = Some(Tls::Explicit),
                "implicit-tls" => out.ftp.tls = Some(Tls::Implicit),
                "same-session" => out.ftp.same_session = true,
                _ => {}
            }
        }
        out
    }
}

/// What a hostile host tells.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lie {
    /// Listings hold `..`, names with slashes, and control characters.
    Names,
    /// Each folder holds another one, without end.
    Endless,
    /// A listing never ends.
    Listing,
    /// Files are said to be larger than they are.
    Sizes,
    /// What is sent is stored without its last byte.
    Short,
    /// Plugins and packs are stored with their first byte changed.
    Bytes,
}

/// The ways of an FTP host.
#[derive(Debug, Clone, Default)]
pub struct Ways {
    /// It does not know MLSD.
    pub no_mlsd: bool,
    /// It does not know EPSV.
    pub no_epsv: bool,
    /// It does not know REST.
    pub no_rest: bool,
    /// It lists as DOS does.
    pub dos: bool,
    /// It speaks only to those who encrypt.
    pub tls: Option<Tls>,
    /// A data connection must go on with the session of its control connection.
    pub same_session: bool,
}

/// How an FTP host encrypts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tls {
    /// After AUTH TLS.
    Explicit,
    /// From the first byte.
    Implicit,
}

/// What all connections to a host share.
#[derive(Debug)]
pub(crate) struct Shared {
    pub(crate) disk: Disk,
    pub(crate) habits: Habits,
    pub(crate) over: AtomicBool,
    /// Bytes that came in and went out.
    pub(crate) bytes: Arc<AtomicU64>,
    /// Requests that were answered.
    pub(crate) requests: AtomicU64,
}

impl Shared {
    fn new(folder: &Path, habits: Habits) -> Self {
        let disk = Disk::new(folder, &habits);
        let (bytes, requests) = (Arc::default(), AtomicU64::new(0));
        Self { disk, habits, over: AtomicBool::new(false), bytes, requests }
    }

    pub(crate) fn asked(&self) {
        self.requests.fetch_add(1, Ordering::Relaxed);
    }
}

/// A rented host that speaks one protocol or the other.
pub enum Host {
    /// SFTP.
    Sftp(sftp::SftpHost),
    /// FTP.
    Ftp(ftp::FtpHost),
}

impl Host {
    /// Starts a host over a folder: `sftp`, else FTP.
    ///
    /// # Errors
    /// No port is free.
    pub fn start(protocol: &str, folder: &Path, habits: Habits, keys: &[String]) -> std::io::Result<Self> {
        Ok(match protocol {
            "sftp" => Host::Sftp(sftp::SftpHost::start(folder, habits, keys)?),
            _ => Host::Ftp(ftp::FtpHost::start(folder, habits)?),
        })
    }

    /// Returns the address of a folder of the host, for the roster.
    pub fn address(&self, folder: &str) -> String {
        match self {
            Host::Sftp(host) => host.address(folder),
            Host::Ftp(host) => host.address(folder),
        }
    }

    /// Returns the fingerprint of the host's key or certificate.
    pub fn fingerprint(&self) -> &str {
        match self {
            Host::Sftp(host) => host.fingerprint(),
            Host::Ftp(host) => host.fingerprint(),
        }
    }

    /// Returns what was counted so far, and counts anew.
    pub fn counted(&self) -> Counted {
        match self {
            Host::Sftp(host) => host.counted(),
            Host::Ftp(host) => host.counted(),
        }
    }
}

/// A line with habits of its own to a port of this machine: for measuring real servers from afar.
pub struct Line {
    shared: Arc<Shared>,
    port: u16,
}

impl Line {
    /// Opens a line to a port.
    ///
    /// # Errors
    /// No port is free.
    pub fn to(port: u16, habits: Habits) -> std::io::Result<Self> {
        let shared = Arc::new(Shared::new(Path::new("."), habits));
        let port = line::open(&shared, port, false)?;
        Ok(Self { shared, port })
    }

    /// Returns the port at which the line begins.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Returns the bytes that went over it so far, and counts anew.
    pub fn bytes(&self) -> u64 {
        self.shared.bytes.swap(0, Ordering::Relaxed)
    }
}

impl Drop for Line {
    fn drop(&mut self) {
        self.shared.over.store(true, Ordering::SeqCst);
        drop(std::net::TcpStream::connect(("127.0.0.1", self.port)));
    }
}

/// What a host counted since it was asked last.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Counted {
    /// Bytes in both directions, as they went over the wire.
    pub bytes: u64,
    /// Requests or commands.
    pub requests: u64,
}
