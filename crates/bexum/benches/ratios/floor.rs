//! The least that a program which answers requests must do: read lines as JSON, borrowed, and
//! write answers of the same size, without deciding anything.

use std::borrow::Cow;
use std::io::{BufWriter, Write as _};
use std::path::Path;

use serde::Deserialize;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Asked<'a> {
    id: u64,
    #[serde(borrow)]
    who: Cow<'a, str>,
    #[serde(borrow)]
    does: Cow<'a, str>,
    #[serde(borrow)]
    on: Cow<'a, str>,
    #[serde(borrow, rename = "as", default)]
    take_up: Cow<'a, str>,
    #[serde(borrow)]
    given: Given<'a>,
}

#[derive(Deserialize)]
struct Given<'a> {
    mfa: bool,
    #[serde(borrow)]
    ip: Cow<'a, str>,
    #[serde(borrow)]
    time: Cow<'a, str>,
}

pub(crate) fn run(file: &Path) {
    let text = std::fs::read(file).expect("the requests");
    let text = std::str::from_utf8(&text).expect("UTF-8");
    let mut out = BufWriter::with_capacity(1 << 16, std::io::stdout().lock());
    let mut answer = Vec::new();
    for line in text.lines() {
        let asked: Asked<'_> = serde_json::from_str(line).expect("a request");
        let sum = asked.who.len() + asked.does.len() + asked.on.len() + asked.take_up.len();
        let more = asked.given.ip.len() + asked.given.time.len();
        let allow = (sum + more) % 3 == usize::from(asked.given.mfa);
        answer.clear();
        answer.extend_from_slice(b"{\"id\":");
        answer.extend_from_slice(itoa::Buffer::new().format(asked.id).as_bytes());
        answer.extend_from_slice(if allow {
            b",\"verdict\":\"allow\",\"reason\":\"granted\"}\n"
        } else {
            b",\"verdict\":\"deny\",\"reason\":\"not-granted\"}\n"
        });
        out.write_all(&answer).expect("somebody reads");
    }
    out.flush().expect("somebody reads");
}
