//! Kleene's strong logic of three values (spec section 4).

/// What a condition or a pattern comes to. The order is the logic: *and* is the least, *or* the
/// greatest.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Truth {
    /// It does not hold.
    False,
    /// What was given does not tell.
    Undecided,
    /// It holds.
    True,
}

impl Truth {
    /// Both.
    #[must_use]
    pub fn and(self, other: Self) -> Self {
        self.min(other)
    }

    /// Either.
    #[must_use]
    pub fn or(self, other: Self) -> Self {
        self.max(other)
    }

    /// The contrary; undecided stays so.
    #[must_use]
    pub fn negate(self) -> Self {
        match self {
            Self::False => Self::True,
            Self::Undecided => Self::Undecided,
            Self::True => Self::False,
        }
    }
}

impl From<bool> for Truth {
    fn from(holds: bool) -> Self {
        if holds { Self::True } else { Self::False }
    }
}

#[cfg(test)]
mod tests {
    use super::Truth::{False, True, Undecided};

    #[test]
    fn kleene_tables() {
        let all = [False, Undecided, True];
        let and = [False, False, False, False, Undecided, Undecided, False, Undecided, True];
        let or = [False, Undecided, True, Undecided, Undecided, True, True, True, True];
        for (i, a) in all.into_iter().enumerate() {
            for (j, b) in all.into_iter().enumerate() {
                assert_eq!(a.and(b), and[i * 3 + j]);
                assert_eq!(a.or(b), or[i * 3 + j]);
            }
        }
        assert_eq!(all.map(|t| t.negate()), [True, Undecided, False]);
    }
}
