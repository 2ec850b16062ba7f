//! What a condition or a brace sees when it is asked about one query.

use super::clause::Clause;
use super::closure::Closure;
use super::index::{Index, NamesWritten};
use crate::attribute::Value;
use crate::condition::Reference;
use crate::condition::check::{TargetAttribute, WhoAttribute};
use crate::condition::eval::Facts;
use crate::condition::fact::{Fact, ListFact, Scalar};
use crate::id::{AttributeId, ScopeId, StatementId};
use crate::pattern::matching::Braces;
use crate::pattern::path::Brace;
use crate::pattern::residual::FRESH;
use crate::principal::Principal;
use crate::request::{Given, Query, TargetPlace};
use crate::scope::ScopeType;
use crate::truth::Truth;

/// One query as statements see it (spec section 4, "Attributes").
#[derive(Clone, Copy, Debug)]
pub struct EvalContext<'s> {
    /// The index.
    pub index: &'s Index,
    /// The query.
    pub query: &'s Query<'s>,
    /// All about who asks.
    pub closure: &'s Closure<'s>,
    /// `who.roles` as the statement at hand sees them, as bare names; `None`:
    /// the closure's.
    pub roles: Option<&'s [&'s str]>,
}

/// Where an attribute's value was found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Source {
    /// The request.
    Request,
    /// The item's attributes in the request.
    Item,
    /// A scope's table.
    Scope(ScopeId),
    /// An identity's table.
    Identity(Principal),
    /// Built in.
    BuiltIn,
}

impl<'s> EvalContext<'s> {
    /// Where the value of an attribute comes from; `None` when there is none.
    #[must_use]
    pub fn source(&self, reference: Reference) -> Option<Source> {
        if matches!(self.fact(reference), Fact::Absent | Fact::Unknown) {
            return None;
        }
        Some(match reference {
            Reference::Given(_) | Reference::Time => Source::Request,
            Reference::Who(WhoAttribute::Own(id)) => match self.query.who {
                Principal::Workload(scope) => {
                    self.up_from(scope, id).map_or(Source::BuiltIn, |(at, _)| Source::Scope(at))
                }
                other => Source::Identity(other),
            },
            Reference::Target(TargetAttribute::Own(id)) => {
                self.of_target(id).map_or(Source::BuiltIn, |(source, _)| source)
            }
            _ => Source::BuiltIn,
        })
    }

    /// What a statement's `on` and `when` come to, its patterns starting `anchor` segments down;
    /// its `do` is not looked at.
    pub(crate) fn truth(&self, id: StatementId, anchor: usize) -> Truth {
        Clause::of_statement(self.index.estate(), id, anchor).truth(self)
    }

    /// The nearest value at a scope or above it.
    fn up_from(&self, scope: ScopeId, id: AttributeId) -> Option<(ScopeId, &'s Value)> {
        let (estate, scope_index) = (self.index.estate(), &self.index.scope_index);
        scope_index
            .bearing(scope, id)
            .find_map(|at| Some((at, estate.scope(at).attributes.value(id)?)))
    }

    fn any_up_from(&self, scope: ScopeId, id: AttributeId) -> bool {
        let (estate, scope_index) = (self.index.estate(), &self.index.scope_index);
        scope_index.bearing(scope, id).any(|at| estate.scope(at).attributes.has(id))
    }

    /// A target's own attribute: an identity's before its place's, a scope's before an item's.
    fn of_target(&self, id: AttributeId) -> Option<(Source, Fact<'s>)> {
        let target = &self.query.target;
        if let TargetPlace::Identity(who, _) = target.place
            && let Some(value) = self.index.estate().identity(who)?.attributes.value(id)
        {
            return Some((Source::Identity(who), Fact::of(value)));
        }
        if let Some((at, value)) = self.up_from(target.scope(), id) {
            return Some((Source::Scope(at), Fact::of(value)));
        }
        match self.given(&self.query.item, id) {
            Some(Given::Value(value)) => Some((Source::Item, Fact::of(value))),
            None if self.is_open_item() => Some((Source::Item, Fact::Unknown)),
            _ => None,
        }
    }

    fn is_open_item(&self) -> bool {
        self.query.item_is_open && matches!(self.query.target.place, TargetPlace::Item(_))
    }

    fn target_has(&self, id: AttributeId) -> Truth {
        let target = &self.query.target;
        if let TargetPlace::Identity(who, _) = target.place
            && self.index.estate().identity(who).is_some_and(|who| who.attributes.has(id))
        {
            return Truth::True;
        }
        if self.any_up_from(target.scope(), id) {
            return Truth::True;
        }
        match self.given(&self.query.item, id) {
            Some(Given::Value(_) | Given::Head) => Truth::True,
            None if self.is_open_item() => Truth::Undecided,
            _ => Truth::False,
        }
    }

    /// Attributes of groups and roles that ask are nobody's in particular.
    fn speaks_for_nobody(&self) -> bool {
        matches!(self.query.who, Principal::Group(_) | Principal::Role(_))
    }

