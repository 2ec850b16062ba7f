//! What an attribute that nobody gave may have to be: finitely many values that stand for all.
//!
//! Conditions compare attributes with constants, with what the estate says, and with each other.
//! Two values that every such comparison answers alike are one value to the estate; so the values
//! named in comparisons, one in each gap between them, one that occurs nowhere and `absent` are
//! enough. Attributes that are compared with each other may have to differ where all else treats them
//! alike: for them there are as many values of each sort as there are such attributes. Where this is
//! not all there is, the answer says so.

use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet};

use rustc_hash::FxHashMap;

use super::addresses::is_range;
use super::spellings;
use crate::attribute::Value;
use crate::condition::ast::Operator;
use crate::condition::check::TargetAttribute;
use crate::condition::eval::Facts;
use crate::condition::fact::Fact;
use crate::condition::{ConditionStep, Program, Reference, Takes, Term, is_fitting};
use crate::engine::{Clause, EvalContext};
use crate::items::{of_fits, tell_names_apart};
use crate::pattern::path::{PathPattern, Segment, SegmentPart};
use crate::pattern::residual::FRESH;
use crate::request::Given;
use crate::time::Time;
use crate::truth::Truth;
use crate::vocabulary::{AttributeRule, ValueType};

/// The longest segment, in letters, of which the parts are tried in a brace's place.
const MOST_LETTERS: usize = 48;
/// Most lists that are tried as values of one attribute.
const MOST_LISTS: usize = 2_000;
/// Most attributes compared with each other of which each is given words of its own.
pub(crate) const MOST_WORDS_EACH: usize = 4;

/// What a set of attributes that are compared with each other is compared with.
#[derive(Clone, Debug, Default)]
pub(crate) struct ValueDomain {
    pub(crate) texts: BTreeSet<String>,
    integers: BTreeSet<i64>,
    booleans: bool,
    pub(super) times: BTreeSet<Time>,
    pub(crate) fit_patterns: BTreeSet<String>,
    pub(super) ranges: BTreeSet<String>,
    is_ordered: bool,
    /// Whether two of its attributes are compared by their order.
    orders_its_own: bool,
    /// Whether it stands on either side of `within`, where a text is read as an address if it is one.
    pub(super) reads_addresses: bool,
    /// Whether a range that nobody gave is asked about: it may hold one of two addresses that all
    /// known ranges treat alike.
    pub(super) open_ranges: bool,
    /// Whether it is compared with a time, where a text is read as a time if it is one.
    reads_times: bool,
    /// Whether it is put into a path.
    in_brace: bool,
    /// Whether anything else is asked of it, or declared.
    pub(crate) is_asked: bool,
    /// Whether some attribute of it is declared to be an integer.
    takes_integers: bool,
    /// The only values that some attribute of it has; constants to the others that share it.
    one_of: Vec<Value>,
    /// How many attributes share it.
    pub(crate) shared_by: usize,
    /// Whether something could not be taken in.
    is_partial: bool,
}

/// How an attribute is used.
#[derive(Clone, Copy, Debug, Default)]
struct Shape {
    scalar: bool,
    /// In how many places as a list.
    lists: usize,
    has: bool,
    /// In how many of these on the right of `within`. One range there is as good as a list of it, so
    /// that lists are enough where nothing else asks.
    ranges: usize,
}

/// The attributes that are not known, and all that they are compared with.
#[derive(Debug, Default)]
pub(crate) struct Unknowns {
    pub(crate) references: Vec<Reference>,
    places: FxHashMap<Reference, usize>,
    shapes: Vec<Shape>,
    /// Which other attribute each shares a domain with; a leader names itself.
    joined: Vec<usize>,
    domains: Vec<ValueDomain>,
    /// What is declared of each.
    rules: Vec<Option<AttributeRule>>,
    values: Vec<OnceCell<(Vec<Given>, bool)>>,
}

