//! What is generated is an estate, the same for the same seed, whatever its layout.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use bexum_core::time::Time;
use bexum_core::{Decider, Engine, Request};
use bexum_synth::{Layout, Model, Requests, Size, write_estate};

const SMALL: Size = Size { scopes: 600, users: 80, groups: 30, attachments: 300, ..Size::S };

fn written(seed: u64, layout: Layout) -> (tempfile::TempDir, BTreeMap<String, String>) {
    let folder = tempfile::tempdir().expect("a folder");
    let bytes =
        write_estate(&Model::new(SMALL, seed), folder.path(), layout).expect("it is written");
    let mut files = BTreeMap::new();
    read(folder.path(), &mut files);
    assert_eq!(bytes, files.values().map(|text| text.len() as u64).sum::<u64>());
    (folder, files)
}

fn read(folder: &Path, files: &mut BTreeMap<String, String>) {
    for entry in std::fs::read_dir(folder).expect("a folder") {
        let path = entry.expect("an entry").path();
        if path.is_dir() {
            read(&path, files);
        } else {
            let name = path.file_name().expect("a name").to_string_lossy().into_owned();
            let parent = path.parent().and_then(Path::file_name).expect("a folder");
            let text = std::fs::read_to_string(&path).expect("text");
            let parent = if name == "bexum.toml" { "".into() } else { parent.to_string_lossy() };
            files.insert(format!("{parent}/{name}"), text);
        }
    }
}

#[test]
fn a_seed_makes_the_same_to_the_byte() {
    let layout = Layout { checks: 20, laws: 20, ..Layout::default() };
    assert_eq!(written(7, layout).1, written(7, layout).1);
    assert_ne!(written(7, layout).1, written(8, layout).1);
}

#[test]
fn every_layout_is_the_same_estate() {
    let many = Layout::default();
    let one = Layout { one_file: true, ..many };
    let answers: Vec<Vec<_>> = [
        many,
        one,
        Layout { children_first: true, ..many },
        Layout { children_first: true, ..one },
    ]
    .into_iter()
    .map(|layout| {
        let (folder, _) = written(7, layout);
        let loaded = bexum_files::load(folder.path()).expect("it loads");
        assert_eq!(loaded.estate.users.len(), SMALL.users);
        assert_eq!(loaded.estate.groups.len(), SMALL.groups);
        assert_eq!(loaded.estate.policies.len(), SMALL.policies);
        assert_eq!(loaded.estate.attachments.len(), SMALL.attachments);
        assert!(loaded.estate.scopes.len().abs_diff(SMALL.scopes) < SMALL.scopes / 10);
        let engine = Engine::new(Arc::clone(&loaded.estate));
        let mut decider = Decider::new(&engine);
        let model = Model::new(SMALL, 7);
        Requests::new(&model, 1)
            .take(500)
            .map(|asked| {
                let request = Request::new(asked.who(), asked.does(), asked.on(), Time(0));
                decider.decide(&request.resolve(&loaded.estate).expect("a request"))
            })
            .collect()
    })
    .collect();
    assert!(answers.iter().all(|other| *other == answers[0]));
}
