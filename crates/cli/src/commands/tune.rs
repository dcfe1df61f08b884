use std::io::Read as _;
use std::path::PathBuf;

use clap::Args;
use serde_json::json;
use yalotheca_core::settings::{Amount, Format, Path, Seat, Sort, Value};
use yalotheca_works::Error;
use yalotheca_works::apply::carry_out;
use yalotheca_works::server::Server;
use yalotheca_works::settle::Plan;
use yalotheca_works::tune::{self, Change, Request, Where};

use super::{FINDINGS, NEEDS_ANSWER, server, settle};
use crate::setting::{self, Setting};
use crate::ui::Ui;
use crate::view::{settings, wrong};

/// So many values are set without a question.
const MOST_UNASKED: usize = 20;

/// Sets values in a settings file without breaking it, and keeps them over updates
///
/// `tune FILE` lists what stands there, with the path to type. `tune FILE PATH` reads one value; `PATH=VALUE` sets
/// it, `PATH+=ITEM` and `PATH-=ITEM` add to a list and take from it; `PATH=*2`, `=/2`, `=+5` and `='- 5'` reckon with
/// what stands there. Put single quotes around what holds * or spaces. What is set stands on the roster from then
/// on, so that settle keeps it.
#[derive(Debug, Args)]
#[command(override_usage = "yalotheca tune FILE [PATH | PATH=VALUE | PATH+=ITEM | PATH-=ITEM]...
       yalotheca tune FILE --copy NEW [FILE NEW]...
       yalotheca tune FILE --move-entry PATH FILE PATH")]
pub(crate) struct Tune {
    /// The settings file, as it is called in the server's folder
    #[arg(value_name = "FILE")]
    file: String,
    /// Paths to read, or what to set
    #[arg(value_name = "WHAT", allow_hyphen_values = false)]
    what: Vec<String>,
    /// Only shows what would change
    #[arg(long)]
    dry_run: bool,
    /// Only values that pass: '<5', '>=2', '=salt', 'kind=fog'
    #[arg(long = "where", value_name = "TEST")]
    filter: Option<String>,
    /// The sort the value is to have, whatever stands there: text, number or flag
    #[arg(long = "as", value_name = "SORT", value_parser = ["text", "number", "flag"])]
    sort: Option<String>,
    /// What parts the elements of a list inside one value: ' | '
    #[arg(long, value_name = "SIGN")]
    between: Option<String>,
    /// Where a new element goes: first, last, 'before NAME', 'after NAME'
    #[arg(long, value_name = "PLACE", default_value = "last", hide_default_value = true)]
    seat: String,
    /// Takes keys or elements out
    #[arg(long, value_name = "PATH")]
    remove: Vec<String>,
    /// Merges a snippet file: tables are merged, lists get what they lack
    #[arg(long, value_name = "SNIPPET", conflicts_with_all = ["what", "remove"])]
    paste: Option<PathBuf>,
    /// Repairs a common slip (a lost comma, an open quote); shows it first
    #[arg(long, conflicts_with_all = ["what", "remove", "paste"])]
    mend: bool,
    /// Gives what was tuned back its former value: these paths, or all of the file
    #[arg(long, conflicts_with_all = ["remove", "paste", "mend"])]
    forget: bool,
    /// With --forget: only what came with this snippet
    #[arg(long, value_name = "NAME", requires = "forget")]
    from: Option<String>,
    /// Tells every layer that has a say in a value, and which wins
    #[arg(long, conflicts_with_all = ["remove", "paste", "mend", "forget"])]
    why: bool,
    /// Sets a secret: asked for, or read from a file, from '$NAME' (the environment) or from - (what is piped in)
    #[arg(long, value_name = "SOURCE", num_args = 0..=1, default_missing_value = "", conflicts_with_all = ["remove", "paste", "mend", "forget", "why"])]
    secret: Option<String>,
    /// Copies FILE to a new name; several pairs may follow, and references among them go to the copies
    #[arg(long, conflicts_with_all = ["remove", "paste", "mend", "forget", "why", "secret"])]
    copy: bool,
    /// Moves an entry: FILE PATH to another FILE PATH
    #[arg(long, conflicts_with_all = ["remove", "paste", "mend", "forget", "why", "secret", "copy"])]
    move_entry: bool,
    /// Makes a key though another is named nearly alike
    #[arg(long)]
    new: bool,
    /// The file may be missing still: it is tuned once the server has made it
    #[arg(long)]
    later: bool,
    /// Takes the server for stopped, whatever its signs say
    #[arg(long)]
    stopped: bool,
    /// The file's format, where it is not told by its name or looks
    #[arg(long, value_name = "FORMAT", value_parser = Format::ALL.map(Format::word))]
    format: Option<String>,
}

