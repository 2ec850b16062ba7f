//! Tables of the language: what is refused and where, what each operator comes to.

use std::sync::LazyLock;

use super::check::{Condition, Reference, TargetAttribute, WhoAttribute};
use super::eval::Facts;
use super::fact::{Fact, ListFact};
use super::parser::parse;
use super::{ConditionFault, Located, Typed};
use crate::attribute::{AttributeNames, Value};
use crate::time::{Time, Window};
use crate::truth::Truth::{self, False, True, Undecided};
use crate::vocabulary::Vocabulary;

/// Attributes by name; `given.` ones that are not among them are unknown, others absent.
struct Known<'n> {
    names: &'n AttributeNames,
    values: Vec<(&'static str, Value)>,
    members: Vec<(Box<str>, Window)>,
}

impl Known<'_> {
    fn value(&self, name: &str) -> Option<&Value> {
        self.values.iter().find(|(known, _)| *known == name).map(|(_, value)| value)
    }
}

impl Facts for Known<'_> {
    fn fact(&self, reference: Reference) -> Fact<'_> {
        if reference == Reference::Target(TargetAttribute::Members) {
            return Fact::List(ListFact::Windowed(&self.members, Time(5)));
        }
        match (self.value(&reference.written(self.names)), reference) {
            (Some(value), _) => Fact::of(value),
            (None, Reference::Given(_)) => Fact::Unknown,
            (None, _) => Fact::Absent,
        }
    }

    fn is_set(&self, reference: Reference) -> Truth {
        match self.fact(reference) {
            Fact::Absent => False,
            Fact::Unknown => Undecided,
            _ => True,
        }
    }
}

/// Nothing is declared.
fn open() -> Typed<'static> {
    static NOTHING: LazyLock<Vocabulary> = LazyLock::new(Vocabulary::default);
    Typed { vocabulary: &NOTHING, kinds: &[] }
}

fn text(text: &str) -> Value {
    Value::Text(text.into())
}

fn texts(items: &[&str]) -> Value {
    Value::List(items.iter().map(|item| text(item)).collect())
}

fn eval(condition: &str) -> Truth {
    let mut names = AttributeNames::default();
    let condition = Condition::read(condition, &mut names, open())
        .unwrap_or_else(|e| panic!("{condition}: {e:?}"));
    let at = |moment: &str| Time::parse(moment).expect("a time");
    let window = |from, until| Window { from: Some(Time(from)), until: Some(Time(until)) };
    let known = Known {
        names: &names,
        values: vec![
            ("who.team", text("red")),
            ("who.n", Value::Integer(3)),
            ("who.yes", Value::Boolean(true)),
            ("who.no", Value::Boolean(false)),
            ("who.at", Value::Time(at("2026-03-01T00:00:00Z"))),
            ("who.when", text("2026-03-01T02:00:00+02:00")),
            ("who.tags", texts(&["a", "b"])),
            ("who.none", texts(&[])),
            ("who.ints", Value::List([Value::Integer(1), Value::Integer(2)].into())),
            ("who.times", Value::List([Value::Time(at("2026-03-01T00:00:00Z"))].into())),
            ("who.ip", text("10.1.2.3")),
            ("who.mapped", text("::ffff:10.1.2.3")),
            ("who.nets", texts(&["192.0.2.0/24", "10.0.0.0/8"])),
            ("who.broken", texts(&["192.0.2.0/24", "10.0.0.1/8"])),
            ("given.given", text("x")),
        ],
        members: vec![("user:in".into(), window(0, 9)), ("user:out".into(), window(6, 9))],
    };
    condition.eval(&known)
}

