//! Any bytes as the file of an estate: it loads, or every problem has a place that is there.

#![no_main]

use bexum_files::{Named, load_from};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let files = vec![("bexum.toml".into(), text.to_owned())];
    let Err(failure) = load_from(&Named { root: "x".into(), files }) else { return };
    for diagnostic in failure.diagnostics() {
        assert!(!diagnostic.message.is_empty());
        for label in &diagnostic.labels {
            let bytes = failure.sources.bytes(label.place);
            assert!(text.get(bytes).is_some(), "{diagnostic:?}");
        }
    }
});
