//! FTP, in the clear or encrypted: several connections, one file on each at a time.

pub(super) mod listing;
mod pool;
mod tls;

use std::io::{Read as _, Write as _};
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use suppaftp::Status;
use yalotheca_core::text::clean;

use super::body::{Body, Sink};
use super::error::HostError;
use super::login::Door;
use super::wire::{Get, Named, Op, Put, Stop, Wire};
use crate::tree::{Stat, die};
use pool::{Conn, Done, Fault, Pool};

/// A listing longer than this is not believed (bytes).
const MOST_LISTING: u64 = 64_000_000;
/// A piece of a file on its way (bytes).
const PIECE: u64 = 256 * 1024;
/// A file larger than this is asked about as soon as it was sent (bytes).
const CHECKED: u64 = 500_000;
/// So much before its end a transfer that was cut goes on (bytes).
const OVERLAP: u64 = 4 * 1024;

/// An FTP host.
pub(super) struct Ftp {
    pool: Pool,
}

impl Ftp {
    pub(super) fn new(door: Door, stop: Arc<Stop>) -> Self {
        Self { pool: Pool::new(door, stop) }
    }

    /// Does a job for each of some things, side by side over the connections; results in their order.
    fn each<A: Sync, T: Send>(
        &self,
        all: &[A],
        job: impl Fn(&A) -> Result<T, HostError> + Sync,
    ) -> Result<Vec<T>, HostError> {
        let workers = self.pool.most().min(all.len());
        if workers < 2 {
            return all.iter().map(job).collect();
        }
        let next = AtomicUsize::new(0);
        let done: Mutex<Vec<(usize, Result<T, HostError>)>> = Mutex::new(Vec::with_capacity(all.len()));
        std::thread::scope(|scope| {
            for _ in 0..workers {
                scope.spawn(|| {
                    loop {
                        let at = next.fetch_add(1, Ordering::Relaxed);
                        let Some(one) = all.get(at) else { return };
                        let result = job(one);
                        let failed = result.is_err();
                        done.lock().unwrap_or_else(PoisonError::into_inner).push((at, result));
                        if failed {
                            next.store(all.len(), Ordering::Relaxed);
                        }
                    }
                });
            }
        });
        let mut done = done.into_inner().unwrap_or_else(PoisonError::into_inner);
        done.sort_by_key(|(at, _)| *at);
        done.into_iter().map(|(_, result)| result).collect()
    }

    /// Does something that opens a data connection; a host without EPSV is met once.
    fn data<T>(&self, act: impl FnMut(&mut Conn, u32) -> Done<T>) -> Result<Done<T>, HostError> {
        self.data_with_progress(&AtomicU64::new(0), act)
    }

    fn data_with_progress<T>(
        &self,
        progress: &AtomicU64,
        mut act: impl FnMut(&mut Conn, u32) -> Done<T>,
    ) -> Result<Done<T>, HostError> {
        self.pool.with_progress(progress, |conn, tried| match act(conn, tried) {
            Err(Fault::No(500..=504, _)) if self.pool.without_extended(conn) => act(conn, tried),
            // 522: the data connection must go on with the session of the control connection
            Err(Fault::No(522, words)) if self.pool.with_one_session(conn) => Err(Fault::Lost(words)),
            Err(Fault::Lost(words)) if words.starts_with("425") => {
                self.pool.with_one_session(conn);
                Err(Fault::Lost(words))
            }
            other => other,
        })
    }

    fn refused(path: &str, doing: &'static str, fault: Fault) -> HostError {
        match fault {
            Fault::No(code, why) => {
                let why = if why.is_empty() { code.to_string() } else { why };
                HostError::Refused { path: clean(path, 200), doing, why }
            }
            Fault::Host(e) => e,
            Fault::Lost(why) => HostError::Refused { path: clean(path, 200), doing, why },
        }
    }

    fn list_one(&self, folder: &str) -> Result<Option<Vec<Named>>, HostError> {
        let doing = "cannot be listed";
        let done = self.data(|conn, _| {
            if conn.mlsd {
                match self.lines(conn, &format!("MLSD {}", conn.whole(folder))) {
                    Err(Fault::No(500..=504, _)) => conn.mlsd = false,
                    other => return Ok(other?.iter().filter_map(|l| listing::machine(l)).collect()),
                }
            }
            // not every host takes a name with spaces after LIST: go there
            conn.ftp.cwd(conn.whole(folder)).map_err(Fault::from)?;
            let lines = match self.lines(conn, "LIST -a") {
                Err(Fault::No(..)) => self.lines(conn, "LIST")?,
                other => other?,
            };
            Ok(lines.iter().filter_map(|l| listing::human(l)).collect())
        });
        match done? {
            Ok(list) => Ok(Some(list)),
            Err(Fault::No(450 | 550..=553, words)) if !says_no_rights(&words) => Ok(None),
            Err(fault) => Err(Self::refused(folder, doing, fault)),
        }
    }

