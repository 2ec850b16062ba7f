//! Which files belong to an estate, and where an estate is found.

use crate::support::{Folder, command, finish};

fn users(folder: &Folder) -> Vec<String> {
    let run = folder.run(&["show", "users", "--format", "json"]);
    assert_eq!(run.code, Some(0), "{}", run.err);
    let json: serde_json::Value = serde_json::from_str(&run.out).expect("JSON");
    let rows = json["users"].as_array().expect("rows");
    rows.iter().map(|row| row["user"].as_str().expect("a name").to_owned()).collect()
}

#[test]
fn every_toml_file_but_hidden_ones() {
    let folder = Folder::estate()
        .with("a/deep/er/x.toml", "[user.deep]")
        .with("dir.toml/y.toml", "[user.in-dir]")
        .with("people/bexum.toml", "[user.other-root-name]")
        .with(".hidden.toml", "not toml at all =")
        .with(".git/config.toml", "not toml at all =")
        .with("notes.md", "not toml at all =")
        .with("OLD.TOML", "not toml at all =")
        .with("x.toml.bak", "not toml at all =")
        .with("größe.toml", "\u{feff}[user.bom]\r\n");
    assert_eq!(
        users(&folder),
        ["user:bom", "user:deep", "user:in-dir", "user:ines", "user:other-root-name", "user:tomas"]
    );
}

#[cfg(unix)]
#[test]
fn links_inside_are_followed_and_read_once() {
    use std::os::unix::fs::symlink;
    let folder = Folder::estate()
        .with("people/users.toml", "[user.linked]")
        .with("data.txt", "[user.by-name]")
        .with("other.txt", "no toml =");
    symlink("people/users.toml", folder.file("again.toml")).expect("a link");
    symlink("data.txt", folder.file("data.toml")).expect("a link");
    symlink("other.txt", folder.file("plain-link")).expect("a link");
    symlink("people", folder.file("same")).expect("a link");
    symlink(".", folder.file("loop")).expect("a link");
    symlink("nowhere", folder.file("dangling")).expect("a link");
    symlink("../loop", folder.file("people/up")).expect("a link");
    assert_eq!(users(&folder), ["user:by-name", "user:ines", "user:linked", "user:tomas"]);
}

#[test]
fn the_estate_is_found_upward() {
    let folder = Folder::estate().with("deep/down/x.toml", "");
    let at = folder.file("deep/down");
    let run = finish(
        command().args(["ask", "user:ines", "store.list", "v/s/store"]).current_dir(&at),
        b"",
    );
    assert_eq!(run.code, Some(0), "{}", run.err);
    let elsewhere = Folder::new();
    let root = folder.path().to_str().expect("a path");
    let run = elsewhere.run(&["ask", "user:ines", "store.list", "v/s/store", "-C", root]);
    assert_eq!(run.code, Some(0), "{}", run.err);
}
