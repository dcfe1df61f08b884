//! What the server's files say of each other: values that name what is there, and names that only one may have.

use std::collections::{BTreeMap, BTreeSet};

use crate::family::{Family, Of, Reference, Unique};
use crate::finding::{Finding, Severity};
use crate::id::ServerPath;
use crate::manifest::value_at;
use crate::settings::{Document, Format, Path, Value};
use crate::text::{clean, glob, nearest};

/// So many findings of one rule are told; the rest is counted.
const MOST_TOLD: usize = 50;
/// So many names of a clash are written out.
const MOST_NAMED: usize = 3;

/// The server's files, as far as rules ask for them.
pub struct Files<'a> {
    /// Every path.
    pub paths: &'a BTreeSet<String>,
    /// A file's bytes; `None` where it is not there or cannot be read.
    pub read: &'a dyn Fn(&str) -> Option<Vec<u8>>,
    /// The format of a file whose rule names none.
    pub format: &'a dyn Fn(&ServerPath, &[u8]) -> Format,
}

/// Returns a finding for every value that names what is not there.
pub fn dangling(family: &Family, files: &Files<'_>) -> Vec<Finding> {
    let mut out = Vec::new();
    for rule in &family.rules.reference {
        let Ok(at) = Path::parse(&rule.at) else { continue };
        let mut found = Vec::new();
        let mut targets = Targets { rule, files, known: BTreeMap::new() };
        for path in files.paths.iter().filter(|p| glob(&rule.file, p)) {
            found.extend(in_file(rule, &at, path, files, &mut targets));
        }
        capped(found, &rule.file, "references lead nowhere", &mut out);
    }
    out
}

/// What one file names and is not there.
fn in_file(rule: &Reference, at: &Path, path: &str, files: &Files<'_>, targets: &mut Targets<'_>) -> Vec<Finding> {
    let (Some(bytes), Ok(place)) = ((files.read)(path), ServerPath::server(path)) else { return Vec::new() };
    // a file that cannot be read is told elsewhere
    let Ok(mut document) = Document::parse((files.format)(&place, &bytes), &bytes) else { return Vec::new() };
    let mut named: Vec<(Path, String, usize)> = Vec::new();
    for spot in document.select(at).unwrap_or_default() {
        match (&spot.value, rule.of) {
            (Value::Map(pairs), Of::Keys) => {
                named.extend(pairs.iter().map(|(k, _)| (spot.path.key(k), k.clone(), spot.line)));
            }
            (_, Of::Keys) | (Value::Map(_) | Value::List(_) | Value::Null, Of::Values) => {}
            (value, Of::Values) => named.extend(value.text().map(|v| (spot.path.clone(), v, spot.line))),
        }
    }
    let mut out = Vec::new();
    for (spot, value, line) in named {
        let Some(missing) = targets.missing(&value) else { continue };
        let line = match rule.of {
            Of::Keys => document.get(&spot).ok().flatten().map_or(line, |s| s.line),
            Of::Values => line,
        };
        let near = missing.nearest.as_ref().map_or_else(String::new, |n| format!(", did you mean `{}`?", clean(n, 60)));
        let cause =
            format!("`{}` names `{}`, and {}{near}", clean(&spot.to_string(), 120), clean(&value, 60), missing.why);
        let fix = match (&missing.nearest, rule.of) {
            (Some(near), Of::Values) => format!("yalotheca tune {path} '{spot}={}'", clean(near, 60)),
            _ => "correct that line, or bring what it names".to_owned(),
        };
        out.push(Finding::new("dangling-reference", Severity::Error, cause, fix).at(&place).on_line(Some(line)));
    }
    out
}

/// What a value names that is not there.
struct Missing {
    why: String,
    nearest: Option<String>,
}

/// What can be named, looked up once for each file.
struct Targets<'a> {
    rule: &'a Reference,
    files: &'a Files<'a>,
    /// The keys or elements in a file; `None` where it is not there.
    known: BTreeMap<String, Option<BTreeSet<String>>>,
}

