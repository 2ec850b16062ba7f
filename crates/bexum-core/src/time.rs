//! Moments and windows. The core has no clock: every moment comes from outside.

use std::fmt;

use jiff::SignedDuration;
use jiff::civil::DateTime;

/// Where moments are counted from.
const EPOCH: DateTime = DateTime::constant(1970, 1, 1, 0, 0, 0, 0);

/// A moment: microseconds since 1970-01-01T00:00:00Z, without leap seconds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Time(pub i64);

impl Time {
    /// 0001-01-01T00:00:00Z, the first moment that can be written.
    pub const EARLIEST: Self = Self(-62_135_596_800_000_000);
    /// 9999-12-31T23:59:59.999999Z, the last one.
    pub const LATEST: Self = Self(253_402_300_799_999_999);

    /// The moment of a civil date and time at an offset from UTC given in minutes.
    ///
    /// `None` when there is no such date or time of day, or when it lies in no year from 0001 to
    /// 9999 in UTC; fractions of a microsecond are cut off.
    #[must_use]
    pub fn from_civil(
        (year, month, day): (i16, i8, i8),
        (hour, minute, second): (i8, i8, i8),
        nanosecond: u32,
        offset_minutes: i32,
    ) -> Option<Self> {
        let micros = i32::try_from(nanosecond / 1000).ok()?;
        let civil = DateTime::new(year, month, day, hour, minute, second, micros * 1000).ok()?;
        let since = i64::try_from(civil.duration_since(EPOCH).as_micros()).ok()?;
        let utc = Self(since - i64::from(offset_minutes) * 60_000_000);
        (Self::EARLIEST..=Self::LATEST).contains(&utc).then_some(utc)
    }

    /// Reads a time in a string: `YYYY-MM-DDTHH:MM:SS`, a fraction of one to six digits at most,
    /// then `Z` or `±HH:MM`, in capital letters, years 0001 to 9999, seconds to 59, offsets to
    /// 23:59 (spec section 4).
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let b = text.as_bytes();
        let (first, rest) = b.split_first_chunk::<19>()?;
        let two = |a: u8, b: u8| {
            let (tens, ones) = (a.wrapping_sub(b'0'), b.wrapping_sub(b'0'));
            (tens < 10 && ones < 10).then_some(i16::from(tens) * 10 + i16::from(ones))
        };
        let &[y1, y2, y3, y4, b'-', m1, m2, b'-', d1, d2, b'T', h1, h2, b':', i1, i2, b':', s1, s2] =
            first
        else {
            return None;
        };
        let (year, month, day) = (two(y1, y2)? * 100 + two(y3, y4)?, two(m1, m2)?, two(d1, d2)?);
        let (hour, minute, second) = (two(h1, h2)?, two(i1, i2)?, two(s1, s2)?);
        if year == 0 || second > 59 {
            return None;
        }
        let (nanosecond, rest) = match rest {
            [b'.', rest @ ..] => {
                let run = rest.iter().take_while(|d| d.is_ascii_digit()).count();
                if !(1..=6).contains(&run) {
                    return None;
                }
                let (digits, rest) = rest.split_at(run);
                let fraction = digits.iter().fold(0, |n, d| n * 10 + u32::from(d - b'0'));
                (fraction * 10u32.pow(9 - run as u32), rest)
            }
            _ => (0, rest),
        };
        let offset = match *rest {
            [b'Z'] => 0,
            [sign @ (b'+' | b'-'), h1, h2, b':', m1, m2] => {
                let (hours, minutes) = (two(h1, h2)?, two(m1, m2)?);
                if hours > 23 || minutes > 59 {
                    return None;
                }
                let minutes = i32::from(hours * 60 + minutes);
                if sign == b'-' { -minutes } else { minutes }
            }
            _ => return None,
        };
        // The digits were counted above, so each part is within its type.
        Self::from_civil(
            (year, month as i8, day as i8),
            (hour as i8, minute as i8, second as i8),
            nanosecond,
            offset,
        )
    }
}

/// A length of time as people write it, in microseconds: `90m`, `8h`, `30d`, `2w`; longer than nothing.
#[must_use]
pub fn length_in_micros(text: &str) -> Option<i64> {
    let (at, unit) = text.char_indices().next_back()?;
    let seconds = match unit {
        'm' => 60,
        'h' => 3_600,
        'd' => 86_400,
        'w' => 7 * 86_400,
        _ => return None,
    };
    let digits = text.get(..at)?;
    let number = digits.parse::<i64>().ok().filter(|number| *number > 0)?;
    digits.bytes().all(|b| b.is_ascii_digit()).then_some(())?;
    number.checked_mul(seconds * 1_000_000)
}

impl fmt::Display for Time {
    /// In UTC, without a fraction where there is none: `2026-03-01T08:00:00Z`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // Every moment that can be written is a date.
        match EPOCH.checked_add(SignedDuration::from_micros(self.0)) {
            Ok(civil) => write!(f, "{civil}Z"),
            Err(_) => write!(f, "{}µs", self.0),
        }
    }
}

/// A span of time: `from` inclusive, `until` exclusive, either or both open.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Window {
    /// First moment inside.
    pub from: Option<Time>,
    /// First moment no longer inside.
    pub until: Option<Time>,
}

/// Where a moment lies, seen from a window.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Phase {
    /// The window opens later.
    Future,
    /// Inside.
    Open,
    /// The window has closed.
    Past,
}

