//! Spaces of names: who is declared, under which id, and what was probably meant.

use std::cmp::Ordering;

use crate::declaration::Named;
use crate::fault::{Fault, LocatedFault};
use crate::id::ScopeId;
use crate::name::{Grammar, NameTable, nearest};
use crate::origin::{Origin, Spanned};
use crate::scope::ScopeTree;

/// How many more near names to look for: a search reads the whole space, so an estate with a
/// hundred thousand wrong names must not cause as many searches.
pub(super) struct Budget(u32);

impl Default for Budget {
    fn default() -> Self {
        Self(100)
    }
}

impl Budget {
    pub(super) fn spend(&mut self) -> bool {
        let left = self.0 > 0;
        self.0 = self.0.saturating_sub(1);
        left
    }
}

/// One space of names. Ids follow the order of names; a name declared twice has one.
pub(super) struct Names<'d> {
    what: &'static str,
    numbers: NameTable,
    /// For each id, its name and which declaration it is.
    order: Vec<(&'d str, usize)>,
}

impl<'d> Names<'d> {
    pub(super) fn none(what: &'static str) -> Self {
        Self { what, numbers: NameTable::default(), order: Vec::new() }
    }

    /// Scopes that are declared just as those of a tree: they are not built from what is declared, so what
    /// stands for which declaration is not known.
    pub(super) fn of_tree(tree: &'d ScopeTree) -> Self {
        let order = tree.iter().map(|(_, scope)| (&*scope.path, usize::MAX));
        Self { what: "scope", numbers: tree.numbers().clone(), order: order.collect() }
    }

    /// Declares all of `things`; reports names with wrong letters and names declared twice.
    pub(super) fn declare<T>(
        what: &'static str,
        things: &'d [Named<T>],
        faults: &mut Vec<LocatedFault>,
    ) -> Self {
        let names = things.iter().map(|thing| thing.name.value.as_str());
        let mut order: Vec<(&str, usize)> = names.zip(0..).collect();
        if what == "scope" {
            // By segments, so that a scope stands right before all below it.
            order.sort_by(|(a, _), (b, _)| by_segments(a, b));
        } else {
            order.sort_by_key(|(name, _)| *name);
        }
        order.dedup_by(|(later, i), (first, j)| {
            let same = later == first;
            let (later, first) = (&things[*i].name, &things[*j].name);
            if same {
                let fault = Fault::Duplicate { what, name: later.value.clone() };
                faults.push(
                    LocatedFault::new(fault, later.origin)
                        .and_see(first.origin, "first declared here"),
                );
            }
            same
        });
        for thing in things {
            check_letters(what, &thing.name, faults);
        }
        let names: Vec<&str> = order.iter().map(|(name, _)| *name).collect();
        let numbers = NameTable::new(&names);
        Self { what, numbers, order }
    }

    /// The declarations by id.
    pub(super) fn in_order<'t, T>(
        &self,
        things: &'t [Named<T>],
    ) -> impl Iterator<Item = &'t Named<T>> + use<'t, '_, 'd, T> {
        self.order.iter().map(move |&(_, i)| &things[i])
    }

    /// The ids of scopes in the order of their declarations, where no name is declared twice.
    pub(super) fn as_declared(&self) -> Box<[ScopeId]> {
        let mut ids = vec![ScopeId::new(0); self.order.len()];
        for (id, &(_, i)) in self.order.iter().enumerate() {
            if let Some(place) = ids.get_mut(i) {
                *place = ScopeId::new(id);
            }
        }
        ids.into()
    }

    /// The id of a name, silently.
    pub(super) fn get(&self, name: &str) -> Option<usize> {
        self.numbers.find(name, |id| self.order[id].0)
    }

    /// The name nearest to one that is not declared.
    pub(super) fn nearest(&self, name: &str, budget: &mut Budget) -> Option<String> {
        if !budget.spend() {
            return None;
        }
        nearest(name, self.order.iter().map(|(name, _)| *name)).map(str::to_owned)
    }

    /// The id of a name; one that is not declared is a fault.
    pub(super) fn find(
        &self,
        written: &Spanned<String>,
        faults: &mut Vec<LocatedFault>,
        budget: &mut Budget,
    ) -> Option<usize> {
        self.find_at(&written.value, written.origin, faults, budget)
    }

    /// The id of a name that is written at a place, which may be a part of what is written there; one that
    /// is not declared is a fault.
    pub(super) fn find_at(
        &self,
        name: &str,
        place: Origin,
        faults: &mut Vec<LocatedFault>,
        budget: &mut Budget,
    ) -> Option<usize> {
        let found = self.get(name);
        if found.is_none() {
            let nearest = self.nearest(name, budget);
            let fault = Fault::Undeclared { what: self.what, name: name.to_owned(), nearest };
            faults.push(LocatedFault::new(fault, place));
        }
        found
    }

    /// What the frozen estate finds its things by.
    pub(super) fn into_numbers(self) -> NameTable {
        self.numbers
    }

    /// A copy of it.
    pub(super) fn numbers(&self) -> NameTable {
        self.numbers.clone()
    }
}

/// The order of paths segment by segment: a slash comes before every other letter.
fn by_segments(a: &str, b: &str) -> Ordering {
    let (a, b) = (a.as_bytes(), b.as_bytes());
    let mut alike = 0;
    while a.len() >= alike + 8 && b.len() >= alike + 8 && a[alike..alike + 8] == b[alike..alike + 8]
    {
        alike += 8;
    }
    let rank = |letter: &u8| if *letter == b'/' { 0 } else { u16::from(*letter) + 1 };
    a[alike..].iter().map(rank).cmp(b[alike..].iter().map(rank))
}

fn check_letters(what: &'static str, name: &Spanned<String>, faults: &mut Vec<LocatedFault>) {
    let (grammar, article) = match what {
        "kind" => (Grammar::Word, "a kind"),
        "service" => (Grammar::Plain, "a service"),
        "user" => (Grammar::Plain, "a user"),
        "group" => (Grammar::Plain, "a group"),
        "role" => (Grammar::Plain, "a role"),
        "policy" => (Grammar::Plain, "a policy"),
        "preset" => (Grammar::Plain, "a preset"),
        "review" => (Grammar::Plain, "a review"),
        "source" => (Grammar::Plain, "a source"),
        "application" => (Grammar::Plain, "an application"),
        _ => (Grammar::Plain, "a scope's segment"),
    };
    let mut check = |part: &str| {
        if !grammar.accepts(part) {
            let fault = Fault::BadName { name: part.to_owned(), what: article, grammar };
            faults.push(LocatedFault::new(fault, name.origin));
        }
    };
    match what {
        "scope" => name.value.split('/').for_each(check),
        _ => check(&name.value),
    }
}

#[cfg(test)]
mod tests {
    use super::by_segments;

    proptest::proptest! {
        #[test]
        fn paths_are_in_the_order_of_their_segments(a in "[a/.~é-]{0,20}", b in "[a/.~é-]{0,20}") {
            proptest::prop_assert_eq!(by_segments(&a, &b), a.split('/').cmp(b.split('/')));
            let (a, b) = (format!("veyra/survey{a}"), format!("veyra/survey{b}"));
            proptest::prop_assert_eq!(by_segments(&a, &b), a.split('/').cmp(b.split('/')));
        }
    }
}