/// One side of a comparison.
enum Operand {
    Known(Vec<Value>),
    Unknown(usize),
}

impl Unknowns {
    /// Takes in what a clause asks, as it is seen in a context.
    pub(crate) fn take_in(&mut self, context: &EvalContext<'_>, clause: Clause<'_>) {
        clause.patterns().for_each(|pattern| self.braces(context, pattern));
        if let Some(when) = clause.when {
            self.condition(context, &when.program);
        }
    }

    /// The place of an attribute in [`Unknowns::references`].
    pub(crate) fn place(&self, reference: Reference) -> Option<usize> {
        self.places.get(&reference).copied()
    }

    /// What an attribute is compared with, if it is not known.
    pub(crate) fn domain(&self, reference: Reference) -> Option<&ValueDomain> {
        Some(&self.domains[self.leader(self.place(reference)?)])
    }

    /// A number for an attribute that is not known, the same for all that are compared with it.
    pub(crate) fn number(&self, reference: Reference) -> Option<usize> {
        Some(self.leader(self.place(reference)?))
    }

    /// What the attributes of a [`Self::number`] are compared with.
    pub(crate) fn by_number(&self, number: usize) -> &ValueDomain {
        &self.domains[number]
    }

    fn leader(&self, mut place: usize) -> usize {
        while self.joined[place] != place {
            place = self.joined[place];
        }
        place
    }

    fn join(&mut self, a: usize, b: usize) {
        let (a, b) = (self.leader(a), self.leader(b));
        if a == b {
            return;
        }
        let other = std::mem::take(&mut self.domains[b]);
        let domain = &mut self.domains[a];
        domain.texts.extend(other.texts);
        domain.integers.extend(other.integers);
        domain.times.extend(other.times);
        domain.fit_patterns.extend(other.fit_patterns);
        domain.ranges.extend(other.ranges);
        domain.booleans |= other.booleans;
        domain.is_ordered |= other.is_ordered;
        domain.orders_its_own |= other.orders_its_own;
        domain.reads_addresses |= other.reads_addresses;
        domain.open_ranges |= other.open_ranges;
        domain.reads_times |= other.reads_times;
        domain.in_brace |= other.in_brace;
        domain.is_asked |= other.is_asked;
        domain.takes_integers |= other.takes_integers;
        domain.is_partial |= other.is_partial;
        domain.shared_by += other.shared_by;
        domain.one_of.extend(other.one_of);
        for value in domain.one_of.clone() {
            domain.add(Operator::Equal, value);
        }
        self.joined[b] = a;
    }

    /// The place of an attribute that could be given and is not.
    fn unknown(&mut self, context: &EvalContext<'_>, reference: Reference) -> Option<usize> {
        if let Some(place) = self.place(reference) {
            return Some(place);
        }
        let can_be_given = match reference {
            // What is known from the start is no question.
            Reference::Given(_) => context.is_set(reference) == Truth::Undecided,
            Reference::Target(
                TargetAttribute::Own(_) | TargetAttribute::Path | TargetAttribute::Name,
            ) => {
                matches!(context.fact(reference), Fact::Unknown)
                    || context.is_set(reference) == Truth::Undecided
            }
            _ => false,
        };
        can_be_given.then(|| {
            let place = self.references.len();
            self.references.push(reference);
            self.places.insert(reference, place);
            self.shapes.push(Shape::default());
            self.joined.push(place);
            self.domains.push(ValueDomain { shared_by: 1, ..ValueDomain::default() });
            self.values.push(OnceCell::new());
            let estate = context.index.estate();
            let (names, vocabulary) = (&estate.attribute_names, &estate.vocabulary);
            let rule = match reference {
                Reference::Given(id) => vocabulary.given.rule(names.name(id)),
                Reference::Target(TargetAttribute::Own(id)) => {
                    vocabulary.target.rule(names.name(id))
                }
                _ => None,
            };
            let one_of = rule.and_then(|rule| rule.one_of.as_deref());
            self.domains[place].one_of = one_of.unwrap_or_default().to_vec();
            self.domains[place].is_asked = rule.is_some();
            let value_type = rule.map(|rule| rule.value_type);
            self.domains[place].takes_integers = value_type == Some(ValueType::Integer);
            self.domains[place].booleans = value_type == Some(ValueType::Boolean);
            self.rules.push(rule.cloned());
            place
        })
    }

