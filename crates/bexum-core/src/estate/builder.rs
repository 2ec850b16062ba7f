//! From declarations to the frozen estate: every fault is gathered before any is reported.
//!
//! Order of work: names are declared first, space by space; then each thing is resolved against
//! them. A thing with a fault still counts as declared, so that one fault does not breed others.

mod applications;
mod catalogue;
mod edit_rights;
mod expectations;
mod graph;
mod names;
mod policies;
mod principals;
mod reviews;
mod scopes;
mod vet;
mod vocabulary;

use std::sync::Arc;

use rustc_hash::FxHashSet;

use crate::attribute::{AttributeNames, Attributes, Value, is_reserved};
use crate::condition::{Condition, Located, Typed};
use crate::declaration::{Declarations, Group, List, Named, WindowWritten};
use crate::edit::canonical_group;
use crate::estate::{Estate, Preset};
use crate::fault::{Fault, LocatedFault};
use crate::origin::{Origin, SourceSpan, Spanned};
use crate::time::Window;
use crate::vocabulary::Vocabulary;

use names::{Budget, Names};
use vocabulary::Bearer;

/// Every fault found so far, and what later steps need of earlier ones.
struct Builder<'d> {
    faults: Vec<LocatedFault>,
    attribute_names: AttributeNames,
    services: Names<'d>,
    kinds: Names<'d>,
    scopes: Names<'d>,
    users: Names<'d>,
    groups: Names<'d>,
    roles: Names<'d>,
    policies: Names<'d>,
    near: Budget,
    vocabulary: Vocabulary,
    /// Every catalogued kind, for what is said of `target.kind`.
    kind_names: Vec<String>,
}

/// Names of attributes that another estate has come first, whether or not they are used.
pub(super) fn build<'d>(
    declared: &'d Declarations,
    beside: Option<&'d Estate>,
) -> Result<Estate, Vec<LocatedFault>> {
    let mut builder = Builder::new();
    let faults = &mut builder.faults;
    builder.services = Names::declare("service", &declared.services, faults);
    builder.kinds = Names::declare("kind", &declared.kinds, faults);
    builder.users = Names::declare("user", &declared.users, faults);
    builder.groups = Names::declare("group", &declared.groups, faults);
    builder.roles = Names::declare("role", &declared.roles, faults);
    builder.policies = Names::declare("policy", &declared.policies, faults);
    builder.attribute_names = beside.map(|other| other.attribute_names.clone()).unwrap_or_default();
    builder.build_vocabulary(declared);
    // What is written the same has no fault, and is the same.
    let same_catalogue = beside
        .map(|other| &other.catalogue)
        .filter(|catalogue| catalogue.is_written_as(&declared.services, &declared.kinds));
    let same_scopes = beside
        .filter(|other| same_catalogue.is_some() && other.vocabulary == builder.vocabulary)
        .filter(|other| scopes::are_written_as(other, &declared.scopes))
        .map(|other| &other.scopes);
    builder.scopes = match same_scopes {
        Some(tree) => Names::of_tree(tree),
        None => Names::declare("scope", &declared.scopes, &mut builder.faults),
    };
    let catalogue = match same_catalogue {
        Some(catalogue) => Arc::clone(catalogue),
        None => Arc::new(builder.build_catalogue(declared)),
    };
    builder.kind_names = catalogue.kinds.iter().map(|kind| kind.name.to_string()).collect();
    let scopes = match same_scopes {
        Some(tree) => Arc::clone(tree),
        None => Arc::new(builder.build_scopes(declared)),
    };
    let resources = scopes::resources(&scopes);
    let people = builder.build_principals(declared, &resources);
    let policies = builder.build_policies(declared, &catalogue);
    let attachments = builder.build_attachments(declared, &resources);
    builder.refuse_unattachable(&scopes, &attachments, &policies.policies);
    let edit_rights = builder.build_edit_rights(declared, &catalogue);
    Names::declare("preset", &declared.presets, &mut builder.faults);
    let vet = builder.build_vet(declared);
    let reviews = builder.build_reviews(declared);
    let applications = builder.build_applications(declared);
    let sources = builder.build_sources(declared);
    let ceilings = builder.build_ceilings(declared, &resources, &policies.policies);
    builder.refuse_same_expectations(declared);
    let checks = builder.build_checks(declared);
    let laws = builder.build_laws(declared, &catalogue, &resources);
    let separations = builder.build_separations(declared);
    let identities_at = builder.place_identities(&scopes, &people, &policies.policies);
    let Builder {
        mut faults,
        attribute_names,
        vocabulary,
        users,
        groups,
        roles,
        policies: policy_names,
        ..
    } = builder;
    if !faults.is_empty() {
        faults.sort_by_key(|located| located.place);
        return Err(faults);
    }
    let of_laws = laws.iter().map(|law| &law.on);
    let on = policies.statements.iter().map(|statement| &statement.on).chain(of_laws);
    let patterns = on.flat_map(|on| on.plain.iter().chain(&on.excluded));
    let longest_pattern = patterns.map(|pattern| pattern.segments.len()).max().unwrap_or(0);
    let estate = Estate {
        longest_pattern,
        name: declared.name.as_str().into(),
        catalogue,
        scopes,
        users: people.users,
        groups: people.groups,
        roles: people.roles,
        policies: policies.policies,
        statements: policies.statements,
        attachments,
        ceilings,
        checks,
        laws,
        separations,
        vocabulary,
        edit_rights,
        vet,
        reviews,
        applications,
        sources,
        presets: declared.presets.iter().map(preset).collect(),
        attribute_names,
        identities_at,
        user_numbers: users.into_numbers(),
        group_numbers: groups.into_numbers(),
        role_numbers: roles.into_numbers(),
        policy_numbers: policy_names.into_numbers(),
    };
    let faults = expectations::refuse_requests(&estate, declared);
    if faults.is_empty() { Ok(estate) } else { Err(faults) }
}

