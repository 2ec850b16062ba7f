//! Why a decision came out as it did, as data: what was in play, what matched, what stood in the
//! way, what nearly matched. Made by the very walk that decides, so the two cannot differ.

mod near;
mod routes;

pub use near::{Lapse, NearMiss, Shortfall, lapses};
pub use routes::{BriefRoute, How, Route, RouteStep, Routes};

use crate::attribute::Value;
use crate::condition::Reference;
use crate::condition::eval::Facts;
use crate::condition::fact::Fact;
use crate::decision::{Reading, Reason};
use crate::engine::{
    Bound, Candidate, Decider, EvalContext, LimitingPolicy, Obstacle, Sink, Source,
};
use crate::id::{GroupId, RoleId, StatementId};
use crate::pattern::matching::Braces as _;
use crate::policy::Effect;
use crate::principal::Principal;
use crate::prove::{Possible, possible};
use crate::request::{Query, Request};
use crate::truth::Truth;

/// The whole explanation of one decision.
#[derive(Debug)]
pub struct Trace {
    /// The answer.
    pub reason: Reason,
    /// What the answer would be if all that is undecided came out in favour; the answer itself where
    /// no circumstances have it so.
    pub at_best: Reason,
    /// The request in circumstances in which it is allowed, where it is not and could be.
    pub allowed_when: Option<Box<Request<'static>>>,
    /// Deny statements in play that match or are undecided: each of them refuses.
    pub denies: Vec<Finding>,
    /// Allow statements in play that match: each of them grants.
    pub allows: Vec<Finding>,
    /// Allow statements in play that name the action but do not match, or not certainly.
    pub misses: Vec<Finding>,
    /// Allow statements that would match (or might) but are not in play.
    pub obstructed: Vec<(Finding, Obstacle)>,
    /// Ceilings in play.
    pub ceilings: Vec<CeilingFinding>,
    /// How the principal comes to each group and role.
    pub routes: Routes,
    /// Groups and roles that the principal would be in at another time, when that would help.
    pub lapses: Vec<Lapse>,
    /// Policies that would have allowed it, attached elsewhere or to others; for `not-granted`.
    pub near: Vec<NearMiss>,
    /// Roles that the principal may take up and that would have allowed it.
    pub roles_that_help: Vec<RoleId>,
    /// Groups that would have it allowed if the principal were in one of them.
    pub groups_that_help: Vec<GroupId>,
    /// Roles and groups that might have it allowed, if what is undecided then came out in favour.
    pub perhaps: Vec<Principal>,
    /// Whether it would have been allowed without taking up a role.
    pub role_stands_in_the_way: bool,
}

/// A statement and what it came to.
#[derive(Clone, Debug)]
pub struct Finding {
    /// The statement, and by which attachment.
    pub candidate: Candidate,
    /// What it came to.
    pub truth: Truth,
    /// What its path patterns alone came to.
    pub path: Truth,
    /// The parts of its condition that kept it from being true.
    pub parts: Vec<ConditionPart>,
    /// The attributes in its patterns when these do not match: those that left it undecided, or
    /// what was put in.
    pub braces: Vec<SeenAttribute>,
    /// How many segments the target lies below the attachment's scope.
    pub distance: usize,
}

/// A part of a condition that decided what the whole came to.
#[derive(Clone, Debug)]
pub struct ConditionPart {
    /// In the author's words.
    pub text: String,
    /// What it came to.
    pub truth: Truth,
    /// What it saw.
    pub seen: Vec<SeenAttribute>,
}

/// An attribute as a statement saw it.
#[derive(Clone, Debug, PartialEq)]
pub struct SeenAttribute {
    /// Which.
    pub reference: Reference,
    /// What was there.
    pub state: SeenState,
}

/// What was there under an attribute's name.
#[derive(Clone, Debug, PartialEq)]
pub enum SeenState {
    /// Nothing, for certain.
    Absent,
    /// Nobody said.
    Unknown,
    /// This, from there.
    Value(Value, Source),
}

/// A ceiling in play and what it came to.
#[derive(Clone, Debug)]
pub struct CeilingFinding {
    /// The ceiling.
    pub limit: LimitingPolicy,
    /// Whether it bounds the request.
    pub bounds: bool,
    /// Its statements whose `do` matches.
    pub statements: Vec<CeilingStatement>,
}

/// A statement of a ceiling and what it came to.
#[derive(Clone, Debug)]
pub struct CeilingStatement {
    /// The statement.
    pub statement: StatementId,
    /// What it came to.
    pub truth: Truth,
    /// What its path patterns alone came to.
    pub path: Truth,
    /// The parts of its condition that kept it from being true.
    pub parts: Vec<ConditionPart>,
    /// The attributes in its patterns that could not be filled in.
    pub braces: Vec<SeenAttribute>,
}