    fn operand(&mut self, context: &EvalContext<'_>, program: &Program, term: Term) -> Operand {
        let known = |value: Option<Value>| match value {
            Some(Value::List(items)) => Operand::Known(items.into_vec()),
            other => Operand::Known(other.into_iter().collect()),
        };
        match term {
            Term::Literal(place) => known(Some(program.literal(place).value.clone())),
            Term::Attribute(reference) | Term::Moment(reference) => {
                match self.unknown(context, reference) {
                    Some(place) => Operand::Unknown(place),
                    None => known(context.fact(reference).to_value()),
                }
            }
        }
    }

    fn condition(&mut self, context: &EvalContext<'_>, program: &Program) {
        for step in &program.steps {
            match *step {
                ConditionStep::And(_)
                | ConditionStep::Or(_)
                | ConditionStep::Not
                | ConditionStep::Constant(_) => {}
                ConditionStep::IsSet(reference) => {
                    if let Some(place) = self.unknown(context, reference) {
                        self.shapes[place].has = true;
                    }
                }
                ConditionStep::Bare(reference) => {
                    if let Some(place) = self.unknown(context, reference) {
                        self.shapes[place].scalar = true;
                        let leader = self.leader(place);
                        self.domains[leader].booleans = true;
                        self.domains[leader].is_asked = true;
                    }
                }
                ConditionStep::Compare(left_term, operator, right) => {
                    let left = self.operand(context, program, left_term);
                    let right_operand = self.operand(context, program, right);
                    let reads_moment =
                        [left_term, right].iter().any(|t| matches!(t, Term::Moment(_)));
                    for operand in [&left, &right_operand] {
                        if let (true, Operand::Unknown(place)) = (reads_moment, operand) {
                            let leader = self.leader(*place);
                            self.domains[leader].reads_times = true;
                        }
                    }
                    self.compare(left, operator, right_operand);
                }
            }
        }
    }

    fn compare(&mut self, left: Operand, operator: Operator, right: Operand) {
        for (side, is_left) in [(&left, true), (&right, false)] {
            let Operand::Unknown(place) = *side else { continue };
            let leader = self.leader(place);
            self.domains[leader].is_asked = true;
            let shape = &mut self.shapes[place];
            match operator.takes()[usize::from(!is_left)] {
                Takes::List => shape.lists += 1,
                Takes::Ranges => {
                    shape.ranges += 1;
                    shape.lists += 1;
                }
                Takes::Scalar | Takes::Ordered => shape.scalar = true,
                Takes::Text | Takes::Pattern | Takes::Address => shape.scalar = true,
            }
        }
        let takes_ranges = operator.takes()[1] == Takes::Ranges;
        if let (true, Operand::Unknown(place)) = (takes_ranges, &right) {
            let leader = self.leader(*place);
            self.domains[leader].open_ranges = true;
        }
        match (left, right) {
            (Operand::Unknown(a), Operand::Unknown(b)) => {
                self.join(a, b);
                let leader = self.leader(a);
                self.domains[leader].is_ordered |= operator.is_ordering();
                self.domains[leader].orders_its_own |= operator.is_ordering();
                self.domains[leader].reads_addresses |= takes_ranges;
            }
            (Operand::Unknown(place), Operand::Known(values))
            | (Operand::Known(values), Operand::Unknown(place)) => {
                let leader = self.leader(place);
                let domain = &mut self.domains[leader];
                domain.is_ordered |= operator.is_ordering();
                domain.reads_addresses |= takes_ranges;
                for value in values {
                    domain.add(operator, value);
                }
            }
            (Operand::Known(_), Operand::Known(_)) => {}
        }
    }

