//! What a log used: `usage --save`, and `usage --format json`.

use std::collections::BTreeMap;

use bexum_core::usage::{By, Count as CoreCount, Element, InList, Thing as CoreThing, Usage};
use bexum_core::{Estate, Reason, Time, principal};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The first bytes of every summary: by them it is told from a log.
pub const SUMMARY_MARK: &str = "{\"usage-summary\":";

/// Something that a request can use, by its name.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "by", deny_unknown_fields)]
pub enum Thing {
    /// Who asked.
    Who {
        /// `user:ines`.
        name: String,
    },
    /// A group.
    Group {
        /// `group:imaging`.
        name: String,
    },
    /// A role.
    Role {
        /// `role:reader`.
        name: String,
    },
    /// A policy.
    Policy {
        /// `policy:curator`.
        name: String,
    },
    /// A statement.
    Statement {
        /// The policy's name.
        policy: String,
        /// The statement's name, or `allow 1`.
        name: String,
    },
    /// A policy attached.
    Attachment {
        /// The policy's name.
        policy: String,
        /// `group:imaging`, `everyone`.
        to: String,
        /// The scope.
        at: String,
    },
    /// A place in a list.
    Membership {
        /// Who stands there.
        who: String,
        /// Of what: `group:imaging`, `role:reader`.
        of: String,
        /// The list: `members`, `held-by` or `taken-by`.
        list: String,
        /// From when on.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        from: Option<String>,
        /// Until when.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        until: Option<String>,
    },
    /// An action.
    Action {
        /// `recording.read`.
        name: String,
    },
    /// A scope.
    Scope {
        /// Its path.
        name: String,
    },
}

impl Thing {
    /// By its name in this estate.
    #[must_use]
    pub fn of(thing: &CoreThing, estate: &Estate) -> Self {
        let principal = |who| estate.principal_id(who);
        match *thing {
            CoreThing::Who(who) => Self::Who { name: principal(who) },
            CoreThing::Group(id) => {
                Self::Group { name: principal(principal::Principal::Group(id)) }
            }
            CoreThing::Role(id) => Self::Role { name: principal(principal::Principal::Role(id)) },
            CoreThing::Policy(id) => {
                Self::Policy { name: format!("policy:{}", estate.policy(id).name) }
            }
            CoreThing::Statement(id) => {
                let statement = estate.statement(id);
                let name = match &statement.name {
                    Some(name) => name.to_string(),
                    None => format!("{} {}", statement.effect, statement.place),
                };
                Self::Statement { policy: estate.policy(statement.policy).name.to_string(), name }
            }
            CoreThing::Attachment(policy, to, at) => Self::Attachment {
                policy: estate.policy(policy).name.to_string(),
                to: match to {
                    principal::Subject::Everyone => "everyone".to_owned(),
                    principal::Subject::One(who) => principal(who),
                },
                at: estate.scope(at).path.to_string(),
            },
            CoreThing::Membership(Element { list, who, window }) => {
                let (of, list) = match list {
                    InList::Members(id) => (principal::Principal::Group(id), "members"),
                    InList::HeldBy(id) => (principal::Principal::Role(id), "held-by"),
                    InList::TakenBy(id) => (principal::Principal::Role(id), "taken-by"),
                };
                let text = |time: Option<Time>| time.map(|time| time.to_string());
                Self::Membership {
                    who: principal(who),
                    of: principal(of),
                    list: list.to_owned(),
                    from: text(window.from),
                    until: text(window.until),
                }
            }
            CoreThing::Action(id) => {
                Self::Action { name: estate.catalogue.action(id).name.to_string() }
            }
            CoreThing::Scope(id) => Self::Scope { name: estate.scope(id).path.to_string() },
        }
    }

    /// By what it is told.
    #[must_use]
    pub fn by(&self) -> By {
        match self {
            Self::Who { .. } => By::Who,
            Self::Group { .. } => By::Group,
            Self::Role { .. } => By::Role,
            Self::Policy { .. } => By::Policy,
            Self::Statement { .. } => By::Statement,
            Self::Attachment { .. } => By::Attachment,
            Self::Membership { .. } => By::Membership,
            Self::Action { .. } => By::Action,
            Self::Scope { .. } => By::Scope,
        }
    }

    /// In words: `policy:curator to group:imaging at veyra/survey`.
    #[must_use]
    pub fn words(&self) -> String {
        match self {
            Self::Who { name }
            | Self::Group { name }
            | Self::Role { name }
            | Self::Policy { name }
            | Self::Action { name }
            | Self::Scope { name } => name.clone(),
            Self::Statement { policy, name } => format!("policy:{policy} '{name}'"),
            Self::Attachment { policy, to, at } => format!("policy:{policy} to {to} at {at}"),
            Self::Membership { who, of, list, from, until } => {
                let how = match list.as_str() {
                    "held-by" => "holds",
                    "taken-by" => "may take up",
                    _ => "in",
                };
                let mut words = format!("{who} {how} {of}");
                for (word, time) in [("from", from), ("until", until)] {
                    if let Some(time) = time {
                        let time = time.strip_suffix("T00:00:00Z").unwrap_or(time);
                        words.push_str(&format!(" {word} {time}"));
                    }
                }
                words
            }
        }
    }
}

/// How often something was used.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Used {
    /// What.
    pub thing: Thing,
    /// How many requests used it.
    pub times: u64,
    /// When the first did.
    pub first: String,
    /// When the last did.
    pub last: String,
}

/// Requests that were decided otherwise then.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Otherwise {
    /// The verdict that the log has.
    pub recorded: String,
    /// The verdict of this estate, at the request's own time.
    pub now: String,
    /// What was asked for.
    pub action: String,
    /// The nearest scope.
    pub at: String,
    /// How many such requests there are.
    pub count: u64,
    /// The file in which the first of them stands.
    pub file: String,
    /// Its line.
    pub line: u64,
    /// The command that asks it.
    pub command: String,
}

