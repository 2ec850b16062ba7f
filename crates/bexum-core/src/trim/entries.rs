//! Unused elements and attachments, and whether they may go.

use std::collections::{BTreeMap, BTreeSet};

use rustc_hash::FxHashSet;

use super::{Aim, Logged, Stage, Things, allows};
use crate::edit::{Edit, ListOf};
use crate::engine::Decider;
use crate::estate::Estate;
use crate::id::{AttachmentId, PolicyId};
use crate::part::Places;
use crate::principal::{Principal, Subject};
use crate::prove::Opened;
use crate::time::Time;
use crate::usage::{InList, Thing, attached, elements};

/// How many people times places are compared for one step: beyond it is not decided.
const MOST_FOR_A_STEP: usize = 400_000;

/// Something that may go, whom that concerns, and where.
pub(super) struct Removal {
    pub(super) edit: Edit,
    people: FxHashSet<Principal>,
    /// The group or role of an element.
    into: Option<Principal>,
    places: Places,
}

/// Whether it goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Goes {
    Yes,
    No,
    NotDecided,
}

/// The group or role of a list, its bare name, and which list it is.
fn owner(estate: &Estate, list: InList) -> (Principal, String, ListOf) {
    let (who, of) = match list {
        InList::Members(id) => (Principal::Group(id), ListOf::Members),
        InList::HeldBy(id) => (Principal::Role(id), ListOf::HeldBy),
        InList::TakenBy(id) => (Principal::Role(id), ListOf::TakenBy),
    };
    (who, estate.principal_name(who).to_owned(), of)
}

/// Elements that no request used, in the order of names: those that may go whatever else is there, and
/// those of which more has to be found out.
///
/// Of the first sort are elements through which nobody comes under a deny or a ceiling, where no
/// condition asks what somebody is in or who is in a group. Taking them away takes away allows alone,
/// and those of the log come another way.
pub(super) fn unused_elements(stage: &Stage, aim: &Aim<'_>) -> (Vec<Edit>, Vec<Removal>) {
    let estate = stage.estate();
    let things = Things::of(estate, aim.things);
    let whole = stage.whole();
    // An edit takes away all places that somebody has in a list.
    let mut places: BTreeMap<(InList, Principal), bool> = BTreeMap::new();
    for one in elements(estate) {
        let is_used = stage.used.has(Thing::Membership(one));
        *places.entry((one.list, one.who)).or_default() |= is_used;
    }
    let mut unused: Vec<(String, String, InList, Principal)> = places
        .into_iter()
        .filter(|(_, is_used)| !is_used)
        .filter(|((list, who), _)| things.has(*who) || things.has(owner(estate, *list).0))
        .map(|((list, who), _)| {
            let (of, ..) = owner(estate, list);
            (estate.principal_id(of), estate.principal_id(who), list, who)
        })
        .collect();
    unused.sort();
    let (mut light, mut heavy) = (Vec::new(), Vec::new());
    for (_, id, list, who) in unused {
        let (into, name, of) = owner(estate, list);
        let edit = Edit::Remove { who: vec![id], list: of, of: name };
        let brought = whole.above(&[into]);
        let is_bound = estate
            .ceilings
            .iter()
            .flat_map(|one| &one.bound)
            .any(|subject| matches!(subject, Subject::One(one) if brought.contains(one)));
        let is_denied = brought.iter().any(|one| {
            let attached = stage.engine.attachments_of.get(&Subject::One(*one));
            attached.into_iter().flatten().any(|id| denies(estate, *id))
        });
        let read_at = whole.read_at(into);
        if !is_bound && !is_denied && read_at.is_none() && !whole.is_asked_what_one_is_in() {
            light.push(edit);
            continue;
        }
        let places = whole.places_of(&[who], into);
        let (people, places) = match read_at {
            // Whoever asks about the group may be concerned.
            Some(at) => (estate.principals().collect(), places.and(at)),
            None => (whole.below(&[who]), places),
        };
        heavy.push(Removal { edit, people, into: Some(into), places });
    }
    (light, heavy)
}

/// Attachments through which no request was allowed, likewise: those of policies without a deny may go,
/// for an allow that allows nothing of the log is all that goes. What only denies is never used, and
/// stays: nobody can do less without it.
pub(super) fn unused_attachments(stage: &Stage, aim: &Aim<'_>) -> (Vec<Edit>, Vec<Removal>) {
    let estate = stage.estate();
    let things = Things::of(estate, aim.things);
    let all = (0..estate.attachments.len()).map(AttachmentId::new);
    let mut unused: BTreeSet<(String, String, String, PolicyId, Subject)> = BTreeSet::new();
    let mut found = BTreeMap::new();
    for (policy, to, at) in all.flat_map(|id| attached(estate, id)) {
        let is_meant = things.has_policy(policy) || things.has_subject(to);
        let is_used = stage.used.has(Thing::Attachment(policy, to, at))
            || estate.policy(policy).allows.is_empty();
        if !is_meant || is_used {
            continue;
        }
        let subject = match to {
            Subject::Everyone => "everyone".to_owned(),
            Subject::One(who) => estate.principal_id(who),
        };
        let path = estate.scope(at).path.to_string();
        let name = estate.policy(policy).name.to_string();
        found.insert((name.clone(), subject.clone(), path.clone()), at);
        unused.insert((name, subject, path, policy, to));
    }
    let (mut light, mut heavy) = (Vec::new(), Vec::new());
    for (name, subject, path, policy, to) in unused {
        let at = found[&(name.clone(), subject.clone(), path.clone())];
        let edit = Edit::Detach { policies: vec![name], from: vec![subject], at: vec![path] };
        if estate.policy(policy).denies.is_empty() {
            light.push(edit);
            continue;
        }
        let people = match to {
            Subject::Everyone => estate.principals().collect(),
            Subject::One(who) => stage.whole().below(&[who]),
        };
        let places = Places::Below(vec![at]);
        heavy.push(Removal { edit, people, into: None, places });
    }
    (light, heavy)
}

fn denies(estate: &Estate, id: AttachmentId) -> bool {
    let policies = estate.attachment(id).policies.iter();
    policies.into_iter().any(|policy| !estate.policy(policy.value).denies.is_empty())
}

/// Whether something goes: nothing is opened to anybody, and what the log was allowed stays so.
pub(super) fn may_go(stage: &Stage, removal: &Removal, allowed: &[&Logged], now: Time) -> Goes {
    let estate = stage.estate();
    let rows = removal.places.rows(estate);
    let everybody = removal.people.iter().copied();
    let mut people: Vec<Principal> =
        everybody.filter(|who| !matches!(who, Principal::Group(_))).collect();
    people.sort_unstable();
    if people.len().saturating_mul(rows) > MOST_FOR_A_STEP {
        return Goes::NotDecided;
    }
    let whole = stage.whole();
    let edited = whole.edited(&removal.edit, &people, removal.into, &removal.places, now);
    let Some(part) = edited else { return Goes::NotDecided };
    match part.opens(now) {
        Opened::Yes => return Goes::No,
        Opened::NotDecided => return Goes::NotDecided,
        Opened::No => {}
    }
    // A condition may ask for what somebody is in no more.
    let Some((_, after)) = stage.after(std::slice::from_ref(&removal.edit), now) else {
        return Goes::NotDecided;
    };
    let mut decider = Decider::new(&after);
    let concerned = |one: &&&Logged| removal.people.contains(&one.who);
    let stays = allowed.iter().filter(concerned).all(|one| allows(&after, &mut decider, one));
    if stays { Goes::Yes } else { Goes::No }
}
