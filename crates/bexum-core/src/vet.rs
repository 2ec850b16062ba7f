//! What is not right with an estate, unasked (spec-work section 10): too much, dead, contradictory,
//! dangerous.
//!
//! Each [`Rule`] stands in a file of its own, behind [`RULES`]. Where a rule says "nobody", "never" or
//! "nothing changes", that is decided by the analyses of [`prove`](crate::prove) and
//! [`impact`](crate::impact); where these cannot decide within their bounds, the rule keeps silent, and
//! the report counts how often.

mod changes;
mod conditions;
mod fixes;
mod moves;
mod rules;
mod supposed;
mod witnesses;

use std::sync::atomic::AtomicUsize;
use std::sync::{Mutex, OnceLock, PoisonError};

use crate::catalogue::{ActionSet, TargetClass};
use crate::declaration::{Declarations, VetSeverity};
use crate::diagnostic::{Label, Severity};
use crate::each::Each;
use crate::edit::Edit;
use crate::engine::{Engine, Index};
use crate::estate::Estate;
use crate::id::{PolicyId, ScopeId, StatementId};
use crate::origin::{Origin, SourceSpan};
use crate::part::{Lookup, Whole};
use crate::principal::{Principal, Subject};
use crate::reach::Viewpoint;
use crate::time::{Time, Window};
use crate::usage::Usage;

pub use fixes::fixes;
pub use rules::RULES;

/// Something to look for.
#[derive(Debug)]
pub struct Rule {
    /// Its name: lower-case letters and `-`.
    pub name: &'static str,
    /// How much its findings matter, if the house says nothing else; some findings matter less.
    pub severity: Severity,
    /// What it finds, in a line.
    pub finds: &'static str,
    /// Why that matters, in a sentence.
    pub why: &'static str,
    /// What an estate has that has it, as files say it.
    pub example: &'static str,
    /// What an estate has that nearly has it, and does not.
    pub fine: &'static str,
    /// Whether `[vet]` says whom it is about, by `who`.
    pub asks_whom: bool,
    /// Whether one remedy may make another one wrong, so that each is looked at anew.
    pub mends_one_at_a_time: bool,
    /// Finds it.
    find: fn(&Vet<'_>, &mut Findings<'_>),
}

/// What was found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// The rule's name.
    pub rule: &'static str,
    /// How much it matters.
    pub severity: Severity,
    /// What it is about: an acceptance names it so.
    pub about: String,
    /// Others of whom the same was found, told together with this one.
    pub alike: Vec<String>,
    /// Where it shows, then other places that have to do with it.
    pub labels: Vec<Label>,
    /// What is the matter: lower case, names in backquotes, no full stop.
    pub message: String,
    /// More about it, a line each.
    pub details: Vec<String>,
    /// What to do, where no edit does it.
    pub hint: Option<String>,
    /// Edits after which it is found no more.
    pub remedy: Vec<Edit>,
}

/// What the house says of a rule.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Setting {
    /// How much its findings matter; `None`: as the rule has it.
    pub severity: Option<VetSeverity>,
    /// Whom it is about: `group:visitors`, `user:guest-*`.
    pub who: Box<[Box<str>]>,
}

/// A finding that is known, and fine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Accepted {
    /// The rule's name.
    pub rule: &'static str,
    /// What the finding is about.
    pub about: Box<str>,
    /// Why it is fine.
    pub why: Box<str>,
    /// When it is told again.
    pub until: Option<Time>,
    /// Where that is written.
    pub origin: Origin,
}

/// `[vet]` and `[[vet-accept]]`; they decide nothing.
#[derive(Clone, Debug, Default)]
pub struct Settings {
    /// What is said of rules, by their names.
    pub rules: Vec<(&'static str, Setting)>,
    /// What is accepted, in the order written.
    pub accepted: Vec<Accepted>,
    /// Where `[vet]` stands, if it does.
    pub origin: Option<Origin>,
}

impl Settings {
    /// What is said of a rule.
    #[must_use]
    pub fn of(&self, rule: &str) -> Option<&Setting> {
        self.rules.iter().find(|(name, _)| *name == rule).map(|(_, setting)| setting)
    }

