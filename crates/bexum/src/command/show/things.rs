//! One thing of the estate: a principal, a policy, a scope, a kind.

use bexum_core::Estate;
use bexum_core::catalogue::{Addresses, TargetClass};
use bexum_core::condition::Condition;
use bexum_core::engine::Closure;
use bexum_core::id::{KindId, PolicyId, ScopeId};
use bexum_core::principal::{Imported, Principal, Subject};
use bexum_core::request::{Target, TargetPlace, describe};
use bexum_core::time::Phase;
use bexum_core::trace::{self, Routes};
use bexum_wire::common::value_json;
use bexum_wire::show as shape;

use super::View;
use super::lists::{attributes, coverage, gravest, state, transitive_members, windowed};
use crate::render::phrases;
use crate::render::report::{Cell, Report};

/// Where an import had it from, if one had.
fn imported(imported: &Imported) -> impl Iterator<Item = (&'static str, Cell)> {
    let told = [("source", &imported.source), ("source id", &imported.source_id)];
    told.into_iter().filter_map(|(name, text)| Some((name, Cell::text(&**text.as_ref()?))))
}

/// `yes`, or nothing to people.
fn told_if(flag: bool) -> Cell {
    match flag {
        true => Cell::Flag(true),
        false => Cell::Told(String::new(), false.into()),
    }
}

/// What a target is.
fn class(estate: &Estate, class: TargetClass) -> Cell {
    Cell::Told(describe(class, estate), shape::class(estate, class))
}

