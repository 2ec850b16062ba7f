//! What was found out of one session is kept for all of which the same is known: in each of these, two are
//! alike but for one thing, which tells them apart. That each gets what they would get by themselves is what
//! [`cells_of`](crate::impact::cells_of) holds.

use bexum_core::attribute::Value;
use bexum_core::declaration::{Ceiling, Declarations, Element, Group, Role, WindowWritten};
use bexum_core::impact::Cell;
use bexum_core::origin::{Origin, Spanned};
use bexum_core::policy::Effect;
use bexum_core::{Request, Time};

use crate::estates::{self, list, named, w};
use crate::impact::{cells_of, compare, engines};
use crate::impact_alike::attachment;
use crate::ways_apart::{Said, estate};

const ALLOWS: Said<'_> = (Effect::Allow, &["*"], &[]);
const DENIES: Said<'_> = (Effect::Deny, &["*"], &[]);

fn tier(declared: &mut Declarations, user: usize, tier: &str) {
    declared.users[user].body.attributes = vec![(w("tier"), Value::Text(tier.into()))];
}

fn users() -> Vec<Element> {
    let who = |name: &str| Element { who: w(name), window: WindowWritten::default() };
    ["user:u0", "user:u1"].map(who).into()
}

fn taken_by_users() -> Role {
    Role { taken_by: users(), ..Role::default() }
}

/// What a change to an estate comes to.
fn cells(mut before: Declarations, change: impl FnOnce(&mut Declarations)) -> Vec<Cell> {
    estates::number(&mut before);
    let mut after = before.clone();
    change(&mut after);
    let engines = engines(&before, &after);
    let [before, after] = &engines;
    cells_of(&compare(before, after, &Request::new("", "", "", Time(0))))
}

/// Which of `u0` and `u1` have a cell of which this is so.
fn who(cells: &[Cell], is: impl Fn(&Cell) -> bool) -> [bool; 2] {
    ["user:u0", "user:u1"].map(|who| cells.iter().any(|cell| cell.who == who && is(cell)))
}

/// Both take up a role, to which all is allowed; of themselves one is denied all.
#[test]
fn what_is_denied_beside_a_role() {
    let mut before = estate(2, &[("allows", &[ALLOWS]), ("denies", &[DENIES])], &[]);
    before.roles.push(named("r", taken_by_users()));
    before.attachments.push(attachment("denies", "user:u1", "v"));
    let cells = cells(before, |after| after.attachments.push(attachment("allows", "role:r", "v")));
    assert_eq!(who(&cells, |cell| cell.is_gained), [true, false]);
}

/// Both come into the group, one of them when nothing is allowed to it any more.
#[test]
fn when_somebody_is_in_a_group() {
    let mut before = estate(2, &[("some", &[ALLOWS]), ("more", &[ALLOWS])], &[]);
    for (policy, when) in before.policies.iter_mut().zip(["given.mfa", "given.site = 'mesa'"]) {
        policy.body.statements[0].when = Some(w(when));
    }
    let at = |time| Some(Spanned::new(Time(time), Origin::default()));
    let mut members = users();
    for (member, from) in members.iter_mut().zip([5, 7]) {
        member.window.from = at(from);
    }
    before.groups.push(named("later", Group { members: Some(members), ..Group::default() }));
    before.attachments.push(attachment("some", "everyone", "v"));
    let cells = cells(before, |after| {
        let mut more = attachment("more", "group:later", "v");
        more.window.until = at(6);
        after.attachments.push(more);
    });
    assert_eq!(who(&cells, |cell| cell.is_gained), [true, false]);
}

/// To both a policy is attached at one place; one of them has another attribute then, which something
/// elsewhere asks about.
#[test]
fn where_somebody_is_concerned() {
    let mut before = estate(2, &[("allows", &[ALLOWS]), ("asks", &[ALLOWS])], &[]);
    before.policies[1].body.statements[0].when = Some(w("who.tier = 'raw'"));
    before.attachments.push(attachment("asks", "everyone", "v/s/c"));
    tier(&mut before, 1, "raw");
    tier(&mut before, 2, "raw");
    let cells = cells(before, |after| {
        after.attachments.push(attachment("allows", "everyone", "v/s/store"));
        tier(after, 2, "cooked");
    });
    assert_eq!(who(&cells, |cell| cell.is_gained && cell.place == "v/s/store"), [true, true]);
    assert_eq!(who(&cells, |cell| cell.is_lost && cell.place == "v/s/c"), [false, true]);
}

/// Two policies are attached to both, at neighbouring places; about the actions at the second something asks
/// about who asks.
#[test]
fn what_is_asked_about_some_actions() {
    let lists: Said<'_> = (Effect::Allow, &["store.list"], &[]);
    let runs: Said<'_> = (Effect::Allow, &["job.run"], &[]);
    let stops: Said<'_> = (Effect::Deny, &["store.list"], &[]);
    let mut before = estate(2, &[("lists", &[lists]), ("runs", &[runs]), ("stops", &[stops])], &[]);
    before.scopes.iter_mut().for_each(|scope| scope.body.sealed = false);
    before.policies[2].body.statements[0].when = Some(w("who.tier = 'raw'"));
    before.attachments.push(attachment("stops", "everyone", "v"));
    tier(&mut before, 2, "raw");
    let cells = cells(before, |after| {
        after.attachments.push(attachment("lists", "everyone", "v/s/store"));
        after.attachments.push(attachment("runs", "everyone", "v/s/c"));
    });
    assert_eq!(who(&cells, |cell| cell.is_gained && cell.action == "job.run"), [true, true]);
    assert_eq!(who(&cells, |cell| cell.is_gained && cell.action == "store.list"), [true, false]);
}

/// A ceiling over both lets those through who have an attribute.
#[test]
fn what_a_ceiling_asks() {
    let mut before = estate(2, &[("allows", &[ALLOWS]), ("bounds", &[ALLOWS])], &[]);
    before.policies[1].body.statements[0].when = Some(w("who.tier = 'raw'"));
    before.ceilings.push(Ceiling {
        policy: list(&["bounds"]),
        over: Some(list(&["v"])),
        bound: Some(list(&["everyone"])),
        window: WindowWritten::default(),
        about: None,
        origin: Origin::default(),
    });
    tier(&mut before, 2, "raw");
    let cells =
        cells(before, |after| after.attachments.push(attachment("allows", "everyone", "v")));
    assert_eq!(who(&cells, |cell| cell.is_gained), [false, true]);
}

/// Both take up the same two roles; what is allowed to the first anew one of them could do before in the
/// second, as that asks about who asks.
#[test]
fn what_another_session_could_do() {
    let mut before = estate(2, &[("allows", &[ALLOWS]), ("asks", &[ALLOWS])], &[]);
    before.policies[1].body.statements[0].when = Some(w("who.tier = 'raw'"));
    before.roles.push(named("first", taken_by_users()));
    before.roles.push(named("second", taken_by_users()));
    before.attachments.push(attachment("asks", "role:second", "v"));
    tier(&mut before, 2, "raw");
    let cells =
        cells(before, |after| after.attachments.push(attachment("allows", "role:first", "v")));
    let first = |cell: &Cell| cell.role == "first" && cell.is_gained;
    assert_eq!(who(&cells, first), [true, true]);
    let held = |cell: &Cell| first(cell) && cell.held_as.as_deref() == Some("second");
    assert_eq!(who(&cells, held), [false, true]);
}
