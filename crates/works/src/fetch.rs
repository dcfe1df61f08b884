//! Fetching over HTTP: bounded in size and time, checked against every hash known, several at once.

mod error;

use std::io::{Seek, SeekFrom, Write};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use futures_util::StreamExt as _;
use futures_util::stream;
use reqwest::{Client, StatusCode, Url, header};
use sha2::Digest as _;
use yalotheca_core::id::Digest;
use yalotheca_core::roster::Limits;
use yalotheca_core::text::{bytes as sized, clean};

use crate::Error;
use crate::home::Home;
use crate::progress::Progress;

pub use error::FetchError;

/// So many downloads run side by side.
const AT_ONCE: usize = 6;
/// A cut transfer is taken up again so often, for each address.
const TRIES: usize = 3;

/// A file to fetch.
#[derive(Debug, Clone)]
pub struct Job {
    /// What it is, for people: `chest-locks 2.1.0`.
    pub what: String,
    /// Where it can be fetched, best first.
    pub addresses: Vec<String>,
    /// What it must be: size and digest; anything within the bound when unknown.
    pub wanted: Option<(u64, Digest)>,
    /// A second digest it must have: SHA-512, as hexadecimal digits.
    pub sha512: Option<String>,
}

/// A fetched file, in the store.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Got {
    /// Its digest.
    pub sha256: Digest,
    /// Its size in bytes.
    pub bytes: u64,
    /// The name the host or the address gives it.
    pub name: String,
}

/// An answer to a small question.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Answer {
    /// It is what was known already.
    Same,
    /// These bytes, with the tag to ask with next time.
    Bytes(Vec<u8>, Option<String>),
    /// There is nothing at that address.
    Nothing,
}

/// The one place that speaks HTTP.
#[derive(Clone)]
pub struct Fetcher {
    shared: Arc<std::sync::OnceLock<Result<Ready, FetchError>>>,
    limits: Limits,
    offline: bool,
    stop: Arc<AtomicBool>,
}

#[derive(Debug)]
struct Ready {
    runtime: &'static tokio::runtime::Runtime,
    client: Client,
}

impl std::fmt::Debug for Fetcher {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Fetcher").field("limits", &self.limits).finish_non_exhaustive()
    }
}

impl Fetcher {
    /// Returns a fetcher; the network part is made ready at its first use. `stop` ends every transfer.
    pub fn new(limits: Limits, offline: bool, stop: Arc<AtomicBool>) -> Self {
        Self { shared: Arc::default(), limits, offline, stop }
    }

    /// Whether the network is forbidden.
    pub fn offline(&self) -> bool {
        self.offline
    }

    fn ready(&self) -> Result<&Ready, FetchError> {
        self.shared.get_or_init(|| self.set_up()).as_ref().map_err(Clone::clone)
    }

    fn set_up(&self) -> Result<Ready, FetchError> {
        let fail = |e: &dyn std::fmt::Display| FetchError::Setup(clean(&e.to_string(), 160));
        let runtime = crate::runtime::shared().map_err(|e| fail(&e))?;
        let roots = rustls::RootCertStore::from_iter(webpki_roots::TLS_SERVER_ROOTS.iter().cloned());
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let tls = rustls::ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(|e| fail(&e))?
            .with_root_certificates(roots)
            .with_no_client_auth();
        let client = Client::builder()
            .tls_backend_preconfigured(tls)
            .user_agent(concat!("yalotheca/", env!("CARGO_PKG_VERSION")))
            .connect_timeout(self.silence())
            .redirect(reqwest::redirect::Policy::limited(8))
            .build()
            .map_err(|e| fail(&e))?;
        Ok(Ready { runtime, client })
    }

    fn silence(&self) -> Duration {
        Duration::from_secs(self.limits.silence_seconds.max(1))
    }

    /// Asks for small files, all at once; `tags` are sent so that what is known need not come again.
    pub(crate) fn ask(&self, questions: &[(String, Option<String>)], most: u64) -> Vec<Result<Answer, FetchError>> {
        if questions.is_empty() {
            return Vec::new();
        }
        if self.offline {
            return questions
                .iter()
                .map(|(address, _)| Err(FetchError::Offline { address: address.clone() }))
                .collect();
        }
        let ready = match self.ready() {
            Ok(ready) => ready,
            Err(e) => return questions.iter().map(|_| Err(e.clone())).collect(),
        };
        ready.runtime.block_on(async {
            let asked = questions.iter().map(|(address, tag)| self.small(&ready.client, address, tag.as_deref(), most));
            stream::iter(asked).buffered(AT_ONCE * 2).collect().await
        })
    }

