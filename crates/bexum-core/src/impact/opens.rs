//! Whether a change opens anything at all: at this moment or a later one, in whatever circumstances
//! (spec-work section 8, "opened").

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicBool, Ordering};

use super::Comparison;
use super::change::differences;
use super::rows::item_at;
use super::same_files::SameFiles;
use super::sessions::{Compared, InBoth, Row, sessions_from};
use crate::each::Each;
use crate::engine::{Decider, Engine, Index};
use crate::id::ActionId;
use crate::pattern::residual::FRESH;
use crate::prove::{Opened, opened};
use crate::reach::{AccessTarget, TargetSort, Viewpoint};
use crate::request::{Request, RequestFault, resolve_target};
use crate::time::Time;

/// A cell that the second estate allows in some circumstances in which the first does not.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct OpenedCell {
    /// Who: `user:ines`, `resource:veyra/core`, or a role by itself.
    pub who: String,
    /// The bare name of the role taken up; empty where none is.
    pub role: String,
    /// The row: a path, or the pattern of items that it stands for.
    pub place: String,
    /// The action.
    pub action: String,
    /// Whether it is found out; else it counts as opened because that could not be ruled out.
    pub is_decided: bool,
}

/// Whether the second of two estates opens anything to any of these that the first does not, at a moment
/// or a later one, in any circumstances. It was [built beside](crate::Estate::build_beside) the first.
pub(crate) fn opens_anything(
    [before, after]: [&Engine; 2],
    same: &SameFiles,
    names: &BTreeSet<String>,
    now: Time,
) -> Opened {
    let differences = differences(before.estate(), after.estate(), same);
    let request = Request::new("", "", "", now);
    let Ok(comparison) = Comparison::new(before, after, &differences, request) else {
        return Opened::NotDecided;
    };
    let mut compared = comparison.compared_from_now_on();
    let everybody = comparison.everybody();
    let mut not_decided = false;
    for who in everybody.iter().filter(|who| names.contains(*who)) {
        match compared.first_opened(who, None, &|_, _| true) {
            Some(cell) if cell.is_decided => return Opened::Yes,
            Some(_) => not_decided = true,
            None => {}
        }
    }
    match not_decided || compared.is_limited() {
        true => Opened::NotDecided,
        false => Opened::No,
    }
}

/// As [`opens_anything`], for everybody whom the change may concern, on as many cores as `each` uses.
pub(crate) fn opens_anything_to_all(
    [before, after]: [&Engine; 2],
    same: &SameFiles,
    now: Time,
    each: Each<'_>,
) -> Opened {
    let differences = differences(before.estate(), after.estate(), same);
    let request = Request::new("", "", "", now);
    let Ok(comparison) = Comparison::new(before, after, &differences, request) else {
        return Opened::NotDecided;
    };
    let everybody = comparison.everybody();
    let parts: Vec<&[String]> = everybody.chunks(TOGETHER).collect();
    let (opened, open) = (AtomicBool::new(false), AtomicBool::new(false));
    each(parts.len(), &|part| {
        let mut compared = comparison.compared_from_now_on();
        for who in parts[part] {
            if opened.load(Ordering::Relaxed) {
                return;
            }
            match compared.first_opened(who, None, &|_, _| true) {
                Some(cell) if cell.is_decided => opened.store(true, Ordering::Relaxed),
                Some(_) => open.store(true, Ordering::Relaxed),
                None => {}
            }
        }
        if compared.is_limited() {
            open.store(true, Ordering::Relaxed);
        }
    });
    match (opened.into_inner(), open.into_inner()) {
        (true, _) => Opened::Yes,
        (false, true) => Opened::NotDecided,
        (false, false) => Opened::No,
    }
}

/// People that one thread compares together.
const TOGETHER: usize = 32;

/// What somebody can do in an estate, in each of their sessions: what is allowed to one of these, in
/// the same circumstances at the same moment, is not looked for.
#[derive(Debug)]
pub struct OwnSessions<'e> {
    /// Each with a decider of its own, as all are asked together.
    sessions: Vec<(Decider<'e>, Viewpoint)>,
    index: &'e Index,
}

impl<'e> OwnSessions<'e> {
    /// The sessions of who asks in this request, at its moment; a role that it takes up is passed over.
    ///
    /// # Errors
    /// A request that is an error in this estate.
    pub fn new(index: &'e Index, request: &Request<'_>) -> Result<Self, RequestFault> {
        let view = Request { take_up: None, ..request.clone() }.viewpoint(index.estate())?;
        let sessions = sessions_from(&mut Decider::new(index), &view);
        let sessions = sessions.into_iter().map(|view| (Decider::new(index), view));
        Ok(Self { sessions: sessions.collect(), index })
    }

    /// What a row is here.
    fn target(&self, row: &AccessTarget) -> Option<AccessTarget> {
        let estate = self.index.estate();
        if row.asked.contains(FRESH) {
            let place = item_at(estate, &row.asked)?;
            return Some(AccessTarget { sort: TargetSort::Pattern, place, ..row.clone() });
        }
        resolve_target(estate, &row.asked).ok().map(|target| AccessTarget::at(&target))
    }
}

