//! Applications: who may sign in, and what they are told (spec-work section 13); sources of people.

use fixedbitset::FixedBitSet;

use super::Builder;
use super::names::Names;
use super::principals::Allowed;
use crate::application::{Application, Audience, LEFT_OUT, NamePatterns, OWN_CLAIMS};
use crate::declaration::{self, Declarations, List, Named};
use crate::fault::{Fault, LocatedFault};
use crate::import::{MappedKey, Source};
use crate::limits::PATTERN_BYTES;
use crate::pattern::PatternFault;
use crate::principal::Subject;
use crate::time::length_in_micros;

/// How long a token counts if nothing is said, in seconds.
const AN_HOUR: i64 = 3_600;
/// How many groups a claim holds if nothing is said.
const AT_MOST: i64 = 200;

impl Builder<'_> {
    /// The applications, by name.
    pub(super) fn build_applications(&mut self, declared: &Declarations) -> Vec<Application> {
        let names = Names::declare("application", &declared.applications, &mut self.faults);
        let in_order: Vec<_> = names.in_order(&declared.applications).collect();
        in_order.into_iter().map(|named| self.build_application(named)).collect()
    }

    /// Where people come from, by name.
    pub(super) fn build_sources(&mut self, declared: &Declarations) -> Vec<Source> {
        let names = Names::declare("source", &declared.sources, &mut self.faults);
        let in_order: Vec<_> = names.in_order(&declared.sources).collect();
        let mut found = Vec::with_capacity(in_order.len());
        for named in in_order {
            let map = named.body.map.iter().filter_map(|(column, key)| {
                let mapped = MappedKey::read(&key.value);
                if mapped.is_none() {
                    self.faults
                        .push(LocatedFault::new(Fault::MappedKey(key.value.clone()), key.origin));
                }
                Some((column.value.as_str().into(), mapped?))
            });
            let map = map.collect();
            let name = named.name.value.as_str().into();
            found.push(Source { name, map, origin: named.name.origin });
        }
        found
    }

    fn build_application(&mut self, named: &Named<declaration::Application>) -> Application {
        let body = &named.body;
        if let Some(claim) = &body.claim {
            let is_own = OWN_CLAIMS.contains(&claim.value.as_str());
            if is_own || claim.value.ends_with(LEFT_OUT) || claim.value.is_empty() {
                self.fault(Fault::ClaimName(claim.value.clone()), claim.origin);
            }
        }
        let lasts = body.lasts.as_ref().and_then(|written| {
            let length = length_in_micros(&written.value);
            if length.is_none() {
                self.fault(Fault::NoLength(written.value.clone()), written.origin);
            }
            length
        });
        let mut roles: Vec<(Box<str>, Audience)> = body
            .roles
            .iter()
            .map(|(name, list)| (name.value.as_str().into(), self.build_audience("roles", list)))
            .collect();
        roles.sort_by(|a, b| a.0.cmp(&b.0));
        Application {
            name: named.name.value.as_str().into(),
            about: named.about.as_deref().map(Into::into),
            open_to: match &body.open_to {
                Some(list) => self.build_audience("open-to", list),
                None => Audience::Everyone,
            },
            claim: body.claim.as_ref().map_or("groups", |claim| &claim.value).into(),
            told: body.told,
            through: body.through,
            names: body.names.as_ref().map(|list| self.build_names(list)),
            as_id: body.as_id,
            at_most: usize::try_from(body.at_most.unwrap_or(AT_MOST)).unwrap_or(usize::MAX),
            beyond: body.beyond,
            roles: roles.into(),
            lasts: lasts.map_or(AN_HOUR, |micros| micros / 1_000_000),
            origin: named.name.origin,
        }
    }

    fn build_audience(&mut self, key: &'static str, list: &List) -> Audience {
        self.refuse_empty(key, list);
        let no_resources = FixedBitSet::new();
        let found = self.resolve_list(&list.value, |builder, written| {
            builder.find_subject(written, Allowed::People, &no_resources)
        });
        let people: Option<Box<[_]>> = found
            .iter()
            .map(|subject| match subject.value {
                Subject::Everyone => None,
                Subject::One(who) => Some(who),
            })
            .collect();
        people.map_or(Audience::Everyone, Audience::These)
    }

    fn build_names(&mut self, list: &List) -> NamePatterns {
        self.refuse_empty("names", list);
        let (mut plain, mut excluded) = (Vec::new(), Vec::new());
        for written in &list.value {
            let bare = written.value.strip_prefix('!');
            let text = bare.unwrap_or(&written.value);
            let is_letter = |b: u8| b.is_ascii_alphanumeric() || b"._-@*".contains(&b);
            if text.is_empty() || text.len() > PATTERN_BYTES || !text.bytes().all(is_letter) {
                self.fault(Fault::NamePattern(written.value.clone()), written.origin);
            }
            if bare.is_some() { &mut excluded } else { &mut plain }.push(text.into());
        }
        if plain.is_empty() && !excluded.is_empty() {
            let fault = Fault::Pattern { fault: PatternFault::OnlyExcludes };
            self.fault(fault, list.origin);
        }
        NamePatterns { plain: plain.into(), excluded: excluded.into() }
    }
}
