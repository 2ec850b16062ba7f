//! Section 3: paths, by trying every way.

use super::{Case, Met, Naive};
use crate::attribute::Value;
use crate::condition::ast::Root;
use crate::pattern::path::{BraceRoot, PathPattern, Segment, SegmentPart};
use crate::truth::Truth;

impl Naive<'_> {
    pub(super) fn path_matches(
        &self,
        pattern: &PathPattern<String>,
        anchor: &str,
        case: &Case<'_>,
    ) -> Truth {
        let mut path = case.request.on.as_ref();
        if !pattern.absolute && !anchor.is_empty() {
            path = path.strip_prefix(anchor).unwrap_or(path).trim_start_matches('/');
        }
        let names: Vec<&str> = if path.is_empty() { Vec::new() } else { path.split('/').collect() };
        self.segments_match(&pattern.segments, &names, case)
    }

    pub(super) fn segments_match(
        &self,
        wanted: &[Segment<String>],
        names: &[&str],
        case: &Case<'_>,
    ) -> Truth {
        let Some((first, rest)) = wanted.split_first() else {
            return Truth::from(names.is_empty());
        };
        if matches!(first, Segment::Rest) {
            let skips = 0..=names.len();
            let best = skips.map(|skip| self.segments_match(rest, &names[skip..], case)).max();
            return best.unwrap_or(Truth::False);
        }
        let Some((name, others)) = names.split_first() else { return Truth::False };
        let here = match first {
            Segment::Literal(text) => Truth::from(**text == **name),
            Segment::Any | Segment::Rest => Truth::True,
            Segment::Mixed(parts) => self.parts_match(parts, name, case),
        };
        if here == Truth::False {
            return here;
        }
        here.min(self.segments_match(rest, others, case))
    }

    pub(super) fn parts_match(
        &self,
        parts: &[SegmentPart<String>],
        name: &str,
        case: &Case<'_>,
    ) -> Truth {
        let Some((first, rest)) = parts.split_first() else { return Truth::from(name.is_empty()) };
        let after = |text: &str| {
            name.strip_prefix(text).map_or(Truth::False, |left| self.parts_match(rest, left, case))
        };
        let anything = || {
            let starts = (0..=name.len()).filter(|at| name.is_char_boundary(*at));
            let best = starts.map(|at| self.parts_match(rest, &name[at..], case)).max();
            best.unwrap_or(Truth::False)
        };
        match first {
            SegmentPart::Text(text) => after(text),
            SegmentPart::Star => anything(),
            SegmentPart::Brace(brace) => {
                let root = match brace.root {
                    BraceRoot::Who => Root::Who,
                    BraceRoot::Given => Root::Given,
                };
                let alternatives = match self.look_up(root, &brace.attribute, case) {
                    Met::Absent => Vec::new(),
                    Met::Unknown => vec![None],
                    Met::There(Value::List(items)) => items.iter().map(spell).collect(),
                    Met::There(value) => vec![spell(&value)],
                };
                let truths = alternatives.into_iter().map(|alternative| match alternative {
                    Some(text) => after(&text),
                    None => anything().min(Truth::Undecided),
                });
                truths.max().unwrap_or(Truth::False)
            }
        }
    }
}

/// How a value stands in a segment, if it can.
fn spell(value: &Value) -> Option<String> {
    match value {
        Value::Text(text) => (!text.is_empty() && !text.contains('/')).then(|| text.to_string()),
        Value::Integer(n) => Some(n.to_string()),
        Value::Boolean(b) => Some(b.to_string()),
        Value::Time(_) | Value::List(_) => None,
    }
}