    fn lines(&self, conn: &mut Conn, command: &str) -> Done<Vec<String>> {
        let expected = [Status::AboutToSend, Status::AlreadyOpen];
        let (_, stream) = conn.ftp.custom_data_command(command, &expected)?;
        let mut bytes = Vec::new();
        let mut stream = stream;
        let read = (&mut stream).take(MOST_LISTING + 1).read_to_end(&mut bytes);
        if bytes.len() as u64 > MOST_LISTING {
            let why = "a listing without end".to_owned();
            return Err(Fault::Host(HostError::Strange { host: self.pool.door.address.whom(), why }));
        }
        read.map_err(|e| Fault::Lost(clean(&e.to_string(), 120)))?;
        stream.finish()?;
        Ok(String::from_utf8_lossy(&bytes).lines().map(str::to_owned).collect())
    }

    fn stat_one(&self, path: &str) -> Result<Stat, HostError> {
        let (folder, name) = path.rsplit_once('/').unwrap_or((".", path));
        if name.is_empty() || name == "." {
            let there = self.pool.again(|conn, _| Ok(conn.ftp.cwd(conn.whole(path))?))?;
            return match there {
                Ok(()) => Ok(Stat::Folder),
                Err(Fault::No(..)) => Ok(Stat::Absent),
                Err(fault) => Err(Self::refused(path, "cannot be looked at", fault)),
            };
        }
        let folder = if folder.is_empty() { "/" } else { folder };
        let listed = self.list_one(folder)?.unwrap_or_default();
        Ok(listed.iter().find(|n| n.name == name).map_or(Stat::Absent, |n| n.stat))
    }

    fn get_one(&self, job: &Get) -> Result<Option<Sink>, HostError> {
        let (mut sink, progress) = (job.sink()?, AtomicU64::new(0));
        let done = self.data_with_progress(&progress, |conn, _| {
            if sink.size > 0 {
                if conn.rest {
                    conn.ftp.resume_transfer(usize::try_from(sink.size).unwrap_or(0))?;
                } else {
                    // a host that knows no REST sends all of it again
                    sink = job.sink()?;
                }
            }
            let mut stream = conn.ftp.retr_as_stream(conn.whole(&job.path))?;
            let mut buffer = vec![0; usize::try_from(PIECE).unwrap_or(65_536)];
            loop {
                let count = stream.read(&mut buffer).map_err(|e| Fault::Lost(clean(&e.to_string(), 120)))?;
                match buffer.get(..count) {
                    Some(piece) if !piece.is_empty() => sink.take(piece)?,
                    _ => break,
                }
                progress.store(sink.size, Ordering::Relaxed);
            }
            Ok(stream.finish()?)
        });
        match done? {
            Ok(()) => Ok(Some(sink)),
            Err(fault @ Fault::No(450..=553, _)) => match self.stat_one(&job.path)? {
                Stat::Absent => Ok(None),
                _ => Err(Self::refused(&job.path, "cannot be read", fault)),
            },
            Err(fault) => Err(Self::refused(&job.path, "cannot be read", fault)),
        }
    }

    /// Sends a file, from where an earlier try stopped. A cut connection is noticed by its next command; what had
    /// arrived is asked for over the new one.
    fn put_one(&self, job: &Put) -> Result<(), HostError> {
        let (path, body, progress) = (job.path.as_str(), &job.body, AtomicU64::new(0));
        let done = self.data_with_progress(&progress, |conn, tried| {
            if tried == 0 {
                die::point();
            }
            let from = if tried > 0 && conn.rest { arrived(conn, path, body)? } else { 0 };
            progress.store(from, Ordering::Relaxed);
            send(conn, path, body, from)?;
            if body.size() > CHECKED {
                // to the host a data connection that was cut looks like one that ended
                let there = conn.ftp.size(conn.whole(path)).map_err(Fault::from);
                if let Ok(bytes) = there
                    && (bytes as u64) < body.size()
                {
                    return Err(Fault::Lost(format!("only {bytes} bytes arrived")));
                }
            }
            Ok(())
        });
        done?.map_err(|fault| Self::refused(path, "cannot be written", fault))
    }

