//! Moments: one for every stretch of time in which nothing that matters changes.

use crate::condition::eval::Facts as _;
use crate::condition::fact::{Fact, Scalar};
use crate::condition::{Condition, ConditionStep, Reference, Term};
use crate::engine::{Closure, EvalContext, Index};
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

/// The moments at which conditions may change because of the time: those that it is compared with,
/// and those that an attribute is compared with which nobody gave and which is compared with it in
/// turn, with a step beside each for every such attribute.
pub(super) fn moments_of(context: &EvalContext<'_>, whens: &[&Condition], found: &mut Vec<Time>) {
    let steps =
        || whens.iter().flat_map(|when| when.program.steps.iter().map(|step| (*when, *step)));
    let is_open = |reference| {
        matches!(context.fact(reference), Fact::Unknown) && reference != Reference::Time
    };
    let mut tied = vec![Reference::Time];
    loop {
        let before = tied.len();
        for (_, step) in steps() {
            let ConditionStep::Compare(left, _, right) = step else { continue };
            let Some((a, b)) = left.attribute().zip(right.attribute()) else { continue };
            for (one, other) in [(a, b), (b, a)] {
                if tied.contains(&one) && is_open(other) && !tied.contains(&other) {
                    tied.push(other);
                }
            }
        }
        if tied.len() == before {
            break;
        }
    }
    let mut moments: Vec<Time> = Vec::new();
    for (when, step) in steps() {
        let ConditionStep::Compare(left, _, right) = step else { continue };
        let is_tied = |term: Term| term.attribute().is_some_and(|named| tied.contains(&named));
        if !is_tied(left) && !is_tied(right) {
            continue;
        }
        for term in [left, right] {
            match term {
                Term::Literal(place) => {
                    times_in(&Fact::of(&when.program.literal(place).value), &mut moments);
                }
                Term::Attribute(Reference::Time) | Term::Moment(Reference::Time) => {}
                Term::Attribute(reference) | Term::Moment(reference) => {
                    times_in(&context.fact(reference), &mut moments)
                }
            }
        }
    }
    let beside = i64::try_from(tied.len() - 1).unwrap_or(i64::MAX);
    for at in moments {
        found.extend((-beside..=beside).map(|step| Time(at.0.saturating_add(step))));
    }
}

fn times_in(fact: &Fact<'_>, found: &mut Vec<Time>) {
    let mut one = |scalar: Scalar<'_>| match scalar {
        Scalar::Time(at) => found.push(at),
        Scalar::Text(text) => found.extend(Time::parse(text)),
        _ => {}
    };
    match fact {
        Fact::Scalar(scalar) => one(*scalar),
        Fact::List(list) => list.iter().for_each(one),
        Fact::Absent | Fact::Unknown => {}
    }
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
