//! SFTP: one connection, many requests in flight.

mod pieces;

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use futures_util::{StreamExt as _, TryStreamExt as _, stream};
use russh_sftp::client::RawSftpSession;
use russh_sftp::client::error::Error as SftpError;
use russh_sftp::protocol::{FileAttributes, OpenFlags, StatusCode};
use tokio::sync::{Mutex, Semaphore};
use yalotheca_core::text::clean;

use super::body::Sink;
use super::error::HostError;
use super::login::{Connection, Door};
use super::wire::{Get, Named, Op, Put, Stop, TRIES, Wire, pause};
use crate::tree::{Stat, die};
use pieces::{absent, arrived, over, read_rest, send_all, stat_of, writable};

/// So many files are on the way at once.
const FILES: usize = 64;
/// So many requests of one large file are on the way at once.
const PIECES: usize = 32;
/// A piece of a file (bytes); servers must take 32 KiB, and say so where they take more.
const PIECE: u32 = 32 * 1024;
/// The largest piece that is asked for, whatever the server says (bytes).
const MOST_PIECE: u64 = 255 * 1024;
/// A folder with more names than this is not believed.
const MOST_NAMES: usize = 200_000;
/// How long a single answer may take (seconds).
const ANSWER: u64 = 60;

/// An SFTP host.
pub(super) struct Sftp {
    door: Door,
    runtime: &'static tokio::runtime::Runtime,
    live: Mutex<Option<Arc<Live>>>,
    /// Requests in flight over all files, so that a slow host is not buried.
    flight: Semaphore,
    stop: Arc<Stop>,
}

/// A connection that is up.
struct Live {
    sftp: RawSftpSession,
    _connection: Connection,
    piece: u32,
    posix_rename: bool,
    hardlink: bool,
    fsync: bool,
    statvfs: bool,
}

/// What became of a request.
enum Fault {
    /// The host said no.
    No(StatusCode, String),
    /// The connection is gone or silent.
    Lost(String),
    /// Not to be tried again.
    Host(HostError),
}

impl From<SftpError> for Fault {
    fn from(e: SftpError) -> Self {
        match e {
            SftpError::Status(status) => match status.status_code {
                StatusCode::NoConnection | StatusCode::ConnectionLost => Fault::Lost(clean(&status.error_message, 120)),
                code => Fault::No(code, clean(&status.error_message, 160)),
            },
            SftpError::Timeout => Fault::Lost(format!("no answer within {ANSWER} seconds")),
            other => Fault::Lost(clean(&other.to_string(), 160)),
        }
    }
}

impl From<HostError> for Fault {
    fn from(e: HostError) -> Self {
        Fault::Host(e)
    }
}

impl Fault {
    fn absent(&self) -> bool {
        matches!(self, Fault::No(StatusCode::NoSuchFile, _))
    }
}

type Done<T> = Result<T, Fault>;

impl Sftp {
    pub(super) fn new(door: Door, stop: Arc<Stop>) -> Result<Self, HostError> {
        let host = door.address.whom();
        let runtime = crate::runtime::shared().map_err(|why| HostError::Silent { host, why })?;
        Ok(Self { door, runtime, live: Mutex::new(None), flight: Semaphore::new(128), stop })
    }

    /// The connection, made anew where it was lost.
    async fn live(&self) -> Result<Arc<Live>, HostError> {
        let mut slot = self.live.lock().await;
        if let Some(live) = slot.as_ref().filter(|l| !l._connection.is_closed()) {
            return Ok(live.clone());
        }
        let connection = self.door.connect().await?;
        let host = self.door.address.whom();
        let strange = |why: String| HostError::Strange { host: host.clone(), why };
        let stream = connection.sftp().await?;
        let config = russh_sftp::client::Config { request_timeout_secs: ANSWER, ..Default::default() };
        let sftp = RawSftpSession::new_with_config(stream, config);
        let version = sftp
            .init()
            .await
            .map_err(|e| strange(format!("it has no SFTP, or hides it: {}", clean(&e.to_string(), 120))))?;
        let has = |name: &str| version.extensions.contains_key(name);
        let piece = if has("limits@openssh.com") {
            let told = sftp.limits().await.map(|l| l.max_write_len.min(l.max_read_len)).unwrap_or(0);
            u32::try_from(told.min(MOST_PIECE)).ok().filter(|p| *p >= PIECE).unwrap_or(PIECE)
        } else {
            PIECE
        };
        let live = Arc::new(Live {
            piece,
            posix_rename: has("posix-rename@openssh.com"),
            hardlink: has("hardlink@openssh.com"),
            fsync: has("fsync@openssh.com"),
            statvfs: has("statvfs@openssh.com"),
            sftp,
            _connection: connection,
        });
        *slot = Some(live.clone());
        Ok(live)
    }

