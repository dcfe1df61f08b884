//! Single requests, and files piece by piece.

use std::sync::atomic::{AtomicU64, Ordering};

use futures_util::{StreamExt as _, stream};
use russh_sftp::client::error::Error as SftpError;
use russh_sftp::protocol::{FileAttributes, FileMode, Packet, StatusCode};
use yalotheca_core::text::clean;

use super::super::body::{Body, Sink};
use super::{Done, Fault, Live, PIECE, PIECES};
use crate::tree::Stat;

/// Renames over what stands there.
pub(super) async fn over(live: &Live, from: &str, to: &str) -> Done<()> {
    let mut data = Vec::new();
    for text in [from, to] {
        data.extend(u32::try_from(text.len()).unwrap_or(0).to_be_bytes());
        data.extend(text.as_bytes());
    }
    match live.sftp.extended("posix-rename@openssh.com", data).await? {
        Packet::Status(status) if status.status_code == StatusCode::Ok => Ok(()),
        Packet::Status(status) => Err(Fault::No(status.status_code, clean(&status.error_message, 160))),
        _ => Err(Fault::Lost("a rename was answered by something else".to_owned())),
    }
}

pub(super) async fn absent(live: &Live, path: &str) -> Done<bool> {
    match live.sftp.lstat(path).await.map_err(Fault::from) {
        Ok(_) => Ok(false),
        Err(fault) if fault.absent() => Ok(true),
        Err(fault) => Err(fault),
    }
}

/// Reads a file from where an earlier try stopped.
pub(super) async fn read_rest(live: &Live, handle: &str, sink: &mut Sink) -> Done<()> {
    let size = live.sftp.fstat(handle).await?.attrs.size.unwrap_or(0);
    let step = u64::from(live.piece);
    let first = sink.size;
    let pieces = stream::iter((0..size.saturating_sub(first).div_ceil(step)).map(|at| first + at * step))
        .map(|from| read_piece(live, handle, from, step.min(size - from)))
        .buffered(PIECES);
    let mut pieces = std::pin::pin!(pieces);
    while let Some(piece) = pieces.next().await {
        sink.take(&piece?)?;
    }
    // a file that grew meanwhile, or whose size was a lie, is read to its end; a sink knows its bound
    loop {
        let more = read_piece(live, handle, sink.size, step).await?;
        if more.is_empty() {
            return Ok(());
        }
        sink.take(&more)?;
    }
}

/// Reads one piece; shorter only at the file's end.
async fn read_piece(live: &Live, handle: &str, from: u64, bytes: u64) -> Done<Vec<u8>> {
    let mut out: Vec<u8> = Vec::new();
    while (out.len() as u64) < bytes {
        let left = u32::try_from(bytes - out.len() as u64).unwrap_or(PIECE);
        match live.sftp.read(handle, from + out.len() as u64, left).await {
            Ok(data) if data.data.is_empty() => break,
            Ok(data) => out.extend_from_slice(&data.data),
            Err(SftpError::Status(s)) if s.status_code == StatusCode::Eof => break,
            Err(e) => return Err(e.into()),
        }
    }
    Ok(out)
}

/// Sends what is left of a file; `progress` is what the host has confirmed from the beginning without a gap.
pub(super) async fn send_all(live: &Live, handle: &str, body: &Body, progress: &AtomicU64, tried: u32) -> Done<()> {
    // where lines are cut, less is on the way that could be lost
    let window = if tried == 0 { PIECES } else { PIECES / 4 };
    let (step, from) = (u64::from(live.piece), progress.load(Ordering::Relaxed));
    let offsets = (0..body.size().saturating_sub(from).div_ceil(step)).map(|at| from + at * step);
    let pieces = stream::iter(offsets)
        .map(|at| async move {
            let piece = body.piece(at, step).map_err(Fault::Host)?;
            let end = at + piece.len() as u64;
            live.sftp.write(handle, at, piece).await?;
            Ok::<_, Fault>(end)
        })
        .buffered(window);
    let mut pieces = std::pin::pin!(pieces);
    while let Some(end) = pieces.next().await {
        progress.store(end?, Ordering::Relaxed);
    }
    Ok(())
}

/// Where a try that was cut goes on: after what the host confirmed, if it has kept that.
pub(super) async fn arrived(live: &Live, path: &str, confirmed: u64) -> Done<u64> {
    match live.sftp.lstat(path).await {
        Ok(seen) => Ok(if seen.attrs.size.unwrap_or(0) >= confirmed { confirmed } else { 0 }),
        Err(_) => Ok(0),
    }
}

pub(super) fn stat_of(attrs: &FileAttributes) -> Stat {
    let kind = attrs.permissions.map(FileMode::from_bits_truncate);
    match kind.map(|k| k & FileMode::NAM | k & FileMode::REG | k & FileMode::DIR) {
        Some(_) if attrs.is_dir() => Stat::Folder,
        Some(_) if attrs.is_regular() => file_of(attrs),
        Some(_) => Stat::Other,
        // a host that tells no kinds: what has a size is a file
        None => file_of(attrs),
    }
}

fn file_of(attrs: &FileAttributes) -> Stat {
    Stat::File { bytes: attrs.size.unwrap_or(0), changed: i64::from(attrs.mtime.unwrap_or(0)) * 1_000_000_000 }
}

pub(super) fn writable(attrs: &FileAttributes) -> bool {
    attrs.permissions.is_none_or(|mode| mode & 0o222 != 0)
}
