//! Solve and learn, in turn, until nothing new appears.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use yalotheca_core::facts::{FileFact, ServerFacts, VersionFacts};
use yalotheca_core::family::{FetchedBy, Role};
use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::id::{Digest, ItemId};
use yalotheca_core::ledger::{Held, HeldFrom, Ledger};
use yalotheca_core::manifest::disagreement;
use yalotheca_core::roster::{Origin, Want};
use yalotheca_core::scene::DOWNLOAD_FIELDS;
use yalotheca_core::solve::{
    Answer, Chosen, Fact, Help, Helped, MOST_HELPS, OtherCore, Problem, Question, Reasons, Solver, Step, Wanted,
};
use yalotheca_core::text::{a, clean, listed};
use yalotheca_core::version::Scheme;

use crate::catalogue::Offered;
use crate::fetch::Job;
use crate::learn::{Learnt, Opener};
use crate::server::Server;
use crate::settle::obtain::{Part, obtain, obtain_sent};
use crate::settle::{NoWay, Options};
use crate::{Error, archive};

/// A chosen item.
#[derive(Debug, Clone)]
pub(super) struct Picked {
    pub(super) id: ItemId,
    /// As the ledger will keep it, but for its file list.
    pub(super) held: Held,
    /// What was found inside; `None` when it stays as it is on the server.
    pub(super) learnt: Option<Learnt>,
    pub(super) wanted: bool,
    /// The files it is fetched as; several are packed into one download.
    pub(super) parts: Vec<Part>,
}

impl Picked {
    /// The digests of the files that it is fetched as.
    pub(super) fn parts_digests(&self) -> Vec<&Digest> {
        self.parts.iter().map(Part::sha256).collect()
    }

    /// Keeps where anybody can fetch it, its size and its digest, for a kind whose wirings name that.
    fn with_download(mut self, server: &Server) -> Result<Self, Error> {
        let kind = server.family.rules.kind.get(&self.held.kind);
        let names = |field: &str| {
            kind.is_some_and(|k| k.wire.iter().any(|w| w.templates().iter().any(|t| t.fields().any(|f| f == field))))
        };
        if !DOWNLOAD_FIELDS.iter().any(|f| names(f)) {
            return Ok(self);
        }
        let fields = &mut self.held.fields;
        fields.insert("sha256".to_owned(), self.held.download.to_string());
        if let [part] = self.parts.as_slice() {
            fields.extend(part.link().map(|link| ("link".to_owned(), link.to_owned())));
            fields.extend(part.bytes().map(|bytes| ("bytes".to_owned(), bytes.to_string())));
        }
        if !fields.contains_key("bytes") {
            let path = server.around.home.store_path(&self.held.download);
            let bytes = std::fs::metadata(&path).map_err(Error::disk(&path, "cannot be read"))?.len();
            fields.insert("bytes".to_owned(), bytes.to_string());
        }
        Ok(self)
    }
}

/// Everything the solver's questions are answered from.
struct Sources<'a> {
    server: &'a Server,
    before: &'a Ledger,
    /// Items of the roster that come from a file, a link or the server itself.
    own: BTreeMap<ItemId, Picked>,
    /// What catalogues said of items asked for.
    offered: BTreeMap<ItemId, Offered>,
}

/// Chooses the items and versions, fetching and opening what is new.
pub(super) fn choose(
    server: &Server,
    options: &Options,
    before: &Ledger,
    known: &ServerFacts,
) -> Result<Vec<Picked>, Error> {
    let mut asking = Asking::new(server, options, before, known)?;
    loop {
        match asking.answered()? {
            Step::Need(_) => {}
            Step::Impossible(reasons) => {
                let helps = asking.helps(&reasons);
                return Err(Error::Impossible(Box::new(NoWay { reasons, helps })));
            }
            Step::Answer(answer) => {
                let picked = asking.sources.fetch(&answer)?;
                let mut news = false;
                for one in &picked {
                    news |= one.learnt.is_some() && asking.solver.learn(&one.id, one.held.facts.clone());
                }
                if !news {
                    obtain_sent(server, &picked)?;
                    return picked.into_iter().map(|one| one.with_download(server)).collect();
                }
            }
        }
    }
}

