//! Solve and learn, in turn, until nothing new appears.

mod asking;
mod own;

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use yalotheca_core::facts::{FileFact, ServerFacts, VersionFacts};
use yalotheca_core::family::FetchedBy;
use yalotheca_core::finding::{Finding, Severity};
use yalotheca_core::id::{Digest, ItemId};
use yalotheca_core::ledger::{Held, HeldFrom, Ledger};
use yalotheca_core::manifest::disagreement;
use yalotheca_core::scene::DOWNLOAD_FIELDS;
use yalotheca_core::solve::{Answer, Chosen, Fact, Question, Step};
use yalotheca_core::text::{a, clean, listed};
use yalotheca_core::version::Scheme;

use crate::Error;
use crate::catalogue::Offered;
use crate::learn::{Learnt, Opener};
use crate::server::Server;
use crate::settle::obtain::{Part, obtain, obtain_sent};
use crate::settle::{NoWay, Options};
pub(crate) use asking::Asking;

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
            Step::Need(_) | Step::TooHard => {}
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
                facts: VersionFacts::clone(&chosen.facts),
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
