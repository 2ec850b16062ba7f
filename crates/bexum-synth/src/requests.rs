//! What the people of the platform ask for, some of them again and again.

use std::fmt::Write as _;

use rand::seq::IndexedRandom as _;
use rand::{Rng as _, SeedableRng as _};
use rand_chacha::ChaCha8Rng;

use crate::habits::moment;
use crate::model::{Model, Sort, TEAMS, Whom, skewed};

/// One request, by names.
#[derive(Clone, Debug)]
pub struct Asked {
    pub(crate) who: String,
    pub(crate) does: String,
    pub(crate) on: String,
    pub(crate) take_up: Option<String>,
    /// Whether it was made after something that grants it.
    pub(crate) is_meant: bool,
    mfa: bool,
    ip: &'static str,
    second: u32,
}

impl Asked {
    /// Who asks.
    #[must_use]
    pub fn who(&self) -> &str {
        &self.who
    }

    /// What for.
    #[must_use]
    pub fn does(&self) -> &str {
        &self.does
    }

    /// On what.
    #[must_use]
    pub fn on(&self) -> &str {
        &self.on
    }
}

/// The first moment of a log, in seconds since 1970: 2026-05-05T00:00:00Z.
const FIRST_SECOND: i64 = 1_777_939_200;

/// Some number of texts, always the same (FNV-1a).
fn hash(texts: &[&str]) -> u64 {
    let bytes = texts.iter().flat_map(|text| text.bytes().chain([0]));
    bytes.fold(0xcbf2_9ce4_8422_2325, |sum, byte| {
        (sum ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3)
    })
}

/// One of the members of a group that are in it on purpose.
fn some_member(model: &Model, group: usize, rng: &mut ChaCha8Rng) -> Option<usize> {
    let user = *model.groups[group].users.choose(rng)?;
    ((model.astray.user, model.astray.group) != (user, group)).then_some(user)
}

/// A request as a line; the second of its day is counted from `midnight`.
fn write(id: usize, asked: Asked, midnight: i64, out: &mut String) {
    let Asked { who, does, on, take_up, mfa, ip, second, .. } = asked;
    let role = take_up.map(|role| format!("\"as\":\"role:{role}\",")).unwrap_or_default();
    let time = moment(midnight + i64::from(second));
    // Writing into a string does not fail.
    let _ = writeln!(
        out,
        "{{\"id\":{id},\"who\":\"{who}\",\"does\":\"{does}\",\"on\":\"{on}\",{role}\"given\":{{\"mfa\":{mfa},\"ip\":\"{ip}\",\"time\":\"{time}\"}}}}"
    );
}

/// An endless log.
#[derive(Debug)]
pub struct Requests<'m> {
    model: &'m Model,
    rng: ChaCha8Rng,
}

impl<'m> Requests<'m> {
    /// The log of a seed.
    #[must_use]
    pub fn new(model: &'m Model, seed: u64) -> Self {
        Self { model, rng: ChaCha8Rng::seed_from_u64(seed) }
    }

    /// The next request as a line of JSON, its end included, added to `out`; `id` is its number.
    pub fn write_line(&mut self, id: usize, out: &mut String) {
        let asked = self.ask();
        write(id, asked, FIRST_SECOND, out);
    }

    /// The same for a log of so many days, in which people have habits: each does only some of what
    /// they may, and one in eight stops half-way. Who is in a group by mistake does nothing through it.
    pub fn write_habit(&mut self, id: usize, days: u32, out: &mut String) {
        let model = self.model;
        let astray = format!("user:{}", model.astray().0);
        let is_through_it = |on: &str| {
            let within = |path: &str| {
                on.strip_prefix(path).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
            };
            model.astray.places.iter().any(|place| within(&model.scopes[*place].path))
        };
        let mut asked = self.ask();
        for _ in 0..20 {
            let is_done = hash(&[&asked.who, &asked.does]).is_multiple_of(3);
            if is_done && (asked.who != astray || !is_through_it(&asked.on)) {
                break;
            }
            asked = self.ask();
        }
        let stops = hash(&[&asked.who]).is_multiple_of(8);
        let until = if stops { days.div_ceil(2) } else { days.max(1) };
        let day = self.rng.random_range(0..until);
        write(id, asked, FIRST_SECOND + i64::from(day) * 86_400, out);
    }