impl Trace {
    /// Decides and explains.
    pub fn of(decider: &mut Decider<'_>, query: &Query<'_>) -> Self {
        let (reason, recorder) = Recorder::of(decider, query);
        let mut at_best =
            decider.decide_into(query, Reading::Hopeful, &mut crate::engine::NullSink);
        let mut allowed_when = None;
        if reason != Reason::Granted && at_best == Reason::Granted {
            match possible(decider, query) {
                Possible::Yes(request) => allowed_when = Some(request),
                Possible::No => at_best = reason,
                Possible::NotDecided => {}
            }
        }
        let closure = decider.closure_of(query);
        let Recorder { denies, allows, misses, obstructed, ceilings } = recorder;
        let mut near = Vec::new();
        let mut roles_that_help = Vec::new();
        let mut groups_that_help = Vec::new();
        let mut perhaps = Vec::new();
        let mut lapses = Vec::new();
        let mut role_stands_in_the_way = false;
        if reason == Reason::NotGranted {
            near = near::misses(decider.index, query, &closure);
            // A statement that is in play, or kept out of it, is told once.
            near.retain(|miss| {
                let is_it = |finding: &Finding| finding.candidate.statement == miss.statement;
                !misses.iter().chain(obstructed.iter().map(|(finding, _)| finding)).any(is_it)
            });
        }
        if matches!(reason, Reason::NotGranted | Reason::RoleRefused) {
            // Another role than the one that was taken up, or any.
            for &role in closure.takeable.iter().filter(|role| Some(**role) != query.take_up) {
                let with_role = Query { take_up: Some(role), ..query.clone() };
                match near::help(decider, &with_role) {
                    Truth::True => roles_that_help.push(role),
                    Truth::Undecided => perhaps.push(Principal::Role(role)),
                    Truth::False => {}
                }
            }
            for group in near::groups_to_try(decider.index, query, &near, &closure) {
                let mut supposed = query.clone();
                supposed.also.push(group);
                match near::help(decider, &supposed) {
                    Truth::True => groups_that_help.push(group),
                    Truth::Undecided => perhaps.push(Principal::Group(group)),
                    Truth::False => {}
                }
            }
            lapses = near::lapses(decider.index, &closure, query.time);
            lapses.retain(|lapse| near::would_help(decider, query, reason, lapse));
            let without_role = Query { take_up: None, ..query.clone() };
            role_stands_in_the_way =
                query.take_up.is_some() && decider.decide(&without_role) == Reason::Granted;
        }
        let mut trace = Self {
            reason,
            at_best,
            allowed_when,
            denies,
            allows,
            misses,
            obstructed,
            ceilings,
            routes: Routes::new(decider.index, query.who, &query.also, query.take_up, query.time),
            lapses,
            near,
            roles_that_help,
            groups_that_help,
            perhaps,
            role_stands_in_the_way,
        };
        trace.settle();
        trace
    }

    /// The statements that decided: every deny, every allow, or what the bounding ceilings lack.
    #[must_use]
    pub fn deciding(&self) -> Vec<StatementId> {
        let mut ids: Vec<StatementId> = match self.reason {
            Reason::Denied => self.denies.iter().map(|f| f.candidate.statement).collect(),
            Reason::Granted => self.allows.iter().map(|f| f.candidate.statement).collect(),
            Reason::OverCeiling => {
                let bounding = self.ceilings.iter().filter(|ceiling| ceiling.bounds);
                bounding.flat_map(|c| &c.statements).map(|s| s.statement).collect()
            }
            Reason::NotGranted | Reason::Disabled | Reason::RoleRefused => Vec::new(),
        };
        ids.sort_unstable();
        ids.dedup();
        ids
    }

    /// Attributes of the circumstances that were not given and left a statement undecided.
    #[must_use]
    pub fn not_given(&self) -> Vec<Reference> {
        // A path that does not match does not wait for anything.
        let findings = self.denies.iter().chain(&self.misses).filter(|f| f.path != Truth::False);
        let of_findings = findings.flat_map(|finding| {
            finding.parts.iter().flat_map(|part| &part.seen).chain(&finding.braces)
        });
        let of_ceilings = self
            .ceilings
            .iter()
            .flat_map(|c| &c.statements)
            .filter(|s| s.path != Truth::False)
            .flat_map(|s| s.parts.iter().flat_map(|part| &part.seen).chain(&s.braces));
        let mut found: Vec<Reference> = of_findings
            .chain(of_ceilings)
            .filter(|seen| seen.state == SeenState::Unknown)
            .map(|seen| seen.reference)
            .filter(|reference| matches!(reference, Reference::Given(_)))
            .collect();
        found.sort_unstable();
        found.dedup();
        found
    }

    /// Nearest first, each once: a role both active and taken up brings its attachments twice.
    fn settle(&mut self) {
        for list in [&mut self.denies, &mut self.allows, &mut self.misses] {
            list.sort_by_key(|finding| (finding.distance, finding.candidate));
            list.dedup_by_key(|finding| finding.candidate);
        }
        self.obstructed.sort_by_key(|(finding, _)| (finding.distance, finding.candidate));
        self.obstructed.dedup_by_key(|(finding, _)| finding.candidate);
        self.ceilings.sort_by_key(|ceiling| (!ceiling.bounds, ceiling.limit));
        self.ceilings.dedup_by_key(|ceiling| ceiling.limit);
    }
}

