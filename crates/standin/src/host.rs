//! A host of static files on loopback that can misbehave on demand. Stops when dropped.

use std::collections::BTreeMap;
use std::io::Write as _;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

use tiny_http::{Header, Request, Response, Server, StatusCode};

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
    server: Arc<Server>,
    shared: Arc<Mutex<Shared>>,
    thread: Option<JoinHandle<()>>,
}

impl Host {
    /// Starts a host of some files on a free loopback port.
    ///
    /// # Errors
    /// No port is free.
    pub fn start(files: Files) -> std::io::Result<Self> {
        let server = Arc::new(Server::http("127.0.0.1:0").map_err(std::io::Error::other)?);
        let port = server.server_addr().to_ip().map_or(0, |a| a.port());
        let shared = Arc::new(Mutex::new(Shared { files, ..Shared::default() }));
        let (serving, state) = (server.clone(), shared.clone());
        let thread = std::thread::spawn(move || {
            for request in serving.incoming_requests() {
                let state = state.clone();
                std::thread::spawn(move || answer(request, &state));
            }
        });
        Ok(Self { address: format!("http://127.0.0.1:{port}/"), server, shared, thread: Some(thread) })
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

    /// Returns the paths asked for since the last call, in order, with `=` before those answered "not changed".
    pub fn asked(&self) -> Vec<String> {
        std::mem::take(&mut lock(&self.shared).asked)
    }
}

impl Drop for Host {
    fn drop(&mut self) {
        self.server.unblock();
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

fn lock(shared: &Mutex<Shared>) -> MutexGuard<'_, Shared> {
    shared.lock().unwrap_or_else(PoisonError::into_inner)
}

fn answer(request: Request, shared: &Mutex<Shared>) {
    let path = request.url().split('?').next().unwrap_or("").trim_start_matches('/').to_owned();
    let header = |name: &'static str| {
        request.headers().iter().find(|h| h.field.equiv(name)).map(|h| h.value.as_str().to_owned())
    };
    let (tag_asked, range) = (header("If-None-Match"), header("Range"));
    let (file, mood) = {
        let mut shared = lock(shared);
        let mood = shared.moods.get(&path).copied();
        if mood == Some(Mood::CutOnce) {
            shared.moods.remove(&path);
        }
        (shared.files.get(&path).cloned(), mood)
    };
    let log = |mark: &str| lock(shared).asked.push(format!("{mark}{path}"));
    let Some(bytes) = file else {
        log("?");
        let _ = request.respond(Response::from_string("nothing here").with_status_code(404));
        return;
    };
    let tag = format!("\"{}\"", sha256(&bytes).get(..16).unwrap_or(""));
    if tag_asked.as_deref() == Some(&tag) && mood.is_none() {
        log("=");
        let _ = request.respond(Response::empty(304));
        return;
    }
    log("");
    match mood {
        None => whole(request, bytes, &tag, range.as_deref()),
        Some(mood) => moody(request, bytes, &tag, mood),
    }
}

fn whole(request: Request, bytes: Vec<u8>, tag: &str, range: Option<&str>) {
    let from = range.and_then(|r| r.strip_prefix("bytes=")?.strip_suffix('-')?.parse::<usize>().ok());
    let mut response = match from.filter(|f| *f < bytes.len()) {
        Some(from) => {
            let part = bytes.get(from..).unwrap_or_default().to_vec();
            let said = format!("bytes {from}-{}/{}", bytes.len() - 1, bytes.len());
            let mut response = Response::from_data(part).with_status_code(StatusCode(206));
            if let Ok(header) = Header::from_bytes("Content-Range", said) {
                response.add_header(header);
            }
            response
        }
        None => Response::from_data(bytes),
    };
    if let Ok(header) = Header::from_bytes("ETag", tag) {
        response.add_header(header);
    }
    let _ = request.respond(response);
}

fn moody(request: Request, bytes: Vec<u8>, tag: &str, mood: Mood) {
    let raw = |request: Request, head: String, body: &[u8]| {
        let mut out = request.into_writer();
        let _ = out.write_all(head.as_bytes()).and_then(|()| out.write_all(body)).and_then(|()| out.flush());
    };
    let head = |length: usize| format!("HTTP/1.1 200 OK\r\nContent-Length: {length}\r\nConnection: close\r\n\r\n");
    match mood {
        Mood::Down => {
            let _ = request.respond(Response::from_string("out to lunch").with_status_code(500));
        }
        Mood::Slow(time) => {
            std::thread::sleep(time);
            whole(request, bytes, tag, None);
        }
        Mood::Cut | Mood::CutOnce => {
            let half = bytes.get(..bytes.len() / 2).unwrap_or_default();
            raw(request, head(bytes.len()), half);
        }
        Mood::Longer => {
            let mut more = bytes;
            more.extend_from_slice(b"and more");
            whole(request, more, tag, None);
        }
        Mood::Other => {
            let other = bytes.iter().map(|b| b ^ 1).collect();
            whole(request, other, tag, None);
        }
        Mood::Page => {
            let mut response = Response::from_string("<!doctype html><title>Your download</title>Click here");
            if let Ok(header) = Header::from_bytes("Content-Type", "text/html; charset=utf-8") {
                response.add_header(header);
            }
            let _ = request.respond(response);
        }
        Mood::Babble => {
            let _ = request.respond(Response::from_string("gull gull \u{1b}[31mgull"));
        }
        Mood::Endless => {
            let mut out = request.into_writer();
            let _ = out.write_all(b"HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n");
            let chunk = vec![b'x'; 1 << 20];
            // bounded all the same: nobody should ever hear the end of it
            for _ in 0..10_000 {
                if out.write_all(&chunk).is_err() {
                    return;
                }
            }
        }
    }
}