impl View<'_> {
    /// A user, group, role or workload: what it is, what it is in, and what reaches it.
    pub(super) fn principal(&self, principal: Principal) -> Report {
        let estate = self.estate;
        let mut report = Report::new(self.id(principal));
        report.fields("principal", self.principal_fields(principal));
        if let Principal::Group(group) = principal {
            let members = transitive_members(self, Some(group), usize::MAX);
            let body = estate.group(group);
            let listed = |who| {
                let mut listed = body.members.iter().flatten();
                listed.any(|member| member.who == who && member.window.holds(self.at))
            };
            let rows = members.into_iter().map(|(who, direct)| {
                let how = match direct {
                    true if listed(who) => ("directly", "directly"),
                    true => ("by its members-when", "by-condition"),
                    false => ("through a group", "through-a-group"),
                };
                vec![Cell::text(self.id(who)), Cell::Told(how.0.to_owned(), how.1.into())]
            });
            report.rows("members", "members", &["member", "how"], rows.collect());
            let closed = body.members.iter().flatten();
            let closed = closed.filter(|member| !member.window.holds(self.at));
            let rows: Vec<Vec<Cell>> = closed
                .map(|member| vec![Cell::text(self.id(member.who)), state(self, member.window)])
                .collect();
            if !rows.is_empty() {
                report.rows("members-then", "members at another time", &["member", "when"], rows);
            }
        }
        let closure = Closure::new(&self.engine, principal, &[], self.at);
        let routes = Routes::new(&self.engine, principal, &[], None, self.at);
        let way = |into: Principal| {
            let route = routes.brief(Subject::One(into));
            let text = phrases::route(estate, principal, &route);
            let text = text.unwrap_or_else(|| "itself".to_owned());
            Cell::Told(text, shape::route(estate, principal, &route))
        };
        let groups = closure.groups.iter().map(|id| Principal::Group(*id));
        let rows = groups
            .filter(|group| *group != principal)
            .map(|g| vec![Cell::text(self.id(g)), way(g)]);
        report.rows("groups", "groups", &["group", "how"], rows.collect());
        let active = closure.roles.iter().map(|id| Principal::Role(*id));
        let active = active.filter(|role| *role != principal);
        let mut rows: Vec<Vec<Cell>> =
            active.map(|r| vec![Cell::text(self.id(r)), Cell::text("active"), way(r)]).collect();
        for role in &closure.takeable {
            let into = Principal::Role(*role);
            let routes = Routes::new(&self.engine, principal, &[], Some(*role), self.at);
            let route = routes.brief(Subject::One(into));
            let way = phrases::route(estate, principal, &route).unwrap_or_default();
            rows.push(vec![
                Cell::text(self.id(into)),
                Cell::Told("may be taken up".to_owned(), "takeable".into()),
                Cell::Told(way, shape::route(estate, principal, &route)),
            ]);
        }
        report.rows("roles", "roles", &["role", "state", "how"], rows);
        let lapses = trace::lapses(&self.engine, &closure, self.at).into_iter().map(|lapse| {
            vec![
                Cell::text(self.id(lapse.into)),
                Cell::text(self.id(lapse.who)),
                state(self, lapse.window),
            ]
        });
        let lapses: Vec<Vec<Cell>> = lapses.collect();
        if !lapses.is_empty() {
            let columns = &["in", "who", "when"];
            report.rows("then", "groups and roles at another time", columns, lapses);
        }
        self.reaching(&mut report, principal, &closure, &routes);
        report
    }

    pub(super) fn principal_fields(&self, principal: Principal) -> Vec<(&'static str, Cell)> {
        let estate = self.estate;
        let Some(identity) = estate.identity(principal) else {
            let Principal::Workload(scope) = principal else { return Vec::new() };
            return self.scope_fields(scope);
        };
        let mut fields = Vec::new();
        match principal {
            Principal::User(id) => {
                let user = estate.user(id);
                fields.push(("full name", Cell::maybe(user.full_name.as_deref())));
                if !user.enabled {
                    fields.push(("enabled", Cell::Flag(false)));
                }
                let manager = user.manager.map(|id| self.id(Principal::User(id)));
                fields.push(("manager", Cell::maybe(manager)));
                fields.extend(imported(&user.imported));
            }
            Principal::Group(id) => {
                let group = estate.group(id);
                let owners = group.owners.iter().flatten().map(|id| self.id(Principal::User(*id)));
                fields.push(("owners", Cell::List(owners.collect())));
                fields.push(("join", Cell::text(group.join.word())));
                let when = group.members_when.as_ref().map(|when: &Condition| &*when.text);
                fields.push(("members when", Cell::maybe(when)));
                let asks = group.asks.iter().map(|ask| self.id(Principal::User(ask.who)));
                if !group.asks.is_empty() {
                    fields.push(("asked to be let in", Cell::List(asks.collect())));
                }
                fields.extend(imported(&group.imported));
            }
            Principal::Role(id) => {
                let role = estate.role(id);
                fields.push(("held by", windowed(self, &role.held_by)));
                fields.push(("taken up by", windowed(self, &role.taken_by)));
            }
            Principal::Workload(_) => {}
        }
        fields.push(("about", Cell::maybe(identity.about.as_deref())));
        fields.push(("place", Cell::maybe(identity.place.map(|id| &*estate.scope(id).path))));
        fields.push(("attributes", attributes(self, &identity.attributes)));
        fields.push(("written", Cell::text(self.sources.shown(identity.origin))));
        fields
    }

    /// Every policy that reaches a principal, and every ceiling that binds it.
    fn reaching(
        &self,
        report: &mut Report,
        who: Principal,
        closure: &Closure<'_>,
        routes: &Routes,
    ) {
        let estate = self.estate;
        let sought = |subject: Subject| match subject {
            Subject::Everyone => true,
            Subject::One(Principal::Group(id)) => closure.groups.binary_search(&id).is_ok(),
            Subject::One(Principal::Role(id)) => closure.roles.binary_search(&id).is_ok(),
            Subject::One(principal) => principal == who,
        };
        let way = |subject: Subject| {
            let route = routes.brief(subject);
            let text = match subject {
                Subject::Everyone => "everyone".to_owned(),
                Subject::One(_) => {
                    phrases::route(estate, who, &route).unwrap_or_else(|| "directly".to_owned())
                }
            };
            Cell::Told(text, shape::route(estate, who, &route))
        };
        let mut rows: Vec<(String, Vec<Cell>)> = Vec::new();
        for attachment in &estate.attachments {
            for to in attachment.to.iter().filter(|to| sought(to.value)) {
                for at in &attachment.at {
                    let path = &estate.scope(at.value).path;
                    for policy in &attachment.policies {
                        let row = vec![
                            Cell::text(&**path),
                            Cell::text(&*estate.policy(policy.value).name),
                            way(to.value),
                            state(self, attachment.window),
                            Cell::text(self.sources.shown(attachment.origin)),
                        ];
                        rows.push((path.to_string(), row));
                    }
                }
            }
        }
        rows.sort_by(|a, b| a.0.split('/').cmp(b.0.split('/')));
        let rows = rows.into_iter().map(|(_, row)| row).collect();
        let columns = &["at", "policy", "how", "window", "written"];
        report.rows("policies", "policies that reach it", columns, rows);

        let mut rows = Vec::new();
        for ceiling in &estate.ceilings {
            let Some(bound) = ceiling.bound.iter().find(|subject| sought(**subject)) else {
                continue;
            };
            let over = match &ceiling.over {
                None => vec!["everywhere".to_owned()],
                Some(list) => list.iter().map(|s| estate.scope(s.value).path.to_string()).collect(),
            };
            for policy in &ceiling.policies {
                rows.push(vec![
                    Cell::text(&*estate.policy(policy.value).name),
                    Cell::List(over.clone()),
                    way(*bound),
                    state(self, ceiling.window),
                    Cell::text(self.sources.shown(ceiling.origin)),
                ]);
            }
        }
        let columns = &["policy", "over", "how", "window", "written"];
        report.rows("ceilings", "ceilings that bind it", columns, rows);
    }

    /// A policy: its statements, where it is attached, where it limits.
    pub(super) fn policy(&self, id: PolicyId) -> Report {
        let estate = self.estate;
        let policy = estate.policy(id);
        let mut report = Report::new(format!("policy:{}", policy.name));
        let attachable = match &policy.attachable {
            None => Cell::None,
            Some(list) => {
                Cell::List(list.iter().map(|at| estate.scope(at.value).path.to_string()).collect())
            }
        };
        let includes = policy.include.iter().map(|id| estate.policy(*id).name.to_string());
        let included_by = estate.policies.iter().filter(|other| other.include.contains(&id));
        report.fields(
            "policy",
            vec![
                ("about", Cell::maybe(policy.about.as_deref())),
                ("includes", Cell::List(includes.collect())),
                ("included by", Cell::List(included_by.map(|p| p.name.to_string()).collect())),
                ("place", Cell::maybe(policy.place.map(|id| &*estate.scope(id).path))),
                ("locked", told_if(estate.is_locked(id))),
                ("attachable", attachable),
                ("allows up to", Cell::maybe(gravest(self, &policy.allowed_actions))),
                ("written", Cell::text(self.sources.shown(policy.origin))),
            ],
        );
        let rows = policy.allows.iter().chain(&policy.denies).map(|id| {
            let statement = estate.statement(*id);
            vec![
                Cell::text(statement.effect.word()),
                Cell::text(estate.statement_label(*id)),
                Cell::List(statement.do_written.iter().map(ToString::to_string).collect()),
                Cell::List(statement.on.texts().map(str::to_owned).collect()),
                Cell::maybe(statement.when.as_ref().map(|when| &*when.text)),
                Cell::text(self.sources.shown(statement.origin)),
            ]
        });
        let columns = &["effect", "statement", "do", "on", "when", "written"];
        report.rows("statements", "statements", columns, rows.collect());
        let columns = &["kind", "observe", "operate", "alter", "govern"];
        report.rows("kinds", "kinds it covers", columns, coverage(self, policy));
        let holds =
            |list: &[bexum_core::origin::Spanned<PolicyId>]| list.iter().any(|p| p.value == id);
        let rows = estate.attachments.iter().filter(|a| holds(&a.policies)).map(|attachment| {
            let to = attachment.to.iter().map(|to| self.subject(to.value));
            let at = attachment.at.iter().map(|at| estate.scope(at.value).path.to_string());
            vec![
                Cell::List(to.collect()),
                Cell::List(at.collect()),
                state(self, attachment.window),
                Cell::text(self.sources.shown(attachment.origin)),
            ]
        });
        let columns = &["to", "at", "window", "written"];
        report.rows("attachments", "attached", columns, rows.collect());
        let rows = estate.ceilings.iter().filter(|c| holds(&c.policies)).map(|ceiling| {
            let over = match &ceiling.over {
                None => vec!["everywhere".to_owned()],
                Some(list) => list.iter().map(|s| estate.scope(s.value).path.to_string()).collect(),
            };
            vec![
                Cell::List(over),
                Cell::List(ceiling.bound.iter().map(|s| self.subject(*s)).collect()),
                state(self, ceiling.window),
                Cell::text(self.sources.shown(ceiling.origin)),
            ]
        });
        let columns = &["over", "for", "window", "written"];
        report.rows("ceilings", "as a ceiling", columns, rows.collect());
        report
    }

    fn scope_fields(&self, id: ScopeId) -> Vec<(&'static str, Cell)> {
        let scope = self.estate.scope(id);
        vec![
            ("path", Cell::text(&*scope.path)),
            ("what", class(self.estate, scope.class())),
            ("about", Cell::maybe(scope.about.as_deref())),
            ("sealed", told_if(scope.sealed)),
            ("written", Cell::text(self.sources.shown(scope.origin))),
        ]
    }

    /// A place: its attributes with where they come from, what applies, who is attached.
    pub(super) fn scope(&self, id: ScopeId, target: &Target<'_>) -> Report {
        let estate = self.estate;
        let mut report = Report::new(target.path.to_owned());
        let target_class = target.class(estate);
        match target.place {
            TargetPlace::Item(_) => report.fields(
                "item",
                vec![
                    ("what", class(estate, target_class)),
                    ("nearest scope", Cell::text(&*estate.scope(id).path)),
                ],
            ),
            _ => report.fields("scope", self.scope_fields(id)),
        }
        let mut seen = Vec::new();
        let mut rows = Vec::new();
        for at in estate.scopes.chain(id) {
            for (name, value) in estate.scope(at).attributes.iter() {
                if !seen.contains(&name) {
                    seen.push(name);
                    rows.push(vec![
                        Cell::text(estate.attribute_names.name(name)),
                        Cell::Told(value.to_string(), value_json(value)),
                        Cell::text(&*estate.scope(at).path),
                    ]);
                }
            }
        }
        report.rows("attributes", "attributes", &["attribute", "value", "from"], rows);
        let applicable = estate.catalogue.applicable(target_class);
        let rows = bexum_core::catalogue::Level::ALL.into_iter().filter_map(|level| {
            let actions = applicable.ones().map(|i| &estate.catalogue.actions[i]);
            let names: Vec<String> =
                actions.filter(|a| a.level == level).map(|a| a.name.to_string()).collect();
            (!names.is_empty()).then(|| vec![Cell::text(level.word()), Cell::List(names)])
        });
        report.rows("actions", "actions that apply", &["level", "actions"], rows.collect());
        self.attached_above(&mut report, id);
        report
    }

    /// What is attached at a scope and above, nearest first, down to the nearest seal.
    fn attached_above(&self, report: &mut Report, id: ScopeId) {
        let estate = self.estate;
        let mut rows = Vec::new();
        let mut sealed = false;
        for at in estate.scopes.chain(id) {
            for attachment in &estate.attachments {
                if !attachment.at.iter().any(|scope| scope.value == at) {
                    continue;
                }
                let policies =
                    attachment.policies.iter().map(|p| estate.policy(p.value).name.to_string());
                let to = attachment.to.iter().map(|to| self.subject(to.value));
                let reach = match attachment.window.phase(self.at) {
                    Phase::Open if sealed => {
                        Cell::Told("denies only: sealed".to_owned(), "denies-only".into())
                    }
                    _ => state(self, attachment.window),
                };
                rows.push(vec![
                    Cell::text(&*estate.scope(at).path),
                    Cell::List(policies.collect()),
                    Cell::List(to.collect()),
                    reach,
                    Cell::text(self.sources.shown(attachment.origin)),
                ]);
            }
            sealed |= estate.scope(at).sealed;
        }
        let columns = &["at", "policy", "to", "reach", "written"];
        report.rows("attachments", "attached here and above", columns, rows);
    }

    /// A kind: its actions, what it holds, where there is one.
    pub(super) fn kind(&self, id: KindId) -> Report {
        let catalogue = &self.estate.catalogue;
        let kind = catalogue.kind(id);
        let names = |ids: &[KindId]| {
            Cell::List(ids.iter().map(|id| catalogue.kind(*id).name.to_string()).collect())
        };
        let mut report = Report::new(format!("kind:{}", kind.name));
        report.fields(
            "kind",
            vec![
                (
                    "service",
                    Cell::maybe(kind.service.map(|id| &*catalogue.services[id.index()].name)),
                ),
                ("about", Cell::maybe(kind.about.as_deref())),
                ("items", names(&kind.items)),
                ("holds", names(&kind.holds)),
                ("written", Cell::text(self.sources.shown(kind.origin))),
            ],
        );
        let rows = catalogue.actions[kind.actions.clone()].iter().map(|action| {
            let addresses = match action.addresses {
                Addresses::Itself => "the thing itself",
                Addresses::Account => "the whole account",
                Addresses::Parent => "the scope that will hold it",
            };
            let asked_of = shape::asked_of(action.addresses);
            let addresses = Cell::Told(addresses.to_owned(), asked_of.into());
            vec![Cell::text(&*action.name), Cell::text(action.level.word()), addresses]
        });
        report.rows("actions", "actions", &["action", "level", "asked of"], rows.collect());
        let scopes = self.estate.scopes.iter().filter(|(_, scope)| scope.kind == Some(id));
        let rows = scopes.map(|(_, scope)| vec![Cell::text(&*scope.path)]);
        report.rows("scopes", "scopes of this kind", &["path"], rows.collect());
        report
    }
}
