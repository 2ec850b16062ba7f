//! `replay` of a million lines: against a program that reads and writes the same and decides
//! nothing; on two threads against one; against `usage` of the same; its memory.

use std::process::Command;

use bexum_synth::{Layout, Size};

use crate::measure::{Took, bexum, median, peak, process, ratio};
use crate::{Platforms, tell};

const LINES: usize = 1_000_000;
const ROUNDS: usize = 5;

pub(crate) fn run(platforms: &Platforms) {
    let estate = platforms.estate(Size::L, "L", Layout::default());
    let requests = platforms.requests(Size::L, "L", LINES);
    let this = std::env::current_exe().expect("this program");
    let mut took: [Vec<Took>; 5] = Default::default();
    for _ in 0..ROUNDS {
        took[0].push(process(Command::new(&this).env("BEXUM_FLOOR", "1").arg(&requests)));
        took[1].push(process(bexum().arg("-C").arg(&estate).args(["show", "kind:store"])));
        for (i, threads) in [(2, "1"), (3, "2")] {
            let replay = ["replay", "--threads", threads];
            took[i].push(process(bexum().arg("-C").arg(&estate).args(replay).arg(&requests)));
        }
        let usage = ["usage", "--format", "json", "--threads", "2"];
        took[4].push(process(bexum().arg("-C").arg(&estate).args(usage).arg(&requests)));
    }
    let cpu = |i: usize| median(took[i].iter().map(|took| took.cpu).collect());
    let wall = |i: usize| median(took[i].iter().map(|took| took.wall).collect());
    let (floor, load, one, two) = (cpu(0), cpu(1), cpu(2), cpu(3));
    tell(&format!("replay of {LINES} lines on L, processor time"));
    tell(&format!("  the floor program       {floor:.2?}"));
    tell(&format!("  loading alone           {load:.2?}"));
    tell(&format!("  replay, one thread      {one:.2?}  {:.2} times the floor", ratio(one, floor)));
    let without = one.saturating_sub(load);
    tell(&format!("    without the load      {without:.2?}  {:.2}", ratio(without, floor)));
    tell(&format!("  replay, two threads     {two:.2?}  {:.2}", ratio(two, floor)));
    tell(&format!(
        "  usage, two threads      {:.2?}  {:.2} times replay",
        cpu(4),
        ratio(cpu(4), two)
    ));
    let (one, two, load) = (wall(2), wall(3), wall(1));
    tell(&format!(
        "  by the clock            {one:.2?} on one, {two:.2?} on two: {:.2} times as fast",
        ratio(one, two)
    ));
    tell(&format!(
        "    without the load      {:.2} times as fast",
        ratio(one.saturating_sub(load), two.saturating_sub(load))
    ));
}

/// Peak memory, the short log first.
pub(crate) fn memory(platforms: &Platforms) {
    let estate = platforms.estate(Size::L, "L", Layout::default());
    let mega = |bytes: u64| bytes as f64 / f64::from(1 << 20);
    for command in ["replay", "usage"] {
        let peak_of = |lines: usize| {
            let requests = platforms.requests(Size::L, "L", lines);
            peak(&["-C".as_ref(), estate.as_os_str(), command.as_ref(), requests.as_os_str()])
        };
        tell(&format!(
            "{command} on L takes {:.0} MiB of memory for 10000 lines, {:.0} MiB for {LINES}",
            mega(peak_of(10_000)),
            mega(peak_of(LINES))
        ));
    }
}
