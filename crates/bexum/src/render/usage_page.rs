//! What logs used, as a page by itself: requests over time, and from when to when each thing was
//! used.

use askama::Template;
use bexum_core::Time;
use bexum_core::usage::By;
use bexum_wire::usage::{Otherwise, Row, State};

use super::usage::{Shown, date};

/// Microseconds of a day.
const DAY: i64 = 86_400_000_000;
/// Most bars of requests over time; more days than this share one.
const MOST_BARS: i64 = 120;
/// The height of the tallest bar, in the drawing's own units.
const TALL: u64 = 100;

#[derive(Template)]
#[template(path = "usage.html")]
struct Page<'t> {
    answer: String,
    idle_since: &'t str,
    errors: u64,
    bars: Vec<Bar>,
    days_of_bar: i64,
    first_day: String,
    last_day: String,
    sorts: Vec<Sort<'t>>,
    otherwise: &'t [Otherwise],
    is_narrow: bool,
}

/// Requests of some days, as heights.
struct Bar {
    x: i64,
    allowed: u64,
    refused: u64,
    title: String,
}

/// Things of one sort.
struct Sort<'t> {
    name: &'static str,
    used: usize,
    idle: usize,
    never: usize,
    lines: Vec<Line<'t>>,
}

struct Line<'t> {
    row: &'t Row,
    words: String,
    first: &'t str,
    last: &'t str,
    /// Where its time of use begins and how long it is, in hundredths of all the time.
    span: Option<(String, String)>,
}

fn time(text: &str) -> i64 {
    Time::parse(text).map_or(0, |time| time.0)
}

impl Shown<'_> {
    /// The page.
    pub(crate) fn page(&self) -> anyhow::Result<String> {
        let days: Vec<(i64, u64, u64)> = self
            .summary
            .days
            .iter()
            .map(|(day, n)| {
                (time(&format!("{day}T00:00:00Z")).div_euclid(DAY), n.allowed, n.refused)
            })
            .collect();
        let first = days.first().map_or(0, |(day, ..)| *day);
        let last = days.last().map_or(0, |(day, ..)| *day);
        let days_of_bar = ((last - first + 1) / MOST_BARS).max(0) + 1;
        let many = (last - first) / days_of_bar + 1;
        let mut sums = vec![(0_u64, 0_u64); usize::try_from(many).unwrap_or_default()];
        for (day, allowed, refused) in &days {
            let at = usize::try_from((day - first) / days_of_bar).unwrap_or_default();
            if let Some(sum) = sums.get_mut(at) {
                *sum = (sum.0 + allowed, sum.1 + refused);
            }
        }
        let most =
            sums.iter().map(|(allowed, refused)| allowed + refused).max().unwrap_or(0).max(1);
        let name = |day: i64| date(&Time(day * DAY).to_string()).to_owned();
        let bars = (0_i64..).zip(&sums).map(|(at, (allowed, refused))| Bar {
            x: at,
            allowed: allowed * TALL / most,
            refused: refused * TALL / most,
            title: format!(
                "{}: {allowed} allowed, {refused} refused",
                name(first + at * days_of_bar)
            ),
        });
        let (start, length) = (first * DAY, ((last - first + 1) * DAY) as f64);
        let hundredths = |from: i64| format!("{:.2}", from as f64 / length * 100.0);
        let line = |row| {
            let row: &Row = row;
            let both = row.first.as_deref().zip(row.last.as_deref());
            let span = both.map(|(first, last)| {
                let (first, last) = (time(first), time(last));
                (hundredths(first - start), hundredths((last - first).max(DAY / 4)))
            });
            Line {
                row,
                words: row.thing.words(),
                first: row.first.as_deref().map_or("", date),
                last: row.last.as_deref().map_or("", date),
                span,
            }
        };
        let sorts = By::ALL.into_iter().filter_map(|by| {
            let rows: Vec<&Row> =
                self.report.rows.iter().filter(|row| row.thing.by() == by).collect();
            let of = |state| rows.iter().filter(|row| row.state == state).count();
            (!rows.is_empty()).then(|| Sort {
                name: super::usage::words(by).1,
                used: of(State::Used),
                idle: of(State::Idle),
                never: of(State::Never),
                lines: rows.iter().copied().map(line).collect(),
            })
        });
        let page = Page {
            answer: self.answer(),
            idle_since: date(&self.report.idle_since),
            errors: self.report.errors,
            bars: bars.collect(),
            days_of_bar,
            first_day: name(first),
            last_day: name(last),
            sorts: sorts.collect(),
            otherwise: &self.report.otherwise,
            is_narrow: self.is_narrow,
        };
        Ok(page.render()?)
    }
}
