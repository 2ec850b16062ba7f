//! Checks, laws and separations: names resolved, requests that make no sense refused.

use fixedbitset::FixedBitSet;
use rustc_hash::FxHashMap;

use super::policies::Spelled;
use super::principals::Allowed;
use super::{Builder, boxed};
use crate::attribute::Value;
use crate::catalogue::Catalogue;
use crate::condition::ast::Root;
use crate::declaration::{self, Declarations, List};
use crate::estate::Estate;
use crate::expectation::{Check, Duty, Law, Separation};
use crate::fault::{Fault, LocatedFault};
use crate::id::{GroupId, PolicyId, RoleId};
use crate::limits::CHECK_REQUESTS;
use crate::origin::{Origin, Spanned};
use crate::principal::PrincipalType;
use crate::request::RequestFault;
use crate::time::Time;
use crate::vocabulary::{Misfit, Vocabulary};

impl<'d> Builder<'d> {
    pub(super) fn refuse_same_expectations(&mut self, declared: &'d Declarations) {
        let checks = declared.checks.iter().map(|check| &check.name);
        let laws = declared.laws.iter().filter_map(|law| law.name.as_ref());
        let separations = declared.separations.iter().filter_map(|s| s.name.as_ref());
        let mut seen: FxHashMap<&str, Origin> = FxHashMap::default();
        for name in checks.chain(laws).chain(separations) {
            if name.value.trim().is_empty() || name.value.contains(char::is_control) {
                self.fault(Fault::BadTitle, name.origin);
            }
            if let Some(first) = seen.insert(&name.value, name.origin) {
                let fault = Fault::Duplicate { what: "expectation", name: name.value.clone() };
                let fault = LocatedFault::new(fault, name.origin);
                self.faults.push(fault.and_see(first, "first declared here"));
            }
        }
    }

    pub(super) fn build_checks(&mut self, declared: &Declarations) -> Vec<Check> {
        declared.checks.iter().map(|written| self.build_check(written)).collect()
    }

    fn build_check(&mut self, written: &declaration::Check) -> Check {
        for (key, list) in [("who", &written.who), ("does", &written.does), ("on", &written.on)] {
            self.refuse_empty(key, list);
        }
        let lengths = [&written.who, &written.does, &written.on].map(|list| list.value.len());
        let requests = lengths.into_iter().fold(1, usize::saturating_mul);
        if requests > CHECK_REQUESTS {
            self.fault(Fault::TooManyRequests(requests), written.origin);
        }
        let mut time = None;
        let mut given: Vec<(Box<str>, Option<Value>)> = Vec::new();
        for (name, value) in &written.given {
            if name.value.split('.').next() == Some("time") {
                time = self.check_time(name, value);
            } else if holds_time(value) {
                self.fault(Fault::CheckTimes("given"), name.origin);
            } else {
                given.push((name.value.as_str().into(), Some(value.clone())));
            }
        }
        for name in &written.absent {
            if name.value == "time" {
                self.fault(Fault::CheckMoment, name.origin);
            }
            let below = |known: &str| {
                let rest = known.strip_prefix(name.value.as_str());
                rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
            };
            if given.iter().any(|(known, value)| value.is_some() && below(known)) {
                self.fault(Fault::BothGivenAndAbsent(name.value.clone()), name.origin);
            }
            given.push((name.value.as_str().into(), None));
        }
        let item = written.item.as_ref().map(|item| {
            let mut kept: Vec<(Box<str>, Value)> = Vec::new();
            for (name, value) in item {
                if holds_time(value) {
                    self.fault(Fault::CheckTimes("item"), name.origin);
                }
                kept.push((name.value.as_str().into(), value.clone()));
            }
            kept.into()
        });
        if let Some(reason) = &written.reason
            && reason.value.verdict() != written.expect
        {
            let fault = Fault::OtherVerdict { reason: reason.value, expect: written.expect };
            self.fault(fault, reason.origin);
        }
        let texts = |list: &[Spanned<String>]| -> Box<[Box<str>]> {
            list.iter().map(|text| text.value.as_str().into()).collect()
        };
        Check {
            name: written.name.value.as_str().into(),
            who: texts(&written.who.value),
            does: texts(&written.does.value),
            on: texts(&written.on.value),
            take_up: boxed(written.take_up.as_ref().map(|role| &role.value)),
            also: texts(&written.also),
            under: texts(&written.under),
            given: given.into(),
            time,
            item,
            expect: written.expect,
            reason: written.reason.as_ref().map(|reason| reason.value),
            about: boxed(written.about.as_ref()),
            origin: written.origin,
        }
    }

