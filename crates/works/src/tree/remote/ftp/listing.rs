//! What FTP hosts say of a folder: MLSD where they know it, else the lines that `ls` or DOS would print.

use suppaftp::list::{File, FileType, ListParser};

use super::super::wire::Named;
use crate::tree::Stat;

/// Reads a line of MLSD; `None` for the folder itself, the one above, and what no host should list.
pub(in super::super) fn machine(line: &str) -> Option<Named> {
    let (facts, name) = line.split_once(' ')?;
    let facts = facts.to_ascii_lowercase();
    let fact = |key: &str| facts.split(';').find_map(|f| f.strip_prefix(key)?.strip_prefix('='));
    let writable = fact("unix.mode").and_then(|m| u32::from_str_radix(m, 8).ok()).is_none_or(|m| m & 0o222 != 0);
    let stat = match fact("type")? {
        "cdir" | "pdir" => return None,
        "dir" => Stat::Folder,
        "file" => plain(&ListParser::parse_mlsd(line).ok()?),
        // links, devices
        _ => Stat::Other,
    };
    Some(Named { name: name.to_owned(), stat, writable })
}

/// Reads a line as `ls -l` or DOS prints it.
pub(in super::super) fn human(line: &str) -> Option<Named> {
    let file = ListParser::parse_posix(line).or_else(|_| ListParser::parse_dos(line)).ok()?;
    let stat = match file.file_type() {
        FileType::Directory => Stat::Folder,
        FileType::Symlink(_) => Stat::Other,
        FileType::File => plain(&file),
    };
    // `-r--r--r--`: nobody may write
    let mode = line.get(1..10).filter(|_| line.starts_with('-'));
    let writable = mode.is_none_or(|m| m.contains('w'));
    let name = file.name().to_owned();
    (name != "." && name != "..").then_some(Named { name, stat, writable })
}

fn plain(file: &File) -> Stat {
    let changed = file.modified().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    Stat::File { bytes: file.size() as u64, changed: i64::try_from(changed.as_nanos()).unwrap_or(0) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_sorts_of_lines_are_read() {
        let file = machine("type=file;size=12;modify=20261123120000;UNIX.mode=0444; a b.txt").unwrap();
        assert_eq!(file.name, "a b.txt");
        assert!(!file.writable);
        assert!(matches!(file.stat, Stat::File { bytes: 12, changed } if changed > 0));
        assert_eq!(machine("Type=dir;modify=20261123120000; plugins").unwrap().stat, Stat::Folder);
        assert_eq!(machine("type=OS.unix=slink:/etc;size=3; out").unwrap().stat, Stat::Other);
        assert_eq!(machine("type=cdir; ."), None);
        assert_eq!(machine("nonsense"), None);
        let old = human("-rw-r--r--   1 club  club      1234 Nov  5  2018 start.conf").unwrap();
        assert_eq!((old.name.as_str(), old.writable), ("start.conf", true));
        assert!(matches!(old.stat, Stat::File { bytes: 1234, .. }));
        assert!(!human("-r--r--r--   1 club  club  4 Nov  5  2018 x").unwrap().writable);
        assert_eq!(human("drwxr-xr-x   2 club  club  4096 Nov  5  2018 plugins").unwrap().stat, Stat::Folder);
        assert_eq!(human("lrwxrwxrwx   1 club  club  4 Nov  5  2018 out -> /etc").unwrap().stat, Stat::Other);
        assert_eq!(human("04-08-14  03:09PM       <DIR>          worlds").unwrap().stat, Stat::Folder);
        assert_eq!(human("total 12"), None);
    }
}
