//! The JSON that Bexum reads and writes, typed and versioned.
//!
//! Each shape is a type of its own, apart from the core's, so that neither moves the other; keys are
//! kebab-case, values are values and not texts for people. [`schemas`] has a JSON Schema of each.
//! Nothing here prints or decides.

pub mod answer;
pub mod claims;
pub mod common;
pub mod edit;
pub mod faults;
pub mod impact;
pub mod json;
pub mod proof;
pub mod reach;
pub mod request;
pub mod review;
pub mod sarif;
pub mod scan;
pub mod show;
pub mod trim;
pub mod usage;
pub mod vet;
pub mod ways;

use schemars::generate::SchemaSettings;
use schemars::{JsonSchema, Schema};

/// The version of every shape.
pub const VERSION: u32 = 1;

/// The JSON Schema of everything that is written, by the command that writes it.
#[must_use]
pub fn schemas() -> Vec<(&'static str, Schema)> {
    vec![
        ("ask", written::<answer::Answer>()),
        ("claims", written::<claims::Claims>()),
        ("claims-all", written::<claims::All>()),
        ("edit", written::<edit::Edit>()),
        ("faults", written::<faults::Faults>()),
        ("impact", written::<impact::Impact>()),
        ("prove", written::<proof::Report>()),
        ("reach", written::<reach::Reach>()),
        ("replay", written::<answer::Line>()),
        ("review", written::<review::Review>()),
        ("show", written::<show::Show>()),
        ("trim", written::<trim::Trim>()),
        ("trim-draft", written::<trim::Draft>()),
        ("usage", written::<usage::Report>()),
        ("usage-summary", written::<usage::Summary>()),
        ("vet", written::<vet::Vet>()),
        ("ways", written::<ways::Ways>()),
    ]
}

fn written<T: JsonSchema>() -> Schema {
    SchemaSettings::draft2020_12().for_serialize().into_generator().into_root_schema_for::<T>()
}
