//! Users, groups and roles; who is in what; identities as targets.

use fixedbitset::FixedBitSet;
use rustc_hash::FxHashMap;

use super::graph::{Edges, Loop, walk};
use super::{Bearer, Builder, boxed};
use crate::condition::check::WhoAttribute;
use crate::condition::eval::Facts;
use crate::condition::fact::Fact;
use crate::condition::{Condition, ConditionFault, Reference};
use crate::declaration::{self, Declarations, Element, Named};
use crate::fault::{Fault, LocatedFault};
use crate::id::{GroupId, PolicyId, RoleId, ScopeId, UserId};
use crate::limits::LOOP_LINKS;
use crate::origin::{Origin, SourceSpan, Spanned};
use crate::policy::Policy;
use crate::principal::{
    Group, Identity, Imported, Membership, Principal, PrincipalType, Role, Subject, User,
};
use crate::request::TargetPlace;
use crate::scope::ScopeTree;
use crate::truth::Truth;

/// What [`Builder::build_principals`] yields.
pub(super) struct People {
    pub(super) users: Vec<User>,
    pub(super) groups: Vec<Group>,
    pub(super) roles: Vec<Role>,
}

/// Which principals may stand in a list.
#[derive(Clone, Copy)]
pub(super) enum Allowed {
    Users,
    Members,
    Holders,
    Everyone,
    People,
}

impl Allowed {
    fn words(self) -> &'static str {
        match self {
            Self::Users => "write `user:NAME`",
            Self::Members => "write `user:NAME`, `group:NAME` or `resource:PATH`",
            Self::Holders => "write `user:NAME`, `group:NAME`, `role:NAME` or `resource:PATH`",
            Self::People => "write `user:NAME`, `group:NAME` or `everyone`",
            Self::Everyone => {
                "write `user:NAME`, `group:NAME`, `role:NAME`, `resource:PATH` or `everyone`"
            }
        }
    }
}

