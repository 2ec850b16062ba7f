//! What a person declared, decoded but not yet checked against anything else.
//!
//! The loader fills these in; [`Estate::build`](crate::Estate::build) is their only use, apart from
//! the naive evaluator, which reads them as they stand.

use crate::application::{Beyond, Told};
use crate::attribute::Value;
use crate::catalogue::Level;
use crate::condition::ast::Root;
use crate::decision::{Reason, Verdict};
use crate::diagnostic::Severity;
use crate::expectation::Claim;
use crate::origin::{Origin, Spanned};
use crate::policy::Effect;
use crate::principal::Join;
use crate::scope::ScopeType;
use crate::time::Time;

/// A list of names or patterns, with the place of the whole list.
pub type List = Spanned<Vec<Spanned<String>>>;

/// Everything that the files of an estate declare, in any order.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Declarations {
    /// The estate's name.
    pub name: String,
    /// `[attributes.…]`
    pub attributes: Vec<Attribute>,
    /// `[service.…]`
    pub services: Vec<Named<()>>,
    /// `[kind.…]`
    pub kinds: Vec<Named<Kind>>,
    /// `[account.…]`, `[subscription.…]`, `[resource.…]`, `[namespace.…]`
    pub scopes: Vec<Named<Scope>>,
    /// `[user.…]`
    pub users: Vec<Named<User>>,
    /// `[group.…]`
    pub groups: Vec<Named<Group>>,
    /// `[role.…]`
    pub roles: Vec<Named<Role>>,
    /// `[policy.…]`
    pub policies: Vec<Named<Policy>>,
    /// `[[attach]]`
    pub attachments: Vec<Attachment>,
    /// `[[ceiling]]`
    pub ceilings: Vec<Ceiling>,
    /// `[[check]]`
    pub checks: Vec<Check>,
    /// `[[never]]`, `[[always]]`
    pub laws: Vec<Law>,
    /// `[[apart]]`
    pub separations: Vec<Separation>,
    /// `[edit-rights]`, once for each file that has it.
    pub edit_rights: Vec<EditRights>,
    /// `[preset.…]`: keys that a new group may come with. They decide nothing.
    pub presets: Vec<Named<Group>>,
    /// `[vet]`, once for each file that has it.
    pub vet: Vec<VetTable>,
    /// `[[vet-accept]]`
    pub accepted: Vec<Accepted>,
    /// `[review.…]`
    pub reviews: Vec<Named<Review>>,
    /// `[application.…]`
    pub applications: Vec<Named<Application>>,
    /// `[source.…]`
    pub sources: Vec<Named<Source>>,
}

/// Where people come from, and how their columns are called here; it decides nothing.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Source {
    /// A column or attribute there, and the key here that it becomes.
    pub map: Vec<(Spanned<String>, Spanned<String>)>,
}

/// An application that people sign in to (spec-work section 13); it decides nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Application {
    /// Users and groups who may sign in; `None`: everyone.
    pub open_to: Option<List>,
    /// What the claim of groups is called, if not `groups`.
    pub claim: Option<Spanned<String>>,
    /// Which groups it holds.
    pub told: Told,
    /// Whether members of members count.
    pub through: bool,
    /// Patterns of the names of groups that it holds.
    pub names: Option<List>,
    /// Whether it holds ids in the place of names.
    pub as_id: bool,
    /// How many groups it may hold.
    pub at_most: Option<i64>,
    /// What happens beyond.
    pub beyond: Beyond,
    /// Roles of the application's own, with who has them.
    pub roles: Vec<(Spanned<String>, List)>,
    /// How long a token counts: `1h`.
    pub lasts: Option<Spanned<String>>,
}

/// Questions put to people about who still needs what (spec-work section 12); they decide nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Review {
    /// Groups, roles, policies and scopes.
    pub of: List,
    /// `owners`, `managers`, or users.
    pub by: List,
    /// The first moment at which answers count.
    pub open: Spanned<Time>,
    /// The first at which they count no more.
    pub until: Spanned<Time>,
    /// Whether what nobody answered goes; else it stays.
    pub unanswered_goes: bool,
    /// What was asked when it was opened.
    pub asked: Option<Asked>,
    /// What was answered.
    pub answers: Vec<Answer>,
}

/// What a review asked when it was opened.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Asked {
    /// How many questions.
    pub count: i64,
    /// Eight letters for each of them.
    pub fingerprint: String,
}

/// An answer to a question of a review; the names in it need not be declared any more.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answer {
    /// Whom it is about: a principal, or `everyone`.
    pub who: String,
    /// What of: as the review's `of` has it.
    pub of: String,
    /// Of a policy, where it is attached.
    pub at: Option<String>,
    /// Of a scope, which policy.
    pub policy: Option<String>,
    /// While the place in a list that is meant is held.
    pub window: WindowWritten,
    /// Whether it goes; else it stays.
    pub remove: bool,
    /// Who answered: a user.
    pub by: String,
    /// When.
    pub answered: Spanned<Time>,
    /// Why.
    pub why: Option<String>,
    /// Where it starts.
    pub origin: Origin,
}

