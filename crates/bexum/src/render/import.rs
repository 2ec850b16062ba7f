//! What an import does to people and groups, told before what changes in the files.

use bexum_wire::edit::Import;

use super::page::Page;
use super::phrases::count;
use super::style::{self, paint, safe};

/// How many names stand in a line where not all are asked for.
const FEW: usize = 12;

/// Who is disabled or enabled again first, then the rest. `users` and `groups` are those in the files.
pub(crate) fn head(made: &Import, (users, groups): (usize, usize), is_full: bool) -> String {
    let mut page = Page::new(crate::terminal::width());
    let most = if is_full { usize::MAX } else { FEW };
    let names = |all: &[String]| {
        let shown: Vec<String> = all.iter().take(most).map(|name| safe(name)).collect();
        let more = all.len().saturating_sub(most);
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        format!("{}{more}", shown.join(", "))
    };
    let title = format!(
        "{}: {} and {} in the files",
        made.source,
        count(users, "user", "users"),
        count(groups, "group", "groups")
    );
    page.line(0, &paint(style::HEADING, &safe(&title)));
    let mut told = |style, all: &[String], one: &str, many: &str| {
        if !all.is_empty() {
            let line = format!("{}: {}", count(all.len(), one, many), names(all));
            page.line(2, &paint(style, &line));
        }
    };
    let plain = anstyle::Style::new();
    told(style::ALLOW, &made.enabled, "user is enabled again", "users are enabled again");
    told(style::DENY, &made.disabled, "user is disabled", "users are disabled");
    told(
        plain,
        &made.gone,
        "of them is no longer in the files",
        "of them are no longer in the files",
    );
    let users: Vec<String> = of(&made.new, "user:");
    let groups: Vec<String> = of(&made.new, "group:");
    told(plain, &users, "user is new", "users are new");
    told(plain, &groups, "group is new", "groups are new");
    let renamed: Vec<String> =
        made.renamed.iter().map(|(old, new)| format!("{old} is {new} now")).collect();
    told(plain, &renamed, "has another name", "have another name");
    told(plain, &made.adopted, "is taken over", "are taken over");
    told(plain, &made.emptied, "group is gone, and emptied", "groups are gone, and emptied");
    told(
        style::DENY,
        &made.kept,
        "group is gone, and stays as it is: emptying it might open something",
        "groups are gone, and stay as they are: emptying them might open something",
    );
    if made.changed > 0 {
        let line = count(made.changed, "user has another key", "users have another key");
        page.line(2, &line);
    }
    if made.joined + made.left > 0 {
        let places = count(made.joined, "place in a group is new", "places in groups are new");
        page.line(2, &format!("{places}, {} gone", made.left));
    }
    if !made.not_taken.is_empty() {
        page.line(2, "not taken:");
        for one in made.not_taken.iter().take(most) {
            page.line(4, &safe(&format!("{}: {}", one.place, one.message)));
        }
        let more = made.not_taken.len().saturating_sub(most);
        if more > 0 {
            page.line(4, &format!("and {more} more: `--full` names them"));
        }
    }
    page.blank();
    page.finish()
}

fn of(all: &[String], start: &str) -> Vec<String> {
    all.iter().filter(|one| one.starts_with(start)).cloned().collect()
}