impl Targets<'_> {
    fn missing(&mut self, value: &str) -> Option<Missing> {
        let file = self.rule.to.fill(|_| Some(value.to_owned().into()))?;
        let Some(key) = &self.rule.key else {
            if self.files.paths.contains(&file) {
                return None;
            }
            let words: Vec<String> = self.files.paths.iter().filter_map(|p| self.rule.to.word_for(p)).collect();
            let nearest = nearest(value, words.iter().map(String::as_str)).map(str::to_owned);
            return Some(Missing { why: format!("{} is not there", clean(&file, 120)), nearest });
        };
        let known = self.known.entry(file.clone()).or_insert_with(|| {
            let bytes = (self.files.read)(&file)?;
            let format = (self.files.format)(&ServerPath::server(&file).ok()?, &bytes);
            let value = value_at(format, &bytes, key)?;
            Some(names_of(&value))
        });
        match known {
            None => Some(Missing { why: format!("{} is not there", clean(&file, 120)), nearest: None }),
            Some(names) if names.contains(value) => None,
            Some(names) => {
                let nearest = nearest(value, names.iter().map(String::as_str)).map(str::to_owned);
                Some(Missing { why: format!("{} has none of that name", clean(&file, 120)), nearest })
            }
        }
    }
}

/// The keys of a map, or the elements of a list.
fn names_of(value: &Value) -> BTreeSet<String> {
    match value {
        Value::Map(pairs) => pairs.iter().map(|(k, _)| k.clone()).collect(),
        other => other.texts().into_iter().collect(),
    }
}

/// Returns a finding for every two files that have names which only one may have.
pub fn doubles(family: &Family, files: &Files<'_>) -> Vec<Finding> {
    let mut out = Vec::new();
    for rule in &family.rules.unique {
        let mut found = Vec::new();
        for (owners, names) in shared(rule, files) {
            let [first, .., last] = owners.as_slice() else { continue };
            let some: Vec<String> = names.iter().take(MOST_NAMED).map(|n| format!("`{}`", clean(n, 60))).collect();
            let more = match names.len().saturating_sub(MOST_NAMED) {
                0 => format!("the {}s {}", rule.title, crate::text::listed(&some)),
                more => format!("the {}s {} and {more} more", rule.title, some.join(", ")),
            };
            let what = if names.len() == 1 { more.replacen(&format!("{}s", rule.title), &rule.title, 1) } else { more };
            let is = if names.len() == 1 { "is" } else { "are" };
            let cause = format!("{what} {is} in {} too: {}", clean(first, 120), clean(&rule.why, 160));
            let fix = "rename it in one of the two, or drop the item that brings it";
            found.push(Finding::new("name-twice", Severity::Error, cause, fix).at(last));
        }
        capped(found, rule.file.as_str(), "pairs of files have names twice", &mut out);
    }
    out
}

/// The names that several files have, by those files.
fn shared(rule: &Unique, files: &Files<'_>) -> BTreeMap<Vec<String>, Vec<String>> {
    let mut owners: BTreeMap<String, Vec<&String>> = BTreeMap::new();
    for path in files.paths.iter().filter(|p| rule.file.fits(p)) {
        let Some(value) = (files.read)(path).and_then(|bytes| value_at(rule.format, &bytes, &rule.at)) else {
            continue;
        };
        let names = match (&value, rule.of) {
            (Value::Map(pairs), Of::Values) => pairs.iter().filter_map(|(_, v)| v.text()).collect(),
            (value, _) => names_of(value),
        };
        for name in names {
            owners.entry(name).or_default().push(path);
        }
    }
    let mut out: BTreeMap<Vec<String>, Vec<String>> = BTreeMap::new();
    for (name, files) in owners.into_iter().filter(|(_, files)| files.len() > 1) {
        out.entry(files.into_iter().cloned().collect()).or_default().push(name);
    }
    out
}

