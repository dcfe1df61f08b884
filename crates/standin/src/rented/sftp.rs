//! The SFTP side of a rented host.

use std::collections::HashMap;
use std::fs::File;
use std::io::{Read as _, Seek as _, SeekFrom, Write as _};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use russh::keys::ssh_key::private::Ed25519Keypair;
use russh::keys::{HashAlg, PrivateKey};
use russh::server::{Auth, ChannelOpenHandle, Msg, Session};
use russh::{Channel, ChannelId};
use russh_sftp::protocol::{
    Attrs, Data, ExtendedReply, File as Named, FileAttributes, Handle, Name, OpenFlags, Packet, Status, StatusCode,
    Version,
};
use russh_sftp::server::StatusReply;

use super::disk::{No, Seen};
use super::{Counted, Habits, Lie, PASSWORD, Shared, USER, line};

/// A running SFTP host.
pub struct SftpHost {
    port: u16,
    shared: Arc<Shared>,
    fingerprint: String,
    runtime: Option<tokio::runtime::Runtime>,
}

impl SftpHost {
    /// Starts a host over a folder, on a free loopback port. `keys` are the public keys that may log in, as text.
    ///
    /// # Errors
    /// No port is free.
    pub fn start(folder: &Path, habits: Habits, keys: &[String]) -> std::io::Result<Self> {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
        let mut seed = [0; 32];
        File::open("/dev/urandom")?.read_exact(&mut seed)?;
        let key = PrivateKey::from(Ed25519Keypair::from_seed(&seed));
        let fingerprint = key.public_key().fingerprint(HashAlg::Sha256).to_string();
        let config = Arc::new(russh::server::Config {
            keys: vec![key],
            auth_rejection_time: std::time::Duration::from_millis(1),
            auth_rejection_time_initial: Some(std::time::Duration::ZERO),
            window_size: 16 << 20,
            channel_buffer_size: 512,
            nodelay: true,
            ..Default::default()
        });
        let shared = Arc::new(Shared::new(folder, habits));
        let listener = runtime.block_on(tokio::net::TcpListener::bind("127.0.0.1:0"))?;
        let inner = listener.local_addr()?.port();
        let keys: Arc<Vec<String>> = Arc::new(keys.iter().map(|k| words(k)).collect());
        let host = shared.clone();
        runtime.spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                let _ = stream.set_nodelay(true);
                let guest = Guest { shared: host.clone(), keys: keys.clone(), channel: None };
                let config = config.clone();
                tokio::spawn(async move {
                    if let Ok(session) = russh::server::run_stream(config, stream, guest).await {
                        let _ = session.await;
                    }
                });
            }
        });
        let port = line::open(&shared, inner, false)?;
        Ok(Self { port, shared, fingerprint, runtime: Some(runtime) })
    }

    /// Returns the address of a folder of the host, for the roster.
    pub fn address(&self, folder: &str) -> String {
        format!("sftp://{USER}@127.0.0.1:{}/{}", self.port, folder.trim_start_matches('/'))
    }

    /// Returns the fingerprint of the host's key.
    pub fn fingerprint(&self) -> &str {
        &self.fingerprint
    }

    /// Returns what was counted so far, and counts anew.
    pub fn counted(&self) -> Counted {
        let bytes = self.shared.bytes.swap(0, Ordering::Relaxed);
        Counted { bytes, requests: self.shared.requests.swap(0, Ordering::Relaxed) }
    }
}

impl Drop for SftpHost {
    fn drop(&mut self) {
        self.shared.over.store(true, Ordering::SeqCst);
        drop(std::net::TcpStream::connect(("127.0.0.1", self.port)));
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_background();
        }
    }
}

/// The key itself, without its comment.
fn words(key: &str) -> String {
    key.split_whitespace().take(2).collect::<Vec<_>>().join(" ")
}

struct Guest {
    shared: Arc<Shared>,
    keys: Arc<Vec<String>>,
    channel: Option<Channel<Msg>>,
}

impl russh::server::Handler for Guest {
    type Error = russh::Error;

    async fn auth_password(&mut self, user: &str, password: &str) -> Result<Auth, Self::Error> {
        Ok(if user == USER && password == PASSWORD { Auth::Accept } else { Auth::reject() })
    }

    async fn auth_publickey_offered(
        &mut self,
        user: &str,
        offer: russh::server::PublicKeyOffer<'_>,
    ) -> Result<Auth, Self::Error> {
        let known = offer.public_key.to_openssh().is_ok_and(|k| self.keys.contains(&words(&k)));
        Ok(if user == USER && known { Auth::Accept } else { Auth::reject() })
    }

    async fn auth_publickey(
        &mut self,
        _user: &str,
        _key: russh::server::VerifiedPublicKey<'_>,
    ) -> Result<Auth, Self::Error> {
        Ok(Auth::Accept)
    }

