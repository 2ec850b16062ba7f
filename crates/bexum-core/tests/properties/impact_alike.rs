//! Of people and places that are alike one is compared for all, and of those that differ in a little
//! none for another: estates in which most have twins, some of which differ in something.

use bexum_core::attribute::Value;
use bexum_core::declaration::{
    Attachment, Declarations, Element, Group, Named, Scope, WindowWritten,
};
use bexum_core::impact::{Cell, Outcome};
use bexum_core::origin::{Origin, Spanned};
use bexum_core::policy::Effect;
use bexum_core::scope::ScopeType;
use bexum_core::{Request, Time};
use proptest::collection::vec;
use proptest::prelude::*;

use crate::estates::{self, list, named, w};
use crate::impact::{cells_of, circumstances, compare, edited, edits, engines};
use crate::ways_apart::{Said, estate};

/// How many twins somebody has, and a place.
const TWINS: usize = 3;

/// What a twin of somebody differs in: nothing, mostly.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Odd {
    Nothing,
    Attributes,
    /// It is not in the first list that names its like.
    LeftOut,
    NotEnabled,
    /// A window of the other's does not count for it.
    NoWindow,
}

fn odds() -> impl Strategy<Value = Vec<Odd>> {
    let one = prop_oneof![
        4 => Just(Odd::Nothing),
        1 => Just(Odd::Attributes),
        1 => Just(Odd::LeftOut),
        1 => Just(Odd::NotEnabled),
        1 => Just(Odd::NoWindow),
    ];
    vec(one, 16)
}

fn odd(odds: &[Odd], user: usize, twin: usize) -> Odd {
    odds[(user * TWINS + twin) % odds.len()]
}

fn twin_of(name: &str, twin: usize) -> String {
    format!("{name}-twin{twin}")
}

/// The same estate, in which every user has twins in the same lists, and every resource has some next to
/// it to which the same is attached.
fn with_twins(declared: &Declarations, odds: &[Odd]) -> Declarations {
    let mut more = declared.clone();
    for (i, user) in declared.users.iter().enumerate() {
        for twin in 0..TWINS {
            let mut body = user.body.clone();
            body.place = None;
            body.imported = Default::default();
            match odd(odds, i, twin) {
                Odd::Attributes => body.attributes.truncate(1),
                Odd::NotEnabled => body.enabled = !body.enabled,
                Odd::Nothing | Odd::LeftOut | Odd::NoWindow => {}
            }
            more.users.push(named(&twin_of(&user.name.value, twin), body));
        }
    }
    let names: Vec<&str> = declared.users.iter().map(|user| &*user.name.value).collect();
    let user = |who: &str| {
        let name = who.strip_prefix("user:")?;
        names.iter().position(|known| *known == name)
    };
    let mut lists = 0;
    let mut twins_in = |list: &mut Vec<Element>| {
        lists += 1;
        let twins = list.clone().into_iter().flat_map(|element| {
            let found = user(&element.who.value);
            let twins = found.into_iter().flat_map(|i| (0..TWINS).map(move |twin| (i, twin)));
            twins.filter_map(move |(i, twin)| {
                let mut element = element.clone();
                element.who = w(&twin_of(&element.who.value, twin));
                match odd(odds, i, twin) {
                    Odd::LeftOut if lists % 2 == 0 => return None,
                    Odd::NoWindow => element.window = Default::default(),
                    _ => {}
                }
                Some(element)
            })
        });
        let twins: Vec<Element> = twins.collect();
        list.extend(twins);
    };
    more.groups.iter_mut().filter_map(|one| one.body.members.as_mut()).for_each(&mut twins_in);
    for role in &mut more.roles {
        twins_in(&mut role.body.held_by);
        twins_in(&mut role.body.taken_by);
    }
    for one in &mut more.attachments {
        let twins: Vec<_> = one.to.value.iter().filter(|to| user(&to.value).is_some()).collect();
        let twins = twins.iter().flat_map(|to| (0..TWINS).map(|twin| w(&twin_of(&to.value, twin))));
        let twins: Vec<_> = twins.collect();
        one.to.value.extend(twins);
    }
    let resources: Vec<&Named<_>> = declared
        .scopes
        .iter()
        .filter(|scope| scope.body.scope_type == ScopeType::Resource)
        .collect();
    for (i, scope) in resources.iter().enumerate() {
        let Some((above, _)) = scope.name.value.rsplit_once('/') else { continue };
        for twin in 0..TWINS {
            let path = format!("{above}/plain{i}-{twin}");
            let mut body = scope.body.clone();
            if odd(odds, i, twin) == Odd::Attributes {
                body.attributes.truncate(1);
            }
            more.scopes.push(named(&path, body));
            for one in &declared.attachments {
                if odd(odds, i, twin) != Odd::LeftOut
                    && one.at.value.iter().any(|at| at.value == scope.name.value)
                {
                    let mut one = one.clone();
                    one.at.value = vec![w(&path)];
                    more.attachments.push(one);
                }
            }
        }
    }
    more
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]

    /// What is told of everybody together is what is told of each by themselves; that is what
    /// [`cells_of`] holds.
    #[test]
    fn nobody_is_taken_for_another(
        first in prop_oneof![estates::estate(), estates::estate_with_stores()],
        second in estates::estate(),
        edits in edits(),
        odds in odds(),
        request in estates::request(),
    ) {
        let after = edited(&first, &second, &edits);
        let engines = engines(&with_twins(&first, &odds), &with_twins(&after, &odds));
        let [before, after] = &engines;
        let cells: Vec<Cell> = cells_of(&compare(before, after, &circumstances(&request)));
        prop_assert!(cells.is_sorted());
    }
}

