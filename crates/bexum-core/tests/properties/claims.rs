//! What applications learn of people, against a plain reading of the declarations.

use bexum_core::application::{Beyond, Entry, Hidden, Refusal, Signing, Told};
use bexum_core::attribute::Value;
use bexum_core::declaration::{
    Application, Declarations, Element, Group, Named, User, WindowWritten,
};
use bexum_core::engine::Engine;
use bexum_core::origin::Spanned;
use bexum_core::{Estate, Time};
use proptest::collection::vec;
use proptest::option::of;
use proptest::prelude::*;

use crate::estates::w;

const USERS: [&str; 4] = ["u0", "u1", "u2", "u3"];
const GROUPS: [&str; 6] = ["crew", "crew-old", "dishes", "g.1", "g_2", "night"];
const PATTERNS: [&str; 7] = ["*", "crew*", "!crew-old", "g*", "!*_*", "night", "!n*t"];
const AUDIENCE: [&str; 8] = [
    "user:u0",
    "user:u1",
    "group:crew",
    "group:crew-old",
    "group:dishes",
    "group:g.1",
    "group:night",
    "everyone",
];
/// The moments at which windows turn, and at which tokens are made.
const MOMENTS: [i64; 4] = [0, 1_000_000, 2_000_000, 3_000_000];

fn named<T>(name: &str, body: T) -> Named<T> {
    Named { name: w(name), about: None, body }
}

fn window() -> impl Strategy<Value = WindowWritten> {
    let edge = || of(0..MOMENTS.len());
    (edge(), edge()).prop_map(|(from, until)| {
        let at = |i: Option<usize>| i.map(|i| Spanned::new(Time(MOMENTS[i]), w("").origin));
        match (from, until) {
            (Some(from), Some(until)) if from >= until => WindowWritten::default(),
            (from, until) => WindowWritten { from: at(from), until: at(until) },
        }
    })
}

/// A group may hold those after it, so that there is no loop.
fn group(i: usize) -> impl Strategy<Value = Group> {
    let user = (0..USERS.len()).prop_map(|user| format!("user:{}", USERS[user]));
    let inner = (i + 1..GROUPS.len().max(i + 2)).prop_map(|inner| {
        GROUPS.get(inner).map_or("user:u0".to_owned(), |name| format!("group:{name}"))
    });
    let element = (prop_oneof![user, inner], window())
        .prop_map(|(who, window)| Element { who: w(&who), window });
    (vec(element, 0..4), of(Just("who.team = 'a'"))).prop_map(|(members, when)| Group {
        members: Some(members),
        members_when: when.map(w),
        ..Group::default()
    })
}

fn audience() -> impl Strategy<Value = Vec<String>> {
    vec((0..AUDIENCE.len()).prop_map(|i| AUDIENCE[i].to_owned()), 1..4)
}

fn listed(all: &[String]) -> bexum_core::declaration::List {
    let all: Vec<&str> = all.iter().map(String::as_str).collect();
    crate::estates::list(&all)
}

fn application() -> impl Strategy<Value = Application> {
    let names = vec((0..PATTERNS.len()).prop_map(|i| PATTERNS[i].to_owned()), 1..4)
        .prop_filter("a plain one", |all| all.iter().any(|one| !one.starts_with('!')));
    let told = prop_oneof![Just(Told::All), Just(Told::All), Just(Told::Listed), Just(Told::None)];
    let beyond = prop_oneof![Just(Beyond::Flag), Just(Beyond::Cut), Just(Beyond::Refuse)];
    let flags = (any::<bool>(), any::<bool>());
    (of(audience()), told, flags, of(names), of(0..4_i64), beyond, vec(audience(), 0..3)).prop_map(
        |(open_to, told, (through, as_id), names, at_most, beyond, roles)| Application {
            open_to: open_to.as_deref().map(listed),
            claim: None,
            told,
            through,
            names: names.as_deref().map(listed),
            as_id,
            at_most,
            beyond,
            roles: roles
                .iter()
                .enumerate()
                .map(|(i, who)| (w(&format!("r{i}")), listed(who)))
                .collect(),
            lasts: None,
        },
    )
}

fn declared() -> impl Strategy<Value = Declarations> {
    let user = (any::<bool>(), any::<bool>()).prop_map(|(in_team, enabled)| User {
        enabled,
        attributes: vec![(w("team"), Value::Text(if in_team { "a" } else { "b" }.into()))],
        ..User::default()
    });
    let groups: Vec<_> = (0..GROUPS.len()).map(group).collect();
    (vec(user, USERS.len()), groups, application()).prop_map(|(users, groups, application)| {
        Declarations {
            name: "x".to_owned(),
            users: USERS.iter().zip(users).map(|(name, user)| named(name, user)).collect(),
            groups: GROUPS.iter().zip(groups).map(|(name, group)| named(name, group)).collect(),
            applications: vec![named("portal", application)],
            ..Declarations::default()
        }
    })
}

