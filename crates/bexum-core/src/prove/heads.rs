//! Attributes above and below one another: `device` and `device.os`.

use super::representatives::Unknowns;
use crate::attribute::AttributeNames;
use crate::condition::Reference;
use crate::condition::check::TargetAttribute;
use crate::id::AttributeId;

/// A name below an attribute that the estate does not use.
pub(super) fn unused(names: &AttributeNames, name: &str) -> String {
    let candidates = (1..).map(|n| if n == 1 { "other".to_owned() } else { format!("other-{n}") });
    let mut free = candidates.filter(|below| names.get(&format!("{name}.{below}")).is_none());
    free.next().unwrap_or_default()
}

/// Whose attribute it is (the item's, or the circumstances') and which, of what can be given.
pub(super) fn parts(reference: Reference) -> Option<(bool, AttributeId)> {
    match reference {
        Reference::Given(id) => Some((false, id)),
        Reference::Target(TargetAttribute::Own(id)) => Some((true, id)),
        _ => None,
    }
}

pub(super) fn lies_below(names: &AttributeNames, id: AttributeId, above: AttributeId) -> bool {
    std::iter::successors(names.parent(id), |head| names.parent(*head)).any(|h| h == above)
}

/// Whether another attribute that is not known lies above this one, or below it.
pub(super) fn has_relatives(names: &AttributeNames, unknowns: &Unknowns, place: usize) -> bool {
    let Some((is_item, id)) = parts(unknowns.references[place]) else { return false };
    unknowns.references.iter().filter_map(|reference| parts(*reference)).any(|(item, other)| {
        item == is_item && (lies_below(names, id, other) || lies_below(names, other, id))
    })
}