    fn check_time(&mut self, name: &Spanned<String>, value: &Value) -> Option<Time> {
        let time = match value {
            Value::Time(time) if name.value == "time" => Some(*time),
            Value::Text(text) if name.value == "time" => Time::parse(text),
            _ => None,
        };
        if time.is_none() {
            self.fault(Fault::CheckMoment, name.origin);
        }
        time
    }

    pub(super) fn build_laws(
        &mut self,
        declared: &'d Declarations,
        catalogue: &Catalogue,
        resources: &FixedBitSet,
    ) -> Vec<Law> {
        let mut spelled = Spelled::default();
        let mut places = [0, 0];
        let mut laws = Vec::with_capacity(declared.laws.len());
        for written in &declared.laws {
            let place = &mut places[written.claim as usize];
            *place += 1;
            let name = self.title(written.name.as_ref(), written.claim.word(), *place);
            laws.push(Law {
                claim: written.claim,
                name,
                who: self.concerned("who", &written.who, resources),
                except: match &written.except {
                    Some(list) => self.concerned("except", list, resources),
                    None => Box::default(),
                },
                does_written: written.does.value.iter().map(|t| t.value.as_str().into()).collect(),
                actions: self.build_action_set("does", &written.does, catalogue, &mut spelled),
                on: self.absolute_paths(&written.on),
                when: written.when.as_ref().and_then(|when| self.build_condition(when)),
                about: boxed(written.about.as_ref()),
                origin: written.origin,
            });
        }
        laws
    }

    fn title(&self, written: Option<&Spanned<String>>, word: &str, place: usize) -> Box<str> {
        written.map_or_else(|| format!("{word} {place}"), |name| name.value.clone()).into()
    }

    fn concerned(
        &mut self,
        key: &'static str,
        list: &List,
        resources: &FixedBitSet,
    ) -> Box<[crate::principal::Subject]> {
        self.refuse_empty(key, list);
        let found = self.resolve_list(&list.value, |builder, written| {
            builder.find_subject(written, Allowed::Everyone, resources)
        });
        found.iter().map(|found| found.value).collect()
    }

    fn absolute_paths(&mut self, list: &List) -> crate::pattern::PathSet {
        for written in &list.value {
            if !written.value.trim_start_matches('!').starts_with('/') {
                self.fault(Fault::NotAbsolute(written.value.clone()), written.origin);
            }
        }
        self.build_path_set(Some(list))
    }

    pub(super) fn build_separations(&mut self, declared: &Declarations) -> Vec<Separation> {
        let mut built = Vec::with_capacity(declared.separations.len());
        for (i, written) in declared.separations.iter().enumerate() {
            let list = self.resolve_list(&written.any_two_of.value, Self::find_duty);
            if list.len() < 2 && list.len() == written.any_two_of.value.len() {
                self.fault(Fault::NothingToKeepApart, written.any_two_of.origin);
            }
            built.push(Separation {
                name: self.title(written.name.as_ref(), "apart", i + 1),
                any_two_of: list.iter().map(|found| found.value).collect(),
                at: written.at.as_ref().map(|at| {
                    self.refuse_empty("at", at);
                    let scopes = self.resolve_list(&at.value, Self::find_scope);
                    scopes.iter().map(|found| found.value).collect()
                }),
                about: boxed(written.about.as_ref()),
                origin: written.origin,
            });
        }
        built
    }