impl<'e> Compared<'_, 'e> {
    /// The first cell of somebody that is opened, or of which that could not be ruled out, at a
    /// place and of an action that are wanted; with somebody's own sessions, the first that is none
    /// of these either.
    pub fn first_opened(
        &mut self,
        who: &str,
        mut own: Option<&mut OwnSessions<'e>>,
        is_wanted: &dyn Fn(&str, &str) -> bool,
    ) -> Option<OpenedCell> {
        self.known.clear();
        let is_there = self.comparison.after.estate().find_principal(who).is_some();
        if !self.comparison.may_turn.open || !is_there {
            return None;
        }
        for (role, session) in self.sessions(who) {
            let concerned = self.concerned(who, &session);
            if concerned.parts.is_empty() || self.is_refused_for_good(&session) {
                continue;
            }
            let actions = concerned.actions(self.comparison);
            for path in self.scopes(&session, &concerned) {
                for (place, row) in self.rows(&session, &path, actions) {
                    let own = own.as_deref_mut();
                    let is_wanted = |action: &str| is_wanted(&place, action);
                    let found = self.opened_on(&session, &row, own, &is_wanted);
                    let Some((action, is_decided)) = found else { continue };
                    let who = who.to_owned();
                    return Some(OpenedCell { who, role, place, action, is_decided });
                }
            }
        }
        None
    }

    /// Where not all items that patterns single out were told apart.
    #[must_use]
    pub fn is_limited(&self) -> bool {
        self.sides.iter().any(|side| !side.limited.is_empty())
    }

    /// Whether the second estate refuses a session everything, at this moment and at all later ones.
    fn is_refused_for_good(&mut self, session: &InBoth) -> bool {
        let Some(after) = &session[1] else { return true };
        let times = self.times(session);
        let new = &mut self.sides[1].decider;
        times.into_iter().all(|time| {
            let asking = new.session_of(after.who, &after.also, after.take_up, time);
            asking.is_refused(after.take_up)
        })
    }

    /// The first action that is opened on a row, and whether that is decided.
    fn opened_on(
        &mut self,
        session: &InBoth,
        row: &Row,
        mut own: Option<&mut OwnSessions<'e>>,
        is_wanted: &dyn Fn(&str) -> bool,
    ) -> Option<(String, bool)> {
        let ([_, Some(after)], [_, Some(target)]) = (session, row) else { return None };
        let times = self.times(session);
        let new = &mut self.sides[1].decider;
        let index = new.index;
        let estate = index.estate();
        let applicable = target.applicable(estate);
        let may_be_allowed = times.into_iter().any(|time| {
            let asking = new.session_of(after.who, &after.also, after.take_up, time);
            !asking.is_refused(after.take_up)
                && new.may_be_allowed(&asking, target.scope(), applicable)
        });
        if !may_be_allowed {
            return None;
        }
        let said = self.said_of(session, row);
        for action in applicable.ones().map(ActionId::new) {
            let name = &estate.catalogue.action(action).name;
            if !is_wanted(name) {
                continue;
            }
            let turn = self.said_of_action(&said, name).map(|said| said.may_turn());
            if !turn.is_none_or(|turn| turn.open) {
                continue;
            }
            let found = match self.comparison.can_complete {
                true => self.is_opened(session, row, action, own.as_deref_mut()),
                false => Opened::NotDecided,
            };
            if found != Opened::No {
                return Some((name.to_string(), found == Opened::Yes));
            }
        }
        None
    }

    fn is_opened(
        &mut self,
        session: &InBoth,
        row: &Row,
        action: ActionId,
        own: Option<&mut OwnSessions<'e>>,
    ) -> Opened {
        let ([before, Some(after)], [old, Some(new)]) = (session, row) else { return Opened::No };
        let [one, other] = &mut self.sides;
        let name = &other.decider.index.estate().catalogue.action(action).name;
        let mut queries = Vec::new();
        if let (Some(view), Some(target)) = (before, old)
            && let Some(action) = one.decider.index.estate().catalogue.find_action(name)
            && target.applicable(one.decider.index.estate()).contains(action.index())
        {
            queries.push((&mut one.decider, view.query(target, action)));
        }
        let own_target = own.as_ref().and_then(|own| own.target(new));
        if let (Some(own), Some(target)) = (own, &own_target)
            && let Some(action) = own.index.estate().catalogue.find_action(name)
            && target.applicable(own.index.estate()).contains(action.index())
        {
            let sessions = own.sessions.iter_mut();
            queries.extend(sessions.map(|(decider, view)| (decider, view.query(target, action))));
        }
        let mut others: Vec<_> =
            queries.iter_mut().map(|(decider, query)| (&mut **decider, &*query)).collect();
        let after = after.query(new, action);
        opened(&mut others, (&mut other.decider, &after), &mut self.known)
    }
}
