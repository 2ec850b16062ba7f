//! From refusals to the smallest change: against a load, which is a question whose answer is not
//! explained.

use std::ffi::OsString;
use std::time::Instant;

use bexum_synth::{Layout, Size};
use serde_json::Value as Json;

use crate::measure::{bexum, process, ratio};
use crate::{Platforms, tell};

const MANY: Layout =
    Layout { one_file: false, children_first: false, checks: 0, laws: 0, planted: false };
/// How many requests are made, of which about half are refused.
const REQUESTS: usize = 80;

pub(crate) fn run(platforms: &Platforms) {
    let folder = platforms.estate(Size::L, "L", MANY);
    let requests = std::fs::read_to_string(platforms.requests(Size::L, "L", REQUESTS));
    let (mut single, mut others) = (Vec::new(), Vec::new());
    for line in requests.expect("requests").lines() {
        let question = question(&serde_json::from_str(line).expect("a request"));
        let with = |command: &str| {
            let mut program = bexum();
            program.arg("-C").arg(&folder).arg(command).args(&question);
            program
        };
        let mut asked = with("ask");
        asked.args(["--format", "json"]);
        if asked.output().expect("it runs").status.code() != Some(1) {
            continue;
        }
        let load = process(&mut asked).wall.min(process(&mut asked).wall);
        let start = Instant::now();
        let output = with("ways").output().expect("it runs");
        let took = ratio(start.elapsed(), load);
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        let is_single = !text.contains("no single one would") && !text.contains("no step");
        if is_single { &mut single } else { &mut others }.push(took);
    }
    tell("ways on L, in loads       refusals  median  90 %   worst");
    for (name, mut all) in [("that one step mends", single), ("that need two, or more", others)] {
        all.sort_by(f64::total_cmp);
        let at = |percent: usize| all.get((all.len() * percent / 100).min(all.len() - 1));
        if let (Some(median), Some(most), Some(worst)) = (at(50), at(90), all.last()) {
            let count = all.len();
            tell(&format!("{name:<24} {count:>9}  {median:>6.2}  {most:>4.2}  {worst:>5.2}"));
        }
    }
}

/// The words of a question in a line of a log.
fn question(request: &Json) -> Vec<OsString> {
    let word = |key: &str| request[key].as_str().map(str::to_owned);
    let mut words: Vec<String> = ["who", "does", "on"].into_iter().filter_map(word).collect();
    words.extend(word("as").into_iter().flat_map(|role| ["--as".to_owned(), role]));
    for (name, value) in request["given"].as_object().into_iter().flatten() {
        let value = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
        match name.as_str() {
            "time" => words.extend(["--at-time".to_owned(), value]),
            _ => words.extend(["--given".to_owned(), format!("{name}={value}")]),
        }
    }
    words.into_iter().map(OsString::from).collect()
}