    fn ask(&mut self) -> Asked {
        let is_meant = self.rng.random_bool(0.75);
        let mut asked = if is_meant { self.meant() } else { None }.unwrap_or_else(|| self.stray());
        asked.mfa = self.rng.random_bool(0.8);
        asked.ip = ["10.20.3.4", "10.30.9.9", "192.0.2.7"][skewed(&mut self.rng, 3)];
        asked.second = self.rng.random_range(0..86_400);
        asked
    }

    /// Something that an attachment was made for.
    fn meant(&mut self) -> Option<Asked> {
        let (model, rng) = (self.model, &mut self.rng);
        let attachment = &model.attachments[skewed(rng, model.attachments.len())];
        let (user, take_up) = match attachment.to {
            Whom::Everyone => (skewed(rng, model.users.len()), None),
            Whom::User(user) => (user, None),
            Whom::Group(group) => (some_member(model, group, rng)?, None),
            Whom::Role(role) => {
                let group = *model.roles[role].taken_by.choose(rng)?;
                let user = some_member(model, group, rng)?;
                (user, Some(model.roles[role].name.clone()))
            }
        };
        let kind = model.policies[attachment.policy].kind;
        let scopes = attachment.at..model.scopes[attachment.at].end;
        let mut at = rng.random_range(scopes.clone());
        for _ in 0..12 {
            let scope = &model.scopes[at];
            if scope.kind == kind && matches!(scope.sort, Sort::Resource | Sort::Namespace) {
                break;
            }
            at = rng.random_range(scopes.clone());
        }
        Some(self.on(user, at, take_up, true))
    }

    /// Something that somebody tries.
    fn stray(&mut self) -> Asked {
        let (model, rng) = (self.model, &mut self.rng);
        let user = skewed(rng, model.users.len());
        let at = skewed(rng, model.scopes.len());
        let tries_role = rng.random_bool(0.1);
        let role =
            tries_role.then(|| model.roles[rng.random_range(0..model.roles.len())].name.clone());
        self.on(user, at, role, false)
    }

    fn on(&mut self, user: usize, at: usize, take_up: Option<String>, is_meant: bool) -> Asked {
        let (model, rng) = (self.model, &mut self.rng);
        let mut at = at;
        while matches!(model.scopes[at].sort, Sort::Account | Sort::Subscription) {
            at += 1;
        }
        let scope = &model.scopes[at];
        let kind = &model.kinds[scope.kind];
        let item = kind.item.filter(|_| rng.random_bool(0.6));
        let verbs = &item.map_or(kind, |item| &model.kinds[item]).verbs;
        let level = [0, 0, 0, 1, 1, 2, 2, 3][rng.random_range(0..8)];
        // What is asked of the parent is asked there only.
        let verbs = verbs[level].iter().filter(|verb| !kind.on_parent.contains(verb));
        let verbs: Vec<&String> = verbs.collect();
        let verb = verbs[skewed(rng, verbs.len())];
        let (of, on) = match item {
            Some(item) => {
                let folder = TEAMS[rng.random_range(0..TEAMS.len())];
                let name =
                    format!("{}/{folder}/run-{:04}.fits", scope.path, rng.random_range(0..9999));
                (&model.kinds[item].name, name)
            }
            None => (&kind.name, scope.path.clone()),
        };
        Asked {
            who: format!("user:{}", model.users[user].name),
            does: format!("{of}.{verb}"),
            on,
            take_up,
            is_meant,
            mfa: true,
            ip: "10.20.3.4",
            second: 0,
        }
    }
}

impl Iterator for Requests<'_> {
    type Item = Asked;

    fn next(&mut self) -> Option<Asked> {
        Some(self.ask())
    }
}
