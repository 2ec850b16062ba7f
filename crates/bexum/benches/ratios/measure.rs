//! Times and memory of work in this process and of whole processes.

use std::ffi::{OsStr, OsString};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use nix::sys::resource::{UsageWho, getrusage};

/// The middle of several.
pub(crate) fn median(mut times: Vec<Duration>) -> Duration {
    times.sort_unstable();
    times[times.len() / 2]
}

/// Medians of several ways to do something, taken in turns.
pub(crate) fn in_turns(rounds: usize, ways: &mut [&mut dyn FnMut()]) -> Vec<Duration> {
    let mut times = vec![Vec::with_capacity(rounds); ways.len()];
    for _ in 0..rounds {
        for (way, times) in ways.iter_mut().zip(&mut times) {
            let start = Instant::now();
            way();
            times.push(start.elapsed());
        }
    }
    times.into_iter().map(median).collect()
}

/// What a process took.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Took {
    pub(crate) cpu: Duration,
    pub(crate) wall: Duration,
}

pub(crate) fn process(command: &mut Command) -> Took {
    let cpu = || {
        let usage = getrusage(UsageWho::RUSAGE_CHILDREN).expect("usage");
        let micros = |at: nix::sys::time::TimeVal| {
            use nix::sys::time::TimeValLike as _;
            Duration::from_micros(at.num_microseconds().unsigned_abs())
        };
        micros(usage.user_time()) + micros(usage.system_time())
    };
    let before = cpu();
    let start = Instant::now();
    run(command);
    Took { wall: start.elapsed(), cpu: cpu() - before }
}

fn run(command: &mut Command) {
    let status =
        command.stdout(Stdio::null()).stderr(Stdio::null()).status().expect("the program runs");
    assert!(status.code().is_some_and(|code| code < 2), "{command:?} ends well");
}

/// The largest memory of the program with these arguments, in bytes. A process that starts another
/// counts as it for a moment, so a small one does: this program again.
pub(crate) fn peak(args: &[&OsStr]) -> u64 {
    let this = std::env::current_exe().expect("this program");
    let output = Command::new(this).env("BEXUM_PEAK", "1").args(args).output().expect("it runs");
    String::from_utf8_lossy(&output.stdout).trim().parse().expect("a number of bytes")
}

/// What the small process does.
pub(crate) fn tell_peak(args: impl Iterator<Item = OsString>) {
    run(bexum().args(args));
    let usage = getrusage(UsageWho::RUSAGE_CHILDREN).expect("usage");
    crate::tell(&(usage.max_rss().unsigned_abs() * 1024).to_string());
}

/// The program.
pub(crate) fn bexum() -> Command {
    Command::new(env!("CARGO_BIN_EXE_bexum"))
}

pub(crate) fn ratio(a: Duration, b: Duration) -> f64 {
    a.as_secs_f64() / b.as_secs_f64()
}
