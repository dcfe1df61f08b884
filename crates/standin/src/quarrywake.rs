//! The stand-in server of Quarrywake: strict, talkative, and made up.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io::{BufRead, Read as _, Write};
use std::path::Path;
use std::time::Duration;

use saphyr::{LoadableYamlNode as _, Yaml};

/// How the stand-in behaves beside reading its folder.
#[derive(Debug, Clone, Default)]
pub struct Habits {
    /// Waits so long before it is up.
    pub slow: Duration,
    /// Crashes instead of starting.
    pub crash: bool,
    /// Never comes up.
    pub hang: bool,
}

impl Habits {
    /// Reads `--slow SECONDS`, `--crash`, `--hang`.
    pub fn parse(arguments: &[String]) -> Self {
        let value = |name: &str| arguments.iter().position(|a| a == name).and_then(|at| arguments.get(at + 1));
        Self {
            slow: Duration::from_secs_f64(value("--slow").and_then(|v| v.parse().ok()).unwrap_or(0.0)),
            crash: arguments.iter().any(|a| a == "--crash"),
            hang: arguments.iter().any(|a| a == "--hang"),
        }
    }
}

struct Plugin {
    file: String,
    id: String,
    release: String,
    about: BTreeMap<String, String>,
    needs: Vec<(String, String)>,
    welcomes: Vec<(String, String)>,
    libraries: Vec<String>,
    stands_for: Vec<String>,
}

impl Plugin {
    fn is(&self, id: &str) -> bool {
        self.id == id || self.stands_for.iter().any(|o| o == id)
    }
}

/// Runs the server in `folder` until it stops; returns its exit status.
pub fn run(folder: &Path, habits: &Habits, input: &mut dyn BufRead, out: &mut dyn Write) -> i32 {
    let mut say = |line: &str| {
        let _ = writeln!(out, "{line}");
        let _ = out.flush();
    };
    if habits.crash {
        say("cannot start: the pump house is flooded");
        return 3;
    }
    match start(folder, &mut say) {
        Err(why) => {
            say(&why);
            3
        }
        Ok(()) => {
            let (mark, conf) = (folder.join("quarry.running"), folder.join("start.conf"));
            let _ = fs::write(&mark, format!("{}\n", std::process::id()));
            let settings = fs::read(&conf).ok();
            std::thread::sleep(habits.slow);
            if !habits.hang {
                say("quarrywake is up");
            }
            for line in input.lines() {
                match line {
                    Ok(line) if line.trim() == "stop" => break,
                    Ok(line) => say(&format!("no such command: {}", line.trim())),
                    Err(_) => break,
                }
            }
            // it keeps its settings in mind, and writes them back: what was changed meanwhile is lost
            if let Some(settings) = settings.filter(|s| fs::read(&conf).ok().as_ref() != Some(s)) {
                let _ = fs::write(&conf, settings);
            }
            let _ = fs::remove_file(&mark);
            say("quarrywake has stopped");
            0
        }
    }
}

fn start(folder: &Path, say: &mut dyn FnMut(&str)) -> Result<(), String> {
    let conf_path = folder.join("start.conf");
    let Ok(conf) = fs::read_to_string(&conf_path) else {
        let _ = fs::write(&conf_path, "# Quarrywake\ncore.file=\nruntime=17\nterms.accepted=0\n");
        return Err("cannot start: no start.conf; wrote one, fill in core.file".to_owned());
    };
    let conf: BTreeMap<&str, &str> = conf
        .lines()
        .filter(|l| !l.trim_start().starts_with('#'))
        .filter_map(|l| l.split_once('='))
        .map(|(k, v)| (k.trim(), v.trim()))
        .collect();
    let set = |key: &str| conf.get(key).copied().filter(|v| !v.is_empty());
    let file = set("core.file").ok_or("cannot start: start.conf sets no core.file")?;
    let path = folder.join("core").join(file);
    if !path.is_file() {
        return Err(format!("cannot start: core/{file} named by start.conf is not there"));
    }
    let core = member(&path, "core.json").and_then(|t| serde_json::from_str::<serde_json::Value>(&t).ok());
    let core = core.ok_or_else(|| format!("cannot start: core/{file} is broken"))?;
    let text = |key: &str| core.get(key).and_then(|v| v.as_str()).unwrap_or("").to_owned();
    let runtime = set("runtime").ok_or("cannot start: start.conf sets no runtime")?;
    if older(runtime, &text("runtime")) {
        return Err(format!(
            "cannot start: core {} needs runtime {}, start.conf says {runtime}",
            text("name"),
            text("runtime")
        ));
    }
    let terms = text("terms");
    if set("terms.accepted") != Some(terms.as_str()) {
        let words = format!("Terms number {terms} of the core {}.\nBe kind to the gulls.\n", text("name"));
        let _ = fs::write(folder.join("terms.txt"), words);
        return Err(format!(
            "terms number {terms} not accepted: read terms.txt, then set terms.accepted={terms} in start.conf"
        ));
    }
    say(&format!("core {} {} for game {}", text("name"), text("release"), text("game")));
    let takes = core.get("capabilities").and_then(|c| c.as_array()).is_some_and(|c| c.iter().any(|v| v == "plugins"));
    plugins(folder, &text("name"), takes, &text("game"), say);
    addpacks(folder, &text("game"), say);
    if let Err(why) = offer(folder) {
        say(&format!("offer ignored: {why}"));
    }
    Ok(())
}

