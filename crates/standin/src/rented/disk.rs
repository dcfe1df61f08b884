//! The disk of a rented host: a real folder, with the limits of a rented one.

use std::fs::{self, File};
use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use super::{Habits, Lie};

/// Why the disk says no, as hosts say it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum No {
    /// Nothing there.
    Absent,
    /// Not allowed.
    Denied,
    /// No room.
    Full,
    /// Something is there already.
    Exists,
    /// The name cannot be stored.
    Name,
    /// Anything else.
    Failure,
}

impl No {
    /// Returns what the host says.
    pub fn words(self) -> &'static str {
        match self {
            No::Absent => "No such file or directory",
            No::Denied => "Permission denied",
            No::Full => "Quota exceeded",
            No::Exists => "File exists",
            No::Name => "Illegal file name",
            No::Failure => "Failure",
        }
    }
}

impl From<std::io::Error> for No {
    fn from(e: std::io::Error) -> Self {
        match e.kind() {
            ErrorKind::NotFound | ErrorKind::NotADirectory => No::Absent,
            ErrorKind::PermissionDenied => No::Denied,
            ErrorKind::AlreadyExists => No::Exists,
            ErrorKind::StorageFull | ErrorKind::QuotaExceeded => No::Full,
            _ => No::Failure,
        }
    }
}

/// What stands at a name.
#[derive(Debug, Clone)]
pub struct Seen {
    /// Its name.
    pub name: String,
    /// Whether it is a folder.
    pub folder: bool,
    /// Whether it is a link.
    pub link: bool,
    /// Its size in bytes.
    pub size: u64,
    /// When it was changed, in seconds since 1970, by the host's clock.
    pub time: i64,
    /// Whether it may be written.
    pub writable: bool,
}

/// The disk.
#[derive(Debug)]
pub struct Disk {
    top: PathBuf,
    quota: Option<u64>,
    used: Mutex<u64>,
    no_rename_over: bool,
    case_blind: bool,
    read_only: Vec<String>,
    no_dot_names: bool,
    plain_names: bool,
    minutes: bool,
    clock: i64,
    lie: Option<Lie>,
}

impl Disk {
    pub(super) fn new(top: &Path, habits: &Habits) -> Self {
        Self {
            top: top.to_owned(),
            quota: habits.quota,
            used: Mutex::new(0),
            no_rename_over: habits.no_rename_over,
            case_blind: habits.case_blind,
            read_only: habits.read_only.clone(),
            no_dot_names: habits.no_dot_names,
            plain_names: habits.plain_names,
            minutes: habits.minutes,
            clock: habits.clock,
            lie: habits.lie,
        }
    }

    /// The real path of a host's path; it never leaves the top.
    fn real(&self, path: &str) -> Result<PathBuf, No> {
        let mut out = self.top.clone();
        for part in path.split('/').filter(|p| !p.is_empty() && *p != ".") {
            if part == ".." || part.contains('\0') {
                return Err(No::Denied);
            }
            let hidden = self.no_dot_names && part.starts_with('.');
            if hidden || (self.plain_names && !part.is_ascii()) {
                return Err(if hidden { No::Denied } else { No::Name });
            }
            let next = out.join(part);
            out = if self.case_blind && !next.exists() { alike(&out, part).unwrap_or(next) } else { next };
        }
        Ok(out)
    }

    fn may_write(&self, path: &str) -> Result<(), No> {
        let inside = |f: &String| path.trim_start_matches('/').starts_with(&format!("{}/", f.trim_matches('/')));
        if self.read_only.iter().any(inside) { Err(No::Denied) } else { Ok(()) }
    }

