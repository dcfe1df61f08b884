//! The FTP side of a rented host. It speaks to its sockets itself, because an honest library would not let it lie.

use std::io::{BufRead as _, BufReader, Read, Seek as _, SeekFrom, Write};
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use rustls::{HandshakeKind, ServerConfig, ServerConnection, StreamOwned};

use super::disk::{No, Seen, civil};
use super::{Counted, Habits, Lie, PASSWORD, Shared, Tls, USER, line};
use crate::catalogue::sha256;

/// A running FTP host.
pub struct FtpHost {
    port: u16,
    shared: Arc<Shared>,
    fingerprint: String,
}

impl FtpHost {
    /// Starts a host over a folder, on a free loopback port.
    ///
    /// # Errors
    /// No port is free.
    pub fn start(folder: &Path, habits: Habits) -> std::io::Result<Self> {
        let fail = |e: String| std::io::Error::other(e);
        let made = rcgen::generate_simple_self_signed(["localhost".to_owned()]).map_err(|e| fail(e.to_string()))?;
        let certificate = made.cert.der().clone();
        let fingerprint = format!("SHA256:{}", sha256(&certificate));
        let key = rustls::pki_types::PrivateKeyDer::Pkcs8(made.signing_key.serialize_der().into());
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let tls = ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(|e| fail(e.to_string()))?
            .with_no_client_auth()
            .with_single_cert(vec![certificate], key)
            .map_err(|e| fail(e.to_string()))?;
        let shared = Arc::new(Shared::new(folder, habits));
        let listener = TcpListener::bind("127.0.0.1:0")?;
        let inner = listener.local_addr()?.port();
        let (host, tls) = (shared.clone(), Arc::new(tls));
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                if host.over.load(Ordering::SeqCst) {
                    return;
                }
                let (host, tls) = (host.clone(), tls.clone());
                let _ = stream.set_nodelay(true);
                std::thread::spawn(move || drop(Session::serve(stream, host, tls)));
            }
        });
        let port = line::open(&shared, inner, false)?;
        Ok(Self { port, shared, fingerprint })
    }

    /// Returns the address of a folder of the host, for the roster.
    pub fn address(&self, folder: &str) -> String {
        let scheme = match self.shared.habits.ftp.tls {
            None => "ftp",
            Some(Tls::Explicit) => "ftps",
            Some(Tls::Implicit) => "ftps-implicit",
        };
        format!("{scheme}://{USER}@127.0.0.1:{}/{}", self.port, folder.trim_start_matches('/'))
    }

    /// Returns the fingerprint of the host's certificate.
    pub fn fingerprint(&self) -> &str {
        &self.fingerprint
    }

    /// Returns what was counted so far, and counts anew.
    pub fn counted(&self) -> Counted {
        let bytes = self.shared.bytes.swap(0, Ordering::Relaxed);
        Counted { bytes, requests: self.shared.requests.swap(0, Ordering::Relaxed) }
    }
}

impl Drop for FtpHost {
    fn drop(&mut self) {
        self.shared.over.store(true, Ordering::SeqCst);
        drop(TcpStream::connect(("127.0.0.1", self.port)));
    }
}

/// A connection, encrypted or not.
enum Wire {
    Plain(TcpStream),
    Secret(Box<StreamOwned<ServerConnection, TcpStream>>),
}

impl Wire {
    fn secret(stream: TcpStream, tls: &Arc<ServerConfig>) -> std::io::Result<Self> {
        let connection = ServerConnection::new(tls.clone()).map_err(std::io::Error::other)?;
        let mut stream = StreamOwned::new(connection, stream);
        while stream.conn.is_handshaking() {
            stream.conn.complete_io(&mut stream.sock)?;
        }
        Ok(Wire::Secret(Box::new(stream)))
    }

    /// Whether the session of an earlier connection goes on.
    fn goes_on(&self) -> bool {
        matches!(self, Wire::Secret(s) if s.conn.handshake_kind() == Some(HandshakeKind::Resumed))
    }

    fn end(mut self) {
        if let Wire::Secret(stream) = &mut self {
            stream.conn.send_close_notify();
            let _ = stream.flush();
        }
    }
}

