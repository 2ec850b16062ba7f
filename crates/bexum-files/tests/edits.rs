//! Random edits on estates written in every style of TOML: the files say what the edit does and
//! nothing else, and the opposite edit undoes it.

use std::path::PathBuf;

use bexum_core::Time;
use bexum_core::attribute::Value;
use bexum_core::declaration::Declarations;
use bexum_core::edit::{Edit, ListOf, Target, canonical, join, take};
use bexum_core::policy::Effect;
use bexum_core::time::Window;
use bexum_files::edit::{Plan, PlanError, plan};
use bexum_files::{Loaded, Named, load_declared};
use proptest::prelude::*;
use proptest::sample::{select, subsequence};

const USERS: [&str; 4] = ["ada", "ben", "cy.d", "dov"];
const GROUPS: [&str; 3] = ["lens", "disc", "arc"];
const ROLES: [&str; 2] = ["keeper", "reader"];
const POLICIES: [&str; 3] = ["look", "keep", "all"];
const SCOPES: [&str; 4] = ["v", "v/s", "v/s/store", "v/s/night"];

/// How one thing is written.
#[derive(Clone, Copy, Debug)]
struct Style {
    /// A header, a key in the table above, or dotted keys; or a header, and one more for attributes,
    /// below it or at the end of the file.
    table: u8,
    /// On one line, on several, with comments, with a comma after the last.
    list: u8,
    quote: char,
    comment: bool,
}

fn style() -> impl Strategy<Value = Style> {
    (0..5u8, 0..4u8, select(vec!['\'', '"']), any::<bool>())
        .prop_map(|(table, list, quote, comment)| Style { table, list, quote, comment })
}

/// A thing: what it is, its name, and its keys with their values as written.
type Thing = (&'static str, &'static str, Vec<(String, String)>);

fn list(style: Style, items: &[String]) -> String {
    match (items, style.list) {
        ([one], 0) => one.clone(),
        (items, 0 | 1) => format!("[{}]", items.join(", ")),
        (items, 2) => format!("[ {} ]", items.join(" , ")),
        // Between braces a list stays on its line, as TOML 1.0 has it.
        (items, _) if style.table == 1 => format!("[{}]", items.join(",")),
        (items, _) => {
            let lines = items.iter().enumerate().map(|(i, item)| {
                let comma = if i + 1 < items.len() || style.comment { "," } else { "" };
                let comment = if i % 2 == 0 { " # keep" } else { "" };
                format!("  {item}{comma}{comment}\n")
            });
            format!("[\n{}]", lines.collect::<String>())
        }
    }
}

fn text(style: Style, text: &str) -> String {
    format!("{0}{text}{0}", style.quote)
}

fn key(name: &str) -> String {
    if name.contains(['.', '/']) { format!("\"{name}\"") } else { name.to_owned() }
}

/// A file that is written: what goes before all headers, what comes then, and what comes last.
#[derive(Default)]
struct Text {
    top: String,
    rest: String,
    end: String,
}

/// A thing in its style.
fn written(style: Style, (what, name, keys): &Thing, text: &mut Text) {
    let Text { top, rest, end } = text;
    if style.comment {
        rest.push_str(&format!("# keep: {what} {name}\n"));
    }
    let name = key(name);
    match style.table {
        1 => {
            let pairs: Vec<String> = keys.iter().map(|(k, v)| format!("{k} = {v}")).collect();
            top.push_str(&format!("{what}.{name} = {{ {} }} # keep\n", pairs.join(", ")));
        }
        2 if !keys.is_empty() => {
            for (k, v) in keys {
                top.push_str(&format!("{what}.{name}.{k} = {v}\n"));
            }
        }
        _ => {
            rest.push_str(&format!("[{what}.{name}]\n"));
            let (deep, keys): (Vec<_>, Vec<_>) =
                keys.iter().partition(|(k, _)| style.table >= 3 && k.starts_with("attributes."));
            for (k, v) in keys {
                rest.push_str(&format!("{k} = {v}\n"));
            }
            let deeper = match style.table {
                3 => &mut *rest,
                _ => end,
            };
            // Even with nothing in it.
            if !deep.is_empty() || style.table == 4 && *what == "user" {
                deeper.push_str(&format!("[ {what} . {name} . attributes ]\n"));
            }
            for (k, v) in deep {
                deeper.push_str(&format!("{} = {v}\n", k.trim_start_matches("attributes.")));
            }
            rest.push('\n');
        }
    }
}

