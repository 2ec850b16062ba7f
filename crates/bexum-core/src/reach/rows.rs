//! Rows: what people can do at each target, items told apart where that makes a difference.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::targets::many;
use super::{
    Access, AccessTarget, AccessTargets, Classes, Crowd, Row, TargetSort, Viewpoint, sessions,
};
use crate::catalogue::ActionSet;
use crate::each::{Each, in_parts, in_turn};
use crate::engine::{Cells, Decider, EvalContext, Index};
use crate::estate::Estate;
use crate::id::{ActionId, ScopeId};
use crate::items;
use crate::principal::Principal;

/// What one session can do at a target, of the actions in `wanted` if given.
pub fn cells_at(
    decider: &mut Decider<'_>,
    session: &Viewpoint,
    target: &AccessTarget,
    wanted: Option<&ActionSet>,
) -> Cells {
    let estate = decider.index.estate();
    let mut mask = target.applicable(estate).clone();
    if let Some(wanted) = wanted {
        mask.intersect_with(wanted);
    }
    match mask.minimum().map(ActionId::new) {
        Some(action) => decider.reach(&session.query(target, action), &mask),
        None => Cells::nothing(estate.catalogue.actions.len()),
    }
}

/// A target, and, where it stands for the items of a scope, those that patterns single out of them
/// for this session (spec section 8). Where these are not all, that is added to `limited`.
pub fn targets_for(
    decider: &mut Decider<'_>,
    session: &Viewpoint,
    target: AccessTarget,
    limited: &mut Limited,
) -> Vec<AccessTarget> {
    let estate = decider.index.estate();
    let found = singled_out(decider, session, &target, None);
    limited.extend((!found.whole).then(|| target.scope()));
    let singled: Vec<AccessTarget> =
        found.singled.iter().map(|one| target_of(estate, &target, one)).collect();
    std::iter::once(target).chain(singled).collect()
}

/// The items that patterns single out one by one of those that a target stands for, for this session,
/// whether it is allowed anything there or not. Where two of them meet is a row for a change only if it is
/// about one of the two.
pub(crate) fn items_said_of(
    decider: &mut Decider<'_>,
    session: &Viewpoint,
    target: &AccessTarget,
) -> Vec<AccessTarget> {
    let found = said_of(decider, session, target, None, true);
    let alone = found.singled.iter().filter(|one| one.rest.is_some());
    alone.map(|one| target_of(decider.index.estate(), target, one)).collect()
}

/// The scopes below which patterns single out more items than are told apart.
pub type Limited = BTreeSet<ScopeId>;

/// What patterns single out of the items that a target stands for; nothing of other targets. Only the
/// patterns of statements that name one of the actions in `wanted`, if given. Where the session is
/// allowed nothing there, no pattern makes a difference to it.
fn singled_out(
    decider: &mut Decider<'_>,
    session: &Viewpoint,
    target: &AccessTarget,
    wanted: Option<&ActionSet>,
) -> items::Rows {
    said_of(decider, session, target, wanted, false)
}

/// The same; also where the session is allowed nothing, if asked for: it may be, once something is
/// changed.
fn said_of(
    decider: &mut Decider<'_>,
    session: &Viewpoint,
    target: &AccessTarget,
    wanted: Option<&ActionSet>,
    even_if_nothing: bool,
) -> items::Rows {
    let index = decider.index;
    let estate = index.estate();
    let action = target.applicable(estate).minimum().map(ActionId::new);
    let (TargetSort::Items, Some(action)) = (target.sort, action) else {
        return items::Rows::none();
    };
    let query = session.query(target, action);
    let asking = decider.session(&query);
    let may_be = || decider.may_be_allowed(&asking, target.scope(), target.applicable(estate));
    if !even_if_nothing && !may_be() {
        return items::Rows::none();
    }
    let mut statements = decider.statements_in_play(&asking, &query);
    if let Some(wanted) = wanted {
        statements.retain(|said| !estate.statement(said.id).actions.is_disjoint(wanted));
    }
    let context = |i: usize| EvalContext {
        index,
        query: &query,
        closure: &asking.closure,
        roles: Some(asking.roles_of(statements[i].sees)),
    };
    items::rows(target.scope(), &statements, &context, many(estate))
}

