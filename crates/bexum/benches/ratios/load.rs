//! Loading: against the TOML parser alone on the same bytes; its memory; and one question.

use std::hint::black_box;
use std::path::{Path, PathBuf};
use std::time::Duration;

use bexum_synth::{Layout, Size};
use serde_json::Value as Json;
use toml::de::DeTable;

use crate::measure::{bexum, in_turns, median, peak, process, ratio};
use crate::{Platforms, tell};

const MANY: Layout =
    Layout { one_file: false, children_first: false, checks: 0, laws: 0, planted: false };

pub(crate) fn run(platforms: &Platforms) {
    tell("loading                    bytes  parser alone  1 thread  ratio  2 threads  ratio");
    let shapes = [
        ("L", Size::L, MANY, 7),
        ("L, one file", Size::L, Layout { one_file: true, ..MANY }, 5),
        ("L, children first", Size::L, Layout { children_first: true, ..MANY }, 5),
        ("L, one, ch. first", Size::L, Layout { one_file: true, children_first: true, ..MANY }, 5),
        ("XL", Size::XL, MANY, 3),
    ];
    let mut per_byte: Vec<f64> = Vec::new();
    for (name, size, layout, rounds) in shapes {
        let folder = platforms.estate(size, name, layout);
        let texts = texts(&folder);
        let bytes: usize = texts.iter().map(String::len).sum();
        let load = |threads: usize| {
            let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build();
            let pool = pool.expect("threads");
            move |folder: &Path| {
                pool.install(|| black_box(bexum_files::load(folder).expect("the estate")));
            }
        };
        let (one, two) = (load(1), load(2));
        let mut parser = || {
            for text in &texts {
                black_box(DeTable::parse(text).expect("TOML"));
            }
        };
        let medians =
            in_turns(rounds, &mut [&mut parser, &mut || one(&folder), &mut || two(&folder)]);
        tell(&format!(
            "{name:<20} {bytes:>11}  {:>12.0?}  {:>8.0?}  {:>5.2}  {:>9.0?}  {:>5.2}",
            medians[0],
            medians[1],
            ratio(medians[1], medians[0]),
            medians[2],
            ratio(medians[2], medians[0]),
        ));
        per_byte.push(medians[1].as_secs_f64() / bytes as f64);
    }
    let growth = per_byte.last().zip(per_byte.first()).map_or(0.0, |(xl, l)| xl / l);
    tell(&format!("a byte of XL takes {growth:.2} times as long to load as one of L"));

    let folder = platforms.estate(Size::L, "L", MANY);
    let show = |args: &[&str]| {
        let times = (0..9).map(|_| process(bexum().arg("-C").arg(&folder).args(args)).wall);
        median(times.collect::<Vec<Duration>>())
    };
    let alone = show(&["show", "kind:store"]);
    let text = std::fs::read_to_string(platforms.requests(Size::L, "L", 10)).expect("requests");
    let first = text.lines().next().and_then(|line| serde_json::from_str::<Json>(line).ok());
    let first = first.expect("a request");
    let word = |key: &str| first[key].as_str().expect("a string").to_owned();
    let asked = show(&["ask", &word("who"), &word("does"), &word("on")]);
    tell(&format!(
        "one question on L takes {:.2} times a load ({asked:.0?}, {alone:.0?})",
        ratio(asked, alone)
    ));
}

/// Peak memory of a process that loads L, by bytes of its files.
pub(crate) fn memory(platforms: &Platforms) {
    let folder = platforms.estate(Size::L, "L", MANY);
    let bytes: usize = texts(&folder).iter().map(String::len).sum();
    let args = ["-C".as_ref(), folder.as_os_str(), "show".as_ref(), "kind:store".as_ref()];
    tell(&format!(
        "loading L takes {:.1} bytes of memory for each of its {bytes} bytes",
        peak(&args) as f64 / bytes as f64
    ));
}

/// A thousand laws and ten thousand checks.
pub(crate) fn prove(platforms: &Platforms) {
    let layout = Layout { checks: 10_000, laws: 1_000, ..MANY };
    let folder = platforms.estate(Size::L, "L with expectations", layout);
    let took = process(bexum().arg("-C").arg(&folder).args(["prove", "--format", "junit"]));
    let load = process(bexum().arg("-C").arg(&folder).args(["show", "kind:store"]));
    tell(&format!(
        "1000 laws and 10000 checks on L: {:.1?} ({:.0} loads), {:.1?} of processor time",
        took.wall,
        ratio(took.wall, load.wall),
        took.cpu
    ));
}

fn texts(folder: &Path) -> Vec<String> {
    let mut found: Vec<String> = Vec::new();
    let mut folders: Vec<PathBuf> = vec![folder.to_path_buf()];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).expect("a folder") {
            let path = entry.expect("an entry").path();
            if path.is_dir() {
                folders.push(path);
            } else {
                found.push(std::fs::read_to_string(path).expect("a file"));
            }
        }
    }
    found
}