    fn op_one(&self, op: &Op) -> Result<(), HostError> {
        match op {
            Op::Folder(path) => {
                let done = self.pool.again(|conn, _| {
                    die::point();
                    Ok(conn.ftp.mkdir(conn.whole(path))?)
                });
                match done? {
                    Ok(()) => Ok(()),
                    Err(_) if self.stat_one(path)? == Stat::Folder => Ok(()),
                    Err(fault) => Err(Self::refused(path, "cannot be made", fault)),
                }
            }
            Op::Rename(from, to) => self.rename(from, to),
            // for a moment nothing stands there: FTP knows no other way
            Op::Swap { new, at, old } => self.rename(at, old).and_then(|()| self.rename(new, at)),
            Op::RemoveFolder(path) => {
                let done = self.pool.again(|conn, _| {
                    die::point();
                    Ok(conn.ftp.rmdir(conn.whole(path))?)
                });
                // one that is not empty stays; hosts say that in words of their own
                done?.or_else(|fault| match fault {
                    Fault::Host(e) => Err(e),
                    _ => Ok(()),
                })
            }
            Op::Discard(path) => {
                let done = self.pool.again(|conn, _| {
                    die::point();
                    Ok(conn.ftp.rm(conn.whole(path))?)
                });
                match done? {
                    Ok(()) => Ok(()),
                    Err(_) if self.stat_one(path)? == Stat::Absent => Ok(()),
                    Err(fault) => Err(Self::refused(path, "cannot be taken away", fault)),
                }
            }
        }
    }

    /// Renames to a free name. Where the connection was lost on the way, the host tells whether it was done.
    fn rename(&self, from: &str, to: &str) -> Result<(), HostError> {
        let mut cut = false;
        let done = self.pool.again(|conn, tried| {
            cut |= tried > 0;
            die::point();
            Ok(conn.ftp.rename(conn.whole(from), conn.whole(to))?)
        });
        match done? {
            Ok(()) => Ok(()),
            Err(fault) => {
                let done = cut && self.stat_one(from)? == Stat::Absent && self.stat_one(to)? != Stat::Absent;
                if done { Ok(()) } else { Err(Self::refused(to, "cannot be put in place", fault)) }
            }
        }
    }
}

/// How much of a file arrived before the connection was cut, less what may have arrived in part.
fn arrived(conn: &mut Conn, path: &str, body: &Body) -> Done<u64> {
    match conn.ftp.size(conn.whole(path)).map_err(Fault::from) {
        Ok(bytes) => {
            let bytes = bytes as u64;
            Ok(if bytes <= body.size() { bytes.saturating_sub(OVERLAP) } else { 0 })
        }
        Err(Fault::No(..)) => Ok(0),
        Err(other) => Err(other),
    }
}

fn send(conn: &mut Conn, path: &str, body: &Body, from: u64) -> Done<()> {
    if from > 0 {
        conn.ftp.resume_transfer(usize::try_from(from).unwrap_or(0))?;
    }
    let mut stream = conn.ftp.put_with_stream(conn.whole(path))?;
    die::point();
    let mut at = from;
    while at < body.size() {
        let piece = body.piece(at, PIECE).map_err(Fault::Host)?;
        if stream.write_all(&piece).is_err() {
            // the host closed it, and says why on the other connection
            return match stream.finish() {
                Ok(()) => Err(Fault::Lost("the transfer was cut".to_owned())),
                Err(e) => Err(e.into()),
            };
        }
        at += piece.len() as u64;
    }
    die::point();
    Ok(stream.finish()?)
}

fn says_no_rights(words: &str) -> bool {
    let words = words.to_lowercase();
    ["denied", "permission", "not allowed", "forbidden"].iter().any(|w| words.contains(w))
}

impl Wire for Ftp {
    fn list(&self, folders: &[String]) -> Result<Vec<Option<Vec<Named>>>, HostError> {
        self.each(folders, |f| self.list_one(f))
    }

    fn stat(&self, paths: &[String]) -> Result<Vec<Stat>, HostError> {
        self.each(paths, |p| self.stat_one(p))
    }

    fn stats_are_cheap(&self) -> bool {
        false
    }

    fn get(&self, jobs: &[Get]) -> Result<Vec<Option<Sink>>, HostError> {
        self.each(jobs, |j| self.get_one(j))
    }

    fn put(&self, jobs: &mut (dyn Iterator<Item = Result<Put, HostError>> + Send)) -> Result<(), HostError> {
        let jobs = Mutex::new(jobs);
        let failed: Mutex<Option<HostError>> = Mutex::new(None);
        let lock = |e: HostError| {
            failed.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(e);
        };
        std::thread::scope(|scope| {
            for _ in 0..self.pool.most() {
                scope.spawn(|| {
                    loop {
                        if failed.lock().unwrap_or_else(PoisonError::into_inner).is_some() {
                            return;
                        }
                        let job = jobs.lock().unwrap_or_else(PoisonError::into_inner).next();
                        match job {
                            None => return,
                            Some(Err(e)) => return lock(e),
                            Some(Ok(job)) => {
                                if let Err(e) = self.put_one(&job) {
                                    return lock(e);
                                }
                            }
                        }
                    }
                });
            }
        });
        failed.into_inner().unwrap_or_else(PoisonError::into_inner).map_or(Ok(()), Err)
    }

    fn run(&self, ops: &[Op]) -> Result<(), HostError> {
        self.each(ops, |op| self.op_one(op)).map(|_| ())
    }

    fn space(&self, _folder: &str) -> Result<Option<u64>, HostError> {
        Ok(None)
    }
}
