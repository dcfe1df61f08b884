//! Properties of the editors over random files: comments, odd spacing, line ends, byte-order marks, foreign letters.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod exercise;

use exercise::exercise;
use proptest::prelude::*;
use yalotheca_core::settings::{Document, Format, Path, Seat, Value, merge};

/// A file of one format, written by hand as people do.
#[derive(Debug, Clone)]
struct Sheet {
    format: Format,
    text: String,
    /// A path to a number, and to a text.
    number: &'static str,
    words: &'static str,
    /// Where a list stands, if the format has one.
    list: Option<&'static str>,
    /// A key that is not there.
    fresh: &'static str,
}

fn word() -> impl Strategy<Value = String> {
    "[a-zäö][a-z0-9ßé]{0,7}"
}

fn sheet() -> impl Strategy<Value = Sheet> {
    let gap = prop_oneof![Just(""), Just(" "), Just("  ")];
    let parts =
        (0..11usize, word(), word(), word(), 0..9999u32, gap, any::<bool>(), prop::collection::vec(word(), 0..4));
    let style = (any::<bool>(), any::<bool>(), any::<bool>());
    (parts, style).prop_map(|((kind, a, b, c, n, g, blank, items), (windows, marked, ended))| {
        let some = if blank { "\n" } else { "" };
        let json: Vec<String> = items.iter().map(|i| format!("\"{i}\"")).collect();
        let lines = |sep: &str| json.iter().map(|j| format!("\n    {j}")).collect::<Vec<_>>().join(sep);
        let (format, text, number, words, list, fresh) = match kind {
            0 => (
                Format::Json,
                format!("{{\n  // {a}\n  \"n\":{g}{n}.50,{some}\n  \"w\": \"{b}\", /* {c} */\n  \"l\": [{}\n  ],\n  \"x\": {{ \"{c}\": [{}] }}\n}}\n", lines(","), json.join(", ")),
                "n",
                "w",
                Some("l"),
                "zz.y",
            ),
            1 => (
                Format::Yaml,
                format!("# {a}\nn: {g}{n}.5 # {b}\n{some}w: \"{b}\"\nl:{}\nx:\n    y: {c}\n    q: '{a}'\n", if items.is_empty() { " []".to_owned() } else { items.iter().map(|i| format!("\n  - v{i} # {c}")).collect() }),
                "n",
                "w",
                Some("l"),
                "x.zz",
            ),
            2 => (
                Format::Toml,
                format!("# {a}\nn{g}={g}{n}.5 # {b}\nw = '{b}'{some}\nl = [{}]\n\n[x] # {c}\ny = {{ q = {n} }}\n", json.join(", ")),
                "n",
                "w",
                Some("l"),
                "x.zz",
            ),
            3 => (Format::Ini, format!("; {a}\n{some}[x]\nn{g}={g}{n} ; {b}\nw{g}={g}{c}\nw2 = \"{b} {c}\"\n\n[y]\nk=v\n"), "x.n", "x.w", None, "x.zz"),
            4 => (Format::Properties, format!("# {a}\nn{g}={g}{n}\n{some}w.w{g}:{g}{b} {c}\n! {c}\n"), "n", "w.w", None, "zz.y"),
            5 => (Format::Xml, format!("<?xml version=\"1.0\"?>\n<r>\n  <!-- {a} -->{some}\n  <n a=\"{b}\">{n}</n>\n  <w>{c}</w>\n</r>\n"), "r.n.@", "r.w", None, "r.zz"),
            6 => (Format::NameValue, format!("// {a}\nn{g} \"{n}\" // {b}\n{some}w \"{b} {c}\"\n"), "n", "w", None, "zz"),
            7 => (Format::Lines, format!("# {a}\n7{n} # {b}\n{some}x{b}\n{}", items.iter().map(|i| format!("i{i}\n")).collect::<String>()), "[1]", "[2]", Some(""), ""),
            8 => (Format::Columns, format!("# {a}\n{b}  in  1{n}\nq{c} out 2 # {a}\n{some}"), "[1].3", "[2].1", Some(""), ""),
            9 => (Format::Blocks, format!("# {a}\nx {{ n = {n}; w = {b}{g}; }}\n{some}y {{\n  k = \"{c} {a}\" # {b}\n}}\n"), "x.n", "x.w", None, "y.zz"),
            _ => (
                Format::BraceTables,
                format!("-- {a}\nr = {{{some}\n  n = {n}.5, -- {b}\n  w = '{c}',\n  l = {{ {} }},\n}}\nfunction f() return {{ n = 1 }} end\n", json.join("; ")),
                "r.n",
                "r.w",
                Some("r.l"),
                "r.zz",
            ),
        };
        let mut text = text;
        if !ended {
            text.truncate(text.trim_end().len());
        }
        if windows {
            text = text.replace('\n', "\r\n");
        }
        if marked {
            text.insert(0, '\u{feff}');
        }
        Sheet { format, text, number, words, list, fresh }
    })
}

