//! A log of half a year that goes with the demo estate: who does what how often, since when and until
//! when. Some stopped, some never use most of what they have, and one is in a group by mistake.

use std::fmt::Write as _;

use rand::{Rng as _, SeedableRng as _};
use rand_chacha::ChaCha8Rng;

/// The first day of the log, in days since 1970-01-01: 2026-06-01.
const FIRST_DAY: i64 = 20_605;
/// How many days it goes on: until 2026-11-22.
const DAYS: i64 = 175;

/// Something that somebody does again and again.
struct Habit {
    who: &'static str,
    does: &'static str,
    /// Where; `{n}` stands for a number that differs from time to time.
    on: &'static str,
    take_up: Option<&'static str>,
    /// Circumstances besides the time, as JSON without braces.
    given: &'static str,
    /// How many days lie between two times.
    every: f64,
    /// The first and last day, counted from the log's first.
    days: (i64, i64),
    /// What was decided then.
    verdict: (&'static str, &'static str),
}

const GRANTED: (&str, &str) = ("allow", "granted");
const NOT_GRANTED: (&str, &str) = ("deny", "not-granted");
const DENIED: (&str, &str) = ("deny", "denied");

/// A habit of all the time that is allowed.
const fn habit(who: &'static str, does: &'static str, on: &'static str, every: f64) -> Habit {
    let days = (0, DAYS);
    Habit { who, does, on, take_up: None, given: "", every, days, verdict: GRANTED }
}

const HABITS: [Habit; 28] = [
    // Imaging.
    habit("user:ines", "recording.read", "veyra/survey/spectra/imaging/run-{n}.fits", 2.0),
    habit("user:ines", "recording.put", "veyra/survey/spectra/imaging/run-{n}.fits", 6.0),
    habit("user:ines", "job.submit", "veyra/survey/reduction/imaging/cube-{n}", 5.0),
    habit("user:tomas", "recording.read", "veyra/survey/spectra/imaging/run-{n}.fits", 5.0),
    habit("user:tomas", "store.list", "veyra/survey/maps", 9.0),
    habit("user:tomas", "job.view", "veyra/survey/reduction/imaging/cube-{n}", 12.0),
    habit("user:rafi", "recording.read", "veyra/survey/spectra/imaging/run-{n}.fits", 4.0),
    habit("user:rafi", "job.submit", "veyra/survey/reduction/imaging/cube-{n}", 9.0),
    Habit {
        verdict: DENIED,
        ..habit("user:tomas", "recording.erase", "veyra/survey/spectra/imaging/run-{n}.fits", 40.0)
    },
    // Lin reads for the calibration, and looks after the run.
    habit("user:lin", "recording.verify", "veyra/survey/spectra/imaging/run-{n}.fits", 6.0),
    habit("user:lin", "job.cancel", "veyra/survey/reduction/nightly/spectra-{n}", 15.0),
    Habit {
        verdict: NOT_GRANTED,
        ..habit("user:lin", "job.submit", "veyra/survey/reduction/transit/search-{n}", 45.0)
    },
    // Transit; Eun went to another project in summer.
    habit("user:wanja", "recording.read", "veyra/survey/spectra/transit/run-{n}.fits", 3.0),
    habit("user:wanja", "job.submit", "veyra/survey/reduction/transit/search-{n}", 7.0),
    habit("user:wanja", "job.submit", "veyra/survey/reduction/nightly/spectra-{n}", 20.0),
    Habit {
        days: (0, 48),
        ..habit("user:eun", "recording.put", "veyra/survey/spectra/transit/run-{n}.fits", 4.0)
    },
    Habit {
        days: (95, DAYS),
        ..habit("user:juno", "recording.read", "veyra/survey/spectra/transit/run-{n}.fits", 6.0)
    },
    // The dishes.
    Habit {
        given: "\"wind\":24",
        ..habit("user:noor", "dish.point", "veyra/instruments/mesa/dish-1", 3.0)
    },
    Habit {
        take_up: Some("role:dish-keeper"),
        given: "\"mfa\":true",
        ..habit("user:noor", "dish.calibrate", "veyra/instruments/mesa/dish-2", 14.0)
    },
    Habit {
        given: "\"wind\":31",
        ..habit("user:mirek", "dish.point", "veyra/instruments/mesa/dish-2", 5.0)
    },
    Habit {
        given: "\"wind\":72",
        verdict: DENIED,
        ..habit("user:mirek", "dish.point", "veyra/instruments/mesa/dish-1", 60.0)
    },
    Habit {
        given: "\"wind\":18",
        ..habit("user:petra", "dish.point", "veyra/instruments/fjord/dish-3", 3.0)
    },
    habit("user:petra", "dish.telemetry", "veyra/instruments/fjord/dish-4", 8.0),
    // Everybody else.
    habit("user:sol", "job.submit", "veyra/survey/reduction/sandbox/try-{n}", 11.0),
    habit("user:yara", "store.list", "veyra/survey/spectra", 16.0),
    Habit {
        given: "\"device\":{\"managed\":true}",
        ..habit("user:amara", "group.view", "veyra/people/imaging", 13.0)
    },
    habit("user:theo", "recording.read", "veyra/outreach/gallery/sky-{n}.png", 18.0),
    // It was granted before visitors came under a ceiling.
    Habit { days: (0, 30), ..habit("user:theo", "user.rename", "veyra/people/theo", 15.0) },
];

/// The log, a request a line, in the order of time; the same for a seed.
#[must_use]
pub fn demo_log(seed: u64) -> String {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let mut lines: Vec<(i64, String)> = Vec::new();
    for habit in &HABITS {
        let mut day = habit.days.0 as f64 + rng.random_range(0.0..habit.every);
        while day < habit.days.1 as f64 {
            // At work from seven to seven.
            let second = (FIRST_DAY + day as i64) * 86_400 + rng.random_range(7 * 3600..19 * 3600);
            lines.push((second, habit.line(second, rng.random_range(400..480))));
            day += habit.every * rng.random_range(0.6..1.4);
        }
    }
    lines.sort();
    lines.into_iter().map(|(_, line)| line + "\n").collect()
}

impl Habit {
    fn line(&self, second: i64, number: u32) -> String {
        let Self { who, does, on, take_up, given, verdict: (verdict, reason), .. } = self;
        let on = on.replace("{n}", &format!("{number:04}"));
        let mut line = format!("{{\"who\":\"{who}\",\"does\":\"{does}\",\"on\":\"{on}\"");
        if let Some(role) = take_up {
            let _ = write!(line, ",\"as\":\"{role}\"");
        }
        let comma = if given.is_empty() { "" } else { "," };
        let time = moment(second);
        let _ = write!(line, ",\"given\":{{{given}{comma}\"time\":\"{time}\"}}");
        let _ = write!(line, ",\"verdict\":\"{verdict}\",\"reason\":\"{reason}\"}}");
        line
    }
}

/// A moment as files write it, from seconds since 1970.
pub(crate) fn moment(second: i64) -> String {
    jiff::Timestamp::from_second(second).map_or_else(|_| String::new(), |time| time.to_string())
}