    /// Whether a rule is turned off.
    #[must_use]
    pub fn is_off(&self, rule: &str) -> bool {
        self.of(rule).is_some_and(|setting| setting.severity == Some(VetSeverity::Off))
    }
}

/// An estate that is looked at.
pub struct Vet<'v> {
    declared: &'v Declarations,
    engine: &'v Engine,
    now: Time,
    each: Each<'v>,
    /// What a log used, and since when it counts.
    usage: Option<(&'v Usage, Time)>,
    spent: Spent,
    /// How many steps may be taken in looking for circumstances in which somebody gains something.
    most_steps: usize,
    /// How many in looking for those in which something is allowed, or denied, at all.
    most_judging: usize,
    lookup: OnceLock<Lookup>,
    /// For each policy, itself and every policy that includes it.
    carriers: OnceLock<Vec<Vec<PolicyId>>>,
    applicable_below: OnceLock<Vec<ActionSet>>,
    witnesses: OnceLock<witnesses::Witnesses>,
    dead: OnceLock<rules::Dead>,
    tables_by_policy: OnceLock<changes::TablesByPolicy>,
}

/// Work that was spent on finding out what statements match, what they grant, and what changes do.
#[derive(Debug, Default)]
struct Spent {
    matching: AtomicUsize,
    granting: AtomicUsize,
    changing: AtomicUsize,
    /// Steps in looking for circumstances.
    judging: AtomicUsize,
}

/// What a rule has found so far.
pub struct Findings<'f> {
    rule: &'f Rule,
    severity: Option<Severity>,
    found: Vec<Finding>,
    not_decided: usize,
}

/// What was found of an estate.
#[derive(Clone, Debug, Default)]
pub struct Report {
    /// What is told: the gravest first, then by rule and place.
    pub findings: Vec<Finding>,
    /// What is known and fine, with the reason.
    pub accepted: Vec<(Finding, Accepted)>,
    /// How often a rule could not decide, by its name.
    pub not_decided: Vec<(&'static str, usize)>,
}

impl<'v> Vet<'v> {
    /// Gets ready; `engine` decides the estate that is `declared`, `now` is the moment.
    #[must_use]
    pub fn new(declared: &'v Declarations, engine: &'v Engine, now: Time, each: Each<'v>) -> Self {
        let (carriers, witnesses, dead) = (OnceLock::new(), OnceLock::new(), OnceLock::new());
        let (lookup, applicable_below) = (OnceLock::new(), OnceLock::new());
        Self {
            spent: Spent::default(),
            most_steps: moves::STEPS,
            most_judging: usize::MAX,
            applicable_below,
            declared,
            engine,
            now,
            each,
            usage: None,
            lookup,
            carriers,
            witnesses,
            dead,
            tables_by_policy: OnceLock::new(),
        }
    }

    /// The same, where what hangs on circumstances is not decided once about so many steps were taken
    /// in looking for them. Which findings that is about is only sure where one thing is looked at after
    /// the other ([`in_turn`](crate::each::in_turn)).
    #[must_use]
    pub fn within_steps(self, most_steps: usize) -> Self {
        Self { most_steps, most_judging: most_steps, ..self }
    }

    /// The same with what a log used; what was not used since a moment is unused.
    #[must_use]
    pub fn with_usage(self, usage: &'v Usage, idle_since: Time) -> Self {
        Self { usage: Some((usage, idle_since)), ..self }
    }

