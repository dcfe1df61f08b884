//! A host of static files on loopback that can misbehave on demand. Stops when dropped.
//!
//! It speaks to the socket itself, because an honest HTTP library would not let it lie.

use std::collections::BTreeMap;
use std::io::{Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

use crate::catalogue::{Files, sha256};

/// How the host answers for one path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mood {
    /// Status 500.
    Down,
    /// Says nothing for so long, then answers.
    Slow(Duration),
    /// Announces everything, sends half and hangs up.
    Cut,
    /// The same, but only the first time.
    CutOnce,
    /// Sends a few bytes more than there are.
    Longer,
    /// Sends other bytes of the same size.
    Other,
    /// Sends a web page.
    Page,
    /// Sends something that is no JSON.
    Babble,
    /// Never ends.
    Endless,
}

#[derive(Debug, Default)]
struct Shared {
    files: Files,
    moods: BTreeMap<String, Mood>,
    asked: Vec<String>,
}

/// A running host.
pub struct Host {
    address: String,
    port: u16,
    shared: Arc<Mutex<Shared>>,
    over: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

/// Fetches one address on loopback, as a player's game would.
///
/// # Errors
/// What came instead, as the end of a sentence.
pub fn get(address: &str) -> Result<Vec<u8>, String> {
    let silent = |_| "does not answer".to_owned();
    let rest = address.strip_prefix("http://").ok_or("is no address that a player's game fetches from")?;
    let (place, path) = rest.split_once('/').unwrap_or((rest, ""));
    let mut stream = TcpStream::connect(place).map_err(silent)?;
    write!(stream, "GET /{path} HTTP/1.1\r\nHost: {place}\r\nConnection: close\r\n\r\n").map_err(silent)?;
    let mut answer = Vec::new();
    stream.take(64_000_000).read_to_end(&mut answer).map_err(silent)?;
    let end = answer.windows(4).position(|w| w == b"\r\n\r\n").ok_or("gave no answer")?;
    let head = String::from_utf8_lossy(answer.get(..end).unwrap_or_default()).into_owned();
    match head.split_whitespace().nth(1) {
        Some("200") => Ok(answer.split_off(end + 4)),
        Some(status) => Err(format!("answers with {status}")),
        None => Err("gave no answer".to_owned()),
    }
}

impl Host {
    /// Starts a host of some files on a free loopback port.
    ///
    /// # Errors
    /// No port is free.
    pub fn start(files: Files) -> std::io::Result<Self> {
        let listener = TcpListener::bind("127.0.0.1:0")?;
        let port = listener.local_addr()?.port();
        let shared = Arc::new(Mutex::new(Shared { files, ..Shared::default() }));
        let over = Arc::new(AtomicBool::new(false));
        let (state, ended) = (shared.clone(), over.clone());
        let thread = std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                if ended.load(Ordering::SeqCst) {
                    return;
                }
                let state = state.clone();
                std::thread::spawn(move || drop(serve(stream, &state)));
            }
        });
        Ok(Self { address: format!("http://127.0.0.1:{port}/"), port, shared, over, thread: Some(thread) })
    }

    /// Returns the address, with a slash at its end.
    pub fn address(&self) -> &str {
        &self.address
    }

    /// Makes the host answer in a mood for one path; `None` makes it behave again.
    pub fn mood(&self, path: &str, mood: Option<Mood>) {
        let mut shared = lock(&self.shared);
        match mood {
            Some(mood) => shared.moods.insert(path.to_owned(), mood),
            None => shared.moods.remove(path),
        };
    }

    /// Replaces the files.
    pub fn replace(&self, files: Files) {
        lock(&self.shared).files = files;
    }

    /// Serves one file more.
    pub fn add(&self, path: &str, bytes: &[u8]) {
        lock(&self.shared).files.insert(path.to_owned(), bytes.to_vec());
    }

    /// Returns the paths asked for since the last call, in order, with `=` before those answered "not changed" and
    /// `?` before those that are not there.
    pub fn asked(&self) -> Vec<String> {
        std::mem::take(&mut lock(&self.shared).asked)
    }
}