    /// What stands in the target's path where an unknown brace does.
    fn braces(&mut self, context: &EvalContext<'_>, pattern: &PathPattern) {
        for segment in &pattern.segments {
            let Segment::Mixed(parts) = segment else { continue };
            for part in parts {
                let SegmentPart::Brace(brace) = part else { continue };
                let Some(place) = self.unknown(context, brace.attribute) else { continue };
                self.shapes[place].scalar = true;
                self.shapes[place].lists += 1;
                let leader = self.leader(place);
                let domain = &mut self.domains[leader];
                domain.in_brace = true;
                // What stands for any name is no value.
                let names = context.query.target.segments.iter().filter(|name| **name != FRESH);
                names.for_each(|name| domain.add_parts(parts, name));
            }
        }
    }

    /// The values to try for an attribute, and whether they stand for all there are.
    pub(super) fn values(&self, place: usize) -> &(Vec<Given>, bool) {
        self.values[place].get_or_init(|| {
            let domain = &self.domains[self.leader(place)];
            let shape = self.shapes[place];
            match &self.rules[place] {
                Some(rule) => domain.declared_values(rule, shape.lists, domain.values(shape)),
                None => domain.values(shape),
            }
        })
    }
}

impl ValueDomain {
    fn add(&mut self, operator: Operator, value: Value) {
        match (operator.takes()[1], value) {
            (Takes::Pattern, Value::Text(text)) => {
                self.fit_patterns.insert(text.into());
            }
            (Takes::Ranges, Value::Text(text)) => {
                self.ranges.insert(text.into());
            }
            (_, Value::Text(text)) => {
                // A string may be read as a time, and another spelling is the same time.
                self.times.extend(Time::parse(&text));
                self.texts.insert(text.into());
            }
            (_, Value::Integer(n)) => {
                self.integers.insert(n);
            }
            (_, Value::Boolean(_)) => self.booleans = true,
            (_, Value::Time(at)) => {
                self.times.insert(at);
                self.reads_times = true;
            }
            (_, Value::List(_)) => {}
        }
    }

    /// The parts of a segment that can stand in the place of one of its braces.
    fn add_parts(&mut self, parts: &[SegmentPart<Reference>], name: &str) {
        let (mut left, mut middle) = (name, parts);
        while let [SegmentPart::Text(text), rest @ ..] = middle {
            let Some(cut) = left.strip_prefix(&**text) else { return };
            (left, middle) = (cut, rest);
        }
        while let [rest @ .., SegmentPart::Text(text)] = middle {
            let Some(cut) = left.strip_suffix(&**text) else { return };
            (left, middle) = (cut, rest);
        }
        if middle.len() == 1 {
            self.add_part(left);
            return;
        }
        let ends: Vec<usize> =
            left.char_indices().map(|(i, _)| i).chain([left.len()]).take(MOST_LETTERS).collect();
        self.is_partial |= left.chars().count() >= MOST_LETTERS;
        for (i, start) in ends.iter().enumerate() {
            ends[i + 1..].iter().for_each(|end| self.add_part(&left[*start..*end]));
        }
    }

    /// A text that stands in a path: an integer or a boolean may be written out there.
    fn add_part(&mut self, text: &str) {
        self.texts.insert(text.to_owned());
        self.integers.extend(text.parse::<i64>().ok().filter(|n| n.to_string() == text));
        self.booleans |= matches!(text, "true" | "false");
    }

    /// Everything that a value of the domain may be when it is written out.
    pub(crate) fn written_out(&self) -> Vec<String> {
        let (mut words, _) = self.all_texts();
        words.extend(self.all_integers().iter().map(i64::to_string));
        if self.booleans {
            words.extend(["true".to_owned(), "false".to_owned()]);
        }
        words
    }

