//! What can be wrong with an estate, as data, each fault worded once; shown as a [`Diagnostic`].
//!
//! A message says what is wrong, in lower case, names in backquotes, without a full stop; the
//! [hint](Fault::hint) says what to do. Colour and layout are somebody else's.

use crate::condition::ConditionFault;
use crate::decision::{Reason, Verdict};
use crate::diagnostic::{Diagnostic, Label, Remedy, Severity};
use crate::limits::{CHECK_REQUESTS, LOOP_LINKS};
use crate::name::Grammar;
use crate::origin::SourceSpan;
use crate::pattern::PatternFault;
use crate::request::RequestFault;

/// A fault and where it shows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LocatedFault {
    /// What is wrong.
    pub fault: Fault,
    /// Where.
    pub place: SourceSpan,
    /// Other places that have to do with it, each with a label.
    pub also: Vec<(SourceSpan, &'static str)>,
}

impl LocatedFault {
    /// A fault that shows in one place.
    #[must_use]
    pub fn new(fault: Fault, place: impl Into<SourceSpan>) -> Self {
        Self { fault, place: place.into(), also: Vec::new() }
    }

    /// The same, with another place to look at.
    #[must_use]
    pub fn and_see(mut self, place: impl Into<SourceSpan>, label: &'static str) -> Self {
        self.also.push((place.into(), label));
        self
    }

    /// The same as whoever shows it takes it.
    #[must_use]
    pub fn diagnostic(&self) -> Diagnostic {
        let itself = Label { place: self.place, text: "" };
        let others = self.also.iter().map(|(place, text)| Label { place: *place, text });
        Diagnostic {
            code: self.fault.code(),
            severity: Severity::Error,
            message: self.fault.to_string(),
            labels: std::iter::once(itself).chain(others).collect(),
            hint: self.fault.hint(),
            remedy: self.fault.nearest().map(|(wrong, near)| Remedy {
                place: self.place,
                instead_of: wrong.to_owned(),
                name: near.to_owned(),
            }),
        }
    }
}