    fn who_fact(&self, attribute: WhoAttribute) -> Fact<'s> {
        use WhoAttribute as P;
        let estate = self.index.estate();
        match attribute {
            P::Id => Fact::text(&self.closure.id),
            P::Type => Fact::text(crate::estate::Estate::principal_type(self.query.who).word()),
            P::Name => Fact::text(estate.principal_name(self.query.who)),
            P::Groups => Fact::List(ListFact::Names(&self.closure.group_names)),
            P::Roles => Fact::List(ListFact::Names(self.roles.unwrap_or(&self.closure.role_names))),
            P::Manager | P::Own(_) if self.speaks_for_nobody() => Fact::Unknown,
            P::Manager => self.closure.manager.as_deref().map_or(Fact::Absent, Fact::text),
            P::Own(id) => {
                let value = match self.query.who {
                    Principal::User(user) => estate.user(user).identity.attributes.value(id),
                    Principal::Workload(scope) => self.up_from(scope, id).map(|(_, value)| value),
                    Principal::Group(_) | Principal::Role(_) => None,
                };
                value.map_or(Fact::Absent, Fact::of)
            }
        }
    }

    fn target_fact(&self, attribute: TargetAttribute) -> Fact<'s> {
        use TargetAttribute as R;
        let (index, estate, target) = (self.index, self.index.estate(), &self.query.target);
        let identity = match target.place {
            TargetPlace::Identity(who, _) => Some(who),
            _ => None,
        };
        let windowed = |list: &'s [NamesWritten]| match identity {
            Some(Principal::Group(group)) => list[group.index()]
                .as_deref()
                .map_or(Fact::Absent, |list| Fact::List(ListFact::Windowed(list, self.query.time))),
            _ => Fact::Absent,
        };
        match attribute {
            R::Path | R::Name if target.is_sample => Fact::Unknown,
            R::Path => Fact::text(target.path),
            R::Name => Fact::text(target.segments.last().copied().unwrap_or_default()),
            R::Account => Fact::text(target.segments.first().copied().unwrap_or_default()),
            R::Kind => Fact::text(self.target_kind()),
            R::Owners => windowed(&index.owners_written),
            R::Members => windowed(&index.members_written),
            R::Join => match identity {
                Some(Principal::Group(group)) => Fact::text(estate.group(group).join.word()),
                _ => Fact::Absent,
            },
            R::Manager => match identity {
                Some(Principal::User(user)) => {
                    index.managers_written.get(&user).map_or(Fact::Absent, |id| Fact::text(id))
                }
                _ => Fact::Absent,
            },
            R::Own(id) => self.of_target(id).map_or(Fact::Absent, |(_, fact)| fact),
        }
    }

    fn target_kind(&self) -> &'s str {
        let estate = self.index.estate();
        match self.query.target.place {
            TargetPlace::Scope(id) => {
                let scope = estate.scope(id);
                match (scope.scope_type, scope.kind) {
                    (ScopeType::Account | ScopeType::Subscription, _) => scope.scope_type.word(),
                    (_, Some(kind)) => &estate.catalogue.kind(kind).name,
                    (_, None) => "namespace",
                }
            }
            TargetPlace::Item(_) => {
                let action = estate.catalogue.action(self.query.action);
                &estate.catalogue.kind(action.kind).name
            }
            TargetPlace::Identity(who, _) => crate::estate::Estate::principal_type(who).word(),
            TargetPlace::Policy(..) => "policy",
        }
    }

    /// What a request says of an attribute, in its `given` or its `item`.
    fn given(&self, list: &'s [(AttributeId, Given)], wanted: AttributeId) -> Option<&'s Given> {
        let found = |wanted| list.iter().find(|(id, _)| *id == wanted).map(|(_, given)| given);
        if list.is_empty() {
            return None;
        }
        if let Some(given) = found(wanted) {
            return Some(given);
        }
        // What lies below something given as absent is absent too.
        let names = &self.index.estate().attribute_names;
        let mut head = names.parent(wanted);
        while let Some(parent) = head {
            if let Some(absent @ Given::Absent) = found(parent) {
                return Some(absent);
            }
            head = names.parent(parent);
        }
        None
    }
}

impl Facts for EvalContext<'_> {
    fn fact(&self, reference: Reference) -> Fact<'_> {
        match reference {
            Reference::Who(attribute) => self.who_fact(attribute),
            Reference::Target(attribute) => self.target_fact(attribute),
            Reference::Time => Fact::Scalar(Scalar::Time(self.query.time)),
            Reference::Given(id) => match self.given(&self.query.given, id) {
                Some(Given::Value(value)) => Fact::of(value),
                Some(Given::Absent) => Fact::Absent,
                Some(Given::Head) | None => Fact::Unknown,
            },
        }
    }

    fn is_set(&self, reference: Reference) -> Truth {
        match reference {
            Reference::Who(WhoAttribute::Own(_)) if self.speaks_for_nobody() => Truth::Undecided,
            Reference::Who(WhoAttribute::Own(id)) => Truth::from(match self.query.who {
                Principal::Workload(scope) => self.any_up_from(scope, id),
                who => {
                    let identity = self.index.estate().identity(who);
                    identity.is_some_and(|identity| identity.attributes.has(id))
                }
            }),
            Reference::Target(TargetAttribute::Own(id)) => self.target_has(id),
            Reference::Given(id) => match self.given(&self.query.given, id) {
                Some(Given::Value(_) | Given::Head) => Truth::True,
                Some(Given::Absent) => Truth::False,
                None => Truth::Undecided,
            },
            built_in => match self.fact(built_in) {
                Fact::Absent => Truth::False,
                Fact::Unknown => Truth::Undecided,
                _ => Truth::True,
            },
        }
    }
}

impl Braces<Reference> for EvalContext<'_> {
    fn alternatives(&self, brace: &Brace<Reference>, each: &mut dyn FnMut(Option<&str>)) {
        // A star in a made-up path stands for what nobody writes; no value may match it.
        let is_sample = self.query.target.is_sample;
        let mut one = |scalar: Scalar<'_>| match scalar.as_segment() {
            Some(text) if is_sample && text.contains(FRESH) => {}
            text => each(text.as_deref()),
        };
        match self.fact(brace.attribute) {
            Fact::Absent => {}
            Fact::Unknown => each(None),
            Fact::Scalar(scalar) => one(scalar),
            Fact::List(list) => list.iter().for_each(one),
        }
    }
}