/// The solver, and what its questions are answered from.
pub(crate) struct Asking<'a> {
    sources: Sources<'a>,
    pub(crate) solver: Solver,
}

impl<'a> Asking<'a> {
    /// Returns a solver of what the roster wants.
    pub(crate) fn new(
        server: &'a Server,
        options: &Options,
        before: &'a Ledger,
        known: &ServerFacts,
    ) -> Result<Self, Error> {
        let mut sources = Sources { server, before, own: BTreeMap::new(), offered: BTreeMap::new() };
        for want in &server.roster.wants {
            if let Some(origin) = &want.from {
                let own = own_item(server, before, want, origin)?;
                sources.own.insert(want.id.clone(), own);
            }
        }
        let wants = server.roster.wants.iter().map(|w| Wanted {
            id: w.id.clone(),
            range: w.range.clone(),
            beta: w.beta,
            line: w.line,
        });
        let there = options.like.iter().flat_map(|l| &l.items);
        let stays = before.items.iter().filter(|(id, _)| !options.renew.moves(id));
        let version = |(id, held): (&ItemId, &Held)| (id.clone(), held.facts.version.clone());
        let hold = |w: &&Want| w.hold;
        let held = server.roster.wants.iter().filter(hold).filter_map(|w| before.items.get_key_value(&w.id));
        let problem = Problem {
            wants: wants.collect(),
            server: known.clone(),
            prefer: stays.chain(there).map(version).collect(),
            there: before.items.keys().cloned().collect(),
            never: server.roster.never.clone(),
            held: held.map(version).collect(),
        };
        Ok(Self { sources, solver: Solver::new(problem) })
    }

    /// Takes one step, and answers what it asks.
    fn answered(&mut self) -> Result<Step, Error> {
        self.sources.server.around.go_on()?;
        let step = self.solver.step();
        if let Step::Need(questions) = &step {
            for (question, fact) in self.sources.answers(questions.clone())? {
                self.solver.tell(question, fact);
            }
        }
        Ok(step)
    }

    /// Goes on until there is an answer, or none.
    pub(crate) fn go_on(&mut self) -> Result<Result<Answer, Reasons>, Error> {
        loop {
            match self.answered()? {
                Step::Need(_) => {}
                Step::Answer(answer) => return Ok(Ok(answer)),
                Step::Impossible(reasons) => return Ok(Err(reasons)),
            }
        }
    }

    /// The same for another problem; what is known stays known.
    pub(crate) fn with(&mut self, problem: Problem) -> Result<Result<Answer, Reasons>, Error> {
        let again = self.solver.again(problem);
        let before = std::mem::replace(&mut self.solver, again);
        let found = self.go_on();
        // what was learnt of the world on the way is kept, for the problem as it was
        let problem = before.problem().clone();
        self.solver = self.solver.again(problem);
        found
    }

    /// The changes that help, each solved anew.
    fn helps(&mut self, reasons: &Reasons) -> Vec<Helped> {
        let problem = self.solver.problem().clone();
        let cores = self.cores(&problem);
        let mut out: Vec<Helped> = Vec::new();
        for changes in reasons.helps(&problem, &cores) {
            // a server without a core is no help, and what helps alone needs no second change
            let core = |c: &Help| matches!(c, Help::Drop(id) if self.is_core(id));
            if changes.iter().any(core) {
                continue;
            }
            if out.len() == MOST_HELPS || out.iter().any(|h| h.changes.iter().all(|c| changes.contains(c))) {
                continue;
            }
            let changed = changes.iter().fold(problem.clone(), |p, help| help.made(&p));
            // where the outside fails now, there is no more help
            let Ok(found) = self.with(changed) else { return out };
            let Ok(answer) = found else { continue };
            let version = |id: &ItemId| answer.chosen.iter().find(|c| c.id == *id).map(|c| c.facts.version.clone());
            let versions = changes.iter().map(|c| version(c.item())).collect();
            out.push(Helped { changes, versions });
        }
        out
    }

