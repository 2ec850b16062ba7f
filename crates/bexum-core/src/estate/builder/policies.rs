//! Policies, statements, attachments, ceilings.

use fixedbitset::FixedBitSet;
use rustc_hash::{FxHashMap, FxHashSet};

use super::graph::Edges;
use super::principals::Allowed;
use super::{Builder, boxed, origin_of};
use crate::catalogue::{ActionSet, Catalogue};
use crate::condition::ast::Root;
use crate::condition::check::resolve_reference;
use crate::declaration::{self, Declarations, List, Named};
use crate::fault::{Fault, LocatedFault};
use crate::id::{PolicyId, ScopeId, StatementId};
use crate::name::nearest;
use crate::origin::{Origin, SourceSpan, Spanned};
use crate::pattern::action::ActionPattern;
use crate::pattern::path::BraceRoot;
use crate::pattern::{PathPattern, PathSet, PatternFault};
use crate::policy::{Attachment, Ceiling, Effect, Policy, Statement};
use crate::principal::Subject;
use crate::scope::ScopeTree;

/// What [`Builder::build_policies`] yields.
pub(super) struct Policies {
    pub(super) policies: Vec<Policy>,
    pub(super) statements: Vec<Statement>,
}

/// Action patterns already spelled out, by their text.
pub(super) type Spelled<'d> = FxHashMap<&'d str, Option<(bool, ActionSet)>>;

