//! Requests in their commonest form, resolved without anything being copied.

use super::name_index::Lookup;
use super::prefetch;
use crate::condition::fact::Scalar;
use crate::engine::Decider;
use crate::estate::Estate;
use crate::id::{ActionId, AttributeId, ScopeId};
use crate::principal::Principal;
use crate::request::{Given, Query, Target, TargetPlace};
use crate::time::Time;

/// A request by names that asks who, what and where, perhaps in a role, in plain circumstances:
/// scalars under names without dots, each once.
#[derive(Clone, Debug, Default)]
pub struct BorrowedRequest<'a> {
    /// Who asks.
    pub who: &'a str,
    /// What for.
    pub does: &'a str,
    /// On what.
    pub on: &'a str,
    /// A role to take up.
    pub take_up: Option<&'a str>,
    /// Circumstances; `None` says that one is absent.
    pub given: Vec<(&'a str, Option<Scalar<'a>>)>,
    /// The moment, if the request names one.
    pub time: Option<Time>,
}

/// Many requests, each resolved as [`Request::resolve`](crate::Request::resolve) would, without
/// anything being copied; what was allocated for some serves the next.
///
/// Looking up names is mostly waiting for memory. So it goes in rounds over all of them, the same
/// small step for each: then the waiting of several overlaps.
#[derive(Debug, Default)]
pub struct RequestBatch<'a> {
    rows: Vec<Row<'a>>,
    used: usize,
    /// The names of circumstances last met at each place of their lists, and what they are: the
    /// next request most likely gives the same.
    names: Vec<(&'a str, Option<AttributeId>)>,
}

#[derive(Debug)]
struct Row<'a> {
    brief: BorrowedRequest<'a>,
    lookup: Lookup,
    query: Query<'a>,
    /// Whether the query means anything.
    is_resolved: bool,
}

impl<'a> RequestBatch<'a> {
    /// None.
    pub fn clear(&mut self) {
        self.used = 0;
    }

    /// One more, to be filled in; what it says until then has no meaning.
    pub fn add(&mut self) -> &mut BorrowedRequest<'a> {
        if self.used == self.rows.len() {
            let (brief, lookup) = (BorrowedRequest::default(), Lookup::default());
            self.rows.push(Row { brief, lookup, query: Query::empty(), is_resolved: false });
        }
        self.used += 1;
        &mut self.rows[self.used - 1].brief
    }

    /// Takes back the last.
    pub fn take_back(&mut self) {
        self.used -= 1;
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.used
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.used == 0
    }

    /// The query of one; `None` where the request is an error or takes a closer look:
    /// [`Request::resolve`](crate::Request::resolve) knows which.
    #[must_use]
    pub fn query(&self, at: usize) -> Option<&Query<'a>> {
        let row = &self.rows[at];
        row.is_resolved.then_some(&row.query)
    }

    /// Resolves all of them; `now` is the time of those that name none.
    pub fn resolve(&mut self, decider: &mut Decider<'_>, now: Time) {
        let (estate, name_index) = (decider.index.estate(), decider.index.name_index());
        let scope_index = &decider.index.scope_index;
        let scope_type = |id| scope_index.scope_type(id);
        let rows = &mut self.rows[..self.used];
        for row in &mut *rows {
            row.lookup.prepare_who(row.brief.who);
            let split = row.lookup.prepare_path(row.brief.on, &mut row.query.target.segments);
            row.is_resolved = split.is_some();
        }
        rows.iter_mut().for_each(|row| name_index.prefetch_slots(&mut row.lookup));
        rows.iter().for_each(|row| {
            name_index.prefetch_texts(&row.lookup, |id| prefetch::of_scope(scope_index, id, 0))
        });
        for row in rows.iter_mut().filter(|row| row.is_resolved) {
            let Row { brief, lookup, query, .. } = &mut *row;
            let who = name_index.principal(lookup, brief.who, scope_type);
            let place = name_index.place(lookup, brief.on, scope_type);
            row.is_resolved =
                who.zip(place).map(|known| (query.who, query.target.place) = known).is_some();
        }
        for row in rows.iter_mut().filter(|row| row.is_resolved) {
            row.is_resolved = row.resolve_rest(estate, now, &mut self.names).is_some()
                && estate
                    .catalogue
                    .applicable(scope_index.class(row.query.target.place))
                    .contains(row.query.action.index());
        }
        for step in 0..prefetch::STEPS {
            for row in rows.iter().filter(|row| row.is_resolved) {
                prefetch::of_query(decider, &row.query, step);
            }
        }
    }
}

impl<'a> Row<'a> {
    fn resolve_rest(
        &mut self,
        estate: &Estate,
        now: Time,
        names: &mut Vec<(&'a str, Option<AttributeId>)>,
    ) -> Option<()> {
        let Self { brief, query, .. } = self;
        query.action = estate.catalogue.find_action(brief.does)?;
        query.target.path = brief.on;
        query.take_up = match brief.take_up {
            Some(role) => Some(estate.find_role(role.strip_prefix("role:")?)?),
            None => None,
        };
        query.given.clear();
        for (place, (name, value)) in brief.given.iter().enumerate() {
            let id = match names.get(place) {
                Some((last, id)) if last == name => *id,
                _ => {
                    let id = estate.attribute_names.get(name);
                    names.truncate(place);
                    names.push((name, id));
                    id
                }
            };
            // What no condition and no brace asks about has no say.
            if let Some(id) = id {
                if let (Some(value), true) = (value, estate.vocabulary.given.is_closed()) {
                    let declared = &estate.vocabulary.given;
                    let value = value.to_value();
                    if declared.misfit(name, &value).is_some() {
                        return None;
                    }
                    let read = declared.rule(name).and_then(|rule| rule.read(&value));
                    query.given.push((id, Given::Value(read.unwrap_or(value))));
                    continue;
                }
                let given = value.map_or(Given::Absent, |value| Given::Value(value.to_value()));
                query.given.push((id, given));
            }
        }
        query.time = brief.time.unwrap_or(now);
        Some(())
    }
}

impl Query<'_> {
    /// A query to be filled in; until then it asks nothing.
    fn empty() -> Self {
        Self {
            who: Principal::Workload(ScopeId::new(0)),
            action: ActionId::new(0),
            target: Target {
                path: "",
                segments: Vec::new(),
                place: TargetPlace::Scope(ScopeId::new(0)),
                is_sample: false,
            },
            take_up: None,
            also: Vec::new(),
            under: Vec::new(),
            given: Vec::new(),
            item: Vec::new(),
            item_is_open: false,
            time: Time(0),
        }
    }
}