/// How the rules of `vet` are set (spec-work section 10); it decides nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct VetTable {
    /// Rules by name, with what is said of each.
    pub rules: Vec<(Spanned<String>, VetRule)>,
    /// Where the table starts.
    pub origin: Origin,
}

/// What is said of one rule.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct VetRule {
    /// A severity, or `off`; `None`: as the rule has it.
    pub severity: Option<Spanned<VetSeverity>>,
    /// Whom it is about, for a rule that asks.
    pub who: Option<List>,
}

/// How much the findings of a rule matter to the house.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum VetSeverity {
    /// As much as this.
    At(Severity),
    /// They are not told.
    Off,
}

/// A finding of `vet` that is known, and fine (spec-work section 10).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Accepted {
    /// The rule.
    pub rule: Spanned<String>,
    /// What the finding is about, in its words.
    pub about: Spanned<String>,
    /// Why it is fine.
    pub why: String,
    /// When it is told again.
    pub until: Option<Spanned<Time>>,
    /// Where it starts.
    pub origin: Origin,
}

/// Who may edit what (spec-work section 7.4).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EditRights {
    /// What is touched, and the actions that are asked about.
    pub actions: Vec<(Spanned<String>, List)>,
    /// Whether nobody may open what they cannot do themselves.
    pub no_more_than_own: bool,
    /// Where the table starts.
    pub origin: Origin,
}

/// Somebody who asked to be let into a group (spec-work section 7.3).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ask {
    /// A user.
    pub who: Spanned<String>,
    /// When.
    pub at: Time,
    /// Why, in their words.
    pub why: Option<String>,
}

/// Where an import had a user or a group from (spec-work section 7.3); it decides nothing.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Imported {
    /// The source's name.
    pub source: Option<String>,
    /// The id that the source has for it.
    pub source_id: Option<String>,
}

/// A declared attribute (spec-work section 7.1).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Attribute {
    /// The root that it stands under.
    pub root: Root,
    /// Its full dotted name.
    pub name: Spanned<String>,
    /// What its values are; `None` where that could not be read.
    pub body: Option<AttributeBody>,
    /// What its author says about it.
    pub about: Option<String>,
}

/// What the values of a declared attribute are, as written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AttributeBody {
    /// A word for the type.
    pub value_type: Spanned<String>,
    /// Whether it is a list of them.
    pub is_list: bool,
    /// The only values there are.
    pub one_of: Option<Spanned<Vec<Spanned<Value>>>>,
    /// A word for how strings read.
    pub form: Option<Spanned<String>>,
}

/// A declaration under a name of its own.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Named<T> {
    /// The name, and where the declaration starts.
    pub name: Spanned<String>,
    /// What its author says about it.
    pub about: Option<String>,
    /// The rest.
    pub body: T,
}

/// A kind of thing.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Kind {
    /// The service it stands under.
    pub service: Option<Spanned<String>>,
    /// Verbs with their levels, as written.
    pub verbs: Vec<(Level, Spanned<String>)>,
    /// Verbs that address the whole account.
    pub account_wide: Vec<Spanned<String>>,
    /// Verbs that address the scope that will hold the new thing.
    pub on_parent: Vec<Spanned<String>>,
    /// Kinds of items below one of these.
    pub items: Vec<Spanned<String>>,
    /// Kinds of declared things that may be made in one of these.
    pub holds: Vec<Spanned<String>>,
}

/// A scope.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Scope {
    /// Which of the four tables declared it.
    pub scope_type: ScopeType,
    /// Its kind, if written.
    pub kind: Option<Spanned<String>>,
    /// Whether it shuts out allows attached above.
    pub sealed: bool,
    /// Flattened attributes.
    pub attributes: Vec<(Spanned<String>, Value)>,
}

/// A user.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct User {
    /// The name to show.
    pub full_name: Option<String>,
    /// Whether the user may do anything at all.
    pub enabled: bool,
    /// Another user, as `user:…`.
    pub manager: Option<Spanned<String>>,
    /// Where an import had it from.
    pub imported: Imported,
    /// The scope that holds this identity as a target.
    pub place: Option<Spanned<String>>,
    /// Flattened attributes.
    pub attributes: Vec<(Spanned<String>, Value)>,
}

impl Default for User {
    /// One who is enabled, and of whom nothing is said.
    fn default() -> Self {
        Self {
            full_name: None,
            enabled: true,
            manager: None,
            imported: Imported::default(),
            place: None,
            attributes: Vec::new(),
        }
    }
}

/// A group.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Group {
    /// Members; `None` when the key is not written.
    pub members: Option<Vec<Element>>,
    /// A condition on users that makes them members.
    pub members_when: Option<Spanned<String>>,
    /// Users who look after the group; `None` when the key is not written.
    pub owners: Option<Vec<Spanned<String>>>,
    /// How people come in.
    pub join: Option<Join>,
    /// Users who asked to be let in.
    pub asks: Vec<Ask>,
    /// Where an import had it from.
    pub imported: Imported,
    /// The scope that holds this identity as a target.
    pub place: Option<Spanned<String>>,
    /// Flattened attributes.
    pub attributes: Vec<(Spanned<String>, Value)>,
}

