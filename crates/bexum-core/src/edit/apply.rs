//! One edit done.

use super::uses::Use;
use super::{Edit, delete, keys, lists, policies, rename, ties};
use crate::catalogue::Catalogue;
use crate::declaration::{Declarations, List, Named};
use crate::name::nearest;
use crate::origin::{Origin, Spanned};
use crate::time::Time;

/// What came of an edit that could be done.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Applied {
    /// What stood there already, or does not do what it may seem to, a sentence each.
    pub notes: Vec<String>,
}

impl Applied {
    pub(super) fn note(&mut self, text: String) {
        if !self.notes.contains(&text) {
            self.notes.push(text);
        }
    }
}

/// Why an edit cannot be done.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum EditFault {
    /// Nothing is called so.
    #[error("no {what} is called `{name}`")]
    Unknown {
        /// `user`
        what: &'static str,
        /// The name.
        name: String,
        /// What may have been meant.
        nearest: Option<String>,
    },
    /// Something is called so.
    #[error("a {what} is called `{name}` already")]
    Taken {
        /// `user`
        what: &'static str,
        /// The name.
        name: String,
    },
    /// A key that such a thing does not have, or that has an edit of its own.
    #[error("a {what} has no key `{key}` that can be set{}", after_colon(.hint))]
    Key {
        /// `user`
        what: &'static str,
        /// The key.
        key: String,
        /// What to do instead.
        hint: Option<String>,
    },
    /// A value that does not go with its key.
    #[error("`{key}` takes {expected}")]
    Value {
        /// The key.
        key: String,
        /// In words.
        expected: &'static str,
    },
    /// The policy is not to be edited.
    #[error("policy:{0} is locked: `set policy:{0} locked=false` comes first")]
    Locked(String),
    /// There is nothing of the sort to take away.
    #[error("{0}")]
    Nothing(String),
    /// It is used.
    #[error("{name} is still used in {} {}", .uses.len(), if .uses.len() == 1 { "place" } else { "places" })]
    InUse {
        /// What.
        name: String,
        /// Where.
        uses: Vec<Use>,
    },
    /// The user is still enabled.
    #[error("user:{0} is enabled: `disable user:{0}` comes first")]
    Enabled(String),
    /// The user has something that somebody else has to take over.
    #[error("user:{name} {has}: `--hand-over user:…` says who takes that over")]
    Leaves {
        /// The user's name.
        name: String,
        /// `owns group:imaging, manages user:rafi`
        has: String,
    },
}

fn after_colon(hint: &Option<String>) -> String {
    hint.as_ref().map(|hint| format!(": {hint}")).unwrap_or_default()
}

impl EditFault {
    /// What may have been meant, or what to do.
    #[must_use]
    pub fn hint(&self) -> Option<String> {
        match self {
            Self::Unknown { nearest, .. } => {
                nearest.as_ref().map(|near| format!("did you mean `{near}`?"))
            }
            Self::InUse { .. } => Some("`--with-uses` takes these away, too".to_owned()),
            _ => None,
        }
    }
}

/// Does an edit on declarations. `catalogue` is that of their estate; `now` is when somebody asks to
/// be let in. Whether the outcome is an estate is not looked at.
///
/// # Errors
/// Why it cannot be done; then the declarations may have changed in part.
pub fn apply(
    edit: &Edit,
    declared: &mut Declarations,
    catalogue: &Catalogue,
    now: Time,
) -> Result<Applied, EditFault> {
    let mut applied = Applied::default();
    match edit {
        Edit::New { target, preset, keys } => {
            keys::new(declared, target, preset.as_deref(), keys)?;
        }
        Edit::Set { target, keys } => keys::set(declared, target, keys, &mut applied)?,
        Edit::Unset { target, keys } => keys::unset(declared, target, keys)?,
        Edit::Copy { from, to, drop, keep } => {
            policies::copy(declared, catalogue, (from, to), drop, keep)?;
        }
        Edit::State { .. } => policies::state(declared, edit, &mut applied)?,
        Edit::Strike { policy, statement } => {
            policies::strike(declared, policy, statement, &mut applied)?;
        }
        Edit::Spare { policy, statement, paths } => {
            policies::spare(declared, policy, statement, paths, &mut applied)?;
        }
        Edit::Restate { policy, statement, actions, on } => {
            policies::restate(declared, (policy, statement), actions, on, &mut applied)?;
        }
        Edit::Add { who, list, of, window } => {
            lists::add(declared, who, *list, of, *window, &mut applied)?;
        }
        Edit::Remove { who, list, of } => lists::remove(declared, who, *list, of, &mut applied)?,
        Edit::AskIn { user, group, why } => {
            lists::ask_in(declared, user, group, why.as_deref(), now, &mut applied)?;
        }
        Edit::Approve { user, group, window } => {
            lists::take_ask(declared, user, group)?;
            let who = [format!("user:{user}")];
            lists::add(declared, &who, super::ListOf::Members, group, *window, &mut applied)?;
        }
        Edit::Decline { user, group } => lists::take_ask(declared, user, group)?,
        Edit::Attach { .. } | Edit::Limit { .. } => ties::tie(declared, edit, &mut applied)?,
        Edit::Detach { .. } | Edit::Unlimit { .. } => ties::untie(declared, edit)?,
        Edit::Rename { target, to } => rename::rename(declared, target, to, &mut applied)?,
        Edit::Delete { target, hand_over, with_uses } => {
            delete::delete(declared, target, hand_over.as_deref(), *with_uses, &mut applied)?;
        }
    }
    Ok(applied)
}

/// Something of this name among those of a sort.
pub(super) fn find<'d, T>(
    all: &'d mut [Named<T>],
    what: &'static str,
    name: &str,
) -> Result<&'d mut Named<T>, EditFault> {
    match all.iter().position(|one| one.name.value == name) {
        Some(at) => Ok(&mut all[at]),
        None => Err(unknown(what, name, all.iter().map(|one| &*one.name.value))),
    }
}

pub(super) fn unknown<'n>(
    what: &'static str,
    name: &str,
    known: impl IntoIterator<Item = &'n str>,
) -> EditFault {
    EditFault::Unknown {
        what,
        name: name.to_owned(),
        nearest: nearest(name, known).map(str::to_owned),
    }
}

/// A word that nobody has written yet.
pub(super) fn new_word(text: &str) -> Spanned<String> {
    Spanned::new(text.to_owned(), Origin::default())
}

/// A list that nobody has written yet.
pub(super) fn new_list(texts: &[String]) -> List {
    Spanned::new(texts.iter().map(|text| new_word(text)).collect(), Origin::default())
}
