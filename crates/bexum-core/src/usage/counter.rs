//! Counting, one thread's share.

use std::collections::HashMap;
use std::sync::Arc;

use rustc_hash::{FxBuildHasher, FxHashMap};

use super::reads::Reads;
use super::ways::Ways;
use super::{Count, Thing, Usage};
use crate::decision::{Reading, Reason};
use crate::engine::{Bound, Candidate, Decider, Engine, EvalContext, Sink};
use crate::id::{ActionId, GroupId, PolicyId, RoleId, ScopeId, StatementId};
use crate::policy::Effect;
use crate::principal::{Principal, Subject};
use crate::request::Query;
use crate::time::Time;
use crate::truth::Truth;

/// Allowed, and refused.
type Answers = (Count, Count);

/// Which groups and roles each statement asks about; made once, for all counters of an engine.
#[derive(Clone, Debug)]
pub struct Asking(Arc<[Reads]>);

impl Asking {
    /// What the statements of an engine's estate read.
    #[must_use]
    pub fn of(engine: &Engine) -> Self {
        let estate = engine.estate();
        Self(estate.statements.iter().map(|statement| Reads::of(estate, statement)).collect())
    }
}

/// Decides requests, and counts what those that are allowed use.
pub struct Counter<'e> {
    decider: Decider<'e>,
    reads: Arc<[Reads]>,
    reasons: [u64; Reason::ALL.len()],
    /// By the number of who asks.
    who: Vec<Answers>,
    actions: Vec<Answers>,
    scopes: Vec<Answers>,
    statements: Vec<Count>,
    policies: Vec<Count>,
    attachments: FxHashMap<(PolicyId, Subject, ScopeId), Count>,
    /// What was used of what somebody is in, as [`Counter::key_of`] says it, with a moment of it.
    sessions: HashMap<Box<[u32]>, Count, FxBuildHasher>,
    met: Met,
    key: Vec<u32>,
}

/// What one request meets.
#[derive(Debug, Default)]
struct Met {
    attachments: Vec<(PolicyId, Subject, ScopeId)>,
    /// The statements of these.
    granting: Vec<StatementId>,
    /// The same, and those of ceilings.
    statements: Vec<StatementId>,
    policies: Vec<PolicyId>,
}

fn note<T: PartialEq>(list: &mut Vec<T>, one: T) {
    if !list.contains(&one) {
        list.push(one);
    }
}

impl Met {
    fn clear(&mut self) {
        self.attachments.clear();
        self.granting.clear();
        self.statements.clear();
        self.policies.clear();
    }

    fn statement(&mut self, of: PolicyId, id: StatementId, context: &EvalContext<'_>) {
        note(&mut self.statements, id);
        note(&mut self.policies, of);
        note(&mut self.policies, context.index.estate().statement(id).policy);
    }
}

impl Sink for Met {
    const THOROUGH: bool = false;
    const ALL_ALLOWS: bool = true;

    fn candidate(&mut self, candidate: Candidate, truth: Truth, context: &EvalContext<'_>) {
        if truth == Truth::True {
            let Candidate { statement, policy, subject, scope, .. } = candidate;
            note(&mut self.attachments, (policy, subject, scope));
            note(&mut self.granting, statement);
            self.statement(policy, statement, context);
        }
    }

    fn bound(&mut self, bound: Bound, context: &EvalContext<'_>) {
        // What a session is bound by (`under`) is no ceiling of the estate.
        if bound.limit.ceiling.is_none() {
            return;
        }
        for (id, truth) in bound.statements {
            let effect = context.index.estate().statement(id).effect;
            if truth == Truth::True && effect == Effect::Allow {
                self.statement(bound.limit.policy, id, context);
            }
        }
    }
}

impl<'e> Counter<'e> {
    /// One that has counted nothing.
    #[must_use]
    pub fn new(engine: &'e Engine, asking: &Asking) -> Self {
        let reads = Arc::clone(&asking.0);
        let estate = engine.estate();
        let (_, subjects) =
            engine.scope_index.subject_ids.number(Principal::Workload(ScopeId::new(0)));
        Self {
            decider: Decider::new(engine),
            reads,
            reasons: [0; Reason::ALL.len()],
            who: vec![Answers::default(); subjects],
            actions: vec![Answers::default(); estate.catalogue.action_ids().count()],
            scopes: vec![Answers::default(); estate.scopes.len()],
            statements: vec![Count::default(); estate.statements.len()],
            policies: vec![Count::default(); estate.policies.len()],
            attachments: FxHashMap::default(),
            sessions: HashMap::default(),
            met: Met::default(),
            key: Vec::new(),
        }
    }