    fn is_core(&self, id: &ItemId) -> bool {
        let held = self.sources.before.items.get(id).map(|h| h.kind.as_str());
        let kind = self.sources.offered.get(id).map(|o| o.facts.kind.as_str()).or(held);
        kind.and_then(|k| self.sources.server.family.rules.kind.get(k)).is_some_and(|k| k.role == Role::Core)
    }

    /// The versions of the core that could run instead, with the game's version that each says it brings.
    fn cores(&mut self, problem: &Problem) -> Vec<OtherCore> {
        let mut out = Vec::new();
        for want in &problem.wants {
            let Some((versions, scheme)) = self.solver.versions(&want.id) else { continue };
            if !self.is_core(&want.id) {
                continue;
            }
            let held = self.sources.before.items.get(&want.id).map(|h| h.facts.version.clone());
            for facts in versions.iter().filter(|f| Some(&f.version) != held.as_ref()) {
                let game = facts.provides.iter().find(|p| p.id.as_str() == "game").and_then(|p| p.version.clone());
                if let Some(game) = game.filter(|_| facts.misfit(&problem.server, scheme).is_none()) {
                    out.push(OtherCore { id: want.id.clone(), version: facts.version.clone(), game });
                }
            }
        }
        out
    }
}

impl Sources<'_> {
    fn answers(&mut self, questions: Vec<Question>) -> Result<Vec<(Question, Fact)>, Error> {
        let asked: BTreeSet<ItemId> = questions
            .iter()
            .filter_map(|q| match q {
                Question::Versions(id) if !self.own.contains_key(id) => Some(id.clone()),
                _ => None,
            })
            .collect();
        self.offered.extend(self.server.catalogues.items(&asked)?);
        let named = self.server.catalogues.named(&questions)?;
        let mut out = Vec::new();
        for (question, mut items) in questions.into_iter().zip(named) {
            let fact = match &question {
                Question::Versions(id) => self.versions(id),
                Question::Provides(id) => {
                    let stands_in = |f: &VersionFacts| f.provides.iter().any(|p| p.id == *id);
                    self.add_present(&mut items, stands_in);
                    Fact::Items(items)
                }
                Question::Replaces(id) => {
                    let stands_in = |f: &VersionFacts| f.replaces.iter().any(|r| r.id == *id);
                    self.add_present(&mut items, stands_in);
                    Fact::Items(items)
                }
                Question::Number(_) | Question::File(_) => Fact::Items(items),
            };
            out.push((question, fact));
        }
        Ok(out)
    }

    /// Items that no catalogue need know: those of the roster's own, and those on the server.
    fn add_present(&self, items: &mut Vec<ItemId>, stands_in: impl Fn(&VersionFacts) -> bool) {
        let own = self.own.iter().map(|(id, p)| (id, &p.held.facts));
        let held = self.before.items.iter().map(|(id, h)| (id, &h.facts));
        for (id, facts) in own.chain(held) {
            if stands_in(facts) && !items.contains(id) {
                items.push(id.clone());
            }
        }
    }

    fn versions(&self, id: &ItemId) -> Fact {
        if let Some(own) = self.own.get(id) {
            let scheme = self.scheme(&own.held.kind);
            return Fact::Versions { scheme, versions: vec![own.held.facts.clone()] };
        }
        let family = &self.server.family.rules;
        // an item of that name made for another game is none of ours
        if let Some(offered) = self.offered.get(id).filter(|o| o.facts.family == family.name) {
            let needed = family.kind.get(&offered.facts.kind).and_then(|k| k.needs_capability.clone());
            let mut versions = offered.facts.versions.clone();
            for facts in &mut versions {
                facts
                    .capabilities
                    .extend(needed.iter().filter(|c| !facts.capabilities.contains(c)).cloned().collect::<Vec<_>>());
            }
            // a version that is on the server can stay, though nobody offers it any more
            if let Some(held) = self.before.items.get(id)
                && !versions.iter().any(|v| v.version == held.facts.version)
            {
                versions.push(held.facts.clone());
            }
            return Fact::Versions { scheme: offered.facts.scheme, versions };
        }
        let held = self.before.items.get(id);
        let scheme = held.map_or(Scheme::Plain, |h| self.scheme(&h.kind));
        Fact::Versions { scheme, versions: held.map(|h| h.facts.clone()).into_iter().collect() }
    }

    fn scheme(&self, kind: &str) -> Scheme {
        self.server.family.rules.kind.get(kind).map_or(Scheme::Plain, |k| k.scheme)
    }

    /// Fetches and opens what the answer has and the server has not.
    fn fetch(&self, answer: &Answer) -> Result<Vec<Picked>, Error> {
        let mut out = Vec::new();
        for chosen in &answer.chosen {
            out.push(self.pick(chosen)?);
        }
        let ours = |p: &Picked| !fetched_by_server(self.server, &p.held.kind);
        let new = out.iter_mut().filter(|p| p.learnt.is_none() && p.held.files == Digest::of(b"") && ours(p));
        obtain(self.server, new)?;
        for one in &mut out {
            if one.learnt.is_none() && !self.stays(one) && ours(one) {
                let learnt = open_fetched(self.server, one)?;
                self.adopt(one, learnt)?;
            }
        }
        Ok(out)
    }

    fn stays(&self, one: &Picked) -> bool {
        self.before
            .items
            .get(&one.id)
            .is_some_and(|h| h.facts.version == one.held.facts.version && h.download == one.held.download)
    }

    fn pick(&self, chosen: &Chosen) -> Result<Picked, Error> {
        let held = self.before.items.get(&chosen.id).filter(|h| h.facts.version == chosen.facts.version);
        if let Some(own) = self.own.get(&chosen.id) {
            let mut own = own.clone();
            own.wanted = chosen.wanted;
            if held.is_some_and(|h| h.download == own.held.download) {
                own.learnt = None;
            }
            return Ok(own);
        }
        let offered = self.offered.get(&chosen.id);
        let from =
            offered.and_then(|o| Some((o, o.facts.versions.iter().find(|v| v.version == chosen.facts.version)?)));
        let parts = |offered: &Offered, files: &[FileFact]| {
            let whole = |f: &FileFact| self.server.catalogues.addresses(&offered.catalogue, &f.addresses);
            files.iter().map(|f| Part::new(f, whole(f))).collect::<Vec<_>>()
        };
        if let Some(held) = held {
            return Ok(Picked {
                id: chosen.id.clone(),
                held: held.clone(),
                learnt: None,
                wanted: chosen.wanted,
                parts: from.map(|(o, v)| parts(o, &v.files)).unwrap_or_default(),
            });
        }
        let what = format!("{} {}", chosen.id, chosen.facts.version);
        let nothing = || Error::Disagree { item: what.clone(), why: "the catalogue names no file for it".to_owned() };
        let (offered, facts) = from.ok_or_else(nothing)?;
        let file = facts.files.first().cloned();
        let kind = self.server.family.rules.kind.get(&offered.facts.kind);
        if file.is_none() && !kind.is_some_and(|k| k.fetched_by == FetchedBy::Server) {
            return Err(nothing());
        }
        Ok(Picked {
            id: chosen.id.clone(),
            held: Held {
                kind: offered.facts.kind.clone(),
                title: yalotheca_core::text::clean(&offered.facts.title, 80),
                facts: chosen.facts.clone(),
                from: HeldFrom::Catalogue(offered.catalogue.clone()),
                download: file.as_ref().map_or_else(|| Digest::of(b""), |f| f.sha256.clone()),
                download_name: file.as_ref().map_or_else(String::new, |f| f.name.clone()),
                name: file.as_ref().map_or_else(|| chosen.id.to_string(), |f| f.name.clone()),
                files: Digest::of(b""),
                number: offered.facts.number.clone(),
                fields: chosen.facts.fields.clone(),
                entries: Vec::new(),
                signer: None,
            },
            learnt: None,
            wanted: chosen.wanted,
            parts: parts(offered, &facts.files),
        })
    }

    /// Holds what the archive says against what the catalogue said.
    fn adopt(&self, one: &mut Picked, learnt: Learnt) -> Result<(), Error> {
        let (said, found) = (&one.held.facts, &learnt.found);
        let item = format!("{} {}", one.id, said.version);
        let names = self.offered.get(&one.id).map(|o| o.facts.names.as_slice()).unwrap_or_default();
        if found.says_id && found.id != one.id && !names.iter().any(|n| n == found.id.as_str()) {
            return Err(Error::Disagree { item, why: format!("inside it calls itself {}", found.id) });
        }
        if found.says_version && found.facts.version.compare(&said.version, self.scheme(&learnt.kind)).is_ne() {
            return Err(Error::Disagree {
                item,
                why: format!("inside it calls itself version {}", found.facts.version),
            });
        }
        if learnt.kind != one.held.kind {
            let title = self.server.family.kind_title(&learnt.kind).to_owned();
            return Err(Error::Disagree {
                item,
                why: format!("the catalogue says `{}`, and it is a {title}", one.held.kind),
            });
        }
        // what the archive needs and the catalogue did not say joins the facts, and the solver hears of it
        if !disagreement(said, &found.facts).is_empty() {
            let more = found.facts.needs.iter().filter(|n| !said.needs.contains(n)).cloned().collect::<Vec<_>>();
            one.held.facts.needs.extend(more);
        }
        one.held.name = learnt.real.name(&learnt.look);
        one.held.fields.extend(learnt.found.fields.clone());
        one.held.entries.clone_from(&learnt.found.entries);
        one.held.signer = learnt.signer.as_ref().map(|s| s.fingerprint.clone());
        one.learnt = Some(learnt);
        Ok(())
    }
}