    async fn small(&self, client: &Client, address: &str, tag: Option<&str>, most: u64) -> Result<Answer, FetchError> {
        let mut request = client.get(url(address)?);
        if let Some(tag) = tag {
            request = request.header(header::IF_NONE_MATCH, tag);
        }
        let response = self.patiently(address, request.send()).await?.map_err(|e| silent(address, &e))?;
        match response.status() {
            StatusCode::NOT_MODIFIED => return Ok(Answer::Same),
            StatusCode::NOT_FOUND | StatusCode::GONE => return Ok(Answer::Nothing),
            status if !status.is_success() => return Err(refused(address, status)),
            _ => {}
        }
        let too_large = || FetchError::Swollen { address: address.to_owned(), most: sized(most) };
        if response.content_length().is_some_and(|l| l > most) {
            return Err(too_large());
        }
        let tag = response.headers().get(header::ETAG).and_then(|t| t.to_str().ok()).map(str::to_owned);
        let announced = response.content_length();
        let mut out = Vec::new();
        let mut body = response.bytes_stream();
        while let Some(chunk) = self.patiently(address, body.next()).await? {
            let chunk = chunk.map_err(|_| cut(address, out.len() as u64, announced))?;
            out.extend_from_slice(&chunk);
            if out.len() as u64 > most {
                return Err(too_large());
            }
        }
        Ok(Answer::Bytes(out, tag))
    }

    /// Fetches files into the store, several at once.
    ///
    /// # Errors
    /// Per file: the last address's failure, when all failed.
    pub fn fetch(&self, home: &Home, jobs: &[Job], progress: &dyn Progress) -> Vec<Result<Got, Error>> {
        if jobs.is_empty() {
            return Vec::new();
        }
        if self.offline {
            let address = |job: &Job| job.addresses.first().cloned().unwrap_or_default();
            return jobs.iter().map(|job| Err(FetchError::Offline { address: address(job) }.into())).collect();
        }
        let ready = match self.ready() {
            Ok(ready) => ready,
            Err(e) => return jobs.iter().map(|_| Err(e.clone().into())).collect(),
        };
        ready.runtime.block_on(async {
            let all = jobs.iter().map(|job| async move {
                progress.begin(&job.what, job.wanted.as_ref().map_or(0, |(bytes, _)| *bytes));
                let got = self.one(&ready.client, home, job, progress).await;
                progress.end(&job.what);
                got
            });
            stream::iter(all).buffered(AT_ONCE).collect().await
        })
    }

    async fn one(&self, client: &Client, home: &Home, job: &Job, progress: &dyn Progress) -> Result<Got, Error> {
        let mut last = FetchError::Address("(none)".to_owned());
        for address in &job.addresses {
            let mut file = home.temporary()?;
            let mut hash = sha2::Sha256::new();
            let mut got = 0;
            for _ in 0..TRIES {
                let state = Transfer { file: file.as_file_mut(), hash: &mut hash, got: &mut got };
                match self.transfer(client, job, address, state, progress).await {
                    Ok(name) => {
                        let sha256 = Digest::from_raw(&hash.finalize());
                        if let Some((_, wanted)) = job.wanted.as_ref().filter(|(_, w)| *w != sha256) {
                            let why = format!("its sha256 is {}…, not {}…", sha256.short(), wanted.short());
                            last = FetchError::Other { address: address.clone(), why };
                            break;
                        }
                        if let Some(wanted) = &job.sha512 {
                            let whole = file.reopen().map_err(Error::disk(file.path(), "cannot be read"))?;
                            let found = sha512_of(whole).map_err(Error::disk(file.path(), "cannot be read"))?;
                            if !found.eq_ignore_ascii_case(wanted) {
                                let why = "its sha512 is another, though its sha256 is right".to_owned();
                                last = FetchError::Other { address: address.clone(), why };
                                break;
                            }
                        }
                        home.keep(file, &sha256)?;
                        return Ok(Got { sha256, bytes: got, name });
                    }
                    Err(FetchError::Stopped) => return Err(FetchError::Stopped.into()),
                    Err(e) => {
                        let again = e.may_pass();
                        last = e;
                        if !again {
                            break;
                        }
                    }
                }
            }
        }
        Err(last.into())
    }

