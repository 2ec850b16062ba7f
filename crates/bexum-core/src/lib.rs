//! The heart of Bexum: the policy language, the decision, its explanation, and analyses.
//!
//! Nothing here reads a file, a clock or the environment, and nothing prints.
//!
//! ```text
//! Declarations ──build──► Estate ──turn around──► Engine ──► Decider ──► Reason, Trace
//! ```
//!
//! Each stage has its own type and can be had only through the one before it. An [`Estate`] never
//! changes; an [`Engine`] owns one, turned around for deciding, and each thread asks through a
//! [`Decider`] of its own. The words (scope, item, principal, ceiling, …) are those of the spec's
//! section 1.
//!
//! Declarations are mostly read from files, by the crate `bexum-files`. Made by hand:
//!
//! ```
//! use bexum_core::catalogue::Level;
//! use bexum_core::declaration::{Attachment, Declarations, Kind, List, Named, Policy, Scope};
//! use bexum_core::declaration::{Statement, User, WindowWritten};
//! use bexum_core::origin::{Origin, Spanned};
//! use bexum_core::policy::Effect;
//! use bexum_core::scope::ScopeType;
//! use bexum_core::{Engine, Estate, Reason, Request, Time, Trace};
//!
//! fn word(text: &str) -> Spanned<String> {
//!     Spanned::new(text.to_owned(), Origin::default())
//! }
//! fn list(texts: &[&str]) -> List {
//!     Spanned::new(texts.iter().map(|text| word(text)).collect(), Origin::default())
//! }
//! fn named<T>(name: &str, body: T) -> Named<T> {
//!     Named { name: word(name), about: None, body }
//! }
//!
//! let scope = |scope_type, kind: Option<&str>| Scope {
//!     scope_type,
//!     kind: kind.map(word),
//!     sealed: false,
//!     attributes: Vec::new(),
//! };
//! let allow = Statement {
//!     effect: Effect::Allow,
//!     name: None,
//!     about: None,
//!     actions: list(&["dish.stow"]),
//!     on: None,
//!     when: Some(word("given.wind < 60")),
//!     origin: Origin::default(),
//! };
//! let declared = Declarations {
//!     name: "veyra".to_owned(),
//!     kinds: vec![named(
//!         "dish",
//!         Kind { verbs: vec![(Level::Operate, word("stow"))], ..Kind::default() },
//!     )],
//!     scopes: vec![
//!         named("veyra", scope(ScopeType::Account, None)),
//!         named("veyra/dish-1", scope(ScopeType::Resource, Some("dish"))),
//!     ],
//!     users: vec![named("noor", User::default())],
//!     policies: vec![named(
//!         "operator",
//!         Policy { statements: vec![allow], ..Policy::default() },
//!     )],
//!     attachments: vec![Attachment {
//!         policy: list(&["operator"]),
//!         to: list(&["user:noor"]),
//!         at: list(&["veyra"]),
//!         window: WindowWritten::default(),
//!         about: None,
//!         origin: Origin::default(),
//!     }],
//!     ..Declarations::default()
//! };
//!
//! let estate = Estate::build(&declared).expect("no faults");
//! let engine = Engine::new(estate);
//! let mut decider = engine.decider();
//! let mut request = Request::new("user:noor", "dish.stow", "veyra/dish-1", Time(0));
//! request.given.push(("wind".into(), Some(bexum_core::attribute::Value::Integer(12))));
//! let query = request.resolve(engine.estate()).expect("a request");
//! assert_eq!(decider.decide(&query), Reason::Granted);
//! assert_eq!(Trace::of(&mut decider, &query).allows.len(), 1);
//! ```

mod action_set;
pub mod application;
pub mod attribute;
pub mod catalogue;
pub mod condition;
pub mod decision;
pub mod declaration;
pub mod diagnostic;
pub mod each;
pub mod edit;
pub mod edit_rights;
pub mod engine;
pub mod estate;
pub mod expectation;
pub mod fault;
pub mod id;
pub mod impact;
pub mod import;
mod items;
pub mod limits;
#[cfg(feature = "naive")]
pub mod naive;
pub mod name;
pub mod origin;
mod part;
pub mod pattern;
pub mod policy;
pub mod principal;
pub mod prove;
pub mod reach;
pub mod request;
pub mod review;
pub mod scope;
pub mod time;
pub mod trace;
pub mod trim;
pub mod truth;
pub mod usage;
pub mod vet;
pub mod vocabulary;
pub mod ways;

pub use decision::{Reading, Reason, Verdict};
pub use declaration::Declarations;
pub use diagnostic::Diagnostic;
pub use engine::{Decider, Engine};
pub use estate::Estate;
pub use fault::{Fault, LocatedFault};
pub use principal::Principal;
pub use request::{Query, Request, RequestFault};
pub use time::Time;
pub use trace::Trace;
pub use truth::Truth;

/// Every table that a file may hold: those of the spec's section 2, in its order, then those of
/// [expectations](expectation), with [declared attributes](vocabulary) near the top.
pub const TABLES: [&str; 25] = [
    "estate",
    "attributes",
    "service",
    "kind",
    "account",
    "subscription",
    "resource",
    "namespace",
    "user",
    "group",
    "role",
    "policy",
    "attach",
    "ceiling",
    "check",
    "never",
    "always",
    "apart",
    "edit-rights",
    "preset",
    "vet",
    "vet-accept",
    "review",
    "application",
    "source",
];