pub(crate) fn run(args: &Tune, setting: &Setting, ui: &Ui) -> Result<u8, Error> {
    let mut server = server(setting)?;
    server.around.stopped = args.stopped;
    let server = server;
    let format = args.format.as_deref().and_then(Format::of_word);
    let paths = || args.what.iter().map(|w| path(w)).collect::<Result<Vec<_>, _>>();
    if args.copy || args.move_entry {
        return over_files(&server, args, ui);
    }
    if args.mend {
        let (plan, slip) = tune::mend(&server, &args.file, format)?;
        ui.line(format!("{}:{}: {}", args.file, slip.line, slip.repair));
        return carried(&server, plan, args, ui, true);
    }
    if let Some(snippet) = &args.paste {
        let (plan, count) = tune::paste(&server, &args.file, format, snippet)?;
        return carried(&server, plan, args, ui, count > MOST_UNASKED);
    }
    if args.forget {
        let (plan, count) = tune::forget(&server, &args.file, &paths()?, args.from.as_deref())?;
        return carried(&server, plan, args, ui, count > MOST_UNASKED);
    }
    if args.why {
        let [one] = paths()?.try_into().map_err(|_| wrong("--why is about one path"))?;
        let (at, layers) = tune::why(&server, &args.file, &one)?;
        settings::layers(ui, &args.file, &at, &layers);
        return Ok(0);
    }
    if let Some(source) = &args.secret {
        let [one] = paths()?
            .try_into()
            .map_err(|_| wrong("--secret is about one path, which comes first: tune FILE PATH --secret"))?;
        let Some(value) = secret(source, &one, ui)? else { return Ok(NEEDS_ANSWER) };
        let plan = tune::secret(&server, &args.file, &one, &value)?;
        return carried(&server, plan, args, ui, false);
    }
    let mut changes = Vec::new();
    for word in &args.what {
        changes.extend(change(word)?);
    }
    let reads = args.what.len() - changes.len();
    for gone in &args.remove {
        changes.push(Change::Remove(path(gone)?));
    }
    if changes.is_empty() {
        let mut sheet = tune::open(&server, &args.file, format)?;
        if args.what.is_empty() {
            settings::list(ui, &server, &sheet);
        } else {
            settings::read(ui, &server, &mut sheet, &paths()?)?;
        }
        return Ok(0);
    }
    if reads > 0 {
        return Err(wrong("name paths to read, or values to set, not both at once"));
    }
    let request = Request {
        file: args.file.clone(),
        format,
        changes,
        force: args.sort.as_deref().and_then(sort),
        filter: args.filter.as_deref().map(Where::parse).transpose().map_err(wrong)?,
        seat: Seat::try_from(args.seat.clone()).map_err(wrong)?,
        between: args.between.clone(),
        new: args.new,
        later: args.later,
        from: None,
    };
    let (plan, count) = tune::plan(&server, &request)?;
    carried(&server, plan, args, ui, count > MOST_UNASKED)
}

fn path(text: &str) -> Result<Path, Error> {
    Path::parse(text).map_err(|e| wrong(e.to_string()))
}