    /// One try at one address, taken up where the last one was cut. Returns the file's name.
    async fn transfer(
        &self,
        client: &Client,
        job: &Job,
        address: &str,
        state: Transfer<'_>,
        progress: &dyn Progress,
    ) -> Result<String, FetchError> {
        let most = self.limits.download_mb.saturating_mul(1_000_000);
        let bound = job.wanted.as_ref().map_or(most, |(bytes, _)| *bytes);
        let too_large = || match &job.wanted {
            Some((bytes, _)) => {
                FetchError::Other { address: address.to_owned(), why: format!("it is larger than {bytes} bytes") }
            }
            None => FetchError::TooLarge { address: address.to_owned(), most: sized(most) },
        };
        if bound > most {
            return Err(FetchError::TooLarge { address: address.to_owned(), most: sized(most) });
        }
        let local = |e: std::io::Error| FetchError::Setup(format!("the store cannot be written: {e}"));
        let mut request = client.get(url(address)?);
        if *state.got > 0 {
            request = request.header(header::RANGE, format!("bytes={}-", state.got));
        }
        let response = self.patiently(address, request.send()).await?.map_err(|e| silent(address, &e))?;
        let status = response.status();
        if !status.is_success() {
            return Err(refused(address, status));
        }
        if *state.got > 0 && status != StatusCode::PARTIAL_CONTENT {
            // the host begins again, so do we
            *state.got = 0;
            *state.hash = sha2::Sha256::new();
            state.file.set_len(0).map_err(local)?;
            state.file.seek(SeekFrom::Start(0)).map_err(local)?;
        }
        let kind = response.headers().get(header::CONTENT_TYPE).and_then(|t| t.to_str().ok()).unwrap_or("");
        if kind.starts_with("text/html") {
            return Err(FetchError::Page { address: address.to_owned() });
        }
        let announced = response.content_length().map(|l| l + *state.got);
        if announced.is_some_and(|l| l > bound) {
            return Err(too_large());
        }
        if let (None, Some(total), 0) = (&job.wanted, announced, *state.got) {
            progress.known(&job.what, total);
        }
        let name = file_name(&response);
        let mut body = response.bytes_stream();
        while let Some(chunk) = self.patiently(address, body.next()).await? {
            let chunk = chunk.map_err(|_| cut(address, *state.got, announced.or(Some(bound))))?;
            *state.got += chunk.len() as u64;
            if *state.got > bound {
                return Err(too_large());
            }
            state.hash.update(&chunk);
            state.file.write_all(&chunk).map_err(local)?;
            progress.more(&job.what, chunk.len() as u64);
        }
        match &job.wanted {
            Some((bytes, _)) if *state.got < *bytes && announced.is_none_or(|a| a < *bytes) => Err(FetchError::Other {
                address: address.to_owned(),
                why: format!("it has {} bytes, not {bytes}", state.got),
            }),
            Some((bytes, _)) if *state.got < *bytes => Err(cut(address, *state.got, announced)),
            _ => Ok(name),
        }
    }

    /// Waits as long as a host may be silent, and hears Ctrl-C meanwhile.
    async fn patiently<T>(&self, address: &str, what: impl Future<Output = T>) -> Result<T, FetchError> {
        tokio::pin!(what);
        let until = tokio::time::Instant::now() + self.silence();
        loop {
            let tick = tokio::time::sleep(Duration::from_millis(50));
            tokio::select! {
                done = &mut what => return Ok(done),
                () = tick => {}
            }
            if self.stop.load(Ordering::Relaxed) {
                return Err(FetchError::Stopped);
            }
            if tokio::time::Instant::now() > until {
                let why = format!("nothing came for {} seconds", self.silence().as_secs());
                return Err(FetchError::Silent { address: address.to_owned(), why });
            }
        }
    }
}

struct Transfer<'a> {
    file: &'a mut std::fs::File,
    hash: &'a mut sha2::Sha256,
    got: &'a mut u64,
}

fn sha512_of(mut from: impl std::io::Read) -> std::io::Result<String> {
    use std::fmt::Write as _;
    let mut hash = sha2::Sha512::new();
    let mut buffer = vec![0u8; 128 * 1024];
    loop {
        let count = from.read(&mut buffer)?;
        match buffer.get(..count) {
            Some(chunk) if !chunk.is_empty() => hash.update(chunk),
            _ => break,
        }
    }
    let mut hex = String::new();
    for byte in hash.finalize() {
        let _ = write!(hex, "{byte:02x}");
    }
    Ok(hex)
}

fn url(address: &str) -> Result<Url, FetchError> {
    let bad = || FetchError::Address(clean(address, 200));
    let url = Url::parse(address).map_err(|_| bad())?;
    if matches!(url.scheme(), "http" | "https") { Ok(url) } else { Err(bad()) }
}

fn silent(address: &str, e: &reqwest::Error) -> FetchError {
    let mut why = "the connection failed".to_owned();
    let mut source: Option<&dyn std::error::Error> = Some(e);
    while let Some(inner) = source {
        why = clean(&inner.to_string(), 120);
        source = inner.source();
    }
    FetchError::Silent { address: address.to_owned(), why }
}

fn refused(address: &str, status: StatusCode) -> FetchError {
    let words = status.canonical_reason().unwrap_or("");
    FetchError::Status {
        address: address.to_owned(),
        status: format!("{} {words}", status.as_u16()).trim_end().to_owned(),
    }
}

fn cut(address: &str, got: u64, wanted: Option<u64>) -> FetchError {
    let wanted = wanted.map_or("an unknown size".to_owned(), sized);
    FetchError::Cut { address: address.to_owned(), got: sized(got), wanted }
}

/// The file's name: what the host calls it (RFC 6266, `filename="…"`), else the address's last part.
fn file_name(response: &reqwest::Response) -> String {
    let said = response.headers().get(header::CONTENT_DISPOSITION).and_then(|v| v.to_str().ok());
    let said = said.and_then(|v| v.split(';').find_map(|p| p.trim().strip_prefix("filename=")));
    let said = said.map(|n| n.trim_matches('"').to_owned());
    let last = || response.url().path_segments().and_then(|mut s| s.next_back()).unwrap_or("").to_owned();
    let name = said.filter(|n| !n.is_empty()).unwrap_or_else(last);
    let name = name.rsplit(['/', '\\']).next().unwrap_or("").to_owned();
    if yalotheca_core::id::storable(&name).is_ok() { name } else { "download".to_owned() }
}
