//! Whether somebody may make a change (spec-work section 7.4).

use std::borrow::Cow;
use std::sync::Arc;

use super::supposed;
use super::touches::{Needs, Touch, touches};
use crate::Reason;
use crate::declaration::{Declarations, Group};
use crate::engine::Engine;
use crate::estate::Estate;
use crate::fault::LocatedFault;
use crate::id::ActionId;
use crate::impact::{Comparison, OpenedCell, OwnSessions, SameFiles, Thing, differences};
use crate::principal::{Join, Principal};
use crate::request::{Request, RequestFault, resolve_target};

/// Most people of whom it is told what is opened for them, or lost to them.
const MOST_TOLD: usize = 10;

/// An estate as it is declared, and as it decides.
#[derive(Clone, Copy, Debug)]
pub struct Side<'s> {
    /// What its files declare.
    pub declared: &'s Declarations,
    /// The same, ready to decide.
    pub engine: &'s Engine,
}

/// What somebody may and may not of a change.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ruling {
    /// Each thing that the change touches, and what comes of asking for it.
    pub touches: Vec<(Touch, Verdict)>,
    /// With `no-more-than-own`, what the change does beyond what somebody can do; not looked at
    /// while a touch is refused.
    pub beyond: Vec<Beyond>,
}

impl Ruling {
    /// Whether the whole change may be made.
    #[must_use]
    pub fn is_allowed(&self) -> bool {
        self.touches.iter().all(|(_, verdict)| verdict.is_allowed()) && self.beyond.is_empty()
    }
}

/// Whether a touch is allowed, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Verdict {
    /// An action that the edit rights name is allowed there.
    Granted(String),
    /// Somebody's own right: entering an open group, asking to be let in, leaving.
    OwnRight(&'static str),
    /// Only the files' owner makes it: why.
    FilesOwner(&'static str),
    /// The edit rights name no action that applies there.
    NoAction(&'static str),
    /// The action that they name is denied.
    Denied(String),
    /// Leaving would open something.
    LeavingOpens(OpenedCell),
    /// It could not be asked: why.
    NotAsked(String),
}

impl Verdict {
    /// Whether the touch is allowed.
    #[must_use]
    pub fn is_allowed(&self) -> bool {
        matches!(self, Self::Granted(_) | Self::OwnRight(_))
    }
}

/// What a change does beyond what somebody can do who makes it.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Beyond {
    /// It opens a cell that is not open to who makes it.
    Opens(OpenedCell),
    /// By being added to a list, somebody loses a cell.
    Loses(OpenedCell),
    /// That could not be found out: why.
    NotWorkedOut(String),
}

/// Whether somebody may make a change: each touch by the first estate's rights, or by an own right;
/// and, where nobody may give more than they have, whether it opens nothing else. Of the request
/// who asks, the role taken up, the circumstances and the moment count. The second estate must be
/// [built beside](Estate::build_beside) the first.
///
/// # Errors
/// A request that is an error in the first estate, and somebody who is no user and no workload.
pub fn ruling(
    before: Side<'_>,
    after: Side<'_>,
    same: &SameFiles,
    request: &Request<'_>,
) -> Result<Ruling, RequestFault> {
    let estate = before.engine.estate();
    let view = request.viewpoint(estate)?;
    if !matches!(view.who, Principal::User(_) | Principal::Workload(_)) {
        return Err(RequestFault::Principal(request.who.to_string()));
    }
    let supposed = supposed::with_new_bare(before.declared, after.declared);
    let judge = Judge { before, after, request, who: view.who, supposed: &supposed };
    let with_new = judge.engine_of(&supposed, estate);
    let touches = touches(estate, after.engine.estate(), same);
    let left = judge.left(&touches);
    let verdicts = touches.into_iter().map(|touch| {
        let verdict = judge.verdict(&touch, &with_new, &left);
        (touch, verdict)
    });
    let mut ruling = Ruling { touches: verdicts.collect(), beyond: Vec::new() };
    if estate.edit_rights.no_more_than_own && ruling.is_allowed() {
        ruling.beyond = judge.beyond(&ruling.touches, &with_new);
    }
    Ok(ruling)
}

/// An estate that could not be built though both of a change could.
type Built = Result<Engine, String>;

struct Judge<'s> {
    before: Side<'s>,
    after: Side<'s>,
    request: &'s Request<'s>,
    who: Principal,
    /// The first estate with what is new in it, bare.
    supposed: &'s Declarations,
}

