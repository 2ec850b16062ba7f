//! Things that are not right, in an account of their own, for whoever looks for such.

/// The tables that have them.
pub(crate) const TABLES: &str = include_str!("planted.toml");

/// What `vet` has to find of them: the rule, and what the finding is about.
pub const PLANTED: [(&str, &str); 34] = [
    ("lockout", "folly/yard/shut"),
    ("climb", "user:folly-cy"),
    ("retag", "user:folly-bo"),
    ("broad-allow", "policy:folly-everything to group:folly-masters at folly"),
    ("doubtful-deny", "policy:folly-doubt \"doubtful\""),
    ("doubtful-deny", "policy:folly-doubt \"absent\""),
    ("doubtful-deny", "policy:folly-doubt \"slip\""),
    ("near-name", "policy:folly-doubt \"slip\""),
    ("near-name", "policy:folly-doubt \"value\""),
    ("near-name", "policy:folly-doubt \"path\""),
    ("awaited-name", "policy:folly-dead \"awaits\""),
    ("never-matches", "policy:folly-tinted allow 1"),
    ("never-matches", "policy:folly-doubt \"path\""),
    ("never-matches", "policy:folly-dead \"never\""),
    ("never-matches", "policy:folly-dead \"nowhere\""),
    ("outranked", "policy:folly-turner allow 1"),
    ("cannot-narrow", "policy:folly-dead \"cannot be narrowed\""),
    ("tautology", "policy:folly-dead \"contradicts itself\""),
    ("endless-guest", "user:folly-di in group:folly-visitors"),
    ("over", "user:folly-ex in group:folly-carvers"),
    ("over", "user:folly-cy in group:folly-carvers"),
    ("review-overdue", "review:folly-spring"),
    ("crowded-claim", "application:folly-portal"),
    ("empty-listing", "application:folly-desk group:folly-crews"),
    ("open-application", "application:folly-portal"),
    ("direct-attachment", "user:folly-bo"),
    ("few-owners", "group:folly-carvers"),
    ("stale-accept", "few-owners group:folly-all"),
    ("no-effect", "policy:folly-looker-again to user:folly-bo at folly/yard/one"),
    ("no-effect", "policy:folly-turner to group:folly-carvers at folly/yard"),
    ("unused-thing", "policy:folly-nowhere"),
    ("unused-thing", "group:folly-empty"),
    ("unused-thing", "role:folly-nobody"),
    ("wide-pattern", "policy:folly-dead \"one verb\""),
];