impl Builder<'_> {
    pub(super) fn build_principals(
        &mut self,
        declared: &Declarations,
        resources: &FixedBitSet,
    ) -> People {
        let users: Vec<&Named<_>> = self.users.in_order(&declared.users).collect();
        let groups: Vec<&Named<_>> = self.groups.in_order(&declared.groups).collect();
        let roles: Vec<&Named<_>> = self.roles.in_order(&declared.roles).collect();
        let mut people = People {
            users: users.into_iter().map(|named| self.build_user(named)).collect(),
            groups: groups.iter().map(|named| self.build_group(named, resources)).collect(),
            roles: roles.into_iter().map(|named| self.build_role(named, resources)).collect(),
        };
        self.refuse_loops(&people);
        for (i, named) in groups.iter().enumerate() {
            if let (Some(condition), Some(written)) =
                (&people.groups[i].members_when, &named.body.members_when)
            {
                let matching =
                    self.match_users(&named.name.value, condition, written.origin, &people.users);
                people.groups[i].matching = matching;
            }
        }
        people
    }

    fn build_user(&mut self, named: &Named<declaration::User>) -> User {
        let body = &named.body;
        let manager = body.manager.as_ref().and_then(|written| self.find_user(written));
        User {
            identity: self.build_identity(
                named,
                Bearer::User,
                body.place.as_ref(),
                &body.attributes,
            ),
            full_name: boxed(body.full_name.as_ref()),
            enabled: body.enabled,
            manager,
            imported: imported(&body.imported),
        }
    }

    fn build_group(&mut self, named: &Named<declaration::Group>, resources: &FixedBitSet) -> Group {
        let body = &named.body;
        let members_when = body.members_when.as_ref().and_then(|written| {
            let condition = self.build_condition(written)?;
            self.only_principal(&condition, written.origin).then_some(condition)
        });
        let members = body
            .members
            .as_ref()
            .map(|list| self.build_elements(list, Allowed::Members, resources));
        let owners = body
            .owners
            .as_ref()
            .map(|list| list.iter().filter_map(|written| self.find_user(written)).collect());
        let asks = self.build_asks(&body.asks, members.as_deref());
        Group {
            asks,
            imported: imported(&body.imported),
            identity: self.build_identity(
                named,
                Bearer::GroupOrRole,
                body.place.as_ref(),
                &body.attributes,
            ),
            members,
            matching: Box::default(),
            members_when,
            owners,
            join: body.join.unwrap_or_default(),
        }
    }

    fn build_role(&mut self, named: &Named<declaration::Role>, resources: &FixedBitSet) -> Role {
        let body = &named.body;
        Role {
            identity: self.build_identity(
                named,
                Bearer::GroupOrRole,
                body.place.as_ref(),
                &body.attributes,
            ),
            held_by: self.build_elements(&body.held_by, Allowed::Holders, resources),
            taken_by: self.build_elements(&body.taken_by, Allowed::Holders, resources),
        }
    }

    fn build_identity<T>(
        &mut self,
        named: &Named<T>,
        bearer: Bearer,
        place: Option<&Spanned<String>>,
        attributes: &[(Spanned<String>, crate::attribute::Value)],
    ) -> Identity {
        Identity {
            name: named.name.value.as_str().into(),
            about: boxed(named.about.as_ref()),
            place: place.and_then(|written| self.find_scope(written)),
            attributes: self.build_attributes(bearer, attributes),
            origin: named.name.origin,
        }
    }

    /// Every element with its window, as written.
    fn build_elements(
        &mut self,
        list: &[Element],
        allowed: Allowed,
        resources: &FixedBitSet,
    ) -> Box<[Membership]> {
        list.iter()
            .filter_map(|element| {
                let window = self.build_window(&element.window);
                match self.find_subject(&element.who, allowed, resources)? {
                    Subject::One(who) => {
                        Some(Membership { who, window, origin: element.who.origin })
                    }
                    Subject::Everyone => None,
                }
            })
            .collect()
    }

    pub(super) fn find_scope(&mut self, written: &Spanned<String>) -> Option<ScopeId> {
        self.scopes.find(written, &mut self.faults, &mut self.near).map(ScopeId::new)
    }

    pub(super) fn find_user(&mut self, written: &Spanned<String>) -> Option<UserId> {
        match self.find_subject(written, Allowed::Users, &FixedBitSet::new())? {
            Subject::One(Principal::User(id)) => Some(id),
            _ => None,
        }
    }

    /// A principal by its name, if it may stand here and is declared.
    pub(super) fn find_subject(
        &mut self,
        written: &Spanned<String>,
        allowed: Allowed,
        resources: &FixedBitSet,
    ) -> Option<Subject> {
        if written.value == "everyone" && matches!(allowed, Allowed::Everyone | Allowed::People) {
            return Some(Subject::Everyone);
        }
        let split = PrincipalType::split(&written.value).filter(|(found, _)| match allowed {
            Allowed::Users => *found == PrincipalType::User,
            Allowed::People => matches!(found, PrincipalType::User | PrincipalType::Group),
            Allowed::Members => *found != PrincipalType::Role,
            Allowed::Holders | Allowed::Everyone => true,
        });
        let Some((found, name)) = split else {
            let fault =
                Fault::NotAPrincipal { found: written.value.clone(), expected: allowed.words() };
            self.fault(fault, written.origin);
            return None;
        };
        let names = match found {
            PrincipalType::User => &self.users,
            PrincipalType::Group => &self.groups,
            PrincipalType::Role => &self.roles,
            PrincipalType::Resource => &self.scopes,
        };
        let id = names.find_at(name, written.origin, &mut self.faults, &mut self.near)?;
        let principal = match found {
            PrincipalType::User => Principal::User(UserId::new(id)),
            PrincipalType::Group => Principal::Group(GroupId::new(id)),
            PrincipalType::Role => Principal::Role(RoleId::new(id)),
            PrincipalType::Resource if resources.contains(id) => {
                Principal::Workload(ScopeId::new(id))
            }
            PrincipalType::Resource => {
                let fault = Fault::NotAPrincipal {
                    found: written.value.clone(),
                    expected: "only a scope declared as `[resource.…]` can act",
                };
                self.fault(fault, written.origin);
                return None;
            }
        };
        Some(Subject::One(principal))
    }

    /// Groups must not hold each other in a ring, nor roles.
    fn refuse_loops(&mut self, people: &People) {
        let groups: Edges = people
            .groups
            .iter()
            .map(|group| {
                edges(group.members.as_deref().unwrap_or_default(), |who| match who {
                    Principal::Group(id) => Some(id.index()),
                    _ => None,
                })
            })
            .collect();
        let roles: Edges = people
            .roles
            .iter()
            .map(|role| {
                edges(&role.held_by, |who| match who {
                    Principal::Role(id) => Some(id.index()),
                    _ => None,
                })
            })
            .collect();
        let group_name = |i: usize| people.groups[i].identity.name.to_string();
        let role_name = |i: usize| people.roles[i].identity.name.to_string();
        self.report_loops("groups", &groups, group_name);
        self.report_loops("roles", &roles, role_name);
    }

    pub(super) fn report_loops(
        &mut self,
        what: &'static str,
        edges: &Edges,
        name: impl Fn(usize) -> String,
    ) -> Vec<usize> {
        let walk = walk(edges);
        for Loop { ring, edges } in walk.loops {
            let ring = ring.into_iter().map(&name).collect();
            let Some((closing, others)) = edges.split_last() else { continue };
            let mut located = LocatedFault::new(Fault::Cycle { what, ring }, *closing);
            for origin in others.iter().take(LOOP_LINKS) {
                located = located.and_see(*origin, "a link of it");
            }
            self.faults.push(located);
        }
        walk.postorder
    }

    /// Whether a `members-when` keeps to what a user is without groups and roles.
    fn only_principal(&mut self, condition: &Condition, origin: Origin) -> bool {
        use WhoAttribute as P;
        let before = self.faults.len();
        for (reference, span) in condition.references() {
            let own = matches!(reference, Reference::Who(p) if p != P::Groups && p != P::Roles);
            if !own {
                let place = SourceSpan::inside(origin, span.start, span.end);
                self.fault(ConditionFault::OnlyWho, place);
            }
        }
        self.faults.len() == before
    }

    /// The users whom the condition makes members; one that it leaves undecided is a fault.
    fn match_users(
        &mut self,
        group: &str,
        condition: &Condition,
        origin: Origin,
        users: &[User],
    ) -> Box<[UserId]> {
        let mut matching = Vec::new();
        for (i, user) in users.iter().enumerate() {
            let facts = UserFacts::new(user, users);
            match condition.eval(&facts) {
                Truth::True => matching.push(UserId::new(i)),
                Truth::False => {}
                Truth::Undecided => {
                    let blamed = condition.blame(&facts);
                    let reference = blamed.iter().flat_map(|part| &part.references).next();
                    let attribute = match reference {
                        Some(reference) => reference.written(&self.attribute_names),
                        None => condition.text.to_string(),
                    };
                    let fault = Fault::MembersUndecided {
                        group: group.to_owned(),
                        user: user.identity.name.to_string(),
                        attribute,
                    };
                    self.faults.push(
                        LocatedFault::new(fault, origin).and_see(user.identity.origin, "this user"),
                    );
                    break;
                }
            }
        }
        matching.into()
    }

    /// Where users, groups and roles with a place are targets; no two things at one path.
    pub(super) fn place_identities(
        &mut self,
        scopes: &ScopeTree,
        people: &People,
        policies: &[Policy],
    ) -> FxHashMap<Box<str>, TargetPlace> {
        let users = people.users.iter().enumerate();
        let groups = people.groups.iter().enumerate();
        let roles = people.roles.iter().enumerate();
        let all = users
            .map(|(i, user)| (Principal::User(UserId::new(i)), &user.identity))
            .chain(groups.map(|(i, group)| (Principal::Group(GroupId::new(i)), &group.identity)))
            .chain(roles.map(|(i, role)| (Principal::Role(RoleId::new(i)), &role.identity)));
        let all = all.filter_map(|(who, identity)| {
            let place = identity.place?;
            Some((TargetPlace::Identity(who, place), place, &identity.name, identity.origin))
        });
        let policies = policies.iter().enumerate().filter_map(|(i, policy)| {
            let place = policy.place?;
            Some((TargetPlace::Policy(PolicyId::new(i), place), place, &policy.name, policy.origin))
        });
        let mut placed: FxHashMap<Box<str>, (TargetPlace, Origin)> = FxHashMap::default();
        for (target, place, name, origin) in all.chain(policies) {
            let path = format!("{}/{name}", scopes.get(place).path);
            let taken = match (scopes.find(&path), placed.get(path.as_str())) {
                (Some(scope), _) => Some(scopes.get(scope).origin),
                (_, Some((_, origin))) => Some(*origin),
                _ => None,
            };
            if let Some(taken) = taken {
                let word = match target {
                    TargetPlace::Identity(Principal::User(_), _) => "user",
                    TargetPlace::Identity(Principal::Group(_), _) => "group",
                    TargetPlace::Policy(..) => "policy",
                    _ => "role",
                };
                let fault = Fault::PlaceTaken { who: format!("{word}:{name}"), path };
                self.faults
                    .push(LocatedFault::new(fault, origin).and_see(taken, "that path is this"));
                continue;
            }
            placed.insert(path.into(), (target, origin));
        }
        placed.into_iter().map(|(path, (target, _))| (path, target)).collect()
    }
}

