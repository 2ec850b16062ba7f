//! What helps to answer a question, and what is recommended, with its reasons.

use super::likeness::likenesses;
use super::{Likeness, ListKind, Of, Question};
use crate::declaration::Declarations;
use crate::engine::Engine;
use crate::estate::Estate;
use crate::id::UserId;
use crate::impact::{Comparison, differences};
use crate::part::{EditedPart, Lookup, Places, Whole};
use crate::principal::{Principal, Subject};
use crate::prove::Opened;
use crate::request::Request;
use crate::time::Time;
use crate::usage::{Count, Element, InList, Thing, Usage};
use crate::ways::Effect;

/// People times places that are compared for one question: beyond it what would be lost is not counted.
const MOST_FOR_A_QUESTION: usize = 400_000;

/// What helps to answer.
#[derive(Clone, Debug, PartialEq)]
pub struct Facts {
    /// Whether it is a user that is not enabled.
    pub is_disabled: bool,
    /// The user's manager.
    pub manager: Option<String>,
    /// What taking it away would open and close at the moment; `None` where that was not counted.
    pub effect: Option<Effect>,
    /// Whether taking it away closes nothing to anybody, now or later, whatever the circumstances;
    /// `None` where that was not decided.
    pub closes_nothing: Option<bool>,
    /// What else brings them into the same group or role: a principal, or `members-when`.
    pub held_by: Option<String>,
    /// How it was used; `None` without a log.
    pub used: Option<Use>,
    /// Of a user in a group, how like the others.
    pub likeness: Option<Likeness>,
}

/// How something was used, by a log.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Use {
    /// So often, and when.
    Times(Count),
    /// Never.
    Never,
}

/// A reason to take something away.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Ground {
    /// The user is not enabled.
    Disabled,
    /// Not used since the moment that counts.
    Unused,
    /// Taking it away closes nothing.
    HeldAnyway,
    /// Unlike the other members.
    Unlike,
}

impl Ground {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["disabled", "unused", "held-anyway", "unlike"][self as usize]
    }
}

/// An estate that is looked at for a review.
#[derive(Debug)]
pub struct Reviewing<'r> {
    declared: &'r Declarations,
    engine: &'r Engine,
    lookup: Lookup,
    usage: Option<&'r Usage>,
    now: Time,
}

impl<'r> Reviewing<'r> {
    /// With what a log used, if there is one.
    #[must_use]
    pub fn new(
        declared: &'r Declarations,
        engine: &'r Engine,
        usage: Option<&'r Usage>,
        now: Time,
    ) -> Self {
        let lookup = Lookup::new(declared, engine.estate());
        Self { declared, engine, lookup, usage, now }
    }

