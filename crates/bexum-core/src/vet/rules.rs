//! The registry of rules: each in a file of its own.

mod awaited_name;
mod broad_allow;
mod cannot_narrow;
mod climb;
mod crowded_claim;
mod direct_attachment;
mod doubtful_deny;
mod empty_listing;
mod endless_guest;
mod few_owners;
mod lockout;
mod near_name;
mod never_matches;
mod no_effect;
mod open_application;
mod outranked;
mod over;
mod retag;
mod review_overdue;
mod stale_accept;
mod tautology;
mod unused_access;
mod unused_thing;
mod wide_pattern;

use super::Rule;

pub(super) use never_matches::Dead;

/// Every rule, in the order in which they are told: what lets somebody gain or lose the house first,
/// then what does not do what it says, then what is untidy.
pub static RULES: [&Rule; 24] = [
    &climb::RULE,
    &retag::RULE,
    &lockout::RULE,
    &broad_allow::RULE,
    &doubtful_deny::RULE,
    &near_name::RULE,
    &awaited_name::RULE,
    &never_matches::RULE,
    &outranked::RULE,
    &cannot_narrow::RULE,
    &tautology::RULE,
    &endless_guest::RULE,
    &over::RULE,
    &review_overdue::RULE,
    &crowded_claim::RULE,
    &empty_listing::RULE,
    &open_application::RULE,
    &direct_attachment::RULE,
    &few_owners::RULE,
    &no_effect::RULE,
    &unused_thing::RULE,
    &unused_access::RULE,
    &wide_pattern::RULE,
    &stale_accept::RULE,
];

pub(super) use unused_access::NAME as UNUSED_ACCESS;

pub(super) const STALE_ACCEPT: &str = stale_accept::NAME;

/// The estate that every example continues.
const PREFACE: &str = r#"[estate]
name   = "veyra"
format = 1

[kind.store]
observe = ["list", "survey"]
alter   = ["write"]
govern  = ["share"]
account-wide = ["survey"]
items   = ["recording"]
[kind.recording]
observe = ["read"]
alter   = ["erase"]
[kind.user]
govern  = ["tag"]
[kind.group]
govern  = ["add-member"]

[account.veyra]
[subscription."veyra/survey"]
[resource."veyra/survey/raw"]
kind = "store"
attributes.tier = "raw"
[resource."veyra/survey/maps"]
kind = "store"
attributes.tier = "open"

[user.ines]
[user.tomas]
attributes.team = "imaging"
[user.lin]
attributes.team = "transit"
[group.imaging]
members = ["user:tomas", "user:lin"]
owners  = ["user:ines", "user:tomas"]
[policy.reader]
[[policy.reader.allow]]
do = ["store.list", "recording.read"]
"#;

impl Rule {
    /// An estate that has what it finds.
    #[must_use]
    pub fn estate_with(&self) -> String {
        format!("{PREFACE}\n{}", self.example)
    }

    /// An estate that nearly has it, and does not.
    #[must_use]
    pub fn estate_without(&self) -> String {
        format!("{PREFACE}\n{}", self.fine)
    }
}
