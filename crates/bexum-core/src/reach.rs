//! Effective access: everything that a principal can do, everybody who can do something.
//!
//! Three outcomes, never two: allowed, denied, or *depends*: denied as things are known, but
//! allowed if all that is undecided came out in favour.

use rustc_hash::FxHashMap;

use crate::catalogue::{ActionSet, Level, TargetClass};
use crate::condition::Reference;
use crate::engine::{Candidate, Cells, Decider, Index, Scene, Sink};
use crate::estate::Estate;
use crate::id::{ActionId, AttributeId, GroupId, PolicyId, RoleId, ScopeId};
use crate::pattern::path::Brace;
use crate::pattern::remainder::{ANY_NAME, Below};
use crate::policy::Effect;
use crate::principal::Principal;
use crate::request::{Given, Place, Query, Target};
use crate::time::Time;
use crate::trace::Recorder;
use crate::truth::Truth;

/// A principal in some circumstances: everything of a request but the action and the target.
#[derive(Clone, Debug)]
pub struct Viewpoint {
    /// Who asks.
    pub who: Principal,
    /// The role to take up.
    pub take_up: Option<RoleId>,
    /// Groups supposed, sorted.
    pub also: Vec<GroupId>,
    /// Policies that bound the session, each once.
    pub under: Vec<PolicyId>,
    /// Circumstances.
    pub given: Vec<(AttributeId, Given)>,
    /// The moment.
    pub time: Time,
}

impl Viewpoint {
    /// What a query asks, apart from its action and target.
    #[must_use]
    pub fn of(query: &Query<'_>) -> Self {
        Self {
            who: query.who,
            take_up: query.take_up,
            also: query.also.clone(),
            under: query.under.clone(),
            given: query.given.clone(),
            time: query.time,
        }
    }

    /// The same circumstances for somebody else.
    #[must_use]
    pub fn seen_by(&self, who: Principal) -> Self {
        Self { who, ..self.clone() }
    }

    /// Asks for one action on a spot.
    #[must_use]
    pub fn query<'a>(&self, spot: &'a Spot, action: ActionId) -> Query<'a> {
        Query {
            who: self.who,
            action,
            target: Target {
                path: &spot.asked,
                segments: spot.asked.split('/').collect(),
                place: spot.place,
                is_sample: spot.asked.contains(ANY_NAME),
            },
            take_up: self.take_up,
            also: self.also.clone(),
            under: self.under.clone(),
            given: self.given.clone(),
            item: Vec::new(),
            item_is_open: false,
            time: self.time,
        }
    }
}

/// Somewhere to do something: a declared scope, an identity, or items of a scope.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Spot {
    /// For people: the path, or the pattern of paths, that it stands for.
    pub shown: String,
    /// A path that can be asked about.
    pub asked: String,
    /// What it is.
    pub sort: SpotSort,
    /// What lies there.
    pub place: Place,
}

/// What a spot is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum SpotSort {
    /// A declared scope.
    Scope,
    /// A user, group or role with a place.
    Identity,
    /// The items of a scope, those that no [`SpotSort::Pattern`] singles out.
    Items,
    /// The items of a scope that a pattern singles out.
    Pattern,
}

impl Spot {
    /// The nearest declared scope.
    #[must_use]
    pub fn scope(&self) -> ScopeId {
        match self.place {
            Place::Scope(id) | Place::Item(id) | Place::Identity(_, id) => id,
        }
    }

    /// The actions that apply there.
    #[must_use]
    pub fn applicable<'e>(&self, estate: &'e Estate) -> &'e ActionSet {
        let class = match self.place {
            Place::Scope(id) => estate.scope(id).class(),
            Place::Item(id) => TargetClass::Item(estate.scope(id).kind),
            Place::Identity(Principal::User(_), _) => TargetClass::User,
            Place::Identity(Principal::Group(_), _) => TargetClass::Group,
            Place::Identity(..) => TargetClass::Role,
        };
        estate.catalogue.applicable(class)
    }

    /// How deep it stands in the tree; an account stands at 0.
    #[must_use]
    pub fn depth(&self, estate: &Estate) -> usize {
        let scope = estate.scope(self.scope()).depth as usize;
        scope - usize::from(self.sort == SpotSort::Scope)
    }

    /// A target that a path led to.
    #[must_use]
    pub fn at(target: &Target<'_>) -> Self {
        let sort = match target.place {
            Place::Scope(_) => SpotSort::Scope,
            Place::Identity(..) => SpotSort::Identity,
            Place::Item(_) => SpotSort::Pattern,
        };
        let path = target.path.to_owned();
        Self { shown: path.clone(), asked: path, sort, place: target.place }
    }
}

/// A spot and what each viewpoint can do there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Row {
    /// Where.
    pub spot: Spot,
    /// What, for each viewpoint.
    pub cells: Vec<Cells>,
}

/// A spot, and principals with the same access to it together.
pub type Crowd = (Spot, Vec<(Cells, Vec<Principal>)>);