    /// Values of an attribute that is used so, and whether they stand for all.
    fn values(&self, shape: Shape) -> (Vec<Given>, bool) {
        let mut whole = !self.is_partial;
        let mut found: Vec<Given> = Vec::new();
        let mut scalars: [Vec<Value>; 3] = Default::default();
        let [texts, integers, booleans] = &mut scalars;
        if self.booleans || self.shared_by > 1 {
            booleans.extend([Value::Boolean(true), Value::Boolean(false)]);
        }
        integers.extend(self.all_integers().into_iter().map(Value::Integer));
        let (words, all) = self.all_texts();
        whole &= all;
        texts.extend(words.into_iter().map(|text| Value::Text(text.into())));
        if shape.scalar || shape.lists == 0 {
            found.extend(scalars.iter().flatten().cloned().map(Given::Value));
        }
        // One range by itself, where something else takes it for one value or for no list.
        let one_range = shape.ranges > 0 && (shape.scalar || shape.ranges < shape.lists);
        if shape.ranges > 0 {
            let (singles, all) = self.single_ranges();
            scalars[0].extend(singles.into_iter().map(|text| Value::Text(text.into())));
            // Which addresses one range holds together is more than these can tell; but it is as
            // good as the list of those that are asked about.
            whole &= all && !one_range;
        }
        if shape.lists > 0 {
            for scalars in &scalars {
                let (lists, all) = lists(scalars, shape.lists);
                whole &= all;
                found.extend(lists.into_iter().map(|list| Given::Value(Value::List(list))));
            }
            found.push(Given::Value(Value::List([].into())));
        }
        if one_range {
            let widest = ["0.0.0.0/0", "::/0"].map(|range| Value::Text(range.into()));
            let all = scalars[0].iter().cloned().chain(widest).filter(is_range);
            found.extend(all.map(Given::Value));
        }
        if shape.has {
            found.push(Given::Head);
        }
        found.push(Given::Absent);
        // A value of a sort that no comparison expects leaves each of them undecided.
        if shape.lists == 0 {
            found.push(Given::Value(Value::List([].into())));
        } else if !shape.scalar {
            found.push(Given::Value(Value::Boolean(true)));
        }
        (found, whole)
    }

    pub(super) fn all_integers(&self) -> BTreeSet<i64> {
        let near = i64::try_from(self.shared_by).unwrap_or(i64::MAX);
        let mut all: BTreeSet<i64> = self
            .integers
            .iter()
            .flat_map(|n| (-near..=near).map(move |step| n.saturating_add(step)))
            .collect();
        // Attributes that are compared with each other may be equal, or not, as values of a sort that
        // nothing else here expects.
        if all.is_empty() && (self.is_ordered || self.shared_by > 1) {
            all.extend(0..=near);
        }
        all
    }

    /// Whether there is a word for every way in which one text can be fitted by the patterns and be
    /// read as an address or a time. Which addresses of a range, or which times before another, a
    /// pattern fits is more than these can tell.
    pub(crate) fn has_all_words(&self) -> bool {
        let is_read = self.reads_addresses || self.reads_times && self.is_ordered;
        self.fit_patterns.is_empty() || !is_read
    }

    /// Whether words tell apart all that is asked of a text: its letters, and the order of integers.
    pub(crate) fn is_told_by_words(&self) -> bool {
        let by_times = self.reads_times || self.is_ordered && !self.times.is_empty();
        !self.reads_addresses && !by_times && !self.orders_its_own
    }

    /// The integers between the constants that it is compared with, from the first to the last of
    /// each; all of them together where nothing but equality is asked.
    pub(crate) fn integers_between(&self) -> Vec<(Option<i64>, Option<i64>)> {
        if !self.is_ordered {
            let any = self.takes_integers || self.shared_by > 1 || !self.integers.is_empty();
            return any.then_some((None, None)).into_iter().collect();
        }
        let mut from = None;
        let mut all = Vec::new();
        for constant in &self.integers {
            all.extend(constant.checked_sub(1).map(|most| (from, Some(most))));
            let Some(next) = constant.checked_add(1) else { return all };
            from = Some(next);
        }
        all.push((from, None));
        all.retain(|(from, to)| from.zip(*to).is_none_or(|(from, to)| from <= to));
        all
    }

