//! What a change does: against loading both estates.

use std::path::{Path, PathBuf};
use std::time::Duration;

use bexum_core::scope::ScopeType;
use bexum_synth::{Layout, Size};

use crate::measure::{bexum, median, peak, process, ratio};
use crate::{Platforms, tell};

const MANY: Layout =
    Layout { one_file: false, children_first: false, checks: 0, laws: 0, planted: false };
/// Times that each way is taken, in turns.
const ROUNDS: usize = 7;

pub(crate) fn run(platforms: &Platforms) {
    let before = platforms.estate(Size::L, "L", MANY);
    let estate = bexum_files::load(&before).expect("the estate").estate;
    let policy = &estate.policies[estate.policies.len() / 2].name;
    let group = &estate.groups[estate.groups.len() / 2].identity.name;
    let scopes: Vec<_> = estate.scopes.iter().map(|(_, scope)| scope).collect();
    let resources: Vec<_> =
        scopes.iter().filter(|scope| scope.scope_type == ScopeType::Resource).collect();
    let resource = &resources[resources.len() / 2].path;
    let account = &scopes[0].path;
    tell("impact on L                          both loads    impact  ratio  memory");
    let attached = |policy: &str, to: &str, at: &str| {
        format!("[[attach]]\npolicy = \"{policy}\"\nto = \"{to}\"\nat = \"{at}\"\n\n")
    };
    let group = format!("group:{group}");
    // Spread over all of the estate, by steps that share no factor with what there is.
    let many: String = (0..100)
        .map(|i| {
            let group = &estate.groups[i * 37 % estate.groups.len()].identity.name;
            let role = &estate.roles[i * 7 % estate.roles.len()].identity.name;
            let to = if i % 3 == 0 { format!("role:{role}") } else { format!("group:{group}") };
            let policy = &estate.policies[i * 41 % estate.policies.len()].name;
            attached(policy, &to, &scopes[i * 997 % scopes.len()].path)
        })
        .collect();
    for (name, text, rounds) in [
        ("a group, at a resource", attached(policy, &group, resource), ROUNDS),
        ("a group, at an account", attached(policy, &group, account), ROUNDS),
        ("100 times, to groups and roles", many, ROUNDS),
        ("everyone, at an account", attached(policy, "everyone", account), 1),
    ] {
        let after = beside(&before, name, &text);
        let load =
            |folder: &Path| process(bexum().arg("-C").arg(folder).args(["show", "kind:store"]));
        let (mut loads, mut impacts): (Vec<Duration>, Vec<Duration>) = (Vec::new(), Vec::new());
        for _ in 0..rounds {
            loads.push(load(&before).wall + load(&after).wall);
            impacts.push(process(bexum().arg("impact").args([&before, &after])).wall);
        }
        let (loads, impacts) = (median(loads), median(impacts));
        let one =
            peak(&["-C".as_ref(), before.as_os_str(), "show".as_ref(), "kind:store".as_ref()]);
        let both = peak(&["impact".as_ref(), before.as_os_str(), after.as_os_str()]);
        tell(&format!(
            "{name:<36} {loads:>10.0?} {impacts:>9.0?}  {:>5.2}  {:.2} of both",
            ratio(impacts, loads),
            both as f64 / (2 * one) as f64
        ));
    }
}

/// A copy of an estate, with one file more.
fn beside(estate: &Path, name: &str, text: &str) -> PathBuf {
    let copy = estate.with_file_name(name);
    copy_folder(estate, &copy);
    std::fs::write(copy.join("zz-new.toml"), text).expect("the file is written");
    copy
}

fn copy_folder(from: &Path, to: &Path) {
    std::fs::create_dir_all(to).expect("a folder");
    for entry in std::fs::read_dir(from).expect("a folder") {
        let path = entry.expect("an entry").path();
        let copy = to.join(path.file_name().expect("a name"));
        if path.is_dir() {
            copy_folder(&path, &copy);
        } else {
            std::fs::copy(&path, &copy).expect("a copy");
        }
    }
}
