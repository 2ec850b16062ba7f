//! Ways from one decision to the other: `ways --format json`.

use bexum_core::ways::{Choice, Way as CoreWay};
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::{Map, Value as Json};

use crate::common::{Reason, Verdict, value_json};

/// The whole.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Ways {
    /// The version of this shape.
    pub version: u32,
    /// What the request comes to as things are.
    pub verdict: Verdict,
    /// Which line of the decision table held.
    pub reason: Reason,
    /// What it is to come to.
    pub to: Verdict,
    /// The edits that are supposed, as `edit` takes them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub supposed: Vec<String>,
    /// The ways, best first; not all of them where `count` is more.
    pub ways: Vec<Way>,
    /// How many were found.
    pub count: usize,
    /// Whether all steps and pairs of the sorts that there are were tried.
    pub complete: bool,
}

/// One way.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Way {
    /// What to do, in words.
    pub what: String,
    /// The edits, as `edit` takes them, a line each.
    pub edits: Vec<String>,
    /// What to ask with.
    pub options: Options,
    /// Cells that it turns to allow at the request's moment.
    pub opens: usize,
    /// Cells that it turns from allow.
    pub closes: usize,
    /// How many gain by it.
    pub gaining: Heads,
    /// How many lose by it.
    pub losing: Heads,
    /// The levels of what it opens, from the mildest.
    pub levels: Vec<&'static str>,
    /// Of what it opens, one of the highest level.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gravest: Option<Cell>,
    /// Whether rows were left out of these counts.
    pub limited: bool,
    /// Whether it was not counted to the end, and does more than that.
    pub partial: bool,
    /// Cells that it opens in other circumstances or later; not there where that was not looked at.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub opens_elsewhere: Option<usize>,
    /// Cells that it closes in other circumstances or later.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub closes_elsewhere: Option<usize>,
    /// Expectations that break by it.
    pub breaks: Vec<String>,
    /// Expectations that are mended by it.
    pub mends: Vec<String>,
    /// Findings of `vet` that come and go by it; not there where that was not looked at.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub findings: Option<Findings>,
    /// Whether the one who was named by `--by` may make the edits.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub permitted: Option<bool>,
}

/// Findings that come and go.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Findings {
    /// What is found then, and is not now.
    pub come: Vec<Finding>,
    /// What is found now, and is not then.
    pub go: Vec<Finding>,
}

/// A finding, as an acceptance names it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Finding {
    /// The rule.
    pub rule: String,
    /// What it is about.
    pub about: String,
}

/// How many principals.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Heads {
    /// Users.
    pub people: usize,
    /// Resources that act.
    pub workloads: usize,
}

/// What to ask with besides.
#[derive(Debug, Default, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Options {
    /// Circumstances.
    pub given: Map<String, Json>,
    /// The role to take up instead; `null` for none, not there where it stays.
    #[serde(rename = "as", skip_serializing_if = "Option::is_none")]
    pub take_up: Option<Option<String>>,
}

/// Somebody's action somewhere.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[expect(missing_docs, reason = "the keys of a request")]
pub struct Cell {
    pub who: String,
    #[serde(rename = "as", skip_serializing_if = "Option::is_none")]
    pub take_up: Option<String>,
    #[serde(rename = "where")]
    pub place: String,
    pub action: String,
}

impl Way {
    /// The shape of a way, without what was looked at besides.
    #[must_use]
    pub fn new(way: &CoreWay, what: String) -> Self {
        let mut options = Options::default();
        for choice in &way.step.options {
            match choice {
                Choice::Given(name, value) => {
                    options.given.insert(name.clone(), value_json(value));
                }
                Choice::Role(role) => {
                    options.take_up = Some(role.as_ref().map(|role| format!("role:{role}")));
                }
            }
        }
        let effect = &way.effect;
        Self {
            what,
            edits: way.step.edits.iter().map(ToString::to_string).collect(),
            options,
            opens: effect.opens,
            closes: effect.closes,
            gaining: Heads { people: effect.people[0], workloads: effect.workloads[0] },
            losing: Heads { people: effect.people[1], workloads: effect.workloads[1] },
            levels: effect.levels[0].iter().map(|level| level.word()).collect(),
            gravest: effect.gravest[0].as_ref().map(|cell| Cell {
                who: cell.who.clone(),
                take_up: (!cell.role.is_empty()).then(|| format!("role:{}", cell.role)),
                place: cell.place.clone(),
                action: cell.action.clone(),
            }),
            limited: effect.is_limited,
            partial: effect.is_partial,
            opens_elsewhere: None,
            closes_elsewhere: None,
            breaks: Vec::new(),
            mends: Vec::new(),
            findings: None,
            permitted: None,
        }
    }
}
