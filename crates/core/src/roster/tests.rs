use super::*;

const TEXT: &str = "\
# The club's quarry.
format = 1
catalogues = [\"http://127.0.0.1:1/\"] # the club's own

[server]
family = \"quarrywake\"

# wanted
[items]
chest-locks = \"^2\"   # keep below 3
pier-lights = { version = \"*\", beta = true }
";

fn id(text: &str) -> ItemId {
    ItemId::new(text).unwrap()
}

#[test]
fn a_roster_is_read_with_its_lines() {
    let roster = Roster::parse(TEXT).unwrap();
    assert_eq!(roster.family, "quarrywake");
    assert_eq!(roster.at, ".");
    let lines: Vec<_> = roster.wants.iter().map(|w| (w.id.as_str(), w.range.to_string(), w.beta, w.line)).collect();
    assert_eq!(lines, [("chest-locks", "^2".to_owned(), false, 10), ("pier-lights", "*".to_owned(), true, 11)]);
}

#[test]
fn a_slip_names_line_column_and_nearest_word() {
    let error = Roster::parse(&TEXT.replace("family =", "famly =")).unwrap_err();
    assert_eq!((error.line, error.column), (6, 1));
    assert_eq!(error.why, "`famly` is no word here, did you mean `family`?");
    let error = Roster::parse(&TEXT.replace("beta =", "bta =")).unwrap_err();
    assert_eq!(
        (error.line, error.why.as_str()),
        (11, "`pier-lights` has `bta`, which is no word here, did you mean `beta`?")
    );
    let error = Roster::parse(&TEXT.replace("\"^2\"", "\"^\"")).unwrap_err();
    assert_eq!(error.line, 10);
    assert!(error.why.starts_with("`^` is no version range"), "{}", error.why);
    for (from, to) in [("format = 1", "format = 2"), ("\"^2\"", "2"), ("[items]", "[items"), ("chest-locks", "\"a/b\"")]
    {
        assert!(Roster::parse(&TEXT.replace(from, to)).is_err(), "{to}");
    }
    assert!(Roster::parse("").is_err());
}

#[test]
fn edits_touch_one_line() {
    let put = put_item(TEXT, &id("chest-locks"), "\"^3\"").unwrap();
    assert_eq!(put, TEXT.replace("\"^2\"", "\"^3\""));
    let added = put_item(TEXT, &id("a.b"), "\"*\"").unwrap();
    assert_eq!(added, format!("{TEXT}\"a.b\" = \"*\"\n"));
    assert_eq!(take_item(&added, &id("a.b")).unwrap().unwrap(), TEXT);
    assert_eq!(take_item(TEXT, &id("nobody")).unwrap(), None);
    let taken = take_item(TEXT, &id("chest-locks")).unwrap().unwrap();
    assert_eq!(taken, TEXT.replace("chest-locks = \"^2\"   # keep below 3\n", ""));
}

#[test]
fn line_ends_and_missing_parts_are_kept() {
    let windows = TEXT.replace('\n', "\r\n");
    let added = put_item(&windows, &id("x"), "\"*\"").unwrap();
    assert_eq!(added, format!("{windows}x = \"*\"\r\n"));
    let bare = "format = 1\n[server]\nfamily = \"q\"";
    let added = put_item(bare, &id("x"), "\"*\"").unwrap();
    assert_eq!(added, "format = 1\n[server]\nfamily = \"q\"\n\n[items]\nx = \"*\"\n");
    let unended = TEXT.trim_end();
    assert_eq!(put_item(unended, &id("x"), "\"1\"").unwrap(), format!("{TEXT}x = \"1\"\n"));
    let more = format!("{TEXT}\n# after\n[limits]\ndownload-mb = 5\n");
    assert_eq!(
        put_item(&more, &id("x"), "\"1\"").unwrap(),
        more.replace("beta = true }\n", "beta = true }\nx = \"1\"\n")
    );
}

#[test]
fn taking_back_spares_what_was_changed_since() {
    let after = put_item(TEXT, &id("x"), "\"*\"").unwrap();
    let after = put_item(&after, &id("chest-locks"), "\"^3\"").unwrap();
    assert_eq!(merge_back(TEXT, &after, &after).unwrap(), TEXT);
    let now = put_item(&after, &id("y"), "\"*\"").unwrap().replace("# wanted", "# mine");
    let back = merge_back(TEXT, &after, &now).unwrap();
    assert_eq!(back, format!("{}y = \"*\"\n", TEXT.replace("# wanted", "# mine")));
    let now = put_item(&after, &id("chest-locks"), "\"^4\"").unwrap();
    assert!(merge_back(TEXT, &after, &now).unwrap().contains("chest-locks = \"^4\""), "a hand edit stays");
    // words of other tables go back too, unless somebody changed them since
    let after = put_in(TEXT, &["maps"], "play", "\"pier\"").unwrap();
    let after = put_in(&after, &["choices", "x/day"], "turns", "7").unwrap();
    let now = put_item(&after, &id("y"), "\"*\"").unwrap();
    assert_eq!(merge_back(TEXT, &after, &now).unwrap(), put_item(TEXT, &id("y"), "\"*\"").unwrap());
    let mine = put_in(&now, &["choices", "x/day"], "turns", "9").unwrap();
    let back = merge_back(TEXT, &after, &mine).unwrap();
    assert!(back.contains("turns = 9") && !back.contains("[maps]"), "{back}");
    assert_eq!(
        merge_back(&after, TEXT, &put_item(TEXT, &id("y"), "\"*\"").unwrap())
            .unwrap()
            .matches("play = \"pier\"")
            .count(),
        1
    );
}
