//! Moments: one for every stretch of time in which nothing that matters changes.

use crate::engine::{Closure, Index};
use crate::principal::Principal;
use crate::time::{Time, Window};

/// The first moment that a request can name, and the last.
pub(super) const EARLIEST: Time = Time::EARLIEST;
pub(super) const LATEST: Time = Time::LATEST;

/// All that somebody is in, from the beginning of time to its end; the present comes first.
pub(super) fn timeline<'e>(index: &'e Index, who: Principal, now: Time) -> Vec<Closure<'e>> {
    let mut found: Vec<Closure<'e>> = Vec::new();
    let mut at = EARLIEST;
    loop {
        let closure = Closure::new(index, who, &[], at);
        let until = closure.valid_during.until;
        found.push(closure);
        match until {
            Some(next) if next > at && next <= LATEST => at = next,
            _ => break,
        }
    }
    found.sort_by_key(|closure| !closure.valid_during.holds(now));
    found
}

/// One moment of every stretch of `within` between these bounds, `now` before all others if it
/// lies inside.
pub(super) fn moments(within: Window, now: Time, bounds: &[Time]) -> Vec<Time> {
    let from = within.from.map_or(EARLIEST, |from| from.max(EARLIEST));
    let last = within.until.map_or(LATEST, |until| Time(until.0 - 1).min(LATEST));
    let inside = |at: &Time| from <= *at && *at <= last;
    let mut found: Vec<Time> = bounds
        .iter()
        .flat_map(|at| [Time(at.0.saturating_sub(1)), *at, Time(at.0.saturating_add(1))])
        .collect();
    match (within.from, within.until) {
        (Some(_), _) => found.push(from),
        (None, Some(_)) => found.push(last),
        (None, None) => {}
    }
    found.retain(inside);
    found.sort_unstable();
    found.dedup();
    if inside(&now) {
        found.retain(|at| *at != now);
        found.insert(0, now);
    }
    found
}

#[cfg(test)]
mod tests {
    use super::{EARLIEST, moments};
    use crate::time::{Time, Window};

    #[test]
    fn a_moment_for_every_stretch() {
        let now = Time(50);
        let window = |from: Option<i64>, until: Option<i64>| Window {
            from: from.map(Time),
            until: until.map(Time),
        };
        let of = |within, bounds: &[i64]| -> Vec<i64> {
            let bounds: Vec<Time> = bounds.iter().map(|at| Time(*at)).collect();
            moments(within, now, &bounds).into_iter().map(|at| at.0).collect()
        };
        assert_eq!(of(Window::ALWAYS, &[]), [50]);
        assert_eq!(of(Window::ALWAYS, &[10]), [50, 9, 10, 11]);
        assert_eq!(of(window(Some(60), None), &[10]), [60]);
        assert_eq!(of(window(None, Some(10)), &[]), [9]);
        assert_eq!(of(window(Some(40), Some(60)), &[45, 60]), [50, 40, 44, 45, 46, 59]);
        assert!(of(window(Some(60), Some(60)), &[]).is_empty());
        assert_eq!(of(window(None, Some(EARLIEST.0)), &[]), [0i64; 0]);
    }
}