#[test]
fn every_operator_between_every_type() {
    for (condition, truth) in [
        ("who.team = 'red'", True),
        ("who.team = 'Red'", False),
        ("who.team != 'red'", False),
        ("who.team != 'blue'", True),
        ("who.team = 3", Undecided),
        ("who.n = 3", True),
        ("who.n != 3", False),
        ("who.yes = true", True),
        ("who.yes = 'true'", Undecided),
        ("who.tags = who.tags", Undecided),
        ("who.at = who.when", True),
        ("who.at = '2026-03-01T00:00:00.000001Z'", False),
        ("who.at = 'soon'", Undecided),
        ("who.at != 'soon'", Undecided),
        ("who.n < 4", True),
        ("who.n <= 3", True),
        ("who.n > 3", False),
        ("who.n >= 4", False),
        ("who.n < who.team", Undecided),
        ("who.at < '2026-03-01T00:00:01Z'", True),
        ("who.when >= who.at", True),
        ("who.when < who.team", Undecided),
        ("who.yes < who.no", Undecided),
        ("who.team in ['blue', 'red']", True),
        ("who.team in []", False),
        ("who.team in who.none", False),
        ("who.n in who.tags", Undecided),
        ("who.n in ['3']", Undecided),
        ("who.tags in who.tags", Undecided),
        ("who.when in who.times", True),
        ("'a' in who.tags", True),
        ("who.n in [1, 2]", False),
        ("who.team in who.team", Undecided),
        ("who.tags overlaps ['b', 'c']", True),
        ("who.tags overlaps ['c']", False),
        ("who.tags overlaps []", False),
        ("who.tags overlaps who.ints", Undecided),
        ("who.none overlaps who.ints", False),
        ("who.team overlaps who.tags", Undecided),
        ("who.times overlaps ['2026-03-01T01:00:00+01:00', 'soon']", True),
        ("who.times overlaps ['soon']", Undecided),
        ("who.team fits 'r?d'", True),
        ("who.team fits '*x*'", False),
        ("who.n fits '*'", Undecided),
        ("who.tags fits '*'", Undecided),
        ("who.ip within '10.0.0.0/8'", True),
        ("who.ip within ['192.0.2.0/24']", False),
        ("who.mapped within '10.1.2.3'", True),
        ("who.ip within '::/0'", False),
        ("who.ip within who.nets", True),
        ("who.ip within []", False),
        ("who.team within '10.0.0.0/8'", Undecided),
        ("who.team within []", Undecided),
        ("who.ip within who.broken", Undecided),
        ("who.ip within who.ints", Undecided),
        ("who.n within '10.0.0.0/8'", Undecided),
        ("'192.0.2.7' within who.broken", True),
        ("target.members overlaps ['user:in']", True),
        ("target.members overlaps ['user:out']", False),
    ] {
        assert_eq!(eval(condition), truth, "{condition}");
    }
}

#[test]
fn absent_and_unknown() {
    for (condition, truth) in [
        ("who.x = 'a'", False),
        ("who.x != 'a'", Undecided),
        ("who.x < 1", False),
        ("who.x in ['a']", False),
        ("'a' in who.x", False),
        ("who.x overlaps ['a']", False),
        ("who.x within ['10.0.0.1']", False),
        ("who.x fits '*'", False),
        ("who.x", False),
        ("who.x is set", False),
        ("not who.x", True),
        ("given.x = 'a'", Undecided),
        ("given.x != 'a'", Undecided),
        ("given.x", Undecided),
        ("given.x is set", Undecided),
        ("given.x is not set", Undecided),
        ("who.x is not set", True),
        ("not who.x is set", True),
        ("who.team is not set", False),
        ("who.x is not set and who.team = 'red'", True),
        ("given.x = who.x", False),
        ("given.x != who.x", Undecided),
        ("given.x in []", Undecided),
        ("given.given is set", True),
        ("given.given", Undecided),
        ("who.team", Undecided),
        ("who.yes", True),
        ("who.no", False),
        ("true", True),
        ("false", False),
        // The rest of a condition may decide it anyway.
        ("given.x and who.no", False),
        ("given.x or who.yes", True),
        ("given.x and who.yes", Undecided),
        ("not given.x", Undecided),
        ("who.no or given.x and who.yes", Undecided),
        ("not (given.x or who.yes)", False),
    ] {
        assert_eq!(eval(condition), truth, "{condition}");
    }
}

#[test]
fn what_does_not_parse_and_where() {
    use ConditionFault as F;
    let expected = |condition: &str| match parse(condition) {
        Err(Located { fault, start, end }) => (fault, condition[start..end].to_owned()),
        Ok(parsed) => panic!("{condition} parses as {parsed}"),
    };
    for (condition, fault, part) in [
        ("who.a = 01", F::Number("01".into()), "01"),
        ("who.a = 1.5", F::Number("1.5".into()), "1.5"),
        ("who.a = 1x", F::Number("1x".into()), "1x"),
        ("who.a = --1", F::Number("--1".into()), "--1"),
        (
            "who.a = 9223372036854775808",
            F::NumberRange("9223372036854775808".into()),
            "9223372036854775808",
        ),
        ("who.a & who.b", F::Character('&'), "&"),
        ("who.a && who.b", F::OtherSpelling { found: "&&", write: "and" }, "&&"),
        ("!who.a", F::OtherSpelling { found: "!", write: "not" }, "!"),
        ("who.a = 'x", F::OpenString, "'x"),
        ("who.a = 'x\\q'", F::Escape('q'), "\\q"),
        ("tier = 'raw'", F::Word("tier".into()), "tier"),
        ("who. = 1", F::AttributeName(String::new()), "who."),
        ("who.1a = 1", F::AttributeName("1a".into()), "who.1a"),
        ("has given.x", F::Word("has".into()), "has"),
        ("who.a like 'x'", F::Word("like".into()), "like"),
        ("principal.a = 1", F::Word("principal.a".into()), "principal.a"),
        ("who.a..b = 1", F::AttributeName(String::new()), "who.a..b"),
        ("'x'", F::LoneOperand("a string"), "'x'"),
        ("3 and true", F::LoneOperand("an integer"), "3"),
        ("['a']", F::LoneOperand("a list"), "['a']"),
        ("who.a = 1 = 2", F::Chained, "="),
        ("who.a in [1, 'x']", F::MixedList("integer", "string"), "'x'"),
        ("who.aé", F::Character('é'), "é"),
    ] {
        assert_eq!(expected(condition), (fault, part.to_owned()), "{condition}");
    }
    for condition in [
        "",
        "and",
        "who.a and",
        "(who.a",
        "who.a)",
        "set",
        "who.a is",
        "who.a is not",
        "who.a is 'x'",
        "who.a is not not set",
        "is set",
        "'x' is set",
        "true is set",
        "(who.a) is set",
        "who.a is set is set",
        "who.a is set = true",
        "who.a = who.b is set",
        "not",
        "who.a = ",
        "who.a = [",
        "who.a in [1,]",
        "who.a in [,1]",
        "who.a in [[1]]",
        "who.a in [who.b]",
        "who.a who.b",
        "AND",
        "True",
    ] {
        assert!(parse(condition).is_err(), "{condition}");
    }
    for condition in [
        "not not who.a",
        "who.and is set",
        "who.is is set",
        "given.set is not set",
        "not who.a is set",
        "not who.a is not set and true",
        "who.a is\n\tnot set",
        "who.in in['a']",
        "who.a='x'and true",
        "((who.a))",
        "who.a\t=\r\n-0",
        "who.true = true",
        "given.a-b.c_d = \"it's\"",
        "'x'in who.a",
        "not who.a = 1",
    ] {
        assert!(parse(condition).is_ok(), "{condition}");
    }
}