/// Every declared spot in a subtree, each scope before what is in it: its items as one, the
/// identities at place there, the scopes below.
#[must_use]
pub fn spots(estate: &Estate, below: Option<ScopeId>) -> Vec<Spot> {
    let mut placed: FxHashMap<ScopeId, Vec<(&str, Principal)>> = FxHashMap::default();
    for (path, principal) in &estate.identities_at {
        if let Some(place) = estate.identity(*principal).and_then(|identity| identity.place) {
            placed.entry(place).or_default().push((path, *principal));
        }
    }
    placed.values_mut().for_each(|list| list.sort_unstable());
    let ids = below.map_or(0..estate.scopes.len(), |scope| estate.scopes.subtree(scope));
    let mut spots = Vec::with_capacity(ids.len());
    for id in ids.map(ScopeId::new) {
        let scope = estate.scope(id);
        let path = scope.path.to_string();
        let place = Place::Scope(id);
        spots.push(Spot { shown: path.clone(), asked: path, sort: SpotSort::Scope, place });
        spots.extend(items_of(estate, id));
        for (path, who) in placed.get(&id).into_iter().flatten() {
            spots.push(Spot {
                shown: (*path).to_owned(),
                asked: (*path).to_owned(),
                sort: SpotSort::Identity,
                place: Place::Identity(*who, id),
            });
        }
    }
    spots
}

/// The items of a scope as one spot, if it has any.
fn items_of(estate: &Estate, id: ScopeId) -> Option<Spot> {
    let scope = estate.scope(id);
    let actions = estate.catalogue.applicable(TargetClass::Item(scope.kind));
    if !scope.holds_items() || actions.is_clear() {
        return None;
    }
    // Deeper than any pattern of fixed length singles out, and of names that nobody writes.
    let depth = estate.longest_pattern + 1;
    let asked = format!("{}{}", scope.path, format!("/{ANY_NAME}").repeat(depth));
    let shown = format!("{}/**", scope.path);
    Some(Spot { shown, asked, sort: SpotSort::Items, place: Place::Item(id) })
}

/// Everything that the viewpoints can do, in a subtree or everywhere.
#[must_use]
pub fn by_principal(
    index: &Index<'_>,
    viewpoints: &[Viewpoint],
    below: Option<ScopeId>,
) -> Vec<Row> {
    let mut decider = Decider::new(index);
    let spots = spots(index.estate, below).into_iter();
    spots.flat_map(|spot| rows_at(&mut decider, viewpoints, spot, None)).collect()
}

/// The row of a spot, and of items that patterns single out where that makes a difference; only of
/// the actions in `wanted`, if given.
pub fn rows_at(
    decider: &mut Decider<'_>,
    viewpoints: &[Viewpoint],
    spot: Spot,
    wanted: Option<&ActionSet>,
) -> Vec<Row> {
    let estate = decider.index.estate;
    let mut mask = spot.applicable(estate).clone();
    if let Some(wanted) = wanted {
        mask.intersect_with(wanted);
    }
    let Some(action) = mask.minimum().map(ActionId::new) else {
        let cells = viewpoints.iter().map(|_| Cells::nothing(estate.catalogue.actions.len()));
        return vec![Row { cells: cells.collect(), spot }];
    };
    let mut singled = Vec::new();
    if spot.sort == SpotSort::Items {
        for viewpoint in viewpoints {
            singled.extend(singled_out(decider, viewpoint, &spot, action, &mask));
        }
        singled.sort_by(|a, b| a.shown.cmp(&b.shown));
        singled.dedup();
    }
    let mut row = |spot: Spot| {
        let cells = viewpoints
            .iter()
            .map(|viewpoint| decider.reach(&viewpoint.query(&spot, action), &mask));
        let cells = cells.collect();
        Row { spot, cells }
    };
    let whole = row(spot);
    let mut rows: Vec<Row> =
        singled.into_iter().map(&mut row).filter(|row| row.cells != whole.cells).collect();
    rows.insert(0, whole);
    rows
}

/// Items that some pattern in play tells from the others.
fn singled_out(
    decider: &mut Decider<'_>,
    viewpoint: &Viewpoint,
    items: &Spot,
    action: ActionId,
    mask: &ActionSet,
) -> Vec<Spot> {
    let index = decider.index;
    let estate = index.estate;
    let scope = items.scope();
    let query = viewpoint.query(items, action);
    let (closure, policies) = decider.policies_in_play(&query);
    let scene = Scene { index, query: &query, closure: &closure, roles: None };
    let path = &estate.scope(scope).path;
    let segments: Vec<&str> = path.split('/').collect();
    let name = |brace: &Brace<Reference>| {
        format!("{{{}}}", brace.attribute.written(&estate.attribute_names))
    };
    let mut found = Vec::new();
    for (policy, anchor) in policies {
        let anchor = anchor.map_or(0, |scope| estate.scope(scope).depth as usize);
        let policy = estate.policy(policy);
        for id in policy.allows.iter().chain(&policy.denies) {
            let statement = estate.statement(*id);
            if statement.actions.is_disjoint(mask) {
                continue;
            }
            for pattern in statement.on.plain.iter().chain(&statement.on.excluded) {
                let Below::Some(samples) = pattern.below(&segments, anchor, &scene, &name) else {
                    continue;
                };
                for sample in samples {
                    let asked = format!("{path}/{}", sample.example);
                    // What is declared is no item.
                    let is_item = crate::request::resolve_target(estate, &asked)
                        .is_ok_and(|target| target.place == items.place);
                    if is_item {
                        let shown = format!("{path}/{}", sample.shown);
                        let (sort, place) = (SpotSort::Pattern, items.place);
                        found.push(Spot { shown, asked, sort, place });
                    }
                }
            }
        }
    }
    found
}

