//! The solver at work: its questions are answered, problems like its own are tried, and changes that help are found.

use std::collections::BTreeMap;

use yalotheca_core::facts::ServerFacts;
use yalotheca_core::family::Role;
use yalotheca_core::id::ItemId;
use yalotheca_core::ledger::{Held, Ledger};
use yalotheca_core::roster::Want;
use yalotheca_core::solve::{Answer, Help, Helped, MOST_HELPS, OtherCore, Problem, Reasons, Solver, Step, Wanted};

use super::Sources;
use super::own::own_item;
use crate::Error;
use crate::server::Server;
use crate::settle::Options;

/// The solver, and what its questions are answered from.
pub(crate) struct Asking<'a> {
    pub(super) sources: Sources<'a>,
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
    pub(super) fn answered(&mut self) -> Result<Step, Error> {
        self.sources.server.around.go_on()?;
        let step = self.solver.step();
        if matches!(step, Step::TooHard) {
            return Err(Error::Tangled);
        }
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
                Step::Need(_) | Step::TooHard => {}
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
    pub(super) fn helps(&mut self, reasons: &Reasons) -> Vec<Helped> {
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
