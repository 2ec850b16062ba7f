//! Edits as data, and what each makes of declarations.
//!
//! An edit is done on [`Declarations`](crate::Declarations) here, where only names and lists change
//! places; whoever keeps the declarations in files brings the files in line with the outcome. What an
//! edit leaves alone keeps its [origin](crate::origin::Origin), and what is new has the default one:
//! so the two can be told apart.

mod apply;
mod by_file;
mod canonical;
mod delete;
mod keys;
mod line;
mod lists;
mod policies;
mod rename;
mod ties;
mod uses;

use crate::attribute::Value;
use crate::policy::Effect;
use crate::scope::ScopeType;
use crate::time::Window;

pub use apply::{Applied, EditFault, apply};
pub(crate) use by_file::same_files;
pub use by_file::{copy_of, differing_sorts, each_place_in, gathered, join, take, take_out};
pub(crate) use canonical::canonical_group;
pub use canonical::{Places, canonical};
pub(crate) use line::of_attribute;
pub(crate) use policies::is_locked;
pub use uses::{Use, changed_words, uses};

/// Something that an edit is about, by name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Target {
    /// `user:ines`
    User(String),
    /// `group:imaging`
    Group(String),
    /// `role:keeper`
    Role(String),
    /// `policy:reader`
    Policy(String),
    /// A path, with the word for what it is if that was said: `namespace:veyra/survey/pulsar`.
    Scope(Option<ScopeType>, String),
}

impl Target {
    /// Reads `user:ines`, `namespace:veyra/survey/pulsar`, or a path by itself.
    #[must_use]
    pub fn parse(text: &str) -> Self {
        let Some((word, name)) = text.split_once(':') else {
            return Self::Scope(None, text.to_owned());
        };
        let name = name.to_owned();
        match word {
            "user" => Self::User(name),
            "group" => Self::Group(name),
            "role" => Self::Role(name),
            "policy" => Self::Policy(name),
            _ => match ScopeType::ALL.into_iter().find(|one| one.word() == word) {
                Some(scope_type) => Self::Scope(Some(scope_type), name),
                None => Self::Scope(None, text.to_owned()),
            },
        }
    }

    /// The name alone: without `user:`, a scope's path.
    #[must_use]
    pub fn name(&self) -> &str {
        match self {
            Self::User(name) | Self::Group(name) | Self::Role(name) | Self::Policy(name) => name,
            Self::Scope(_, path) => path,
        }
    }

    /// What it is, in a word.
    #[must_use]
    pub fn what(&self) -> &'static str {
        match self {
            Self::User(_) => "user",
            Self::Group(_) => "group",
            Self::Role(_) => "role",
            Self::Policy(_) => "policy",
            Self::Scope(Some(scope_type), _) => scope_type.word(),
            Self::Scope(None, _) => "scope",
        }
    }
}

impl std::fmt::Display for Target {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Scope(None, path) => write!(f, "{path}"),
            _ => write!(f, "{}:{}", self.what(), self.name()),
        }
    }
}

/// A list of principals that a group or role has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ListOf {
    /// A group's `members`.
    Members,
    /// A group's `owners`.
    Owners,
    /// A role's `held-by`.
    HeldBy,
    /// A role's `taken-by`.
    TakenBy,
}

impl ListOf {
    /// Its key in files.
    #[must_use]
    pub fn key(self) -> &'static str {
        ["members", "owners", "held-by", "taken-by"][self as usize]
    }
}

/// Something written under a key, by the key's name: `enabled`, `attributes.team`.
pub type Keyed = (String, Value);