fn target_of(estate: &Estate, items: &AccessTarget, single: &items::Single) -> AccessTarget {
    let path = &estate.scope(items.scope()).path;
    AccessTarget {
        shown: format!("{path}/{}", single.shown),
        asked: format!("{path}/{}", single.asked),
        sort: TargetSort::Pattern,
        place: items.place,
    }
}

/// What several sessions single out of the items that a target stands for, each once, by their paths'
/// bytes.
#[derive(Default)]
struct Singled(BTreeMap<String, items::Single>);

impl Singled {
    fn add(
        &mut self,
        decider: &mut Decider<'_>,
        session: &Viewpoint,
        target: &AccessTarget,
        wanted: Option<&ActionSet>,
        limited: &mut Limited,
    ) {
        // What patterns say about other actions changes nothing of what is shown here.
        let mut shown = target.applicable(decider.index.estate()).clone();
        if let Some(wanted) = wanted {
            shown.intersect_with(wanted);
        }
        let found = singled_out(decider, session, target, Some(&shown));
        limited.extend((!found.whole).then(|| target.scope()));
        for single in found.singled {
            self.0.entry(single.shown.clone()).or_insert(single);
        }
    }

    /// The target itself, then those.
    fn targets(&self, estate: &Estate, target: &AccessTarget) -> Vec<AccessTarget> {
        let singled = self.0.values().map(|single| target_of(estate, target, single));
        std::iter::once(target.clone()).chain(singled).collect()
    }

    /// Of the target itself and those, which say something that is not said by the target itself: those
    /// that differ from it, and exceptions to one of these.
    fn telling<T: PartialEq>(&self, said: &[T]) -> Vec<bool> {
        let Some((whole, singled)) = said.split_first() else { return Vec::new() };
        let differing: Vec<&items::Single> = self
            .0
            .values()
            .zip(singled)
            .filter(|(_, said)| *said != whole)
            .map(|(s, _)| s)
            .collect();
        let is_exception = |one: &items::Single| {
            let rests = differing.iter().filter_map(|other| other.rest.as_ref());
            rests.into_iter().any(|rest| rest.takes(&one.asked))
        };
        let tells =
            self.0.values().zip(singled).map(|(one, said)| said != whole || is_exception(one));
        std::iter::once(true).chain(tells).collect()
    }
}

/// What somebody can do at a target, given their [`sessions`].
pub fn access_at(
    decider: &mut Decider<'_>,
    sessions: &[Viewpoint],
    target: &AccessTarget,
    wanted: Option<&ActionSet>,
) -> Access {
    let nothing = Cells::nothing(decider.index.estate().catalogue.actions.len());
    let may_be_allowed = vec![true; sessions.len()];
    access_of(decider, (sessions, &may_be_allowed), target, wanted, &nothing)
}

/// The same, where it is known which of the sessions may be allowed anything there at all.
fn access_of(
    decider: &mut Decider<'_>,
    (sessions, may_be_allowed): (&[Viewpoint], &[bool]),
    target: &AccessTarget,
    wanted: Option<&ActionSet>,
    nothing: &Cells,
) -> Access {
    let mut access = Access { own: nothing.clone(), by_role: Vec::new() };
    let all = sessions.iter().zip(may_be_allowed).enumerate();
    for (i, (session, _)) in all.filter(|(_, (_, may))| **may) {
        let mut cells = cells_at(decider, session, target, wanted);
        if i == 0 {
            access.own = cells;
            continue;
        }
        let own = &access.own;
        cells.allow.difference_with(&own.allow);
        cells.depends.difference_with(&own.allow);
        cells.depends.difference_with(&own.depends);
        if let (Some(role), false) = (session.take_up, cells.is_nothing()) {
            access.by_role.push((role, cells));
        }
    }
    access
}