/// The sink that writes down what it hears.
#[derive(Default)]
pub(crate) struct Recorder {
    pub(crate) denies: Vec<Finding>,
    pub(crate) allows: Vec<Finding>,
    pub(crate) misses: Vec<Finding>,
    obstructed: Vec<(Finding, Obstacle)>,
    pub(crate) ceilings: Vec<CeilingFinding>,
}

impl Recorder {
    /// Decides, and writes down what the decision met.
    pub(crate) fn of(decider: &mut Decider<'_>, query: &Query<'_>) -> (Reason, Self) {
        let mut recorder = Self::default();
        let reason = decider.decide_into(query, Reading::Strict, &mut recorder);
        (reason, recorder)
    }
}

impl Sink for Recorder {
    const THOROUGH: bool = true;

    fn candidate(&mut self, candidate: Candidate, truth: Truth, context: &EvalContext<'_>) {
        let effect = context.index.estate().statement(candidate.statement).effect;
        let list = match (effect, truth) {
            (Effect::Deny, Truth::False) => return,
            (Effect::Deny, _) => &mut self.denies,
            (Effect::Allow, Truth::True) => &mut self.allows,
            (Effect::Allow, _) => &mut self.misses,
        };
        list.push(finding(candidate, truth, context));
    }

    fn obstructed(
        &mut self,
        candidate: Candidate,
        truth: Truth,
        obstacle: Obstacle,
        context: &EvalContext<'_>,
    ) {
        let effect = context.index.estate().statement(candidate.statement).effect;
        if truth != Truth::False && effect == Effect::Allow {
            self.obstructed.push((finding(candidate, truth, context), obstacle));
        }
    }

    fn bound(&mut self, bound: Bound, context: &EvalContext<'_>) {
        let estate = context.index.estate();
        let anchor = bound.limit.over.map_or(0, |over| estate.scope(over).depth as usize);
        let statements = bound.statements.into_iter().map(|(statement, truth)| {
            let (path, braces) = path_of(statement, anchor, context);
            let parts =
                if path == Truth::False { Vec::new() } else { parts(statement, truth, context) };
            CeilingStatement { statement, truth, path, parts, braces }
        });
        self.ceilings.push(CeilingFinding {
            limit: bound.limit,
            bounds: bound.bounds,
            statements: statements.collect(),
        });
    }
}

fn finding(candidate: Candidate, truth: Truth, context: &EvalContext<'_>) -> Finding {
    let anchor = context.index.estate().scope(candidate.scope).depth as usize;
    let (path, braces) = path_of(candidate.statement, anchor, context);
    Finding {
        candidate,
        truth,
        path,
        parts: match path {
            Truth::False => Vec::new(),
            _ => parts(candidate.statement, truth, context),
        },
        braces,
        distance: context.query.target.segments.len().saturating_sub(anchor),
    }
}

/// What the path patterns of a statement come to; where that is undecided, the braces that left it
/// so, and where it is false, all that were filled in.
fn path_of(
    statement: StatementId,
    anchor: usize,
    context: &EvalContext<'_>,
) -> (Truth, Vec<SeenAttribute>) {
    let on = &context.index.estate().statement(statement).on;
    let path = on.matches(&context.query.target.segments, anchor, context);
    let mut braces: Vec<SeenAttribute> = Vec::new();
    if path != Truth::True {
        let patterns = on.plain.iter().chain(&on.excluded);
        for brace in patterns.flat_map(|pattern| pattern.braces()) {
            let mut open = false;
            context.alternatives(brace, &mut |text| open |= text.is_none());
            let seen = see(brace.attribute, context);
            if (open || path == Truth::False) && !braces.contains(&seen) {
                braces.push(seen);
            }
        }
    }
    (path, braces)
}

fn parts(statement: StatementId, truth: Truth, context: &EvalContext<'_>) -> Vec<ConditionPart> {
    let when = &context.index.estate().statement(statement).when;
    let (Some(when), true) = (when, truth != Truth::True) else { return Vec::new() };
    if when.eval(context) == Truth::True {
        return Vec::new(); // the path kept it from being true
    }
    let blamed = when.blame(context).into_iter();
    blamed
        .map(|blame| ConditionPart {
            text: blame.text,
            truth: blame.truth,
            seen: blame.references.into_iter().map(|reference| see(reference, context)).collect(),
        })
        .collect()
}

fn see(reference: Reference, context: &EvalContext<'_>) -> SeenAttribute {
    let fact = context.fact(reference);
    let state = match (fact.to_value(), context.source(reference)) {
        (Some(value), Some(source)) => SeenState::Value(value, source),
        _ if matches!(fact, Fact::Unknown) => SeenState::Unknown,
        _ => SeenState::Absent,
    };
    SeenAttribute { reference, state }
}
