//! Effective access as CSV (RFC 4180): a row for each cell that is not denied, by the bytes of who,
//! role, place and action, written as it comes.

use std::io::{self, IsTerminal as _};

use anyhow::bail;
use bexum_core::catalogue::ActionSet;
use bexum_core::engine::{Cells, Decider, Engine};
use bexum_core::id::ScopeId;
use bexum_core::principal::Principal;
use bexum_core::reach::{self, AccessTarget, Actors, Viewpoint};

use super::grid_builder::{Column, action_id, routes, told_apart};
use super::style::safe;
use crate::exit::Exit;

/// What the rows are about.
pub(crate) struct Asked<'e> {
    pub(crate) engine: &'e Engine,
    /// Only these actions.
    pub(crate) wanted: ActionSet,
    /// Only here and below.
    pub(crate) below: Option<ScopeId>,
    /// Whether the roles count that somebody can take up.
    pub(crate) with_roles: bool,
    /// Whether a row says where an action comes from, or what it depends on.
    pub(crate) sources: bool,
}

impl<'e> Asked<'e> {
    /// What each column's principal can do.
    pub(crate) fn by_principal(&self, columns: &[Column]) -> anyhow::Result<Exit> {
        let mut columns: Vec<&Column> = columns.iter().collect();
        columns.sort_by(|a, b| a.short.cmp(&b.short));
        let people =
            columns.into_iter().map(|column| (column.short.clone(), column.viewpoint.clone()));
        self.write(people, None)
    }

    /// Who can do what at some targets.
    pub(crate) fn by_place(
        &self,
        anybody: &Viewpoint,
        targets: &[AccessTarget],
    ) -> anyhow::Result<Exit> {
        self.write(self.everybody(anybody), Some(targets))
    }

    /// Who can do it, and where.
    pub(crate) fn by_action(&self, anybody: &Viewpoint) -> anyhow::Result<Exit> {
        self.write(self.everybody(anybody), None)
    }

    /// Everybody who has sessions (spec section 8), by the bytes of their names.
    fn everybody(&self, anybody: &Viewpoint) -> impl Iterator<Item = (String, Viewpoint)> {
        let estate = self.engine.estate();
        let all = estate.principals().filter(|who| match who {
            Principal::User(_) | Principal::Workload(_) => true,
            Principal::Role(_) => self.with_roles && anybody.take_up.is_none(),
            Principal::Group(_) => false,
        });
        let mut all: Vec<Principal> = all.collect();
        // By type, then by name: what stands before the colon is no prefix of another.
        let key = |who: &Principal| (estate.principal_id(*who), *who);
        all.sort_by_cached_key(key);
        all.into_iter().map(|who| (estate.principal_id(who), anybody.seen_by(who)))
    }

    fn write(
        &self,
        people: impl Iterator<Item = (String, Viewpoint)>,
        targets: Option<&[AccessTarget]>,
    ) -> anyhow::Result<Exit> {
        let mut csv = csv::Writer::from_writer(io::stdout().lock());
        let mut head = vec!["who", "as", "where", "action", "outcome"];
        head.extend(self.sources.then_some("source"));
        csv.write_record(head).map_err(as_io)?;
        let exit = self.each(people, targets, |record| {
            csv.write_record(record).map_err(as_io).map_err(Into::into)
        });
        csv.flush()?;
        exit
    }

    /// Everything that everybody can do, or only some, a row each: who, the role taken up, where, the action, the outcome.
    pub(crate) fn rows(
        &self,
        anybody: &Viewpoint,
        only: &[String],
        row: impl FnMut(&[&str]) -> anyhow::Result<()>,
    ) -> anyhow::Result<Exit> {
        let is_asked = |who: &String| only.is_empty() || only.contains(who);
        let people = self.everybody(anybody).filter(|(who, _)| is_asked(who));
        self.each(people, None, row)
    }

    /// A row for each cell at these targets, or everywhere.
    fn each(
        &self,
        people: impl Iterator<Item = (String, Viewpoint)>,
        targets: Option<&[AccessTarget]>,
        mut row: impl FnMut(&[&str]) -> anyhow::Result<()>,
    ) -> anyhow::Result<Exit> {
        let estate = self.engine.estate();
        let mut actors = Actors::new(self.engine, self.wanted.clone(), self.below);
        let mut decider = Decider::new(self.engine);
        // A terminal is not steered; a file has the bytes.
        let is_terminal = io::stdout().is_terminal();
        for (name, viewpoint) in people {
            let sessions = match self.with_roles {
                true => actors.sessions(&viewpoint),
                false => vec![viewpoint],
            };
            for session in sessions {
                let role = session.take_up.map(|role| estate.principal_id(Principal::Role(role)));
                let role = role.unwrap_or_default();
                let mut told = |target: AccessTarget, cells: Cells| {
                    let at = (&target, &cells);
                    self.cells(&mut decider, (&name, &role), &session, at, is_terminal, &mut row)
                };
                match targets {
                    None => actors.each_cell(&session, told)?,
                    Some(targets) => {
                        for (target, cells) in actors.cells_on(&session, targets.iter().cloned()) {
                            told(target, cells)?;
                        }
                    }
                }
            }
        }
        match told_apart(estate, &actors.limited) {
            None => Ok(Exit::Done),
            Some(limited) => bail!("rows are left out: {limited}"),
        }
    }

    /// The rows of one session at one target, by the names of the actions.
    fn cells(
        &self,
        decider: &mut Decider<'_>,
        (who, role): (&str, &str),
        session: &Viewpoint,
        (target, cells): (&AccessTarget, &Cells),
        is_terminal: bool,
        row: &mut impl FnMut(&[&str]) -> anyhow::Result<()>,
    ) -> anyhow::Result<()> {
        let shown = |text: &str| if is_terminal { safe(text) } else { text.to_owned() };
        let actions = &self.engine.estate().catalogue.actions;
        let place = shown(&target.shown);
        let allow = cells.allow.ones().map(|i| (i, "allow"));
        let mut told: Vec<(usize, &str)> =
            allow.chain(cells.depends.ones().map(|i| (i, "depends"))).collect();
        told.sort_by_key(|(i, _)| &actions[*i].name);
        for (i, outcome) in told {
            let action = &*actions[i].name;
            let mut record = vec![who, role, &place, action, outcome];
            let source =
                self.sources.then(|| shown(&self.source(decider, session, target, i, outcome)));
            record.extend(source.as_deref());
            row(&record)?;
        }
        Ok(())
    }

    fn source(
        &self,
        decider: &mut Decider<'_>,
        session: &Viewpoint,
        target: &AccessTarget,
        action: usize,
        outcome: &str,
    ) -> String {
        let query = session.query(target, action_id(self.engine.estate(), action));
        if outcome == "allow" {
            return routes(decider, &query).join("; ");
        }
        let doubt = reach::doubt(decider, &query);
        doubt.attributes.into_iter().chain(doubt.conditions).collect::<Vec<_>>().join("; ")
    }
}

/// A closed pipe is told by the error beneath.
pub(super) fn as_io(error: csv::Error) -> io::Error {
    let told = error.to_string();
    match error.into_kind() {
        csv::ErrorKind::Io(error) => error,
        _ => io::Error::other(told),
    }
}
