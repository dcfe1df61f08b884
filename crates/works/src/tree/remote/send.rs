//! Files on their way to a host: from the store, out of archives, or from the host itself.

use std::collections::HashMap;
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::atomic::Ordering;

use yalotheca_core::id::{Digest, ServerPath};

use super::RemoteTree;
use super::body::Body;
use super::error::HostError;
use super::wire::Put;
use crate::archive;
use crate::tree::local::digest_of;
use crate::tree::{Content, Effect, Stat, TreeError, shown};

/// Members of archives up to this size are sent from memory (bytes).
const IN_MEMORY: u64 = 4_000_000;

impl RemoteTree {
    fn body(&self, content: &Content, opened: &mut Archives) -> Result<Body, TreeError> {
        match content {
            Content::Bytes(bytes) => Ok(Body::Bytes(bytes.clone())),
            Content::File(from, wanted, _) => {
                let fail = || TreeError::io(from.display(), "cannot be read");
                let file = File::open(from).map_err(fail())?;
                if digest_of(&file).map_err(fail())? != *wanted {
                    return Err(TreeError::Damaged { path: from.display().to_string() });
                }
                Body::file(file).map_err(fail())
            }
            Content::Member(from, member, wanted) => opened.body(from, member, wanted),
            // the host cannot copy: the bytes come and go
            Content::Tree(from, wanted, _) => {
                let (copy, digest) = self.fetched(from)?.ok_or_else(|| TreeError::Damaged { path: shown(from) })?;
                if digest != *wanted {
                    return Err(TreeError::Damaged { path: shown(from) });
                }
                Body::file(copy).map_err(TreeError::io(shown(from), "cannot be read"))
            }
        }
    }

    /// Writes files, then looks whether each has the size that was sent; those that were cut are sent again.
    pub(super) fn write(&self, writes: &[Effect]) -> Result<(), TreeError> {
        let mut left: Vec<(&ServerPath, &Content)> = writes
            .iter()
            .filter_map(|e| match e {
                Effect::Write(path, content) => Some((path, content)),
                _ => None,
            })
            .collect();
        for tried in 0.. {
            let sizes = self.send(&left)?;
            let paths: Vec<ServerPath> = left.iter().map(|(p, _)| (*p).clone()).collect();
            let (now, mut ahead) = (now_nanos(), None);
            let mut short = None;
            let mut again = Vec::new();
            for ((one, wanted), (stat, _)) in left.iter().zip(sizes).zip(self.stats(&paths)?) {
                match stat {
                    Stat::File { bytes, changed } if bytes == wanted => {
                        if changed != 0 {
                            ahead = ahead.max(Some(changed.saturating_sub(now)));
                        }
                    }
                    other => {
                        let got = if let Stat::File { bytes, .. } = other { bytes } else { 0 };
                        short = Some(TreeError::Short { path: shown(one.0), got, wanted });
                        again.push(*one);
                    }
                }
            }
            // the file that was written last tells the host's time
            if let Some(ahead) = ahead {
                self.ahead.store(ahead, Ordering::Relaxed);
            }
            match short {
                None => break,
                Some(short) if tried >= 2 => return Err(short),
                Some(_) => left = again,
            }
        }
        Ok(())
    }

    /// Sends files; returns their sizes.
    fn send(&self, writes: &[(&ServerPath, &Content)]) -> Result<Vec<u64>, TreeError> {
        let mut opened = Archives::default();
        let mut failed = None;
        let mut sizes = Vec::with_capacity(writes.len());
        let mut jobs = writes.iter();
        let mut next = || -> Option<Result<Put, HostError>> {
            let (path, content) = jobs.next()?;
            let made = self.body(content, &mut opened).and_then(|body| Ok((self.real(path)?, body)));
            match made {
                Ok((path, body)) => {
                    sizes.push(body.size());
                    Some(Ok(Put { path, body, safe: true }))
                }
                Err(e) => {
                    failed = Some(e);
                    Some(Err(HostError::Stopped))
                }
            }
        };
        let sent = self.wire()?.put(&mut std::iter::from_fn(&mut next));
        match sent {
            Ok(()) => Ok(sizes),
            Err(e) => Err(failed.unwrap_or_else(|| e.into())),
        }
    }
}

fn now_nanos() -> i64 {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    i64::try_from(now.as_nanos()).unwrap_or(0)
}

/// Archives of the store that stay open while their members are sent.
#[derive(Default)]
struct Archives(HashMap<PathBuf, archive::Opened>);

impl Archives {
    fn body(&mut self, from: &Path, member: &str, wanted: &Digest) -> Result<Body, TreeError> {
        if !self.0.contains_key(from) {
            self.0.insert(from.to_owned(), archive::open(from)?);
        }
        let Some(archive) = self.0.get_mut(from) else { return Err(TreeError::Damaged { path: member.to_owned() }) };
        let fail = || TreeError::io(member, "cannot be unpacked");
        let damaged = || TreeError::Damaged { path: member.to_owned() };
        if archive::size_of(archive, member)? <= IN_MEMORY {
            let mut bytes = Vec::new();
            archive::with_member(archive, member, |read| read.read_to_end(&mut bytes))?.map_err(fail())?;
            return if Digest::of(&bytes) == *wanted { Ok(Body::Bytes(bytes)) } else { Err(damaged()) };
        }
        let mut file = tempfile::tempfile().map_err(fail())?;
        archive::with_member(archive, member, |mut read| std::io::copy(&mut read, &mut file))?.map_err(fail())?;
        use std::io::Seek as _;
        file.rewind().map_err(fail())?;
        if digest_of(&file).map_err(fail())? != *wanted {
            return Err(damaged());
        }
        Body::file(file).map_err(fail())
    }
}
