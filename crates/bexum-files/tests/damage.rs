//! Damaged estates: whatever is done to a file, the load ends in an estate or in problems whose
//! places can be shown, and never in a panic.

use std::path::Path;

use proptest::collection::vec;
use proptest::prelude::*;
use proptest::sample::Index;

/// A file with a bit of everything, in odd spellings.
const WHOLE: &str = r#"[estate]
name = "Whole"
format = 1
[service.a]
[kind.store]
service = "a"
observe = ["list"]
alter = ["create"]
on-parent = ["create"]
items = ["file"]
[kind.file]
observe = ["read"]
[account.v]
attributes = { stage = "x", deep = { er = [1, 2] }, since = 2026-01-01T00:00:00Z }
[subscription."v/s"]
[resource.'v/s/store']
kind = "store"
sealed = true
[user.ines]
full-name = "Inés"
place = "v/s"
[group.crew]
members = ["user:ines", { who = "resource:v/s/store", from = 2026-01-01T00:00:00+02:00 }]
members-when = "who.name fits 'i*'"
[role.r]
taken-by = 'group:crew'
[policy.p]
[[policy.p.allow]]
name = "reads"
do = ["*.@observe", "!store.list"]
on = ["store/{who.team}/**", "!**/x"]
when = """given.\u006dfa and
  target.tier in ['a', "b"] or not (given.n < 3)"""
[[policy.p.deny]]
do = '*'
when = "given.ip within '10.0.0.0/8'"
[[attach]]
policy = "p"
to = ["group:crew", "everyone"]
at = "v/s"
until = 2027-01-01T00:00:00Z
[[ceiling]]
policy = "p"
over = ["v"]
for = "role:r"
"#;

fn load(content: &[u8]) -> Result<bexum_files::Loaded, Box<bexum_files::Failure>> {
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::write(folder.path().join("bexum.toml"), content).expect("a file");
    bexum_files::load(folder.path())
}

#[test]
fn whole_it_loads() {
    load(WHOLE.as_bytes()).unwrap_or_else(|failure| panic!("{:?}", failure.problems));
}

#[test]
fn a_folder_that_is_not_there() {
    let failure = bexum_files::load(Path::new("/nowhere/at/all")).expect_err("nothing there");
    assert_eq!(failure.problems.len(), 1);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 1500, ..ProptestConfig::default() })]

    #[test]
    fn damaged_files_are_told_about(
        edits in vec((any::<Index>(), 0..4usize, "[\\[\\]{}=\"'.,!*/\n a-z0-9é\\\\]{0,4}"), 1..4),
    ) {
        let mut content = WHOLE.as_bytes().to_vec();
        for (at, gone, new) in edits {
            let at = at.index(content.len());
            let end = (at + gone).min(content.len());
            content.splice(at..end, new.bytes());
        }
        let Err(failure) = load(&content) else { return Ok(()) };
        prop_assert!(!failure.problems.is_empty());
        for problem in &failure.problems {
            prop_assert!(!problem.to_string().is_empty());
            let _ = problem.diagnostic();
            let Some(place) = problem.place() else { continue };
            let source = failure.sources.get(place.origin.file);
            let bytes = failure.sources.bytes(place);
            prop_assert!(source.text.get(bytes.clone()).is_some(), "{:?}: {:?}", problem, bytes);
            prop_assert!(source.line_and_column(bytes.start).0 >= 1);
        }
    }
}