    async fn channel_open_session(
        &mut self,
        channel: Channel<Msg>,
        reply: ChannelOpenHandle,
        _session: &mut Session,
    ) -> Result<(), Self::Error> {
        self.channel = Some(channel);
        reply.accept().await;
        Ok(())
    }

    async fn subsystem_request(&mut self, id: ChannelId, name: &str, session: &mut Session) -> Result<(), Self::Error> {
        match self.channel.take().filter(|_| name == "sftp") {
            Some(channel) => {
                session.channel_success(id)?;
                let files = Files { shared: self.shared.clone(), handles: HashMap::new(), next: 0 };
                russh_sftp::server::run(channel.into_stream(), files).await;
            }
            None => session.channel_failure(id)?,
        }
        Ok(())
    }
}

enum Open {
    File(File, bool),
    Folder(Vec<Seen>),
    Endless,
}

struct Files {
    shared: Arc<Shared>,
    handles: HashMap<String, Open>,
    next: u64,
}

impl From<No> for StatusReply {
    fn from(no: No) -> Self {
        let code = match no {
            No::Absent => StatusCode::NoSuchFile,
            No::Denied => StatusCode::PermissionDenied,
            _ => StatusCode::Failure,
        };
        StatusReply::new(code).with_message(no.words())
    }
}

fn fine(id: u32) -> Status {
    Status { id, status_code: StatusCode::Ok, error_message: "Ok".to_owned(), language_tag: "en".to_owned() }
}

fn attributes(seen: &Seen) -> FileAttributes {
    let kind = if seen.link {
        0o120_000
    } else if seen.folder {
        0o040_000
    } else {
        0o100_000
    };
    let time = u32::try_from(seen.time).unwrap_or(0);
    let rights = if seen.writable { 0o644 } else { 0o444 } | if seen.folder { 0o111 } else { 0 };
    FileAttributes {
        size: Some(seen.size),
        permissions: Some(kind | rights),
        atime: Some(time),
        mtime: Some(time),
        ..FileAttributes::empty()
    }
}

type Reply<T> = Result<T, StatusReply>;

impl Files {
    fn keep(&mut self, open: Open) -> String {
        self.next += 1;
        let handle = self.next.to_string();
        self.handles.insert(handle.clone(), open);
        handle
    }

    fn file(&mut self, handle: &str) -> Reply<&mut File> {
        match self.handles.get_mut(handle) {
            Some(Open::File(file, _)) => Ok(file),
            _ => Err(No::Failure.into()),
        }
    }
}

impl russh_sftp::server::Handler for Files {
    type Error = StatusReply;

    fn unimplemented(&self) -> Self::Error {
        StatusReply::new(StatusCode::OpUnsupported)
    }

    async fn init(&mut self, _: u32, _: HashMap<String, String>) -> Reply<Version> {
        let mut version = Version::new();
        let mut has = vec!["hardlink@openssh.com", "statvfs@openssh.com", "fsync@openssh.com"];
        if self.shared.disk.renames_over() {
            has.push("posix-rename@openssh.com");
        }
        version.extensions.extend(has.into_iter().map(|n| (n.to_owned(), "1".to_owned())));
        Ok(version)
    }

    async fn open(&mut self, id: u32, filename: String, pflags: OpenFlags, _: FileAttributes) -> Reply<Handle> {
        self.shared.asked();
        let disk = &self.shared.disk;
        let writes = pflags.contains(OpenFlags::WRITE);
        let file = match writes {
            true => disk.write(&filename, pflags.contains(OpenFlags::TRUNCATE))?,
            false => disk.read(&filename)?,
        };
        Ok(Handle { id, handle: self.keep(Open::File(file, writes)) })
    }

    async fn close(&mut self, id: u32, handle: String) -> Reply<Status> {
        self.shared.asked();
        if let Some(Open::File(file, true)) = self.handles.remove(&handle)
            && self.shared.habits.lie == Some(Lie::Short)
        {
            let size = file.metadata().map(|m| m.len()).unwrap_or(0);
            let _ = file.set_len(size.saturating_sub(1));
        }
        Ok(fine(id))
    }

    async fn read(&mut self, id: u32, handle: String, offset: u64, len: u32) -> Reply<Data> {
        self.shared.asked();
        let file = self.file(&handle)?;
        let mut data = vec![0; len.min(256 * 1024) as usize];
        let count = file.seek(SeekFrom::Start(offset)).and_then(|_| file.read(&mut data)).map_err(No::from)?;
        data.truncate(count);
        if data.is_empty() { Err(StatusReply::new(StatusCode::Eof)) } else { Ok(Data { id, data }) }
    }

    async fn write(&mut self, id: u32, handle: String, offset: u64, data: Vec<u8>) -> Reply<Status> {
        self.shared.asked();
        let shared = self.shared.clone();
        let file = self.file(&handle)?;
        let mut data = data;
        // an archive begins with these letters
        if shared.habits.lie == Some(Lie::Bytes) && data.starts_with(b"PK") {
            data.iter_mut().take(1).for_each(|b| *b = b'p');
        }
        let grows = (offset + data.len() as u64).saturating_sub(file.metadata().map_err(No::from)?.len());
        shared.disk.take(grows)?;
        file.seek(SeekFrom::Start(offset)).and_then(|_| file.write_all(&data)).map_err(No::from)?;
        Ok(fine(id))
    }