/// A change of an estate in which people and places differ in one thing: `user:u`, `user:u0` and
/// `user:u1` are in one group, and a policy that allows all is attached to everyone at the account. There
/// is one that denies by these patterns, where its condition holds.
struct Apart(Declarations);

impl Apart {
    fn denying(on: &[&str], when: Option<&str>) -> Self {
        let denies: Said<'_> = (Effect::Deny, &["*"], on);
        let allows: Said<'_> = (Effect::Allow, &["*"], &[]);
        let mut declared = estate(2, &[("denies", &[denies]), ("allows", &[allows])], &[]);
        declared.policies[0].body.statements[0].when = when.map(w);
        Self(declared)
    }

    fn tie(mut self, to: &str, at: &str) -> Self {
        self.0.attachments.push(attachment("denies", to, at));
        self
    }

    /// Another scope, with a tier.
    fn place(mut self, path: &str, scope_type: ScopeType, kind: Option<&str>, tier: &str) -> Self {
        let attributes = vec![(w("tier"), Value::Text(tier.into()))];
        let kind = kind.map(w);
        self.0.scopes.push(named(path, Scope { scope_type, kind, sealed: false, attributes }));
        self
    }

    /// An attribute for one of the users.
    fn tier(mut self, user: usize, tier: &str) -> Self {
        self.0.users[user].body.attributes = vec![(w("tier"), Value::Text(tier.into()))];
        self
    }

    /// Whom the change lets run jobs in the inner namespace and list stores, as `u v/s/c/n/m/**`.
    fn gain(self) -> Vec<String> {
        self.gain_where(&Request::new("", "", "", Time(0)))
    }

    /// The same in these circumstances.
    fn gain_where(mut self, circumstances: &Request<'_>) -> Vec<String> {
        estates::number(&mut self.0);
        let mut after = self.0.clone();
        after.attachments.push(attachment("allows", "everyone", "v"));
        let engines = engines(&self.0, &after);
        let [before, after] = &engines;
        let cells = cells_of(&compare(before, after, circumstances));
        let allowed = cells.iter().filter(|cell| cell.is_gained && cell.after == Outcome::Allow);
        let gained = allowed.filter(|cell| cell.who.starts_with("user:"));
        let told = gained.filter(|cell| ["job.run", "store.list"].contains(&&*cell.action));
        let told = told.map(|cell| format!("{} {}", &cell.who["user:".len()..], cell.place));
        let mut told: Vec<String> = told.collect();
        told.sort_unstable();
        told
    }
}