#[test]
fn literals_that_can_never_be_decided() {
    let refused = |condition: &str| {
        Condition::read(condition, &mut AttributeNames::default(), open())
            .err()
            .map(|faults| faults.len())
    };
    for condition in [
        "who.a = ['x']",
        "['x'] != who.a",
        "who.a < true",
        "who.a < 'soon'",
        "who.a >= [1]",
        "['x'] in who.a",
        "who.a in 'x'",
        "who.a overlaps 'x'",
        "3 overlaps who.a",
        "who.a fits 3",
        "3 fits 'x'",
        "who.a fits who.b",
        "who.a within '10.0.0.0/33'",
        "who.a within ['10.0.0.1', 'x']",
        "who.a within 3",
        "'x' within who.a",
        "['10.0.0.1'] within who.a",
        "'10.0.0.0/8' within who.a",
        "'a' = 1",
        "1 < '2026-01-01T00:00:00Z'",
        "'a' in [1]",
        "'2026-01-01T00:00:00Z' < '2027-01-01T00:00:00Z'",
        "target.id = 'x'",
        "who.path = 'x'",
        "target.groups is set",
        "who.kind",
    ] {
        assert_eq!(refused(condition), Some(1), "{condition}");
    }
    assert_eq!(refused("who.a = ['x'] or who.b < true"), Some(2), "all are told");
    for condition in [
        "who.a = 'soon'",
        "who.a < '2026-01-01T00:00:00Z'",
        "1 = 1",
        "1 = 2",
        "'a' in []",
        "who.a overlaps []",
        "who.a within []",
        "'10.0.0.1' within who.a",
        "[] overlaps ['a']",
        "given.path = 'x'",
        "target.manager = who.manager",
        "who.time < 3",
        "given.id",
    ] {
        assert_eq!(refused(condition), None, "{condition}");
    }
}

#[test]
fn blame_falls_on_what_decided() {
    let mut names = AttributeNames::default();
    let text = "who.yes and (who.team = 'blue' or who.n > 9) and given.x is set";
    let condition = Condition::read(text, &mut names, open()).expect("a condition");
    let known = Known {
        names: &names,
        values: vec![("who.team", super::tests::text("red")), ("who.yes", Value::Boolean(true))],
        members: Vec::new(),
    };
    let blamed = condition.blame(&known);
    let told: Vec<(&str, Truth)> =
        blamed.iter().map(|part| (part.text.as_str(), part.truth)).collect();
    assert_eq!(told, [("who.team = 'blue'", False), ("who.n > 9", False)]);
    let own = |name: &str| Reference::Who(WhoAttribute::Own(names.get(name).expect("known")));
    assert_eq!(blamed[0].references, [own("team")]);
}

#[test]
fn printing_is_short_and_exact() {
    for (written, printed) in [
        ("((who.a)) and (who.b and who.c)", "who.a and (who.b and who.c)"),
        ("(who.a or who.b) and who.c", "(who.a or who.b) and who.c"),
        ("(who.a and who.b) or who.c", "who.a and who.b or who.c"),
        ("not (who.a = 1)", "not who.a = 1"),
        ("not (who.a and who.b)", "not (who.a and who.b)"),
        ("who.a = \"it's\"", "who.a = \"it's\""),
        ("who.a = 'a\\\\b\\n\\''", "who.a = \"a\\\\b\\n'\""),
        ("who.a in [ 1,2 ]", "who.a in [1, 2]"),
        ("not who.a is set", "who.a is not set"),
        ("not (who.a is not  set)", "not who.a is not set"),
    ] {
        assert_eq!(parse(written).expect("a condition").to_string(), printed, "{written}");
    }
}
