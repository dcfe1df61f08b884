//! A corpus of hostile archives, made here: in zip, tar and 7z. Each gives one refusal; nothing is written but what
//! was asked for, and memory stays bounded.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::io::{Cursor, Seek as _, Write as _};
use std::path::Path;

use yalotheca_works::archive::{Sort, list, sort, unify};
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipWriter};

/// What an entry of a made archive is.
#[derive(Clone, Copy, PartialEq)]
enum What {
    File,
    Link,
    HardLink,
    Device,
    Pipe,
}

struct Entry {
    name: String,
    what: What,
    bytes: Vec<u8>,
}

fn file(name: &str) -> Entry {
    Entry { name: name.to_owned(), what: What::File, bytes: b"content".to_vec() }
}

fn other(name: &str, what: What) -> Entry {
    Entry { name: name.to_owned(), what, bytes: Vec::new() }
}

fn zip(entries: &[Entry]) -> Vec<u8> {
    let mut archive = ZipWriter::new(Cursor::new(Vec::new()));
    let mut same = Vec::new();
    for (at, entry) in entries.iter().enumerate() {
        match entry.what {
            What::File => {
                // the writer makes no two of one name: the second is renamed in the bytes
                let twin = entries[..at].iter().any(|e| e.name == entry.name);
                let name = if twin { format!("{}~", &entry.name[..entry.name.len() - 1]) } else { entry.name.clone() };
                if twin {
                    same.push((name.clone(), entry.name.clone()));
                }
                archive.start_file(&name, SimpleFileOptions::default()).unwrap();
                archive.write_all(&entry.bytes).unwrap();
            }
            _ => archive.add_symlink(&entry.name, "/etc", SimpleFileOptions::default()).unwrap(),
        }
    }
    let mut out = archive.finish().unwrap().into_inner();
    for (from, to) in same {
        replace(&mut out, from.as_bytes(), to.as_bytes());
    }
    out
}

fn replace(bytes: &mut [u8], from: &[u8], to: &[u8]) {
    assert_eq!(from.len(), to.len());
    for at in 0..=bytes.len() - from.len() {
        if bytes[at..].starts_with(from) {
            bytes[at..at + to.len()].copy_from_slice(to);
        }
    }
}

fn tar(entries: &[Entry]) -> Vec<u8> {
    let mut out = tar::Builder::new(Vec::new());
    for entry in entries {
        let mut header = tar::Header::new_ustar();
        header.set_size(entry.bytes.len() as u64);
        header.set_mode(0o644);
        header.set_entry_type(match entry.what {
            What::File => tar::EntryType::Regular,
            What::Link => tar::EntryType::Symlink,
            What::HardLink => tar::EntryType::Link,
            What::Device => tar::EntryType::Char,
            What::Pipe => tar::EntryType::Fifo,
        });
        if entry.name.len() < 100 {
            // as it is: the library would refuse to write it
            header.as_mut_bytes()[..entry.name.len()].copy_from_slice(entry.name.as_bytes());
            header.as_mut_bytes()[157..161].copy_from_slice(b"/etc");
            header.set_cksum();
            out.append(&header, entry.bytes.as_slice()).unwrap();
        } else {
            header.set_cksum();
            out.append_data(&mut header, &entry.name, entry.bytes.as_slice()).unwrap();
        }
    }
    out.into_inner().unwrap()
}

/// A number as 7z writes it: the first byte's leading ones tell how many follow.
fn number(n: u64) -> Vec<u8> {
    if n < 0x80 {
        return vec![n as u8];
    }
    for more in 1..8u32 {
        if n < 1 << (7 * (more + 1)) {
            let mark = !(0xffu64 >> more) as u8;
            let mut out = vec![mark | (n >> (8 * more)) as u8];
            out.extend(&n.to_le_bytes()[..more as usize]);
            return out;
        }
    }
    let mut out = vec![0xff];
    out.extend(n.to_le_bytes());
    out
}

fn crc(bytes: &[u8]) -> u32 {
    let mut hash = flate2::Crc::new();
    hash.update(bytes);
    hash.sum()
}