fn some(names: &'static [&'static str]) -> impl Strategy<Value = Vec<&'static str>> {
    subsequence(names.to_vec(), 0..=names.len())
}

fn element(style: Style, who: String, windowed: bool) -> String {
    let who = text(style, &who);
    match windowed {
        true => format!("{{ who = {who}, until = 2030-01-01T00:00:00Z }}"),
        false => who,
    }
}

fn ids(what: &str, names: &[&str]) -> Vec<String> {
    names.iter().map(|name| format!("{what}:{name}")).collect()
}

/// An estate of two files.
fn estate() -> impl Strategy<Value = Named> {
    let styles = proptest::collection::vec(style(), 20);
    let members = proptest::collection::vec((some(&USERS), any::<bool>()), 6);
    let ties = proptest::collection::vec(
        (
            subsequence(POLICIES.to_vec(), 1..3),
            subsequence(USERS.to_vec(), 1..4),
            subsequence(SCOPES.to_vec(), 1..4),
        ),
        1..4,
    );
    let ends = (any::<bool>(), any::<bool>(), any::<bool>(), any::<bool>());
    (styles, members, ties, ends).prop_map(|(styles, members, ties, ends)| {
        let (crlf, bom, no_end, inline_statements) = ends;
        let mut style = styles.iter().copied().cycle();
        let mut next = || style.next().expect("endless");
        let mut file = Text::default();
        for (i, name) in USERS.into_iter().enumerate() {
            let style = next();
            let mut keys = vec![("full-name".to_owned(), text(style, "N. N."))];
            if style.list == 3 && i > 1 {
                // What looks like the next table is none.
                keys.push(("about".to_owned(), "\"\"\"\n[user.ada]\n[[group.lens]]\n\"\"\"".to_owned()));
            }
            if i % 2 == 0 {
                let (team, deep) = (text(style, "lens"), "device.managed = true".to_owned());
                match style.list {
                    0 | 1 if style.table < 3 => keys.push(("attributes".to_owned(), format!("{{ team = {team}, {deep} }}"))),
                    _ => {
                        keys.push(("attributes.team".to_owned(), team));
                        keys.push(("attributes.device.managed".to_owned(), "true".to_owned()));
                    }
                }
            }
            written(style, &("user", name, keys), &mut file);
        }
        for (name, (who, windowed)) in GROUPS.into_iter().zip(&members) {
            let style = next();
            let all: Vec<String> = ids("user", who).into_iter().map(|id| element(style, id, *windowed && style.list != 0)).collect();
            let mut keys = vec![("members".to_owned(), list(style, &all))];
            if *windowed {
                let owners: Vec<String> = ids("user", who).iter().map(|id| text(style, id)).collect();
                keys.push(("owners".to_owned(), list(style, &owners)));
            }
            written(style, &("group", name, keys), &mut file);
        }
        for (name, (who, windowed)) in ROLES.into_iter().zip(&members[3..]) {
            let style = next();
            let all: Vec<String> = ids("user", who).iter().map(|id| text(style, id)).collect();
            let word = if *windowed { "held-by" } else { "taken-by" };
            let keys = vec![(word.to_owned(), list(style, &all))];
            written(style, &("role", name, keys), &mut file);
        }
        for (i, name) in POLICIES.into_iter().enumerate() {
            let style = next();
            let statement = format!("do = {}, on = {}", text(style, "store.*"), list(Style { table: 1, ..style }, &[text(style, "night/**"), text(style, "**")]));
            match inline_statements || style.table == 1 {
                true => {
                    let keys = vec![("allow".to_owned(), format!("[{{ {statement} }}, {{ do = 'store.list' }}]"))];
                    written(style, &("policy", name, keys), &mut file);
                }
                false => {
                    file.rest.push_str(&format!("[policy.{name}]\n"));
                    for _ in 0..=i {
                        file.rest.push_str(&format!("[[policy.{name}.allow]] # keep\n{}\n", statement.replace(", on", "\non")));
                    }
                    file.rest.push_str(&format!("\n[[policy.{name}.deny]]\ndo = 'store.erase'\n"));
                }
            }
        }
        let mut ties_text = String::new();
        for (policies, to, at) in ties {
            let style = Style { table: 0, ..next() };
            let texts = |all: Vec<String>| list(style, &all.iter().map(|one| text(style, one)).collect::<Vec<_>>());
            let names = |all: Vec<&str>| all.into_iter().map(str::to_owned).collect::<Vec<_>>();
            ties_text.push_str(&format!("# keep: a tie\n[[attach]]\npolicy = {}\n", texts(names(policies))));
            ties_text.push_str(&format!("to = {} # keep\nat = {}\n\n", texts(ids("user", &to)), texts(names(at))));
        }
        ties_text.push_str("[[ceiling]]\npolicy = 'look'\nover = ['v/s', 'v']\nfor = ['user:ada', 'group:lens']\n");
        let head = "[estate]\nname = 'V'\nformat = 1\n[kind.store]\nobserve = ['list']\nalter = ['erase']\n[account.v]\n[subscription.'v/s']\n[resource.'v/s/store']\nkind = 'store'\n[namespace.'v/s/night']\n";
        let Text { top, rest, end } = file;
        let mut all = format!("{top}\n{rest}{end}");
        if no_end {
            all.truncate(all.trim_end().len());
        }
        if crlf {
            all = all.replace('\n', "\r\n");
            ties_text = ties_text.replace('\n', "\r\n");
        }
        if bom {
            all.insert(0, '\u{feff}');
        }
        let files = vec![
            (PathBuf::from("bexum.toml"), head.to_owned()),
            (PathBuf::from("people.toml"), all),
            (PathBuf::from("ties.toml"), ties_text),
        ];
        Named { root: PathBuf::from("estate"), files }
    })
}