/// What is wrong (spec section 2 unless another is named).
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum Fault {
    /// A table the spec does not know.
    #[error("unknown table `{name}`")]
    UnknownTable {
        /// As written.
        name: String,
        /// The nearest known one.
        nearest: Option<&'static str>,
    },
    /// A key the spec does not know in this table.
    #[error("unknown key `{key}` in {table}")]
    UnknownKey {
        /// As written.
        key: String,
        /// The table, in words.
        table: &'static str,
        /// The nearest known one.
        nearest: Option<&'static str>,
        /// All that are known.
        known: &'static [&'static str],
    },
    /// A required key is not there.
    #[error("{table} needs the key `{key}`")]
    MissingKey {
        /// The key.
        key: &'static str,
        /// The table, in words.
        table: &'static str,
    },
    /// A value of another type.
    #[error("`{key}` must be {expected}, not {found}")]
    WrongType {
        /// The key.
        key: String,
        /// In words.
        expected: &'static str,
        /// In words.
        found: &'static str,
    },
    /// An element of a list that cannot stand in it.
    #[error("an element of `{key}` must be {expected}, not {found}")]
    WrongElement {
        /// The key.
        key: &'static str,
        /// In words.
        expected: &'static str,
        /// In words.
        found: &'static str,
    },
    /// A word outside a fixed set.
    #[error("`{key}` cannot be `{found}`")]
    WrongWord {
        /// The key.
        key: &'static str,
        /// As written.
        found: String,
        /// What it can be.
        known: &'static [&'static str],
    },
    /// A name with wrong letters.
    #[error("`{name}` is no name for {what}")]
    BadName {
        /// As written.
        name: String,
        /// What it would name, in words.
        what: &'static str,
        /// The letters that it may have.
        grammar: Grammar,
    },
    /// `[estate]` anywhere but in the root's `bexum.toml`.
    #[error("`[estate]` stands only in the `bexum.toml` at the estate's root")]
    EstateElsewhere,
    /// No `[estate]` in the root's `bexum.toml`.
    #[error("`bexum.toml` has no `[estate]` table")]
    EstateMissing,
    /// A format other than 1.
    #[error("this estate is in format {0}: only format 1 is known")]
    Format(i64),
    /// Two declarations under one name.
    #[error("{what} `{name}` is declared twice")]
    Duplicate {
        /// What, in a word.
        what: &'static str,
        /// The name.
        name: String,
    },
    /// Two statements of a policy under one name.
    #[error("policy `{policy}` has two statements named `{name}`")]
    DuplicateStatement {
        /// The policy.
        policy: String,
        /// The statement.
        name: String,
    },
    /// A name that nothing declares.
    #[error("{what} `{name}` is not declared")]
    Undeclared {
        /// What, in a word.
        what: &'static str,
        /// As written.
        name: String,
        /// The nearest declared one.
        nearest: Option<String>,
    },
    /// A principal without its word, or with a word that is none.
    #[error("`{found}` is no principal here: {expected}")]
    NotAPrincipal {
        /// As written.
        found: String,
        /// What may stand here, in words.
        expected: &'static str,
    },
    /// A verb under two levels, or twice under one.
    #[error("verb `{verb}` stands twice in kind `{kind}`")]
    VerbTwice {
        /// The verb.
        verb: String,
        /// The kind.
        kind: String,
    },
    /// `account-wide` or `on-parent` names a verb that stands under no level.
    #[error("`{key}` names `{verb}`, which kind `{kind}` has under no level")]
    VerbUnlisted {
        /// `account-wide` or `on-parent`.
        key: &'static str,
        /// The verb.
        verb: String,
        /// The kind.
        kind: String,
        /// The nearest verb of the kind.
        nearest: Option<String>,
    },
    /// A verb in both `account-wide` and `on-parent`.
    #[error("verb `{0}` cannot be both `account-wide` and `on-parent`")]
    VerbInBoth(String),
    /// A kind of the spec's own where a thing's kind stands.
    #[error("`{kind}` is no kind for {what}")]
    ReservedKind {
        /// The kind.
        kind: String,
        /// For what, in words.
        what: &'static str,
    },
    /// A path whose parent is not declared.
    #[error("scope `{path}` lies below `{parent}`, which is not declared")]
    Orphan {
        /// The scope.
        path: String,
        /// Where it would lie.
        parent: String,
        /// The nearest declared scope.
        nearest: Option<String>,
    },
    /// An account of several segments, or something else of one.
    #[error("{what} cannot lie at `{path}`: {rule}")]
    Misplaced {
        /// Which sort of scope.
        what: &'static str,
        /// Its path.
        path: String,
        /// Where it may lie, in words.
        rule: &'static str,
    },
    /// Groups, roles or includes in a ring.
    #[error("{what} form a loop: {}", shorten(.ring))]
    Cycle {
        /// What, in words.
        what: &'static str,
        /// The names, the first one again at the end.
        ring: Vec<String>,
    },
    /// A list that must not be empty.
    #[error("`{0}` must not be empty")]
    EmptyList(&'static str),
    /// `from` not before `until`.
    #[error("this window never opens: `from` must be before `until`")]
    NeverOpen,
    /// A claim under a name that has another sense (spec-work section 13).
    #[error("a claim of groups cannot be called `{0}`")]
    ClaimName(String),
    /// No pattern of names (spec-work section 13).
    #[error(
        "`{0}` is no pattern of names: letters, digits, `.` `_` `-` `@` and `*`, perhaps after `!`"
    )]
    NamePattern(String),
    /// No key that an import can fill (spec-work section 14).
    #[error("`{0}` is no key that an import fills")]
    MappedKey(String),
    /// No length of time (spec-work section 13).
    #[error("`{0}` is no length of time")]
    NoLength(String),
    /// An attribute under a built-in's name.
    #[error("no attribute can be called `{0}`: that name is built in")]
    ReservedAttribute(String),
    /// A value that no attribute can have.
    #[error("an attribute cannot be {0}")]
    AttributeType(&'static str),
    /// A list of several types.
    #[error("a list holds one type: this one has {0} and {1}")]
    MixedList(&'static str, &'static str),
    /// Tables within tables without end.
    #[error("attribute tables nest deeper than 64 levels")]
    AttributeDepth,
    /// A ceiling whose policy has no statement.
    #[error("policy `{0}` has no statement, so it can be no ceiling")]
    EmptyCeiling(String),
    /// An identity's place is taken.
    #[error("{who} would be the target `{path}`, but that path is taken")]
    PlaceTaken {
        /// `user:…`
        who: String,
        /// The path.
        path: String,
    },
    /// A wrong pattern (section 3).
    #[error(transparent)]
    Pattern {
        /// What is wrong.
        #[from]
        fault: PatternFault,
    },
    /// A pattern of actions that matches nothing (section 3).
    #[error("no action in the catalogue matches `{pattern}`")]
    NoAction {
        /// As written.
        pattern: String,
        /// The nearest action.
        nearest: Option<String>,
    },
    /// A wrong condition (section 4).
    #[error(transparent)]
    Condition {
        /// What is wrong.
        #[from]
        fault: ConditionFault,
    },
    /// A check, law or separation without a usable name.
    #[error("a name here has at least one letter, and no control character")]
    BadTitle,
    /// The time of a check that is none.
    #[error("`time` in a check must be one moment, like `2026-03-01T08:00:00Z`")]
    CheckMoment,
    /// A time among the circumstances or the item's attributes of a check.
    #[error("times in `{0}` are strings, as they are in a request")]
    CheckTimes(&'static str),
    /// A circumstance that is both.
    #[error("`{0}` is given in `given` and named in `absent`")]
    BothGivenAndAbsent(String),
    /// A reason that goes with the other verdict.
    #[error("`{reason}` goes with `{}`, not with `{expect}`", .reason.verdict())]
    OtherVerdict {
        /// The reason expected.
        reason: Reason,
        /// The verdict expected.
        expect: Verdict,
    },
    /// A check that asks for something which is no request (section 5).
    #[error("this check asks for something that is no request: {fault}")]
    CheckRequest {
        /// Why it is none.
        fault: RequestFault,
        /// What was probably meant.
        hint: Option<String>,
    },
    /// A check that multiplies out too far.
    #[error("this check makes {0} requests: one makes {CHECK_REQUESTS} at most")]
    TooManyRequests(usize),
    /// A law's path pattern that starts at no place.
    #[error("`{0}` must be absolute: a law is attached nowhere")]
    NotAbsolute(String),
    /// Fewer than two things to keep apart.
    #[error("`any-two-of` needs two different names at least")]
    NothingToKeepApart,
    /// A policy attached where it may not be (spec-work section 7.2).
    #[error("policy `{policy}` cannot be attached at `{at}`")]
    NotAttachable {
        /// The policy that says where it may be attached.
        policy: String,
        /// The scope.
        at: String,
    },
    /// Somebody asks to be let in twice, or is in already (spec-work section 7.3).
    #[error("`{who}` asks to be let in, but {why}")]
    NeedNotAsk {
        /// The user.
        who: String,
        /// In words.
        why: &'static str,
    },
    /// A declared name that is the head of another (spec-work section 7.1).
    #[error("`{name}` is declared, and so is `{below}` below it")]
    AttributeHead {
        /// The head.
        name: String,
        /// A declared name below it.
        below: String,
    },
    /// `one-of` or `form` beside a type that cannot have it.
    #[error("`{key}` goes with {with}, not with `{value_type}`")]
    NotOfType {
        /// The key.
        key: &'static str,
        /// What it goes with, in words.
        with: &'static str,
        /// The type, as written.
        value_type: String,
    },
    /// An element of `one-of` that is no value of the attribute.
    #[error("`{value}` cannot stand in `one-of`: an element is {rule}")]
    OneOfElement {
        /// The element.
        value: String,
        /// What an element is.
        rule: String,
    },
    /// An attribute in the estate that its closed root does not declare.
    #[error("`{name}` is not declared")]
    UndeclaredAttribute {
        /// With its root.
        name: String,
        /// The nearest declared one.
        nearest: Option<String>,
    },
    /// A value in the estate that does not fit what is declared.
    #[error("`{name}` is {rule}, and `{value}` is not")]
    DoesNotFit {
        /// With its root.
        name: String,
        /// What is declared.
        rule: String,
        /// The value.
        value: String,
        /// The nearest of `one-of`.
        nearest: Option<String>,
    },
    /// A brace with a declared time in it.
    #[error("`{0}` is a time, which cannot stand in a path")]
    TimeInPath(String),
    /// A `members-when` that some user leaves undecided (section 4).
    #[error(
        "`members-when` of group `{group}` is undecided for user `{user}`, because of `{attribute}`"
    )]
    MembersUndecided {
        /// The group.
        group: String,
        /// The first such user.
        user: String,
        /// The attribute, as `who.…`.
        attribute: String,
    },
}

