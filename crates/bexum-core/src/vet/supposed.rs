//! Whether a statement ever matches, or ever grants: decided as a law is, on an estate that is
//! supposed for the purpose.
//!
//! In the first, the statement stands alone. An allow never matches if nobody is ever allowed anything
//! then. Any other statement is made a deny beside allows of everything to everyone (it sees the roles
//! that denies and ceilings see), and never matches if everybody is always allowed everything.
//!
//! In the second, the statement is the only allow that is attached, and all denies, ceilings and seals
//! stand: it never grants if nobody is ever allowed anything.
//!
//! Both are asked of everybody whom the statement's policy is attached to or bounds, enabled or not,
//! with every role that they can take up, in all circumstances, at all moments, as
//! [`prove`](crate::prove) decides laws.

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicUsize, Ordering};

use rustc_hash::FxHashSet;

use super::Vet;
use crate::attribute::Value;
use crate::condition::Reference;
use crate::condition::check::WhoAttribute;
use crate::declaration::{Attachment, Declarations, Law, List, Named, Policy, Statement};
use crate::engine::Engine;
use crate::estate::Estate;
use crate::expectation::Claim;
use crate::id::{AttributeId, PolicyId, RoleId, ScopeId, StatementId};
use crate::origin::{Origin, Spanned};
use crate::part::{Besides, Places};
use crate::policy::Effect;
use crate::principal::{Principal, Subject};
use crate::prove::{Laws, Outcome};
use crate::time::Window;

/// Whether something ever happens.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Ever {
    /// It does, in some circumstances.
    Yes,
    /// It never does.
    Never,
    /// There is nobody to whom it could.
    Nobody,
    /// It could not be found out.
    NotDecided,
}

/// How many people times places are gone through for one law, and for all of them that ask the same
/// question: bounds on the work, beyond which something is not decided.
const MOST_FOR_A_LAW: usize = 20_000;
const MOST_FOR_ALL_LAWS: usize = 300_000;
/// People of whom it is looked who are alike.
const MOST_PEOPLE: usize = 500;

/// Steps of the search for circumstances, for one law.
const STEPS: usize = 200_000;

/// Whom a statement's policy is tied to, and where; `None` stands for everywhere.
struct Ties {
    subjects: Vec<Subject>,
    attached_at: Vec<ScopeId>,
    over: Option<Vec<ScopeId>>,
    is_ceiling: bool,
}

