//! From TOML text to declarations: types, keys and the letters of attribute names are checked
//! here; what names mean is the core's business.

mod applications;
mod attributes;
mod expectations;
mod reader;
mod reviews;
mod syntax;
mod tables;
mod value;
mod vet;

use bexum_core::declaration::Declarations;
use bexum_core::fault::LocatedFault;
use bexum_core::origin::FileId;
use toml::de::DeTable;

use crate::problem::Problem;

/// One file, decoded as far as it goes.
#[derive(Debug, Default)]
pub(crate) struct Decoded {
    /// The name in `[estate]`, if this file has that table.
    pub(crate) estate: Option<String>,
    /// What it declares.
    pub(crate) declared: Declarations,
    /// Where it is no TOML.
    pub(crate) syntax: Vec<Problem>,
    /// What is wrong with what it declares.
    pub(crate) faults: Vec<LocatedFault>,
}

/// Decodes one file; `is_root` says whether `[estate]` belongs into it.
pub(crate) fn decode(file: FileId, text: &str, is_root: bool) -> Decoded {
    let (document, errors) = DeTable::parse_recoverable(text);
    let syntax = syntax::problems(file, text, document.get_ref(), errors);
    let mut decoded = Decoded { syntax, ..Decoded::default() };
    tables::Tables { file, is_root, decoded: &mut decoded }.read(document.get_ref());
    if !decoded.syntax.is_empty() {
        // What the reader of TOML made of a line that is none means nothing.
        let line = |byte: u32| text.as_bytes()[..byte as usize].iter().rposition(|b| *b == b'\n');
        let broken: Vec<_> = decoded
            .syntax
            .iter()
            .filter_map(|problem| problem.place().map(|place| line(place.origin.start)))
            .collect();
        decoded.faults.retain(|fault| !broken.contains(&line(fault.place.origin.start)));
    }
    decoded
}