/// A 7z whose contents lie in it unpacked. `claims` are sizes that it claims instead.
fn seven_claiming(entries: &[Entry], claims: &[u64], method: &[u8]) -> Vec<u8> {
    let content: Vec<u8> = entries.iter().flat_map(|e| e.bytes.clone()).collect();
    let filled: Vec<&Entry> = entries.iter().filter(|e| !e.bytes.is_empty()).collect();
    let sizes: Vec<u64> =
        filled.iter().enumerate().map(|(at, e)| claims.get(at).copied().unwrap_or(e.bytes.len() as u64)).collect();
    let mut head = vec![0x01, 0x04, 0x06, 0x00, 0x01, 0x09];
    head.extend(number(content.len() as u64));
    head.extend([0x00, 0x07, 0x0b, 0x01, 0x00, 0x01, method.len() as u8]);
    head.extend(method);
    head.push(0x0c);
    head.extend(number(sizes.iter().sum()));
    head.extend([0x00, 0x08, 0x0d]);
    head.extend(number(filled.len() as u64));
    if sizes.len() > 1 {
        head.push(0x09);
        for size in &sizes[..sizes.len() - 1] {
            head.extend(number(*size));
        }
    }
    head.extend([0x0a, 0x01]);
    for entry in &filled {
        head.extend(crc(&entry.bytes).to_le_bytes());
    }
    head.extend([0x00, 0x00, 0x05]);
    head.extend(number(entries.len() as u64));
    if filled.len() < entries.len() {
        // which have no content: a bit each
        let mut bits = vec![0u8; entries.len().div_ceil(8)];
        for (at, entry) in entries.iter().enumerate() {
            if entry.bytes.is_empty() {
                bits[at / 8] |= 0x80 >> (at % 8);
            }
        }
        head.push(0x0e);
        head.extend(number(bits.len() as u64));
        head.extend(&bits);
        let empty = entries.len() - filled.len();
        let files = vec![0xff; empty.div_ceil(8)];
        head.push(0x0f);
        head.extend(number(files.len() as u64));
        head.extend(files);
    }
    let names: Vec<u8> =
        entries.iter().flat_map(|e| e.name.encode_utf16().chain([0])).flat_map(u16::to_le_bytes).collect();
    head.push(0x11);
    head.extend(number(names.len() as u64 + 1));
    head.push(0x00);
    head.extend(names);
    let mode = |what: What| match what {
        What::File => 0o100_644u32,
        What::Link | What::HardLink => 0o120_777,
        What::Device => 0o020_644,
        What::Pipe => 0o010_644,
    };
    head.push(0x15);
    head.extend(number(entries.len() as u64 * 4 + 2));
    head.extend([0x01, 0x00]);
    for entry in entries {
        head.extend(((mode(entry.what) << 16) | 0x8000).to_le_bytes());
    }
    head.extend([0x00, 0x00]);
    let mut start = Vec::new();
    start.extend((content.len() as u64).to_le_bytes());
    start.extend((head.len() as u64).to_le_bytes());
    start.extend(crc(&head).to_le_bytes());
    let mut out = b"7z\xbc\xaf\x27\x1c\x00\x04".to_vec();
    out.extend(crc(&start).to_le_bytes());
    out.extend(start);
    out.extend(content);
    out.extend(head);
    out
}

fn seven(entries: &[Entry]) -> Vec<u8> {
    seven_claiming(entries, &[], &[0x00])
}

fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut out = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
    out.write_all(bytes).unwrap();
    out.finish().unwrap()
}

/// Opens bytes as what they are; returns what was refused, or how many files were taken.
fn opened(bytes: &[u8], most: u64) -> Result<usize, String> {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("hostile");
    std::fs::write(&path, bytes).unwrap();
    let done = look(&path, most);
    // nothing stands beside it: what is unpacked goes where it is told to
    assert_eq!(std::fs::read_dir(dir.path()).unwrap().count(), 1);
    done
}