    async fn lstat(&mut self, id: u32, path: String) -> Reply<Attrs> {
        self.shared.asked();
        Ok(Attrs { id, attrs: attributes(&self.shared.disk.look(&path)?) })
    }

    async fn stat(&mut self, id: u32, path: String) -> Reply<Attrs> {
        self.lstat(id, path).await
    }

    async fn fstat(&mut self, id: u32, handle: String) -> Reply<Attrs> {
        self.shared.asked();
        let lie = if self.shared.habits.lie == Some(Lie::Sizes) { 1_000 } else { 0 };
        let size = self.file(&handle)?.metadata().map_err(No::from)?.len() + lie;
        Ok(Attrs { id, attrs: FileAttributes { size: Some(size), ..FileAttributes::empty() } })
    }

    async fn setstat(&mut self, id: u32, path: String, attrs: FileAttributes) -> Reply<Status> {
        self.shared.asked();
        if let Some(mode) = attrs.permissions {
            self.shared.disk.mode(&path, mode)?;
        }
        Ok(fine(id))
    }

    async fn opendir(&mut self, id: u32, path: String) -> Reply<Handle> {
        self.shared.asked();
        let open = match self.shared.habits.lie {
            Some(Lie::Listing) => Open::Endless,
            _ => Open::Folder(self.shared.disk.list(&path)?),
        };
        Ok(Handle { id, handle: self.keep(open) })
    }

    async fn readdir(&mut self, id: u32, handle: String) -> Reply<Name> {
        self.shared.asked();
        let files = match self.handles.get_mut(&handle) {
            Some(Open::Folder(left)) if !left.is_empty() => {
                let some: Vec<Seen> = left.drain(..left.len().min(100)).collect();
                some.iter().map(|s| Named::new(&s.name, attributes(s))).collect()
            }
            Some(Open::Folder(_)) => return Err(StatusReply::new(StatusCode::Eof)),
            Some(Open::Endless) => {
                self.next += 1;
                let from = self.next;
                (0..100).map(|n| Named::new(format!("{from}-{n}"), FileAttributes::empty())).collect()
            }
            _ => return Err(No::Failure.into()),
        };
        Ok(Name { id, files })
    }

    async fn remove(&mut self, id: u32, filename: String) -> Reply<Status> {
        self.shared.asked();
        self.shared.disk.remove(&filename)?;
        Ok(fine(id))
    }

    async fn mkdir(&mut self, id: u32, path: String, _: FileAttributes) -> Reply<Status> {
        self.shared.asked();
        self.shared.disk.make(&path)?;
        Ok(fine(id))
    }

    async fn rmdir(&mut self, id: u32, path: String) -> Reply<Status> {
        self.shared.asked();
        self.shared.disk.remove_folder(&path)?;
        Ok(fine(id))
    }

    async fn realpath(&mut self, id: u32, path: String) -> Reply<Name> {
        Ok(Name { id, files: vec![Named::dummy(path)] })
    }

    async fn rename(&mut self, id: u32, oldpath: String, newpath: String) -> Reply<Status> {
        self.shared.asked();
        self.shared.disk.rename(&oldpath, &newpath, false)?;
        Ok(fine(id))
    }

    async fn extended(&mut self, id: u32, request: String, data: Vec<u8>) -> Reply<Packet> {
        self.shared.asked();
        let mut texts = texts(&data).into_iter();
        let (first, second) = (texts.next().unwrap_or_default(), texts.next().unwrap_or_default());
        match request.as_str() {
            "posix-rename@openssh.com" => self.shared.disk.rename(&first, &second, true)?,
            "hardlink@openssh.com" => self.shared.disk.link(&first, &second)?,
            "fsync@openssh.com" => {}
            "statvfs@openssh.com" => {
                let left = self.shared.disk.left().unwrap_or(1 << 40);
                let told = [1, 1, 1 << 41, left, left, 1_000_000, 1_000_000, 1_000_000, 7, 0, 255u64];
                let data = told.iter().flat_map(|n| n.to_be_bytes()).collect();
                return Ok(Packet::ExtendedReply(ExtendedReply { id, data }));
            }
            _ => return Err(StatusReply::new(StatusCode::OpUnsupported)),
        }
        Ok(Packet::Status(fine(id)))
    }
}

/// The texts of a request: each after its length.
fn texts(mut data: &[u8]) -> Vec<String> {
    let mut out = Vec::new();
    while let Some((length, rest)) = data.split_first_chunk::<4>() {
        let length = u32::from_be_bytes(*length) as usize;
        let Some((text, left)) = rest.split_at_checked(length) else { break };
        out.push(String::from_utf8_lossy(text).into_owned());
        data = left;
    }
    out
}
