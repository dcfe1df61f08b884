//! What a solve costs over HTTP, cold and warm: requests and bytes. Figures are printed (`--nocapture`) for
//! docs/benchmarks.md; what is asserted is that nothing is asked for twice.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)] // a test may stop where it fails

mod club;

use club::Club;
use serde_json::json;
use yalotheca_standin::catalogue::{self, Files};
use yalotheca_standin::club::{Item, Release, plugin};

/// So many items has the catalogue, each in three versions; the first ones are needed by many.
const ITEMS: usize = 2_000;
const WANTS: usize = 40;

fn items() -> Vec<Item> {
    let one = |number: usize| {
        let id = format!("cog-{number:04}");
        let others = [number / 3, number / 7 + 1, number / 40];
        let mut needs: Vec<String> =
            others.iter().filter(|o| **o < number).map(|o| format!("cog-{o:04}")).take(number % 4).collect();
        needs.sort();
        needs.dedup();
        let release = |version: &str| {
            let pairs: Vec<(&str, &str)> = needs.iter().map(|n| (n.as_str(), ">=1")).collect();
            let targets: Vec<_> = needs.iter().map(|n| json!({ "id": n, "range": ">=1" })).collect();
            Release {
                version: version.to_owned(),
                file: format!("{id}-{version}.qpl"),
                bytes: plugin(&id, version, "^1.8", &pairs, ""),
                more: Vec::new(),
                facts: json!({ "date": "2026-01-01", "games": "^1.8", "needs": targets }),
            }
        };
        let (kind, title, about) = ("plugin".to_owned(), id.clone(), "One of many.".to_owned());
        let releases = ["1.0.0", "1.1.0", "2.0.0"].map(release).to_vec();
        Item { id, kind, title, about, names: vec![], number: None, releases }
    };
    (0..ITEMS).map(one).collect()
}

/// Requests and bytes of what was asked for; those of files themselves apart.
fn told(files: &Files, asked: &[String]) -> (usize, usize, usize) {
    let facts: Vec<&String> = asked.iter().filter(|p| !p.contains("files/")).collect();
    let size = |p: &&&String| if p.starts_with(['=', '?']) { 0 } else { files.get(p.as_str()).map_or(0, Vec::len) };
    (facts.len(), facts.iter().map(|p| size(&p)).sum(), asked.len() - facts.len())
}

#[test]
fn a_warm_solve_asks_for_nothing_again() {
    let club = Club::new();
    let files = catalogue::write("Many", "quarrywake", 1, &items());
    let whole: usize =
        files.iter().filter(|(p, _)| p.starts_with("items/") || p.starts_with("index/")).map(|(_, b)| b.len()).sum();
    club.host.replace(files.clone());
    club.ok("adopt --catalogue HOST --quiet");
    club.host.asked();
    let wanted: Vec<String> = (0..WANTS).map(|n| format!("cog-{:04}", (n * 47 + 900) % ITEMS)).collect();
    club.ok(&format!("want {} --quiet", wanted.join(" ")));
    let (cold, cold_bytes, fetched) = told(&files, &club.host.asked());
    club.ok("settle --yes --quiet");
    let (warm, warm_bytes, again) = told(&files, &club.host.asked());
    let ran = club.run("renew --dry-run");
    assert!(ran.code <= 1, "{}", ran.text);
    let (renew, renew_bytes, _) = told(&files, &club.host.asked());
    println!("{ITEMS} items of 3 versions, {whole} bytes of facts; {WANTS} wants, {fetched} files fetched");
    println!("cold: {cold} requests, {cold_bytes} bytes; settle: {warm}, {warm_bytes}; renew: {renew}, {renew_bytes}");
    assert!(fetched > WANTS && again == 0, "{fetched} {again}");
    assert!(warm <= 2 && warm_bytes == 0, "{warm} {warm_bytes}");
    assert!(cold_bytes < whole / 2, "{cold_bytes} of {whole}");
}