/// The pack that is offered to players: whether they must take it, its bytes, its digest, and where it is.
struct Offer {
    must: bool,
    bytes: usize,
    sha256: String,
    link: String,
}

fn offer(folder: &Path) -> Result<Option<Offer>, String> {
    let Ok(text) = fs::read_to_string(folder.join("offers.list")) else { return Ok(None) };
    let mut lines = text.lines().map(str::trim).filter(|l| !l.is_empty() && !l.starts_with('#'));
    let Some(line) = lines.next() else { return Ok(None) };
    let broken = || "the first line of offers.list is no `must|may BYTES sha256:HEX LINK`".to_owned();
    let words: Vec<&str> = line.split_whitespace().collect();
    let [how, bytes, digest, link] = words.as_slice() else { return Err(broken()) };
    let sha256 = digest.strip_prefix("sha256:").unwrap_or("");
    let hex = sha256.len() == 64 && sha256.chars().all(|c| c.is_ascii_digit() || ('a'..='f').contains(&c));
    let (Ok(bytes), true, true) = (bytes.parse(), ["must", "may"].contains(how), hex) else { return Err(broken()) };
    if lines.next().is_some() {
        return Err("offers.list has a second line, and one pack only is offered".to_owned());
    }
    Ok(Some(Offer { must: *how == "must", bytes, sha256: sha256.to_owned(), link: (*link).to_owned() }))
}

/// Lets a player in, who fetches what is offered first.
///
/// # Errors
/// Why the player is not let in.
pub fn join(folder: &Path) -> Result<String, String> {
    match offer(folder) {
        Ok(None) | Err(_) => Ok("without a pack".to_owned()),
        Ok(Some(offer)) => match taken(&offer) {
            Ok(()) => Ok(format!("with the pack of {} bytes", offer.bytes)),
            Err(why) if offer.must => Err(why),
            Err(why) => Ok(format!("without the pack: {why}")),
        },
    }
}

fn taken(offer: &Offer) -> Result<(), String> {
    let bytes = crate::host::get(&offer.link).map_err(|why| format!("{} {why}", offer.link))?;
    let page = bytes.first() == Some(&b'<');
    if page {
        return Err(format!("{} is a page", offer.link));
    }
    if bytes.len() != offer.bytes {
        return Err(format!("the pack has {} bytes, offers.list says {}", bytes.len(), offer.bytes));
    }
    if crate::catalogue::sha256(&bytes) != offer.sha256 {
        return Err("the digest of the pack is not that of offers.list".to_owned());
    }
    Ok(())
}