/// The row of a target, and of items that patterns single out where that makes a difference, for
/// people by their [`sessions`]; only of the actions in `wanted`, if given.
pub fn rows_at(
    decider: &mut Decider<'_>,
    people: &[Vec<Viewpoint>],
    target: AccessTarget,
    wanted: Option<&ActionSet>,
    limited: &mut Limited,
) -> Vec<Row> {
    let estate = decider.index.estate();
    let (scope, applicable) = (target.scope(), target.applicable(estate));
    let nothing = Cells::nothing(estate.catalogue.actions.len());
    let mut singled = Singled::default();
    // Most sessions are allowed nothing at most places.
    let may_be_allowed: Vec<Vec<bool>> = people
        .iter()
        .map(|sessions| {
            let may = |session: &Viewpoint| {
                let asking =
                    decider.session_of(session.who, &session.also, session.take_up, session.time);
                let may = decider.may_be_allowed(&asking, scope, applicable);
                if may {
                    singled.add(decider, session, &target, wanted, limited);
                }
                may
            };
            sessions.iter().map(may).collect()
        })
        .collect();
    let rows = singled.targets(estate, &target).into_iter().map(|target| {
        let each = people.iter().zip(&may_be_allowed);
        let access = each
            .map(|(one, may)| access_of(decider, (one, may), &target, wanted, &nothing))
            .collect();
        Row { access, target }
    });
    let mut rows: Vec<Row> = rows.collect();
    let said: Vec<&[Access]> = rows.iter().map(|row| &row.access[..]).collect();
    let mut tells = singled.telling(&said).into_iter();
    rows.retain(|_| tells.next().unwrap_or(false));
    rows
}

/// Everything that people can do, given their [`sessions`], in a subtree or everywhere.
#[must_use]
pub fn by_principal(
    index: &Index,
    people: &[Vec<Viewpoint>],
    below: Option<ScopeId>,
    limited: &mut Limited,
) -> Vec<Row> {
    let classes = Classes::new(index, &people.concat());
    let targets: Vec<AccessTarget> = AccessTargets::new(index.estate()).below(below).collect();
    let (rows, met) = by_principal_at(index, &classes, people, &targets, &in_turn);
    limited.extend(met);
    rows
}

/// Targets that are worked out together: many, as what is found out about sessions is kept for all.
const WORKED_OUT_TOGETHER: usize = 256;
/// Targets of which the rows are put together at once.
const PUT_TOGETHER: usize = 8_192;

/// The same at these targets alone. `classes` are those of all the sessions: of the targets of one
/// class the first is worked out.
#[must_use]
pub fn by_principal_at(
    index: &Index,
    classes: &Classes,
    people: &[Vec<Viewpoint>],
    targets: &[AccessTarget],
    each: Each<'_>,
) -> (Vec<Row>, Limited) {
    let mut firsts: Vec<&AccessTarget> = Vec::new();
    let mut known: FxHashMap<(u32, TargetSort), u32> = FxHashMap::default();
    let mut like: Vec<u32> = Vec::with_capacity(targets.len());
    for target in targets {
        let new = firsts.len() as u32;
        let first = match classes.of(target) {
            Some(class) => *known.entry((class, target.sort)).or_insert(new),
            None => new,
        };
        firsts.extend((first == new).then_some(target));
        like.push(first);
    }
    let worked_out: Vec<(Vec<Row>, bool)> =
        in_parts(&firsts, WORKED_OUT_TOGETHER, each, &|firsts| {
            let mut decider = Decider::new(index);
            let each = firsts.iter().map(|target| {
                let mut limited = Limited::new();
                let rows = rows_at(&mut decider, people, (*target).clone(), None, &mut limited);
                (rows, !limited.is_empty())
            });
            each.collect()
        });
    let placed: Vec<(&AccessTarget, u32)> = targets.iter().zip(like).collect();
    let rows = in_parts(&placed, PUT_TOGETHER, each, &|placed| {
        let each = placed.iter().flat_map(|(target, first)| {
            let (rows, _) = &worked_out[*first as usize];
            rows.iter().map(|row| moved(index.estate(), row, target))
        });
        each.collect()
    });
    let limited = placed.iter().filter(|(_, first)| worked_out[*first as usize].1);
    let limited = limited.map(|(target, _)| target.scope()).collect();
    (rows, limited)
}