/// A loop's names, those in the middle of a long one counted.
fn shorten(ring: &[String]) -> String {
    if ring.len() <= LOOP_LINKS {
        return ring.join(" → ");
    }
    let (first, last) = (&ring[..LOOP_LINKS / 2], &ring[ring.len() - LOOP_LINKS / 2..]);
    let left = ring.len() - first.len() - last.len();
    format!("{} → … {left} more … → {}", first.join(" → "), last.join(" → "))
}

impl Fault {
    /// Which sort of fault it is, for machines; it stays when the wording changes.
    #[must_use]
    pub fn code(&self) -> &'static str {
        match self {
            Self::UnknownTable { .. } => "unknown-table",
            Self::UnknownKey { .. } => "unknown-key",
            Self::MissingKey { .. } => "missing-key",
            Self::WrongType { .. } => "wrong-type",
            Self::WrongElement { .. } => "wrong-element",
            Self::WrongWord { .. } => "wrong-word",
            Self::BadName { .. } => "bad-name",
            Self::EstateElsewhere => "estate-elsewhere",
            Self::EstateMissing => "estate-missing",
            Self::Format(_) => "format",
            Self::Duplicate { .. } => "duplicate",
            Self::DuplicateStatement { .. } => "duplicate-statement",
            Self::Undeclared { .. } => "undeclared",
            Self::NotAPrincipal { .. } => "not-a-principal",
            Self::VerbTwice { .. } => "verb-twice",
            Self::VerbUnlisted { .. } => "verb-unlisted",
            Self::VerbInBoth(_) => "verb-in-both",
            Self::ReservedKind { .. } => "reserved-kind",
            Self::Orphan { .. } => "orphan",
            Self::Misplaced { .. } => "misplaced",
            Self::Cycle { .. } => "cycle",
            Self::EmptyList(_) => "empty-list",
            Self::NeverOpen => "never-open",
            Self::ClaimName(_) => "claim-name",
            Self::NamePattern(_) => "name-pattern",
            Self::MappedKey(_) => "mapped-key",
            Self::NoLength(_) => "no-length",
            Self::ReservedAttribute(_) => "reserved-attribute",
            Self::AttributeType(_) => "attribute-type",
            Self::MixedList(..) => "mixed-list",
            Self::AttributeDepth => "attribute-depth",
            Self::EmptyCeiling(_) => "empty-ceiling",
            Self::PlaceTaken { .. } => "place-taken",
            Self::Pattern { .. } => "pattern",
            Self::NoAction { .. } => "no-action",
            Self::Condition { .. } => "condition",
            Self::BadTitle => "bad-title",
            Self::CheckMoment => "check-moment",
            Self::CheckTimes(_) => "check-times",
            Self::BothGivenAndAbsent(_) => "both-given-and-absent",
            Self::OtherVerdict { .. } => "other-verdict",
            Self::CheckRequest { .. } => "check-request",
            Self::TooManyRequests(_) => "too-many-requests",
            Self::NotAbsolute(_) => "not-absolute",
            Self::NothingToKeepApart => "nothing-to-keep-apart",
            Self::MembersUndecided { .. } => "members-undecided",
            Self::NotAttachable { .. } => "not-attachable",
            Self::NeedNotAsk { .. } => "need-not-ask",
            Self::AttributeHead { .. } => "attribute-head",
            Self::NotOfType { .. } => "not-of-type",
            Self::OneOfElement { .. } => "one-of-element",
            Self::UndeclaredAttribute { .. } => "undeclared-attribute",
            Self::DoesNotFit { .. } => "does-not-fit",
            Self::TimeInPath(_) => "time-in-path",
        }
    }

    /// The name that stands there, and the one that is probably meant.
    fn nearest(&self) -> Option<(&str, &str)> {
        match self {
            Self::UnknownTable { name, nearest } => Some((name, (*nearest)?)),
            Self::UnknownKey { key, nearest, .. } => Some((key, (*nearest)?)),
            Self::Undeclared { name, nearest, .. } => Some((name, nearest.as_deref()?)),
            Self::VerbUnlisted { verb, nearest, .. } => Some((verb, nearest.as_deref()?)),
            Self::Orphan { parent, nearest, .. } => Some((parent, nearest.as_deref()?)),
            Self::NoAction { pattern, nearest } => {
                Some((pattern.trim_start_matches('!'), nearest.as_deref()?))
            }
            _ => None,
        }
    }

    /// What to do about it, where the message does not say so itself.
    #[must_use]
    pub fn hint(&self) -> Option<String> {
        let did_you_mean = |near: &str| Some(format!("did you mean `{near}`?"));
        let one_of = |known: &[&str]| {
            if known.is_empty() {
                return Some("only `about` is known here".to_owned());
            }
            let quoted: Vec<String> = known.iter().map(|word| format!("`{word}`")).collect();
            Some(format!("known here: {}", quoted.join(", ")))
        };
        match self {
            Self::UnknownTable { nearest: Some(near), .. } => did_you_mean(near),
            Self::UnknownTable { nearest: None, .. } => one_of(&crate::TABLES),
            Self::UnknownKey { nearest: Some(near), .. } => did_you_mean(near),
            Self::UnknownKey { known, .. } | Self::WrongWord { known, .. } => one_of(known),
            Self::Undeclared { nearest: Some(near), .. }
            | Self::VerbUnlisted { nearest: Some(near), .. }
            | Self::Orphan { nearest: Some(near), .. }
            | Self::NoAction { nearest: Some(near), .. } => did_you_mean(near),
            Self::UndeclaredAttribute { nearest: Some(near), .. }
            | Self::DoesNotFit { nearest: Some(near), .. } => did_you_mean(near),
            Self::UndeclaredAttribute { name, .. } => {
                let root = name.split('.').next().unwrap_or_default();
                Some(format!("declare it in `[attributes.{root}]`, or take it out"))
            }
            Self::AttributeHead { .. } => {
                Some("a name is an attribute or a head, not both".to_owned())
            }
            Self::Orphan { parent, .. } => Some(format!("declare `{parent}` first, in any file")),
            Self::BadName { grammar, .. } => Some(format!("a name here is {}", grammar.rule())),
            Self::ClaimName(_) => Some(
                "`sub`, `aud`, `iat`, `exp`, `name` and `roles` are claims already, and one that ends \
                 in `-left-out` says that another is left out"
                    .to_owned(),
            ),
            Self::MappedKey(_) => Some(
                "it fills `name`, `full-name`, `enabled`, `manager`, `source-id` and `attributes.NAME`"
                    .to_owned(),
            ),
            Self::NoLength(_) => Some("write one like `90m`, `8h`, `30d` or `2w`".to_owned()),
            Self::EstateMissing => {
                Some("write `[estate]` with `name = \"…\"` and `format = 1` at its top".to_owned())
            }
            Self::Duplicate { what: "policy", .. } => {
                Some("a policy stands in one file; `include` joins several".to_owned())
            }
            Self::PlaceTaken { .. } => {
                Some("choose another `place` or rename one of them".to_owned())
            }
            Self::MembersUndecided { attribute, .. } => Some(format!(
                "give the user `{}` in the type that the condition compares with, or ask `{attribute} is set and …` first",
                attribute.trim_start_matches("who.")
            )),
            Self::EmptyCeiling(_) => {
                Some("give it an `allow` or a `deny`, or include a policy that has one".to_owned())
            }
            Self::Condition { fault } => fault.hint(),
            Self::Pattern { fault } => fault.hint(),
            Self::CheckRequest { hint, .. } => hint.clone(),
            Self::NotAbsolute(pattern) => {
                let bare = pattern.trim_start_matches('!');
                Some(format!("start it at the root of all paths: `/{bare}`"))
            }
            _ => None,
        }
    }
}
