//! What items come packed in: single files, archives of every sort, and what a password shuts.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)] // a test may stop where it fails

mod club;

use std::fs;
use std::io::Write as _;

use club::Club;
use zip::unstable::write::FileOptionsExt as _;
use zip::write::SimpleFileOptions;

/// A small arena, packed by another program (xz).
const TINY_XZ: &[u8] = &[
    0xfd, 0x37, 0x7a, 0x58, 0x5a, 0x00, 0x00, 0x04, 0xe6, 0xd6, 0xb4, 0x46, 0x02, 0x00, 0x21, 0x01, 0x16, 0x00, 0x00,
    0x00, 0x74, 0x2f, 0xe5, 0xa3, 0x01, 0x00, 0x12, 0x43, 0x4d, 0x41, 0x31, 0x20, 0x31, 0x39, 0x0a, 0x61, 0x72, 0x65,
    0x6e, 0x61, 0x20, 0x74, 0x69, 0x6e, 0x79, 0x0a, 0x00, 0x00, 0x1a, 0xdf, 0xe5, 0x25, 0x5e, 0xde, 0xa1, 0x8e, 0x00,
    0x01, 0x2b, 0x13, 0x9c, 0x09, 0x48, 0xd2, 0x1f, 0xb6, 0xf3, 0x7d, 0x01, 0x00, 0x00, 0x00, 0x00, 0x04, 0x59, 0x5a,
];

#[test]
fn maps_come_packed_in_every_way() {
    let club = Club::adopted_of("capstan");
    let tiny = b"CMA1 19\narena tiny\n";
    // a frame of one raw block, as the format's document has it
    let zstd = |bytes: &[u8]| {
        let size = u32::try_from(bytes.len()).unwrap();
        let block = ((size << 3) | 1).to_le_bytes();
        let mut out = vec![0x28, 0xb5, 0x2f, 0xfd, 0xa0];
        out.extend(size.to_le_bytes());
        out.extend(&block[..3]);
        out.extend(bytes);
        out
    };
    let mut tar = tar::Builder::new(Vec::new());
    let mut header = tar::Header::new_ustar();
    header.set_size(tiny.len() as u64);
    header.set_mode(0o644);
    header.set_cksum();
    tar.append_data(&mut header, "in/tiny.cma", tiny.as_slice()).unwrap();
    let tar = tar.into_inner().unwrap();
    for (name, bytes) in [
        ("tiny.cma.xz", TINY_XZ.to_vec()),
        ("tiny.cma.zst", zstd(tiny)),
        ("tiny.tar", tar.clone()),
        ("tiny.tar.zst", zstd(&tar)),
    ] {
        club.write(name, bytes);
        let ran = club.run(&format!("want ./{name} --dry-run"));
        assert!(ran.text.contains("arenas/tiny.cma"), "{name}: {}", ran.text);
    }
    // the same with its end cut off
    for (name, bytes) in
        [("cut.cma.xz", TINY_XZ[..TINY_XZ.len() - 9].to_vec()), ("cut.cma.zst", zstd(tiny)[..20].to_vec())]
    {
        club.write(name, bytes);
        let ran = club.run(&format!("want ./{name}"));
        assert!(ran.code != 0 && ran.text.contains("broken or cut short"), "{name}: {}", ran.text);
    }
}

/// The same arena in a 7z whose names and contents the password shuts, made by another program.
const LOCKED_7Z: &[u8] = &[
    0x37, 0x7a, 0xbc, 0xaf, 0x27, 0x1c, 0x00, 0x04, 0xfc, 0x0b, 0x65, 0xfc, 0x90, 0x00, 0x00, 0x00, 0x00, 0x00, 0x00,
    0x00, 0x2e, 0x00, 0x00, 0x00, 0x00, 0x00, 0x00, 0x00, 0x1e, 0xb3, 0x1f, 0x6d, 0x74, 0x52, 0xfc, 0x10, 0xa9, 0xcc,
    0xb4, 0x9e, 0x27, 0xbf, 0x28, 0xca, 0x64, 0x4b, 0x56, 0x14, 0xd9, 0x92, 0xb4, 0x72, 0x6a, 0xec, 0xea, 0x71, 0xfe,
    0xbc, 0x00, 0xca, 0x76, 0x15, 0x72, 0xf5, 0x08, 0xad, 0x94, 0x43, 0x8d, 0x23, 0x0b, 0x3c, 0xfd, 0xe4, 0xdd, 0x6d,
    0xa1, 0x31, 0x0f, 0xba, 0x23, 0x6b, 0xd3, 0x27, 0x2a, 0xad, 0x70, 0xfd, 0x84, 0xc8, 0x07, 0x95, 0xe3, 0x06, 0x51,
    0xa9, 0x8f, 0x4c, 0xe1, 0xa5, 0xc4, 0x24, 0xec, 0xa8, 0x50, 0x6a, 0x98, 0xed, 0x2f, 0x70, 0x95, 0xf2, 0x3d, 0x80,
    0xab, 0x16, 0xa5, 0x1d, 0x69, 0x13, 0xd7, 0x50, 0xb3, 0xa3, 0xae, 0x1c, 0xac, 0x77, 0xcd, 0xeb, 0xda, 0xee, 0xb0,
    0xd3, 0xe2, 0xa4, 0x5f, 0xaf, 0x4b, 0x1c, 0x53, 0x26, 0x01, 0xea, 0x01, 0xd9, 0x95, 0x2d, 0x9e, 0x84, 0xef, 0xb2,
    0x24, 0x1b, 0xe4, 0xc0, 0xfe, 0x2b, 0xf3, 0xa2, 0x40, 0x61, 0x54, 0x6a, 0xc4, 0xf6, 0xce, 0xb5, 0xcd, 0xa3, 0x47,
    0x6b, 0x36, 0xc4, 0x7a, 0x9b, 0x17, 0x06, 0x20, 0x01, 0x09, 0x70, 0x00, 0x07, 0x0b, 0x01, 0x00, 0x01, 0x24, 0x06,
    0xf1, 0x07, 0x01, 0x12, 0x53, 0x0f, 0xb2, 0x72, 0x40, 0x1e, 0x3a, 0x1e, 0x5e, 0xa7, 0xa8, 0x08, 0x76, 0x10, 0x0d,
    0x52, 0xa3, 0x50, 0x0c, 0x6a, 0x0a, 0x01, 0xd4, 0x3a, 0xe1, 0xf1, 0x00, 0x00,
];