    /// Does something, and again over a new connection where that was lost.
    async fn again<T, F: Future<Output = Done<T>>>(
        &self,
        act: impl Fn(Arc<Live>, u32) -> F,
    ) -> Result<Result<T, Fault>, HostError> {
        self.with_progress(&AtomicU64::new(0), act).await
    }

    /// The same for long work: as long as it gets on, it is not given up.
    async fn with_progress<T, F: Future<Output = Done<T>>>(
        &self,
        progress: &AtomicU64,
        act: impl Fn(Arc<Live>, u32) -> F,
    ) -> Result<Result<T, Fault>, HostError> {
        let (mut tried, mut before) = (0, 0);
        loop {
            if self.stop.now() {
                return Err(HostError::Stopped);
            }
            let live = match self.live().await {
                Ok(live) => live,
                // the first connection tells what is wrong; a lost one is sought for a while
                Err(HostError::Silent { .. }) if tried > 0 && tried < TRIES => {
                    tried += 1;
                    tokio::time::sleep(pause(tried)).await;
                    continue;
                }
                Err(e) => return Err(e),
            };
            let permit = self.flight.acquire().await;
            let done = act(live.clone(), tried).await;
            drop(permit);
            match done {
                Err(Fault::Lost(why)) => {
                    let now = progress.load(Ordering::Relaxed);
                    tried = if now > before { 1 } else { tried + 1 };
                    before = now;
                    self.forget(&live).await;
                    if tried >= TRIES {
                        let host = self.door.address.whom();
                        return Err(HostError::Lost { host, tries: tried, why });
                    }
                    tokio::time::sleep(pause(tried)).await;
                }
                Err(Fault::Host(e)) => return Err(e),
                other => return Ok(other),
            }
        }
    }

    async fn forget(&self, lost: &Arc<Live>) {
        let mut slot = self.live.lock().await;
        if slot.as_ref().is_some_and(|l| Arc::ptr_eq(l, lost)) {
            *slot = None;
        }
    }

    fn refused(path: &str, doing: &'static str, fault: Fault) -> HostError {
        match fault {
            Fault::No(code, why) => {
                let why = if why.is_empty() { code.to_string() } else { why };
                HostError::Refused { path: clean(path, 200), doing, why: clean(&why, 160) }
            }
            Fault::Host(e) => e,
            Fault::Lost(why) => HostError::Refused { path: clean(path, 200), doing, why },
        }
    }

    async fn list_one(&self, folder: &str) -> Result<Option<Vec<Named>>, HostError> {
        let doing = "cannot be listed";
        let done = self.again(|live, _| async move {
            let handle = live.sftp.opendir(folder).await?.handle;
            let mut out: Vec<Named> = Vec::new();
            let read = loop {
                match live.sftp.readdir(handle.clone()).await {
                    Ok(name) => {
                        out.extend(name.files.into_iter().map(|f| Named {
                            name: f.filename,
                            stat: stat_of(&f.attrs),
                            writable: writable(&f.attrs),
                        }));
                        if out.len() > MOST_NAMES {
                            let why = format!("`{}` has more than {MOST_NAMES} names", clean(folder, 120));
                            break Err(Fault::Host(HostError::Strange { host: self.door.address.whom(), why }));
                        }
                    }
                    Err(SftpError::Status(s)) if s.status_code == StatusCode::Eof => break Ok(()),
                    Err(e) => break Err(e.into()),
                }
            };
            let _ = live.sftp.close(handle).await;
            read.map(|()| out)
        });
        match done.await? {
            Ok(list) => Ok(Some(list)),
            Err(fault) if fault.absent() => Ok(None),
            // a file in the folder's place
            Err(fault) => match self.stat_one(folder).await {
                Ok(Stat::Folder) | Err(_) => Err(Self::refused(folder, doing, fault)),
                Ok(_) => Ok(None),
            },
        }
    }