impl Window {
    /// The window without bounds.
    pub const ALWAYS: Self = Self { from: None, until: None };

    /// Whether `at` lies inside.
    #[must_use]
    pub fn holds(&self, at: Time) -> bool {
        self.phase(at) == Phase::Open
    }

    /// Where `at` lies.
    #[must_use]
    pub fn phase(&self, at: Time) -> Phase {
        if self.from.is_some_and(|from| at < from) {
            Phase::Future
        } else if self.until.is_some_and(|until| at >= until) {
            Phase::Past
        } else {
            Phase::Open
        }
    }

    /// The longest window around `at` in which the answer of [`Window::holds`] stays the same.
    #[must_use]
    pub fn valid_around(&self, at: Time) -> Self {
        match self.phase(at) {
            Phase::Open => *self,
            Phase::Future => Self { from: None, until: self.from },
            Phase::Past => Self { from: self.until, until: None },
        }
    }

    /// The time that both windows hold.
    #[must_use]
    pub fn intersect(&self, other: &Self) -> Self {
        let least = |a: Option<Time>, b: Option<Time>| match (a, b) {
            (Some(a), Some(b)) => Some(a.min(b)),
            (a, b) => a.or(b),
        };
        Self { from: self.from.max(other.from), until: least(self.until, other.until) }
    }
}

#[cfg(test)]
mod tests {
    use super::{Phase, Time, Window};

    #[test]
    fn the_written_form_and_nothing_else() {
        assert_eq!(Time::parse("1970-01-01T00:00:01Z"), Some(Time(1_000_000)));
        assert_eq!(Time::parse("1970-01-01T01:00:00.5+01:00"), Some(Time(500_000)));
        assert_eq!(Time::parse("2026-12-31T16:00:00-08:00"), Time::parse("2027-01-01T00:00:00Z"));
        assert_eq!(Time::parse("0001-01-01T00:00:00Z"), Some(Time::EARLIEST));
        assert_eq!(Time::parse("0001-01-01T23:59:00+23:59"), Some(Time::EARLIEST));
        assert_eq!(Time::parse("9999-12-31T23:59:59.999999Z"), Some(Time::LATEST));
        assert_eq!(Time::parse("9999-12-31T00:00:59.999999-23:59"), Some(Time::LATEST));
        for bad in [
            "",
            "2026-01-01",
            "2026-01-01T00:00:00",
            "2026-01-01t00:00:00Z",
            "2026-01-01T00:00:00z",
            "2026-01-01T00:00:00.Z",
            "2026-01-01T00:00:00.1234567Z",
            "2026-02-29T00:00:00Z",
            "2026-01-01T00:00:60Z",
            "2026-01-01T24:00:00Z",
            "0000-01-01T00:00:00Z",
            "0001-01-01T00:00:00+00:01",
            "9999-12-31T23:59:59-00:01",
            "2026-01-01T00:00:00+24:00",
            "2026-01-01T00:00:00+0100",
            "2026-01-01 00:00:00Z",
            "+026-01-01T00:00:00Z",
            "2026-01-01T00:00:00Zé",
            "2026-01-01T00:00:0éZ",
        ] {
            assert_eq!(Time::parse(bad), None, "{bad}");
        }
    }

    #[test]
    fn shown_in_utc() {
        let shown = |text: &str| Time::parse(text).map(|t| t.to_string());
        assert_eq!(shown("2026-03-01T10:00:00+02:00").as_deref(), Some("2026-03-01T08:00:00Z"));
        assert_eq!(shown("2026-03-01T08:00:00.25Z").as_deref(), Some("2026-03-01T08:00:00.25Z"));
    }

    proptest::proptest! {
        #[test]
        fn windows_stay_as_they_say(bounds in proptest::array::uniform4(proptest::option::of(0..9i64)), at in 0..9i64, then in 0..9i64) {
            let window = |from: Option<i64>, until: Option<i64>| Window { from: from.map(Time), until: until.map(Time) };
            let (a, b) = (window(bounds[0], bounds[1]), window(bounds[2], bounds[3]));
            let both = a.intersect(&b);
            proptest::prop_assert_eq!(both.holds(Time(at)), a.holds(Time(at)) && b.holds(Time(at)));
            let valid_during = a.valid_around(Time(at));
            proptest::prop_assert!(valid_during.holds(Time(at)) || a.from >= a.until);
            if valid_during.holds(Time(then)) && valid_during.holds(Time(at)) {
                proptest::prop_assert_eq!(a.holds(Time(then)), a.holds(Time(at)));
            }
        }

        #[test]
        fn what_is_shown_reads_back(micros in Time::EARLIEST.0..=Time::LATEST.0) {
            let time = Time(micros);
            proptest::prop_assert_eq!(Time::parse(&time.to_string()), Some(time));
        }
    }

    #[test]
    fn windows_open_and_close() {
        let window = Window { from: Some(Time(10)), until: Some(Time(20)) };
        let phases = [9, 10, 19, 20].map(|at| window.phase(Time(at)));
        assert_eq!(phases, [Phase::Future, Phase::Open, Phase::Open, Phase::Past]);
        assert_eq!(window.valid_around(Time(3)), Window { from: None, until: Some(Time(10)) });
        let other = Window { from: Some(Time(12)), until: None };
        assert_eq!(
            window.intersect(&other),
            Window { from: Some(Time(12)), until: Some(Time(20)) }
        );
    }
}
