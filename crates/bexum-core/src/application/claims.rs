//! What a token for somebody would say, and what of their groups it does not.

use rustc_hash::{FxHashMap, FxHashSet};

use super::{Application, Audience, Beyond, Told};
use crate::engine::Engine;
use crate::estate::Estate;
use crate::id::{GroupId, UserId};
use crate::principal::Principal;
use crate::time::{Time, Window};

/// Through what somebody may sign in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Entry {
    /// The application is open to everyone.
    Everyone,
    /// `open-to` names them.
    Named,
    /// They are in a group that it names.
    Group {
        /// The group.
        group: GroupId,
        /// The group of theirs that is in it; `None` where they are in it themselves.
        through: Option<GroupId>,
    },
}

/// Why there is no token.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Refusal {
    /// The user is disabled.
    Disabled,
    /// Neither they nor a group of theirs are in `open-to`. These of its groups they are nearly in.
    NotOpen(Vec<(GroupId, Hidden)>),
    /// They are in more groups than the claim may hold, and the application refuses them then.
    TooMany(usize),
}

/// A place in a list that does not count at the moment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Shut {
    /// Who stands there: the user, or a group.
    pub who: Principal,
    /// In the members of which group.
    pub of: GroupId,
    /// When it counts.
    pub window: Window,
}

/// Why an application does not get to see a group of somebody; where several reasons hold, the first.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Hidden {
    /// They are not in it, at no time.
    NotIn,
    /// They are in it only while this place counts, which it does not now.
    Shut(Shut),
    /// They are in it only through this group, and the application does not look through groups.
    OnlyThrough(GroupId),
    /// The application is told no groups.
    NoGroups,
    /// It is not in `open-to`.
    NotListed,
    /// `names` does not take its name.
    Name,
    /// There are too many: the claim holds the first by bytes, and it is none of them.
    Cut,
    /// There are too many: the claim is left out.
    LeftOut,
    /// There are too many: there is no token.
    Refused,
}

/// A group, and whether it is seen.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Sight {
    /// The group.
    pub group: GroupId,
    /// Why the application does not get to see it; `None`: it does.
    pub hidden: Option<Hidden>,
}

/// What a token says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Claims {
    /// Whom it is about: `user:ines`.
    pub sub: String,
    /// The application's name.
    pub aud: String,
    /// When it was made, in seconds since 1970.
    pub iat: i64,
    /// When it counts no more, in seconds since 1970.
    pub exp: i64,
    /// The name to show.
    pub name: String,
    /// The claim of groups; `None` where there is none or it was left out.
    pub groups: Option<Vec<String>>,
    /// Whether it was left out because there are too many.
    pub is_left_out: bool,
    /// The application's own roles; `None` where it has none.
    pub roles: Option<Vec<String>>,
}

/// How somebody is in a group.
#[derive(Clone, Copy, Debug)]
enum In {
    Directly,
    /// Through this group, in which they are themselves.
    Through(GroupId),
    /// Not now, because of a place that does not count.
    Shut(Shut),
}

/// The groups of one user at one moment.
type Groups = FxHashMap<GroupId, In>;

/// An application at a moment, ready to be asked about many people.
#[derive(Debug)]
pub struct Signing<'s> {
    engine: &'s Engine,
    application: &'s Application,
    /// Groups that everybody asked about is supposed to be in as well.
    also: Vec<GroupId>,
    at: Time,
    listed: FxHashSet<GroupId>,
}

impl<'s> Signing<'s> {
    /// Takes the application's list apart once.
    #[must_use]
    pub fn new(
        engine: &'s Engine,
        application: &'s Application,
        also: Vec<GroupId>,
        at: Time,
    ) -> Self {
        let groups = application.open_to.named().iter().filter_map(|who| match who {
            Principal::Group(group) => Some(*group),
            _ => None,
        });
        Self { engine, application, also, at, listed: groups.collect() }
    }

