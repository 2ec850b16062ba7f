//! People brought in line with their source: the files say what was meant, wherever new tables go.

use std::path::{Path, PathBuf};

use bexum_core::Declarations;
use bexum_core::declaration::{Imported, Named as NamedThing, User};
use bexum_core::edit::{canonical, join, take};
use bexum_core::impact::{Difference, SameFiles, differences};
use bexum_core::import::{Given, People, Person, SpeaksOf, Terms, import};
use bexum_core::origin::{Origin, Spanned};
use bexum_core::{Time, attribute::Value};
use bexum_files::edit::{draft_people, plan_people};
use bexum_files::{Loaded, Named, load_declared};
use proptest::prelude::*;
use proptest::sample::{select, subsequence};

const NAMES: [&str; 9] = ["ada", "bo", "cy", "dora", "eli", "fay", "gus", "hal", "ida"];
const FILES: [&str; 3] = ["bexum.toml", "m.toml", "q/people.toml"];

/// One user of the estate: the file, and what is said beside the name.
type Written = (usize, bool, bool, bool);

/// An estate of some users in some files, with other things between them.
fn texts(users: &[(&str, Written)], ends: &str) -> Named {
    let mut files: Vec<(PathBuf, String)> =
        FILES.iter().map(|path| (PathBuf::from(path), String::new())).collect();
    files[0].1 += "[estate]\nname = \"t\"\nformat = 1\n\n[kind.store]\nobserve = [\"list\"]\n\n";
    files[0].1 += "[account.v]\n\n[policy.look]\n[[policy.look.allow]]\ndo = \"store.list\"\n\n";
    for (i, (name, (file, named, of_source, with_team))) in users.iter().enumerate() {
        let text = &mut files[*file].1;
        *text += &format!("# keep {name}\n[user.{name}]\n");
        if *named {
            *text += &format!("full-name = \"{name}: é\"\n");
        }
        if *of_source {
            *text += &format!("source = \"office\"\nsource-id = \"o-{i}\"\n");
        }
        if *with_team {
            *text += "attributes = { team = \"dish\" }\n";
        }
        if i % 2 == 0 {
            *text += &format!("\n[group.of-{name}]\nmembers = [\"user:{name}\"]\n");
        }
        if i % 3 == 0 {
            *text +=
                &format!("\n[[attach]]\npolicy = \"look\"\nto = \"user:{name}\"\nat = \"v\"\n");
        }
        *text += "\n";
    }
    for (_, text) in &mut files {
        *text = text.replace('\n', ends);
    }
    files.retain(|(_, text)| !text.is_empty());
    Named { root: PathBuf::from("estate"), files }
}

fn load(texts: &Named) -> (Loaded, Declarations) {
    load_declared(texts, None).unwrap_or_else(|failure| panic!("{:?}", failure.problems))
}

/// What is declared, in the order in which it stands in the files.
fn in_order(mut declared: Declarations) -> Declarations {
    let mut ordered = Declarations { name: declared.name.clone(), ..Declarations::default() };
    join(&mut ordered, take(&mut declared, |_| true));
    ordered
}

/// What an import is to come to, one person after the other.
fn meant(declared: &Declarations, persons: &[Person]) -> Declarations {
    let mut meant = declared.clone();
    let spanned = |text: &str| Spanned::new(text.to_owned(), Origin::default());
    for person in persons {
        let known = meant.users.iter_mut().find(|user| user.name.value == person.name);
        let user = match known {
            Some(user) => user,
            None => {
                let name = spanned(&person.name);
                meant.users.push(NamedThing { name, about: None, body: User::default() });
                meant.users.last_mut().expect("the one that is new")
            }
        };
        let id = person.id.clone().or(user.body.imported.source_id.clone());
        user.body.imported = Imported { source: Some("office".to_owned()), source_id: id };
        user.body.full_name.clone_from(&person.full_name);
        user.body.enabled = person.enabled.unwrap_or(user.body.enabled);
        user.body.attributes.retain(|(name, _)| name.value != "team");
        for (name, given) in &person.attributes {
            if let Given::Text(text) = given {
                user.body.attributes.push((spanned(name), Value::Text(text.as_str().into())));
            }
        }
    }
    let in_files = |name: &str| persons.iter().any(|person| person.name == name);
    for user in &mut meant.users {
        let of_source = user.body.imported.source.is_some();
        user.body.enabled &= !of_source || in_files(&user.name.value);
    }
    meant
}

