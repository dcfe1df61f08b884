//! Times our solver against two general version-solving crates on the same instances, each run in a process of its own.
//!
//! `cargo run --release` for all; `cargo run --release -- NAME…` for some; `cargo run --release -- order` for the load order.

mod counted;
mod instance;
mod order;
mod others;
mod ours;

use std::io::Read as _;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// Ours; the first on texts, as ours is given them, and on numbers made beforehand; the second.
const SOLVERS: [&str; 4] = ["ours", "texts", "numbers", "second"];
const MOST: Duration = Duration::from_secs(60);

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    if let [word, solver, name] = arguments.as_slice()
        && word == "--one"
    {
        return one(solver, name);
    }
    let names: Vec<&str> =
        if arguments.is_empty() { instance::NAMES.to_vec() } else { arguments.iter().map(String::as_str).collect() };
    if names == ["order"] {
        return order::table();
    }
    println!(
        "| instance | ours | pubgrub 0.3 on texts | on numbers | resolvo 0.10 | ours against the better (numbers) | what ours says | the others |"
    );
    println!("|---|---|---|---|---|---|---|---|");
    for name in names {
        let told: Vec<Option<(f64, u64, String)>> = SOLVERS.iter().map(|s| best(s, name)).collect();
        let cell = |t: &Option<(f64, u64, String)>| match t {
            Some((ms, mb, _)) => format!("{ms:.1} ms, {:.1} MB", *mb as f64 / 1024.0),
            None => format!("over {} s", MOST.as_secs()),
        };
        let ratio = |others: [usize; 2]| {
            let better = others.iter().filter_map(|at| told[*at].as_ref()).map(|t| t.0).fold(f64::INFINITY, f64::min);
            match &told[0] {
                Some((ms, ..)) if better.is_finite() => format!("{:.2}", ms / better),
                Some(_) => "–".to_owned(),
                None => "too slow".to_owned(),
            }
        };
        let said = |t: &Option<(f64, u64, String)>| t.as_ref().map_or_else(|| "?".to_owned(), |t| t.2.clone());
        let agree = told[1..]
            .iter()
            .flatten()
            .all(|t| t.2.starts_with("impossible") == said(&told[0]).starts_with("impossible"));
        let agree = if agree { "" } else { " (the others say otherwise)" };
        let cells: Vec<String> = told.iter().map(cell).collect();
        let others = format!("{}; {}", said(&told[2]), said(&told[3]));
        println!(
            "| {name} | {} | {} ({}) | {}{agree} | {others} |",
            cells.join(" | "),
            ratio([1, 3]),
            ratio([2, 3]),
            said(&told[0])
        );
    }
}

/// The best of three runs; none where one takes too long.
fn best(solver: &str, name: &str) -> Option<(f64, u64, String)> {
    let runs: Option<Vec<_>> = (0..3).map(|_| run(solver, name)).collect();
    runs?.into_iter().min_by(|a, b| a.0.total_cmp(&b.0))
}

fn run(solver: &str, name: &str) -> Option<(f64, u64, String)> {
    let this = std::env::current_exe().ok()?;
    let mut child = Command::new(this).args(["--one", solver, name]).stdout(Stdio::piped()).spawn().ok()?;
    let begin = Instant::now();
    while child.try_wait().ok()?.is_none() {
        if begin.elapsed() > MOST {
            child.kill().ok()?;
            child.wait().ok()?;
            return None;
        }
        std::thread::sleep(Duration::from_millis(5));
    }
    let mut text = String::new();
    child.stdout.take()?.read_to_string(&mut text).ok()?;
    let mut parts = text.trim().splitn(3, '\t');
    Some((parts.next()?.parse().ok()?, parts.next()?.parse().ok()?, parts.next()?.to_owned()))
}

fn one(solver: &str, name: &str) {
    let instance = instance::named(name);
    let solve: Box<dyn FnOnce() -> (String, Duration) + '_> = match solver {
        "ours" => Box::new(ours::solve(&instance)),
        "texts" => Box::new(others::first::<others::Texts>(&instance)),
        "numbers" => Box::new(others::first::<others::Numbers>(&instance)),
        _ => Box::new(others::second(&instance)),
    };
    // what was made beforehand, and given back, counts for nobody
    drop(std::hint::black_box(vec![0u8; 1 << 20]));
    let before = counted::begin();
    let (said, took) = solve();
    let most = counted::most().saturating_sub(before);
    println!("{}\t{}\t{said}", took.as_secs_f64() * 1000.0, most / 1024);
}
