//! Families are data to share: kept from a file, a link or a catalogue, and run nothing before somebody read them.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)] // a test may stop where it fails

mod club;

use std::fs;

use club::Club;
use yalotheca_standin::catalogue;
use yalotheca_standin::club::items_of;

const PLAIN: &str = "format = 1\nname = \"plover\"\ntitle = \"Plover\"\n[[recognise]]\npath = \"plover.dat\"\nsure = 100\n\
                     [kind.nest]\nrole = \"map\"\ntitle = \"nest\"\nfile = \"*.nest\"\n\
                     place = [{ take = \"real\", to = \"nests/{name}\" }]\n";

fn flat(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

#[test]
fn a_family_comes_from_a_file_a_link_or_a_catalogue() {
    let club = Club::empty_of("capstan");
    club.write("plover.dat", "");
    fs::write(club.dir.path().join("mine.toml"), PLAIN).unwrap();
    // one that runs nothing is kept
    let ran = club.ok("family add ../mine.toml");
    assert!(ran.text.contains("plover takes Plover.\nIt is kept."), "{}", ran.text);
    assert!(club.run("family list").text.contains("Plover"));
    club.ok("adopt --quiet");
    // one that runs something is asked about, and nobody is there
    let runs = format!(
        "{PLAIN}[start]\ncommand = [\"./plover\", \"--up\"]\nstop = \"stop\"\n[[log]]\nmeans = \"ready\"\npattern = 'up'\n"
    );
    let mut files = catalogue::write("Tidewrack Club", "capstan", 13, &items_of("capstan"));
    files.insert("shared/plover.toml".to_owned(), runs.clone().into_bytes());
    catalogue::carry(&mut files, "plover", &runs);
    club.host.replace(files);
    let digest = catalogue::sha256(runs.as_bytes());
    for (what, more) in [("HOSTshared/plover.toml", ""), ("plover", " --catalogue HOST")] {
        // as if it had never been read here
        let _ = fs::remove_file(club.home().join("approved.json"));
        club.ok("family add ../mine.toml");
        let ran = club.run(&format!("family add {what}{more}"));
        let text = flat(&ran.text);
        assert!(ran.code == 6 && text.contains("It would run: ./plover --up"), "{}", ran.text);
        assert!(text.contains("family add") && text.contains(&digest[..12]), "{}", ran.text);
        assert_eq!(club.run(&format!("family add {what}{more} 0123456789")).code, 6);
        let ran = club.ok(&format!("family add {what} {}{more}", &digest[..12]));
        assert!(ran.text.contains("It takes the place of another one"), "{}", ran.text);
    }
    assert!(club.run("family show plover").text.contains("--up"));
}

#[test]
fn what_is_no_family_is_told_and_not_kept() {
    let club = Club::empty_of("capstan");
    fs::write(club.dir.path().join("slip.toml"), PLAIN.replace("title", "tilte")).unwrap();
    let ran = club.run("family add ../slip.toml");
    assert!(ran.code == 1 && ran.text.contains("did you mean `title`"), "{}", ran.text);
    fs::write(club.dir.path().join("raw.toml"), [0xff, 0xfe, 0x00]).unwrap();
    assert!(club.run("family add ../raw.toml").text.contains("no UTF-8"));
    assert!(club.run("family add ../nowhere.toml").code != 0);
    for (what, words) in [("HOSTnothing.toml", "404"), ("plovr --catalogue HOST", "plovr")] {
        let ran = club.run(&format!("family add {what}"));
        assert!(ran.code != 0 && ran.text.contains(words), "{}", ran.text);
    }
    // a catalogue whose bytes are not those that it vouches for
    let mut files = catalogue::write("Tidewrack Club", "capstan", 13, &items_of("capstan"));
    catalogue::carry(&mut files, "plover", PLAIN);
    files.insert("families/plover.family.toml".to_owned(), PLAIN.replace("Plover", "Cuckoo").into_bytes());
    club.host.replace(files);
    let ran = club.run("family add plover --catalogue HOST");
    assert!(ran.code == 5 && flat(&ran.text).contains("its sha256 is"), "{}", ran.text);
    assert!(!club.run("family list").text.contains("Plover"));
}