    /// Looks for what these rules find; those that the house has turned off find nothing. `done` is
    /// called after each.
    #[must_use]
    pub fn report(&self, rules: &[&'static Rule], done: &dyn Fn(&Rule)) -> Report {
        let settings = &self.estate().vet;
        let rules: Vec<&Rule> =
            rules.iter().copied().filter(|rule| !settings.is_off(rule.name)).collect();
        let mut report = Report::default();
        // One rule after the other: they share what is costly to find out.
        for rule in &rules {
            let severity = match settings.of(rule.name).and_then(|setting| setting.severity) {
                Some(VetSeverity::At(severity)) => Some(severity),
                _ => None,
            };
            let mut findings = Findings { rule, severity, found: Vec::new(), not_decided: 0 };
            (rule.find)(self, &mut findings);
            report.findings.extend(findings.found);
            if findings.not_decided > 0 {
                report.not_decided.push((rule.name, findings.not_decided));
            }
            done(rule);
        }
        self.set_accepted_apart(&rules, &mut report);
        report.findings.sort_by_cached_key(|finding| {
            let place = finding.labels.first().map(|label| label.place);
            let rule = RULES.iter().position(|rule| rule.name == finding.rule);
            (finding.severity, rule, place, finding.about.clone(), finding.message.clone())
        });
        report
    }

    /// Parts what is accepted from what is told; an acceptance that meets nothing is told, if its rule
    /// ran and decided.
    fn set_accepted_apart(&self, rules: &[&Rule], report: &mut Report) {
        let settings = &self.estate().vet;
        let mut met = vec![false; settings.accepted.len()];
        for finding in std::mem::take(&mut report.findings) {
            let accepts = |one: &Accepted| one.rule == finding.rule && *one.about == finding.about;
            let mut accepted = None;
            for (i, one) in settings.accepted.iter().enumerate().filter(|(_, one)| accepts(one)) {
                met[i] = true;
                if one.until.is_none_or(|until| self.now < until) {
                    accepted = Some(one);
                }
            }
            match accepted {
                Some(one) => report.accepted.push((finding, one.clone())),
                None => report.findings.push(finding),
            }
        }
        let Some(rule) = rules.iter().find(|rule| rule.name == rules::STALE_ACCEPT) else { return };
        let severity = match settings.of(rule.name).and_then(|setting| setting.severity) {
            Some(VetSeverity::At(severity)) => severity,
            _ => rule.severity,
        };
        for (one, _) in settings.accepted.iter().zip(met).filter(|(_, met)| !met) {
            let is_blind = self.usage.is_none() && one.rule == rules::UNUSED_ACCESS;
            let ran = rules.iter().any(|rule| rule.name == one.rule) && !is_blind;
            let decided = report.not_decided.iter().all(|(rule, _)| *rule != one.rule);
            if !ran || !decided {
                continue;
            }
            let message = format!("nothing that `{}` finds is about `{}`", one.rule, one.about);
            report.findings.push(Finding {
                rule: rule.name,
                severity,
                about: format!("{} {}", one.rule, one.about),
                alike: Vec::new(),
                labels: vec![Label { place: one.origin.into(), text: "" }],
                message,
                details: Vec::new(),
                hint: Some("delete this table".to_owned()),
                remedy: Vec::new(),
            });
        }
    }

    fn estate(&self) -> &'v Estate {
        self.engine.estate()
    }

    fn index(&self) -> &'v Index {
        self.engine
    }