fn open_fetched(server: &Server, one: &Picked) -> Result<Learnt, Error> {
    server.around.go_on()?;
    // what it was taken as stays what it is taken as
    let kind = Some(one.held.kind.as_str()).filter(|k| !k.is_empty());
    let file = server.roster.want(&one.id).and_then(|w| w.password_file.as_deref());
    opener(server, kind, file.map(|f| server.beside().join(f)).as_deref())
        .learn(&one.held.download, &one.held.download_name)
}

/// Checks that no two items are the same number for the server.
pub(super) fn numbers_once(picked: &[Picked]) -> Result<(), Error> {
    let mut seen: BTreeMap<&str, &ItemId> = BTreeMap::new();
    for one in picked {
        let Some(number) = one.held.number.as_deref() else { continue };
        if let Some(other) = seen.insert(number, &one.id) {
            let cause =
                format!("{other} and {} are both number {}: to the server that is one", one.id, clean(number, 40));
            let fix = format!("yalotheca drop {}, or drop {other}", one.id);
            return Err(Error::Undecided(vec![Finding::new("number-twice", Severity::Error, cause, fix).of(&one.id)]));
        }
    }
    Ok(())
}

/// Checks that there is one item only of kinds of which a server takes one.
pub(super) fn one_only(server: &Server, picked: &[Picked]) -> Result<(), Error> {
    let mut findings = Vec::new();
    for (word, kind) in &server.family.rules.kind {
        let Some(why) = &kind.only else { continue };
        let all: Vec<&Picked> = picked.iter().filter(|p| p.held.kind == *word).collect();
        if let [_, .., last] = all.as_slice() {
            let names: Vec<String> = all.iter().map(|p| p.id.to_string()).collect();
            let cause = format!("{} are each {}, and {why}", listed(&names), a(&kind.title));
            let keep: Vec<String> = names.iter().map(|n| format!("yalotheca drop {n}")).collect();
            let fix = format!("keep one: {}", keep.join(", or "));
            findings.push(Finding::new("one-only", Severity::Error, cause, fix).of(&last.id));
        }
    }
    if findings.is_empty() { Ok(()) } else { Err(Error::Forbidden(findings)) }
}

