//! The answer: verdict and reason (spec section 6).

use std::fmt;

/// Allow or deny; there is no third.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Verdict {
    /// It may happen.
    Allow,
    /// It may not.
    Deny,
}

impl Verdict {
    /// The word.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["allow", "deny"][self as usize]
    }
}

impl fmt::Display for Verdict {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// Which line of the decision table held; the order is the table's.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Reason {
    /// The user is not enabled.
    Disabled,
    /// The role cannot be taken up.
    RoleRefused,
    /// A deny statement matches or is undecided.
    Denied,
    /// No allow statement matches.
    NotGranted,
    /// A ceiling bounds the request.
    OverCeiling,
    /// None of these: it is allowed.
    Granted,
}

impl Reason {
    /// All six.
    pub const ALL: [Self; 6] = [
        Self::Disabled,
        Self::RoleRefused,
        Self::Denied,
        Self::NotGranted,
        Self::OverCeiling,
        Self::Granted,
    ];

    /// The word.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["disabled", "role-refused", "denied", "not-granted", "over-ceiling", "granted"]
            [self as usize]
    }

    /// The verdict that goes with it.
    #[must_use]
    pub fn verdict(self) -> Verdict {
        if self == Self::Granted { Verdict::Allow } else { Verdict::Deny }
    }
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// How undecided statements count.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reading {
    /// As the spec decides: doubt never grants.
    Strict,
    /// As if all doubt were resolved in favour: what might be allowed if more were known.
    Hopeful,
}