pub(crate) fn attachment(policy: &str, to: &str, at: &str) -> Attachment {
    Attachment {
        policy: list(&[policy]),
        to: list(&[to]),
        at: list(&[at]),
        window: WindowWritten::default(),
        about: None,
        origin: Origin::default(),
    }
}

/// The cells of a change, where nothing is given.
fn cells_between(before: &Declarations, after: &Declarations) -> Vec<Cell> {
    let engines = engines(before, after);
    let [before, after] = &engines;
    cells_of(&compare(before, after, &Request::new("", "", "", Time(0))))
}

/// The namespace `v/s/c/n` is sealed, so that allows from above end there: it is opened for these.
fn unsealed(mut apart: Apart) -> Apart {
    apart.0.scopes.iter_mut().for_each(|scope| scope.body.sealed = false);
    apart
}

#[test]
fn it_counts_where_patterns_start() {
    let apart = unsealed(Apart::denying(&["m/**"], None));
    let told = apart.tie("user:u0", "v/s/c/n").tie("user:u1", "v/s/c/n/m").gain();
    // To the first it is all of the inner namespace, to the second an item in it.
    assert!(!told.contains(&"u0 v/s/c/n/m/**".to_owned()), "{told:?}");
    assert!(told.contains(&"u1 v/s/c/n/m/**".to_owned()), "{told:?}");
    assert!(!told.contains(&"u1 v/s/c/n/m/m/**".to_owned()), "{told:?}");
}

#[test]
fn it_counts_when_something_counts() {
    let mut apart = Apart::denying(&[], None).tie("user:u0", "v/s").tie("user:u1", "v/s");
    apart.0.attachments[1].window.until = Some(Spanned::new(Time(-1), Origin::default()));
    assert_eq!(apart.gain(), ["u v/s/store", "u1 v/s/store"]);
}

/// A pattern tells items apart while its policy counts.
#[test]
fn it_counts_when_a_pattern_counts() {
    let mut apart = unsealed(Apart::denying(&["**/x"], None));
    apart = apart.tie("user:u0", "v/s/c/n/m").tie("user:u1", "v/s/c/n/m");
    apart.0.attachments[1].window.until = Some(Spanned::new(Time(-1), Origin::default()));
    let told = apart.gain();
    for (who, is_told_apart) in [("u0", false), ("u1", false)] {
        assert!(told.contains(&format!("{who} v/s/c/n/m/**")), "{told:?}");
        assert_eq!(told.contains(&format!("{who} v/s/c/n/m/**/x")), is_told_apart, "{told:?}");
    }
}