    fn whole(&self) -> Whole<'_> {
        let lookup = self.lookup.get_or_init(|| Lookup::new(self.declared, self.estate()));
        Whole { declared: self.declared, engine: self.engine, lookup }
    }

    fn witnesses(&self) -> &witnesses::Witnesses {
        self.witnesses.get_or_init(|| witnesses::Witnesses::new(self))
    }

    /// For each scope, every action that applies at it or at anything below it.
    fn applicable_below(&self) -> &[ActionSet] {
        self.applicable_below.get_or_init(|| {
            let estate = self.estate();
            let catalogue = &estate.catalogue;
            let mut all: Vec<ActionSet> = Vec::with_capacity(estate.scopes.len());
            for (_, scope) in estate.scopes.iter() {
                let mut here = catalogue.applicable(scope.class()).clone();
                if scope.holds_items() {
                    here.union_with(catalogue.applicable(TargetClass::Item(scope.kind)));
                }
                all.push(here);
            }
            for place in estate.identities_at.values() {
                all[place.scope().index()].union_with(catalogue.applicable(place.class(estate)));
            }
            // Each stands before those below it.
            for i in (0..all.len()).rev() {
                if let Some(parent) = estate.scope(ScopeId::new(i)).parent {
                    let here = all[i].clone();
                    all[parent.index()].union_with(&here);
                }
            }
            all
        })
    }

    /// Whether any action that a policy names applies at or below a scope: else its attachment there
    /// says nothing about any request.
    fn applies_below(&self, policy: PolicyId, at: ScopeId) -> bool {
        let (policy, here) = (self.estate().policy(policy), &self.applicable_below()[at.index()]);
        !here.is_disjoint(&policy.allowed_actions) || !here.is_disjoint(&policy.denied_actions)
    }

    fn dead(&self) -> &rules::Dead {
        self.dead.get_or_init(|| rules::Dead::new(self))
    }

    /// Works out something for each number below `count`, perhaps several at once; by number.
    fn in_order<T: Send>(&self, count: usize, one: impl Fn(usize) -> T + Sync) -> Vec<T> {
        let all: Mutex<Vec<(usize, T)>> = Mutex::default();
        (self.each)(count, &|i| {
            let made = one(i);
            all.lock().unwrap_or_else(PoisonError::into_inner).push((i, made));
        });
        let mut all = all.into_inner().unwrap_or_else(PoisonError::into_inner);
        all.sort_by_key(|(i, _)| *i);
        all.into_iter().map(|(_, made)| made).collect()
    }

    /// The same in which what costs least comes first, as bounds on the work leave most room for it.
    fn cheapest_first<T: Send>(&self, costs: &[usize], one: impl Fn(usize) -> T + Sync) -> Vec<T> {
        let mut order: Vec<usize> = (0..costs.len()).collect();
        order.sort_by_key(|i| costs[*i]);
        let mut made = self.in_order(order.len(), |at| (order[at], one(order[at])));
        made.sort_by_key(|(i, _)| *i);
        made.into_iter().map(|(_, made)| made).collect()
    }

    /// Somebody now, nothing said of the circumstances.
    fn viewpoint(&self, who: Principal) -> Viewpoint {
        Viewpoint {
            who,
            take_up: None,
            also: Vec::new(),
            under: Vec::new(),
            given: Vec::new(),
            time: self.now,
        }
    }

    fn subject(&self, subject: Subject) -> String {
        match subject {
            Subject::Everyone => "everyone".to_owned(),
            Subject::One(who) => self.estate().principal_id(who),
        }
    }

    /// A policy and every one that includes it.
    fn carriers(&self, policy: PolicyId) -> &[PolicyId] {
        let all = self.carriers.get_or_init(|| {
            let estate = self.estate();
            let mut all: Vec<Vec<PolicyId>> =
                (0..estate.policies.len()).map(|i| vec![PolicyId::new(i)]).collect();
            for i in 0..estate.policies.len() {
                let mut seen = vec![PolicyId::new(i)];
                let mut waiting = seen.clone();
                while let Some(id) = waiting.pop() {
                    for inner in &estate.policy(id).include {
                        if !seen.contains(inner) {
                            seen.push(*inner);
                            waiting.push(*inner);
                            all[inner.index()].push(PolicyId::new(i));
                        }
                    }
                }
            }
            all
        });
        &all[policy.index()]
    }

    /// How a statement is called where a finding is about it.
    fn statement(&self, id: StatementId) -> String {
        format!("policy:{}", self.estate().statement_label(id))
    }

    /// A statement's name among those of its policy, as edits take it.
    fn called(&self, id: StatementId) -> String {
        let statement = self.estate().statement(id);
        match &statement.name {
            Some(name) => name.to_string(),
            None => format!("{} {}", statement.effect, statement.place),
        }
    }

    fn is_over(&self, window: Window) -> bool {
        window.until.is_some_and(|until| until <= self.now)
    }
}

impl Findings<'_> {
    /// Adds a finding that shows in a place, and hands it out to be completed.
    fn add(
        &mut self,
        about: impl Into<String>,
        place: impl Into<SourceSpan>,
        message: impl Into<String>,
    ) -> &mut Finding {
        self.found.push(Finding {
            rule: self.rule.name,
            severity: self.severity.unwrap_or(self.rule.severity),
            about: about.into(),
            alike: Vec::new(),
            labels: vec![Label { place: place.into(), text: "" }],
            message: message.into(),
            details: Vec::new(),
            hint: None,
            remedy: Vec::new(),
        });
        let last = self.found.len() - 1;
        &mut self.found[last]
    }

    /// Says how much the last finding matters, where the house does not.
    fn matters(&mut self, severity: Severity) {
        if let (None, Some(last)) = (self.severity, self.found.last_mut()) {
            last.severity = severity;
        }
    }
}
