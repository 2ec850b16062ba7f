//! What a change does: `impact --format json`.

use bexum_core::Time;
use bexum_core::impact::{
    Cell as CoreCell, Changes, OpenedCell, Outcome as CoreOutcome, RolesChanged,
};
use schemars::JsonSchema;
use serde::Serialize;

/// The whole.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Impact {
    /// The version of this shape.
    pub version: u32,
    /// The estate before, as it was named.
    pub before: String,
    /// The estate after, as it was named.
    pub after: String,
    /// How many cells rose or are opened.
    pub gained: usize,
    /// How many cells fell or are closed.
    pub lost: usize,
    /// Of how many cells it is not decided if they are opened or closed: they count as both.
    pub not_decided: usize,
    /// Where nothing is gained in `cells`, or nothing lost: something that is, all the same, later, or
    /// for items that have no cell of their own.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unlisted: Option<Unlisted>,
    /// Whether that is not decided for all items: patterns tell apart more of them than have cells.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub not_told_apart: bool,
    /// The things that are new, gone or otherwise, by name.
    pub differences: Vec<Difference>,
    /// Every one of them, in the order of its fields.
    pub cells: Vec<Cell>,
    /// What the change does in other circumstances.
    pub beside: Vec<Beside>,
    /// What comes to something else at later moments, at which something that was changed begins
    /// or ends: each against the one before.
    pub later: Vec<Later>,
    /// Who can take up which roles, newly or no longer.
    pub roles: Vec<Roles>,
    /// Checks, laws and separations that come to something else.
    pub expectations: Vec<Expectation>,
    /// What is decided otherwise of a log, if one was given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub log: Option<Log>,
    /// Whether somebody may make the change, if that was asked.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by: Option<By>,
}

/// Which way something turns.
#[derive(Clone, Copy, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Turn {
    /// It is opened.
    Gained,
    /// It is closed.
    Lost,
}

/// Something that is opened or closed and is none of the cells.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Unlisted {
    /// Who: `user:ines`, `resource:veyra/core`, or a role by itself.
    pub who: String,
    /// The role that is taken up: `role:dish-keeper`.
    #[serde(rename = "as", skip_serializing_if = "Option::is_none")]
    pub take_up: Option<String>,
    /// The path, or the pattern of items.
    #[serde(rename = "where")]
    pub place: String,
    /// The action.
    pub action: String,
    /// Which way.
    pub turn: Turn,
    /// Whether that is found out; else it could not be ruled out.
    pub decided: bool,
}

impl Unlisted {
    /// A cell that turns this way.
    #[must_use]
    pub fn of(cell: &OpenedCell, turn: Turn) -> Self {
        Self {
            turn,
            who: cell.who.clone(),
            take_up: (!cell.role.is_empty()).then(|| format!("role:{}", cell.role)),
            place: cell.place.clone(),
            action: cell.action.clone(),
            decided: cell.is_decided,
        }
    }
}

/// What a change does in other circumstances.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Beside {
    /// The circumstances, as options.
    pub options: String,
    /// The cells that differ in these.
    pub cells: Vec<Cell>,
}

impl Beside {
    /// The shape.
    #[must_use]
    pub fn new(options: &str, changes: &Changes) -> Self {
        Self { options: options.to_owned(), cells: Cell::all(changes) }
    }
}

/// What comes to something else at a later moment.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Later {
    /// The moment: `2027-01-01T00:00:00Z`.
    pub from: String,
    /// The cells that differ then, and did not, or not so, at the moment before.
    pub cells: Vec<Cell>,
    /// How many cells that differed before do so no more.
    pub over: usize,
}

impl Later {
    /// The shape.
    #[must_use]
    pub fn new(from: Time, changes: &Changes, over: usize) -> Self {
        Self { from: from.to_string(), cells: Cell::all(changes), over }
    }
}

/// Roles that somebody can take up newly, or no longer.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Roles {
    /// `user:ines`.
    pub who: String,
    /// As `role:keeper`.
    pub newly: Vec<String>,
    /// As `role:keeper`.
    pub no_longer: Vec<String>,
}

impl Roles {
    /// The shape.
    #[must_use]
    pub fn of(who: &str, changed: &RolesChanged) -> Self {
        let named = |roles: &[String]| roles.iter().map(|role| format!("role:{role}")).collect();
        let (newly, no_longer) = (named(&changed.newly), named(&changed.no_longer));
        Self { who: who.to_owned(), newly, no_longer }
    }
}

/// An expectation that comes to something else.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Expectation {
    /// Its table and name: `never 'no keys for guests'`.
    pub what: String,
    /// `held`, `broken` or `not decided`; not there of what is new.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub before: Option<String>,
    /// The same; not there of what is gone.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub after: Option<String>,
    /// Whether it breaks by the change.
    pub is_broken: bool,
    /// Where it stands.
    pub written: String,
}

/// Requests of a log that are decided otherwise.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Log {
    /// How many lines there are, blank ones left out.
    pub requests: usize,
    /// How many of these are no request in either estate.
    pub errors: usize,
    /// How many are allowed by one estate and denied by the other.
    pub otherwise: usize,
    /// Those that share both verdicts, the action and the nearest scope, most first.
    pub groups: Vec<LogGroup>,
}