/// One edit.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Edit {
    /// Something new, with these keys; of a list, a list of texts.
    New {
        /// What it is.
        target: Target,
        /// Of a group, the preset whose keys it has where `keys` do not say otherwise.
        preset: Option<String>,
        /// What it comes with.
        keys: Vec<Keyed>,
    },
    /// A policy like another, with fewer actions.
    Copy {
        /// The name of the policy that is copied.
        from: String,
        /// The name of the new one.
        to: String,
        /// Action patterns that are taken out of its allows.
        drop: Vec<String>,
        /// Action patterns outside of which nothing stays in its allows; none: all stay.
        keep: Vec<String>,
    },
    /// A statement more.
    State {
        /// The policy's name.
        policy: String,
        /// Allow or deny.
        effect: Effect,
        /// Action patterns.
        actions: Vec<String>,
        /// Path patterns; none: all.
        on: Vec<String>,
        /// Its condition.
        when: Option<String>,
        /// Its name.
        name: Option<String>,
    },
    /// A statement gone.
    Strike {
        /// The policy's name.
        policy: String,
        /// The statement's name, or `allow 1`.
        statement: String,
    },
    /// Paths that a statement is no longer about.
    Spare {
        /// The policy's name.
        policy: String,
        /// The statement's name, or `deny 1`.
        statement: String,
        /// Path patterns, without `!`.
        paths: Vec<String>,
    },
    /// A statement about other actions or paths.
    Restate {
        /// The policy's name.
        policy: String,
        /// The statement's name, or `allow 1`.
        statement: String,
        /// Its action patterns from now on; none: as they are.
        actions: Vec<String>,
        /// Its path patterns from now on; none: as they are.
        on: Vec<String>,
    },
    /// Keys that say something else.
    Set {
        /// Whose.
        target: Target,
        /// Which, and what they say then.
        keys: Vec<Keyed>,
    },
    /// Keys that are no longer written.
    Unset {
        /// Whose.
        target: Target,
        /// Which.
        keys: Vec<String>,
    },
    /// Principals put into a list.
    Add {
        /// Whom.
        who: Vec<String>,
        /// Which list.
        list: ListOf,
        /// The bare name of the group or role.
        of: String,
        /// From when until when.
        window: Window,
    },
    /// Principals taken out of a list.
    Remove {
        /// Whom.
        who: Vec<String>,
        /// Which list.
        list: ListOf,
        /// The bare name of the group or role.
        of: String,
    },
    /// Policies attached, every one to everybody at every scope.
    Attach {
        /// The policies' names.
        policies: Vec<String>,
        /// Principals and `everyone`.
        to: Vec<String>,
        /// Scopes.
        at: Vec<String>,
        /// From when until when.
        window: Window,
    },
    /// Attachments gone.
    Detach {
        /// The policies' names.
        policies: Vec<String>,
        /// From whom; none: from all.
        from: Vec<String>,
        /// At which scopes; none: at all.
        at: Vec<String>,
    },
    /// A policy made a ceiling.
    Limit {
        /// The policy's name.
        policy: String,
        /// Scopes; none: everywhere.
        over: Vec<String>,
        /// Principals and `everyone`; none: everyone.
        bound: Vec<String>,
        /// From when until when.
        window: Window,
    },
    /// Ceilings gone.
    Unlimit {
        /// The policy's name.
        policy: String,
        /// Over which scopes; none: over all.
        over: Vec<String>,
        /// For whom; none: for all.
        bound: Vec<String>,
    },
    /// A user who asks to be let into a group.
    AskIn {
        /// The user's bare name.
        user: String,
        /// The group's bare name.
        group: String,
        /// Why, in their words.
        why: Option<String>,
    },
    /// A user who asked is let in.
    Approve {
        /// The user's bare name.
        user: String,
        /// The group's bare name.
        group: String,
        /// From when until when.
        window: Window,
    },
    /// A user who asked is not let in.
    Decline {
        /// The user's bare name.
        user: String,
        /// The group's bare name.
        group: String,
    },
    /// Another name, everywhere.
    Rename {
        /// What is renamed.
        target: Target,
        /// Its new name, or path.
        to: String,
    },
    /// Something gone.
    Delete {
        /// What.
        target: Target,
        /// The bare name of the user who takes over what a user owns and manages.
        hand_over: Option<String>,
        /// Whether all that names it goes, too.
        with_uses: bool,
    },
}