fn capped(mut found: Vec<Finding>, place: &str, what: &str, out: &mut Vec<Finding>) {
    let more = found.len().saturating_sub(MOST_TOLD);
    found.truncate(MOST_TOLD);
    out.extend(found);
    if more > 0 {
        let cause = format!("{more} more {what}");
        out.push(
            Finding::new("and-more", Severity::Error, cause, "mend those above first, then check again").at(place),
        );
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(family: &str, files: &[(&str, &str)]) -> Vec<String> {
        let head = "format = 1\nname = \"x\"\ntitle = \"X\"\n[[recognise]]\npath = \"x\"\nsure = 100\n";
        let family = Family::parse(&format!("{head}{family}")).unwrap();
        let all: BTreeMap<String, String> = files.iter().map(|(p, t)| ((*p).to_owned(), (*t).to_owned())).collect();
        let paths = all.keys().cloned().collect();
        let read = |path: &str| all.get(path).map(|t| t.clone().into_bytes());
        let format = |path: &ServerPath, bytes: &[u8]| crate::settings::guess(path.path(), bytes).unwrap();
        let files = Files { paths: &paths, read: &read, format: &format };
        let said = |f: &Finding| format!("{}:{} {}", f.file.clone().unwrap(), f.line.unwrap_or(0), f.cause);
        dangling(&family, &files).iter().chain(&doubles(&family, &files)).map(said).collect()
    }

    #[test]
    fn references_lead_to_files_keys_and_elements() {
        let rules = "[[reference]]\nfile = \"lines.json\"\nat = \"*.stops[*]\"\nto = \"stops/{value}.toml\"\n\
                     [[reference]]\nfile = \"stops/*.toml\"\nat = \"lines[*]\"\nto = \"lines.json\"\nkey = \"\"\n\
                     [[reference]]\nfile = \"hours.yaml\"\nat = \"\"\nof = \"keys\"\nto = \"stops/{value}.toml\"\n";
        let good = [
            ("lines.json", "{\n\"north\": {\"stops\": [\"quay\", \"mill\"]}}\n"),
            ("stops/quay.toml", "lines = [\"north\"]\n"),
            ("stops/mill.toml", "lines = []\n"),
            ("hours.yaml", "quay: 6-22\nmill: 7-9\n"),
        ];
        assert_eq!(told(rules, &good), Vec::<String>::new());
        let bad = [
            ("lines.json", "{\n\"north\": {\"stops\": [\"quay\",\n \"mil\"]}}\n"),
            ("stops/quay.toml", "name = \"Quay\"\nlines = [\"north\", \"nroth\"]\n"),
            ("stops/mill.toml", "lines = []\n"),
            ("hours.yaml", "quay: 6-22\nharbour: 7-9\n"),
        ];
        assert_eq!(
            told(rules, &bad),
            [
                "lines.json:3 `north.stops[2]` names `mil`, and stops/mil.toml is not there, did you mean `mill`?",
                "stops/quay.toml:2 `lines[2]` names `nroth`, and lines.json has none of that name, did you mean `north`?",
                "hours.yaml:2 `harbour` names `harbour`, and stops/harbour.toml is not there",
            ]
        );
        // what cannot be read is told elsewhere, and what is not there names nothing
        assert_eq!(told(rules, &[("lines.json", "{\"north\": {\"stops\": [")]), Vec::<String>::new());
        assert_eq!(told(rules, &[("stops/quay.toml", "lines = [\"north\"]\n")]).len(), 1);
    }

    #[test]
    fn a_name_is_had_by_one_file_only() {
        let rules = "[[unique]]\ntitle = \"asset\"\nfile = \"parcels/{parcel}/parcel.toml\"\nformat = \"toml\"\n\
                     at = \"assets\"\nwhy = \"it flickers\"\n";
        let parcel = |names: &[&str]| {
            names.iter().fold("[assets]\n".to_owned(), |text, n| text + &format!("{n} = \"mesh/{n}.msh\"\n"))
        };
        let (a, b, c) = (parcel(&["crate", "lamp"]), parcel(&["lamp"]), parcel(&["crane"]));
        let files = [
            ("parcels/a/parcel.toml", a.as_str()),
            ("parcels/b/parcel.toml", &b),
            ("parcels/c/parcel.toml", &c),
            ("parcels/d/parcel.toml", "assets = 3\n"),
        ];
        assert_eq!(
            told(rules, &files),
            ["parcels/b/parcel.toml:0 the asset `lamp` is in parcels/a/parcel.toml too: it flickers"]
        );
        let many: Vec<String> = (0..10_000).map(|n| format!("n{n}")).collect();
        let many = parcel(&many.iter().map(String::as_str).collect::<Vec<_>>());
        let said = told(rules, &[("parcels/a/parcel.toml", &many), ("parcels/b/parcel.toml", &many)]);
        assert_eq!(said.len(), 1);
        assert!(said[0].contains("the assets `n0`, `n1`, `n10` and 9997 more"), "{said:?}");
    }
}