    /// The one that decides, to resolve requests with.
    pub fn decider(&mut self) -> &mut Decider<'e> {
        &mut self.decider
    }

    /// The allows of attachments that matched, of the request that was counted last.
    pub(crate) fn granting(&self) -> &[StatementId] {
        &self.met.granting
    }

    /// Decides a request, and counts what it uses.
    pub fn count(&mut self, query: &Query<'_>) -> Reason {
        self.met.clear();
        let session = self.decider.session(query);
        let reason = self.decider.decide_session(&session, query, Reading::Strict, &mut self.met);
        self.reasons[reason as usize] += 1;
        let (who, _) = self.decider.index.scope_index.subject_ids.number(query.who);
        let scope = query.target.scope();
        let asked = [
            &mut self.who[who],
            &mut self.actions[query.action.index()],
            &mut self.scopes[scope.index()],
        ];
        if reason != Reason::Granted {
            asked.into_iter().for_each(|(_, refused)| refused.once(query.time));
            return reason;
        }
        asked.into_iter().for_each(|(allowed, _)| allowed.once(query.time));
        for one in &self.met.attachments {
            self.attachments.entry(*one).or_default().once(query.time);
        }
        for one in &self.met.statements {
            self.statements[one.index()].once(query.time);
        }
        for one in &self.met.policies {
            self.policies[one.index()].once(query.time);
        }
        let from = session.valid_during().from;
        self.key_of(query, who, from);
        match self.sessions.get_mut(&*self.key) {
            Some(count) => count.once(query.time),
            None => {
                let mut count = Count::default();
                count.once(query.time);
                self.sessions.insert(self.key.as_slice().into(), count);
            }
        }
        reason
    }

    /// Who asks, in which role and with which groups supposed, since when they are in all that they
    /// are in, to whom what granted it is attached, and the statements that ask what they are in.
    fn key_of(&mut self, query: &Query<'_>, who: usize, from: Option<Time>) {
        let Met { attachments, statements, .. } = &self.met;
        let number = |n: usize| u32::try_from(n).expect("limits keep every list within u32");
        let codes = self.decider.index.scope_index.subject_ids;
        let key = &mut self.key;
        key.clear();
        key.push(number(who));
        key.push(query.take_up.map_or(0, |role| number(role.index()) + 1));
        let from = from.unwrap_or(Time(i64::MIN)).0 as u64;
        key.extend([(from >> 32) as u32, from as u32]);
        key.push(number(query.also.len()));
        key.extend(query.also.iter().map(|group| number(group.index())));
        let subjects = key.len() + 1;
        key.push(0);
        for (_, subject, _) in attachments {
            let Subject::One(principal) = subject else { continue };
            let subject = number(codes.number(*principal).0);
            if !key[subjects..].contains(&subject) {
                key.push(subject);
            }
        }
        key[subjects - 1] = number(key.len() - subjects);
        key[subjects..].sort_unstable();
        let reading = key.len();
        let reads = statements.iter().filter(|id| !self.reads[id.index()].is_empty());
        key.extend(reads.map(|id| number(id.index())));
        key[reading..].sort_unstable();
    }

    /// What was counted.
    #[must_use]
    pub fn finish(mut self) -> Usage {
        let mut usage = Usage { reasons: self.reasons, ..Usage::default() };
        let codes = self.decider.index.scope_index.subject_ids;
        let mut answers = |thing: Thing, (allowed, refused): Answers| {
            for (all, count) in [(&mut usage.used, allowed), (&mut usage.refused, refused)] {
                if count.times > 0 {
                    all.insert(thing, count);
                }
            }
        };
        for (number, one) in self.who.iter().enumerate() {
            if let Subject::One(principal) = codes.numbered(number) {
                answers(Thing::Who(principal), *one);
            }
        }
        for (i, one) in self.actions.iter().enumerate() {
            answers(Thing::Action(ActionId::new(i)), *one);
        }
        for (i, one) in self.scopes.iter().enumerate() {
            answers(Thing::Scope(ScopeId::new(i)), *one);
        }
        let statements = self.statements.iter().enumerate();
        let statements = statements.map(|(i, one)| (Thing::Statement(StatementId::new(i)), *one));
        let policies = self.policies.iter().enumerate();
        let policies = policies.map(|(i, one)| (Thing::Policy(PolicyId::new(i)), *one));
        let attachments = self.attachments.drain();
        let attachments =
            attachments.map(|((policy, to, at), one)| (Thing::Attachment(policy, to, at), one));
        for (thing, count) in statements.chain(policies).chain(attachments) {
            if count.times > 0 {
                usage.used.insert(thing, count);
            }
        }
        self.add_memberships(&mut usage);
        usage
    }

    /// Follows the ways that requests took; those of one session are found once.
    fn add_memberships(&mut self, usage: &mut Usage) {
        let index = self.decider.index;
        let codes = index.scope_index.subject_ids;
        let mut sessions: Vec<(Box<[u32]>, Count)> = self.sessions.drain().collect();
        sessions.sort_unstable_by(|(a, _), (b, _)| a.cmp(b));
        let also_of = |key: &[u32]| 5 + key[4] as usize;
        for same in sessions.chunk_by(|(a, _), (b, _)| {
            let end = also_of(a);
            b.get(..end) == Some(&a[..end])
        }) {
            let (key, first) = &same[0];
            let Subject::One(who) = codes.numbered(key[0] as usize) else { continue };
            let take_up = key[1].checked_sub(1).map(|role| RoleId::new(role as usize));
            let also: Vec<GroupId> =
                key[5..also_of(key)].iter().map(|id| GroupId::new(*id as usize)).collect();
            let ways = Ways::new(index, who, &also, take_up, first.first);
            for (key, count) in same {
                let rest = &key[also_of(key)..];
                let (subjects, reading) = rest[1..].split_at(rest[0] as usize);
                let mut wanted: Vec<Principal> = subjects
                    .iter()
                    .filter_map(|number| match codes.numbered(*number as usize) {
                        Subject::One(principal) => Some(principal),
                        Subject::Everyone => None,
                    })
                    .collect();
                wanted.extend(take_up.map(Principal::Role));
                for id in reading {
                    let reads = &self.reads[*id as usize];
                    wanted.extend(reads.groups.iter().copied().map(Principal::Group));
                    wanted.extend(reads.roles.iter().copied().map(Principal::Role));
                    if reads.all_groups {
                        wanted.extend(ways.all(|one| matches!(one, Principal::Group(_))));
                    }
                    if reads.all_roles {
                        wanted.extend(ways.all(|one| matches!(one, Principal::Role(_))));
                    }
                }
                for thing in ways.used(wanted) {
                    usage.used.entry(thing).or_default().add(*count);
                }
            }
        }
    }
}