fn person() -> impl Strategy<Value = (bool, Option<String>, Option<bool>, Option<&'static str>)> {
    let full_name = proptest::option::of("[a-zé\"\\\\ :]{1,6}");
    let enabled = proptest::option::weighted(0.2, any::<bool>());
    let team = proptest::option::of(select(vec!["dish", "comet"]));
    (any::<bool>(), full_name, enabled, team)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 600, ..ProptestConfig::default() })]

    #[test]
    fn the_files_say_what_the_source_does(
        users in subsequence(NAMES.to_vec(), 1..9),
        written in prop::collection::vec((0..3_usize, any::<bool>(), any::<bool>(), any::<bool>()), 9),
        said in subsequence(NAMES.to_vec(), 1..10),
        says in prop::collection::vec(person(), 9),
        file in select(vec![None, Some("a.toml"), Some("n.toml"), Some("m.toml"), Some("zz/z.toml")]),
        ends in select(vec!["\n", "\r\n"]),
    ) {
        let users: Vec<(&str, Written)> = users.into_iter().zip(written).collect();
        let before = texts(&users, ends);
        let (loaded, declared) = load(&before);
        let persons: Vec<Person> = said
            .iter()
            .zip(says)
            .map(|(name, (with_id, full_name, enabled, team))| Person {
                name: (*name).to_owned(),
                id: with_id.then(|| format!("n-{name}")),
                enabled,
                full_name,
                attributes: team.map(|team| ("team".into(), Given::Text(team.into()))).into_iter().collect(),
                ..Person::default()
            })
            .collect();
        let speaks_of = SpeaksOf {
            persons: true,
            full_name: true,
            attributes: vec!["team".into()],
            ..SpeaksOf::default()
        };
        let people = People { persons, speaks_of, ..People::default() };
        let terms = Terms { source: "office", adopt: true, now: Time::EARLIEST };
        let made = import(&declared, &people, terms).expect("nothing speaks against it");
        let decides_nothing = made.people.decides_nothing(&declared);
        let meant = meant(&declared, &people.persons);
        let file = file.map(Path::new);
        let written = draft_people(&loaded.sources, &declared, made.people, file).expect("it can be written");
        let planned = plan_people(&loaded.estate, &loaded.sources, declared, written, <[_]>::len);
        let (plan, told) = planned.expect("it is an estate");
        prop_assert_eq!(told, plan.files.len());
        let mut after = before.clone();
        for (path, text) in &plan.files {
            match after.files.iter_mut().find(|(known, _)| known == path) {
                Some((_, old)) => old.clone_from(text),
                None => after.files.push((path.clone(), text.clone())),
            }
        }
        after.files.sort();
        let (again, declared) = load(&after);
        // To the place: messages go by it.
        prop_assert_eq!(in_order(declared.clone()), in_order(plan.declared.clone()), "{:#?}", after);
        prop_assert_eq!(canonical(declared), canonical(meant), "{:#?}", after);
        let otherwise = |one, other| differences(one, other, &SameFiles::default());
        prop_assert_eq!(otherwise(&again.estate, &plan.after.estate), vec![]);
        for (read, planned) in again.estate.users.iter().zip(&plan.after.estate.users) {
            prop_assert_eq!(&read.identity.name, &planned.identity.name);
            prop_assert_eq!(again.sources.shown(read.identity.origin), plan.after.sources.shown(planned.identity.origin));
        }
        // What is said before all is compared is what the comparison says.
        let differing = otherwise(&loaded.estate, &plan.after.estate);
        prop_assert_eq!(decides_nothing, differing.iter().all(Difference::decides_nothing), "{:?}", differing);
        let comments = |texts: &Named| -> usize {
            texts.files.iter().map(|(_, text)| text.matches("# keep").count()).sum()
        };
        prop_assert_eq!(comments(&before), comments(&after));
    }
}