impl Read for Wire {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        match self {
            Wire::Plain(stream) => stream.read(buffer),
            Wire::Secret(stream) => match stream.read(buffer) {
                // a guest that hangs up without a word has said all
                Err(e) if e.kind() == std::io::ErrorKind::UnexpectedEof => Ok(0),
                other => other,
            },
        }
    }
}

impl Write for Wire {
    fn write(&mut self, buffer: &[u8]) -> std::io::Result<usize> {
        match self {
            Wire::Plain(stream) => stream.write(buffer),
            Wire::Secret(stream) => stream.write(buffer),
        }
    }

    fn flush(&mut self) -> std::io::Result<()> {
        match self {
            Wire::Plain(stream) => stream.flush(),
            Wire::Secret(stream) => stream.flush(),
        }
    }
}

struct Session {
    shared: Arc<Shared>,
    tls: Arc<ServerConfig>,
    user: String,
    inside: bool,
    folder: String,
    passive: Option<TcpListener>,
    protected: bool,
    from: u64,
    renamed: Option<String>,
}

type Io = std::io::Result<()>;

impl Session {
    fn serve(stream: TcpStream, shared: Arc<Shared>, tls: Arc<ServerConfig>) -> Io {
        let mode = shared.habits.ftp.tls;
        let wire = match mode {
            Some(Tls::Implicit) => Wire::secret(stream, &tls)?,
            _ => Wire::Plain(stream),
        };
        let mut session = Self {
            shared,
            tls,
            user: String::new(),
            inside: false,
            folder: "/".to_owned(),
            passive: None,
            protected: mode == Some(Tls::Implicit),
            from: 0,
            renamed: None,
        };
        let mut reader = BufReader::new(wire);
        say(reader.get_mut(), 220, "The rented host of the Tidewrack Club")?;
        loop {
            let mut line = Vec::new();
            if (&mut reader).take(8_192).read_until(b'\n', &mut line)? == 0 {
                return Ok(());
            }
            let line = String::from_utf8_lossy(&line).trim_end_matches(['\r', '\n']).to_owned();
            let (word, rest) = line.split_once(' ').unwrap_or((&line, ""));
            let word = word.to_ascii_uppercase();
            session.shared.asked();
            match word.as_str() {
                "QUIT" => return say(reader.get_mut(), 221, "Fair winds"),
                "AUTH" if mode == Some(Tls::Explicit) => {
                    say(reader.get_mut(), 234, "Go on")?;
                    let Wire::Plain(stream) = reader.into_inner() else { return Ok(()) };
                    reader = BufReader::new(Wire::secret(stream, &session.tls)?);
                    session.protected = true;
                }
                _ => session.answer(reader.get_mut(), &word, rest)?,
            }
        }
    }

    fn path(&self, given: &str) -> String {
        if given.starts_with('/') { given.to_owned() } else { format!("{}/{given}", self.folder.trim_end_matches('/')) }
    }

