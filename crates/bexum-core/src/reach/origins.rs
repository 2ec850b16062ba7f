//! Where an allowed action comes from, and what one that depends waits for.

use super::{AccessTarget, Viewpoint};
use crate::catalogue::ActionSet;
use crate::engine::{Candidate, Decider, EvalContext, Sink, StatementInPlay};
use crate::id::{ActionId, KindId};
use crate::policy::Effect;
use crate::request::Query;
use crate::trace::Recorder;
use crate::truth::Truth;

/// Every allow statement that grants a query, by every route: taking one away changes nothing as
/// long as another is left.
pub fn sources(decider: &mut Decider<'_>, query: &Query<'_>) -> Vec<Candidate> {
    #[derive(Default)]
    struct Grants(Vec<Candidate>);
    impl Sink for Grants {
        const THOROUGH: bool = true;

        fn candidate(&mut self, candidate: Candidate, truth: Truth, context: &EvalContext<'_>) {
            let statement = context.index.estate().statement(candidate.statement);
            if truth == Truth::True && statement.effect == Effect::Allow {
                self.0.push(candidate);
            }
        }
    }
    let mut grants = Grants::default();
    decider.decide_into(query, crate::decision::Reading::Strict, &mut grants);
    grants.0.sort_unstable();
    grants.0.dedup();
    grants.0
}

/// What a cell that depends waits for.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct Doubt {
    /// Attributes that nobody gave, as written in conditions.
    pub attributes: Vec<String>,
    /// The parts of conditions that are undecided, in their authors' words.
    pub conditions: Vec<String>,
}

/// Why a query's answer depends.
pub fn doubt(decider: &mut Decider<'_>, query: &Query<'_>) -> Doubt {
    let (_, trace) = Recorder::of(decider, query);
    let names = &decider.index.estate().attribute_names;
    let findings = trace.denies.iter().chain(&trace.misses).chain(&trace.allows);
    let mut parts: Vec<_> = findings.clone().flat_map(|finding| &finding.parts).collect();
    let in_ceilings = trace.ceilings.iter().flat_map(|ceiling| &ceiling.statements);
    parts.extend(in_ceilings.clone().flat_map(|statement| &statement.parts));
    parts.retain(|part| part.truth == Truth::Undecided);
    let braces = findings.flat_map(|f| &f.braces).chain(in_ceilings.flat_map(|s| &s.braces));
    let mut doubt = Doubt::default();
    for part in &parts {
        doubt.conditions.push(part.text.clone());
    }
    let unknown = parts.iter().flat_map(|part| &part.seen).chain(braces);
    for seen in unknown.filter(|seen| seen.state == crate::trace::SeenState::Unknown) {
        doubt.attributes.push(seen.reference.written(names));
    }
    for list in [&mut doubt.attributes, &mut doubt.conditions] {
        list.sort();
        list.dedup();
    }
    doubt
}

/// What each of some actions on one target waits for ([`doubt`]). Actions of one kind that the same
/// statements name wait for the same, which is found out once.
pub fn doubts(
    decider: &mut Decider<'_>,
    session: &Viewpoint,
    target: &AccessTarget,
    actions: &ActionSet,
) -> Vec<(Doubt, ActionId)> {
    let estate = decider.index.estate();
    let Some(first) = actions.minimum().map(ActionId::new) else { return Vec::new() };
    let query = session.query(target, first);
    let asking = decider.session(&query);
    let statements = decider.statements_in_play(&asking, &query);
    let mut known: Vec<(KindId, Vec<usize>, Doubt)> = Vec::new();
    let mut found = Vec::new();
    for action in actions.ones().map(ActionId::new) {
        let names =
            |said: &StatementInPlay| estate.statement(said.id).actions.contains(action.index());
        let naming = statements.iter().enumerate().filter(|(_, said)| names(said));
        let naming: Vec<usize> = naming.map(|(i, _)| i).collect();
        let kind = estate.catalogue.action(action).kind;
        let same = known.iter().find(|(k, n, _)| (k, n) == (&kind, &naming));
        let doubt = match same {
            Some((.., doubt)) => doubt.clone(),
            None => {
                let doubt = doubt(decider, &session.query(target, action));
                known.push((kind, naming, doubt.clone()));
                doubt
            }
        };
        found.push((doubt, action));
    }
    found
}
