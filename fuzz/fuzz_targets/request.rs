//! Any line as a request of a log: what is read at a glance is what is read with care.

#![no_main]

use bexum_core::Time;
use bexum_core::engine::BorrowedRequest;
use bexum_wire::request::parse;
use bexum_wire::scan::Scanner;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let mut scanner = Scanner::default();
    scanner.look_ahead(text);
    for line in text.lines() {
        let mut glance = BorrowedRequest::default();
        let seen = scanner.scan(line, &mut glance);
        let careful = parse(line, Time(0));
        if seen.is_some() {
            let (_, request) = careful.expect("what is read at a glance is a request");
            assert_eq!(request.who, glance.who);
            assert_eq!(request.does, glance.does);
            assert_eq!(request.on, glance.on);
            assert_eq!(request.take_up.as_deref(), glance.take_up);
            assert_eq!(request.time, glance.time.unwrap_or(Time(0)));
            assert_eq!(request.given.len(), glance.given.len());
        }
    }
});