fn user() -> impl Strategy<Value = String> {
    select(USERS.to_vec()).prop_map(|name| format!("user:{name}"))
}

fn named(names: &'static [&'static str]) -> impl Strategy<Value = String> {
    select(names.to_vec()).prop_map(str::to_owned)
}

fn window() -> impl Strategy<Value = Window> {
    select(vec![Window::ALWAYS, Window { from: None, until: Time::parse("2031-01-01T00:00:00Z") }])
}

fn in_list() -> impl Strategy<Value = (ListOf, String)> {
    prop_oneof![
        named(&GROUPS).prop_map(|group| (ListOf::Members, group)),
        named(&GROUPS).prop_map(|group| (ListOf::Owners, group)),
        named(&ROLES).prop_map(|role| (ListOf::HeldBy, role)),
        named(&ROLES).prop_map(|role| (ListOf::TakenBy, role)),
    ]
}

fn keyed() -> impl Strategy<Value = (Target, String, Value)> {
    let word = |text: &str| Value::Text(text.into());
    prop_oneof![
        (
            named(&USERS),
            select(vec![
                ("full-name", word("A \"B\" 'C'")),
                ("enabled", Value::Boolean(false)),
                ("about", word("x")),
                ("attributes.team", word("disc")),
                ("attributes.n", Value::Integer(3)),
                ("attributes.device.model", word("m")),
            ])
        )
            .prop_map(|(user, (key, value))| (Target::User(user), key.to_owned(), value)),
        (
            named(&GROUPS),
            select(vec![
                ("join", word("open")),
                ("attributes.q.r", Value::Boolean(true)),
                ("place", word("v"))
            ])
        )
            .prop_map(|(group, (key, value))| (
                Target::Group(group),
                key.to_owned(),
                value
            )),
        (
            named(&SCOPES),
            select(vec![("sealed", Value::Boolean(true)), ("attributes.tier", word("raw"))])
        )
            .prop_map(|(path, (key, value))| (
                Target::Scope(None, path),
                key.to_owned(),
                value
            )),
        (
            named(&POLICIES),
            select(vec![
                ("locked", Value::Boolean(true)),
                ("about", word("x")),
                ("include", Value::List([word("all")].into()))
            ])
        )
            .prop_map(|(policy, (key, value))| (
                Target::Policy(policy),
                key.to_owned(),
                value
            )),
    ]
}

