//! What a change does is what asking both estates says, cell by cell.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use bexum_core::attribute::Value;
use bexum_core::declaration::Declarations;
use bexum_core::each::in_turn;
use bexum_core::engine::{Decider, Engine};
use bexum_core::impact::{Cell, Changes, Comparison, Outcome, OwnSessions, SameFiles, differences};
use bexum_core::reach::{self, AccessTarget, Limited, TargetSort, Viewpoint};
use bexum_core::request::{Given, TargetPlace};
use bexum_core::{Estate, Reason, Request, Time};
use proptest::collection::vec;
use proptest::prelude::*;
use proptest::sample::select;

use crate::estates::{self, MOMENTS};

/// What is taken over from another estate: of a sort, one by its place.
pub(crate) type Edit = (u8, usize);

/// The first estate with some things as they are in the second.
pub(crate) fn edited(first: &Declarations, second: &Declarations, edits: &[Edit]) -> Declarations {
    let mut after = first.clone();
    for (sort, at) in edits {
        match sort {
            0 => take(&mut after.policies, &second.policies, *at),
            1 => take(&mut after.users, &second.users, *at),
            2 => take(&mut after.groups, &second.groups, *at),
            3 => take(&mut after.roles, &second.roles, *at),
            4 => take(&mut after.scopes, &second.scopes, *at),
            5 => after.attachments.extend(second.attachments.get(*at).cloned()),
            6 => drop((!after.attachments.is_empty()).then(|| {
                after.attachments.remove(*at % first.attachments.len().min(after.attachments.len()))
            })),
            7 => after.ceilings.extend(second.ceilings.get(*at).cloned()),
            _ => after.ceilings.truncate(*at % 3),
        }
    }
    after
}

fn take<T: Clone>(into: &mut [T], from: &[T], at: usize) {
    let at = at % into.len();
    into[at] = from[at].clone();
}

pub(crate) fn edits() -> impl Strategy<Value = Vec<Edit>> {
    vec((0..9_u8, 0..6_usize), 1..4)
}

/// Both estates of a change, each with an engine.
pub(crate) fn engines(before: &Declarations, after: &Declarations) -> [Engine; 2] {
    let one = Estate::build(before).expect("it builds");
    let other = Estate::build_beside(after, &one).expect("it builds");
    [one, other].map(|estate| Engine::new(Arc::new(estate)))
}

/// The circumstances of a request that is no error in either estate.
pub(crate) fn circumstances(request: &Request<'static>) -> Request<'static> {
    Request { take_up: None, item: None, ..request.clone() }
}

/// Both estates beside each other.
pub(crate) fn compare<'e>(
    before: &'e Engine,
    after: &'e Engine,
    request: &Request<'e>,
) -> Comparison<'e> {
    let differing = differences(before.estate(), after.estate(), &SameFiles::default());
    Comparison::new(before, after, &differing, request.clone()).expect("sound circumstances")
}

fn impact(engines: &[Engine; 2], request: &Request<'static>) -> Vec<Cell> {
    let [before, after] = engines;
    let cells = cells_of(&compare(before, after, request));
    let keys: BTreeSet<Key> = cells.iter().map(key).collect();
    assert_eq!(keys.len(), cells.len(), "a cell is told twice");
    cells
}

pub(crate) fn cells_of(comparison: &Comparison<'_>) -> Vec<Cell> {
    let mut compared = comparison.compared();
    let everybody = comparison.everybody();
    let alone = |who: &String| comparison.compared().cells_of(who);
    let mut one_by_one: Vec<Cell> = everybody.iter().flat_map(alone).collect();
    // What was found out of others is no other than what is found out of each.
    let after_others: Vec<Cell> = everybody.iter().flat_map(|who| compared.cells_of(who)).collect();
    assert_eq!(after_others, one_by_one);
    one_by_one.sort_unstable();
    // What is worked out of everybody together is what comes of one after the other.
    let together = comparison.impact(everybody, &in_turn);
    let cells: Vec<Cell> = together.changes.cells().collect();
    assert_eq!(cells, one_by_one);
    assert_eq!(together.limited, compared.limited());
    assert_eq!(Changes::of(&cells).cells().collect::<Vec<_>>(), cells);
    assert_eq!(together.changes.count(|change| change.is_gained), gained(&cells));
    cells
}