    fn answer(&mut self, out: &mut Wire, word: &str, rest: &str) -> Io {
        let shared = self.shared.clone();
        let ways = &shared.habits.ftp;
        match word {
            "USER" if ways.tls.is_some() && !self.protected => return say(out, 530, "Encrypt first"),
            "USER" => {
                rest.clone_into(&mut self.user);
                return say(out, 331, "And the password?");
            }
            "PASS" => {
                self.inside = self.user == USER && rest == PASSWORD;
                return if self.inside { say(out, 230, "Come in") } else { say(out, 530, "Login incorrect") };
            }
            "FEAT" => {
                let mut lines = vec!["UTF8", "SIZE", "MDTM"];
                if !ways.no_mlsd {
                    lines.push("MLST type*;size*;modify*;UNIX.mode*;");
                }
                if !ways.no_rest {
                    lines.push("REST STREAM");
                }
                if !ways.no_epsv {
                    lines.push("EPSV");
                }
                out.write_all(format!("211-Features:\r\n {}\r\n211 End\r\n", lines.join("\r\n ")).as_bytes())?;
                return out.flush();
            }
            "PBSZ" | "PROT" | "OPTS" | "NOOP" | "TYPE" => return say(out, 200, "As you like"),
            "SYST" => return say(out, 215, "UNIX Type: L8"),
            _ if !self.inside => return say(out, 530, "Log in first"),
            _ => {}
        }
        let path = self.path(rest);
        let disk = &shared.disk;
        let done = |out: &mut Wire, result: Result<(), No>| match result {
            Ok(()) => say(out, 250, "Done"),
            Err(no) => refuse(out, no),
        };
        match word {
            "PWD" => say(out, 257, &format!("\"{}\"", self.folder)),
            "CWD" => match disk.look(&path) {
                Ok(seen) if seen.folder => {
                    self.folder = path;
                    say(out, 250, "You are there")
                }
                Ok(_) => say(out, 550, "Not a directory"),
                Err(no) => refuse(out, no),
            },
            "MKD" => match disk.make(&path) {
                Ok(()) => say(out, 257, &format!("\"{path}\" is made")),
                Err(no) => refuse(out, no),
            },
            "RMD" => done(out, disk.remove_folder(&path)),
            "DELE" => done(out, disk.remove(&path)),
            "RNFR" => match disk.look(&path) {
                Ok(_) => {
                    self.renamed = Some(path);
                    say(out, 350, "To what?")
                }
                Err(no) => refuse(out, no),
            },
            "RNTO" => match self.renamed.take() {
                Some(from) => done(out, disk.rename(&from, &path, true)),
                None => say(out, 503, "What?"),
            },
            "SIZE" => match disk.look(&path) {
                Ok(seen) if !seen.folder => say(out, 213, &seen.size.to_string()),
                Ok(_) => say(out, 550, "Not a file"),
                Err(no) => refuse(out, no),
            },
            "REST" if !ways.no_rest => {
                self.from = rest.trim().parse().unwrap_or(0);
                say(out, 350, "From there")
            }
            "EPSV" if !ways.no_epsv => {
                let port = self.listen()?;
                say(out, 229, &format!("Entering Extended Passive Mode (|||{port}|)"))
            }
            "PASV" => {
                let port = self.listen()?;
                // as behind a router: an address that nobody outside can reach
                say(out, 227, &format!("Entering Passive Mode (10,0,0,7,{},{})", port >> 8, port & 255))
            }
            "MLSD" if !ways.no_mlsd => match disk.list(&path) {
                Ok(all) => self.listing(out, &all, machine_line),
                Err(no) => refuse(out, no),
            },
            "LIST" => match disk.list(&self.path(rest.trim_start_matches("-a").trim())) {
                Ok(all) if ways.dos => self.listing(out, &all, dos_line),
                Ok(all) => self.listing(out, &all, unix_line),
                Err(no) => refuse(out, no),
            },
            "RETR" => self.send(out, &path),
            "STOR" => self.store(out, &path),
            _ => say(out, 502, "Command not implemented"),
        }
    }

    /// Opens a port for the next data connection; returns the public one.
    fn listen(&mut self) -> std::io::Result<u16> {
        let listener = TcpListener::bind("127.0.0.1:0")?;
        let port = line::open(&self.shared, listener.local_addr()?.port(), true)?;
        self.passive = Some(listener);
        Ok(port)
    }

    /// Takes the data connection, after saying so.
    fn data(&mut self, out: &mut Wire) -> std::io::Result<Option<Wire>> {
        let Some(listener) = self.passive.take() else {
            say(out, 425, "No data connection")?;
            return Ok(None);
        };
        say(out, 150, "Here it comes")?;
        let (stream, _) = listener.accept()?;
        if self.shared.habits.ftp.tls.is_none() {
            return Ok(Some(Wire::Plain(stream)));
        }
        let wire = Wire::secret(stream, &self.tls)?;
        if self.shared.habits.ftp.same_session && !wire.goes_on() {
            wire.end();
            say(out, 522, "The data connection must go on with the session of this one")?;
            return Ok(None);
        }
        Ok(Some(wire))
    }

    fn listing(&mut self, out: &mut Wire, all: &[Seen], line: fn(&Seen) -> String) -> Io {
        let endless = self.shared.habits.lie == Some(Lie::Listing);
        let Some(mut wire) = self.data(out)? else { return Ok(()) };
        let text: String = all.iter().map(|s| line(s) + "\r\n").collect();
        wire.write_all(text.as_bytes())?;
        if endless {
            let more = "type=file;size=1;modify=20261123120000; more\r\n".repeat(20_000);
            while wire.write_all(more.as_bytes()).is_ok() {}
        }
        wire.end();
        say(out, 226, "That was all")
    }