/// An edit, and the one that undoes it where there is one.
fn edit() -> impl Strategy<Value = (Edit, Option<Edit>)> {
    let new = |target: Target| {
        let undo = Edit::Delete { target: target.clone(), hand_over: None, with_uses: true };
        let keys = match &target {
            Target::User(_) => vec![("enabled".to_owned(), Value::Boolean(false))],
            Target::Group(_) => vec![("members".to_owned(), Value::Text("user:ada".into()))],
            _ => Vec::new(),
        };
        (Edit::New { target, preset: None, keys }, Some(undo))
    };
    let fresh = select(vec![
        Target::User("zed".into()),
        Target::Group("z.z".into()),
        Target::Role("zz".into()),
        Target::Policy("zz".into()),
        Target::Scope(Some(bexum_core::scope::ScopeType::Namespace), "v/zz".into()),
    ]);
    let known = prop_oneof![
        named(&USERS).prop_map(Target::User),
        named(&GROUPS).prop_map(Target::Group),
        named(&ROLES).prop_map(Target::Role),
        named(&POLICIES).prop_map(Target::Policy),
        named(&SCOPES).prop_map(|path| Target::Scope(None, path)),
    ];
    let renamed = |target: Target| {
        let (to, back) = match &target {
            Target::Scope(_, path) => {
                let to = format!("{}zz", path);
                (to.clone(), Target::Scope(None, to))
            }
            Target::User(_) => ("zz.z".to_owned(), Target::User("zz.z".into())),
            Target::Group(_) => ("zz".to_owned(), Target::Group("zz".into())),
            Target::Role(_) => ("zz".to_owned(), Target::Role("zz".into())),
            Target::Policy(_) => ("zz".to_owned(), Target::Policy("zz".into())),
        };
        let undo = Edit::Rename { target: back, to: target.name().to_owned() };
        (Edit::Rename { target, to }, Some(undo))
    };
    let some_of = |names: &'static [&'static str]| {
        subsequence(names.to_vec(), 0..=2)
            .prop_map(|all| all.into_iter().map(str::to_owned).collect::<Vec<_>>())
    };
    prop_oneof![
        3 => (user(), in_list(), window()).prop_map(|(who, (list, of), window)| {
            let window = if list == ListOf::Owners { Window::ALWAYS } else { window };
            let add = Edit::Add { who: vec![who.clone()], list, of: of.clone(), window };
            (add, Some(Edit::Remove { who: vec![who], list, of }))
        }),
        3 => (subsequence(USERS.to_vec(), 1..4), in_list()).prop_map(|(who, (list, of))| {
            (Edit::Remove { who: ids("user", &who), list, of }, None)
        }),
        3 => keyed().prop_map(|(target, key, value)| {
            let undo = Edit::Unset { target: target.clone(), keys: vec![key.clone()] };
            (Edit::Set { target, keys: vec![(key, value)] }, Some(undo))
        }),
        1 => (named(&USERS), select(vec!["attributes", "attributes.team", "full-name", "attributes.device"])).prop_map(|(user, key)| {
            (Edit::Unset { target: Target::User(user), keys: vec![key.to_owned()] }, None)
        }),
        2 => (named(&POLICIES), user(), named(&SCOPES), window()).prop_map(|(policy, who, at, window)| {
            let (policies, to, at) = (vec![policy], vec![who], vec![at]);
            let attach = Edit::Attach { policies: policies.clone(), to: to.clone(), at: at.clone(), window };
            (attach, Some(Edit::Detach { policies, from: to, at }))
        }),
        3 => (named(&POLICIES), some_of(&USERS), some_of(&SCOPES)).prop_map(|(policy, from, at)| {
            let from = from.iter().map(|name| format!("user:{name}")).collect();
            (Edit::Detach { policies: vec![policy], from, at }, None)
        }),
        1 => (some_of(&SCOPES), select(vec![vec![], vec!["user:ada".to_owned()], vec!["group:lens".to_owned()]])).prop_map(|(over, bound)| {
            (Edit::Unlimit { policy: "look".to_owned(), over, bound }, None)
        }),
        2 => (named(&POLICIES), select(vec![Effect::Allow, Effect::Deny]), some_of(&["a/**", "**", "/v/s/night"])).prop_map(|(policy, effect, on)| {
            let policy_again = policy.clone();
            let state = Edit::State { policy, effect, actions: vec!["store.list".into()], on, when: Some("given.x = \"y\"".into()), name: Some("zz".into()) };
            (state, Some(Edit::Strike { policy: policy_again, statement: "zz".into() }))
        }),
        1 => (named(&POLICIES), select(vec!["allow 1", "allow 2", "deny 1"])).prop_map(|(policy, statement)| {
            (Edit::Strike { policy, statement: statement.into() }, None)
        }),
        1 => (named(&POLICIES), select(vec!["allow 1", "deny 1"]), some_of(&["a/**", "/v/s/night"])).prop_map(|(policy, statement, paths)| {
            (Edit::Spare { policy, statement: statement.into(), paths }, None)
        }),
        2 => (named(&POLICIES), select(vec!["allow 1", "allow 2", "deny 1"]), some_of(&["store.list", "store.*", "!store.erase"]), some_of(&["a/**", "**", "/v/s/night"])).prop_map(|(policy, statement, actions, on)| {
            (Edit::Restate { policy, statement: statement.into(), actions, on }, None)
        }),
        1 => named(&POLICIES).prop_map(|from| {
            let undo = Edit::Delete { target: Target::Policy("zz".into()), hand_over: None, with_uses: false };
            (Edit::Copy { from, to: "zz".into(), drop: vec!["store.erase".into()], keep: Vec::new() }, Some(undo))
        }),
        1 => (named(&USERS), named(&GROUPS)).prop_map(|(user, group)| {
            let undo = Edit::Decline { user: user.clone(), group: group.clone() };
            (Edit::AskIn { user, group, why: Some("so \"it\" is".into()) }, Some(undo))
        }),
        2 => known.clone().prop_map(renamed),
        1 => fresh.prop_map(new),
        1 => known.prop_map(|target| (Edit::Delete { target, hand_over: None, with_uses: true }, None)),
    ]
}

