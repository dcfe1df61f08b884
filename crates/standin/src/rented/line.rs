//! The line to a host: slow, narrow, cut, or full, as its habits say.

use std::io::{Read as _, Write as _};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc;
use std::sync::{Arc, atomic::AtomicU64};
use std::time::{Duration, Instant};

use super::Shared;

/// Opens a public port; each connection to it goes over the line to a port of the host.
pub(super) fn open(shared: &Arc<Shared>, port: u16, once: bool) -> std::io::Result<u16> {
    let listener = TcpListener::bind("127.0.0.1:0")?;
    let public = listener.local_addr()?.port();
    let shared = shared.clone();
    let now = Arc::new(AtomicUsize::new(0));
    std::thread::spawn(move || {
        for outside in listener.incoming().flatten() {
            if shared.over.load(Ordering::SeqCst) {
                return;
            }
            let full = shared.habits.connections.is_some_and(|most| now.load(Ordering::SeqCst) >= most);
            if full && !once {
                // said as FTP says it; to others it is a broken greeting
                let mut outside = outside;
                let _ = outside.write_all(b"421 Too many connections from you\r\n");
                continue;
            }
            let Ok(inside) = TcpStream::connect(("127.0.0.1", port)) else { return };
            now.fetch_add(1, Ordering::SeqCst);
            let (shared, now) = (shared.clone(), now.clone());
            std::thread::spawn(move || {
                carry(&shared, &outside, &inside);
                now.fetch_sub(1, Ordering::SeqCst);
            });
            if once {
                return;
            }
        }
    });
    Ok(public)
}

/// Carries bytes both ways until one side ends.
fn carry(shared: &Shared, outside: &TcpStream, inside: &TcpStream) {
    let _ = (outside.set_nodelay(true), inside.set_nodelay(true));
    let left = AtomicU64::new(shared.habits.cut_after.unwrap_or(u64::MAX));
    std::thread::scope(|scope| {
        scope.spawn(|| one_way(shared, outside, inside, &left));
        scope.spawn(|| one_way(shared, inside, outside, &left));
    });
}

fn one_way(shared: &Shared, mut from: &TcpStream, to: &TcpStream, left: &AtomicU64) {
    let half = shared.habits.delay / 2;
    let mut cut = false;
    let (send, sent) = mpsc::sync_channel::<(Instant, Vec<u8>)>(4_096);
    std::thread::scope(|scope| {
        scope.spawn(move || {
            let mut to = to;
            for (due, bytes) in sent {
                std::thread::sleep(due.saturating_duration_since(Instant::now()));
                if to.write_all(&bytes).is_err() {
                    break;
                }
            }
            let _ = to.shutdown(Shutdown::Write);
        });
        let mut buffer = vec![0; 64 * 1024];
        let mut free_at = Instant::now();
        while let Ok(count) = from.read(&mut buffer) {
            let Some(bytes) = buffer.get(..count).filter(|b| !b.is_empty()) else { break };
            shared.bytes.fetch_add(count as u64, Ordering::Relaxed);
            if let Some(rate) = shared.habits.bandwidth {
                free_at = free_at.max(Instant::now()) + Duration::from_secs_f64(count as f64 / rate as f64);
            }
            let kept = left.load(Ordering::SeqCst).min(count as u64);
            left.fetch_sub(kept, Ordering::SeqCst);
            let due = free_at.max(Instant::now()) + half;
            let whole = kept == count as u64;
            let bytes = bytes.get(..usize::try_from(kept).unwrap_or(0)).unwrap_or_default().to_vec();
            if send.send((due, bytes)).is_err() {
                break;
            }
            if !whole {
                cut = true;
                break;
            }
        }
        drop(send);
    });
    // cut in the middle, for both sides, once what was let through is through
    let _ = from.shutdown(if cut { Shutdown::Both } else { Shutdown::Read });
    let _ = cut.then(|| to.shutdown(Shutdown::Both));
}