impl Vet<'_> {
    fn ties(&self, policy: PolicyId) -> Ties {
        let estate = self.estate();
        let carriers = self.carriers(policy);
        let is_one = |ids: &[Spanned<PolicyId>]| ids.iter().any(|id| carriers.contains(&id.value));
        let mut ties = Ties {
            subjects: Vec::new(),
            attached_at: Vec::new(),
            over: Some(Vec::new()),
            is_ceiling: false,
        };
        for one in estate.attachments.iter().filter(|one| is_one(&one.policies)) {
            ties.subjects.extend(one.to.iter().map(|to| to.value));
            ties.attached_at.extend(one.at.iter().map(|at| at.value));
        }
        for one in estate.ceilings.iter().filter(|one| is_one(&one.policies)) {
            ties.is_ceiling = true;
            ties.subjects.extend(one.bound.iter().copied());
            match (&mut ties.over, &one.over) {
                (Some(known), Some(over)) => known.extend(over.iter().map(|at| at.value)),
                (over, _) => *over = None,
            }
        }
        ties.subjects.sort_unstable();
        ties.subjects.dedup();
        ties
    }

    /// Everybody with requests who comes to one of these; roles by themselves among them.
    pub(super) fn people_of(&self, subjects: &[Subject]) -> Vec<Principal> {
        let all = subjects.contains(&Subject::Everyone);
        let seeds: Vec<Principal> = match all {
            true => self.estate().principals().collect(),
            false => {
                let one = subjects.iter().filter_map(|subject| match subject {
                    Subject::One(who) => Some(*who),
                    Subject::Everyone => None,
                });
                self.whole().below(&one.collect::<Vec<_>>()).into_iter().collect()
            }
        };
        let mut people: Vec<Principal> =
            seeds.into_iter().filter(|who| !matches!(who, Principal::Group(_))).collect();
        people.sort_unstable();
        people
    }

    /// Whether a policy, or one that includes it, is a ceiling.
    pub(super) fn is_ceiling(&self, policy: PolicyId) -> bool {
        self.ties(policy).is_ceiling
    }

    /// How much there is to go through for a statement, in people times places.
    pub(super) fn cost_of(&self, id: StatementId) -> usize {
        let (subjects, places) = self.reach_of(self.estate().statement(id).policy);
        self.people_of(&subjects).len().saturating_mul(self.rows(&places))
    }

    /// Whether a statement ever matches for anybody, wherever its policy is tied.
    pub(super) fn ever_matches(&self, id: StatementId) -> Ever {
        let estate = self.estate();
        let ties = self.ties(estate.statement(id).policy);
        if !self.applies_anywhere(id) {
            return match self.people_of(&ties.subjects).is_empty() {
                true => Ever::Nobody,
                false => Ever::Never,
            };
        }
        let as_allow = estate.statement(id).effect == Effect::Allow && !ties.is_ceiling;
        let (_, places) = self.reach_of(estate.statement(id).policy);
        let claim = if as_allow { Claim::Never } else { Claim::Always };
        let people = self.people_of(&ties.subjects);
        if people.len() > MOST_PEOPLE && ties.subjects != [Subject::Everyone] {
            return Ever::NotDecided;
        }
        let people = self.unlike(id, people, &ties.subjects);
        self.ever(id, &people, &places, (claim, &self.spent.matching), |declared, statement| {
            let free = free_name(declared);
            declared.policies.iter_mut().for_each(|policy| {
                policy.body.statements.clear();
                policy.body.include.clear();
            });
            let effect = if as_allow { Effect::Allow } else { Effect::Deny };
            let alone = Statement { effect, ..statement.clone() };
            let mut attachments: Vec<Attachment> = Vec::new();
            let carriers = self.carriers(estate.statement(id).policy);
            let is_carrier = |list: &List| {
                list.value.iter().any(|name| {
                    estate.find_policy(&name.value).is_some_and(|id| carriers.contains(&id))
                })
            };
            for one in declared.attachments.iter().filter(|one| is_carrier(&one.policy)) {
                attachments.push(attached(&free, one.to.clone(), one.at.clone()));
            }
            let accounts: Vec<Spanned<String>> = declared
                .scopes
                .iter()
                .filter(|scope| !scope.name.value.contains('/'))
                .map(|scope| scope.name.clone())
                .collect();
            let accounts = List::new(accounts, Origin::default());
            let everyone = || list(["everyone"]);
            for one in declared.ceilings.iter().filter(|one| is_carrier(&one.policy)) {
                let to = one.bound.clone().unwrap_or_else(everyone);
                // Without `over`, its patterns start at the root of all paths.
                let over = one.over.clone().unwrap_or_else(|| accounts.clone());
                let policy = if one.over.is_some() { &free } else { &format!("{free}-root") };
                attachments.push(attached(policy, to, over));
            }
            let mut policies = vec![(free.clone(), alone.clone())];
            match from_root(alone) {
                Some(statement) => policies.push((format!("{free}-root"), statement)),
                None => attachments.retain(|one| one.policy.value[0].value == free),
            }
            if !as_allow {
                let all = format!("{free}-all");
                attachments.push(attached(&all, everyone(), accounts));
                policies.push((all, everything()));
            }
            declared.ceilings.clear();
            declared.attachments = attachments;
            declared.scopes.iter_mut().for_each(|scope| scope.body.sealed = false);
            declared.policies.extend(policies.into_iter().map(|(name, one)| policy(&name, one)));
        })
    }

    /// One of all those who are alike to a statement by itself: who come to the same of its policy's
    /// subjects at all times, with the same roles taken up, and of whom its condition and braces read
    /// the same.
    fn unlike(
        &self,
        id: StatementId,
        people: Vec<Principal>,
        subjects: &[Subject],
    ) -> Vec<Principal> {
        let estate = self.estate();
        let statement = estate.statement(id);
        let patterns = statement.on.plain.iter().chain(&statement.on.excluded);
        let braces = patterns.flat_map(|one| one.braces()).map(|brace| brace.attribute);
        let asked = statement.when.iter().flat_map(|when| when.references());
        let mut own: Vec<AttributeId> = Vec::new();
        for reference in asked.map(|(reference, _)| reference).chain(braces) {
            match reference {
                Reference::Who(WhoAttribute::Own(id)) => own.push(id),
                // By their names, or by all that they are in, people are told apart.
                Reference::Who(_) => return people,
                _ => {}
            }
        }
        let everyone = subjects == [Subject::Everyone];
        let mut decider = self.engine.decider();
        let mut known: BTreeSet<String> = BTreeSet::new();
        let mut is_new = |who: &Principal| {
            let sort = Estate::principal_type(*who);
            let values: Vec<Option<&Value>> = own
                .iter()
                .map(|id| match who {
                    Principal::Workload(scope) => {
                        let mut chain = estate.scopes.chain(*scope);
                        chain.find_map(|at| estate.scope(at).attributes.value(*id))
                    }
                    other => estate.identity(*other)?.attributes.value(*id),
                })
                .collect();
            if everyone {
                // They come to it by nothing that they are in.
                return known.insert(format!("{sort} {values:?}"));
            }
            let closure = decider.closure_for(*who, &[], self.now);
            if closure.valid_during != Window::ALWAYS {
                return true;
            }
            let reached = |from: &FxHashSet<Principal>| -> Vec<usize> {
                let is_reached = |subject: &Subject| match subject {
                    Subject::Everyone => true,
                    Subject::One(who) => from.contains(who),
                };
                let all = subjects.iter().enumerate();
                all.filter(|(_, subject)| is_reached(subject)).map(|(i, _)| i).collect()
            };
            let whole = self.whole();
            let itself = reached(&whole.held_by_now(*who, self.now));
            // The same roles bring the same at the same times.
            let mut roles: Vec<RoleId> =
                closure.roles.iter().chain(&closure.takeable).copied().collect();
            roles.sort_unstable();
            known.insert(format!("{sort} {itself:?} {roles:?} {values:?}"))
        };
        people.into_iter().filter(|who| is_new(who)).collect()
    }

    /// Whether any action of a statement applies at or below a scope where its policy is tied.
    fn applies_anywhere(&self, id: StatementId) -> bool {
        let actions = &self.estate().statement(id).actions;
        let below = self.applicable_below();
        self.anchors(id).into_iter().any(|anchor| match anchor {
            Some(at) => !below[at.index()].is_disjoint(actions),
            None => below.iter().any(|known| !known.is_disjoint(actions)),
        })
    }

    /// Whether an allow that is attached ever grants anything to anybody, whatever other allows do.
    pub(super) fn ever_grants(&self, id: StatementId) -> Ever {
        let estate = self.estate();
        let mut ties = self.ties(estate.statement(id).policy);
        // As a ceiling it grants nothing.
        let carriers = self.carriers(estate.statement(id).policy);
        let is_carrier = |policy: PolicyId| carriers.contains(&policy);
        let attached_to = estate
            .attachments
            .iter()
            .filter(|one| one.policies.iter().any(|policy| is_carrier(policy.value)));
        ties.subjects = attached_to.flat_map(|one| one.to.iter().map(|to| to.value)).collect();
        let places = Places::Below(ties.attached_at.clone());
        let people = self.people_of(&ties.subjects);
        self.ever(
            id,
            &people,
            &places,
            (Claim::Never, &self.spent.granting),
            |declared, statement| {
                let free = free_name(declared);
                let mut made: Vec<Named<Policy>> = vec![policy(&free, statement.clone())];
                let mut attachments: Vec<Attachment> = Vec::new();
                for one in &declared.attachments {
                    for name in &one.policy.value {
                        let Some(policy_id) = estate.find_policy(&name.value) else { continue };
                        let tied = |to: &str| Attachment { policy: list([to]), ..one.clone() };
                        if is_carrier(policy_id) {
                            attachments.push(tied(&free));
                        }
                        let body = estate.policy(policy_id);
                        if !body.denies.is_empty() {
                            let denies = format!("{free}-{}", policy_id.index());
                            attachments.push(tied(&denies));
                            if !made.iter().any(|one| one.name.value == denies) {
                                made.push(self.denies_of(policy_id, &denies));
                            }
                        }
                    }
                }
                declared.attachments = attachments;
                declared.policies.extend(made);
            },
        )
    }

    /// Whom a policy is tied to, by itself or by others that include it, and where.
    pub(super) fn reach_of(&self, policy: PolicyId) -> (Vec<Subject>, Places) {
        let ties = self.ties(policy);
        let places = match &ties.over {
            None => Places::Everywhere,
            Some(over) => Places::Below([&ties.attached_at[..], over].concat()),
        };
        (ties.subjects, places)
    }

    /// Whether somebody is ever allowed any of some actions at a scope or below it.
    pub(super) fn ever_allowed(&self, who: Principal, does: &str, at: ScopeId) -> Ever {
        let estate = self.estate();
        let whole = self.whole();
        let people = whole.above(&[who]);
        let mut declared = whole.taken(&people, &Places::Below(vec![at]), Besides::default());
        let on = format!("/{}/**", estate.scope(at).path);
        declared.laws = vec![law(Claim::Never, &[estate.principal_id(who)], does, &on)];
        self.judged(&declared, Claim::Never)
    }

    /// What it costs to make a part of the estate at all, in people times places.
    pub(super) fn fixed_cost(&self) -> usize {
        let estate = self.estate();
        (estate.users.len() + estate.scopes.len() + estate.attachments.len()) / 200
    }

    pub(super) fn rows(&self, places: &Places) -> usize {
        places.rows(self.estate())
    }

    /// A policy of a name with all the denies of another.
    fn denies_of(&self, id: PolicyId, name: &str) -> Named<Policy> {
        let declared = self.statements();
        let denies = &self.estate().policy(id).denies;
        let statements = denies.iter().filter_map(|id| self.declared_statement(&declared, *id));
        let statements = statements.map(|one| Statement { name: None, ..one.clone() }).collect();
        let body = Policy { statements, ..Policy::default() };
        Named { name: plain(name), about: None, body }
    }

    fn ever(
        &self,
        id: StatementId,
        people: &[Principal],
        places: &Places,
        (claim, spent): (Claim, &AtomicUsize),
        change: impl FnOnce(&mut Declarations, &Statement),
    ) -> Ever {
        if people.is_empty() {
            return Ever::Nobody;
        }
        let estate = self.estate();
        let size = people.len().saturating_mul(self.rows(places));
        let cost = size + self.fixed_cost();
        if size > MOST_FOR_A_LAW || !spend(spent, cost, MOST_FOR_ALL_LAWS) {
            return Ever::NotDecided;
        }
        let all = self.statements();
        let Some(statement) = self.declared_statement(&all, id) else { return Ever::NotDecided };
        let whole = self.whole();
        let policy = std::borrow::Cow::Borrowed(&*estate.policy(estate.statement(id).policy).name);
        let besides = Besides { path: None, policies: &[policy] };
        let mut declared = whole.taken(&whole.above(people), places, besides);
        declared.users.iter_mut().for_each(|user| user.body.enabled = true);
        declared.policies.iter_mut().for_each(|policy| {
            policy.body.attachable = None;
            policy.body.place = None;
        });
        change(&mut declared, &Statement { name: None, ..statement.clone() });
        let who: Vec<String> = people.iter().map(|who| estate.principal_id(*who)).collect();
        declared.laws = vec![law(claim, &who, "*", "/**")];
        self.judged(&declared, claim)
    }

    /// What comes of the one law of a supposed estate.
    fn judged(&self, declared: &Declarations, claim: Claim) -> Ever {
        if self.spent.judging.load(Ordering::Relaxed) > self.most_judging {
            return Ever::NotDecided;
        }
        let supposed = Estate::build_beside(declared, self.estate());
        let Ok(supposed) = supposed else { return Ever::NotDecided };
        let engine = Engine::new(supposed);
        let laws = Laws::within(&engine, &engine.estate().laws, self.now, STEPS);
        let judged = laws.judge_all();
        self.spent.judging.fetch_add(laws.steps(), Ordering::Relaxed);
        match judged.first().map(|one| laws.outcome(0, one)) {
            Some((Outcome::Broken(_), _)) => Ever::Yes,
            // A law that everything is always allowed says nothing where nothing can be asked.
            Some((Outcome::Held, coverage)) if claim == Claim::Never || !coverage.is_empty() => {
                Ever::Never
            }
            _ => Ever::NotDecided,
        }
    }
}