/// The declarations, read as they stand.
struct Plain<'d> {
    declared: &'d Declarations,
    also: &'d [String],
    at: i64,
}

impl Plain<'_> {
    fn app(&self) -> &Application {
        &self.declared.applications[0].body
    }

    fn group(&self, name: &str) -> &Group {
        &self.declared.groups.iter().find(|one| one.name.value == name).expect("a group").body
    }

    fn user(&self, name: &str) -> &User {
        &self.declared.users.iter().find(|one| one.name.value == name).expect("a user").body
    }

    fn is_open(&self, window: &WindowWritten) -> bool {
        window.from.as_ref().is_none_or(|from| from.value.0 <= self.at)
            && window.until.as_ref().is_none_or(|until| self.at < until.value.0)
    }

    fn direct(&self, user: &str, name: &str) -> bool {
        let group = self.group(name);
        let id = format!("user:{user}");
        let mut listed = group.members.iter().flatten();
        let is_a = self.user(user).attributes[0].1 == Value::Text("a".into());
        listed.any(|one| one.who.value == id && self.is_open(&one.window))
            || (group.members_when.is_some() && is_a)
            || self.also.iter().any(|also| also == name)
    }

    /// Whether a group is another or is in it, and whether windows matter.
    fn leads(&self, from: &str, to: &str, at_any_time: bool) -> bool {
        let counts = |one: &&Element| at_any_time || self.is_open(&one.window);
        from == to
            || self.group(to).members.iter().flatten().filter(counts).any(|one| {
                one.who
                    .value
                    .strip_prefix("group:")
                    .is_some_and(|inner| self.leads(from, inner, at_any_time))
            })
    }

    fn is_in(&self, user: &str, to: &str, at_any_time: bool) -> bool {
        let id = format!("user:{user}");
        GROUPS.iter().any(|from| {
            let listed = self.group(from).members.iter().flatten().any(|one| one.who.value == id);
            (self.direct(user, from) || (at_any_time && listed))
                && self.leads(from, to, at_any_time)
        })
    }

    fn counts(&self, user: &str, name: &str) -> bool {
        self.direct(user, name) || (self.app().through && self.is_in(user, name, false))
    }

    fn is_among(&self, list: Option<&bexum_core::declaration::List>, user: &str) -> bool {
        let Some(list) = list else { return true };
        list.value.iter().any(|who| match who.value.split_once(':') {
            None => who.value == "everyone",
            Some(("user", name)) => name == user,
            Some((_, name)) => self.counts(user, name),
        })
    }

    fn takes(&self, name: &str) -> bool {
        let Some(list) = &self.app().names else { return true };
        let any = |out: bool| {
            list.value.iter().any(|one| match one.value.strip_prefix('!') {
                Some(pattern) => out && glob(pattern.as_bytes(), name.as_bytes()),
                None => !out && glob(one.value.as_bytes(), name.as_bytes()),
            })
        };
        any(false) && !any(true)
    }

    /// Why a group is not told, leaving the limit aside, in a word; nothing where it is.
    fn hidden(&self, user: &str, name: &str) -> Option<&'static str> {
        if !self.is_in(user, name, true) {
            return Some("not in");
        }
        if !self.is_in(user, name, false) {
            return Some("shut");
        }
        if !self.counts(user, name) {
            return Some("through");
        }
        let listed = self.app().open_to.iter().flat_map(|list| &list.value);
        match self.app().told {
            Told::None => Some("no groups"),
            // One word for everyone makes the list open to all, and lists no group.
            Told::Listed
                if listed.clone().any(|one| one.value == "everyone")
                    || !listed.clone().any(|one| one.value == format!("group:{name}")) =>
            {
                Some("not listed")
            }
            _ => (!self.takes(name)).then_some("name"),
        }
    }
}

/// Whether a text is matched by a pattern, character by character.
fn glob(pattern: &[u8], text: &[u8]) -> bool {
    match pattern.split_first() {
        None => text.is_empty(),
        Some((b'*', rest)) => (0..=text.len()).any(|i| glob(rest, &text[i..])),
        Some((first, rest)) => text.first() == Some(first) && glob(rest, &text[1..]),
    }
}