    fn seen(&self, path: &Path, name: &str) -> Result<Seen, No> {
        let meta = path.symlink_metadata()?;
        let time = meta.modified().ok().and_then(|t| t.duration_since(UNIX_EPOCH).ok()).unwrap_or_default();
        let mut time = i64::try_from(time.as_secs()).unwrap_or(0) + self.clock;
        if self.minutes {
            time -= time.rem_euclid(60);
        }
        let size = if self.lie == Some(Lie::Sizes) { meta.len() + 1_000 } else { meta.len() };
        let (folder, link) = (meta.is_dir(), meta.is_symlink());
        Ok(Seen { name: name.to_owned(), folder, link, size, time, writable: !meta.permissions().readonly() })
    }

    /// Returns what stands at a path.
    ///
    /// # Errors
    /// Nothing does.
    pub fn look(&self, path: &str) -> Result<Seen, No> {
        let real = self.real(path)?;
        let name = path.trim_end_matches('/').rsplit('/').next().unwrap_or("").to_owned();
        if self.lie == Some(Lie::Endless) && name == "deeper" {
            let top = self.seen(&self.top, "deeper")?;
            return Ok(Seen { name, ..top });
        }
        self.seen(&real, &name)
    }

    /// Lists a folder.
    ///
    /// # Errors
    /// There is none.
    pub fn list(&self, path: &str) -> Result<Vec<Seen>, No> {
        if self.lie == Some(Lie::Endless) && path.ends_with("/deeper") {
            return Ok(vec![Seen { name: "deeper".to_owned(), ..self.seen(&self.top, "deeper")? }]);
        }
        let real = self.real(path)?;
        if !real.is_dir() {
            return Err(No::Absent);
        }
        let mut out = Vec::new();
        for entry in fs::read_dir(&real)?.flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            if self.no_dot_names && name.starts_with('.') {
                continue;
            }
            out.extend(self.seen(&entry.path(), &name));
        }
        out.sort_by(|a, b| a.name.cmp(&b.name));
        match self.lie {
            Some(Lie::Endless) => out.push(Seen { name: "deeper".to_owned(), ..self.seen(&self.top, "deeper")? }),
            Some(Lie::Names) => {
                let file = |name: &str| Seen {
                    name: name.to_owned(),
                    folder: false,
                    link: false,
                    size: 3,
                    time: 1,
                    writable: true,
                };
                for name in ["..", ".", "../out", "/etc/out", "a/b", "bell\u{7}\u{1b}[31mred", "nul", "x:y", "dot."] {
                    out.push(file(name));
                }
            }
            _ => {}
        }
        Ok(out)
    }

    /// Opens a file for reading.
    ///
    /// # Errors
    /// There is none.
    pub fn read(&self, path: &str) -> Result<File, No> {
        let real = self.real(path)?;
        if real.is_dir() {
            return Err(No::Failure);
        }
        Ok(File::open(real)?)
    }

    /// Opens a file for writing, from its beginning or as it is.
    ///
    /// # Errors
    /// It may not be written.
    pub fn write(&self, path: &str, anew: bool) -> Result<File, No> {
        self.may_write(path)?;
        let real = self.real(path)?;
        if anew && let Ok(meta) = real.symlink_metadata() {
            self.free(meta.len());
        }
        Ok(File::options().write(true).create(true).truncate(anew).open(real)?)
    }

    /// Takes room for so many more bytes.
    ///
    /// # Errors
    /// There is none left.
    pub fn take(&self, bytes: u64) -> Result<(), No> {
        let Some(quota) = self.quota else { return Ok(()) };
        let mut used = self.used.lock().map_err(|_| No::Failure)?;
        if *used + bytes > quota {
            return Err(No::Full);
        }
        *used += bytes;
        Ok(())
    }

    fn free(&self, bytes: u64) {
        if let Ok(mut used) = self.used.lock() {
            *used = used.saturating_sub(bytes);
        }
    }

    /// Makes a folder.
    ///
    /// # Errors
    /// Something is there, or it may not be.
    pub fn make(&self, path: &str) -> Result<(), No> {
        self.may_write(path)?;
        self.take(0)?;
        Ok(fs::create_dir(self.real(path)?)?)
    }

    /// Takes an empty folder away.
    ///
    /// # Errors
    /// It is not there, or not empty.
    pub fn remove_folder(&self, path: &str) -> Result<(), No> {
        self.may_write(path)?;
        Ok(fs::remove_dir(self.real(path)?)?)
    }

    /// Takes a file away.
    ///
    /// # Errors
    /// It is not there.
    pub fn remove(&self, path: &str) -> Result<(), No> {
        self.may_write(path)?;
        let real = self.real(path)?;
        let size = real.symlink_metadata()?.len();
        fs::remove_file(real)?;
        self.free(size);
        Ok(())
    }

    /// Renames; `over` says whether what stands there may be replaced.
    ///
    /// # Errors
    /// Something is in the way.
    pub fn rename(&self, from: &str, to: &str, over: bool) -> Result<(), No> {
        self.may_write(from).and_then(|()| self.may_write(to))?;
        let (from, to) = (self.real(from)?, self.real(to)?);
        if to.symlink_metadata().is_ok() && (!over || self.no_rename_over) {
            return Err(No::Exists);
        }
        Ok(fs::rename(from, to)?)
    }

    /// Gives a file a second name.
    ///
    /// # Errors
    /// Something is in the way.
    pub fn link(&self, from: &str, to: &str) -> Result<(), No> {
        self.may_write(to)?;
        Ok(fs::hard_link(self.real(from)?, self.real(to)?)?)
    }

    /// Sets who may read and write a file.
    ///
    /// # Errors
    /// It is not there.
    pub fn mode(&self, path: &str, mode: u32) -> Result<(), No> {
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt as _;
            fs::set_permissions(self.real(path)?, fs::Permissions::from_mode(mode & 0o777))?;
        }
        #[cfg(not(unix))]
        let _ = (path, mode);
        Ok(())
    }

    /// Whether hosts of this sort can rename over a file.
    pub fn renames_over(&self) -> bool {
        !self.no_rename_over
    }

    /// Returns the bytes that are free under the quota.
    pub fn left(&self) -> Option<u64> {
        let used = self.used.lock().ok()?;
        Some(self.quota?.saturating_sub(*used))
    }

    /// What is stored of what was sent.
    pub(super) fn kept<'a>(&self, bytes: &'a [u8]) -> &'a [u8] {
        let end = if self.lie == Some(Lie::Short) { bytes.len().saturating_sub(1) } else { bytes.len() };
        bytes.get(..end).unwrap_or_default()
    }
}

