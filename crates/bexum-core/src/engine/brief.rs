//! Requests in their commonest form, resolved without anything being copied.

use super::index::Index;
use crate::condition::fact::Scalar;
use crate::id::{ActionId, ScopeId};
use crate::principal::Principal;
use crate::request::{Given, Place, Query, Target};
use crate::time::Time;

/// A request by names that asks who, what and where, perhaps in a role, in plain circumstances:
/// scalars under names without dots, each once.
#[derive(Clone, Debug, Default)]
pub struct Brief<'a> {
    /// Who asks.
    pub who: &'a str,
    /// What for.
    pub does: &'a str,
    /// On what.
    pub on: &'a str,
    /// A role to take up.
    pub take_up: Option<&'a str>,
    /// Circumstances; `None` says that one is absent.
    pub context: Vec<(&'a str, Option<Scalar<'a>>)>,
    /// The moment, if the request names one.
    pub time: Option<Time>,
}

impl<'a> Query<'a> {
    /// A query to be filled in by [`Index::fill_in`]; until then it asks nothing.
    #[must_use]
    pub fn empty() -> Self {
        Self {
            who: Principal::Workload(ScopeId::new(0)),
            action: ActionId::new(0),
            target: Target {
                path: "",
                segments: Vec::new(),
                place: Place::Scope(ScopeId::new(0)),
                is_sample: false,
            },
            take_up: None,
            also: Vec::new(),
            under: Vec::new(),
            context: Vec::new(),
            item: Vec::new(),
            item_is_open: false,
            time: Time(0),
        }
    }
}

impl Index<'_> {
    /// Resolves a request into `query`, whose lists are used again; `now` is its time when it
    /// names none. Says `false` where the request is an error or takes a closer look:
    /// [`Request::resolve`](crate::Request::resolve) knows which. Then `query` means nothing.
    #[must_use]
    pub fn fill_in<'a>(&self, brief: &Brief<'a>, now: Time, query: &mut Query<'a>) -> bool {
        self.try_fill_in(brief, now, query).is_some()
    }

    fn try_fill_in<'a>(&self, brief: &Brief<'a>, now: Time, query: &mut Query<'a>) -> Option<()> {
        let (estate, directory) = (self.estate, self.directory());
        query.who = directory.principal(brief.who)?;
        query.action = estate.catalogue.find_action(brief.does)?;
        query.target.path = brief.on;
        let (place, class) = directory.place(brief.on, &mut query.target.segments)?;
        query.target.place = place;
        let applicable = estate.catalogue.applicable(class);
        if !applicable.contains(query.action.index()) {
            return None;
        }
        query.take_up = match brief.take_up {
            Some(role) => Some(estate.find_role(role.strip_prefix("role:")?)?),
            None => None,
        };
        query.context.clear();
        for (name, value) in &brief.context {
            // What no condition and no brace asks about has no say.
            if let Some(id) = estate.attribute_names.get(name) {
                let given = value.map_or(Given::Absent, |value| Given::Value(value.to_value()));
                query.context.push((id, given));
            }
        }
        query.time = brief.time.unwrap_or(now);
        Some(())
    }
}