fn word(hidden: Hidden) -> &'static str {
    match hidden {
        Hidden::NotIn => "not in",
        Hidden::Shut(_) => "shut",
        Hidden::OnlyThrough(_) => "through",
        Hidden::NoGroups => "no groups",
        Hidden::NotListed => "not listed",
        Hidden::Name => "name",
        Hidden::Cut => "cut",
        Hidden::LeftOut => "left out",
        Hidden::Refused => "refused",
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, ..ProptestConfig::default() })]

    /// Who may sign in, what a token says, and every reason for a group that is not seen.
    #[test]
    fn claims_are_what_a_plain_reading_says(
        declared in declared(),
        at in 0..MOMENTS.len(),
        also in of(0..GROUPS.len()),
    ) {
        let at = MOMENTS[at];
        let estate = Estate::build(&declared);
        let Ok(estate) = estate else { return Err(TestCaseError::fail(format!("{:?}", estate.err()))) };
        let engine = Engine::new(estate);
        let estate = engine.estate();
        let also: Vec<String> = also.iter().map(|i| GROUPS[*i].to_owned()).collect();
        let ids = also.iter().map(|name| estate.find_group(name).expect("a group")).collect();
        let signing = Signing::new(&engine, &estate.applications[0], ids, Time(at));
        let plain = Plain { declared: &declared, also: &also, at };
        let app = plain.app();
        let name_of = |group| estate.group(group).identity.name.to_string();
        for user in estate.each_user() {
            let who = estate.user(user).identity.name.to_string();
            let mut told: Vec<&str> =
                GROUPS.iter().copied().filter(|name| plain.hidden(&who, name).is_none()).collect();
            told.sort_unstable();
            let at_most = app.at_most.unwrap_or(200) as usize;
            let is_over = told.len() > at_most;
            let may = match () {
                () if !plain.user(&who).enabled => Err("disabled"),
                () if !plain.is_among(app.open_to.as_ref(), &who) => Err("not open"),
                () if is_over && app.beyond == Beyond::Refuse => Err("too many"),
                () => Ok(()),
            };
            let entry = signing.may_sign_in(user);
            let got = match &entry {
                Ok(_) => Ok(()),
                Err(Refusal::Disabled) => Err("disabled"),
                Err(Refusal::NotOpen(_)) => Err("not open"),
                Err(Refusal::TooMany(_)) => Err("too many"),
            };
            prop_assert_eq!(got, may, "{}", who);
            if let Ok(Entry::Group { group, through }) = entry {
                let name = name_of(group);
                prop_assert!(plain.counts(&who, &name));
                prop_assert_eq!(through.is_none(), plain.direct(&who, &name));
            }
            for name in GROUPS {
                let limit = match app.beyond {
                    _ if !is_over => None,
                    Beyond::Flag => Some("left out"),
                    Beyond::Refuse => Some("refused"),
                    Beyond::Cut => (!told[..at_most].contains(&name)).then_some("cut"),
                };
                let expected = plain.hidden(&who, name).or(limit);
                let group = estate.find_group(name).expect("a group");
                let sight = signing.sight_of(user, group);
                prop_assert_eq!(sight.hidden.map(word), expected, "{} {}", who, name);
                match sight.hidden {
                    Some(Hidden::OnlyThrough(first)) => {
                        let first = name_of(first);
                        prop_assert!(plain.direct(&who, &first) && plain.leads(&first, name, false));
                    }
                    Some(Hidden::Shut(shut)) => {
                        let (from, of) = (estate.principal_id(shut.who), name_of(shut.of));
                        let place = plain.group(&of).members.iter().flatten();
                        prop_assert!(place.clone().any(|one| one.who.value == from && !plain.is_open(&one.window)));
                        prop_assert!(plain.leads(&of, name, true));
                    }
                    _ => {}
                }
            }
            let Ok(claims) = signing.claims(user) else {
                prop_assert!(may.is_err());
                continue;
            };
            prop_assert!(may.is_ok());
            let shown = |name: &&str| if app.as_id { format!("group:{name}") } else { (*name).to_owned() };
            let all: Vec<String> = told.iter().map(shown).collect();
            let expected = match (app.told, is_over, app.beyond) {
                (Told::None, ..) => None,
                (_, true, Beyond::Flag) => None,
                (_, true, _) => Some(all[..at_most].to_vec()),
                (_, false, _) => Some(all),
            };
            prop_assert_eq!(claims.groups, expected);
            prop_assert_eq!(claims.is_left_out, is_over && app.beyond == Beyond::Flag);
            let roles: Vec<String> = app
                .roles
                .iter()
                .filter(|(_, list)| plain.is_among(Some(list), &who))
                .map(|(name, _)| name.value.clone())
                .collect();
            prop_assert_eq!(claims.roles, (!app.roles.is_empty()).then_some(roles));
            prop_assert_eq!((claims.iat, claims.exp), (at / 1_000_000, at / 1_000_000 + 3_600));
        }
    }
}