fn preset(declared: &Named<Group>) -> Preset {
    let (about, keys) = (&declared.about, canonical_group(&declared.body));
    let says = format!("{about:?} {keys:?}");
    Preset { name: declared.name.value.clone(), says, origin: declared.name.origin }
}

/// Lists up to this long are searched one by one.
const SHORT_LIST: usize = 8;

/// The attributes that are declared, as far as that has no fault.
pub(super) fn vocabulary(declared: &Declarations) -> Vocabulary {
    let mut builder = Builder::new();
    builder.build_vocabulary(declared);
    builder.vocabulary
}

impl<'d> Builder<'d> {
    /// Knows nothing yet.
    fn new() -> Self {
        Self {
            faults: Vec::new(),
            attribute_names: AttributeNames::default(),
            services: Names::none("service"),
            kinds: Names::none("kind"),
            scopes: Names::none("scope"),
            users: Names::none("user"),
            groups: Names::none("group"),
            roles: Names::none("role"),
            policies: Names::none("policy"),
            near: Budget::default(),
            vocabulary: Vocabulary::default(),
            kind_names: Vec::new(),
        }
    }
}

impl Builder<'_> {
    fn fault(&mut self, fault: impl Into<Fault>, place: impl Into<SourceSpan>) {
        self.faults.push(LocatedFault::new(fault.into(), place));
    }

    /// The window, if it ever opens.
    fn build_window(&mut self, written: &WindowWritten) -> Window {
        if let (Some(from), Some(until)) = (&written.from, &written.until)
            && from.value >= until.value
        {
            self.faults.push(
                LocatedFault::new(Fault::NeverOpen, until.origin)
                    .and_see(from.origin, "opens here"),
            );
        }
        Window {
            from: written.from.as_ref().map(|at| at.value),
            until: written.until.as_ref().map(|at| at.value),
        }
    }

    /// Attributes; none may bear a built-in's name (spec section 2).
    fn build_attributes(
        &mut self,
        bearer: Bearer,
        written: &[(Spanned<String>, Value)],
    ) -> Attributes {
        self.refuse_misfits(bearer, written);
        for (name, _) in written {
            let head = name.value.split('.').next().unwrap_or_default();
            if is_reserved(head) {
                self.fault(Fault::ReservedAttribute(head.to_owned()), name.origin);
            }
        }
        let pairs = written.iter().map(|(name, value)| (name.value.as_str(), value.clone()));
        Attributes::new(&mut self.attribute_names, pairs)
    }

    /// A condition, each of its faults pointing into its text.
    fn build_condition(&mut self, written: &Spanned<String>) -> Option<Condition> {
        match self.read_condition(&written.value) {
            Ok(condition) => Some(condition),
            Err(located) => {
                for fault in located {
                    let place = SourceSpan::inside(written.origin, fault.start, fault.end);
                    self.fault(fault.fault, place);
                }
                None
            }
        }
    }

    fn read_condition(&mut self, text: &str) -> Result<Condition, Vec<Located>> {
        let typed = Typed { vocabulary: &self.vocabulary, kinds: &self.kind_names };
        Condition::read(text, &mut self.attribute_names, typed)
    }

    fn refuse_empty(&mut self, key: &'static str, list: &List) {
        if list.value.is_empty() {
            self.fault(Fault::EmptyList(key), list.origin);
        }
    }

    /// Resolves each element; each result once, at its first place.
    fn resolve_list<T: Copy + Eq + std::hash::Hash>(
        &mut self,
        list: &[Spanned<String>],
        mut resolve: impl FnMut(&mut Self, &Spanned<String>) -> Option<T>,
    ) -> Box<[Spanned<T>]> {
        let mut found: Vec<Spanned<T>> = Vec::with_capacity(list.len());
        // Short lists, which most are, are looked through; long ones have what was seen by them.
        let mut seen: FxHashSet<T> = FxHashSet::default();
        for written in list {
            let Some(value) = resolve(self, written) else { continue };
            let is_new = match list.len() {
                ..=SHORT_LIST => found.iter().all(|earlier| earlier.value != value),
                _ => seen.insert(value),
            };
            if is_new {
                found.push(Spanned::new(value, written.origin));
            }
        }
        found.into()
    }
}

fn boxed(text: Option<&String>) -> Option<Box<str>> {
    text.map(|text| text.as_str().into())
}

/// The origin of a list's element, or of the list.
fn origin_of(list: &List) -> Origin {
    list.value.first().map_or(list.origin, |first| first.origin)
}
