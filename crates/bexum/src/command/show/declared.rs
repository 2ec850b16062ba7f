//! `show attributes`, `show edit-rights`: what the estate declares of its attributes, and who may edit.

use std::collections::BTreeMap;

use bexum_core::condition::Reference;
use bexum_core::condition::ast::Root;
use bexum_core::vocabulary::{AttributeRule, Form};
use bexum_wire::common::value_json;
use serde_json::{Value as Json, json};

use super::View;
use crate::render::report::{Cell, Report};

/// Most values of one attribute that are listed for people.
const VALUES: usize = 12;
/// Most statements and the like that are.
const ASKING: usize = 5;

/// Every declared attribute: its type, the values in use, and where it is asked about.
pub(super) fn attributes(view: &View<'_>, report: &mut Report) {
    let estate = view.estate;
    let asked = asked_about(view);
    let mut rows = Vec::new();
    for root in Root::ALL {
        let used = values_in_use(view, root);
        for (name, attribute) in estate.vocabulary.of(root).iter() {
            let written = format!("{root}.{name}");
            let rule = attribute.rule.as_ref();
            let values = used.get(name).cloned().unwrap_or_default();
            let written_values: Vec<String> = values.keys().cloned().collect();
            let values: Vec<Json> = values.into_values().collect();
            let asking = asked.get(&written).cloned().unwrap_or_default();
            rows.push(vec![
                Cell::text(&*written),
                Cell::Told(
                    rule.map(ToString::to_string).unwrap_or_default(),
                    rule.map_or(Json::Null, rule_json),
                ),
                Cell::ListTold(first_of(&written_values, VALUES), values.into()),
                Cell::ListTold(first_of(&asking, ASKING), json!(asking)),
                Cell::maybe(attribute.about.as_deref()),
                Cell::text(view.sources.shown(attribute.origin)),
            ]);
        }
    }
    let columns = &["attribute", "type", "values", "asked about", "about", "written"];
    report.rows("attributes", "declared attributes", columns, rows);
}

/// What is declared of an attribute, by the keys that declare it.
fn rule_json(rule: &AttributeRule) -> Json {
    let one_of = rule.one_of.as_ref().map(|known| known.iter().map(value_json).collect::<Vec<_>>());
    json!({
        "type": rule.value_type.word(),
        "list": rule.is_list,
        "one-of": one_of,
        "form": rule.form.map(Form::word),
    })
}

/// The first of a list, and how many more there are.
fn first_of(all: &[String], most: usize) -> Vec<String> {
    let more = all.len().saturating_sub(most);
    let more = (more > 0).then(|| format!("and {more} more"));
    all.iter().take(most).cloned().chain(more).collect()
}

/// Each value that something bears under a name that this root can read, as it is written.
fn values_in_use(view: &View<'_>, root: Root) -> BTreeMap<String, BTreeMap<String, Json>> {
    let estate = view.estate;
    let users = estate.users.iter().map(|user| &user.identity.attributes);
    let groups = estate.groups.iter().map(|group| &group.identity.attributes);
    let roles = estate.roles.iter().map(|role| &role.identity.attributes);
    let scopes = estate.scopes.iter().map(|(_, scope)| &scope.attributes);
    let mut found: BTreeMap<String, BTreeMap<String, Json>> = BTreeMap::new();
    let of_all = users.chain(scopes);
    let of_targets = groups.chain(roles).filter(|_| root == Root::Target);
    for attributes in of_all.chain(of_targets).filter(|_| root != Root::Given) {
        for (id, value) in attributes.iter() {
            let name = estate.attribute_names.name(id);
            if estate.vocabulary.of(root).get(name).is_some() {
                let values = found.entry(name.to_owned()).or_default();
                values.entry(value.to_string()).or_insert_with(|| value_json(value));
            }
        }
    }
    found
}

/// The statements, groups and laws whose conditions or braces ask about an attribute, by its name.
fn asked_about(view: &View<'_>) -> BTreeMap<String, Vec<String>> {
    let estate = view.estate;
    let mut found: BTreeMap<String, Vec<String>> = BTreeMap::new();
    let mut add = |label: &str, references: &mut dyn Iterator<Item = Reference>| {
        for reference in references {
            let labels = found.entry(reference.written(&estate.attribute_names)).or_default();
            if labels.last().is_none_or(|last| last != label) {
                labels.push(label.to_owned());
            }
        }
    };
    for policy in &estate.policies {
        for id in policy.allows.iter().chain(&policy.denies) {
            let statement = estate.statement(*id);
            // What a policy includes is told of the one that says it.
            if estate.policy(statement.policy).name != policy.name {
                continue;
            }
            let label = estate.statement_label(*id);
            let when = statement.when.iter().flat_map(|when| when.references());
            add(&label, &mut when.map(|(reference, _)| reference));
            let patterns = statement.on.plain.iter().chain(&statement.on.excluded);
            add(&label, &mut patterns.flat_map(|p| p.braces()).map(|brace| brace.attribute));
        }
    }
    for group in &estate.groups {
        let label = format!("group:{}", group.identity.name);
        let when = group.members_when.iter().flat_map(|when| when.references());
        add(&label, &mut when.map(|(reference, _)| reference));
    }
    for law in &estate.laws {
        let label = format!("{} \"{}\"", law.claim.word(), law.name);
        let when = law.when.iter().flat_map(|when| when.references());
        add(&label, &mut when.map(|(reference, _)| reference));
        let patterns = law.on.plain.iter().chain(&law.on.excluded);
        add(&label, &mut patterns.flat_map(|p| p.braces()).map(|brace| brace.attribute));
    }
    found
}

/// What edits touch, and the actions of which one has to be allowed.
pub(super) fn edit_rights(view: &View<'_>, report: &mut Report) {
    let rights = &view.estate.edit_rights;
    let Some(origin) = rights.origin else {
        return report.rows("edit-rights", "edit rights", &["touched", "needs one of"], Vec::new());
    };
    let catalogue = &view.estate.catalogue;
    let rows = rights.actions.iter().map(|(key, actions)| {
        let actions = actions.iter().map(|id| catalogue.action(*id).name.to_string());
        vec![Cell::text(&**key), Cell::List(actions.collect())]
    });
    report.fields(
        "table",
        vec![
            (
                "no-more-than-own",
                Cell::Told(
                    if rights.no_more_than_own { "yes" } else { "no" }.to_owned(),
                    json!(rights.no_more_than_own),
                ),
            ),
            ("written", Cell::text(view.sources.shown(origin))),
        ],
    );
    report.rows("edit-rights", "edit rights", &["touched", "needs one of"], rows.collect());
}
