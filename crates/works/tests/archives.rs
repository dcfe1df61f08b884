//! Archives are hostile until shown otherwise: each gives one refusal, and nothing is unpacked.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::io::{Cursor, Write as _};
use std::path::Path;

use yalotheca_works::archive::list;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipWriter};

fn zip(names: &[&str]) -> Vec<u8> {
    let mut archive = ZipWriter::new(Cursor::new(Vec::new()));
    for name in names {
        archive.start_file(*name, SimpleFileOptions::default()).unwrap();
        archive.write_all(b"content").unwrap();
    }
    archive.finish().unwrap().into_inner()
}

fn refusal(bytes: &[u8], most: u64) -> String {
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), bytes).unwrap();
    list(Path::new(file.path()), most).map(|m| panic!("taken: {m:?}")).unwrap_err().to_string()
}

#[test]
fn paths_that_lead_out_are_refused() {
    for name in ["../x", "a/../../x", "/etc/x", "C:/x", "..\\x", "\\\\host\\x", "a/nul", "a./b", "a /b", "a\u{1}b"] {
        let said = refusal(&zip(&["fine.txt", name]), 1_000_000);
        assert!(said.contains("nothing of it was unpacked"), "{name}: {said}");
    }
    let said = refusal(&zip(&[&format!("a/{}", "n".repeat(300))]), 1_000_000);
    assert!(said.contains("longer than 255 bytes"), "{said}");
}

#[test]
fn names_that_are_one_file_elsewhere_are_refused() {
    let said = refusal(&zip(&["lib/Ropes.qlib", "lib/ropes.qlib"]), 1_000_000);
    assert!(said.contains("would be one file on many systems"), "{said}");
}

#[test]
fn links_are_refused() {
    let mut archive = ZipWriter::new(Cursor::new(Vec::new()));
    archive.add_symlink("plugins", "/etc", SimpleFileOptions::default()).unwrap();
    let said = refusal(&archive.finish().unwrap().into_inner(), 1_000_000);
    assert!(said.contains("is a link or a device"), "{said}");
}

#[test]
fn bombs_are_refused_before_they_go_off() {
    let mut archive = ZipWriter::new(Cursor::new(Vec::new()));
    archive.start_file("zeros", SimpleFileOptions::default().compression_method(CompressionMethod::Deflated)).unwrap();
    let chunk = vec![0u8; 1 << 20];
    for _ in 0..64 {
        archive.write_all(&chunk).unwrap();
    }
    let bomb = archive.finish().unwrap().into_inner();
    assert!(bomb.len() < 100_000);
    assert!(refusal(&bomb, 10_000_000_000).contains("unpacks to"));
    assert!(refusal(&zip(&["a", "b", "c"]), 10).contains("more than 10 B"));
}

#[test]
fn lies_and_damage_are_refused() {
    let good = zip(&["about.yaml", "code.bin"]);
    assert!(refusal(&good[..good.len() / 2], 1_000_000).contains("broken or cut short"));
    assert!(refusal(b"PK\x03\x04", 1_000_000).contains("broken"));
    assert!(refusal(b"", 1_000_000).contains("broken"));
    // another byte inside: the checksum tells
    let mut damaged = good.clone();
    let at = damaged.windows(7).position(|w| w == b"content");
    if let Some(at) = at {
        damaged[at] ^= 1;
        assert!(refusal(&damaged, 1_000_000).contains("broken"));
    }
    // sizes in the directory that are not those of the data
    let mut lying = good;
    let directory = lying.windows(4).position(|w| w == b"PK\x01\x02").unwrap();
    lying[directory + 24] = 200;
    assert!(refusal(&lying, 1_000_000).contains("broken"));
}

#[test]
fn encrypted_members_are_told() {
    // the flag alone is enough to be told
    let mut bytes = zip(&["secret.qpl"]);
    let directory = bytes.windows(4).position(|w| w == b"PK\x01\x02").unwrap();
    bytes[directory + 8] |= 1;
    bytes[6] |= 1;
    let said = refusal(&bytes, 1_000_000);
    assert!(said.contains("is encrypted"), "{said}");
}

#[test]
fn an_honest_archive_is_listed_with_its_digests() {
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), zip(&["top/a.txt", "top/b/c.txt"])).unwrap();
    let members = list(file.path(), 1_000).unwrap();
    assert_eq!(members.len(), 2);
    assert!(members.iter().all(|m| m.bytes == 7 && m.sha256 == yalotheca_core::id::Digest::of(b"content")));
}