    async fn stat_one(&self, path: &str) -> Result<Stat, HostError> {
        let doing = "cannot be looked at";
        let done = self.again(|live, _| async move { Ok(live.sftp.lstat(path).await?.attrs) }).await?;
        match done {
            Ok(attrs) => Ok(stat_of(&attrs)),
            Err(fault) if fault.absent() => Ok(Stat::Absent),
            Err(fault) => Err(Self::refused(path, doing, fault)),
        }
    }

    async fn get_one(&self, job: &Get) -> Result<Option<Sink>, HostError> {
        let doing = "cannot be read";
        let (sink, progress) = (Mutex::new(job.sink()?), AtomicU64::new(0));
        let done = self.with_progress(&progress, |live, _| {
            let (sink, progress) = (&sink, &progress);
            async move {
                let handle = live.sftp.open(job.path.as_str(), OpenFlags::READ, FileAttributes::empty()).await?.handle;
                let mut sink = sink.lock().await;
                let read = read_rest(&live, &handle, &mut sink).await;
                progress.store(sink.size, Ordering::Relaxed);
                let _ = live.sftp.close(handle).await;
                read
            }
        });
        match done.await? {
            Ok(()) => Ok(Some(sink.into_inner())),
            Err(fault) if fault.absent() => Ok(None),
            Err(fault) => Err(Self::refused(&job.path, doing, fault)),
        }
    }

    /// Sends a file, from where an earlier try stopped.
    async fn put_one(&self, job: &Put) -> Result<(), HostError> {
        let doing = "cannot be written";
        let (path, body) = (job.path.as_str(), &job.body);
        let progress = AtomicU64::new(0);
        let done = self.with_progress(&progress, |live, tried| {
            let progress = &progress;
            async move {
                let from = if tried == 0 { 0 } else { arrived(&live, path, progress.load(Ordering::Relaxed)).await? };
                progress.store(from, Ordering::Relaxed);
                let mut flags = OpenFlags::CREATE | OpenFlags::WRITE;
                if from == 0 {
                    flags |= OpenFlags::TRUNCATE;
                }
                if tried == 0 {
                    die::point();
                }
                let handle = live.sftp.open(path, flags, FileAttributes::empty()).await?.handle;
                die::point();
                let sent = send_all(&live, &handle, body, progress, tried).await;
                if sent.is_ok() && live.fsync && job.safe {
                    // a host that cannot is no reason to stop
                    let _ = live.sftp.fsync(handle.clone()).await;
                }
                die::point();
                let closed = live.sftp.close(handle).await;
                sent?;
                closed?;
                Ok(())
            }
        });
        done.await?.map_err(|fault| Self::refused(path, doing, fault))
    }

    async fn op_one(&self, op: &Op) -> Result<(), HostError> {
        match op {
            Op::Folder(path) => {
                let act = |live: Arc<Live>, _| async move {
                    die::point();
                    live.sftp.mkdir(path.as_str(), FileAttributes::empty()).await?;
                    Ok(())
                };
                match self.again(act).await? {
                    Ok(()) => Ok(()),
                    Err(fault) if self.stat_one(path).await? == Stat::Folder => drop_fault(fault),
                    Err(fault) => Err(Self::refused(path, "cannot be made", fault)),
                }
            }
            Op::Rename(from, to) => self.rename(from, to).await,
            Op::Swap { new, at, old } => self.swap(new, at, old).await,
            Op::RemoveFolder(path) => {
                let act = |live: Arc<Live>, _| async move {
                    die::point();
                    live.sftp.rmdir(path.as_str()).await?;
                    Ok(())
                };
                // one that is not empty stays; hosts say that in words of their own
                self.again(act).await?.or_else(drop_fault)
            }
            Op::Discard(path) => {
                let act = |live: Arc<Live>, _| async move {
                    die::point();
                    live.sftp.remove(path.as_str()).await?;
                    Ok(())
                };
                match self.again(act).await? {
                    Ok(()) => Ok(()),
                    Err(fault) if fault.absent() => Ok(()),
                    Err(fault) => Err(Self::refused(path, "cannot be taken away", fault)),
                }
            }
        }
    }

