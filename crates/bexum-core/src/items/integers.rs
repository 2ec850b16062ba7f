//! Ranges of integers as patterns over letters, as they are written out: no `+`, no zeros in front.

use super::nfa::{Edge, Machine};

impl Machine {
    /// Leads from one state to another by every integer from `least` to `most`.
    pub(super) fn integers(
        &mut self,
        from: usize,
        end: usize,
        least: Option<i64>,
        most: Option<i64>,
    ) {
        if least.is_none_or(|least| least < 0) {
            let minus = self.add();
            self.states[from].edges.push((Edge::Letter('-'), minus));
            // Without their signs, negative numbers stand in reverse: the largest is the least.
            let nearest = most.filter(|most| *most < 0).map_or(1, i64::unsigned_abs);
            self.naturals(minus, end, nearest, least.map(i64::unsigned_abs));
        }
        if most.is_none_or(|most| most >= 0) {
            let least = least.and_then(|least| u64::try_from(least).ok()).unwrap_or(0);
            self.naturals(from, end, least, most.map(i64::unsigned_abs));
        }
    }

    fn naturals(&mut self, from: usize, end: usize, least: u64, most: Option<u64>) {
        if most.is_some_and(|most| most < least) {
            return;
        }
        let (least, most) = (least.to_string(), most.map(|most| most.to_string()));
        let longest = most.as_ref().map_or(least.len(), String::len);
        for length in least.len()..=longest {
            let smallest = format!("1{}", "0".repeat(length - 1));
            let smallest = if length == least.len() { &least } else { &smallest };
            let largest = "9".repeat(length);
            let largest = most.as_ref().filter(|most| most.len() == length).unwrap_or(&largest);
            let bounds = (Some(smallest.as_bytes()), Some(largest.as_bytes()));
            self.digits(from, end, length, bounds);
        }
        if most.is_none() {
            // Numbers with more digits than the least: a first digit other than zero, then at least as
            // many digits as the least has.
            let mut at = self.digit(from, b'1', b'9');
            for _ in 0..least.len() {
                at = self.digit(at, b'0', b'9');
            }
            self.states[at].edges.push((Edge::Digit(b'0', b'9'), at));
            self.states[at].also.push(end);
        }
    }

    fn digit(&mut self, from: usize, least: u8, most: u8) -> usize {
        let next = self.add();
        self.states[from].edges.push((Edge::Digit(least, most), next));
        next
    }

    /// Every run of this many digits that is no smaller than the first bound and no larger than the
    /// second, which are as long.
    fn digits(
        &mut self,
        from: usize,
        end: usize,
        length: usize,
        (least, most): (Option<&[u8]>, Option<&[u8]>),
    ) {
        let Some(left) = length.checked_sub(1) else {
            self.states[from].also.push(end);
            return;
        };
        let least = least.and_then(<[u8]>::split_first);
        let most = most.and_then(<[u8]>::split_first);
        let (lowest, highest) =
            (least.map_or(b'0', |bound| *bound.0), most.map_or(b'9', |bound| *bound.0));
        if let (Some((lowest, least)), Some((highest, most))) = (least, most)
            && lowest == highest
        {
            let next = self.digit(from, *lowest, *lowest);
            self.digits(next, end, left, (Some(least), Some(most)));
            return;
        }
        // Only what begins as a bound does is still held back by the bound's other digits.
        if let Some((_, rest)) = least {
            let next = self.digit(from, lowest, lowest);
            self.digits(next, end, left, (Some(rest), None));
        }
        if let Some((_, rest)) = most {
            let next = self.digit(from, highest, highest);
            self.digits(next, end, left, (None, Some(rest)));
        }
        let (lowest, highest) =
            (lowest + u8::from(least.is_some()), highest - u8::from(most.is_some()));
        if lowest <= highest {
            let next = self.digit(from, lowest, highest);
            self.digits(next, end, left, (None, None));
        }
    }
}