fn sort(word: &str) -> Option<Sort> {
    [Sort::Text, Sort::Number, Sort::Flag].into_iter().find(|s| s.name() == word)
}

/// What one word asks for; `None` where it is a path to be read.
fn change(word: &str) -> Result<Option<Change>, Error> {
    let (path, rest) = Path::before_sign(word).map_err(|e| wrong(e.to_string()))?;
    // `fog.density = 5`, as people write it
    let spaced = word.get(..word.len() - rest.len()).is_some_and(|p| p.ends_with(' '));
    let typed = |text: &str| Value::typed(if spaced { text.trim_start() } else { text });
    Ok(Some(if let Some(item) = rest.strip_prefix("+=") {
        Change::Add(path, vec![typed(item)])
    } else if let Some(item) = rest.strip_prefix("-=") {
        Change::Drop(path, vec![typed(item)])
    } else if let Some(value) = rest.strip_prefix('=') {
        match Amount::parse(if spaced { value.trim_start() } else { value }) {
            Some(amount) => Change::Reckon(path, amount),
            None => Change::Set(path, typed(value)),
        }
    } else if rest.is_empty() {
        return Ok(None);
    } else {
        return Path::parse(word).map(|_| None).map_err(|e| wrong(e.to_string()));
    }))
}

/// Copies, and entries that move from file to file.
fn over_files(server: &Server, args: &Tune, ui: &Ui) -> Result<u8, Error> {
    let words: Vec<&String> = std::iter::once(&args.file).chain(&args.what).collect();
    let plan = if args.copy {
        if words.len() % 2 == 1 {
            return Err(wrong("--copy takes pairs: a file and its new name"));
        }
        let pairs: Vec<(String, String)> =
            words.chunks(2).filter_map(|p| Some(((*p.first()?).clone(), (*p.get(1)?).clone()))).collect();
        tune::copy(server, &pairs)?
    } else {
        let [from, at, to, place] = words.as_slice() else {
            return Err(wrong("--move-entry takes four words: FILE PATH FILE PATH"));
        };
        tune::move_entry(server, (from, &path(at)?), (to, &path(place)?))?
    };
    carried(server, plan, args, ui, false)
}

/// The secret; `None` where nobody is there to type it.
fn secret(source: &str, at: &Path, ui: &Ui) -> Result<Option<String>, Error> {
    let trimmed = |t: String| t.trim_end_matches(['\r', '\n']).to_owned();
    Ok(match source {
        "" => ui.ask_secret(&format!("{at}:")),
        "-" => {
            let mut text = String::new();
            std::io::stdin()
                .take(100_000)
                .read_to_string(&mut text)
                .map_err(|e| wrong(format!("what is piped in: {e}")))?;
            Some(trimmed(text))
        }
        name if name.starts_with('$') => {
            let name = name.trim_start_matches('$');
            Some(setting::variable(name).ok_or_else(|| wrong(format!("the environment has no `{name}`")))?)
        }
        file => {
            let text = std::fs::read_to_string(file).map_err(|e| wrong(format!("`{file}` cannot be read: {e}")))?;
            Some(trimmed(text))
        }
    })
}

/// Shows what a plan changes, asks where that is due, and carries it out.
fn carried(server: &Server, plan: Plan, args: &Tune, ui: &Ui, ask: bool) -> Result<u8, Error> {
    settings::changes(ui, server, &plan);
    let planned = settings::object(server, &plan);
    let said = |entry: Option<u64>| json!({ "applied": entry.is_some(), "history_entry": entry, "changes": planned });
    if plan.is_empty() || args.dry_run {
        ui.object(&said(None));
        return Ok(if plan.is_empty() { 0 } else { FINDINGS });
    }
    if let Some(code) = settle::refused(ui, ask, &said) {
        return Ok(code);
    }
    let entry = carry_out(server, plan)?;
    ui.object(&said(Some(entry.number)));
    ui.line(settings::done(&entry));
    Ok(0)
}