    /// A moment as it may be written: as many ways as attributes share the domain, of which none is
    /// named elsewhere as a text; where there are patterns, so many for each way in which these fit.
    fn written_otherwise(&self, at: Time) -> Vec<String> {
        let mut ways: BTreeMap<Vec<bool>, Vec<String>> = BTreeMap::new();
        for text in spellings::of_time(at).filter(|text| !self.texts.contains(text)) {
            let fitted = self.fit_patterns.iter().map(|pattern| is_fitting(pattern, &text));
            let way = ways.entry(fitted.collect()).or_default();
            if way.len() < self.shared_by {
                way.push(text);
            }
            if self.fit_patterns.is_empty() && ways.values().all(|way| way.len() == self.shared_by)
            {
                break;
            }
        }
        ways.into_values().flatten().collect()
    }

    pub(super) fn all_texts(&self) -> (Vec<String>, bool) {
        let mut whole = true;
        let mut all: Vec<String> = self.texts.iter().cloned().collect();
        if !self.fit_patterns.is_empty() {
            whole &= self.has_all_words() && self.shared_by <= MOST_WORDS_EACH;
            let fitted: Vec<_> = self.fit_patterns.iter().map(|text| of_fits(text)).collect();
            whole &=
                tell_names_apart(&fitted, &mut all, self.shared_by.min(MOST_WORDS_EACH), &|_| true);
        }
        all.extend(self.ranges.iter().cloned());
        all.extend(self.all_addresses());
        let near = i64::try_from(self.shared_by).unwrap_or(i64::MAX);
        for at in &self.times {
            let around = (-near..=near).map(|step| Time(at.0.saturating_add(step)));
            let writable = around.filter(|at| (super::EARLIEST..=super::LATEST).contains(at));
            writable.for_each(|at| all.extend(self.written_otherwise(at)));
        }
        let fresh = (1..).map(|n| if n == 1 { "other".to_owned() } else { format!("other-{n}") });
        let fresh = fresh.filter(|text| !self.texts.contains(text)).take(self.shared_by);
        all.extend(fresh);
        if self.in_brace {
            // What holds a slash cannot stand in a segment, and leaves the pattern undecided.
            let slashed = (1..).map(|n| format!("other/{n}"));
            all.extend(slashed.filter(|text| !self.texts.contains(text)).take(1));
        }
        let mut seen = BTreeSet::new();
        all.retain(|text| seen.insert(text.clone()));
        (all, whole)
    }
}

/// Lists of these scalars: as long as there are places that ask, since each asks for one element.
pub(super) fn lists(scalars: &[Value], places: usize) -> (Vec<Box<[Value]>>, bool) {
    let mut all: Vec<Vec<Value>> = scalars.iter().map(|scalar| vec![scalar.clone()]).collect();
    let mut first = 0;
    for length in 2..=places.min(scalars.len()) {
        let (start, end) = (first, all.len());
        for i in start..end {
            let last = all[i].last().and_then(|last| scalars.iter().position(|s| s == last));
            for scalar in &scalars[last.map_or(0, |last| last + 1)..] {
                if all.len() == MOST_LISTS {
                    return (all.into_iter().map(Vec::into_boxed_slice).collect(), false);
                }
                let mut longer = all[i].clone();
                longer.push(scalar.clone());
                all.push(longer);
            }
        }
        first = end;
        debug_assert!(all[first..].iter().all(|list| list.len() == length));
    }
    (all.into_iter().map(Vec::into_boxed_slice).collect(), true)
}