/// What opens downloads for this server.
pub(crate) fn opener<'a>(server: &'a Server, kind: Option<&'a str>, password_file: Option<&'a Path>) -> Opener<'a> {
    let (home, access) = (&server.around.home, &server.around.access);
    Opener { home, family: &server.family, limits: server.roster.limits, kind, access, password_file }
}

/// Whether the server itself fetches items of a kind.
pub(super) fn fetched_by_server(server: &Server, kind: &str) -> bool {
    server.family.rules.kind.get(kind).is_some_and(|k| k.fetched_by == FetchedBy::Server)
}

/// An item that the server fetches by its number, and that no catalogue knows.
fn by_number(server: &Server, want: &Want, origin: &Origin, number: &str) -> Result<Picked, Error> {
    let kinds: Vec<&String> = server.family.rules.kind.keys().filter(|k| fetched_by_server(server, k)).collect();
    let kind = match (&want.kind, kinds.as_slice()) {
        (Some(kind), _) if kinds.contains(&kind) => kind.clone(),
        (None, [one]) => (*one).clone(),
        _ => {
            let why = format!(
                "has no `kind`; it is one of {}",
                listed(&kinds.iter().map(|k| format!("`{k}`")).collect::<Vec<_>>())
            );
            return Err(Error::Origin { item: want.id.to_string(), place: number.to_owned(), why });
        }
    };
    let held = Held {
        kind,
        title: want.id.to_string(),
        facts: VersionFacts::bare("as-served"),
        from: HeldFrom::Origin(origin.clone()),
        download: Digest::of(b""),
        download_name: String::new(),
        name: want.id.to_string(),
        files: Digest::of(b""),
        number: Some(number.to_owned()),
        fields: BTreeMap::new(),
        entries: Vec::new(),
        signer: None,
    };
    Ok(Picked { id: want.id.clone(), held, learnt: None, wanted: true, parts: Vec::new() })
}

