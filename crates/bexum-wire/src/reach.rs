//! Effective access: `reach --format json`, a row at a time.

use std::collections::BTreeMap;

use bexum_core::catalogue::ActionSet;
use bexum_core::engine::{Cells as CoreCells, Decider, Engine};
use bexum_core::principal::Principal;
use bexum_core::reach::{
    self, Access as CoreAccess, AccessTarget, Row as CoreRow, TargetSort, Viewpoint,
};
use schemars::JsonSchema;
use serde::Serialize;

use crate::common::subject;

/// The whole; its rows are written as they come.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Reach {
    /// What stands before the rows.
    #[serde(flatten)]
    pub head: Head,
    /// The rows.
    pub rows: Vec<Row>,
}

/// What stands before the rows.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Head {
    /// The version of this shape.
    pub version: u32,
    /// What a row is about.
    pub by: By,
    /// Of `principal`: whose each of the cells of a row are, and in which circumstances.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub viewpoints: Option<Vec<String>>,
}

impl Head {
    /// A head without viewpoints.
    #[must_use]
    pub fn new(by: By) -> Self {
        Self { version: crate::VERSION, by, viewpoints: None }
    }
}

/// What is asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum By {
    /// What principals can do.
    Principal,
    /// Who can do what at a place.
    Place,
    /// Who can do an action, and where.
    Action,
}

/// A place, and what can be done there.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Row {
    /// A path; one that stands for several has stars.
    pub path: String,
    /// What stands there.
    pub sort: Sort,
    /// Those whose access it is; of `principal` they stand in the head.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub principals: Option<Vec<String>>,
    /// What each viewpoint can do there; but for `principal` there is one.
    pub cells: Vec<Access>,
}

/// What stands at a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Sort {
    /// A declared scope.
    Scope,
    /// A user, group or role.
    Identity,
    /// The items of a scope.
    Items,
    /// Items that patterns single out.
    SomeItems,
}

impl From<TargetSort> for Sort {
    fn from(sort: TargetSort) -> Self {
        match sort {
            TargetSort::Scope => Self::Scope,
            TargetSort::Identity => Self::Identity,
            TargetSort::Items => Self::Items,
            TargetSort::Pattern => Self::SomeItems,
        }
    }
}

/// What somebody can do at a place.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Access {
    /// By themselves.
    #[serde(flatten)]
    pub own: Cells,
    /// What roles add that can be taken up.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub by_role: Vec<ByRole>,
    /// What is denied; not said of what was not asked about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub deny: Option<Vec<String>>,
}

/// What is not denied.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Cells {
    /// Actions that are allowed.
    pub allow: Vec<String>,
    /// Actions that hang on what is not given.
    pub depends: Vec<Depends>,
    /// Where each action that is allowed comes from, where that was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sources: Option<BTreeMap<String, Vec<Grant>>>,
}

/// What a role adds.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ByRole {
    /// The role.
    pub role: String,
    /// What it adds.
    #[serde(flatten)]
    pub cells: Cells,
}

/// An action that hangs on what is not given.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Depends {
    /// The action.
    pub action: String,
    /// The attributes that it hangs on.
    pub needs: Vec<String>,
    /// The conditions that ask about them.
    pub conditions: Vec<String>,
}

/// A statement that grants something.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Grant {
    /// Its policy and its name or number.
    pub statement: String,
    /// Whom its attachment names.
    pub to: String,
    /// Where it is attached.
    pub at: String,
}

/// Makes rows.
pub struct Rows<'e> {
    engine: &'e Engine,
    decider: Decider<'e>,
    sources: bool,
    wanted: Option<&'e ActionSet>,
}

impl<'e> Rows<'e> {
    /// Of an estate; with the sources of what is allowed; of some actions alone.
    #[must_use]
    pub fn new(engine: &'e Engine, sources: bool, wanted: Option<&'e ActionSet>) -> Self {
        Self { engine, decider: Decider::new(engine), sources, wanted }
    }