const PASSWORD: &str = "night boat";

/// A zip of one arena and a text, shut in the way that programs use now.
fn locked_zip() -> Vec<u8> {
    let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    let shut = SimpleFileOptions::default().with_aes_encryption(zip::AesMode::Aes256, PASSWORD);
    zip.start_file("tiny.cma", shut).unwrap();
    zip.write_all(b"CMA1 19\narena tiny\n").unwrap();
    zip.start_file("terms.txt", SimpleFileOptions::default()).unwrap();
    zip.write_all(b"free\n").unwrap();
    zip.finish().unwrap().into_inner()
}

/// The same, shut in the old way.
fn old_zip() -> Vec<u8> {
    let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    zip.start_file("tiny.cma", SimpleFileOptions::default().with_deprecated_encryption(PASSWORD.as_bytes()).unwrap())
        .unwrap();
    zip.write_all(b"CMA1 19\narena tiny\n").unwrap();
    zip.finish().unwrap().into_inner()
}

/// Only its owner may read it.
fn secret(club: &Club, name: &str, text: &str) {
    use std::os::unix::fs::PermissionsExt as _;
    club.write(name, text);
    fs::set_permissions(club.path(name), fs::Permissions::from_mode(0o600)).unwrap();
}

#[test]
fn what_a_password_shuts_is_opened_with_it() {
    for (name, bytes) in [("new.zip", locked_zip()), ("old.zip", old_zip()), ("both.7z", LOCKED_7Z.to_vec())] {
        let club = Club::adopted_of("capstan");
        let roster = club.read("roster.toml");
        club.write(name, bytes);
        // nobody says it, somebody says it wrong, others can read it
        let ran = club.run(&format!("want ./{name}"));
        assert!(ran.code == 5 && ran.text.contains("is encrypted"), "{}", ran.text);
        assert!(ran.text.contains("--password-file"), "{}", ran.text);
        secret(&club, "wrong", "day boat\n");
        let ran = club.run(&format!("want ./{name} --password-file wrong"));
        assert!(ran.code == 5 && ran.text.contains("does not open"), "{name}: {}", ran.text);
        club.write("seen", PASSWORD);
        let ran = club.run(&format!("want ./{name} --password-file seen"));
        assert!(ran.code != 0 && ran.text.contains("chmod 600 seen"), "{}", ran.text);
        for (file, text) in [("empty", ""), ("blank", "\n")] {
            secret(&club, file, text);
            let ran = club.run(&format!("want ./{name} --password-file {file}"));
            assert!(ran.code != 0 && ran.text.contains("is empty"), "{}", ran.text);
        }
        assert_eq!(club.read("roster.toml"), roster);
        secret(&club, "right", &format!("{PASSWORD}\n"));
        let ran = club.ok(&format!("want ./{name} --password-file right"));
        assert!(ran.text.contains("arenas/tiny.cma"), "{}", ran.text);
        assert!(club.read("roster.toml").contains("password-file = \"right\""), "{}", club.read("roster.toml"));
        // another machine knows nothing of it yet, and asks the file again
        fs::remove_dir_all(club.home()).unwrap();
        club.ok("settle --yes");
        assert_eq!(club.read("arenas/tiny.cma"), "CMA1 19\narena tiny\n");
        // the password is kept nowhere but where it was
        for (path, bytes) in club.tree().into_iter().chain(club::tree(&club.home())) {
            let told = bytes.windows(PASSWORD.len()).any(|w| w == PASSWORD.as_bytes());
            assert!(!told || ["right", "seen"].contains(&path.as_str()), "{path}");
        }
    }
}

#[test]
fn a_password_may_come_from_the_environment() {
    let club = Club::adopted_of("capstan");
    club.write("shut.zip", locked_zip());
    let mut command = club.command("want ./shut.zip");
    command.env("YALOTHECA_ARCHIVE_PASSWORD", PASSWORD);
    let ran = club.ran("want ./shut.zip", command);
    assert_eq!(ran.code, 0, "{}", ran.text);
    assert!(!club.read("roster.toml").contains("password"));
}