/// Opens the download of an item that is on the server, fetching it again if the store has lost it.
pub(super) fn open(server: &Server, one: &Picked) -> Result<Learnt, Error> {
    if !server.around.home.has(&one.held.download) {
        if one.parts.is_empty() {
            return Err(Error::Origin {
                item: one.id.to_string(),
                place: one.held.name.clone(),
                why: "is gone from the store, and nobody offers it; give it again with yalotheca want".to_owned(),
            });
        }
        let mut again = one.clone();
        obtain(server, [&mut again].into_iter())?;
        if again.held.download != one.held.download {
            return Err(Error::Disagree {
                item: format!("{} {}", one.id, one.held.facts.version),
                why: "what the catalogue offers now is not what is on the server".to_owned(),
            });
        }
    }
    open_fetched(server, one)
}

/// An item of the roster that comes from a file, a link or the server itself, opened.
fn own_item(server: &Server, before: &Ledger, want: &Want, origin: &Origin) -> Result<Picked, Error> {
    if let Origin::Number { number, .. } = origin {
        return by_number(server, want, origin, number);
    }
    let digest = origin.sha256();
    let parts = match origin {
        Origin::Link { address, .. } => vec![Part::of_link(address, digest)],
        _ => Vec::new(),
    };
    if let Some(held) = before.items.get(&want.id).filter(|h| h.download == *digest) {
        let mut held = held.clone();
        held.from = HeldFrom::Origin(origin.clone());
        return Ok(Picked { id: want.id.clone(), held, learnt: None, wanted: true, parts });
    }
    let (name, place) = bring(server, want, origin)?;
    let secret = want.password_file.as_ref().map(|f| server.beside().join(f));
    let learnt = opener(server, want.kind.as_deref(), secret.as_deref()).learn(digest, &name)?;
    if learnt.found.says_id && learnt.found.id != want.id {
        let why = format!("is {} and not {}; put it on the roster again with yalotheca want", learnt.found.id, want.id);
        return Err(Error::Origin { item: want.id.to_string(), place, why });
    }
    let held = Held {
        kind: learnt.kind.clone(),
        title: learnt.found.title.clone(),
        facts: learnt.found.facts.clone(),
        from: HeldFrom::Origin(origin.clone()),
        download: digest.clone(),
        download_name: name,
        name: learnt.real.name(&learnt.look),
        files: Digest::of(b""),
        number: None,
        fields: learnt.found.fields.clone(),
        entries: learnt.found.entries.clone(),
        signer: learnt.signer.as_ref().map(|s| s.fingerprint.clone()),
    };
    Ok(Picked { id: want.id.clone(), held, learnt: Some(learnt), wanted: true, parts })
}