    /// What each of some principals can do at a place.
    pub fn of_principals<'v>(
        &mut self,
        viewpoints: impl Iterator<Item = &'v Viewpoint>,
        row: &CoreRow,
    ) -> Row {
        let cells = viewpoints.zip(&*row.access);
        let cells = cells.map(|(viewpoint, access)| self.access(viewpoint, &row.target, access));
        let cells = cells.collect();
        Row {
            path: row.target.shown.clone(),
            sort: row.target.sort.into(),
            principals: None,
            cells,
        }
    }

    /// What people with the same access can do at a place.
    pub fn of_place(
        &mut self,
        anybody: &Viewpoint,
        target: &AccessTarget,
        (access, who): &(CoreAccess, Vec<Principal>),
    ) -> Row {
        let cells = vec![self.access(&anybody.seen_by(who[0]), target, access)];
        self.row(target, who, cells)
    }

    /// What somebody can do at a place of the actions that were asked about.
    pub fn of_action(&mut self, anybody: &Viewpoint, who: Principal, row: &CoreRow) -> Row {
        // What was not asked about is not denied, so nothing is said of that.
        let told = self.allowed(&anybody.seen_by(who), &row.target, &row.access[0]);
        self.row(&row.target, &[who], vec![told])
    }

    fn row(&self, target: &AccessTarget, who: &[Principal], cells: Vec<Access>) -> Row {
        let names = who.iter().map(|who| self.engine.estate().principal_id(*who)).collect();
        Row { path: target.shown.clone(), sort: target.sort.into(), principals: Some(names), cells }
    }

    fn access(
        &mut self,
        viewpoint: &Viewpoint,
        target: &AccessTarget,
        access: &CoreAccess,
    ) -> Access {
        let estate = self.engine.estate();
        let mut told = self.allowed(viewpoint, target, access);
        let own = &access.own;
        let denied = |i: &usize| {
            let is_wanted = self.wanted.is_none_or(|wanted| wanted.contains(*i));
            is_wanted && !own.allow.contains(*i) && !own.depends.contains(*i)
        };
        let denied = target.applicable(estate).ones().filter(denied);
        told.deny = Some(denied.map(|i| estate.catalogue.actions[i].name.to_string()).collect());
        told
    }

    /// What is not denied, by itself and by each role.
    fn allowed(
        &mut self,
        viewpoint: &Viewpoint,
        target: &AccessTarget,
        access: &CoreAccess,
    ) -> Access {
        let own = self.cells(viewpoint, target, &access.own);
        let by_role = access.by_role.iter().map(|(role, cells)| ByRole {
            cells: self.cells(&viewpoint.acting(Some(*role)), target, cells),
            role: self.engine.estate().principal_id(Principal::Role(*role)),
        });
        let by_role = by_role.collect();
        Access { own, by_role, deny: None }
    }

    /// What is not denied, in one session.
    fn cells(&mut self, session: &Viewpoint, target: &AccessTarget, cells: &CoreCells) -> Cells {
        let estate = self.engine.estate();
        let name = |i: usize| estate.catalogue.actions[i].name.to_string();
        let query = |i| session.query(target, estate.catalogue.action_at(i));
        let doubts = reach::doubts(&mut self.decider, session, target, &cells.depends);
        let depends = doubts.into_iter().map(|(doubt, action)| Depends {
            action: name(action.index()),
            needs: doubt.attributes,
            conditions: doubt.conditions,
        });
        let depends = depends.collect();
        let sources = self.sources.then(|| {
            let mut grants = |i| {
                let grants = reach::sources(&mut self.decider, &query(i));
                grants.into_iter().map(|grant| Grant {
                    statement: estate.statement_label(grant.statement),
                    to: subject(estate, grant.subject),
                    at: estate.scope(grant.scope).path.to_string(),
                })
            };
            cells.allow.ones().map(|i| (name(i), grants(i).collect())).collect()
        });
        Cells { allow: cells.allow.ones().map(name).collect(), depends, sources }
    }
}