fn gained(cells: &[Cell]) -> usize {
    cells.iter().filter(|cell| cell.is_gained).count()
}

type Key = (String, String, String, String);

fn key(cell: &Cell) -> Key {
    (cell.who.clone(), cell.role.clone(), cell.place.clone(), cell.action.clone())
}

/// Somebody's sessions on one side, by the role taken up.
fn sessions(engine: &Engine, request: &Request<'_>, who: &str) -> BTreeMap<String, Viewpoint> {
    let request = Request { who: Cow::Owned(who.to_owned()), ..request.clone() };
    let Ok(view) = request.viewpoint(engine.estate()) else { return BTreeMap::new() };
    let name = |one: &Viewpoint| {
        let role = one.take_up.map(|role| engine.estate().role(role).identity.name.to_string());
        role.unwrap_or_default()
    };
    let all = reach::sessions(&mut Decider::new(engine), &view);
    all.into_iter().map(|one| (name(&one), one)).collect()
}

/// The rows of both sides: declared places, items, and those that a pattern of either singles out.
fn rows(
    engines: &[Engine; 2],
    sessions: [Option<&Viewpoint>; 2],
) -> BTreeMap<String, AccessTarget> {
    let mut found = BTreeMap::new();
    for (engine, session) in engines.iter().zip(sessions) {
        let mut decider = Decider::new(engine);
        for target in reach::AccessTargets::new(engine.estate()).below(None) {
            let Some(session) = session else {
                found.entry(target.shown.clone()).or_insert(target);
                continue;
            };
            for target in reach::targets_for(&mut decider, session, target, &mut Limited::new()) {
                found.entry(target.shown.clone()).or_insert(target);
            }
        }
    }
    found
}

/// Whether a session is allowed an action on a row, with more given and at some moment.
fn is_allowed(
    engine: &Engine,
    decider: &mut Decider<'_>,
    session: Option<&Viewpoint>,
    target: &AccessTarget,
    action: &str,
    item: Option<&[(&str, Value)]>,
) -> bool {
    let estate = engine.estate();
    let (Some(session), Some(action)) = (session, estate.catalogue.find_action(action)) else {
        return false;
    };
    // Identities come and go with their places.
    let is_there = match target.sort {
        TargetSort::Scope => estate.scopes.find(&target.asked).is_some(),
        TargetSort::Identity => estate.identity_at(&target.asked).is_some(),
        TargetSort::Items | TargetSort::Pattern => true,
    };
    if !is_there || !target.applicable(estate).contains(action.index()) {
        return false;
    }
    let mut query = session.query(target, action);
    if let Some(item) = item {
        query.item_is_open = false;
        if matches!(target.sort, TargetSort::Items | TargetSort::Pattern) {
            let names = &estate.attribute_names;
            let known = item.iter().filter_map(|(name, value)| Some((names.get(name)?, value)));
            query.item = known.map(|(id, value)| (id, Given::Value(value.clone()))).collect();
        }
    }
    decider.decide(&query) == Reason::Granted
}

fn outcome(
    decider: &mut Decider<'_>,
    session: Option<&Viewpoint>,
    target: &AccessTarget,
    action: &str,
) -> Outcome {
    let estate = decider.index.estate();
    let is_there =
        target.sort != TargetSort::Identity || estate.identity_at(&target.asked).is_some();
    let (Some(session), Some(action), true) =
        (session, estate.catalogue.find_action(action), is_there)
    else {
        return Outcome::Deny;
    };
    let cells = reach::cells_at(decider, session, target, None);
    match (cells.allow.contains(action.index()), cells.depends.contains(action.index())) {
        (true, _) => Outcome::Allow,
        (_, true) => Outcome::Depends,
        _ => Outcome::Deny,
    }
}

