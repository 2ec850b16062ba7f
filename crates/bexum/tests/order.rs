//! What a file is called and where it lies means nothing, nor does order.

use crate::support::{AT, Folder};

/// Every table of the demo estate in one file, in reverse, against the estate as it is.
#[test]
fn one_file_in_reverse_decides_the_same() {
    let whole = Folder::demo();
    let mut blocks: Vec<String> = Vec::new();
    let mut files = vec![whole.path().to_path_buf()];
    while let Some(path) = files.pop() {
        if path.is_dir() {
            files.extend(
                std::fs::read_dir(path).expect("a folder").map(|e| e.expect("an entry").path()),
            );
            continue;
        }
        if path.extension().is_none_or(|extension| extension != "toml") {
            continue;
        }
        let text = std::fs::read_to_string(&path).expect("a file");
        let mut block = String::new();
        for line in text.lines() {
            // A statement stays with its policy: it belongs to the header before it.
            let starts = line.starts_with('[') && !line.starts_with("[[policy.");
            if starts && !block.is_empty() {
                blocks.push(std::mem::take(&mut block));
            }
            block.push_str(line);
            block.push('\n');
        }
        blocks.push(block);
    }
    blocks.sort();
    blocks.reverse();
    let other = Folder::new().with("bexum.toml", blocks.concat());

    let mut requests = String::new();
    for who in [
        "user:ines",
        "user:lin",
        "user:tomas",
        "user:juno",
        "role:reducer",
        "group:staff",
        "resource:veyra/survey/reducer",
    ] {
        for (does, on) in [
            ("recording.read", "veyra/survey/spectra/imaging/x"),
            ("recording.erase", "veyra/survey/spectra/imaging/x"),
            ("recording.put", "veyra/survey/maps/x"),
            ("job.submit", "veyra/survey/reduction/nightly/x"),
            ("job.cancel", "veyra/survey/reduction/sandbox/x"),
            ("group.add-member", "veyra/people/imaging"),
            ("user.rename", "veyra/people/lin"),
        ] {
            let line = serde_json::json!({ "who": who, "does": does, "on": on });
            requests.push_str(&format!("{line}\n"));
        }
    }
    let answers = |folder: &Folder| {
        let run = folder.run_with(&["replay", "--at-time", AT], &requests);
        assert_eq!(run.code, Some(0), "{}", run.err);
        assert!(run.err.contains(" 0 errors"), "{}", run.err);
        run.out
    };
    assert_eq!(answers(&whole), answers(&other));
}

/// Rows of a csv come as they are found, and still by the bytes of their paths, which is not the order
/// of the tree: `w/a-b` and `w/a.b` come before what is in `w/a`, and an item's row may wait for all of
/// them.
#[test]
fn rows_of_a_csv_are_in_the_order_of_bytes() {
    let store = |at: &str| format!("[resource.'{at}']\nkind = 'store'\n");
    let stores = ["w/a", "w/a-b", "w/a.b", "w/a.b.c", "w/Z", "w/a@b", "w/a_b"].map(store).concat();
    let estate = format!(
        "[estate]\nname = 'x'\nformat = 1\n[kind.store]\nobserve = ['list']\nitems = ['obj']\nholds = ['namespace']\n[kind.obj]\nobserve = ['read']\n[kind.namespace]\nobserve = ['view']\nitems = ['obj']\n[kind.user]\nobserve = ['look']\n[account.w]\n{stores}[namespace.'w/a/x']\n[namespace.'w/a/x-1']\n[user.u]\nplace = 'w'\n[user.zo]\nplace = 'w/a'\n[role.r]\ntaken-by = 'user:u'\n[[policy.p.allow]]\ndo = '*'\n[[policy.p.allow]]\ndo = '*'\non = ['*/-/**', '*/zz', '~*']\n[[attach]]\npolicy = 'p'\nto = ['user:u', 'role:r']\nat = 'w'\n"
    );
    let folder = Folder::new().with("bexum.toml", estate);
    for command in [&["reach", "user:u"][..], &["reach", "--do", "*"], &["export", "reach"]] {
        let run = folder.run(&[command, &["--format", "csv"]].concat());
        assert_eq!(run.code, Some(0), "{}", run.err);
        let lines: Vec<&str> = run.out.lines().skip(1).collect();
        assert!(lines.len() > 30, "{}", run.out);
        let mut sorted = lines.clone();
        sorted.sort_by_key(|line| line.split(',').collect::<Vec<_>>());
        assert_eq!(lines, sorted);
    }
}