    /// Renames to a free name. Where the connection was lost on the way, the host tells whether it was done.
    async fn rename(&self, from: &str, to: &str) -> Result<(), HostError> {
        let act = |live: Arc<Live>, tried| async move {
            if tried > 0 && absent(&live, from).await? && !absent(&live, to).await? {
                return Ok(());
            }
            die::point();
            live.sftp.rename(from, to).await?;
            Ok(())
        };
        self.again(act).await?.map_err(|f| Self::refused(to, "cannot be put in place", f))
    }

    async fn swap(&self, new: &str, at: &str, old: &str) -> Result<(), HostError> {
        let act = |live: Arc<Live>, tried| async move {
            if tried > 0 && absent(&live, new).await? && !absent(&live, old).await? {
                return Ok(());
            }
            // who may read and write the old file may do so with the new one
            if let Ok(seen) = live.sftp.lstat(at).await
                && let Some(mode) = seen.attrs.permissions
            {
                let attrs = FileAttributes { permissions: Some(mode & 0o7777), ..FileAttributes::empty() };
                let _ = live.sftp.setstat(new, attrs).await;
            }
            if live.posix_rename && live.hardlink {
                die::point();
                let linked = live.sftp.hardlink(at, old).await.is_ok() || (tried > 0 && !absent(&live, old).await?);
                if linked {
                    die::point();
                    return over(&live, new, at).await;
                }
            }
            // for a moment nothing stands there
            if tried == 0 || absent(&live, old).await? {
                die::point();
                live.sftp.rename(at, old).await?;
            }
            die::point();
            live.sftp.rename(new, at).await?;
            Ok(())
        };
        self.again(act).await?.map_err(|f| Self::refused(at, "cannot be put in place", f))
    }
}

fn drop_fault(fault: Fault) -> Result<(), HostError> {
    match fault {
        Fault::Host(e) => Err(e),
        _ => Ok(()),
    }
}

impl Wire for Sftp {
    fn list(&self, folders: &[String]) -> Result<Vec<Option<Vec<Named>>>, HostError> {
        let all = stream::iter(folders).map(|f| self.list_one(f)).buffered(FILES);
        self.runtime.block_on(all.try_collect())
    }

    fn stat(&self, paths: &[String]) -> Result<Vec<Stat>, HostError> {
        let all = stream::iter(paths).map(|p| self.stat_one(p)).buffered(FILES);
        self.runtime.block_on(all.try_collect())
    }

    fn stats_are_cheap(&self) -> bool {
        true
    }

    fn get(&self, jobs: &[Get]) -> Result<Vec<Option<Sink>>, HostError> {
        let all = stream::iter(jobs).map(|j| self.get_one(j)).buffered(FILES.min(16));
        self.runtime.block_on(all.try_collect())
    }

    fn put(&self, jobs: &mut (dyn Iterator<Item = Result<Put, HostError>> + Send)) -> Result<(), HostError> {
        let (send, receive) = tokio::sync::mpsc::channel::<Result<Put, HostError>>(FILES);
        std::thread::scope(|scope| {
            scope.spawn(move || {
                for job in jobs {
                    let over = job.is_err();
                    if send.blocking_send(job).is_err() || over {
                        return;
                    }
                }
            });
            let all = stream::unfold(receive, |mut r| async move { r.recv().await.map(|job| (job, r)) });
            self.runtime.block_on(all.try_for_each_concurrent(FILES, |job| async move { self.put_one(&job).await }))
        })
    }

    fn run(&self, ops: &[Op]) -> Result<(), HostError> {
        let all = stream::iter(ops).map(|op| self.op_one(op)).buffer_unordered(FILES);
        self.runtime.block_on(async {
            // what is on its way is let go to its end, so that the tree is in a state that can be read
            let done: Vec<Result<(), HostError>> = all.collect().await;
            done.into_iter().collect()
        })
    }

    fn space(&self, folder: &str) -> Result<Option<u64>, HostError> {
        self.runtime.block_on(async {
            let live = self.live().await?;
            if !live.statvfs {
                return Ok(None);
            }
            let told = live.sftp.statvfs(folder).await.ok();
            Ok(told.map(|t| t.blocks_avail.saturating_mul(t.fragment_size)))
        })
    }
}

/// How long a connection may take to be made.
pub(super) const CONNECT: Duration = Duration::from_secs(20);