/// Attributes that an item may bear; none of them was chosen by the code under test.
fn item() -> impl Strategy<Value = Vec<(&'static str, Value)>> {
    let text = |t: &str| Value::Text(t.into());
    let tier = select(vec![text("raw"), text("red"), text("x"), Value::Integer(3)]);
    let tags = select(vec![Value::List([text("red"), text("q")].into()), text("a")]);
    let since = select(vec![Value::Time(Time(MOMENTS[1])), Value::Time(Time(7_000_000))]);
    let parts = (
        proptest::option::of(tier),
        proptest::option::of(tags),
        proptest::option::of(since),
        proptest::option::of(any::<bool>()),
    );
    parts.prop_map(|(tier, tags, since, ok)| {
        let tier = tier.map(|value| ("tier", value));
        let tags = tags.map(|value| ("tags", value));
        let since = since.map(|value| ("since", value));
        let ok = ok.map(|value| ("dev.ok", Value::Boolean(value)));
        [tier, tags, since, ok].into_iter().flatten().collect()
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]

    /// Every cell that comes to something else is told, and no other but those that depend in both.
    #[test]
    fn it_is_what_asking_both_says(
        first in estates::estate(),
        second in estates::estate(),
        edits in edits(),
        request in estates::request(),
    ) {
        let engines = engines(&first, &edited(&first, &second, &edits));
        let request = circumstances(&request);
        let told: BTreeMap<Key, Cell> =
            impact(&engines, &request).into_iter().map(|cell| (key(&cell), cell)).collect();
        let mut deciders = engines.each_ref().map(|engine| Decider::new(engine));
        let mut asked: BTreeSet<Key> = BTreeSet::new();
        let everybody = engines.iter().flat_map(|engine| {
            let estate = engine.estate();
            estate.principals().map(|who| estate.principal_id(who)).collect::<Vec<_>>()
        });
        let has_sessions = |who: &String| !who.starts_with("group:");
        for who in everybody.filter(has_sessions).collect::<BTreeSet<_>>() {
            let both = engines.each_ref().map(|engine| sessions(engine, &request, &who));
            let roles: BTreeSet<&String> = both.iter().flat_map(BTreeMap::keys).collect();
            for role in roles {
                let session = both.each_ref().map(|one| one.get(role));
                for (place, target) in rows(&engines, session) {
                    // Items that two patterns single out together have a row only where one of these
                    // is new or gone.
                    let has_row = told.keys().any(|(w, r, p, _)| (w, r, p) == (&who, role, &place));
                    // One pattern by itself is told from these by a path that is longer than what is shown.
                    if target.sort == TargetSort::Pattern && target.shown == target.asked && !has_row {
                        continue;
                    }
                    for action in estates::ACTIONS {
                        let [before, after] = [0, 1].map(|i| outcome(&mut deciders[i], session[i], &target, action));
                        let key = (who.clone(), role.clone(), place.clone(), action.to_owned());
                        if before != after {
                            let cell = told.get(&key);
                            prop_assert!(cell.is_some(), "{key:?}: {before:?} to {after:?}");
                            let cell = cell.expect("just seen");
                            prop_assert_eq!((cell.before, cell.after), (before, after), "{:?}", key);
                            prop_assert_eq!(cell.is_gained, before < after);
                            prop_assert_eq!(cell.is_lost, before > after);
                            let held = both[0].iter().any(|(other, view)| {
                                other != role && outcome(&mut deciders[0], Some(view), &target, action) == Outcome::Allow
                            });
                            prop_assert_eq!(cell.held_as.is_some(), before < after && held, "{:?}", key);
                        } else if let Some(cell) = told.get(&key) {
                            prop_assert_eq!(before, Outcome::Depends, "{:?}", cell);
                        }
                        asked.insert(key);
                    }
                }
            }
        }
        // What was not asked here are items that two patterns single out together, each in one of the
        // estates.
        for (key, cell) in told.iter().filter(|(key, _)| !asked.contains(*key)) {
            let both = engines.each_ref().map(|engine| sessions(engine, &request, &cell.who));
            let path = cell.place.clone();
            let nearest = engines[0].estate().scopes.nearest(&path).expect("a scope");
            let sort = TargetSort::Pattern;
            let target = AccessTarget { shown: path.clone(), asked: path, sort, place: TargetPlace::Item(nearest) };
            let [before, after] = [0, 1].map(|i| {
                outcome(&mut deciders[i], both[i].get(&cell.role), &target, &cell.action)
            });
            prop_assert_eq!((cell.before, cell.after), (before, after), "{:?}", key);
        }
    }

    /// What depends in both estates and is not told decides alike in both, whatever is given.
    #[test]
    fn what_is_not_opened_is_not_opened_by_anything(
        first in estates::estate(),
        second in estates::estate(),
        edits in edits(),
        request in estates::request(),
        tried in vec((estates::given(), item(), select(&[0, 999_999, 1_000_000, 1_500_000, 2_000_001, 2_999_999, 3_000_000, 9_000_000][..])), 24),
    ) {
        let engines = engines(&first, &edited(&first, &second, &edits));
        let request = circumstances(&request);
        let told: BTreeMap<Key, Cell> =
            impact(&engines, &request).into_iter().map(|cell| (key(&cell), cell)).collect();
        let mut deciders = engines.each_ref().map(|engine| Decider::new(engine));
        for who in ["user:u0", "user:u1", "user:u2", "resource:v/s/c", "role:r1"] {
            let both = engines.each_ref().map(|engine| sessions(engine, &request, who));
            for (role, before) in &both[0] {
                let Some(after) = both[1].get(role) else { continue };
                let sides = [before, after];
                for (place, target) in rows(&engines, [Some(before), Some(after)]) {
                    // Not each item that two patterns single out together has a row.
                    if target.sort == TargetSort::Pattern {
                        continue;
                    }
                    for action in estates::ACTIONS {
                        let depends = [0, 1].map(|i| outcome(&mut deciders[i], Some(sides[i]), &target, action));
                        if depends != [Outcome::Depends; 2] {
                            continue;
                        }
                        let key = (who.to_owned(), role.clone(), place.clone(), action.to_owned());
                        let (gained, lost) = told.get(&key).map_or((false, false), |cell| (cell.is_gained, cell.is_lost));
                        for (given, item, time) in &tried {
                            if *time < request.time.0 {
                                continue;
                            }
                            // What is given stays; the others complete it.
                            let known: BTreeSet<&str> = request.given.iter().map(|(name, _)| name.split('.').next().unwrap_or_default()).collect();
                            let more = given.iter().filter(|(name, _)| !known.contains(name.split('.').next().unwrap_or_default()));
                            let mut full = request.clone();
                            full.given.extend(more.cloned());
                            full.time = Time(*time);
                            full.who = Cow::Borrowed(who);
                            full.take_up = (!role.is_empty()).then(|| format!("role:{role}").into());
                            let mut allowed = [false; 2];
                            for i in 0..2 {
                                let view = full.viewpoint(engines[i].estate()).ok();
                                allowed[i] = is_allowed(&engines[i], &mut deciders[i], view.as_ref(), &target, action, Some(item));
                            }
                            prop_assert!(gained || allowed != [false, true], "{key:?} is opened by {full:?} {item:?}");
                            prop_assert!(lost || allowed != [true, false], "{key:?} is closed by {full:?} {item:?}");
                        }
                    }
                }
            }
        }
    }

    /// Where nothing is opened, now or later, that somebody cannot do in a session of their own,
    /// nothing that is tried opens anything else.
    #[test]
    fn nothing_beyond_ones_own_is_missed(
        first in estates::estate(),
        second in estates::estate(),
        edits in edits(),
        request in estates::request(),
        has_own in any::<bool>(),
        tried in vec((estates::given(), item(), select(&[0, 999_999, 1_000_000, 1_500_000, 2_000_001, 2_999_999, 3_000_000, 9_000_000][..])), 24),
    ) {
        let engines = engines(&first, &edited(&first, &second, &edits));
        let request = Request { given: Vec::new(), ..circumstances(&request) };
        let editor = "user:u0";
        let by = Request { who: Cow::Borrowed(editor), ..request.clone() };
        let [before, after] = &engines;
        let comparison = compare(before, after, &request);
        let mut compared = comparison.compared_from_now_on();
        let mut own = has_own.then(|| OwnSessions::new(before, &by).expect("a user"));
        let roles = engines.iter().flat_map(|engine| engine.estate().roles.iter());
        let mut roles: BTreeSet<Option<String>> =
            roles.map(|role| Some(format!("role:{}", role.identity.name))).collect();
        roles.insert(None);
        let mut deciders = engines.each_ref().map(|engine| Decider::new(engine));
        for who in ["user:u0", "user:u1", "user:u2", "resource:v/s/c", "role:r1"] {
            if compared.first_opened(who, own.as_mut(), &|_, _| true).is_some() || compared.is_limited() {
                continue;
            }
            for target in reach::AccessTargets::new(after.estate()).below(None) {
                for (given, item, time) in tried.iter().filter(|(.., time)| *time >= request.time.0) {
                    for action in estates::ACTIONS {
                        let mut asks = |side: usize, who: &str, role: &Option<String>| {
                            let full = Request {
                                who: Cow::Owned(who.to_owned()),
                                take_up: role.clone().map(Cow::Owned),
                                given: given.clone(),
                                time: Time(*time),
                                ..request.clone()
                            };
                            let view = full.viewpoint(engines[side].estate()).ok();
                            is_allowed(&engines[side], &mut deciders[side], view.as_ref(), &target, action, Some(item))
                        };
                        // A role asks by itself alone.
                        for role in roles.iter().filter(|role| role.is_none() || !who.starts_with("role:")) {
                            if !asks(1, who, role) || asks(0, who, role) {
                                continue;
                            }
                            let is_own = has_own && roles.iter().any(|role| asks(0, editor, role));
                            prop_assert!(is_own, "{who} as {role:?}: {action} on {} at {time} with {given:?} {item:?}", target.shown);
                        }
                    }
                }
            }
        }
    }

    /// From one estate to itself nothing changes, and the way back is the way there turned around.
    #[test]
    fn there_and_back(
        first in estates::estate(),
        second in estates::estate(),
        edits in edits(),
        request in estates::request(),
    ) {
        let after = edited(&first, &second, &edits);
        let request = circumstances(&request);
        prop_assert_eq!(impact(&engines(&first, &first), &request), []);
        let there = impact(&engines(&first, &after), &request);
        let back = impact(&engines(&after, &first), &request);
        let both = engines(&first, &after);
        prop_assert_eq!(&cells_of(&compare(&both[0], &both[1], &request).turned()), &back);
        let mut turned: Vec<Cell> = back.into_iter().map(|cell| Cell {
            before: cell.after,
            after: cell.before,
            is_gained: cell.is_lost,
            is_lost: cell.is_gained,
            held_as: None,
            ..cell
        }).collect();
        turned.sort();
        // What was held in another session is told of a gain alone.
        let mut there: Vec<Cell> = there.into_iter().map(|cell| Cell { held_as: None, ..cell }).collect();
        there.sort();
        prop_assert_eq!(there, turned);
    }

    /// Who is attached more allows loses nothing, and who is attached more denies gains nothing.
    #[test]
    fn what_is_attached_turns_nothing_the_other_way(
        first in estates::estate(),
        attachment in estates::attachment(),
        request in estates::request(),
    ) {
        let mut after = first.clone();
        after.attachments.push(attachment.clone());
        let engines = engines(&first, &after);
        let estate = engines[1].estate();
        let names = attachment.policy.value.iter();
        let policies: Vec<_> = names.filter_map(|name| estate.find_policy(&name.value)).collect();
        let has_denies = policies.iter().any(|id| !estate.policy(*id).denies.is_empty());
        let has_allows = policies.iter().any(|id| !estate.policy(*id).allows.is_empty());
        for cell in impact(&engines, &circumstances(&request)) {
            prop_assert!(!cell.is_lost || has_denies, "{cell:?}");
            prop_assert!(!cell.is_gained || has_allows, "{cell:?}");
        }
    }
}