impl Drop for Host {
    fn drop(&mut self) {
        self.over.store(true, Ordering::SeqCst);
        // the thread waits for a caller: be one
        drop(TcpStream::connect(("127.0.0.1", self.port)));
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

fn lock(shared: &Mutex<Shared>) -> MutexGuard<'_, Shared> {
    shared.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A request: its path and the headers that matter here.
struct Asked {
    path: String,
    tag: Option<String>,
    from: Option<usize>,
}

fn read(stream: &mut TcpStream) -> std::io::Result<Asked> {
    let bad = || std::io::Error::from(std::io::ErrorKind::InvalidData);
    let mut head = Vec::new();
    let mut chunk = [0; 4096];
    while !head.windows(4).any(|w| w == b"\r\n\r\n") {
        let count = stream.read(&mut chunk)?;
        if count == 0 || head.len() > 64_000 {
            return Err(bad());
        }
        head.extend_from_slice(chunk.get(..count).unwrap_or_default());
    }
    let mut headers = [httparse::EMPTY_HEADER; 64];
    let mut request = httparse::Request::new(&mut headers);
    request.parse(&head).map_err(|_| bad())?;
    let path = request.path.unwrap_or("/").split('?').next().unwrap_or("").trim_start_matches('/').to_owned();
    let find = |name: &str| {
        let found = request.headers.iter().find(|h| h.name.eq_ignore_ascii_case(name));
        found.map(|h| String::from_utf8_lossy(h.value).into_owned())
    };
    let from = find("Range").and_then(|r| r.strip_prefix("bytes=")?.strip_suffix('-')?.parse().ok());
    Ok(Asked { path, tag: find("If-None-Match"), from })
}

/// Answers one request and hangs up.
fn serve(mut stream: TcpStream, shared: &Mutex<Shared>) -> std::io::Result<()> {
    let asked = read(&mut stream)?;
    let path = &asked.path;
    let (file, mood) = {
        let mut shared = lock(shared);
        let mood = shared.moods.get(path).copied();
        if mood == Some(Mood::CutOnce) {
            shared.moods.remove(path);
        }
        (shared.files.get(path).cloned(), mood)
    };
    let log = |mark: &str| lock(shared).asked.push(format!("{mark}{path}"));
    let Some(bytes) = file else {
        log("?");
        return answer(&mut stream, "404 Not Found", &[], b"nothing here");
    };
    let tag = format!("\"{}\"", sha256(&bytes).get(..16).unwrap_or(""));
    if asked.tag.as_deref() == Some(&tag) && mood.is_none() {
        log("=");
        return answer(&mut stream, "304 Not Modified", &[("ETag", &tag)], b"");
    }
    log("");
    let plain = |stream: &mut TcpStream, bytes: &[u8]| answer(stream, "200 OK", &[("ETag", &tag)], bytes);
    match mood {
        None => match asked.from.filter(|f| *f < bytes.len()) {
            Some(from) => {
                let said = format!("bytes {from}-{}/{}", bytes.len() - 1, bytes.len());
                let part = bytes.get(from..).unwrap_or_default();
                answer(&mut stream, "206 Partial Content", &[("ETag", &tag), ("Content-Range", &said)], part)
            }
            None => plain(&mut stream, &bytes),
        },
        Some(Mood::Down) => answer(&mut stream, "500 Internal Server Error", &[], b"out to lunch"),
        Some(Mood::Slow(time)) => {
            std::thread::sleep(time);
            plain(&mut stream, &bytes)
        }
        Some(Mood::Cut | Mood::CutOnce) => {
            head(&mut stream, "200 OK", &[], Some(bytes.len()))?;
            stream.write_all(bytes.get(..bytes.len() / 2).unwrap_or_default())
        }
        Some(Mood::Longer) => plain(&mut stream, &[&bytes, &b"and more"[..]].concat()),
        Some(Mood::Other) => plain(&mut stream, &bytes.iter().map(|b| b ^ 1).collect::<Vec<_>>()),
        Some(Mood::Page) => {
            let page = b"<!doctype html><title>Your download</title>Click here";
            answer(&mut stream, "200 OK", &[("Content-Type", "text/html; charset=utf-8")], page)
        }
        Some(Mood::Babble) => plain(&mut stream, b"gull gull \x1b[31mgull"),
        Some(Mood::Endless) => {
            head(&mut stream, "200 OK", &[], None)?;
            let chunk = vec![b'x'; 1 << 20];
            // ten gigabytes, if anybody listens so long
            (0..10_000).try_for_each(|_| stream.write_all(&chunk))
        }
    }
}

fn head(stream: &mut TcpStream, status: &str, headers: &[(&str, &str)], length: Option<usize>) -> std::io::Result<()> {
    let mut text = format!("HTTP/1.1 {status}\r\nConnection: close\r\n");
    if let Some(length) = length {
        text.push_str(&format!("Content-Length: {length}\r\n"));
    }
    for (name, value) in headers {
        text.push_str(&format!("{name}: {value}\r\n"));
    }
    text.push_str("\r\n");
    stream.write_all(text.as_bytes())
}

fn answer(stream: &mut TcpStream, status: &str, headers: &[(&str, &str)], body: &[u8]) -> std::io::Result<()> {
    head(stream, status, headers, Some(body.len()))?;
    stream.write_all(body)
}