/// Brings the bytes that the roster means into the store; returns the file's name and where it was.
fn bring(server: &Server, want: &Want, origin: &Origin) -> Result<(String, String), Error> {
    let home = &server.around.home;
    let digest = origin.sha256();
    let gone = |place: &str, why: &str| Error::Origin {
        item: want.id.to_string(),
        place: place.to_owned(),
        why: why.to_owned(),
    };
    match origin {
        Origin::File { path, .. } => {
            let mut name = path.rsplit(['/', '\\']).next().unwrap_or(path).to_owned();
            let full = server.beside().join(path);
            if full.is_dir() {
                name.push_str(".zip");
            }
            if !home.has(digest) && full.is_dir() {
                if archive::pack_folder(home, &full, server.roster.limits.download_mb.saturating_mul(1_000_000))?
                    != *digest
                {
                    return Err(gone(
                        path,
                        "is not as it was when it was put on the roster; give it again with yalotheca want",
                    ));
                }
            } else if !home.has(digest) {
                let mut file = std::fs::File::open(&full)
                    .map_err(|_| gone(path, "is gone; give the file again with yalotheca want"))?;
                let (found, _) = home.take(&mut file, &full)?;
                if found != *digest {
                    return Err(gone(
                        path,
                        "is another file than the one that was put on the roster; give it again with yalotheca want",
                    ));
                }
            }
            Ok((name, path.clone()))
        }
        Origin::Link { address, .. } => {
            let job = Job { what: want.id.to_string(), addresses: vec![address.clone()], wanted: None, sha512: None };
            let name =
                address.split(['?', '#']).next().and_then(|a| a.rsplit('/').next()).unwrap_or("download").to_owned();
            if home.has(digest) {
                return Ok((name, address.clone()));
            }
            let got = server.fetcher.fetch(home, &[job], server.around.progress.as_ref()).pop();
            match got {
                Some(Ok(got)) if got.sha256 == *digest => Ok((got.name, address.clone())),
                Some(Ok(_)) => Err(gone(
                    address,
                    "gives another file than the one that was put on the roster; if that is meant, give it again with yalotheca want",
                )),
                Some(Err(e)) => Err(e),
                None => Err(gone(address, "gave nothing")),
            }
        }
        Origin::Number { number, .. } => Err(gone(number, "is fetched by the server, not by us")),
        Origin::Here { path, .. } => {
            if home.has(digest) {
                return Ok((path.rsplit('/').next().unwrap_or(path).to_owned(), path.clone()));
            }
            Err(gone(
                path,
                "was on the server when it was adopted and is in this machine's store no more; give the file again with yalotheca want",
            ))
        }
    }
}
