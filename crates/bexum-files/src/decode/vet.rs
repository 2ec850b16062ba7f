//! How the rules of `vet` are set, and which findings are known and fine.

use bexum_core::declaration::{Accepted, VetRule, VetSeverity, VetTable};
use bexum_core::diagnostic::Severity;
use bexum_core::origin::{FileId, Spanned};
use toml::de::{DeString, DeTable};

use super::Decoded;
use super::reader::{Reader, Value};
use super::value;

const SEVERITIES: &[&str] = &["error", "warning", "note", "off"];
const MEANT: [VetSeverity; 4] = [
    VetSeverity::At(Severity::Error),
    VetSeverity::At(Severity::Warning),
    VetSeverity::At(Severity::Note),
    VetSeverity::Off,
];

/// `[vet]`: each key is a rule's name, its value a severity or a table. Whether there is such a rule
/// is the core's business.
pub(super) fn settings(
    file: FileId,
    key: &toml::Spanned<DeString<'_>>,
    rules: &DeTable<'_>,
    decoded: &mut Decoded,
) {
    let mut table = VetTable { rules: Vec::new(), origin: value::origin(file, key.span()) };
    for (name, entry) in rules.iter() {
        let origin = value::origin(file, name.span());
        if name.get_ref() == "about" {
            continue;
        }
        let name = Spanned::new(name.get_ref().to_string(), origin);
        table.rules.push((name, rule(file, entry, decoded)));
    }
    decoded.declared.vet.push(table);
}

fn rule(file: FileId, entry: &Value<'_>, decoded: &mut Decoded) -> VetRule {
    let origin = value::origin(file, entry.span());
    let what = "a rule in `[vet]`";
    // A word by itself is short for a table that says nothing else.
    let short;
    let table = match entry.get_ref().as_table() {
        Some(table) => table,
        None => {
            let key = toml::Spanned::new(entry.span(), DeString::Borrowed("severity"));
            short = DeTable::from_iter([(key, entry.clone())]);
            &short
        }
    };
    let mut reader = Reader { file, faults: &mut decoded.faults, what, table, origin };
    reader.only(&["severity", "who"]);
    reader.about();
    let (severity, who) = (reader.word("severity", SEVERITIES, &MEANT), reader.list("who"));
    VetRule { severity, who }
}

pub(super) fn accepted(reader: &mut Reader<'_, '_>) -> Option<Accepted> {
    reader.only(&["rule", "why", "until"]);
    reader.expect_all(&["rule", "about", "why"]);
    let (until, why) = (reader.time("until"), reader.text("why"));
    let (rule, about) = (reader.text("rule"), reader.text("about"));
    Some(Accepted { rule: rule?, about: about?, why: why?.value, until, origin: reader.origin })
}