/// A role.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Role {
    /// Those for whom it is always active.
    pub held_by: Vec<Element>,
    /// Those who may take it up in a request.
    pub taken_by: Vec<Element>,
    /// The scope that holds this identity as a target.
    pub place: Option<Spanned<String>>,
    /// Flattened attributes.
    pub attributes: Vec<(Spanned<String>, Value)>,
}

/// A principal in a list, perhaps only for a time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Element {
    /// The principal.
    pub who: Spanned<String>,
    /// When it stands there.
    pub window: WindowWritten,
}

/// A window as written.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct WindowWritten {
    /// Inclusive start.
    pub from: Option<Spanned<Time>>,
    /// Exclusive end.
    pub until: Option<Spanned<Time>>,
}

/// A policy.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Policy {
    /// Policies whose statements belong to this one too.
    pub include: Vec<Spanned<String>>,
    /// The scope that holds it as a target (spec-work section 7.2).
    pub place: Option<Spanned<String>>,
    /// Whether nobody edits it by a right of their own; it decides nothing.
    pub locked: bool,
    /// The scopes at or below which it may be attached; `None`: anywhere.
    pub attachable: Option<List>,
    /// Its own statements: allows in the order written, then denies.
    pub statements: Vec<Statement>,
}

/// A statement of a policy.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Statement {
    /// Allow or deny.
    pub effect: Effect,
    /// Its own name, if it has one.
    pub name: Option<Spanned<String>>,
    /// What its author says about it.
    pub about: Option<String>,
    /// Action patterns.
    pub actions: List,
    /// Path patterns; `None` stands for `**`.
    pub on: Option<List>,
    /// Its condition.
    pub when: Option<Spanned<String>>,
    /// Where it starts.
    pub origin: Origin,
}

/// A policy tied to principals at scopes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Attachment {
    /// Policies.
    pub policy: List,
    /// Principals and `everyone`.
    pub to: List,
    /// Scopes.
    pub at: List,
    /// When it counts.
    pub window: WindowWritten,
    /// What its author says about it.
    pub about: Option<String>,
    /// Where it starts.
    pub origin: Origin,
}

/// A policy used as a limit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ceiling {
    /// Policies.
    pub policy: List,
    /// Scopes; `None` stands for everywhere.
    pub over: Option<List>,
    /// Principals and `everyone`; `None` stands for everyone.
    pub bound: Option<List>,
    /// When it counts.
    pub window: WindowWritten,
    /// What its author says about it.
    pub about: Option<String>,
    /// Where it starts.
    pub origin: Origin,
}

/// Requests and the answer that is expected to each.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Check {
    /// What it is called.
    pub name: Spanned<String>,
    /// Principals.
    pub who: List,
    /// Actions.
    pub does: List,
    /// Paths.
    pub on: List,
    /// The role to take up.
    pub take_up: Option<Spanned<String>>,
    /// Groups supposed.
    pub also: Vec<Spanned<String>>,
    /// Policies that bound the session.
    pub under: Vec<Spanned<String>>,
    /// Circumstances, flattened; the request's time among them.
    pub given: Vec<(Spanned<String>, Value)>,
    /// Circumstances that are known to be absent.
    pub absent: Vec<Spanned<String>>,
    /// Attributes of the item itself; `None` when the key is not written.
    pub item: Option<Vec<(Spanned<String>, Value)>>,
    /// Tables in `given`, and tables in `item`, that hold nothing.
    pub empty_tables: [Vec<Spanned<String>>; 2],
    /// The answer.
    pub expect: Verdict,
    /// The reason, if one is expected.
    pub reason: Option<Spanned<Reason>>,
    /// What its author says about it.
    pub about: Option<String>,
    /// Where it starts.
    pub origin: Origin,
}

/// Something that must hold for every request of a sort.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Law {
    /// What it says of them.
    pub claim: Claim,
    /// What it is called, if anything.
    pub name: Option<Spanned<String>>,
    /// Principals and `everyone`.
    pub who: List,
    /// Principals and `everyone` whom it does not concern.
    pub except: Option<List>,
    /// Action patterns.
    pub does: List,
    /// Path patterns, all absolute.
    pub on: List,
    /// Which requests it concerns.
    pub when: Option<Spanned<String>>,
    /// What its author says about it.
    pub about: Option<String>,
    /// Where it starts.
    pub origin: Origin,
}

/// Things of which nobody may have two.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Separation {
    /// What it is called, if anything.
    pub name: Option<Spanned<String>>,
    /// Roles, groups and policies.
    pub any_two_of: List,
    /// Scopes to which policies must reach to count; `None`: anywhere.
    pub at: Option<List>,
    /// What its author says about it.
    pub about: Option<String>,
    /// Where it starts.
    pub origin: Origin,
}