/// A line that is no request of the estate.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct BadLine {
    /// The file in which it stands.
    pub file: String,
    /// Its number.
    pub line: u64,
    /// Why it is none.
    pub why: String,
}

/// Requests of one day, in UTC.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Day {
    /// How many were allowed.
    pub allowed: u64,
    /// How many were refused.
    pub refused: u64,
}

/// What a log used, by names: summaries add up.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Summary {
    /// The version of this shape.
    pub usage_summary: u32,
    /// Requests by what they come to today.
    pub reasons: BTreeMap<String, u64>,
    /// Lines that are no request of this estate.
    pub errors: u64,
    /// The first of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first_error: Option<BadLine>,
    /// Requests by their day.
    pub days: BTreeMap<String, Day>,
    /// What allowed requests used.
    pub used: Vec<Used>,
    /// Who was refused, what, and where.
    pub refused: Vec<Used>,
    /// Requests that were decided otherwise then.
    pub otherwise: Vec<Otherwise>,
}

/// Counts by thing.
pub type Counts = BTreeMap<Thing, CoreCount>;

impl Summary {
    /// Of what was counted in this estate.
    #[must_use]
    pub fn of(usage: &Usage, estate: &Estate) -> Self {
        let counts = |all: &rustc_hash::FxHashMap<CoreThing, CoreCount>| {
            list(all.iter().map(|(thing, count)| (Thing::of(thing, estate), *count)).collect())
        };
        let reasons = Reason::ALL.into_iter().zip(usage.reasons);
        Self {
            usage_summary: crate::VERSION,
            reasons: reasons.map(|(reason, n)| (reason.to_string(), n)).collect(),
            used: counts(&usage.used),
            refused: counts(&usage.refused),
            ..Self::default()
        }
    }

    /// How many requests came to a reason.
    #[must_use]
    pub fn reason(&self, reason: Reason) -> u64 {
        self.reasons.get(reason.word()).copied().unwrap_or_default()
    }

    /// How many requests there were.
    #[must_use]
    pub fn requests(&self) -> u64 {
        self.reasons.values().sum()
    }

    /// With another part of the log.
    ///
    /// # Errors
    /// What stands there as a moment and is none.
    pub fn add(&mut self, more: Self) -> Result<(), String> {
        for (reason, n) in more.reasons {
            *self.reasons.entry(reason).or_default() += n;
        }
        self.errors += more.errors;
        self.first_error = self.first_error.take().or(more.first_error);
        for (day, more) in more.days {
            let sum = self.days.entry(day).or_default();
            sum.allowed += more.allowed;
            sum.refused += more.refused;
        }
        for (all, more) in [(&mut self.used, more.used), (&mut self.refused, more.refused)] {
            let mut sum = counts(all)?;
            for (thing, count) in counts(&more)? {
                sum.entry(thing).or_default().add(count);
            }
            *all = list(sum);
        }
        for more in more.otherwise {
            let same = |one: &&mut Otherwise| {
                (&one.recorded, &one.now, &one.action, &one.at)
                    == (&more.recorded, &more.now, &more.action, &more.at)
            };
            match self.otherwise.iter_mut().find(same) {
                Some(one) => one.count += more.count,
                None => self.otherwise.push(more),
            }
        }
        self.otherwise.sort_by(|a, b| {
            let key = |one: &Otherwise| (one.action.clone(), one.at.clone(), one.recorded.clone());
            b.count.cmp(&a.count).then_with(|| key(a).cmp(&key(b)))
        });
        Ok(())
    }
}

/// Counts by thing.
///
/// # Errors
/// What stands there as a moment and is none.
pub fn counts(all: &[Used]) -> Result<Counts, String> {
    let mut found = Counts::new();
    for one in all {
        let time = |text: &str| Time::parse(text).ok_or_else(|| format!("`{text}` is no time"));
        let (first, last) = (time(&one.first)?, time(&one.last)?);
        let count = CoreCount { times: one.times, first, last };
        found.entry(one.thing.clone()).or_default().add(count);
    }
    Ok(found)
}

fn list(all: Counts) -> Vec<Used> {
    let used = |(thing, count): (Thing, CoreCount)| Used {
        thing,
        times: count.times,
        first: count.first.to_string(),
        last: count.last.to_string(),
    };
    all.into_iter().map(used).collect()
}

/// Whether something is in use.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum State {
    /// Since the moment that `--idle` says.
    Used,
    /// Before it, and not since.
    Idle,
    /// Never.
    Never,
}

impl State {
    /// The word.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["used", "idle", "never"][self as usize]
    }
}

/// One thing of a report.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Row {
    /// What.
    pub thing: Thing,
    /// Whether it is in use.
    pub state: State,
    /// How many requests used it.
    pub times: u64,
    /// How many were refused, of who asked, an action or a scope.
    pub refused: u64,
    /// When the first request used it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first: Option<String>,
    /// When the last did.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub last: Option<String>,
    /// Whether the estate has it still.
    pub is_there: bool,
}

/// The report.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Report {
    /// The version of this shape.
    pub version: u32,
    /// What was not used since then is idle.
    pub idle_since: String,
    /// How many requests came to each reason.
    pub reasons: BTreeMap<String, u64>,
    /// Lines that are no request of this estate.
    pub errors: u64,
    /// The first of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first_error: Option<BadLine>,
    /// Requests by their day.
    pub days: BTreeMap<String, Day>,
    /// What was asked for, most used first, then what is idle, then what was never used.
    pub rows: Vec<Row>,
    /// Requests that were decided otherwise then.
    pub otherwise: Vec<Otherwise>,
}