/// A row as it is at another target, of a scope of the same class.
fn moved(estate: &Estate, row: &Row, to: &AccessTarget) -> Row {
    let from = estate.scope(row.target.scope()).path.len();
    let path = &estate.scope(to.scope()).path;
    let target = AccessTarget {
        shown: format!("{path}{}", &row.target.shown[from..]),
        asked: format!("{path}{}", &row.target.asked[from..]),
        sort: row.target.sort,
        place: to.place,
    };
    Row { target, access: Arc::clone(&row.access) }
}

/// How many principals are looked at before what was worked out about them is forgotten.
pub(super) const TOGETHER: usize = 1024;

/// Who can do what on one target, or on its items that patterns single out where that makes a
/// difference to anybody: principals with the same access together, most access first.
///
/// `circumstances` are those of every principal in turn, and `with_roles` whether the roles count
/// that they can take up; those who can do nothing there make the last group.
#[must_use]
pub fn by_target(
    index: &Index,
    circumstances: &Viewpoint,
    with_roles: bool,
    principals: &[Principal],
    target: &AccessTarget,
    limited: &mut Limited,
) -> Vec<Crowd> {
    let estate = index.estate();
    let mut singled = Singled::default();
    // Most people are allowed nothing at one place.
    let (mut some, mut nobody): (Vec<Principal>, Vec<Principal>) = (Vec::new(), Vec::new());
    each_in_turn(index, circumstances, with_roles, principals, |decider, who, sessions| {
        let applicable = target.applicable(estate);
        let is_granted = sessions.iter().any(|one| {
            let session = decider.session_of(one.who, &one.also, one.take_up, one.time);
            decider.may_be_allowed(&session, target.scope(), applicable)
        });
        if is_granted {
            sessions
                .iter()
                .for_each(|session| singled.add(decider, session, target, None, limited));
            some.push(who);
        } else {
            nobody.push(who);
        }
    });
    let targets = singled.targets(estate, target);
    let mut groups: Vec<FxHashMap<Access, Vec<Principal>>> =
        vec![FxHashMap::default(); targets.len()];
    each_in_turn(index, circumstances, with_roles, &some, |decider, who, sessions| {
        for (target, groups) in targets.iter().zip(&mut groups) {
            let access = access_at(decider, sessions, target, None);
            groups.entry(access).or_default().push(who);
        }
    });
    let own = Cells::nothing(estate.catalogue.actions.len());
    let nothing = Access { own, by_role: Vec::new() };
    for groups in groups.iter_mut().filter(|_| !nobody.is_empty()) {
        let group = groups.entry(nothing.clone()).or_default();
        group.extend(&nobody);
        group.sort_unstable();
    }
    let crowds = targets.into_iter().zip(groups).map(|(target, groups)| {
        let mut groups: Vec<(Access, Vec<Principal>)> = groups.into_iter().collect();
        groups.sort_by_cached_key(|(access, who)| {
            let count = |of: fn(&Cells) -> &ActionSet| -> usize {
                access.sessions().map(|(_, cells)| of(cells).len()).sum()
            };
            let (allow, depends) = (count(|cells| &cells.allow), count(|cells| &cells.depends));
            (std::cmp::Reverse((allow, depends)), who[0])
        });
        (target, groups)
    });
    let mut crowds: Vec<Crowd> = crowds.collect();
    let said: Vec<_> = crowds.iter().map(|(_, groups)| groups).collect();
    let mut tells = singled.telling(&said).into_iter();
    crowds.retain(|_| tells.next().unwrap_or(false));
    crowds
}

/// Calls `each` with every principal and its sessions.
fn each_in_turn<'e>(
    index: &'e Index,
    circumstances: &Viewpoint,
    with_roles: bool,
    principals: &[Principal],
    mut each: impl FnMut(&mut Decider<'e>, Principal, &[Viewpoint]),
) {
    let mut decider = Decider::new(index);
    for (i, &who) in principals.iter().enumerate() {
        if i % TOGETHER == TOGETHER - 1 {
            decider = Decider::new(index);
        }
        let viewpoint = circumstances.seen_by(who);
        let sessions = match with_roles {
            true => sessions(&mut decider, &viewpoint),
            false => vec![viewpoint],
        };
        each(&mut decider, who, &sessions);
    }
}
