//! Declarations without where they were written and in what order, so that two can be compared.

use crate::application::{Beyond, Told};
use crate::attribute::Value;
use crate::catalogue::Level;
use crate::condition::ast::Root;
use crate::decision::{Reason, Verdict};
use crate::declaration::*;
use crate::expectation::Claim;
use crate::origin::{Origin, Spanned};
use crate::policy::Effect;
use crate::principal::Join;
use crate::scope::ScopeType;
use crate::time::Time;

/// Something that may hold places: all that declarations are made of.
pub trait Places {
    /// Calls `each` with every place where something of it was written.
    fn each_place(&mut self, each: &mut dyn FnMut(&mut Origin));

    /// Forgets where it was written.
    fn forget(&mut self) {
        self.each_place(&mut |origin| *origin = Origin::default());
    }
}

macro_rules! no_places {
    ($($type:ty),*) => {
        $(impl Places for $type { fn each_place(&mut self, _: &mut dyn FnMut(&mut Origin)) {} })*
    };
}

macro_rules! places {
    ($($type:ty: $($field:ident)*;)*) => {
        $(impl Places for $type {
            fn each_place(&mut self, each: &mut dyn FnMut(&mut Origin)) {
                $(self.$field.each_place(each);)*
            }
        })*
    };
}

impl Places for Origin {
    fn each_place(&mut self, each: &mut dyn FnMut(&mut Origin)) {
        each(self);
    }
}

impl<T: Places> Places for Spanned<T> {
    fn each_place(&mut self, each: &mut dyn FnMut(&mut Origin)) {
        self.value.each_place(each);
        self.origin.each_place(each);
    }
}

impl<T: Places> Places for Option<T> {
    fn each_place(&mut self, each: &mut dyn FnMut(&mut Origin)) {
        self.iter_mut().for_each(|one| one.each_place(each));
    }
}

impl<T: Places> Places for Vec<T> {
    fn each_place(&mut self, each: &mut dyn FnMut(&mut Origin)) {
        self.iter_mut().for_each(|one| one.each_place(each));
    }
}

impl<T: Places, const N: usize> Places for [T; N] {
    fn each_place(&mut self, each: &mut dyn FnMut(&mut Origin)) {
        self.iter_mut().for_each(|one| one.each_place(each));
    }
}

impl<A: Places, B: Places> Places for (A, B) {
    fn each_place(&mut self, each: &mut dyn FnMut(&mut Origin)) {
        self.0.each_place(each);
        self.1.each_place(each);
    }
}

impl<T: Places> Places for Named<T> {
    fn each_place(&mut self, each: &mut dyn FnMut(&mut Origin)) {
        self.name.each_place(each);
        self.body.each_place(each);
    }
}

no_places!(
    (),
    String,
    Value,
    Time,
    Level,
    Root,
    Claim,
    Effect,
    Join,
    ScopeType,
    Verdict,
    Reason,
    VetSeverity,
    Told,
    Beyond,
    i64,
    bool
);

places! {
    EditRights: actions origin;
    Ask: who;
    Attribute: name body;
    AttributeBody: value_type one_of form;
    Kind: service verbs account_wide on_parent items holds;
    Scope: kind attributes;
    User: manager place attributes;
    Group: members members_when owners asks place attributes;
    Role: held_by taken_by place attributes;
    Element: who window;
    WindowWritten: from until;
    Policy: include place attachable statements;
    Statement: name actions on when origin;
    Attachment: policy to at window origin;
    Ceiling: policy over bound window origin;
    Check: name who does on take_up also under given absent item empty_tables reason origin;
    Law: name who except does on when origin;
    Separation: name any_two_of at origin;
    VetTable: rules origin;
    VetRule: severity who;
    Accepted: rule about until origin;
    Review: of by open until answers;
    Answer: window answered origin;
    Application: open_to claim names roles lasts;
    Source: map;
    Declarations: attributes services kinds scopes users groups roles policies attachments ceilings
        checks laws separations edit_rights presets vet accepted reviews applications sources;
}

/// The keys of a group without where they were written.
pub(crate) fn canonical_group(group: &Group) -> Group {
    let mut group = group.clone();
    group.forget();
    group.attributes.sort_by(|a, b| a.0.value.cmp(&b.0.value));
    group
}

/// The same declarations with no places in them, each sort in an order that their files have no say
/// in. Two that are equal then declare the same.
#[must_use]
pub fn canonical(mut declared: Declarations) -> Declarations {
    fn sorted<T: Places + std::fmt::Debug>(all: &mut [T]) {
        all.iter_mut().for_each(T::forget);
        all.sort_by_cached_key(|one| format!("{one:?}"));
    }
    fn by_name<T: Places>(all: &mut [Named<T>]) {
        all.iter_mut().for_each(Named::forget);
        all.sort_by(|a, b| a.name.value.cmp(&b.name.value));
    }
    let by_attribute = |all: &mut Vec<(Spanned<String>, Value)>| {
        all.sort_by(|a, b| a.0.value.cmp(&b.0.value));
    };
    declared.users.iter_mut().for_each(|one| by_attribute(&mut one.body.attributes));
    declared.groups.iter_mut().for_each(|one| by_attribute(&mut one.body.attributes));
    declared.roles.iter_mut().for_each(|one| by_attribute(&mut one.body.attributes));
    declared.scopes.iter_mut().for_each(|one| by_attribute(&mut one.body.attributes));
    by_name(&mut declared.services);
    by_name(&mut declared.kinds);
    by_name(&mut declared.scopes);
    by_name(&mut declared.users);
    by_name(&mut declared.groups);
    by_name(&mut declared.roles);
    by_name(&mut declared.policies);
    by_name(&mut declared.presets);
    by_name(&mut declared.reviews);
    by_name(&mut declared.applications);
    by_name(&mut declared.sources);
    sorted(&mut declared.attributes);
    sorted(&mut declared.attachments);
    sorted(&mut declared.ceilings);
    sorted(&mut declared.checks);
    sorted(&mut declared.laws);
    sorted(&mut declared.separations);
    sorted(&mut declared.edit_rights);
    sorted(&mut declared.vet);
    sorted(&mut declared.accepted);
    declared
}