/// Requests of a log that are told together.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct LogGroup {
    /// `allow` or `deny`.
    pub before: String,
    /// The same, after.
    pub after: String,
    /// The action.
    pub action: String,
    /// The nearest scope.
    pub at: String,
    /// How many.
    pub count: usize,
    /// The file in which the first of them stands.
    pub file: String,
    /// Its line, from 1.
    pub line: u64,
    /// The command that asks it of the estate after; not there where that is a revision.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub command: Option<String>,
}

/// Whether somebody may make the change.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct By {
    /// `user:tomas`.
    pub who: String,
    /// The role taken up, as `role:keeper`.
    #[serde(rename = "as", skip_serializing_if = "Option::is_none")]
    pub take_up: Option<String>,
    /// Whether they may.
    pub is_allowed: bool,
    /// Each thing that the change touches.
    pub touches: Vec<Touch>,
    /// What it does beyond what they can do, in sentences.
    pub beyond: Vec<String>,
}

/// Something that a change touches, and whether somebody may.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Touch {
    /// `user:ines`, a scope's path; of attachments and ceilings, what they tie.
    pub thing: String,
    /// The keys that differ; none of a thing that is new or gone.
    pub keys: Vec<String>,
    /// The key of the edit rights; not there of what only the files' owner changes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
    /// The path that it was asked on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub on: Option<String>,
    /// The action that was asked about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub action: Option<String>,
    /// Whether they may.
    pub is_allowed: bool,
    /// Why, in a sentence.
    pub why: String,
}

/// A thing that is new, gone or otherwise.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Difference {
    /// `user:ines`, a scope's path; of attachments and ceilings, what they tie.
    pub thing: String,
    /// The keys that differ; none of a thing that is new or gone.
    pub keys: Vec<String>,
    /// Where it stands before, as `people/users.toml:14`; not there of what is new.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub before: Option<String>,
    /// Where it stands after; not there of what is gone.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub after: Option<String>,
}

/// A cell that comes to something else, or may in circumstances that are not given.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Cell {
    /// `user:ines`, `resource:veyra/core`, or a role by itself.
    pub who: String,
    /// The role taken up, as `role:keeper`.
    #[serde(rename = "as", skip_serializing_if = "Option::is_none")]
    pub take_up: Option<String>,
    /// A path; one that stands for several has stars.
    #[serde(rename = "where")]
    pub place: String,
    /// The action.
    pub action: String,
    /// What it came to.
    pub before: Outcome,
    /// What it comes to.
    pub after: Outcome,
    /// Whether it rose, or something opens it.
    pub is_gained: bool,
    /// Whether it fell, or something closes it.
    pub is_lost: bool,
    /// Whether it could be found out if it is opened or closed.
    pub is_decided: bool,
    /// Of a cell that rose: another session of theirs to which it was allowed before, as
    /// `role:keeper`; nothing in it where no role was taken up.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub held_as: Option<String>,
}

/// What a cell comes to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// Denied for certain.
    Deny,
    /// Denied, but allowed if all that is undecided came out in favour.
    Depends,
    /// Allowed for certain.
    Allow,
}

impl From<CoreOutcome> for Outcome {
    fn from(outcome: CoreOutcome) -> Self {
        match outcome {
            CoreOutcome::Deny => Self::Deny,
            CoreOutcome::Depends => Self::Depends,
            CoreOutcome::Allow => Self::Allow,
        }
    }
}

impl Impact {
    /// The shape of what was found between two estates of these names.
    #[must_use]
    pub fn new(
        before: String,
        after: String,
        differences: Vec<Difference>,
        changes: &Changes,
    ) -> Self {
        Self {
            version: crate::VERSION,
            before,
            after,
            gained: changes.count(|change| change.is_gained),
            lost: changes.count(|change| change.is_lost),
            not_decided: changes.count(|change| !change.is_decided),
            unlisted: None,
            not_told_apart: false,
            differences,
            cells: Cell::all(changes),
            beside: Vec::new(),
            later: Vec::new(),
            roles: Vec::new(),
            expectations: Vec::new(),
            log: None,
            by: None,
        }
    }
}

impl Cell {
    fn all(changes: &Changes) -> Vec<Self> {
        changes.cells().map(|cell| Self::of(&cell)).collect()
    }

    fn of(cell: &CoreCell) -> Self {
        Self {
            who: cell.who.clone(),
            take_up: (!cell.role.is_empty()).then(|| format!("role:{}", cell.role)),
            place: cell.place.clone(),
            action: cell.action.clone(),
            before: cell.before.into(),
            after: cell.after.into(),
            is_gained: cell.is_gained,
            is_lost: cell.is_lost,
            is_decided: cell.is_decided,
            held_as: cell.held_as.as_ref().map(|role| match role.is_empty() {
                true => String::new(),
                false => format!("role:{role}"),
            }),
        }
    }
}
