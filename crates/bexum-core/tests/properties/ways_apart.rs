//! Estates in which what a step does at least, or beside another, is easily told wrong, and which
//! random ones seldom are.

use bexum_core::declaration::{
    Attachment, Declarations, Element, Group, Policy, Scope, Statement, User, WindowWritten,
};
use bexum_core::each::in_turn;
use bexum_core::origin::Origin;
use bexum_core::policy::Effect;
use bexum_core::scope::ScopeType;
use bexum_core::ways::{Candidate, Tried, Way, WaySearch};
use bexum_core::{Request, Time};

use crate::estates::{self, list, named, w};
use crate::ways::{Made, small_as_counted};

/// What a policy says: effect, actions, patterns (none: everywhere).
pub(crate) type Said<'s> = (Effect, &'s [&'s str], &'s [&'s str]);

/// An estate of one store and one cluster with a sealed namespace and one in that; `user:u` is in
/// `group:g`, with so many others.
pub(crate) fn estate(
    others: usize,
    policies: &[(&str, &[Said<'_>])],
    tied: &[(&str, &str)],
) -> Declarations {
    let scopes = [
        ("v", ScopeType::Account, None, false),
        ("v/s", ScopeType::Subscription, None, false),
        ("v/s/store", ScopeType::Resource, Some("store"), false),
        ("v/s/c", ScopeType::Resource, Some("cluster"), false),
        ("v/s/c/n", ScopeType::Namespace, None, true),
        ("v/s/c/n/m", ScopeType::Namespace, None, false),
    ];
    let scopes = scopes.into_iter().map(|(path, scope_type, kind, sealed)| {
        let kind = kind.map(w);
        named(path, Scope { scope_type, kind, sealed, attributes: Vec::new() })
    });
    let names: Vec<String> =
        std::iter::once("u".to_owned()).chain((0..others).map(|i| format!("u{i}"))).collect();
    let member = |name: &String| Element {
        who: w(&format!("user:{name}")),
        window: WindowWritten::default(),
    };
    let members = Some(names.iter().map(member).collect());
    let statement = |(effect, actions, on): &Said<'_>| Statement {
        effect: *effect,
        name: None,
        about: None,
        actions: list(actions),
        on: (!on.is_empty()).then(|| list(on)),
        when: None,
        origin: Origin::default(),
    };
    let policies = policies.iter().map(|(name, said)| {
        let statements = said.iter().map(statement).collect();
        named(name, Policy { statements, ..Policy::default() })
    });
    let attachments = tied.iter().map(|(policy, at)| Attachment {
        policy: list(&[policy]),
        to: list(&["user:u"]),
        at: list(&[at]),
        window: WindowWritten::default(),
        about: None,
        origin: Origin::default(),
    });
    let mut declared = Declarations {
        name: "apart".to_owned(),
        kinds: estates::catalogue(),
        scopes: scopes.collect(),
        users: names.iter().map(|name| named(name, User::default())).collect(),
        groups: vec![named("g", Group { members, ..Group::default() })],
        policies: policies.collect(),
        attachments: attachments.collect(),
        ..Declarations::default()
    };
    estates::number(&mut declared);
    declared
}

/// What came of the candidate of this text, whatever it does besides. Holds every candidate against
/// an estate that was made with it, and against bounds.
fn way(made: &Made, search: &WaySearch<'_>, candidates: &[Candidate], text: &str) -> Way {
    small_as_counted(search, candidates).expect("each is told as it is counted");
    let all: Vec<Way> = candidates.iter().filter_map(|one| search.tried(one)).collect();
    for way in &all {
        let after = made.after(&way.step.edits).expect("an estate");
        let turned = made.turned(&after, &request("v/s/store", "store.list"));
        assert_eq!((way.effect.opens, way.effect.closes), turned, "{}", way.step.text());
    }
    let texts: Vec<String> = all.iter().map(|way| way.step.text()).collect();
    let found = all.into_iter().find(|way| way.step.text() == text);
    found.unwrap_or_else(|| panic!("no `{text}` in {texts:#?}"))
}

fn request(on: &'static str, does: &'static str) -> Request<'static> {
    Request::new("user:u", does, on, Time(0))
}

/// Holds that no single step lets `user:u` list the store, and that detaching `stop` there and attaching
/// this policy opens that alone.
fn opens_one_with(made: &Made, policy: &str) {
    let request = request("v/s/store", "store.list");
    let search = WaySearch::new(&made.declared, &made.engine, &request).expect("a request");
    assert!(search.singles().iter().all(|one| search.tried(one).is_none()));
    let (pairs, _) = search.pairs(usize::MAX, 10);
    let text = format!(
        "detach policy:stop --from user:u --at v/s/store\n\
         attach policy:{policy} --to user:u --at v/s/store"
    );
    let pair = way(made, &search, &pairs, &text);
    assert_eq!((pair.effect.opens, pair.effect.closes), (1, 0));
}

#[test]
fn a_seal_below_is_none_of_what_is_opened_at_least() {
    let reads: Said<'_> = (Effect::Allow, &["cluster.run", "namespace.view", "job.run"], &[]);
    let made = Made::new(estate(0, &[("reads", &[reads])], &[]));
    let request = request("v/s/c", "cluster.run");
    let search = WaySearch::new(&made.declared, &made.engine, &request).expect("a request");
    let mut singles = search.singles();
    search.gauge(&mut singles);
    let attached = way(&made, &search, &singles, "attach policy:reads --to user:u --at v/s/c");
    assert_eq!(attached.effect.opens, 1);
}

#[test]
fn what_the_second_step_takes_back_is_not_opened_by_the_pair() {
    let stop: Said<'_> = (Effect::Deny, &["store.*"], &[]);
    let writer: Said<'_> = (Effect::Allow, &["store.tag"], &[]);
    let mixed: [Said<'_>; 2] =
        [(Effect::Allow, &["store.list"], &[]), (Effect::Deny, &["store.tag"], &[])];
    let policies: [(&str, &[Said<'_>]); 3] =
        [("stop", &[stop]), ("writer", &[writer]), ("mixed", &mixed)];
    let tied = [("stop", "v/s/store"), ("writer", "v/s/store")];
    opens_one_with(&Made::new(estate(0, &policies, &tied)), "mixed");
}

#[test]
fn what_the_first_step_closes_and_the_second_opens_is_not_opened_by_the_pair() {
    let stop: [Said<'_>; 2] =
        [(Effect::Deny, &["store.list"], &[]), (Effect::Allow, &["store.tag"], &[])];
    let all: Said<'_> = (Effect::Allow, &["store.list", "store.tag"], &[]);
    let policies: [(&str, &[Said<'_>]); 2] = [("stop", &stop), ("all", &[all])];
    opens_one_with(&Made::new(estate(0, &policies, &[("stop", "v/s/store")])), "all");
}

#[test]
fn attaching_to_many_is_told_as_it_is_counted() {
    let reads: [Said<'_>; 2] = [
        (Effect::Allow, &["store.list", "rec.read"], &[]),
        (Effect::Allow, &["rec.erase"], &["**", "!**/locked"]),
    ];
    let made = Made::new(estate(99, &[("reads", &reads)], &[]));
    let request = request("v/s/store", "store.list");
    let search = WaySearch::new(&made.declared, &made.engine, &request).expect("a request");
    let mut singles = search.singles();
    search.gauge(&mut singles);
    let to_the_group = "attach policy:reads --to group:g --at v/s/store";
    let counted = way(&made, &search, &singles, to_the_group).effect.size();
    // Of each of a hundred: the store, what lies in it, and what is called so there.
    assert_eq!(counted, 100 * (1 + 2 + 1));
    let gauged = |singles: &[Candidate]| {
        let of = |one: &&Candidate| {
            matches!(search.tried_within(one, &|_| 0), Some(Tried::Larger(way))
                if way.step.text() == to_the_group)
        };
        search.breadth(singles.iter().find(of).expect("a candidate")).0
    };
    assert!(gauged(&singles) <= counted);
    search.gauge_further(&mut singles, usize::MAX, &in_turn);
    small_as_counted(&search, &singles).expect("each is told as it is counted");
    assert_eq!(gauged(&singles), counted);
}