    fn send(&mut self, out: &mut Wire, path: &str) -> Io {
        let from = std::mem::take(&mut self.from);
        let mut file = match self.shared.disk.read(path) {
            Ok(file) => file,
            Err(no) => return refuse(out, no),
        };
        file.seek(SeekFrom::Start(from))?;
        let Some(mut wire) = self.data(out)? else { return Ok(()) };
        let sent = std::io::copy(&mut file, &mut wire);
        wire.end();
        match sent {
            Ok(_) => say(out, 226, "That was all"),
            Err(_) => say(out, 426, "The transfer was cut"),
        }
    }

    fn store(&mut self, out: &mut Wire, path: &str) -> Io {
        let from = std::mem::take(&mut self.from);
        let shared = self.shared.clone();
        let mut file = match shared.disk.write(path, from == 0) {
            Ok(file) => file,
            Err(no) => return refuse(out, no),
        };
        file.set_len(from.min(file.metadata()?.len()))?;
        file.seek(SeekFrom::End(0))?;
        let Some(mut wire) = self.data(out)? else { return Ok(()) };
        let mut buffer = vec![0; 64 * 1024];
        loop {
            let count = wire.read(&mut buffer)?;
            let Some(bytes) = buffer.get(..count).filter(|b| !b.is_empty()) else { break };
            if let Err(no) = shared.disk.take(count as u64) {
                drop(wire);
                return refuse(out, no);
            }
            if shared.habits.lie == Some(Lie::Bytes) && bytes.starts_with(b"PK") {
                file.write_all(b"p").and_then(|()| file.write_all(bytes.get(1..).unwrap_or_default()))?;
                continue;
            }
            file.write_all(shared.disk.kept(bytes))?;
        }
        drop(wire);
        say(out, 226, "Stored")
    }
}

fn say(out: &mut Wire, code: u16, words: &str) -> Io {
    out.write_all(format!("{code} {words}\r\n").as_bytes())?;
    out.flush()
}

fn refuse(out: &mut Wire, no: No) -> Io {
    let code = match no {
        No::Full => 552,
        No::Name => 553,
        _ => 550,
    };
    say(out, code, no.words())
}

fn machine_line(seen: &Seen) -> String {
    let (y, mo, d, h, mi, s) = civil(seen.time);
    let kind = if seen.link {
        "OS.unix=slink"
    } else if seen.folder {
        "dir"
    } else {
        "file"
    };
    let mode = if seen.writable { "0644" } else { "0444" };
    format!(
        "type={kind};size={};modify={y:04}{mo:02}{d:02}{h:02}{mi:02}{s:02};UNIX.mode={mode}; {}",
        seen.size, seen.name
    )
}

const MONTHS: [&str; 12] = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

fn unix_line(seen: &Seen) -> String {
    let (_, month, day, hour, minute, _) = civil(seen.time);
    let kind = if seen.link {
        'l'
    } else if seen.folder {
        'd'
    } else {
        '-'
    };
    let mode = if seen.writable { "rw-r--r--" } else { "r--r--r--" };
    let month = MONTHS.get(month.saturating_sub(1) as usize).unwrap_or(&"Jan");
    let to = if seen.link { " -> elsewhere" } else { "" };
    format!(
        "{kind}{mode}   1 club     club     {:>8} {month} {day:>2} {hour:02}:{minute:02} {}{to}",
        seen.size, seen.name
    )
}

fn dos_line(seen: &Seen) -> String {
    let (year, month, day, hour, minute, _) = civil(seen.time);
    let (half, hour) = (if hour < 12 { "AM" } else { "PM" }, if hour % 12 == 0 { 12 } else { hour % 12 });
    let size = if seen.folder { "<DIR>         ".to_owned() } else { format!("{:>14}", seen.size) };
    format!("{month:02}-{day:02}-{:02}  {hour:02}:{minute:02}{half} {size} {}", year % 100, seen.name)
}
