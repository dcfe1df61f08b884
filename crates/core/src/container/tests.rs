use std::collections::BTreeMap;

use super::*;

fn layout(text: &str) -> Result<Layout, String> {
    toml_edit::de::from_str(text).map_err(|e| e.message().to_owned())
}

fn files(all: &[(&str, &[u8])]) -> BTreeMap<String, Vec<u8>> {
    all.iter().map(|(n, b)| ((*n).to_owned(), b.to_vec())).collect()
}

fn shapes() -> Vec<Shape> {
    let fixed =
        "begins = \"REG1\"\ncount = \"u16-be\"\nrecord = [\"name:12\", \"zero:2\", \"size:u32-le\", \"data\"]\n";
    let open = "record = [\"size:u64-be\", \"name:u8\", \"data\", \"zero:1\"]\n";
    vec![Shape::Zip, Shape::Tar, Shape::Records(layout(fixed).unwrap()), Shape::Records(layout(open).unwrap())]
}

#[test]
fn entries_come_and_go_and_the_others_stay_byte_for_byte() {
    for shape in shapes() {
        let base = shape.write(None, files(&[("a", b"one"), ("b", &[7; 700]), ("c", b"")]), &[]).unwrap();
        let more = shape.write(Some(&base), files(&[("b", b"two"), ("d", b"new")]), &["c".to_owned()]).unwrap();
        let read = |bytes: &[u8], name: &str| shape.member(bytes, name).unwrap();
        assert_eq!(read(&more, "a").unwrap(), b"one");
        assert_eq!(read(&more, "b").unwrap(), b"two");
        assert_eq!(read(&more, "d").unwrap(), b"new");
        assert_eq!(read(&more, "c"), None);
        // nothing to do leaves the very bytes
        assert_eq!(shape.write(Some(&more), files(&[("d", b"new")]), &["c".to_owned()]).unwrap(), more);
        // and what went in comes out again, where order is the order of coming
        let grown = shape.write(Some(&base), files(&[("z", b"last")]), &[]).unwrap();
        assert_eq!(shape.write(Some(&grown), BTreeMap::new(), &["z".to_owned()]).unwrap(), base, "{shape:?}");
    }
}

#[test]
fn what_is_cut_or_none_is_told_and_never_read_past() {
    for shape in shapes() {
        let whole = shape.write(None, files(&[("a", &[9; 600]), ("b", b"two")]), &[]).unwrap();
        for at in 1..whole.len() - 1 {
            // a cut container is an error, or has lost what lay behind the cut; it never panics
            if let Ok(Some(bytes)) = shape.member(&whole[..at], "a") {
                assert_eq!(bytes, [9; 600], "{shape:?} at {at}");
            }
        }
        assert!(shape.member(b"something else altogether", "a").is_err(), "{shape:?}");
    }
}

#[test]
fn bytes_that_mean_nothing_to_us_are_kept() {
    let shape = shapes().remove(2);
    let base = shape.write(None, files(&[("a", b"one"), ("b", b"two")]), &[]).unwrap();
    let mut marked = base.clone();
    let place = b"REG1".len() + 2 + 12;
    marked[place] = 0xee;
    marked.extend(b"tail");
    let more = shape.write(Some(&marked), files(&[("a", b"longer")]), &[]).unwrap();
    assert_eq!(more[place], 0xee);
    assert!(more.ends_with(b"tail"));
    assert_eq!(more[4..6], [0, 2]);
}

#[test]
fn a_layout_that_cannot_be_is_told() {
    for (text, word) in [
        ("record = [\"name:8\", \"data\"]", "one name, one size"),
        ("record = [\"name:8\", \"data\", \"size:u8\"]", "one name, one size"),
        ("record = [\"name:8\", \"size:u24\", \"data\"]", "u32-le"),
        ("record = [\"name:0\", \"size:u8\", \"data\"]", "u32-le"),
        ("record = [\"nane:8\", \"size:u8\", \"data\"]", "no part of a record"),
        ("count = \"u16\"\nrecord = [\"name:8\", \"size:u8\", \"data\"]", "u16-le"),
    ] {
        let said = layout(text).unwrap_err();
        assert!(said.contains(word), "{text}: {said}");
    }
    let narrow = Shape::Records(layout("count = \"u8\"\nrecord = [\"name:3\", \"size:u8\", \"data\"]").unwrap());
    for (name, bytes) in [("long name", &b"x"[..]), ("a", &[0; 256][..])] {
        assert!(narrow.write(None, files(&[(name, bytes)]), &[]).is_err(), "{name}");
    }
    let many: BTreeMap<String, Vec<u8>> = (0..256).map(|n| (format!("{n}"), Vec::new())).collect();
    assert!(narrow.write(None, many, &[]).unwrap_err().contains("cannot hold"));
}