fn plugins(folder: &Path, core: &str, takes: bool, game: &str, say: &mut dyn FnMut(&str)) {
    let mut there: Vec<Plugin> = Vec::new();
    for name in names(&folder.join("plugins")) {
        let path = folder.join("plugins").join(&name);
        if path.is_dir() {
            continue;
        }
        if !name.ends_with(".qpl") {
            say(&format!("ignored plugins/{name}: not a .qpl file"));
            continue;
        }
        match member(&path, "about.yaml").and_then(|t| read_about(&name, &t)) {
            Some(plugin) => there.push(plugin),
            None => say(&format!("ignored plugins/{name}: broken")),
        }
    }
    // needs are loaded before what needs them; nothing is tried twice
    let mut loaded: BTreeMap<String, String> = BTreeMap::new();
    let mut refused: BTreeSet<String> = BTreeSet::new();
    loop {
        let waits = |p: &&Plugin| {
            let open = |id: &String| {
                there.iter().any(|o| o.is(id) && !refused.contains(&o.id))
                    && !loaded.contains_key(id)
                    && !refused.contains(id)
            };
            !loaded.contains_key(&p.id) && !refused.contains(&p.id) && !p.needs.iter().any(|(id, _)| open(id))
        };
        let next = there
            .iter()
            .find(waits)
            .or_else(|| there.iter().find(|p| !loaded.contains_key(&p.id) && !refused.contains(&p.id)));
        let Some(plugin) = next else { return };
        match refuse(folder, plugin, core, takes, game, &there, &loaded) {
            Some(why) => {
                say(&format!("plugin {} not loaded: {why}", plugin.id));
                refused.insert(plugin.id.clone());
            }
            None => {
                say(&format!("plugin {} {} loaded", plugin.id, plugin.release));
                first_start(folder, plugin, say);
                loaded.insert(plugin.id.clone(), plugin.release.clone());
                for other in &plugin.stands_for {
                    loaded.insert(other.clone(), plugin.release.clone());
                }
            }
        }
    }
}

fn refuse(
    folder: &Path,
    plugin: &Plugin,
    core: &str,
    takes: bool,
    game: &str,
    there: &[Plugin],
    loaded: &BTreeMap<String, String>,
) -> Option<String> {
    let about = |key: &str| plugin.about.get(key).filter(|v| !v.is_empty());
    if plugin.file != format!("{}.qpl", plugin.id) {
        return Some(format!("its file must be called {}.qpl", plugin.id));
    }
    if !takes {
        return Some(format!("core {core} takes no plugins"));
    }
    if let Some(range) = about("game").filter(|r| !fits(game, r)) {
        return Some(format!("fits game {range}, this is {game}"));
    }
    for (id, range) in &plugin.needs {
        match loaded.get(id) {
            None => return Some(format!("needs {id} {range}, which is not here")),
            Some(have) if !fits(have, range) => return Some(format!("needs {id} {range}, and {have} is here")),
            Some(_) => {}
        }
    }
    for (id, range) in &plugin.welcomes {
        if let Some(other) = there.iter().find(|o| o.id == *id && !fits(&o.release, range)) {
            return Some(format!("welcomes {id} {range}, and {} is here", other.release));
        }
    }
    for library in &plugin.libraries {
        if !folder.join("plugins/lib").join(library).is_file() {
            return Some(format!("library {library} is not in plugins/lib"));
        }
    }
    about("fault").cloned()
}

fn first_start(folder: &Path, plugin: &Plugin, say: &mut dyn FnMut(&str)) {
    let path = folder.join("settings").join(format!("{}.yaml", plugin.id));
    if !path.exists() {
        let _ = fs::create_dir_all(folder.join("settings"));
        if fs::write(&path, format!("# settings of {}\nloud: false\n", plugin.id)).is_ok() {
            say(&format!("first start: wrote settings/{}.yaml", plugin.id));
        }
    }
}

fn addpacks(folder: &Path, game: &str, say: &mut dyn FnMut(&str)) {
    let place = folder.join("addpacks");
    let listed: Vec<String> = fs::read_to_string(place.join("order.list"))
        .unwrap_or_default()
        .lines()
        .map(|l| l.split('#').next().unwrap_or("").trim().to_owned())
        .filter(|l| !l.is_empty())
        .collect();
    let mut there: BTreeMap<String, serde_json::Value> = BTreeMap::new();
    for name in names(&place) {
        let path = place.join(&name);
        let text = if path.is_dir() {
            fs::read_to_string(path.join("addpack.json")).ok()
        } else if name.ends_with(".zip") {
            member(&path, "addpack.json")
        } else {
            continue;
        };
        match text.and_then(|t| serde_json::from_str(&t).ok()) {
            Some(about) => {
                there.insert(name.trim_end_matches(".zip").to_owned(), about);
            }
            None => say(&format!("ignored addpacks/{name}: no addpack.json")),
        }
    }
    let mut seen: Vec<&str> = Vec::new();
    for id in &listed {
        let Some(about) = there.get(id) else {
            say(&format!("addpack {id} not loaded: order.list names it, and it is not in addpacks"));
            continue;
        };
        let text = |key: &str| about.get(key).and_then(|v| v.as_str()).unwrap_or("");
        let after = about.get("after").and_then(|a| a.as_array()).cloned().unwrap_or_default();
        let late = after.iter().filter_map(|a| a.as_str()).find(|a| listed.iter().any(|l| l == a) && !seen.contains(a));
        if let Some(other) = late {
            say(&format!("addpack {id} not loaded: it must stand after {other} in order.list"));
        } else if place.join(id).is_dir() && !has_stones(&place.join(id).join("stones"), id) {
            say(&format!("addpack {id} not loaded: no stones/{id}.json in it"));
        } else if !text("game").is_empty() && !fits(game, text("game")) {
            say(&format!("addpack {id} not loaded: fits game {}, this is {game}", text("game")));
        } else {
            say(&format!("addpack {id} {} loaded", text("release")));
            seen.push(id);
        }
    }
    for id in there.keys().filter(|id| !listed.contains(id)) {
        say(&format!("addpack {id} not loaded: order.list does not name it"));
    }
}