fn path(text: &str) -> Path {
    Path::parse(text).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 600, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn only_the_value_changes_and_comes_back(sheet in sheet(), new in word(), number in 0..99999u32) {
        let Ok(document) = Document::parse(sheet.format, sheet.text.as_bytes()) else { return Ok(()) };
        for (at, new) in [(sheet.number, Value::Number(number.to_string())), (sheet.words, Value::Text(format!("t{new}")))] {
            let mut work = document.clone();
            let Ok(Some(old)) = work.get(&path(at)) else { continue };
            let range = work.range(&path(at)).unwrap();
            let before = work.text().to_owned();
            work.set(&path(at), new.clone(), None).unwrap();
            prop_assert_eq!(&work.text()[..range.start], &before[..range.start]);
            prop_assert!(work.text().ends_with(&before[range.end..]));
            let once = work.render();
            prop_assert!(!work.set(&path(at), new, None).unwrap() && work.render() == once);
            work.set(&path(at), old.value.clone(), old.value.sort()).unwrap();
            prop_assert_eq!(String::from_utf8(work.render()).unwrap(), sheet.text.clone(), "{}", at);
        }
    }

    #[test]
    fn what_is_added_and_taken_out_leaves_the_same_bytes(sheet in sheet(), new in word()) {
        let Ok(document) = Document::parse(sheet.format, sheet.text.as_bytes()) else { return Ok(()) };
        if !sheet.fresh.is_empty() {
            let mut work = document.clone();
            work.set(&path(sheet.fresh), Value::Text(format!("q{new}")), None).unwrap();
            prop_assert!(work.render().len() > sheet.text.len());
            // the first key of the way that was not there
            let first = path(sheet.fresh).to_string().split('.').next().unwrap().to_owned();
            let at = if first == "zz" && sheet.format == Format::Json { path("zz") } else { path(sheet.fresh) };
            work.remove(&at).unwrap();
            prop_assert_eq!(String::from_utf8(work.render()).unwrap(), sheet.text.clone());
        }
        if let Some(list) = sheet.list {
            for seat in [Seat::First, Seat::Last] {
                let mut work = document.clone();
                let value = if sheet.format == Format::Columns { format!("zz{new} in 3") } else { format!("zz{new}") };
                let value = Value::Text(value);
                if !work.insert(&path(list), vec![value.clone()], seat.clone()).unwrap() {
                    continue;
                }
                work.arrange(&path(list), std::slice::from_ref(&value), &[], &seat).unwrap();
                if sheet.format != Format::Columns {
                    prop_assert_eq!(String::from_utf8(work.render()).unwrap(), sheet.text.clone(), "{:?}", seat);
                }
            }
        }
    }

    #[test]
    fn every_row_can_be_tried(sheet in sheet()) {
        exercise(sheet.format, sheet.text.as_bytes());
    }

    #[test]
    fn a_merge_keeps_the_administrators_values(sheet in sheet(), mine in 0..9999u32, new in 0..9999u32) {
        let Ok(document) = Document::parse(sheet.format, sheet.text.as_bytes()) else { return Ok(()) };
        let with = |number: u32| {
            let mut work = document.clone();
            work.set(&path(sheet.number), Value::Number(number.to_string()), None).map(|_| work.render())
        };
        let (Ok(mine_bytes), Ok(new_bytes)) = (with(mine), with(new)) else { return Ok(()) };
        let merged = merge(sheet.format, sheet.text.as_bytes(), &mine_bytes, &new_bytes).unwrap();
        let mut read = Document::parse(sheet.format, &merged.bytes).unwrap();
        let kept = read.get(&path(sheet.number)).unwrap().unwrap().value.text().unwrap();
        let mut old = document.clone();
        let was = old.get(&path(sheet.number)).unwrap().unwrap().value;
        let changed = !was.same(&Value::Number(mine.to_string()));
        prop_assert!(!changed || Value::Number(kept).same(&Value::Number(mine.to_string())));
    }
}
