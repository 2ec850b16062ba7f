//! Who may edit what (spec-work section 7.4): for each thing that an edit touches, the actions of
//! which one has to be allowed.

mod ruling;
mod supposed;
mod touches;

use crate::id::ActionId;
use crate::origin::Origin;

pub use ruling::{Beyond, Ruling, Side, Verdict, ruling};
pub use touches::{Needs, Touch, touches};

/// What edits touch, in the order of the spec's table.
pub const EDIT_KEYS: [&str; 27] = [
    "user.new",
    "group.new",
    "role.new",
    "policy.new",
    "scope.new",
    "user.state",
    "user.attributes",
    "group.attributes",
    "role.attributes",
    "group.members",
    "group.owners",
    "role.holders",
    "policy.statements",
    "scope.attach",
    "scope.limit",
    "scope.seal",
    "scope.attributes",
    "user.settings",
    "group.settings",
    "role.settings",
    "policy.settings",
    "scope.settings",
    "user.delete",
    "group.delete",
    "role.delete",
    "policy.delete",
    "scope.delete",
];

/// `[edit-rights]`
#[derive(Clone, Debug, Default)]
pub struct EditRights {
    /// What is touched, and the actions that are asked about, in the order written.
    pub actions: Vec<(Box<str>, Box<[ActionId]>)>,
    /// Whether nobody may open what they cannot do themselves.
    pub no_more_than_own: bool,
    /// Where the table stands, if it does.
    pub origin: Option<Origin>,
}

impl EditRights {
    /// The actions that are asked about for a touch; nothing where none is named.
    #[must_use]
    pub fn of(&self, key: &str) -> &[ActionId] {
        let found = self.actions.iter().find(|(known, _)| &**known == key);
        found.map_or(&[], |(_, actions)| actions)
    }
}