/// Whether a pack that lies open has its stones: the file called after it, or files of others in folders of their own.
fn has_stones(stones: &Path, id: &str) -> bool {
    stones.join(format!("{id}.json")).is_file() || names(stones).iter().any(|n| stones.join(n).is_dir())
}

fn read_about(file: &str, text: &str) -> Option<Plugin> {
    let documents = Yaml::load_from_str(text).ok()?;
    let root = documents.first()?.as_mapping()?;
    // releases are written in quotes, ranges too: a bare 1.10 would be read as the number 1.1
    let word = |y: &Yaml<'_>| y.as_str().map(str::to_owned).or_else(|| y.as_integer().map(|i| i.to_string()));
    let find = |key: &str| root.iter().find(|(k, _)| k.as_str() == Some(key)).map(|(_, v)| v);
    let pairs = |key: &str| -> Vec<(String, String)> {
        let map = find(key).and_then(Yaml::as_mapping);
        map.into_iter().flat_map(|m| m.iter()).filter_map(|(k, v)| Some((word(k)?, word(v)?))).collect()
    };
    let about: BTreeMap<String, String> = root.iter().filter_map(|(k, v)| Some((word(k)?, word(v)?))).collect();
    let words = |key: &str| -> Vec<String> {
        find(key).and_then(Yaml::as_vec).into_iter().flatten().filter_map(word).collect()
    };
    Some(Plugin {
        file: file.to_owned(),
        id: about.get("id")?.clone(),
        release: about.get("release")?.clone(),
        needs: pairs("needs"),
        welcomes: pairs("welcomes"),
        libraries: words("libraries"),
        stands_for: [words("provides"), words("replaces")].concat(),
        about,
    })
}

fn names(folder: &Path) -> Vec<String> {
    let mut out: Vec<String> =
        fs::read_dir(folder).into_iter().flatten().flatten().filter_map(|e| e.file_name().into_string().ok()).collect();
    out.sort();
    out
}

fn member(archive: &Path, name: &str) -> Option<String> {
    let mut archive = zip::ZipArchive::new(fs::File::open(archive).ok()?).ok()?;
    let mut text = String::new();
    archive.by_name(name).ok()?.take(1_000_000).read_to_string(&mut text).ok()?;
    Some(text)
}

fn numbers(version: &str) -> Vec<u64> {
    let mut out: Vec<u64> =
        version.split('-').next().unwrap_or("").split('.').map(|n| n.parse().unwrap_or(0)).collect();
    while out.last() == Some(&0) {
        out.pop();
    }
    out
}

fn older(a: &str, b: &str) -> bool {
    numbers(a) < numbers(b)
}

/// The stand-in's own ranges: `*`, `^`, `=`, `>=`, `<`, parted by spaces.
fn fits(version: &str, range: &str) -> bool {
    range.split_whitespace().all(|part| {
        let below = |top: Vec<u64>| numbers(version) < top;
        if let Some(base) = part.strip_prefix(">=") {
            !older(version, base)
        } else if let Some(top) = part.strip_prefix('<') {
            older(version, top)
        } else if let Some(base) = part.strip_prefix('^') {
            let first = numbers(base).first().copied().unwrap_or(0);
            !older(version, base) && below(vec![first + 1])
        } else if let Some(same) = part.strip_prefix('=') {
            numbers(version) == numbers(same)
        } else {
            part == "*" || numbers(version) == numbers(part)
        }
    })
}