    fn estate(&self) -> &'r Estate {
        self.engine.estate()
    }

    fn whole(&self) -> Whole<'_> {
        Whole { declared: self.declared, engine: self.engine, lookup: &self.lookup }
    }

    /// What helps to answer a question.
    #[must_use]
    pub fn facts(&self, question: &Question) -> Facts {
        let estate = self.estate();
        let who = estate.find_principal(&question.who);
        let user = match who {
            Some(Principal::User(id)) => Some(estate.user(id)),
            _ => None,
        };
        let manager = user.and_then(|user| user.manager);
        let edited = self.edited(question);
        let closes_nothing = edited.as_ref().and_then(|part| match part.closes(self.now) {
            Opened::Yes => Some(false),
            Opened::No => Some(true),
            Opened::NotDecided => None,
        });
        Facts {
            is_disabled: user.is_some_and(|user| !user.enabled),
            manager: manager.map(|id| estate.principal_id(Principal::User(id))),
            effect: edited.as_ref().and_then(|part| self.effect(part)),
            closes_nothing,
            held_by: who.and_then(|who| self.held_by(question, who)),
            used: self.usage.map(|usage| self.used(usage, question)),
            likeness: self.likeness(question),
        }
    }

    /// The reasons to take something away, where use before a moment counts no more; none: nothing
    /// speaks against keeping it.
    ///
    /// Who came in after that moment had no time to use it: that is no reason. A ceiling takes access
    /// away, so that nothing is recommended of one but by who is bound by it.
    #[must_use]
    pub fn grounds(&self, question: &Question, facts: &Facts, idle_since: Time) -> Vec<Ground> {
        let mut grounds = Vec::new();
        if facts.is_disabled {
            grounds.push(Ground::Disabled);
        }
        let is_new = question.window.from.is_some_and(|from| from > idle_since);
        let is_unused = match facts.used {
            Some(Use::Never) => true,
            Some(Use::Times(count)) => count.last < idle_since,
            None => false,
        };
        if is_unused && !is_new && !question.is_ceiling {
            grounds.push(Ground::Unused);
        }
        let opens = facts.effect.as_ref().is_none_or(|effect| effect.opens > 0);
        if facts.closes_nothing == Some(true) && !opens && !question.is_ceiling {
            grounds.push(Ground::HeldAnyway);
        }
        if facts.likeness.as_ref().is_some_and(Likeness::is_unlike) {
            grounds.push(Ground::Unlike);
        }
        grounds
    }

    /// The part that a removal concerns, without it and with it; nothing where that is too much.
    fn edited(&self, question: &Question) -> Option<EditedPart> {
        let (estate, whole) = (self.estate(), self.whole());
        let subject = match question.who.as_str() {
            "everyone" => Subject::Everyone,
            who => Subject::One(estate.find_principal(who)?),
        };
        let into = match &question.of {
            Of::Group(name) => estate.find_group(name).map(Principal::Group),
            Of::Role(name) => estate.find_role(name).map(Principal::Role),
            _ => None,
        };
        let read_at = into.and_then(|into| whole.read_at(into));
        let mut people: Vec<Principal> = match subject {
            Subject::One(who) if read_at.is_none() => whole.below(&[who]).into_iter().collect(),
            _ => estate.principals().collect(),
        };
        people.retain(|who| !matches!(who, Principal::Group(_)));
        people.sort_unstable();
        let places = match (&question.of, into, subject) {
            (_, Some(into), Subject::One(who)) => match read_at {
                Some(at) => whole.places_of(&[who], into).and(at),
                None => whole.places_of(&[who], into),
            },
            (Of::Scope(path), ..) => Places::Below(vec![estate.scopes.find(path)?]),
            _ => Places::Below(vec![estate.scopes.find(question.at.as_deref()?)?]),
        };
        let rows = places.rows(estate);
        if people.len().saturating_mul(rows) > MOST_FOR_A_QUESTION {
            return None;
        }
        whole.edited(&question.removal(), &people, into, &places, self.now)
    }

    /// What a removal turns at the moment.
    fn effect(&self, part: &EditedPart) -> Option<Effect> {
        let [before, after] = &part.engines;
        let differences = differences(before.estate(), after.estate(), &part.same);
        let request = Request::new("", "", "", self.now);
        let comparison = Comparison::new(before, after, &differences, request).ok()?;
        let mut compared = comparison.compared_at_the_moment(usize::MAX, None);
        let mut effect = Effect::default();
        for who in comparison.everybody().iter().filter(|who| part.names.contains(*who)) {
            let cells = compared.cells_of(who);
            let estate = after.estate();
            effect.add(0, who, estate, cells.iter().filter(|cell| cell.is_opened()));
            effect.add(1, who, estate, cells.iter().filter(|cell| cell.is_shut()));
        }
        for levels in &mut effect.levels {
            levels.sort_unstable();
            levels.dedup();
        }
        Some(effect)
    }

    /// Through what else somebody is in the same group or role at the moment.
    fn held_by(&self, question: &Question, who: Principal) -> Option<String> {
        let estate = self.estate();
        let listed: Vec<Principal> = match (&question.of, question.list?) {
            (Of::Group(name), _) => {
                let group = estate.group(estate.find_group(name)?);
                if group.matching.iter().any(|user| Principal::User(*user) == who) {
                    return Some("members-when".to_owned());
                }
                let all = group.members.as_deref().unwrap_or_default();
                all.iter().filter(|one| one.window.holds(self.now)).map(|one| one.who).collect()
            }
            (Of::Role(name), list) => {
                let role = estate.role(estate.find_role(name)?);
                let all = match list {
                    ListKind::TakenBy => &role.taken_by,
                    _ => &role.held_by,
                };
                all.iter().filter(|one| one.window.holds(self.now)).map(|one| one.who).collect()
            }
            _ => return None,
        };
        let held = self.whole().held_by_now(who, self.now);
        let other = listed.into_iter().find(|one| *one != who && held.contains(one))?;
        Some(estate.principal_id(other))
    }

    /// How what is asked about was used.
    fn used(&self, usage: &Usage, question: &Question) -> Use {
        let count = self.thing(question).and_then(|thing| usage.used.get(&thing).copied());
        count.map_or(Use::Never, Use::Times)
    }

    /// What is asked about, as use knows it.
    fn thing(&self, question: &Question) -> Option<Thing> {
        let estate = self.estate();
        let who = || estate.find_principal(&question.who);
        let subject = || match question.who.as_str() {
            "everyone" => Some(Subject::Everyone),
            _ => who().map(Subject::One),
        };
        let window = question.window;
        let element = |list, who| Thing::Membership(Element { list, who, window });
        Some(match (&question.of, question.list) {
            (Of::Group(name), _) => element(InList::Members(estate.find_group(name)?), who()?),
            (Of::Role(name), Some(ListKind::TakenBy)) => {
                element(InList::TakenBy(estate.find_role(name)?), who()?)
            }
            (Of::Role(name), _) => element(InList::HeldBy(estate.find_role(name)?), who()?),
            (Of::Policy(name), _) => {
                let at = estate.scopes.find(question.at.as_deref()?)?;
                Thing::Attachment(estate.find_policy(name)?, subject()?, at)
            }
            (Of::Scope(path), _) => {
                let policy = estate.find_policy(question.policy.as_deref()?)?;
                Thing::Attachment(policy, subject()?, estate.scopes.find(path)?)
            }
        })
    }

    /// How like the other users of a group somebody is.
    fn likeness(&self, question: &Question) -> Option<Likeness> {
        let estate = self.estate();
        let Of::Group(name) = &question.of else { return None };
        let group = estate.group(estate.find_group(name)?);
        let users = group.members.iter().flatten().filter_map(|one| match one.who {
            Principal::User(id) => Some(id),
            _ => None,
        });
        let mut members: Vec<UserId> = users.collect();
        members.sort_unstable();
        members.dedup();
        let is_meant = |id: &UserId| estate.principal_id(Principal::User(*id)) == question.who;
        let at = members.iter().position(is_meant)?;
        likenesses(estate, &members).into_iter().nth(at)
    }
}