fn look(path: &Path, most: u64) -> Result<usize, String> {
    match sort(path).unwrap() {
        None => Err("no archive at all".to_owned()),
        Some(Sort::Zip) => list(path, most).map(|m| m.len()).map_err(|e| e.to_string()),
        Some(other) => {
            let mut turned = tempfile::NamedTempFile::new().unwrap();
            unify(path, other, "content", None, most, turned.as_file_mut()).map_err(|e| e.to_string())?;
            turned.as_file_mut().rewind().unwrap();
            list(turned.path(), most).map(|m| m.len()).map_err(|e| e.to_string())
        }
    }
}

type Make = fn(&[Entry]) -> Vec<u8>;

const SORTS: [(&str, Make); 4] = [("zip", zip), ("tar", tar), ("tar.gz", |e| gzip(&tar(e))), ("7z", seven)];

const MOST: u64 = 50_000_000;

#[test]
fn the_honest_ones_are_taken() {
    for (name, make) in SORTS {
        let honest = make(&[file("about.yaml"), file("lib/ropes.qlib"), file("комната/ключ.txt")]);
        assert_eq!(opened(&honest, MOST), Ok(3), "{name}");
    }
    // the folder that tar puts in front of everything
    assert_eq!(opened(&tar(&[file("./about.yaml")]), MOST), Ok(1));
}

/// Every hostile archive with its name and a word of its refusal.
fn corpus() -> Vec<(String, Vec<u8>, &'static str)> {
    let mut out = Vec::new();
    let over = "n".repeat(300);
    let long = format!("{}x", "folder/".repeat(200));
    let names = [
        "../x",
        "a/../../x",
        "/etc/x",
        "//host/share/x",
        "C:/x",
        "c:x",
        "..\\x",
        "\\\\host\\x",
        "a\\..\\..\\x",
        "a//b",
        "a/./b",
        "a./b",
        "a /b",
        "b.",
        "nul",
        "a/CON.txt",
        "com1.x",
        "bell\u{7}",
        "esc\u{1b}[31m",
        "a:stream",
        over.as_str(),
        long.as_str(),
    ];
    for (sort, make) in SORTS {
        for name in names {
            // tar's own writer will not take the long ones as they are
            if sort.starts_with("tar") && (name.len() > 255 || name.starts_with("//")) {
                continue;
            }
            let shown: String = name.chars().take(20).collect();
            out.push((
                format!("{sort}: {shown:?}"),
                make(&[file("fine.txt"), file(name)]),
                "nothing of it was unpacked",
            ));
        }
        out.push((format!("{sort}: case"), make(&[file("lib/Ropes"), file("lib/ropes")]), "would be one file"));
        out.push((format!("{sort}: twice"), make(&[file("lib/ropes"), file("lib/ropes")]), "would be one file"));
        let links =
            if sort == "zip" { vec![What::Link] } else { vec![What::Link, What::HardLink, What::Device, What::Pipe] };
        for what in links {
            out.push((format!("{sort}: no file"), make(&[file("a"), other("b", what)]), "is a link or a device"));
        }
        let through = make(&[other("plugins", What::Link), file("plugins/x.qpl")]);
        out.push((format!("{sort}: a file through a link"), through, "is a link or a device"));
        let whole = make(&[file("a"), file("b"), file("c")]);
        let cut = whole[..whole.len() * 2 / 3].to_vec();
        out.push((format!("{sort}: cut"), cut, "broken or cut short"));
        let large = Entry { name: "zeros".to_owned(), what: What::File, bytes: vec![0; 60_000_000] };
        if sort != "zip" {
            out.push((format!("{sort}: too much"), make(&[large]), "unpacks to more than"));
        }
    }
    // sizes that lie
    out.push(("7z: a larger claim".to_owned(), seven_claiming(&[file("a")], &[7_000], &[0x00]), "broken or cut short"));
    out.push((
        "7z: a smaller claim".to_owned(),
        seven_claiming(&[file("a"), file("b")], &[3], &[0x00]),
        "broken or cut short",
    ));
    // AES-256, which is how 7z encrypts
    let locked = seven_claiming(&[file("a")], &[], &[0x06, 0xf1, 0x07, 0x01]);
    out.push(("7z: encrypted".to_owned(), locked, "is encrypted"));
    let mut damaged = seven(&[file("a")]);
    damaged[33] ^= 1;
    out.push(("7z: damaged".to_owned(), damaged, "broken or cut short"));
    let mut header = seven(&[file("a")]);
    let last = header.len() - 3;
    header[last] ^= 0xff;
    out.push(("7z: damaged header".to_owned(), header, "broken or cut short"));
    let mut check = tar(&[file("a")]);
    check[0] ^= 1;
    out.push(("tar: damaged header".to_owned(), check, "broken or cut short"));
    let mut packed = gzip(&tar(&[Entry { bytes: noise(90_000), ..file("a") }]));
    let middle = packed.len() / 2;
    packed[middle] ^= 0xff;
    out.push(("tar.gz: damaged".to_owned(), packed, "broken or cut short"));
    // bombs: flat, packed twice, and over each other
    out.push(("zip: bomb".to_owned(), zip_of_zeros(64), "unpacks to"));
    out.push((
        "tar.gz: bomb".to_owned(),
        gzip(&tar(&[Entry { bytes: vec![0; 40_000_000], ..file("zeros") }])),
        "unpacks to more than",
    ));
    let mut overlapping = zip(&[file("aaaa"), file("bbbb")]);
    let second = find(&overlapping, b"bbbb");
    // the second entry's place in the listing is the first one's
    let listed = find(&overlapping[second + 4..], b"bbbb") + second + 4;
    overlapping[listed - 4..listed].copy_from_slice(&0u32.to_le_bytes());
    out.push(("zip: over each other".to_owned(), overlapping, ""));
    let mut encrypted = zip(&[file("a")]);
    let entry = find(&encrypted, b"PK\x01\x02");
    encrypted[entry + 8] |= 1;
    encrypted[6] |= 1;
    out.push(("zip: encrypted".to_owned(), encrypted, "is encrypted"));
    let mut lying = zip(&[file("a")]);
    let entry = find(&lying, b"PK\x01\x02");
    lying[entry + 24..entry + 28].copy_from_slice(&70_000u32.to_le_bytes());
    out.push(("zip: a larger claim".to_owned(), lying, "not as large as it says"));
    out
}