fn imported(written: &declaration::Imported) -> Imported {
    Imported {
        source: boxed(written.source.as_ref()),
        source_id: boxed(written.source_id.as_ref()),
    }
}

fn edges(list: &[Membership], node: impl Fn(Principal) -> Option<usize>) -> Vec<(usize, Origin)> {
    list.iter().filter_map(|member| Some((node(member.who)?, member.origin))).collect()
}

/// A user by itself, as `members-when` sees it.
struct UserFacts<'u> {
    user: &'u User,
    id: String,
    manager: Option<String>,
}

impl<'u> UserFacts<'u> {
    fn new(user: &'u User, users: &[User]) -> Self {
        let written = |user: &User| format!("user:{}", user.identity.name);
        let manager = user.manager.map(|id| written(&users[id.index()]));
        Self { user, id: written(user), manager }
    }
}

impl Facts for UserFacts<'_> {
    fn fact(&self, reference: Reference) -> Fact<'_> {
        use WhoAttribute as P;
        let Reference::Who(attribute) = reference else { return Fact::Absent };
        match attribute {
            P::Id => Fact::text(&self.id),
            P::Type => Fact::text("user"),
            P::Name => Fact::text(&self.user.identity.name),
            P::Manager => self.manager.as_deref().map_or(Fact::Absent, Fact::text),
            P::Own(id) => self.user.identity.attributes.value(id).map_or(Fact::Absent, Fact::of),
            // Refused when the condition was checked: membership cannot depend on membership.
            P::Groups | P::Roles => Fact::Absent,
        }
    }

    fn is_set(&self, reference: Reference) -> Truth {
        let Reference::Who(attribute) = reference else { return Truth::False };
        match attribute {
            WhoAttribute::Manager => Truth::from(self.manager.is_some()),
            WhoAttribute::Own(id) => Truth::from(self.user.identity.attributes.has(id)),
            _ => Truth::True,
        }
    }
}
