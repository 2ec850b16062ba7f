//! What a change opens on one row is found out once for others of which the same is said: whatever else tells two
//! rows apart counts, whichever of them comes first.

use std::path::PathBuf;

use bexum_core::each::in_turn;
use bexum_core::engine::Engine;
use bexum_core::impact::{Cell, Comparison, SameFiles, differences};
use bexum_core::{Request, Time};
use bexum_files::{Named, load_declared};

/// Two people, each with a store of their own, where a policy says what it says in the one estate and in the other.
struct Apart {
    /// Of the first and of the second.
    users: [&'static str; 2],
    stores: [&'static str; 2],
    names: [&'static str; 2],
    /// Where each of them holds the policy by a role that they take up.
    roles: Option<[&'static str; 2]>,
    /// Further keys of the stores' kind, and kinds.
    kind: &'static str,
    before: &'static str,
    after: &'static str,
}

const ALIKE: Apart = Apart {
    users: ["", ""],
    stores: ["", ""],
    names: ["one", "two"],
    roles: None,
    kind: "",
    before: "",
    after: "",
};

impl Apart {
    fn text(&self, statements: &str) -> String {
        let mut text =
            "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\n".to_owned();
        text += self.kind;
        text += "[account.w]\n[policy.p]\n[policy.later]\n";
        for i in 0..2 {
            let (user, store, name) = (self.users[i], self.stores[i], self.names[i]);
            text +=
                &format!("[resource.'w/{name}']\nkind = 'store'\n{store}\n[user.u{i}]\n{user}\n");
            let to = match self.roles {
                Some(roles) => {
                    text += &format!(
                        "[role.r{i}]\ntaken-by = {}\n",
                        roles[i].replace("USER", &format!("user:u{i}"))
                    );
                    format!("role:r{i}")
                }
                None => format!("user:u{i}"),
            };
            // Patterns start at the account.
            text += &format!(
                "[[attach]]\npolicy = 'p'\nto = '{to}'\nat = 'w'\n[[attach]]\npolicy = 'later'\nto = '{to}'\nat = 'w'\nfrom = 2030-01-01T00:00:00Z\n"
            );
            let other = self.names[1 - i];
            text += &format!(
                "[policy.none-{i}]\n[[policy.none-{i}.deny]]\ndo = '*'\non = ['{other}', '{other}/**']\n[[attach]]\npolicy = 'none-{i}'\nto = 'user:u{i}'\nat = 'w'\n"
            );
        }
        text + statements
    }

    /// For each of the two: whether something is opened on the row of their own.
    fn opened(&self) -> [bool; 2] {
        let named = |statements: &str| Named {
            root: PathBuf::from("estate"),
            files: vec![(PathBuf::from("bexum.toml"), self.text(statements))],
        };
        let load = |statements: &str, other| {
            let loaded = load_declared(&named(statements), other);
            loaded.unwrap_or_else(|failure| panic!("{:?}", failure.problems)).0.estate
        };
        let before = load(self.before, None);
        let after = load(self.after, Some(&*before));
        let [before, after] = [before, after].map(Engine::new);
        let differing = differences(before.estate(), after.estate(), &SameFiles::default());
        let now = Time::parse("2026-11-28T09:00:00Z").expect("a time");
        let comparison =
            Comparison::new(&before, &after, &differing, Request::new("", "", "", now))
                .expect("sound circumstances");
        let whose = ["user:u0", "user:u1"];
        let alone: Vec<Vec<Cell>> =
            whose.iter().map(|who| comparison.compared().cells_of(who)).collect();
        for order in [[0, 1], [1, 0]] {
            let mut compared = comparison.compared();
            for i in order {
                assert_eq!(compared.cells_of(whose[i]), alone[i], "{order:?} {}", self.after);
            }
        }
        let together = comparison.impact(&whose.map(str::to_owned), &in_turn).changes;
        let together: Vec<Cell> = together.cells().collect();
        assert_eq!(together, alone.concat(), "together {}", self.after);
        let is_opened =
            |cells: &Vec<Cell>| cells.iter().any(|cell| cell.is_gained && cell.is_decided);
        [is_opened(&alone[0]), is_opened(&alone[1])]
    }
}

const MANAGED: &str = "[[policy.p.allow]]\ndo = '*'\nwhen = \"given.m\"\n";

#[test]
fn what_a_statement_asks_of_who_asks_counts() {
    let apart = Apart {
        users: ["attributes = { team = 'x' }", "attributes = { team = 'y' }"],
        before: "[[policy.p.allow]]\ndo = '*'\nwhen = \"given.t = who.team\"\n",
        after: "[[policy.p.allow]]\ndo = '*'\nwhen = \"given.t = who.team or given.t = 'x'\"\n",
        ..ALIKE
    };
    assert_eq!(apart.opened(), [false, true]);
    let unset = Apart { users: ["attributes = { team = 'x' }", ""], ..apart };
    assert_eq!(unset.opened(), [false, true]);
}

#[test]
fn what_a_statement_asks_of_the_place_counts() {
    let apart = Apart {
        stores: ["attributes = { team = 'x' }", "attributes = { team = 'y' }"],
        before: "[[policy.p.allow]]\ndo = '*'\nwhen = \"given.t = target.team\"\n",
        after: "[[policy.p.allow]]\ndo = '*'\nwhen = \"given.t = target.team or given.t = 'x'\"\n",
        ..ALIKE
    };
    assert_eq!(apart.opened(), [false, true]);
}

#[test]
fn what_a_ceiling_asks_counts() {
    let ceiling = |when: &str| {
        format!(
            "{MANAGED}[policy.c]\n[[policy.c.allow]]\ndo = '*'\nwhen = \"{when}\"\n[[ceiling]]\npolicy = 'c'\nover = 'w'\n"
        )
    };
    let apart = Apart {
        users: ["attributes = { team = 'x' }", "attributes = { team = 'y' }"],
        before: ceiling("given.t = who.team").leak(),
        after: ceiling("given.t = who.team or given.t = 'x'").leak(),
        ..ALIKE
    };
    assert_eq!(apart.opened(), [false, true]);
}

#[test]
fn what_a_place_is_called_counts() {
    let apart = Apart {
        names: ["x-1", "x-2"],
        before: "[[policy.p.allow]]\ndo = '*'\non = 'x-{given.x}'\nwhen = \"given.m\"\n",
        after: "[[policy.p.allow]]\ndo = '*'\non = 'x-{given.x}'\nwhen = \"given.m or given.x = '1'\"\n",
        ..ALIKE
    };
    assert_eq!(apart.opened(), [true, false]);
    let asked = Apart {
        before: "[[policy.p.allow]]\ndo = '*'\nwhen = \"given.x = target.name\"\n",
        after: "[[policy.p.allow]]\ndo = '*'\nwhen = \"given.x = target.name or given.x = 'x-1'\"\n",
        ..apart
    };
    assert_eq!(asked.opened(), [false, true]);
}

/// What begins later opens nothing to somebody who may not take up the role by then.
#[test]
fn until_when_a_role_can_be_taken_up_counts() {
    let later = "[[policy.p.allow]]\ndo = '*'\nwhen = \"given.m\"\n[[policy.later.allow]]\ndo = '*'\nwhen = \"given.n\"\n";
    let until = |year: u32| format!("[{{ who = 'USER', until = {year}-01-01T00:00:00Z }}]");
    // Something else ends for the second one then.
    let ends = "[group.g]\nmembers = [{ who = 'user:u1', until = 2028-01-01T00:00:00Z }]";
    for (roles, opened) in [
        ([until(2028), until(2031)], [false, true]),
        ([until(2028), "'USER'".to_owned()], [false, true]),
        ([until(2029), until(2028)], [false, false]),
    ] {
        let apart = Apart {
            roles: Some(roles.map(|one| &*one.leak())),
            before: MANAGED,
            after: later,
            ..ALIKE
        };
        assert_eq!(apart.opened(), opened);
        assert_eq!(Apart { users: ["", ends], ..apart }.opened(), opened);
    }
}

/// On a row for many items a circumstance in a brace may be the name of one of them, whatever statement has it.
#[test]
fn braces_of_other_statements_count() {
    let other = "[policy.other]\n[[policy.other.allow]]\ndo = 'obj.scan'\non = '/w/*/{given.t}'\n[[attach]]\npolicy = 'other'\nto = 'user:u0'\nat = 'w'\n";
    let with = |statement: &str| -> &'static str {
        format!("[[policy.p.allow]]\ndo = 'obj.read'\nwhen = \"{statement}\"\n{other}").leak()
    };
    let apart = Apart {
        kind: "items = ['obj']\n[kind.obj]\nobserve = ['read', 'scan']\n",
        before: with("given.t = 'a'"),
        after: with("given.t = 'a' or given.t in ['a']"),
        ..ALIKE
    };
    assert_eq!(apart.opened(), [false, false]);
}

/// Who is in a group now may not be in it later, while nothing else changes.
#[test]
fn who_is_in_a_group_later_counts() {
    let group = |place: &str, until: &str| {
        format!(
            "[group.of-{place}]\nplace = 'w/{place}'\nmembers = [{{ who = 'user:z'{until} }}]\n"
        )
    };
    let ends = ", until = 2030-01-01T00:00:00Z";
    let with = |when: &str| -> &'static str {
        let groups = group("one", ends) + &group("two", ", until = 2090-01-01T00:00:00Z");
        format!("[user.z]\n{groups}[[policy.p.allow]]\ndo = 'group.view'\nwhen = \"{when}\"\n")
            .leak()
    };
    let beyond = "given.time < '2040-01-01T00:00:00Z'";
    let apart = Apart {
        kind: "[kind.group]\nobserve = ['view']\n",
        before: with("given.m"),
        after: with(&format!(
            "given.m or given.n and {beyond} and not ('user:z' in target.members)"
        )),
        ..ALIKE
    };
    assert_eq!(apart.opened(), [true, false]);
}