impl Judge<'_> {
    fn engine_of(&self, declared: &Declarations, beside: &Estate) -> Built {
        let built = Estate::build_beside(declared, beside);
        let told = |faults: Vec<LocatedFault>| {
            faults.first().map(|one| one.fault.to_string()).unwrap_or_default()
        };
        built.map(|estate| Engine::new(Arc::new(estate))).map_err(told)
    }

    fn verdict(&self, touch: &Touch, with_new: &Built, left: &Left) -> Verdict {
        let (key, on, is_new, of_kind) = match &touch.needs {
            Needs::FilesOwner(why) => return Verdict::FilesOwner(why),
            Needs::Right { key, on, is_new, of_kind } => (key, on, is_new, of_kind),
        };
        let by_right = match on {
            None => Verdict::FilesOwner("it has no place"),
            Some(on) => match (is_new, with_new) {
                (false, _) => self.by_right(self.before.engine, key, on, of_kind.as_deref()),
                (true, Ok(engine)) => self.by_right(engine, key, on, of_kind.as_deref()),
                (true, Err(why)) => Verdict::NotAsked(why.clone()),
            },
        };
        if by_right.is_allowed() || *key != "group.members" {
            return by_right;
        }
        let Thing::Group(group) = &touch.difference.thing else { return by_right };
        match self.own_change(group) {
            None => by_right,
            Some(own) if own.leaves => match left.of(group) {
                Some(cell) => Verdict::LeavingOpens(cell.clone()),
                None if left.failed => Verdict::NotAsked("leaving".to_owned()),
                None => Verdict::OwnRight(own.word),
            },
            Some(own) => Verdict::OwnRight(own.word),
        }
    }

    /// What comes of asking for the first action that is named for a key and applies there.
    fn by_right(
        &self,
        engine: &Engine,
        key: &'static str,
        on: &str,
        of_kind: Option<&str>,
    ) -> Verdict {
        let estate = engine.estate();
        let target = match resolve_target(estate, on) {
            Ok(target) => target,
            Err(fault) => return Verdict::NotAsked(fault.to_string()),
        };
        let applicable = estate.catalogue.applicable(target.class(estate));
        let counts = |id: &&ActionId| {
            let action = estate.catalogue.action(**id);
            let kind = &estate.catalogue.kind(action.kind).name;
            applicable.contains(id.index()) && of_kind.is_none_or(|wanted| wanted == &**kind)
        };
        // The rights are those of the first estate: what is new and bare changes none of them.
        let Some(action) = estate.edit_rights.of(key).iter().find(counts) else {
            return Verdict::NoAction(key);
        };
        let does = estate.catalogue.action(*action).name.to_string();
        let request = Request {
            does: Cow::Borrowed(&does),
            on: Cow::Borrowed(on),
            item: None,
            ..self.request.clone()
        };
        let mut decider = engine.decider();
        match request.resolve(estate) {
            Ok(query) if decider.decide(&query) == Reason::Granted => Verdict::Granted(does),
            Ok(_) => Verdict::Denied(does),
            Err(fault) => Verdict::NotAsked(fault.to_string()),
        }
    }

    fn is_enabled(&self) -> bool {
        match self.who {
            Principal::User(id) => self.before.engine.estate().user(id).enabled,
            _ => true,
        }
    }

    /// What a group's table says of itself in both estates, if both have it and people come in
    /// alike.
    fn in_both(&self, group: &str) -> Option<([&Group; 2], Join)> {
        let sides = [self.before, self.after];
        let find = |side: Side<'_>| {
            let estate = side.engine.estate();
            Some(estate.group(estate.find_group(group)?).join)
        };
        let [one, other] = sides.map(find);
        let [old, new] = [self.before.declared, self.after.declared].map(|declared| {
            let mut all = declared.groups.iter();
            all.find(|one| one.name.value == group).map(|one| &one.body)
        });
        (one == other).then_some(([old?, new?], one?))
    }

    /// What somebody does to a group by an own right, if that is all that changes of its members
    /// and of those who ask.
    fn own_change(&self, group: &str) -> Option<OwnChange> {
        let (groups, join) = self.in_both(group)?;
        let who: &str = &self.request.who;
        let whens = [self.before, self.after].map(|side| {
            let estate = side.engine.estate();
            let group = estate.group(estate.find_group(group)?);
            group.members_when.as_ref().map(|when| when.text.clone())
        });
        if !self.is_enabled() || whens[0] != whens[1] {
            return None;
        }
        let [old, new] = groups.map(|group| supposed::members(Some(group)));
        let (mut gone, mut came) = (supposed::only_in(old, new), supposed::only_in(new, old));
        let is_own = |who_else: &str| who_else == who;
        if !gone.all(|one| is_own(&one.who.value)) || !came.all(|one| is_own(&one.who.value)) {
            return None;
        }
        let enters = supposed::only_in(new, old).next().is_some();
        let leaves = supposed::only_in(old, new).next().is_some();
        let [old, new] = groups.map(|group| &group.asks);
        let only_in = |one: &[crate::declaration::Ask], other: &[crate::declaration::Ask]| {
            let is_known = |ask: &crate::declaration::Ask| {
                other.iter().any(|known| supposed::is_same_ask(ask, known))
            };
            one.iter().filter(|ask| !is_known(ask)).cloned().collect::<Vec<_>>()
        };
        let (asks, withdrawn) = (only_in(new, old), only_in(old, new));
        if asks.iter().chain(&withdrawn).any(|ask| !is_own(&ask.who.value)) {
            return None;
        }
        let is_user = matches!(self.who, Principal::User(_));
        let may_enter = !enters || is_user && join == Join::Open;
        let may_ask = asks.is_empty() || is_user && join == Join::Approval;
        let word = match (enters, leaves, asks.is_empty()) {
            (true, ..) => "entering an open group",
            (_, true, _) => "leaving a group",
            (.., false) => "asking to be let in",
            _ => "asking no more",
        };
        (may_enter && may_ask).then_some(OwnChange { leaves, word })
    }

    /// What leaving the groups opens for who leaves: each alone, and all together.
    fn left(&self, touches: &[Touch]) -> Left {
        let mut left = Left::default();
        let groups = touches.iter().filter_map(|touch| match &touch.difference.thing {
            Thing::Group(name) => self.own_change(name)?.leaves.then(|| name.clone()),
            _ => None,
        });
        let mut groups: Vec<String> = groups.collect();
        groups.dedup();
        let alone = groups.iter().map(|group| vec![group.clone()]);
        let mut sets: Vec<Vec<String>> = alone.collect();
        if groups.len() > 1 {
            sets.push(groups.clone());
        }
        for set in sets {
            let (before, after) = (self.before.declared, self.after.declared);
            let less = supposed::with_left(before, after, &self.request.who, &set);
            let built = self.engine_of(&less, self.before.engine.estate());
            let Ok(engine) = built else {
                left.failed = true;
                continue;
            };
            match self.opens([self.before.engine, &engine], &self.request.who) {
                Ok(None) => {}
                Ok(Some(cell)) => left.opens.push((set, cell)),
                Err(_) => left.failed = true,
            }
        }
        left
    }

    /// Any circumstances, asked by nobody in particular.
    fn whatever(&self) -> Request<'_> {
        Request {
            take_up: None,
            given: Vec::new(),
            empty_tables: Vec::new(),
            ..self.request.clone()
        }
    }

    /// The first cell that is opened for somebody.
    fn opens(
        &self,
        [before, after]: [&Engine; 2],
        who: &str,
    ) -> Result<Option<OpenedCell>, RequestFault> {
        let comparison = compare(before, after, self.whatever())?;
        let mut compared = comparison.compared_from_now_on();
        let found = compared.first_opened(who, None, &|_, _| true);
        Ok(found.or_else(|| {
            compared.is_limited().then(|| OpenedCell {
                who: who.to_owned(),
                role: String::new(),
                place: "items that patterns tell apart".to_owned(),
                action: "*".to_owned(),
                is_decided: false,
            })
        }))
    }

    /// What the change does beyond what somebody can do by themselves: it opens cells that are not
    /// open to them, or somebody loses a cell by being added to a list.
    fn beyond(&self, touches: &[(Touch, Verdict)], with_new: &Built) -> Vec<Beyond> {
        let not_worked_out = |why: String| vec![Beyond::NotWorkedOut(why)];
        let with_new = match with_new {
            Ok(engine) => engine,
            Err(why) => return not_worked_out(why.clone()),
        };
        let own: Vec<String> = touches
            .iter()
            .filter_map(|(touch, _)| match &touch.difference.thing {
                Thing::Group(name) if self.own_change(name).is_some() => Some(name.clone()),
                _ => None,
            })
            .collect();
        let (before, who) = (self.before.declared, &*self.request.who);
        let after = supposed::with_own_as_before(before, self.after.declared, who, &own);
        let without = supposed::without_added(before, &after);
        let added = supposed::with_added(self.supposed, before, &after);
        let estate = self.before.engine.estate();
        let engines: Result<Vec<Engine>, String> = (|| {
            let after = self.engine_of(&after, estate)?;
            let without = self.engine_of(&without, after.estate())?;
            let added = self.engine_of(&added, with_new.estate())?;
            Ok(vec![after, without, added])
        })();
        let engines = match engines {
            Ok(engines) => engines,
            Err(why) => return not_worked_out(why),
        };
        let [after, without, added] = &engines[..] else { return Vec::new() };
        let mut found = Vec::new();
        let own = OwnSessions::new(with_new, &self.whatever());
        let compared = own.and_then(|mut own| {
            let opens = Sought { pair: [self.before.engine, after], own: Some(&mut own) };
            found.extend(self.each(opens)?.into_iter().map(Beyond::Opens));
            for pair in [[added, with_new], [after, without]] {
                let loses = Sought { pair, own: None };
                found.extend(self.each(loses)?.into_iter().map(Beyond::Loses));
            }
            Ok(())
        });
        if let Err(fault) = compared {
            found.push(Beyond::NotWorkedOut(fault.to_string()));
        }
        found
    }

    /// A cell that is opened for each of the first few for whom one is.
    fn each<'e>(&'e self, sought: Sought<'_, 'e>) -> Result<Vec<OpenedCell>, RequestFault> {
        let Sought { pair: [before, after], mut own } = sought;
        let comparison = compare(before, after, self.whatever())?;
        let mut compared = comparison.compared_from_now_on();
        let mut found = Vec::new();
        for who in comparison.everybody() {
            found.extend(compared.first_opened(who, own.as_deref_mut(), &|_, _| true));
            if found.len() >= MOST_TOLD {
                break;
            }
        }
        if compared.is_limited() {
            found.push(OpenedCell {
                who: "everyone".to_owned(),
                role: String::new(),
                place: "items that patterns tell apart".to_owned(),
                action: "*".to_owned(),
                is_decided: false,
            });
        }
        Ok(found)
    }
}

/// Two estates of which at least one stands in no files.
fn compare<'e>(
    before: &'e Engine,
    after: &'e Engine,
    request: Request<'e>,
) -> Result<Comparison<'e>, RequestFault> {
    let differing = differences(before.estate(), after.estate(), &SameFiles::default());
    Comparison::new(before, after, &differing, request)
}

/// What is looked for between two estates.
struct Sought<'o, 'e> {
    pair: [&'e Engine; 2],
    own: Option<&'o mut OwnSessions<'e>>,
}

/// What somebody does to a group by an own right.
struct OwnChange {
    leaves: bool,
    word: &'static str,
}

/// What leaving groups opens.
#[derive(Default)]
struct Left {
    opens: Vec<(Vec<String>, OpenedCell)>,
    /// Whether one of these could not be asked.
    failed: bool,
}

impl Left {
    fn of(&self, group: &String) -> Option<&OpenedCell> {
        self.opens.iter().find(|(groups, _)| groups.contains(group)).map(|(_, cell)| cell)
    }
}
