//! Rules that could never work: what each names must be there, and each must be able to match.

use std::cmp::Ordering;

use super::Fault;
use crate::family::{
    Body, Container, FetchedBy, HAND, Kind, Meaning, Players, Rules, Template, When, Wiring, server_path,
};
use crate::id::ItemId;
use crate::scene::ITEM_FIELDS;
use crate::settings::{Format, Path};
use crate::text::{clean, did_you_mean};

/// Returns everything that is wrong.
pub(super) fn all(rules: &Rules) -> Vec<Fault> {
    let mut out = Faults { rules, out: Vec::new() };
    out.head();
    let facts: Vec<&str> = rules.fact.keys().map(String::as_str).collect();
    for source in rules.fact.values().flat_map(|s| &s.0) {
        out.template(&source.file, &facts);
        out.when(source.when.as_ref(), &facts);
        out.path(&source.at);
    }
    for (word, kind) in &rules.kind {
        out.kind(word, kind, &facts);
    }
    for wiring in &rules.default {
        out.wiring(wiring, &facts);
    }
    out.active(&facts);
    out.bounds(&facts);
    out.settings();
    out.start(&facts);
    out.out
}

struct Faults<'a> {
    rules: &'a Rules,
    out: Vec<Fault>,
}

impl Faults<'_> {
    fn add(&mut self, word: impl Into<String>, why: impl Into<String>) {
        let (word, why) = (word.into(), why.into());
        if !self.out.iter().any(|f| f.word == word && f.why == why) {
            self.out.push(Fault { word, why });
        }
    }

    fn head(&mut self) {
        let rules = self.rules;
        if rules.format != 1 {
            self.add("format", format!("format is {}, and this program knows 1", rules.format));
        }
        if ItemId::new(&rules.name).is_err() {
            self.add("name", "`name` must be a plain word");
        }
        let words = [&rules.title, &rules.about].into_iter().chain(rules.kind.values().map(|k| &k.title));
        for word in words.chain(rules.kind.keys()) {
            if word.chars().any(char::is_control) {
                self.add("title", format!("`{}` has a control character", clean(word, 40)));
            }
        }
        if rules.recognise.iter().map(|m| m.sure).sum::<u32>() < 100 {
            self.add("recognise", "the marks together never reach 100, so no server would be recognised");
        }
        let patterns = rules.own.iter().chain(rules.recognise.iter().map(|m| &m.path));
        for pattern in patterns {
            if pattern.starts_with(['/', '\\']) || pattern.contains('\\') || pattern.is_empty() {
                let why = "patterns are over paths below the server's folder, with `/` between their parts, so this one never fits";
                self.add(pattern, format!("`{}` never fits: {why}", clean(pattern, 60)));
            }
        }
    }

    /// A template all of whose fields are known.
    fn template(&mut self, template: &Template, known: &[&str]) {
        for field in template.fields().filter(|f| !known.contains(f)) {
            let hint = did_you_mean(field, known.iter().copied());
            let all = known.join("`, `");
            let text = template.as_str();
            self.add(
                text,
                format!("the template `{text}` names `{field}`, which nothing fills here{hint} (there are `{all}`)"),
            );
        }
    }

    fn when(&mut self, when: Option<&When>, known: &[&str]) {
        for field in when.iter().flat_map(|w| w.is.keys()).filter(|f| !known.contains(&f.as_str())) {
            let hint = did_you_mean(field, known.iter().copied());
            self.add(field, format!("`when` asks for `{field}`, which nothing fills here{hint}"));
        }
    }

    fn path(&mut self, at: &str) {
        if let Err(e) = Path::parse(at) {
            self.add(at, e.to_string());
        }
    }

    fn kind(&mut self, word: &str, kind: &Kind, facts: &[&str]) {
        let mut known: Vec<&str> = ITEM_FIELDS.to_vec();
        known.extend(kind.field.keys().map(String::as_str));
        known.extend(kind.entry.iter().flat_map(|e| e.path.fields()));
        known.extend(kind.choice.keys().map(String::as_str));
        known.extend(facts);
        let title = &crate::text::a(&kind.title);
        if kind.fetched_by == FetchedBy::Server {
            if !kind.place.is_empty() {
                self.add("fetched-by", format!("{title} is fetched by the server, so nothing of it is placed"));
            }
        } else {
            if kind.file.is_none() && kind.marks().is_empty() {
                let why = "says nothing by which one is known: give `file`, `holds` or `manifest.inside`";
                self.add(format!("kind.{word}"), format!("{title} {why}"));
            }
            if kind.place.is_empty() && kind.bring.is_none() && kind.refuse.is_none() && kind.players == Players::No {
                self.add(format!("kind.{word}"), format!("{title} is placed nowhere: give `place`"));
            }
        }
        let mut all_taken = false;
        for place in &kind.place {
            let mut here = known.clone();
            here.extend(place.take.fields());
            self.template(&place.to, &here);
            self.when(place.when.as_ref(), &known);
            let to = place.to.as_str();
            self.root(to, to);
            if place.takes_real() && kind.file.is_none() {
                self.add("real", format!("{title} has no `file` pattern, so it has no real file to take"));
            }
            if all_taken {
                let why = format!("the rule for `{}` never takes a file: one before it takes them all", place.take);
                self.add(place.take.as_str(), why);
            }
            all_taken |= place.take.as_str() == "**" && !place.copy && place.when.is_none();
        }
        let manifest = &kind.manifest;
        let paths = [
            &manifest.id,
            &manifest.version,
            &manifest.title,
            &manifest.game,
            &manifest.cores,
            &manifest.runtime,
            &manifest.side,
            &manifest.after,
            &manifest.before,
        ];
        let reads = manifest.inside.is_some() || manifest.beside.is_some();
        for at in paths.into_iter().flatten() {
            self.path(at);
            if !reads {
                self.add(at, format!("`{at}` is read in a manifest, and {title} has none: give `inside`"));
            }
        }
        if reads && manifest.format.is_none() {
            self.add("inside", format!("the manifest of {title} has no `format`"));
        }
        if let Some(beside) = &manifest.beside {
            self.template(beside, &["stem"]);
        }
        for (name, field) in &kind.field {
            let ways = [field.path.is_some(), field.inside.is_some(), field.server.is_some(), field.free.is_some()];
            if ways.iter().filter(|w| **w).count() > 1 || !ways.contains(&true) && field.default.is_none() {
                let why = "comes from one place: give one of `path`, `inside`, `server` and `free`, or a `default`";
                self.add(format!("field.{name}"), format!("the field `{name}` {why}"));
            }
            if field.inside.is_some() && field.format.is_none() {
                self.add(format!("field.{name}"), format!("the field `{name}` has no `format`"));
            }
            for pattern in field.path.iter().chain(&field.server).chain(&field.free) {
                if !pattern.fields().any(|f| f == name) {
                    let why = format!("the pattern `{pattern}` never catches `{name}`: write `{{{name}}}` in it");
                    self.add(pattern.as_str(), why);
                }
            }
            self.path(&field.at);
            if let Some(default) = &field.default {
                self.template(default, &known);
            }
        }
        if let Some(entry) = &kind.entry {
            let own: Vec<&str> = entry.path.fields().collect();
            self.template(&entry.name, &own);
        }
        for (name, choice) in &kind.choice {
            if let Some(why) = choice.refuse(&choice.default) {
                self.add(&choice.default, format!("the default of `{name}` cannot be chosen: it {why}"));
            }
            if facts.contains(&name.as_str()) || ITEM_FIELDS.contains(&name.as_str()) {
                self.add(format!("choice.{name}"), format!("`{name}` is a field already; call the choice otherwise"));
            }
        }
        if let Some(seal) = &kind.seal {
            self.template(&seal.trusted, &["signer"]);
            self.template(&seal.content, &["key", "signer"]);
            self.path(&seal.key);
            self.path(&seal.signatures);
            if !(8..=64).contains(&seal.digits) {
                self.add("digits", "a fingerprint has 8 to 64 digits");
            }
        }
        if let Some(refuse) = &kind.refuse {
            let said = ["id", "version", "title"].into_iter().chain(kind.field.keys().map(String::as_str));
            self.template(refuse, &said.collect::<Vec<_>>());
        }
        self.bundle(kind, title);
        for wiring in &kind.wire {
            self.wiring(wiring, &known);
        }
        for derive in &kind.derive {
            self.template(&derive.file, &known);
            self.template(&derive.entry, &known);
            self.when(derive.when.as_ref(), &known);
            if let Some(digest) = &derive.digest {
                self.template(&digest.at, &known);
                self.template(&digest.value, &["sha256"]);
            }
            for part in &derive.command {
                self.template(part, &["entries", "base", "made"]);
            }
            let is = |format| derive.format == format;
            if is(Container::Records) != derive.layout.is_some() {
                self.add("layout", "`layout` belongs to a derive whose `format` is `records`, and that one needs it");
            }
            if is(Container::Command) == derive.command.is_empty() {
                self.add("command", "`command` belongs to a derive whose `format` is `command`, and that one needs it");
            }
            if is(Container::Command) && derive.digest.is_some() {
                self.add("digest", "only its program knows where a digest stands in what it makes");
            }
        }
    }

    /// What a bundle sends and fetches.
    fn bundle(&mut self, kind: &Kind, title: &str) {
        if let Some(bring) = &kind.bring {
            self.path(&bring.at);
            if kind.manifest.inside.is_none() || kind.manifest.format.is_none() {
                let why = "is read in a manifest: give `manifest.inside` and its `format`";
                self.add(&bring.at, format!("the list `{}` of {title} {why}", bring.at));
            }
            if bring.within.is_empty() {
                self.add("bring", format!("`bring` of {title} names no place under `within`, so all would be refused"));
            }
        }
        let Some(fetch) = &kind.fetch else { return };
        if fetch.within.is_empty() {
            self.add("fetch", format!("`fetch` of {title} names no place under `within`, so all would be refused"));
        }
        match (&fetch.pattern, fetch.format) {
            (Some(pattern), None) => {
                if let Err(e) = regex_lite::Regex::new(pattern) {
                    self.add(pattern, format!("the pattern cannot be read: {}", clean(&e.to_string(), 160)));
                }
                let has = |group: &str| ["(?P<", "(?<"].iter().any(|open| pattern.contains(&format!("{open}{group}>")));
                if let Some(group) = ["link", "sha256", "to"].into_iter().find(|g| !has(g)) {
                    self.add(pattern, format!("this pattern finds no {group}: give it a group `(?P<{group}>…)`"));
                }
            }
            (None, Some(_)) => {
                for at in [&fetch.at, &fetch.link, &fetch.sha256, &fetch.to] {
                    self.path(at);
                }
            }
            _ => self.add("fetch", "what is fetched is found in one way: by a `pattern`, or by `format` and `at`"),
        }
    }

    /// A root that is named must be one of the family's.
    fn root(&mut self, file: &str, word: &str) {
        let Some((root, rest)) = file.split_once(':') else { return };
        if root.contains(['/', '{']) {
            return;
        }
        if root == HAND {
            let names: Vec<&str> = self.rules.hand.iter().map(|h| h.name.as_str()).collect();
            if !names.contains(&rest) {
                let hint = did_you_mean(rest, names.iter().copied());
                self.add(word, format!("no `[[hand]]` is called `{rest}`{hint}"));
            }
        } else if !self.rules.root.contains_key(root) {
            let hint = did_you_mean(root, self.rules.root.keys().map(String::as_str));
            self.add(word, format!("no `[root.{root}]` stands in this file{hint}"));
        }
    }

    fn wiring(&mut self, wiring: &Wiring, known: &[&str]) {
        for template in wiring.templates() {
            self.template(template, known);
        }
        self.when(wiring.when.as_ref(), known);
        let file = wiring.file.as_str();
        self.root(file, file);
        // filled with a plain word, each must be a path
        let plain = |t: &Template| t.fill(|_| Some("x".into()));
        if plain(&wiring.file).is_none_or(|f| server_path(&f).is_err()) {
            self.add(file, format!("`{file}` is no path inside the server's folder"));
        }
        let lines = matches!(wiring.format, Format::Lines | Format::Columns);
        let is_list = wiring.list || wiring.by.is_some() || wiring.between.is_some();
        if matches!(wiring.value, Body::Table(_) | Body::Row(_)) && !is_list && !lines {
            let why = "a row or an object is an element of a list: say `list = true`, or `by` what tells them apart";
            self.add(file, why);
        }
        if wiring.number.is_some() && wiring.by.is_none() {
            self.add("number", "what is numbered must be told apart by something: give `by`");
        }
        if wiring.between.is_some() && !matches!(wiring.value, Body::Text(_)) {
            self.add(file, "a list inside one value takes texts, no rows and no objects");
        }
        let Some(at) = &wiring.at else {
            if !lines {
                let why = "`at` is missing: where in the file the value stands (only a list of lines needs none)";
                self.add(file, why);
            }
            return;
        };
        if lines && !is_list {
            self.add(file, "a list of lines takes no `at`: each item is a line of it");
        }
        match at.fill_path(|_| Some("x".into())).map(|t| Path::parse(&t)) {
            Some(Ok(path)) if path.is_wide() => {
                self.add(at.as_str(), format!("`{}` means many places, and a wiring is one", at.as_str()));
            }
            Some(Err(e)) => self.add(at.as_str(), e.to_string()),
            _ => {}
        }
    }

    fn active(&mut self, facts: &[&str]) {
        if let Some(active) = &self.rules.active {
            for word in &active.kinds {
                let Some(kind) = self.rules.kind.get(word) else {
                    let hint = did_you_mean(word, self.rules.kind.keys().map(String::as_str));
                    self.add(word, format!("no `[kind.{word}]` stands in this file{hint}"));
                    continue;
                };
                let mut known: Vec<&str> = ITEM_FIELDS.to_vec();
                known.extend(kind.field.keys().map(String::as_str));
                known.extend(kind.entry.iter().flat_map(|e| e.path.fields()));
                known.extend(kind.choice.keys().map(String::as_str));
                known.extend(facts);
                self.template(&active.name, &known);
                for wiring in &active.set {
                    self.wiring(wiring, &known);
                }
            }
            self.fact(&active.now, facts);
            if active.set.is_empty() {
                self.add("active", "nothing is set for the map that is played: give `[[active.set]]`");
            }
        }
        if let Some(rotation) = &self.rules.rotation {
            let choices: Vec<&str> =
                self.rules.kind.values().flat_map(|k| k.choice.keys()).map(String::as_str).collect();
            for choice in std::iter::once(&rotation.choice).chain(rotation.turns.iter().map(|(_, c)| c)) {
                if !choices.contains(&choice.as_str()) {
                    let hint = did_you_mean(choice, choices.iter().copied());
                    self.add(choice, format!("no kind has a `choice.{choice}`{hint}"));
                }
            }
        }
    }

    fn fact(&mut self, fact: &str, facts: &[&str]) {
        if !facts.contains(&fact) {
            let hint = did_you_mean(fact, facts.iter().copied());
            self.add(fact, format!("no `[fact.{fact}]` stands in this file{hint}"));
        }
    }

    fn bounds(&mut self, facts: &[&str]) {
        for bound in &self.rules.bound {
            self.path(&bound.at);
            self.root(&bound.file, &bound.file);
            self.when(bound.when.as_ref(), facts);
            if bound.of.is_empty() {
                self.add(&bound.at, format!("the bound of `{}` measures no files: give `of`", bound.at));
            }
            if bound.unit == 0 {
                self.add("unit", "a unit of 0 bytes measures nothing");
            }
        }
        if let Some(terms) = &self.rules.terms {
            self.fact(&terms.wanted, facts);
            self.fact(&terms.accepted, facts);
            self.path(&terms.at);
        }
    }

    /// Paths that cannot be read, ranges that nothing is in, references that name nothing.
    fn settings(&mut self) {
        for setting in &self.rules.setting {
            self.path(&setting.at);
            if let (Some(least), Some(most)) = setting.range()
                && crate::settings::number_order(&least, &most) == Some(Ordering::Greater)
            {
                self.add(&setting.at, format!("no number is {least} or more and {most} or less"));
            }
        }
        for reference in &self.rules.reference {
            self.path(&reference.at);
            let fields: Vec<&str> = reference.to.fields().collect();
            match &reference.key {
                Some(key) if fields.is_empty() => self.path(key),
                Some(_) => self.add(reference.to.as_str(), "with a `key`, `to` is one file, without fields"),
                None if fields == ["value"] => {}
                None => {
                    let why = "a reference's `to` names the file by `{value}`, once, and by nothing else";
                    self.add(reference.to.as_str(), why);
                }
            }
        }
        for live in &self.rules.live {
            let caught: Vec<&str> = live.file.fields().collect();
            self.template(&live.line, &caught);
        }
        for unique in &self.rules.unique {
            self.path(&unique.at);
        }
    }

    fn start(&mut self, facts: &[&str]) {
        if let Some(start) = &self.rules.start {
            if start.command.is_empty() {
                self.add("command", "the start command is empty");
            }
            if !self.rules.log.iter().any(|l| l.means == Meaning::Ready) {
                self.add("start", "no `[[log]]` says when the server is ready, so no start would ever be judged clean");
            }
        }
        for port in &self.rules.running.port {
            self.template(port, facts);
        }
        let mut before: Vec<&str> = Vec::new();
        for rule in &self.rules.log {
            if let Err(e) = regex_lite::Regex::new(&rule.pattern) {
                let why = format!("the pattern cannot be read: {}", clean(&e.to_string(), 160));
                self.add(&rule.pattern, why);
            }
            if before.contains(&rule.pattern.as_str()) {
                self.add(&rule.pattern, "this log rule never counts: the same pattern stands above it");
            }
            let named = rule.pattern.contains("(?P<item>") || rule.pattern.contains("(?<item>");
            if matches!(rule.means, Meaning::Loaded | Meaning::Failed) && !named {
                self.add(&rule.pattern, "this pattern names no item: give it a group `(?P<item>…)`");
            }
            before.push(&rule.pattern);
        }
    }
}