fn alike(folder: &Path, name: &str) -> Option<PathBuf> {
    let lower = name.to_lowercase();
    let entries = fs::read_dir(folder).ok()?.flatten();
    entries.map(|e| e.path()).find(|p| p.file_name().is_some_and(|n| n.to_string_lossy().to_lowercase() == lower))
}

/// Returns the date and time of a number of seconds: year, month, day, hour, minute, second.
pub(super) fn civil(seconds: i64) -> (i64, u32, u32, u32, u32, u32) {
    let at = UNIX_EPOCH + Duration::from_secs(u64::try_from(seconds).unwrap_or(0));
    let since = at.duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default().as_secs();
    let (days, rest) = (i64::try_from(since / 86_400).unwrap_or(0), since % 86_400);
    // the usual arithmetic of days from 1 March of year 0
    let z = days + 719_468;
    let era = z.div_euclid(146_097);
    let of_era = z.rem_euclid(146_097);
    let year_of_era = (of_era - of_era / 1_460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let month = (5 * of_year + 2) / 153;
    let day = of_year - (153 * month + 2) / 5 + 1;
    let month = if month < 10 { month + 3 } else { month - 9 };
    let year = year_of_era + era * 400 + i64::from(month <= 2);
    let small = |n: i64| u32::try_from(n).unwrap_or(0);
    let part = |n: u64| u32::try_from(n).unwrap_or(0);
    (year, small(month), small(day), part(rest / 3_600), part(rest % 3_600 / 60), part(rest % 60))
}