    fn estate(&self) -> &'s Estate {
        self.engine.estate()
    }

    /// Every group that the user is in, or would be if no window were shut.
    fn groups_of(&self, user: UserId) -> Groups {
        let mut found = Groups::default();
        let start = Principal::User(user);
        let mut edge: Vec<(Principal, Option<GroupId>)> = vec![(start, None)];
        let mut waiting: Vec<(GroupId, Shut)> = Vec::new();
        // Breadth first, so that the way told is a short one.
        while !edge.is_empty() {
            let mut next = Vec::new();
            for (from, first) in edge {
                let supposed = if from == start { &self.also[..] } else { &[] };
                let listed = self.engine.groups_of.get(&from).into_iter().flatten();
                let open = listed.filter_map(|one| {
                    if one.window.holds(self.at) {
                        return Some(one.into);
                    }
                    let shut = Shut { who: from, of: one.into, window: one.window };
                    waiting.push((one.into, shut));
                    None
                });
                for into in supposed.iter().copied().chain(open) {
                    found.entry(into).or_insert_with(|| {
                        next.push((Principal::Group(into), first.or(Some(into))));
                        first.map_or(In::Directly, In::Through)
                    });
                }
            }
            edge = next;
        }
        // What is reached through a place that does not count, the first such place told.
        let mut next = 0;
        while let Some((into, shut)) = waiting.get(next).copied() {
            next += 1;
            if found.contains_key(&into) {
                continue;
            }
            found.insert(into, In::Shut(shut));
            let further = self.engine.groups_of.get(&Principal::Group(into)).into_iter().flatten();
            waiting.extend(further.map(|one| (one.into, shut)));
        }
        found
    }

    /// Why a group that somebody is in this way does not count for the application.
    fn not_counted(&self, how: In) -> Option<Hidden> {
        match how {
            In::Shut(shut) => Some(Hidden::Shut(shut)),
            In::Through(first) if !self.application.through => Some(Hidden::OnlyThrough(first)),
            _ => None,
        }
    }

    /// Why a group is not told, leaving aside how many there are.
    fn not_told(&self, group: GroupId, how: In) -> Option<Hidden> {
        let name = || &self.estate().group(group).identity.name;
        self.not_counted(how).or(match self.application.told {
            Told::None => Some(Hidden::NoGroups),
            Told::Listed if !self.listed.contains(&group) => Some(Hidden::NotListed),
            _ => match &self.application.names {
                Some(names) if !names.take(name()) => Some(Hidden::Name),
                _ => None,
            },
        })
    }

    /// The groups to be told if there is room for all, by bytes of their names.
    fn wanted(&self, groups: &Groups) -> Vec<GroupId> {
        let told = groups.iter().filter(|(group, how)| self.not_told(**group, **how).is_none());
        let mut wanted: Vec<GroupId> = told.map(|(group, _)| *group).collect();
        // Ids are in the order of names.
        wanted.sort_unstable();
        wanted
    }

    fn is_among(&self, audience: &Audience, user: UserId, groups: &Groups) -> Option<Entry> {
        let named = match audience {
            Audience::Everyone => return Some(Entry::Everyone),
            Audience::These(named) => named,
        };
        if named.contains(&Principal::User(user)) {
            return Some(Entry::Named);
        }
        let entries = named.iter().filter_map(|who| {
            let Principal::Group(group) = *who else { return None };
            let how = *groups.get(&group)?;
            let through = match how {
                In::Through(first) => Some(first),
                _ => None,
            };
            self.not_counted(how).is_none().then_some(Entry::Group { group, through })
        });
        // To be in a group oneself is told rather than to be in one through another.
        entries.min_by_key(|entry| matches!(entry, Entry::Group { through: Some(_), .. }))
    }

    fn entry(&self, user: UserId, groups: &Groups) -> Result<Entry, Refusal> {
        let application = self.application;
        if !self.estate().user(user).enabled {
            return Err(Refusal::Disabled);
        }
        let Some(entry) = self.is_among(&application.open_to, user, groups) else {
            let mut near: Vec<(GroupId, Hidden)> = self
                .listed
                .iter()
                .filter_map(|group| Some((*group, self.not_counted(*groups.get(group)?)?)))
                .collect();
            near.sort_unstable_by_key(|(group, _)| *group);
            return Err(Refusal::NotOpen(near));
        };
        let count = self.wanted(groups).len();
        match application.beyond {
            Beyond::Refuse if count > application.at_most => Err(Refusal::TooMany(count)),
            _ => Ok(entry),
        }
    }

    /// Through what somebody may sign in.
    ///
    /// # Errors
    /// Why they may not.
    pub fn may_sign_in(&self, user: UserId) -> Result<Entry, Refusal> {
        self.entry(user, &self.groups_of(user))
    }

    /// How many groups the claim would hold if there were no limit.
    #[must_use]
    pub fn wanted_count(&self, user: UserId) -> usize {
        self.wanted(&self.groups_of(user)).len()
    }

    /// Whether somebody whom the application is open to is in more groups than it may be told.
    #[must_use]
    pub fn is_over_the_limit(&self, user: UserId) -> bool {
        let groups = self.groups_of(user);
        let is_open =
            !matches!(self.entry(user, &groups), Err(Refusal::Disabled | Refusal::NotOpen(_)));
        is_open && self.wanted(&groups).len() > self.application.at_most
    }

    /// What a token for somebody says.
    ///
    /// # Errors
    /// Why there is none.
    pub fn claims(&self, user: UserId) -> Result<Claims, Refusal> {
        let groups = self.groups_of(user);
        self.entry(user, &groups)?;
        let (application, estate) = (self.application, self.estate());
        let wanted = self.wanted(&groups);
        let is_beyond = wanted.len() > application.at_most;
        let is_left_out = is_beyond && application.beyond == Beyond::Flag;
        let text = |group: &GroupId| match application.as_id {
            true => estate.principal_id(Principal::Group(*group)),
            false => estate.group(*group).identity.name.to_string(),
        };
        let is_told = application.told != Told::None && !is_left_out;
        let told = is_told.then(|| wanted.iter().take(application.at_most).map(text).collect());
        let roles = application.roles.iter();
        let has = |audience: &Audience| self.is_among(audience, user, &groups).is_some();
        let roles = roles.filter(|(_, audience)| has(audience)).map(|(name, _)| name.to_string());
        let known = estate.user(user);
        let name = known.full_name.as_ref().unwrap_or(&known.identity.name);
        let iat = self.at.0.div_euclid(1_000_000);
        Ok(Claims {
            sub: estate.principal_id(Principal::User(user)),
            aud: application.name.to_string(),
            iat,
            exp: iat.saturating_add(application.lasts),
            name: name.to_string(),
            groups: told,
            is_left_out,
            roles: (!application.roles.is_empty()).then(|| roles.collect()),
        })
    }

    /// Every group that somebody is in, or would be if no window were shut, with whether the
    /// application gets to see it; by name.
    #[must_use]
    pub fn sights(&self, user: UserId) -> Vec<Sight> {
        let groups = self.groups_of(user);
        let wanted = self.wanted(&groups);
        let is_beyond = wanted.len() > self.application.at_most;
        let mut sights: Vec<Sight> = groups
            .iter()
            .map(|(group, how)| {
                let too_many = || match self.application.beyond {
                    _ if !is_beyond => None,
                    Beyond::Flag => Some(Hidden::LeftOut),
                    Beyond::Refuse => Some(Hidden::Refused),
                    Beyond::Cut => {
                        let kept = &wanted[..self.application.at_most];
                        kept.binary_search(group).is_err().then_some(Hidden::Cut)
                    }
                };
                let hidden = self.not_told(*group, *how).or_else(too_many);
                Sight { group: *group, hidden }
            })
            .collect();
        sights.sort_unstable_by_key(|sight| sight.group);
        sights
    }

    /// Whether the application gets to see one group of somebody.
    #[must_use]
    pub fn sight_of(&self, user: UserId, group: GroupId) -> Sight {
        let found = self.sights(user).into_iter().find(|sight| sight.group == group);
        found.unwrap_or(Sight { group, hidden: Some(Hidden::NotIn) })
    }
}
