//! Times the editors against reading and writing the same bytes; prints the table of `docs/benchmarks.md`.
//!
//! `cargo bench -p yalotheca-core`, or with other sizes in MB: `cargo bench -p yalotheca-core -- 1 20`
#![allow(
    missing_docs,
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::print_stdout,
    clippy::disallowed_methods
)]

use std::time::{Duration, Instant};

use yalotheca_core::settings::{Document, Format, Path, Value};

/// A file of about so many bytes, and a path in its middle.
fn made(format: Format, bytes: usize) -> (String, &'static str) {
    let (head, tail) = match format {
        Format::Json => ("{\n", "  \"last\": 1\n}\n"),
        Format::Xml => ("<all>\n", "</all>\n"),
        Format::BraceTables => ("all = {\n", "}\n"),
        _ => ("", ""),
    };
    let one = |n: usize| match format {
        Format::Json => {
            format!("  \"item{n}\": {{ \"title\": \"Salt pier {n}\", \"rate\": {n}.5, \"on\": true }}, // no. {n}\n")
        }
        Format::Yaml => format!("item{n}:\n  title: Salt pier {n}\n  rate: {n}.5 # no.\n  on: true\n"),
        Format::Toml => format!("[item{n}]\ntitle = \"Salt pier {n}\"\nrate = {n}.5 # no.\non = true\n\n"),
        Format::Ini => format!("[item{n}]\ntitle = Salt pier {n}\nrate = {n}.5 ; no.\non = 1\n\n"),
        Format::Properties => format!("# no. {n}\nitem{n}.title=Salt pier {n}\nitem{n}.rate={n}.5\n"),
        Format::Xml => {
            format!("  <item{n} on=\"1\">\n    <title>Salt pier {n}</title>\n    <rate>{n}.5</rate>\n  </item{n}>\n")
        }
        Format::NameValue => format!("// no. {n}\nitem{n}_title \"Salt pier {n}\"\nitem{n}_rate \"{n}.5\"\n"),
        Format::Lines => format!("salt-pier-{n} # no. {n}\n"),
        Format::Columns => format!("pier{n} in {n}\n"),
        Format::Blocks => format!("item{n} {{\n  title = Salt pier {n}\n  rate = {n}.5 # no.\n}}\n"),
        Format::BraceTables => format!("  item{n} = {{ title = \"Salt pier {n}\", rate = {n}.5 }}, -- no. {n}\n"),
        Format::Text => format!("Pier {n} lets {n} boats in.\n"),
    };
    let mut text = String::from(head);
    let mut n = 0;
    while text.len() < bytes {
        text.push_str(&one(n));
        n += 1;
    }
    text.push_str(tail);
    let path = match format {
        Format::Properties => "item99.rate",
        Format::NameValue => "item99_rate",
        Format::Lines => "[100]",
        Format::Columns => "[100].3",
        Format::Xml => "all.item99.rate",
        Format::BraceTables => "all.item99.rate",
        Format::Text => "/Pier 99 lets (\\d+) boats in\\./",
        _ => "item99.rate",
    };
    (text, path)
}

fn best(mut run: impl FnMut()) -> Duration {
    let times = (0..5).map(|_| {
        let start = Instant::now();
        run();
        start.elapsed()
    });
    times.min().unwrap_or_default()
}

fn main() {
    let sizes: Vec<usize> = std::env::args().filter_map(|a| a.parse().ok()).collect();
    let sizes = if sizes.is_empty() { vec![1, 20] } else { sizes };
    println!(
        "| format | size | parse | parse, set one, render | read and write the bytes | ratio |\n|---|---|---|---|---|---|"
    );
    for size in sizes {
        for format in Format::ALL {
            let (text, path) = made(format, size * 1_000_000);
            let path = Path::parse(path).unwrap();
            let file = tempfile::NamedTempFile::new().unwrap();
            let disk = best(|| {
                std::fs::write(file.path(), &text).unwrap();
                assert_eq!(std::fs::read(file.path()).unwrap().len(), text.len());
            });
            let parse = best(|| drop(Document::parse(format, text.as_bytes()).unwrap()));
            let whole = best(|| {
                let mut document = Document::parse(format, text.as_bytes()).unwrap();
                let new = if format == Format::Lines { Value::from("new") } else { Value::Number("7".to_owned()) };
                assert!(document.set(&path, new, None).unwrap());
                assert_ne!(document.render().len(), 0);
            });
            let ms = |d: Duration| d.as_secs_f64() * 1000.0;
            println!(
                "| {} | {size} MB | {:.1} ms | {:.1} ms | {:.1} ms | {:.0} times |",
                format.word(),
                ms(parse),
                ms(whole),
                ms(disk),
                ms(whole) / ms(disk)
            );
        }
    }
}