/// Takes so much work from what is left; whether there was enough. Where there was not, what is left
/// stays for what costs less.
pub(super) fn spend(spent: &AtomicUsize, size: usize, most: usize) -> bool {
    let take = |now: usize| now.checked_add(size).filter(|then| *then <= most);
    spent.fetch_update(Ordering::Relaxed, Ordering::Relaxed, take).is_ok()
}

/// A statement whose patterns start at the root of all paths, as absolute ones, so that it may be
/// attached anywhere; `None` where it matches nothing from there.
fn from_root(mut statement: Statement) -> Option<Statement> {
    if let Some(on) = &mut statement.on {
        // Nothing is called by no name at all.
        on.value.retain(|pattern| !matches!(pattern.value.as_str(), "." | "!."));
        for pattern in &mut on.value {
            let (sign, body) = match pattern.value.strip_prefix('!') {
                Some(body) => ("!", body),
                None => ("", pattern.value.as_str()),
            };
            if !body.starts_with('/') {
                pattern.value = format!("{sign}/{body}");
            }
        }
        if on.value.iter().all(|pattern| pattern.value.starts_with('!')) {
            return None;
        }
    }
    Some(statement)
}

/// A name that no policy has, nor begins with.
fn free_name(declared: &Declarations) -> String {
    let is_free = |name: &String| {
        !declared.policies.iter().any(|policy| policy.name.value.starts_with(name.as_str()))
    };
    let mut names = (1..).map(|i| format!("vet-{i}-"));
    names.find(is_free).unwrap_or_default() + "x"
}

fn law(claim: Claim, who: &[String], does: &str, on: &str) -> Law {
    Law {
        claim,
        name: None,
        who: list(who.iter().map(String::as_str)),
        except: None,
        does: list([does]),
        on: list([on]),
        when: None,
        about: None,
        origin: Origin::default(),
    }
}

fn plain(text: &str) -> Spanned<String> {
    Spanned::new(text.to_owned(), Origin::default())
}

fn list<'t>(texts: impl IntoIterator<Item = &'t str>) -> List {
    Spanned::new(texts.into_iter().map(plain).collect(), Origin::default())
}

fn policy(name: &str, statement: Statement) -> Named<Policy> {
    let body = Policy { statements: vec![statement], ..Policy::default() };
    Named { name: plain(name), about: None, body }
}

fn attached(policy: &str, to: List, at: List) -> Attachment {
    Attachment {
        policy: list([policy]),
        to,
        at,
        window: crate::declaration::WindowWritten::default(),
        about: None,
        origin: Origin::default(),
    }
}

fn everything() -> Statement {
    Statement {
        effect: Effect::Allow,
        name: None,
        about: None,
        actions: list(["*"]),
        on: None,
        when: None,
        origin: Origin::default(),
    }
}
