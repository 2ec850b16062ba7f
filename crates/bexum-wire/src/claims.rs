//! What applications learn of people: `claims --format json`.

use bexum_core::application::{Application, Claims as CoreClaims, Entry, Hidden, Refusal, Sight};
use bexum_core::id::{GroupId, UserId};
use bexum_core::{Estate, Principal, Time};
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::{Map, Value as Json, json};

/// What an application learns of one person.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Claims {
    /// The version of this shape.
    pub version: u32,
    /// The person.
    pub who: String,
    /// The application.
    pub application: String,
    /// The moment.
    pub at: String,
    /// Whether they may sign in, and through what or why not.
    pub sign_in: SignIn,
    /// Every group that they are in, or would be if no window were shut; with `--group`, that one.
    pub groups: Vec<Group>,
    /// The claims; `null` where there is no token.
    pub claims: Option<Map<String, Json>>,
    /// Whether the claims are signed: never, since that is done elsewhere.
    pub signed: bool,
}

/// Whether somebody may sign in.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct SignIn {
    /// Whether they may.
    pub may: bool,
    /// `everyone`, `named`, `group`; or `disabled`, `not-open`, `too-many`.
    pub why: &'static str,
    /// The group through which they may.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub group: Option<String>,
    /// The group of theirs that is in it, where they are not themselves.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub through: Option<String>,
    /// Groups of the application's list that they are nearly in.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub nearly: Vec<Group>,
}

/// A group, and whether the application gets to see it.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Group {
    /// The group.
    pub group: String,
    /// Whether it is seen.
    pub seen: bool,
    /// Why not: `not-in`, `shut`, `only-through`, `no-groups`, `not-listed`, `name`, `cut`,
    /// `left-out`, `refused`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub why: Option<&'static str>,
    /// The group through which alone they are in it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub through: Option<String>,
    /// The place that does not count at the moment.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub place: Option<Place>,
}

/// A place in the members of a group, for a time.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Place {
    /// Who stands there.
    pub who: String,
    /// In which group.
    pub of: String,
    /// Since when it counts.
    pub from: Option<String>,
    /// Until when it does.
    pub until: Option<String>,
}

/// What an application learns of everybody.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct All {
    /// The version of this shape.
    pub version: u32,
    /// The application.
    pub application: String,
    /// The moment.
    pub at: String,
    /// How many groups it may be told of one person.
    pub at_most: usize,
    /// How many may sign in.
    pub may: usize,
    /// How many are in more groups than it may be told.
    pub over: usize,
    /// Everybody, by name.
    pub people: Vec<Person>,
}

/// What an application learns of one of many.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Person {
    /// The person.
    pub who: String,
    /// Whether they may sign in, and through what or why not.
    pub sign_in: SignIn,
    /// How many groups it would be told if there were no limit.
    pub groups: usize,
    /// Whether that is over the limit.
    pub over: bool,
}

impl Claims {
    /// Of one person, with these groups.
    #[must_use]
    pub fn new(
        estate: &Estate,
        application: &Application,
        user: UserId,
        at: Time,
        (entry, claims): (&Result<Entry, Refusal>, Option<&CoreClaims>),
        sights: &[Sight],
    ) -> Self {
        Self {
            version: crate::VERSION,
            who: estate.principal_id(Principal::User(user)),
            application: application.name.to_string(),
            at: at.to_string(),
            sign_in: SignIn::new(estate, entry),
            groups: sights.iter().map(|sight| Group::new(estate, sight)).collect(),
            claims: claims.map(|claims| object(application, claims)),
            signed: false,
        }
    }
}

fn group_id(estate: &Estate, group: GroupId) -> String {
    estate.principal_id(Principal::Group(group))
}

impl SignIn {
    /// Of what came of asking.
    #[must_use]
    pub fn new(estate: &Estate, entry: &Result<Entry, Refusal>) -> Self {
        let (may, why) = match entry {
            Ok(Entry::Everyone) => (true, "everyone"),
            Ok(Entry::Named) => (true, "named"),
            Ok(Entry::Group { .. }) => (true, "group"),
            Err(Refusal::Disabled) => (false, "disabled"),
            Err(Refusal::NotOpen(_)) => (false, "not-open"),
            Err(Refusal::TooMany(_)) => (false, "too-many"),
        };
        let (group, through) = match entry {
            Ok(Entry::Group { group, through }) => (Some(*group), *through),
            _ => (None, None),
        };
        let nearly = match entry {
            Err(Refusal::NotOpen(near)) => &near[..],
            _ => &[],
        };
        let near = |(group, hidden): &(GroupId, Hidden)| {
            Group::new(estate, &Sight { group: *group, hidden: Some(*hidden) })
        };
        Self {
            may,
            why,
            group: group.map(|group| group_id(estate, group)),
            through: through.map(|group| group_id(estate, group)),
            nearly: nearly.iter().map(near).collect(),
        }
    }
}

impl Group {
    /// Of what is seen of it.
    #[must_use]
    pub fn new(estate: &Estate, sight: &Sight) -> Self {
        let through = match sight.hidden {
            Some(Hidden::OnlyThrough(first)) => Some(group_id(estate, first)),
            _ => None,
        };
        let place = match sight.hidden {
            Some(Hidden::Shut(shut)) => Some(Place {
                who: estate.principal_id(shut.who),
                of: group_id(estate, shut.of),
                from: shut.window.from.map(|at| at.to_string()),
                until: shut.window.until.map(|at| at.to_string()),
            }),
            _ => None,
        };
        Self {
            group: group_id(estate, sight.group),
            seen: sight.hidden.is_none(),
            why: sight.hidden.map(word),
            through,
            place,
        }
    }
}

/// The word for why a group is not seen.
#[must_use]
pub fn word(hidden: Hidden) -> &'static str {
    match hidden {
        Hidden::NotIn => "not-in",
        Hidden::Shut(_) => "shut",
        Hidden::OnlyThrough(_) => "only-through",
        Hidden::NoGroups => "no-groups",
        Hidden::NotListed => "not-listed",
        Hidden::Name => "name",
        Hidden::Cut => "cut",
        Hidden::LeftOut => "left-out",
        Hidden::Refused => "refused",
    }
}

/// The claims of a token, under the names of OpenID Connect and of the application.
#[must_use]
pub fn object(application: &Application, claims: &CoreClaims) -> Map<String, Json> {
    let mut all = Map::new();
    let mut add = |name: &str, value: Json| all.insert(name.to_owned(), value);
    add("sub", json!(claims.sub));
    add("aud", json!(claims.aud));
    add("iat", json!(claims.iat));
    add("exp", json!(claims.exp));
    add("name", json!(claims.name));
    if let Some(groups) = &claims.groups {
        add(&application.claim, json!(groups));
    }
    if claims.is_left_out {
        add(&application.left_out_claim(), json!(true));
    }
    if let Some(roles) = &claims.roles {
        add("roles", json!(roles));
    }
    all
}
