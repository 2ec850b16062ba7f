//! Applications: who may sign in, and what each is told about a person (spec-work section 13).
//!
//! A token is made elsewhere, by whoever signs people in. [`Signing::claims`] is what it has to say, and
//! [`Sight`] says of every group of somebody whether the application gets to see it, and if not, why.

mod claims;

use crate::estate::Estate;
use crate::origin::Origin;
use crate::pattern::action::star_match;
use crate::principal::Principal;

pub use claims::{Claims, Entry, Hidden, Refusal, Shut, Sight, Signing};

/// The claims that every token has, or may have, besides the one of groups.
pub const OWN_CLAIMS: [&str; 6] = ["sub", "aud", "iat", "exp", "name", "roles"];

/// What the name of a claim ends in that says that another one was left out.
pub const LEFT_OUT: &str = "-left-out";

/// Which groups of a person an application is told.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Told {
    /// All of them.
    All,
    /// Those in `open-to`.
    Listed,
    /// None.
    None,
}

impl Told {
    /// Every value, in the order of [`WORDS`](Self::WORDS).
    pub const ALL: [Self; 3] = [Self::All, Self::Listed, Self::None];
    /// How files write them.
    pub const WORDS: &'static [&'static str] = &["all", "listed", "none"];
}

/// What happens to the claim of somebody who is in more groups than it may hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Beyond {
    /// It is left out, and another claim says so.
    Flag,
    /// It holds the first, by bytes.
    Cut,
    /// There is no token.
    Refuse,
}

impl Beyond {
    /// Every value, in the order of [`WORDS`](Self::WORDS).
    pub const ALL: [Self; 3] = [Self::Flag, Self::Cut, Self::Refuse];
    /// How files write them.
    pub const WORDS: &'static [&'static str] = &["flag", "cut", "refuse"];
}

/// Users and groups, or everyone.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Audience {
    /// Every user.
    Everyone,
    /// These users, and the members of these groups.
    These(Box<[Principal]>),
}

impl Audience {
    /// What it names, in the order written; nothing of everyone.
    #[must_use]
    pub fn named(&self) -> &[Principal] {
        match self {
            Self::Everyone => &[],
            Self::These(people) => people,
        }
    }
}

/// Patterns of group names; some take away what others match.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct NamePatterns {
    /// What is matched.
    pub plain: Box<[Box<str>]>,
    /// What is taken away, without the `!`.
    pub excluded: Box<[Box<str>]>,
}

impl NamePatterns {
    /// Whether a name is matched, and not taken away.
    #[must_use]
    pub fn take(&self, name: &str) -> bool {
        let any = |patterns: &[Box<str>]| patterns.iter().any(|one| star_match(one, name));
        any(&self.plain) && !any(&self.excluded)
    }
}

/// An application that people sign in to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Application {
    /// Its name.
    pub name: Box<str>,
    /// What its author says about it.
    pub about: Option<Box<str>>,
    /// Who may sign in.
    pub open_to: Audience,
    /// What the claim of groups is called.
    pub claim: Box<str>,
    /// Which groups it holds.
    pub told: Told,
    /// Whether members of members count.
    pub through: bool,
    /// Which names of groups it holds; `None`: any.
    pub names: Option<NamePatterns>,
    /// Whether it holds `group:imaging` where it would else hold `imaging`.
    pub as_id: bool,
    /// How many groups it may hold.
    pub at_most: usize,
    /// What happens beyond.
    pub beyond: Beyond,
    /// The application's own roles, with who has them; by name.
    pub roles: Box<[(Box<str>, Audience)]>,
    /// How long a token counts, in seconds.
    pub lasts: i64,
    /// Where it is declared.
    pub origin: Origin,
}

impl Application {
    /// Whether anybody who is enabled may sign in.
    #[must_use]
    pub fn is_open_to_everyone(&self) -> bool {
        self.open_to == Audience::Everyone
    }

    /// The claim that says that the one of groups was left out.
    #[must_use]
    pub fn left_out_claim(&self) -> String {
        format!("{}{LEFT_OUT}", self.claim)
    }

    /// All that it says, as text that can be compared: names, and no ids.
    #[must_use]
    pub fn says(&self, estate: &Estate) -> String {
        let named = |audience: &Audience| match audience {
            Audience::Everyone => "everyone".to_owned(),
            Audience::These(people) => {
                let mut names: Vec<String> =
                    people.iter().map(|who| estate.principal_id(*who)).collect();
                names.sort_unstable();
                names.join(" ")
            }
        };
        let roles: Vec<(&str, String)> =
            self.roles.iter().map(|(name, audience)| (&**name, named(audience))).collect();
        let (open_to, names) = (named(&self.open_to), &self.names);
        let groups = (self.told, self.through, names, self.as_id, self.at_most, self.beyond);
        format!("{:?}", (&self.about, open_to, &self.claim, groups, roles, self.lasts))
    }
}
