//! How fast things are, as ratios between two ways in the same run: `cargo bench`.
//!
//! `cargo bench -- decide batch load replay memory prove impact import ways` runs some of
//! the parts. A time by itself says
//! little on a machine that does other things; a ratio of medians, taken in turns, says more.

mod batch;
mod decide;
mod floor;
mod impact;
mod import;
mod load;
mod measure;
mod replay;
mod ways;

use std::path::{Path, PathBuf};

use bexum_synth::{Layout, Model, Requests, Size};

/// As in the program itself, for both sides of every ratio.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// The seed of everything measured.
const SEED: u64 = 7;

fn main() {
    if std::env::var_os("BEXUM_PEAK").is_some() {
        return measure::tell_peak(std::env::args_os().skip(1));
    }
    let mut args = std::env::args().skip(1).filter(|arg| !arg.starts_with("--"));
    // The program that does the least: it is this one, told so.
    if std::env::var_os("BEXUM_FLOOR").is_some() {
        let file = args.next().expect("a file of requests");
        return floor::run(Path::new(&file));
    }
    let wanted: Vec<String> = args.collect();
    let is_wanted = |part: &str| wanted.is_empty() || wanted.iter().any(|w| w == part);
    let platform = Platforms { folder: tempfile::tempdir().expect("a temporary folder") };
    if is_wanted("decide") {
        decide::run(&platform);
    }
    if is_wanted("batch") {
        batch::run(&platform);
    }
    if is_wanted("load") {
        load::run(&platform);
    }
    if is_wanted("memory") {
        replay::memory(&platform);
        load::memory(&platform);
    }
    if is_wanted("replay") {
        replay::run(&platform);
    }
    if is_wanted("prove") {
        load::prove(&platform);
    }
    if is_wanted("impact") {
        impact::run(&platform);
    }
    if is_wanted("import") {
        import::run(&platform);
    }
    if is_wanted("ways") {
        ways::run(&platform);
    }
}

/// Estates and logs, made when first wanted.
struct Platforms {
    folder: tempfile::TempDir,
}

impl Platforms {
    fn estate(&self, size: Size, name: &str, layout: Layout) -> PathBuf {
        let folder = self.folder.path().join(name);
        if !folder.exists() {
            bexum_synth::write_estate(&Model::new(size, SEED), &folder, layout)
                .expect("the estate is written");
        }
        folder
    }

    fn requests(&self, size: Size, name: &str, count: usize) -> PathBuf {
        let file = self.folder.path().join(format!("{name}-{count}.ndjson"));
        if !file.exists() {
            let model = Model::new(size, SEED);
            let mut requests = Requests::new(&model, SEED);
            let mut text = String::new();
            (0..count).for_each(|id| requests.write_line(id, &mut text));
            std::fs::write(&file, text).expect("the requests are written");
        }
        file
    }
}

/// A line of a report.
#[allow(clippy::print_stdout)]
fn tell(line: &str) {
    println!("{line}");
}
