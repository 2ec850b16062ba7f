//! People from elsewhere: against loading the estate that they are in.

use std::path::Path;
use std::process::Command;

use bexum_synth::{Layout, Size};

use crate::measure::{bexum, median, process, ratio};
use crate::{Platforms, tell};

const MANY: Layout =
    Layout { one_file: false, children_first: false, checks: 0, laws: 0, planted: false };
/// Times that each way is taken, in turns.
const ROUNDS: usize = 3;
/// Of so many people one is otherwise.
const ONE_OF: usize = 2_000;

pub(crate) fn run(platforms: &Platforms) {
    let estate = platforms.estate(Size::XL, "XL-people", MANY);
    let of_estate = |args: &[&str]| {
        let mut program = bexum();
        program.arg("-C").arg(&estate).args(args);
        program
    };
    let exported = of_estate(&["export", "users", "--format", "csv"]).output().expect("it runs");
    let people = String::from_utf8(exported.stdout).expect("text");
    let file = |name: &str, text: &str| {
        let file = estate.with_file_name(name);
        std::fs::write(&file, text).expect("the file is written");
        file
    };
    let as_they_are = file("people.csv", &people);
    let some_otherwise = people.lines().enumerate().map(|(i, line)| match i % ONE_OF {
        1 => format!("{}\n", line.replacen(" of ", " at ", 1)),
        _ => format!("{line}\n"),
    });
    let some_otherwise = file("some.csv", &some_otherwise.collect::<String>());
    let import = |file: &Path, more: &[&str]| -> Command {
        let mut program = of_estate(&["import"]);
        program.arg(file).args(["--source", "office"]).args(more);
        program
    };
    let load = || process(&mut of_estate(&["show", "kind:store"])).wall;
    tell("import of 100 000 people into XL           load    import  ratio");
    let told = |name: &str, command: &dyn Fn() -> Command| {
        let (loads, imports): (Vec<_>, Vec<_>) =
            (0..ROUNDS).map(|_| (load(), process(&mut command()).wall)).unzip();
        let (load, import) = (median(loads), median(imports));
        tell(&format!("{name:<36} {load:>10.0?} {import:>9.0?}  {:>5.2}", ratio(import, load)));
    };
    told("all are taken over", &|| import(&as_they_are, &["--adopt"]));
    process(&mut import(&as_they_are, &["--adopt", "--write"]));
    told("nothing is otherwise", &|| import(&as_they_are, &[]));
    told("one of 2 000 has another name", &|| import(&some_otherwise, &[]));
    // As many people again, against loading all of them.
    let all_new = people.lines().map(|line| match line.strip_prefix("user:") {
        Some(name) => format!("user:new-{name}\n"),
        None => format!("{line}\n"),
    });
    let all_new = file("new.csv", &all_new.collect::<String>());
    let more = || {
        let mut program = of_estate(&["import"]);
        program.arg(&all_new).args(["--source", "elsewhere"]);
        program
    };
    let imports = (0..ROUNDS).map(|_| process(&mut more()).wall).collect();
    process(more().arg("--write"));
    let (load, import) = (median((0..ROUNDS).map(|_| load()).collect()), median(imports));
    let name = "100 000 more, all new";
    tell(&format!("{name:<36} {load:>10.0?} {import:>9.0?}  {:>5.2}", ratio(import, load)));
}