/// Who can do what on one spot: principals with the same access together, most access first.
///
/// `circumstances` are those of every principal in turn; those who can do nothing there make the
/// last group.
#[must_use]
pub fn by_target(
    index: &Index<'_>,
    circumstances: &Viewpoint,
    principals: impl Iterator<Item = Principal>,
    spot: &Spot,
) -> Vec<(Cells, Vec<Principal>)> {
    let applicable = spot.applicable(index.estate);
    let Some(action) = applicable.minimum().map(ActionId::new) else { return Vec::new() };
    let mut groups: FxHashMap<Cells, Vec<Principal>> = FxHashMap::default();
    let mut decider = Decider::new(index);
    for (i, who) in principals.enumerate() {
        // What was worked out about others is of no more use.
        if i % 1024 == 1023 {
            decider = Decider::new(index);
        }
        let cells = decider.reach(&circumstances.seen_by(who).query(spot, action), applicable);
        groups.entry(cells).or_default().push(who);
    }
    let mut groups: Vec<(Cells, Vec<Principal>)> = groups.into_iter().collect();
    groups.sort_by_key(|(cells, who)| {
        let (allow, depends) = (cells.allow.count_ones(..), cells.depends.count_ones(..));
        (std::cmp::Reverse((allow, depends)), who[0])
    });
    groups
}

/// Who can do any of `wanted`, and where: for each principal with any, its rows there.
#[must_use]
pub fn by_action(
    index: &Index<'_>,
    circumstances: &Viewpoint,
    principals: impl Iterator<Item = Principal>,
    wanted: &ActionSet,
    below: Option<ScopeId>,
) -> Vec<(Principal, Vec<Row>)> {
    let estate = index.estate;
    let mut spots = spots(estate, below);
    spots.retain(|spot| !spot.applicable(estate).is_disjoint(wanted));
    let mut found = Vec::new();
    for who in principals {
        let viewpoint = circumstances.seen_by(who);
        let mut decider = Decider::new(index);
        let mut rows = Vec::new();
        let allowed = decider.where_allowed(
            (who, &viewpoint.also),
            viewpoint.take_up,
            viewpoint.time,
            wanted,
        );
        for range in allowed {
            // Spots stand in the order of their scopes.
            let first = spots.partition_point(|spot| spot.scope().index() < range.start);
            for spot in spots[first..].iter().take_while(|s| s.scope().index() < range.end) {
                let one = std::slice::from_ref(&viewpoint);
                for row in rows_at(&mut decider, one, spot.clone(), Some(wanted)) {
                    if row.cells.iter().any(|c| !c.allow.is_clear() || !c.depends.is_clear()) {
                        rows.push(row);
                    }
                }
            }
        }
        if !rows.is_empty() {
            found.push((who, rows));
        }
    }
    found
}

/// The actions of a level.
#[must_use]
pub fn actions_of(estate: &Estate, level: Level) -> ActionSet {
    let mut set = ActionSet::with_capacity(estate.catalogue.actions.len());
    let of_level = estate.catalogue.actions.iter().enumerate().filter(|(_, a)| a.level == level);
    set.extend(of_level.map(|(i, _)| i));
    set
}

/// Every allow statement that grants a query, by every route: taking one away changes nothing as
/// long as another is left.
pub fn sources(decider: &mut Decider<'_>, query: &Query<'_>) -> Vec<Candidate> {
    #[derive(Default)]
    struct Grants(Vec<Candidate>);
    impl Sink for Grants {
        const THOROUGH: bool = true;

        fn candidate(&mut self, candidate: Candidate, truth: Truth, scene: &Scene<'_>) {
            let statement = scene.index.estate.statement(candidate.statement);
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
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Doubt {
    /// Attributes that nobody gave, as written in conditions.
    pub attributes: Vec<String>,
    /// The parts of conditions that are undecided, in their authors' words.
    pub conditions: Vec<String>,
}

/// Why a query's answer depends.
pub fn doubt(decider: &mut Decider<'_>, query: &Query<'_>) -> Doubt {
    let (_, trace) = Recorder::of(decider, query);
    let names = &decider.index.estate.attribute_names;
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