fn load(texts: &Named) -> (Loaded, Declarations) {
    match load_declared(texts, None) {
        Ok(loaded) => loaded,
        Err(failure) => panic!("{:?}\n{texts:?}", failure.problems),
    }
}

fn planned(texts: &Named, edit: &Edit) -> Result<Plan, PlanError> {
    let (loaded, declared) = load(texts);
    let now = Time::parse("2026-10-05T20:00:00Z").expect("a time");
    plan(&loaded.estate, &loaded.sources, declared, std::slice::from_ref(edit), None, now)
}

fn with(texts: &Named, plan: &Plan) -> Named {
    let mut texts = texts.clone();
    for (path, text) in &plan.files {
        match texts.files.iter_mut().find(|(known, _)| known == path) {
            Some((_, old)) => old.clone_from(text),
            None => texts.files.push((path.clone(), text.clone())),
        }
    }
    texts
}

fn comments(texts: &Named) -> usize {
    texts.files.iter().map(|(_, text)| text.matches("# keep").count()).sum()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 1500, ..ProptestConfig::default() })]

    #[test]
    fn files_say_what_the_edit_does(texts in estate(), (edit, undo) in edit()) {
        let plan = match planned(&texts, &edit) {
            Ok(plan) => plan,
            // It does not go with the estate, or what comes of it is none.
            Err(PlanError::Edit { .. } | PlanError::Refused(_)) => return Ok(()),
            Err(error) => return Err(TestCaseError::fail(format!("{error}: {edit:?}\n{texts:#?}"))),
        };
        let after = with(&texts, &plan);
        let (_, declared) = load(&after);
        // To the place: further edits and messages go by it.
        prop_assert_eq!(in_order(declared), in_order(plan.declared.clone()), "{:#?}", after);
        for ((path, old), (_, new)) in texts.files.iter().zip(&after.files) {
            // Line ends stay what they are, and so does a byte-order mark.
            prop_assert_eq!(old.starts_with('\u{feff}'), new.starts_with('\u{feff}'));
            let has_plain_ends = |text: &str| text.replace("\r\n", "").contains('\n');
            prop_assert!(!old.contains("\r\n") || has_plain_ends(old) || !has_plain_ends(new), "{path:?}\n{new:?}");
            if plan.files.iter().all(|(changed, _)| changed != path) {
                prop_assert_eq!(old, new);
            }
        }
        // Comments go with what they stand at, and with nothing else.
        let takes_away = !matches!(edit, Edit::Add { .. } | Edit::Set { .. } | Edit::New { .. } | Edit::State { .. } | Edit::Attach { .. } | Edit::Copy { .. } | Edit::AskIn { .. } | Edit::Rename { .. });
        if !takes_away {
            prop_assert_eq!(comments(&texts), comments(&after), "{:?}\n{:#?}\n{:#?}", edit, texts, after);
        }
        // Nothing stood there before that the opposite would take away, too.
        let Some(undo) = undo.filter(|_| !plan.files.is_empty()) else { return Ok(()) };
        let stood = planned(&texts, &undo).is_ok_and(|plan| !plan.files.is_empty());
        let set_over = matches!(&edit, Edit::Set { .. });
        if stood && (set_over || !matches!(edit, Edit::Rename { .. })) {
            return Ok(());
        }
        let back = planned(&after, &undo);
        // Where a pattern may mean another place too, the new name is put beside the old one.
        if matches!(&edit, Edit::Rename { target: Target::Scope(..), .. }) {
            prop_assert!(!matches!(back, Err(PlanError::NotTheSame { .. })), "{after:#?}");
            return Ok(());
        }
        let back = back.map_err(|error| TestCaseError::fail(format!("{error}: {undo:?}\n{after:#?}")))?;
        let (_, old) = load(&texts);
        prop_assert_eq!(without_empty(old), without_empty(back.declared), "{:?}\n{:#?}", undo, after);
    }
}

/// What is declared, in the order in which it stands in the files.
fn in_order(mut declared: Declarations) -> Declarations {
    let mut ordered = Declarations { name: declared.name.clone(), ..Declarations::default() };
    join(&mut ordered, take(&mut declared, |_| true));
    ordered
}

/// An empty list is what a list of one leaves behind.
fn without_empty(declared: Declarations) -> Declarations {
    let mut declared = declared;
    for group in &mut declared.groups {
        group.body.members.take_if(|all| all.is_empty());
        group.body.owners.take_if(|all| all.is_empty());
    }
    canonical(declared)
}