impl Builder<'_> {
    pub(super) fn build_policies(
        &mut self,
        declared: &Declarations,
        catalogue: &Catalogue,
    ) -> Policies {
        let in_order: Vec<&Named<declaration::Policy>> =
            self.policies.in_order(&declared.policies).collect();
        let mut statements = Vec::new();
        let mut own = Vec::with_capacity(in_order.len());
        let mut spelled = Spelled::default();
        for (i, named) in in_order.iter().enumerate() {
            let first = statements.len();
            self.refuse_same_names(named);
            let mut places = [0, 0];
            for statement in &named.body.statements {
                let place = &mut places[statement.effect as usize];
                *place += 1;
                let built = self.build_statement(
                    PolicyId::new(i),
                    *place,
                    statement,
                    catalogue,
                    &mut spelled,
                );
                statements.push(built);
            }
            own.push(first..statements.len());
        }
        let mut edges: Edges = Vec::with_capacity(in_order.len());
        for named in &in_order {
            let includes = self.resolve_list(&named.body.include, |builder, written| {
                builder.policies.find(written, &mut builder.faults, &mut builder.near)
            });
            edges.push(includes.iter().map(|found| (found.value, found.origin)).collect());
        }
        let name = |i: usize| in_order[i].name.value.clone();
        let postorder = self.report_loops("included policies", &edges, name);

        // Included policies come before those that include them.
        let mut effective: Vec<Vec<StatementId>> = vec![Vec::new(); in_order.len()];
        for i in postorder {
            let mut all: Vec<StatementId> = own[i].clone().map(StatementId::new).collect();
            for (included, _) in &edges[i] {
                all.extend_from_slice(&effective[*included]);
            }
            all.sort_unstable();
            all.dedup();
            effective[i] = all;
        }
        let mut targets = in_order.iter().map(|named| {
            let place = named.body.place.as_ref().and_then(|written| self.find_scope(written));
            let attachable = named.body.attachable.as_ref().map(|list| {
                self.refuse_empty("attachable", list);
                self.resolve_list(&list.value, Self::find_scope)
            });
            (place, attachable)
        });
        let targets: Vec<_> = targets.by_ref().collect();
        let policies = in_order
            .iter()
            .zip(targets)
            .zip(effective)
            .zip(&edges)
            .map(|(((named, (place, attachable)), all), includes)| {
                let (allows, denies): (Vec<StatementId>, Vec<StatementId>) =
                    all.into_iter().partition(|id| statements[id.index()].effect == Effect::Allow);
                let union = |ids: &[StatementId]| {
                    let mut set = ActionSet::with_capacity(catalogue.actions.len());
                    ids.iter().for_each(|id| set.union_with(&statements[id.index()].actions));
                    set
                };
                Policy {
                    name: named.name.value.as_str().into(),
                    about: boxed(named.about.as_ref()),
                    include: includes.iter().map(|(id, _)| PolicyId::new(*id)).collect(),
                    allowed_actions: union(&allows),
                    denied_actions: union(&denies),
                    allows: allows.into(),
                    denies: denies.into(),
                    place,
                    locked: named.body.locked,
                    attachable,
                    origin: named.name.origin,
                }
            })
            .collect();
        Policies { policies, statements }
    }

    fn refuse_same_names(&mut self, named: &Named<declaration::Policy>) {
        let mut seen: FxHashMap<&str, Origin> = FxHashMap::default();
        for name in named.body.statements.iter().filter_map(|statement| statement.name.as_ref()) {
            if let Some(first) = seen.insert(&name.value, name.origin) {
                let fault = Fault::DuplicateStatement {
                    policy: named.name.value.clone(),
                    name: name.value.clone(),
                };
                self.faults
                    .push(LocatedFault::new(fault, name.origin).and_see(first, "first named here"));
            }
        }
    }

    fn build_statement<'d>(
        &mut self,
        policy: PolicyId,
        place: usize,
        statement: &'d declaration::Statement,
        catalogue: &Catalogue,
        spelled: &mut Spelled<'d>,
    ) -> Statement {
        Statement {
            policy,
            effect: statement.effect,
            name: boxed(statement.name.as_ref().map(|name| &name.value)),
            place,
            about: boxed(statement.about.as_ref()),
            do_written: statement
                .actions
                .value
                .iter()
                .map(|text| text.value.as_str().into())
                .collect(),
            actions: self.build_action_set("do", &statement.actions, catalogue, spelled),
            on: self.build_path_set(statement.on.as_ref()),
            when: statement.when.as_ref().and_then(|written| self.build_condition(written)),
            origin: statement.origin,
        }
    }

    pub(super) fn build_action_set<'d>(
        &mut self,
        key: &'static str,
        list: &'d List,
        catalogue: &Catalogue,
        spelled: &mut Spelled<'d>,
    ) -> ActionSet {
        self.refuse_empty(key, list);
        let mut plain = ActionSet::with_capacity(catalogue.actions.len());
        let mut excluded = plain.clone();
        let mut only_excludes = !list.value.is_empty();
        for written in &list.value {
            if !spelled.contains_key(written.value.as_str()) {
                let set = self.spell_out(written, catalogue);
                spelled.insert(&written.value, set);
            } else if spelled.get(written.value.as_str()).is_some_and(Option::is_none) {
                self.spell_out(written, catalogue); // the same fault in another place
            }
            match spelled.get(written.value.as_str()) {
                Some(Some((true, set))) => excluded.union_with(set),
                Some(Some((false, set))) => {
                    plain.union_with(set);
                    only_excludes = false;
                }
                _ => only_excludes = false,
            }
        }
        if only_excludes {
            self.fault(PatternFault::OnlyExcludes, origin_of(list));
        }
        plain.difference_with(&excluded);
        plain
    }

    /// Whether a pattern excludes, and the actions that it names; none is a fault.
    fn spell_out(
        &mut self,
        written: &Spanned<String>,
        catalogue: &Catalogue,
    ) -> Option<(bool, ActionSet)> {
        let pattern = match ActionPattern::parse(&written.value) {
            Ok(pattern) => pattern,
            Err(fault) => {
                self.fault(fault, written.origin);
                return None;
            }
        };
        let set = catalogue.named_by(&pattern, &written.value);
        if set.is_empty() {
            let bare = written.value.trim_start_matches('!');
            let near = self
                .near
                .spend()
                .then(|| nearest(bare, catalogue.actions.iter().map(|action| &*action.name)));
            let nearest = near.flatten().map(str::to_owned);
            self.fault(Fault::NoAction { pattern: written.value.clone(), nearest }, written.origin);
            return None;
        }
        Some((pattern.excludes, set))
    }

    pub(super) fn build_path_set(&mut self, list: Option<&List>) -> PathSet {
        let everything = || {
            let all = PathPattern {
                text: "**".into(),
                excludes: false,
                absolute: false,
                segments: [crate::pattern::path::Segment::Rest].into(),
            };
            PathSet { plain: [all].into(), excluded: Box::default() }
        };
        let Some(list) = list else { return everything() };
        self.refuse_empty("on", list);
        let mut patterns = Vec::with_capacity(list.value.len());
        for written in &list.value {
            match PathPattern::parse(&written.value) {
                Ok(pattern) => {
                    let mut refused = Vec::new();
                    patterns.push(pattern.map(&mut |root, name: String| {
                        let root = match root {
                            BraceRoot::Who => Root::Who,
                            BraceRoot::Given => Root::Given,
                        };
                        refused.extend(self.refuse_brace(root, &name));
                        resolve_reference(root, &name, &mut self.attribute_names)
                    }));
                    refused.into_iter().for_each(|fault| self.fault(fault, written.origin));
                }
                Err((fault, start, end)) => {
                    self.fault(fault, SourceSpan::inside(written.origin, start, end));
                }
            }
        }
        let complete = !list.value.is_empty() && patterns.len() == list.value.len();
        match PathSet::new(patterns) {
            Ok(set) => set,
            Err(fault) => {
                if complete {
                    self.fault(fault, origin_of(list));
                }
                everything()
            }
        }
    }

    pub(super) fn build_attachments(
        &mut self,
        declared: &Declarations,
        resources: &FixedBitSet,
    ) -> Vec<Attachment> {
        declared
            .attachments
            .iter()
            .map(|written| {
                self.refuse_empty("policy", &written.policy);
                self.refuse_empty("to", &written.to);
                self.refuse_empty("at", &written.at);
                Attachment {
                    policies: self.find_policies(&written.policy),
                    to: self.find_subjects(&written.to, resources),
                    at: self.resolve_list(&written.at.value, Self::find_scope),
                    window: self.build_window(&written.window),
                    about: boxed(written.about.as_ref()),
                    origin: written.origin,
                }
            })
            .collect()
    }

    /// Refuses attachments beyond the scopes at which their policies, or what these include, may be
    /// attached (spec-work section 7.2).
    pub(super) fn refuse_unattachable(
        &mut self,
        scopes: &ScopeTree,
        attachments: &[Attachment],
        policies: &[Policy],
    ) {
        if policies.iter().all(|policy| policy.attachable.is_none()) {
            return;
        }
        let path = |scope: ScopeId| &*scopes.get(scope).path;
        let is_within = |at: ScopeId, scope: ScopeId| {
            let rest = path(at).strip_prefix(path(scope));
            rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
        };
        let mut found = Vec::new();
        for attachment in attachments {
            for attached in &attachment.policies {
                let mut waiting = vec![attached.value];
                let mut seen: FxHashSet<PolicyId> = waiting.iter().copied().collect();
                while let Some(id) = waiting.pop() {
                    let policy = &policies[id.index()];
                    waiting.extend(policy.include.iter().filter(|id| seen.insert(**id)));
                    let Some(allowed) = &policy.attachable else { continue };
                    for at in &attachment.at {
                        if allowed.iter().any(|scope| is_within(at.value, scope.value)) {
                            continue;
                        }
                        let fault = Fault::NotAttachable {
                            policy: policy.name.to_string(),
                            at: path(at.value).to_owned(),
                        };
                        let mut located = LocatedFault::new(fault, at.origin);
                        if let Some(first) = allowed.first() {
                            located = located.and_see(first.origin, "attachable only here");
                        }
                        found.push(located);
                    }
                }
            }
        }
        self.faults.extend(found);
    }

    pub(super) fn build_ceilings(
        &mut self,
        declared: &Declarations,
        resources: &FixedBitSet,
        policies: &[Policy],
    ) -> Vec<Ceiling> {
        declared
            .ceilings
            .iter()
            .map(|written| {
                self.refuse_empty("policy", &written.policy);
                let found = self.find_policies(&written.policy);
                for policy in &found {
                    let policy_itself = &policies[policy.value.index()];
                    if policy_itself.is_empty() {
                        let fault = Fault::EmptyCeiling(policy_itself.name.to_string());
                        self.faults.push(
                            LocatedFault::new(fault, policy.origin)
                                .and_see(policy_itself.origin, "this policy"),
                        );
                    }
                }
                let over = written.over.as_ref().map(|list| {
                    self.refuse_empty("over", list);
                    self.resolve_list(&list.value, Self::find_scope)
                });
                let bound = match &written.bound {
                    None => [Subject::Everyone].into(),
                    Some(list) => {
                        self.refuse_empty("for", list);
                        self.find_subjects(list, resources)
                            .iter()
                            .map(|found| found.value)
                            .collect()
                    }
                };
                Ceiling {
                    policies: found,
                    over,
                    bound,
                    window: self.build_window(&written.window),
                    about: boxed(written.about.as_ref()),
                    origin: written.origin,
                }
            })
            .collect()
    }

    fn find_policies(&mut self, list: &List) -> Box<[Spanned<PolicyId>]> {
        self.resolve_list(&list.value, |builder, written| {
            let found = builder.policies.find(written, &mut builder.faults, &mut builder.near);
            found.map(PolicyId::new)
        })
    }

    fn find_subjects(&mut self, list: &List, resources: &FixedBitSet) -> Box<[Spanned<Subject>]> {
        self.resolve_list(&list.value, |builder, written| {
            builder.find_subject(written, Allowed::Everyone, resources)
        })
    }
}