/// Where two patterns meet, items are told apart if one of them is there in one of the estates alone.
#[test]
fn it_counts_in_which_estate_a_pattern_is() {
    let denies = |on| -> (Effect, &'static [&'static str], &'static [&'static str]) {
        // Patterns tell items apart, whatever they name.
        (Effect::Deny, &["store.list"], on)
    };
    let allows: Said<'_> = (Effect::Allow, &["*"], &[]);
    let (first, second) = (denies(&["a-*"]), denies(&["*-b"]));
    let policies: [(&str, &[Said<'_>]); 3] =
        [("first", &[first]), ("second", &[second]), ("allows", &[allows])];
    let mut before = unsealed(Apart(estate(2, &policies, &[]))).0;
    let place = "v/s/c/n/m";
    for who in ["user:u0", "user:u1"] {
        before.attachments.push(attachment("first", who, place));
    }
    before.attachments.push(attachment("second", "user:u0", place));
    estates::number(&mut before);
    let mut after = before.clone();
    after.attachments.push(attachment("second", "user:u1", place));
    after.attachments.push(attachment("allows", "everyone", place));
    let cells = cells_between(&before, &after);
    let meets = |who: &str| cells.iter().any(|one| one.who == who && one.place.ends_with("/a-b"));
    assert_eq!(["user:u0", "user:u1"].map(meets), [false, true], "{cells:?}");
}

/// What an item bears nobody said, so that it may be what somebody else bears.
#[test]
fn it_counts_what_items_may_bear() {
    let apart = unsealed(Apart::denying(&[], Some("target.tier = who.tier")));
    let told = apart.tie("everyone", "v/s").tier(1, "raw").gain();
    assert!(told.contains(&"u v/s/c/n/m/**".to_owned()), "{told:?}");
    assert!(!told.contains(&"u0 v/s/c/n/m/**".to_owned()), "{told:?}");
    assert!(told.contains(&"u1 v/s/c/n/m/**".to_owned()), "{told:?}");
}

/// What a place bears may differ in both estates, while all that is said is the same.
#[test]
fn it_counts_what_a_place_bears_in_each_estate() {
    let allows: Said<'_> = (Effect::Allow, &["*"], &[]);
    let mut before = estate(2, &[("allows", &[allows])], &[]);
    before.policies[0].body.statements[0].when = Some(w("given.tier = target.tier"));
    before.attachments.push(attachment("allows", "everyone", "v"));
    let mut apart = Apart(before).place("v/s/one", ScopeType::Resource, Some("store"), "raw").0;
    estates::number(&mut apart);
    let mut after = apart.clone();
    let one = after.scopes.iter_mut().find(|scope| scope.name.value == "v/s/one");
    one.expect("it is there").body.attributes[0].1 = Value::Text("cooked".into());
    let cells = cells_between(&apart, &after);
    let turned = |who: &str| {
        let mut there = cells.iter().filter(|one| one.who == who && one.place == "v/s/one");
        there.any(|one| one.is_gained && one.is_lost && one.is_decided)
    };
    assert!(["user:u", "user:u0", "user:u1"].into_iter().all(turned), "{cells:?}");
}

/// Of two who can do the same now and are in a group later to which more is allowed then, one is bound
/// from then on.
#[test]
fn it_counts_what_somebody_is_in_later() {
    let allows: Said<'_> = (Effect::Allow, &["*"], &[]);
    let denies: Said<'_> = (Effect::Deny, &["*"], &[]);
    let policies: [(&str, &[Said<'_>]); 3] =
        [("some", &[allows]), ("more", &[allows]), ("nothing", &[denies])];
    let mut before = estate(2, &policies, &[]);
    for (policy, when) in before.policies.iter_mut().zip(["given.mfa", "given.site = 'mesa'"]) {
        policy.body.statements[0].when = Some(w(when));
    }
    let from = Some(Spanned::new(Time(5), Origin::default()));
    let window = WindowWritten { from, until: None };
    let members = |names: &[&str]| {
        let each = names.iter().map(|who| Element { who: w(who), window: window.clone() });
        Group { members: Some(each.collect()), ..Group::default() }
    };
    before.groups.push(named("later", members(&["user:u0", "user:u1"])));
    before.groups.push(named("bound", members(&["user:u1"])));
    before.attachments.push(attachment("nothing", "group:bound", "v"));
    before.attachments.push(attachment("some", "everyone", "v"));
    estates::number(&mut before);
    let mut after = before.clone();
    after.attachments.push(attachment("more", "group:later", "v"));
    let cells = cells_between(&before, &after);
    let mut gaining: Vec<&str> =
        cells.iter().filter(|cell| cell.is_gained).map(|cell| &*cell.who).collect();
    gaining.dedup();
    assert_eq!(gaining, ["user:u0"]);
}

#[test]
fn it_counts_who_asks() {
    let apart = |when| Apart::denying(&[], Some(when)).tie("everyone", "v/s").tier(1, "raw");
    assert_eq!(apart("who.tier = 'raw'").gain(), ["u v/s/store", "u1 v/s/store"]);
    assert_eq!(apart("who.name = 'u1'").gain(), ["u v/s/store", "u0 v/s/store"]);
    let mut disabled = Apart::denying(&[], None);
    disabled.0.users[2].body.enabled = false;
    assert_eq!(disabled.gain(), ["u v/s/store", "u0 v/s/store"]);
}

/// What cannot stand in a path may be taken for any name by a brace, also for one that no pattern spells.
#[test]
fn it_counts_what_is_no_name() {
    let apart = |tier| {
        let apart = Apart::denying(&["{who.tier}"], None).tie("everyone", "v/s");
        let apart = apart.tier(1, tier).tier(2, "elsewhere");
        apart.place("v/s/one", ScopeType::Resource, Some("store"), "x").gain()
    };
    let told = apart("somewhere");
    assert!(told.contains(&"u0 v/s/one".to_owned()), "{told:?}");
    assert!(told.contains(&"u1 v/s/one".to_owned()), "{told:?}");
    let told = apart("a/b");
    assert!(!told.contains(&"u0 v/s/one".to_owned()), "{told:?}");
    assert!(told.contains(&"u1 v/s/one".to_owned()), "{told:?}");
}

#[test]
fn it_counts_what_a_policy_asks_that_bounds_the_session() {
    let mut request = Request::new("", "", "", Time(0));
    request.under.push("denies".into());
    let apart = |when| Apart::denying(&[], Some(when)).tier(1, "raw");
    let told = apart("who.tier = 'raw'").gain_where(&request);
    assert!(told.contains(&"u v/s/store".to_owned()), "{told:?}");
    assert!(!told.contains(&"u0 v/s/store".to_owned()), "{told:?}");
    let place =
        apart("target.tier = who.tier").place("v/s/one", ScopeType::Resource, Some("store"), "raw");
    let told = place.gain_where(&request);
    assert!(told.contains(&"u v/s/one".to_owned()), "{told:?}");
    assert!(!told.contains(&"u0 v/s/one".to_owned()), "{told:?}");
    assert!(told.contains(&"u0 v/s/store".to_owned()), "{told:?}");
}

#[test]
fn it_counts_what_a_place_bears() {
    let store =
        |apart: Apart, path, tier| apart.place(path, ScopeType::Resource, Some("store"), tier);
    let apart = |when| {
        let apart = Apart::denying(&[], Some(when)).tie("everyone", "v/s");
        store(store(apart, "v/s/one", "raw"), "v/s/other", "open")
    };
    let told = apart("target.tier = 'raw'").gain();
    assert!(!told.contains(&"u v/s/one".to_owned()), "{told:?}");
    assert!(told.contains(&"u v/s/other".to_owned()), "{told:?}");
    let with_who = apart("target.tier = who.tier").tier(1, "raw").tier(2, "open");
    let told = with_who.gain();
    for (who, denied) in [("u0", "v/s/one"), ("u1", "v/s/other")] {
        let at = ["v/s/one", "v/s/other", "v/s/store"];
        let left: Vec<&str> =
            at.into_iter().filter(|at| told.contains(&format!("{who} {at}"))).collect();
        assert!(!left.contains(&denied) && left.len() == 2, "{who}: {told:?}");
    }
}

/// An attribute of a place that is held against what is given: what is known of it counts.
#[test]
fn it_counts_what_a_place_bears_against_what_is_given() {
    let store =
        |apart: Apart, path, tier| apart.place(path, ScopeType::Resource, Some("store"), tier);
    let apart = Apart::denying(&[], Some("target.tier = given.tier")).tie("everyone", "v/s");
    let apart = store(store(apart, "v/s/one", "raw"), "v/s/other", "open");
    let mut request = Request::new("", "", "", Time(0));
    request.given.push(("tier".into(), Some(Value::Text("raw".into()))));
    let told = apart.gain_where(&request);
    assert!(!told.contains(&"u v/s/one".to_owned()), "{told:?}");
    assert!(told.contains(&"u v/s/other".to_owned()), "{told:?}");
}

/// A policy that has nothing to say of what changes still tells items apart, for whom its patterns start
/// so far above them.
#[test]
fn it_counts_how_many_names_a_pattern_has_passed() {
    // To the first it is tied so that the pattern ends in the inner namespace, to the second not.
    for (on, [first, second]) in
        [("*/x/**", ["v/s/c/n", "v/s/c"]), ("**/*/*/x/*", ["v/s/c", "v/s/c/n"])]
    {
        let denies: Said<'_> = (Effect::Deny, &["namespace.view"], &[on]);
        let allows: Said<'_> = (Effect::Allow, &["job.run"], &[]);
        let declared = estate(2, &[("denies", &[denies]), ("allows", &[allows])], &[]);
        let told = unsealed(Apart(declared)).tie("user:u0", first).tie("user:u1", second).gain();
        let rows = |who: &str| -> Vec<String> {
            let below =
                told.iter().filter_map(|told| told.strip_prefix(&format!("{who} v/s/c/n/m/")));
            below.map(str::to_owned).collect()
        };
        assert_ne!(rows("u0"), rows("u1"), "{on}: {told:?}");
        assert!(rows("u0").contains(&on[on.find('x').unwrap_or(0)..].to_owned()), "{on}: {told:?}");
    }
}

#[test]
fn it_counts_what_a_place_is_called() {
    let store = |apart: Apart, path| apart.place(path, ScopeType::Resource, Some("store"), "x");
    for (on, when) in
        [("one", None), ("o*e", None), ("{who.tier}", None), ("**", Some("target.name = 'one'"))]
    {
        let mut apart = Apart::denying(&[on], when).tie("everyone", "v/s");
        if on.contains("who") {
            apart = apart.tier(0, "one");
        }
        let told = store(store(apart, "v/s/one"), "v/s/two").gain();
        assert!(!told.contains(&"u v/s/one".to_owned()), "{on}: {told:?}");
        assert!(told.contains(&"u v/s/two".to_owned()), "{on}: {told:?}");
    }
}

#[test]
fn it_counts_where_a_seal_is() {
    let namespace = |apart: Apart, path| apart.place(path, ScopeType::Namespace, None, "x");
    let mut apart = namespace(unsealed(Apart::denying(&[], None)), "v/s/c/one");
    apart = namespace(apart, "v/s/c/two");
    apart.0.scopes.iter_mut().for_each(|scope| scope.body.sealed = scope.name.value == "v/s/c/two");
    let told = apart.gain();
    assert!(told.contains(&"u v/s/c/one/**".to_owned()), "{told:?}");
    assert!(!told.contains(&"u v/s/c/two/**".to_owned()), "{told:?}");
}

/// A condition that is false of the moment holds later: an allow with it opens something.
#[test]
fn what_turns_with_time_is_never_certain() {
    let allows: Said<'_> = (Effect::Allow, &["*"], &[]);
    let mut before = estate(0, &[("some", &[allows]), ("later", &[allows])], &[]);
    let whens = ["given.mfa", "given.time >= '1970-01-01T00:00:05Z'"];
    for (policy, when) in before.policies.iter_mut().zip(whens) {
        policy.body.statements[0].when = Some(w(when));
    }
    before.attachments.push(attachment("some", "user:u", "v/s"));
    estates::number(&mut before);
    let mut after = before.clone();
    after.attachments.push(attachment("later", "user:u", "v/s"));
    let cells = cells_between(&before, &after);
    let opened =
        cells.iter().find(|cell| (&*cell.place, &*cell.action) == ("v/s/store", "store.list"));
    assert!(opened.is_some_and(|cell| cell.is_gained && cell.is_decided), "{cells:?}");
}

/// What allows in any case, but for a while, is not all that allows: another allow that goes is missed
/// later.
#[test]
fn what_is_certain_for_a_while_is_not_certain() {
    let allows: Said<'_> = (Effect::Allow, &["*"], &[]);
    let denies: Said<'_> = (Effect::Deny, &["*"], &[]);
    let policies: [(&str, &[Said<'_>]); 3] =
        [("soon", &[allows]), ("also", &[allows]), ("stop", &[denies])];
    let mut before = estate(0, &policies, &[]);
    before.policies[1].body.statements[0].when = Some(w("given.site = 'mesa'"));
    before.policies[2].body.statements[0].when = Some(w("given.mfa"));
    for policy in ["soon", "stop", "also"] {
        before.attachments.push(attachment(policy, "user:u", "v/s"));
    }
    before.attachments[0].window.until = Some(Spanned::new(Time(5), Origin::default()));
    estates::number(&mut before);
    let mut after = before.clone();
    after.attachments.pop();
    let cells = cells_between(&before, &after);
    let closed =
        cells.iter().find(|cell| (&*cell.place, &*cell.action) == ("v/s/store", "store.list"));
    assert!(closed.is_some_and(|cell| cell.is_lost && cell.is_decided), "{cells:?}");
}
