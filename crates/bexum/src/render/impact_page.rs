//! What a change does, as a page by itself.

use askama::Template;

use super::impact::{Changed, NOT_LATER, Told};
use super::impact_besides::{InLog, InOther, Turned};
use super::ruling::By;

#[derive(Template)]
#[template(path = "impact.html")]
struct Page<'t> {
    answer: String,
    before: &'t str,
    after: &'t str,
    moment: String,
    not_later: &'static str,
    rows: Vec<Row>,
    renamed: Vec<String>,
    others: Vec<String>,
    later: Vec<String>,
    in_log: Option<&'t InLog>,
    roles: Vec<String>,
    turned: &'t [Turned],
    changes: Vec<Changed<'t>>,
    by: Option<&'t By<'t>>,
}

/// Somebody, what changes for them, and where.
struct Row {
    class: &'static str,
    sign: &'static str,
    what: &'static str,
    who: Vec<String>,
    level: &'static str,
    change: String,
    actions: Vec<String>,
    places: Vec<String>,
}

impl Row {
    /// The columns that hold names, with their heads.
    fn lists(&self) -> [(&'static str, &Vec<String>); 3] {
        [("who", &self.who), ("actions", &self.actions), ("where", &self.places)]
    }
}

impl Told<'_> {
    /// The page.
    pub(crate) fn page(&self, by: Option<&By<'_>>) -> anyhow::Result<String> {
        let looks = [
            ("gained", "+", "gained"),
            ("lost", "−", "lost"),
            ("held", "=", "held before in another session"),
            ("open", "?", "not decided"),
        ];
        let mut rows = Vec::new();
        for ((_, cells), (class, sign, what)) in self.parts().into_iter().zip(looks) {
            for block in self.blocks_of(&cells).0 {
                for ((level, before, after, actions), places) in block.lines {
                    rows.push(Row {
                        class,
                        sign,
                        what,
                        who: block.names.clone(),
                        level: level.0.word(),
                        change: format!("{} → {}", before.word(), after.word()),
                        actions: actions.into_iter().map(str::to_owned).collect(),
                        places,
                    });
                }
            }
        }
        let [before, after] = self.names;
        let page = Page {
            answer: self.answer(),
            before,
            after,
            moment: self.second().to_string(),
            not_later: NOT_LATER,
            rows,
            renamed: self.renamed_lines(),
            others: self.besides.iter().map(InOther::answer).collect(),
            later: self.later_lines(),
            in_log: self.in_log,
            roles: self.role_lines(),
            turned: self.turned,
            changes: self.changes().collect(),
            by,
        };
        Ok(page.render()?)
    }
}
