//! The catalogue: kinds, verbs and their levels.

use rustc_hash::{FxHashMap, FxHashSet};

use super::{Builder, boxed};
use crate::catalogue::{Action, Addresses, Catalogue, Kind, RESERVED_KINDS, Service, Written};
use crate::declaration::{self, Declarations, Named};
use crate::fault::Fault;
use crate::id::{KindId, ServiceId};
use crate::name::{Grammar, nearest};
use crate::origin::Spanned;

impl Builder<'_> {
    pub(super) fn build_catalogue(&mut self, declared: &Declarations) -> Catalogue {
        let services = self
            .services
            .in_order(&declared.services)
            .map(|named| Service {
                name: named.name.value.as_str().into(),
                about: boxed(named.about.as_ref()),
                origin: named.name.origin,
            })
            .collect();
        let mut kinds = Vec::new();
        let mut actions = Vec::new();
        let in_order: Vec<&Named<declaration::Kind>> =
            self.kinds.in_order(&declared.kinds).collect();
        for (i, named) in in_order.into_iter().enumerate() {
            let first = actions.len();
            self.build_actions(KindId::new(i), named, &mut actions);
            let kind = &named.body;
            let service = kind
                .service
                .as_ref()
                .and_then(|written| self.services.find(written, &mut self.faults, &mut self.near));
            kinds.push(Kind {
                name: named.name.value.as_str().into(),
                about: boxed(named.about.as_ref()),
                service: service.map(ServiceId::new),
                actions: first..actions.len(),
                items: self.build_kinds(&kind.items, Some("an item")),
                holds: self.build_kinds(&kind.holds, None),
                origin: named.name.origin,
            });
        }
        let written =
            Written { services: declared.services.clone(), kinds: declared.kinds.clone() };
        Catalogue::new(services, kinds, actions, written)
    }

    fn build_kinds(
        &mut self,
        list: &[Spanned<String>],
        reserved_for: Option<&'static str>,
    ) -> Box<[KindId]> {
        let found =
            self.resolve_list(list, |builder, written| builder.find_kind(written, reserved_for));
        found.iter().map(|written| written.value).collect()
    }

    /// A kind by name; with `reserved_for`, one of the spec's own kinds is a fault.
    pub(super) fn find_kind(
        &mut self,
        written: &Spanned<String>,
        reserved_for: Option<&'static str>,
    ) -> Option<KindId> {
        if let Some(what) = reserved_for
            && RESERVED_KINDS.contains(&written.value.as_str())
        {
            self.fault(Fault::ReservedKind { kind: written.value.clone(), what }, written.origin);
            return None;
        }
        self.kinds.find(written, &mut self.faults, &mut self.near).map(KindId::new)
    }

    fn build_actions(
        &mut self,
        kind: KindId,
        named: &Named<declaration::Kind>,
        actions: &mut Vec<Action>,
    ) {
        let name = &named.name.value;
        let mut seen: FxHashMap<&str, &Spanned<String>> = FxHashMap::default();
        let addresses = self.addresses(named);
        let first = actions.len();
        for (level, verb) in &named.body.verbs {
            if let Some(before) = seen.insert(&verb.value, verb) {
                let fault = Fault::VerbTwice { verb: verb.value.clone(), kind: name.clone() };
                let located = crate::fault::LocatedFault::new(fault, verb.origin)
                    .and_see(before.origin, "first here");
                self.faults.push(located);
                continue;
            }
            if !Grammar::Word.accepts(&verb.value) {
                let fault = Fault::BadName {
                    name: verb.value.clone(),
                    what: "a verb",
                    grammar: Grammar::Word,
                };
                self.fault(fault, verb.origin);
            }
            actions.push(Action {
                name: format!("{name}.{}", verb.value).into(),
                kind,
                level: *level,
                addresses: addresses.get(verb.value.as_str()).copied().unwrap_or(Addresses::Itself),
            });
        }
        actions[first..].sort_by(|a, b| a.name.cmp(&b.name));
    }

    /// What each verb of the two lists addresses; both lists name only verbs of the kind.
    fn addresses<'k>(
        &mut self,
        named: &'k Named<declaration::Kind>,
    ) -> FxHashMap<&'k str, Addresses> {
        let kind = &named.body;
        let verbs: FxHashSet<&str> =
            kind.verbs.iter().map(|(_, verb)| verb.value.as_str()).collect();
        let mut addresses = FxHashMap::default();
        let lists = [
            ("account-wide", &kind.account_wide, Addresses::Account),
            ("on-parent", &kind.on_parent, Addresses::Parent),
        ];
        for (key, list, what) in lists {
            for verb in list {
                if !verbs.contains(verb.value.as_str()) {
                    let nearest = nearest(&verb.value, verbs.iter().copied()).map(str::to_owned);
                    let fault = Fault::VerbUnlisted {
                        key,
                        verb: verb.value.clone(),
                        kind: named.name.value.clone(),
                        nearest,
                    };
                    self.fault(fault, verb.origin);
                }
                if addresses.insert(verb.value.as_str(), what).is_some_and(|before| before != what)
                {
                    self.fault(Fault::VerbInBoth(verb.value.clone()), verb.origin);
                }
            }
        }
        addresses
    }
}