    fn find_duty(&mut self, written: &Spanned<String>) -> Option<Duty> {
        let Self { faults, near, groups, roles, policies, .. } = self;
        let at = written.origin;
        if let Some(name) = written.value.strip_prefix("policy:") {
            let found = policies.find_at(name, at, faults, near)?;
            return Some(Duty::Policy(PolicyId::new(found)));
        }
        match PrincipalType::split(&written.value) {
            Some((PrincipalType::Group, name)) => {
                Some(Duty::Group(GroupId::new(groups.find_at(name, at, faults, near)?)))
            }
            Some((PrincipalType::Role, name)) => {
                Some(Duty::Role(RoleId::new(roles.find_at(name, at, faults, near)?)))
            }
            _ => {
                let expected = "write `role:NAME`, `group:NAME` or `policy:NAME`";
                let fault = Fault::NotAPrincipal { found: written.value.clone(), expected };
                self.fault(fault, written.origin);
                None
            }
        }
    }
}

/// Every request of every check must be one that can be asked.
pub(super) fn refuse_requests(estate: &Estate, declared: &Declarations) -> Vec<LocatedFault> {
    let mut faults = Vec::new();
    for (check, written) in estate.checks.iter().zip(&declared.checks) {
        // The other requests of a check are mostly wrong in the same way: one is told.
        let first = check.requests(Time(0)).find_map(|request| request.resolve(estate).err());
        let first = first.map(|fault| (place_of(&fault, written), fault));
        if let Some((place, fault)) = first.or_else(|| misplaced_table(estate, written)) {
            let hint = fault.hint(estate);
            faults.push(LocatedFault::new(Fault::CheckRequest { fault, hint }, place));
        }
    }
    faults
}

/// A table without anything in it that stands where one attribute is declared (spec-work section
/// 7.1). It makes no circumstance, so the requests of the check do not have it.
fn misplaced_table(estate: &Estate, check: &declaration::Check) -> Option<(Origin, RequestFault)> {
    let Vocabulary { given, target, .. } = &estate.vocabulary;
    let roots = [(Root::Given, given), (Root::Target, target)];
    roots.into_iter().zip(&check.empty_tables).find_map(|((root, declared), tables)| {
        tables.iter().find_map(|table| match declared.misfit_table(&table.value) {
            Some(Misfit::Table(at)) => {
                Some((table.origin, RequestFault::NoHead(format!("{root}.{at}"))))
            }
            _ => None,
        })
    })
}

/// The name that a fault is about, where the check has it.
fn place_of(fault: &RequestFault, check: &declaration::Check) -> Origin {
    let among = |list: &[Spanned<String>], name: &str| {
        list.iter().find(|written| written.value == name).map(|written| written.origin)
    };
    let found = match fault {
        RequestFault::Principal(name) => among(&check.who.value, name),
        RequestFault::Action(name) => among(&check.does.value, name),
        RequestFault::Role(_) => check.take_up.as_ref().map(|role| role.origin),
        RequestFault::Group(name) => among(&check.also, name),
        RequestFault::Policy(name) | RequestFault::EmptyPolicy(name) => among(&check.under, name),
        RequestFault::Path { path, .. }
        | RequestFault::Nowhere { path, .. }
        | RequestFault::NotApplicable { path, .. }
        | RequestFault::ItemOfDeclared(path) => among(&check.on.value, path),
        RequestFault::DoesNotFit { name, .. }
        | RequestFault::NoTable(name)
        | RequestFault::NoHead(name) => {
            let is_in = |root: &str, written: &Spanned<String>| {
                let rest = name.strip_prefix(root).and_then(|rest| rest.strip_prefix('.'));
                rest.is_some_and(|rest| {
                    let below = written.value.strip_prefix(rest);
                    below.is_some_and(|below| below.is_empty() || below.starts_with('.'))
                })
            };
            let mut given = check.given.iter().map(|(name, _)| name);
            let mut item = check.item.iter().flatten().map(|(name, _)| name);
            let found = given.find(|written| is_in("given", written));
            let found = found.or_else(|| item.find(|written| is_in("target", written)));
            found.map(|written| written.origin)
        }
        RequestFault::ReservedItemName(name) => {
            let mut names = check.item.iter().flatten().map(|(name, _)| name);
            let head = |written: &&Spanned<String>| written.value.split('.').next() == Some(name);
            names.find(head).map(|written| written.origin)
        }
    };
    found.unwrap_or(check.origin)
}

fn holds_time(value: &Value) -> bool {
    match value {
        Value::Time(_) => true,
        Value::List(items) => items.iter().any(holds_time),
        _ => false,
    }
}