fn find(bytes: &[u8], what: &[u8]) -> usize {
    bytes.windows(what.len()).position(|w| w == what).unwrap()
}

fn noise(bytes: usize) -> Vec<u8> {
    let mut seed = 1u32;
    let next = |_| {
        seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        (seed >> 24) as u8
    };
    (0..bytes).map(next).collect()
}

fn zip_of_zeros(megabytes: usize) -> Vec<u8> {
    let mut archive = ZipWriter::new(Cursor::new(Vec::new()));
    let options = SimpleFileOptions::default().compression_method(CompressionMethod::Deflated);
    archive.start_file("zeros", options).unwrap();
    for _ in 0..megabytes {
        archive.write_all(&[0; 1 << 20]).unwrap();
    }
    archive.finish().unwrap().into_inner()
}

/// The most memory this process ever had, in bytes, where the system tells.
fn most_memory() -> Option<u64> {
    let status = std::fs::read_to_string("/proc/self/status").ok()?;
    let line = status.lines().find_map(|l| l.strip_prefix("VmHWM:"))?;
    Some(line.trim().strip_suffix(" kB")?.trim().parse::<u64>().ok()? * 1_000)
}

#[test]
fn each_of_the_hostile_ones_gives_one_refusal() {
    let corpus = corpus();
    assert!(corpus.len() >= 60, "{}", corpus.len());
    let before = most_memory();
    for (name, bytes, word) in &corpus {
        match opened(bytes, MOST) {
            Ok(count) => panic!("{name}: taken, with {count} files"),
            Err(said) => {
                assert!(said.contains(word), "{name}: {said}");
                assert!(!said.chars().any(char::is_control), "{name}: {said:?}");
                assert_eq!(said.lines().count(), 1, "{name}: {said}");
            }
        }
    }
    if let (Some(before), Some(after)) = (before, most_memory()) {
        assert!(after - before < 150_000_000, "{} bytes more memory", after - before);
    }
}
