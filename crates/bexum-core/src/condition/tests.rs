//! Tables of the language: what is refused and where, what each operator comes to.

use super::check::{Condition, PrincipalAttribute, Reference, ResourceAttribute};
use super::eval::Facts;
use super::fact::{Fact, ListFact};
use super::parser::parse;
use super::{ConditionFault, Located};
use crate::attribute::{AttributeNames, Value};
use crate::time::{Time, Window};
use crate::truth::Truth::{self, False, True, Undecided};

/// Attributes by name; `context.` ones that are not among them are unknown, others absent.
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
        if reference == Reference::Resource(ResourceAttribute::Members) {
            return Fact::List(ListFact::Windowed(&self.members, Time(5)));
        }
        match (self.value(&reference.written(self.names)), reference) {
            (Some(value), _) => Fact::of(value),
            (None, Reference::Context(_)) => Fact::Unknown,
            (None, _) => Fact::Absent,
        }
    }

    fn has(&self, reference: Reference) -> Truth {
        match self.fact(reference) {
            Fact::Absent => False,
            Fact::Unknown => Undecided,
            _ => True,
        }
    }
}

fn text(text: &str) -> Value {
    Value::Text(text.into())
}

fn texts(items: &[&str]) -> Value {
    Value::List(items.iter().map(|item| text(item)).collect())
}

fn eval(condition: &str) -> Truth {
    let mut names = AttributeNames::default();
    let condition =
        Condition::read(condition, &mut names).unwrap_or_else(|e| panic!("{condition}: {e:?}"));
    let at = |moment: &str| Time::parse(moment).expect("a time");
    let window = |from, until| Window { from: Some(Time(from)), until: Some(Time(until)) };
    let known = Known {
        names: &names,
        values: vec![
            ("principal.team", text("red")),
            ("principal.n", Value::Integer(3)),
            ("principal.yes", Value::Boolean(true)),
            ("principal.no", Value::Boolean(false)),
            ("principal.at", Value::Time(at("2026-03-01T00:00:00Z"))),
            ("principal.when", text("2026-03-01T02:00:00+02:00")),
            ("principal.tags", texts(&["a", "b"])),
            ("principal.none", texts(&[])),
            ("principal.ints", Value::List([Value::Integer(1), Value::Integer(2)].into())),
            ("principal.times", Value::List([Value::Time(at("2026-03-01T00:00:00Z"))].into())),
            ("principal.ip", text("10.1.2.3")),
            ("principal.mapped", text("::ffff:10.1.2.3")),
            ("principal.nets", texts(&["192.0.2.0/24", "10.0.0.0/8"])),
            ("principal.broken", texts(&["192.0.2.0/24", "10.0.0.1/8"])),
            ("context.given", text("x")),
        ],
        members: vec![("user:in".into(), window(0, 9)), ("user:out".into(), window(6, 9))],
    };
    condition.eval(&known)
}

#[test]
fn every_operator_between_every_type() {
    for (condition, truth) in [
        ("principal.team = 'red'", True),
        ("principal.team = 'Red'", False),
        ("principal.team != 'red'", False),
        ("principal.team != 'blue'", True),
        ("principal.team = 3", Undecided),
        ("principal.n = 3", True),
        ("principal.n != 3", False),
        ("principal.yes = true", True),
        ("principal.yes = 'true'", Undecided),
        ("principal.tags = principal.tags", Undecided),
        ("principal.at = principal.when", True),
        ("principal.at = '2026-03-01T00:00:00.000001Z'", False),
        ("principal.at = 'soon'", Undecided),
        ("principal.at != 'soon'", Undecided),
        ("principal.n < 4", True),
        ("principal.n <= 3", True),
        ("principal.n > 3", False),
        ("principal.n >= 4", False),
        ("principal.n < principal.team", Undecided),
        ("principal.at < '2026-03-01T00:00:01Z'", True),
        ("principal.when >= principal.at", True),
        ("principal.when < principal.team", Undecided),
        ("principal.yes < principal.no", Undecided),
        ("principal.team in ['blue', 'red']", True),
        ("principal.team in []", False),
        ("principal.team in principal.none", False),
        ("principal.n in principal.tags", Undecided),
        ("principal.n in ['3']", Undecided),
        ("principal.tags in principal.tags", Undecided),
        ("principal.when in principal.times", True),
        ("'a' in principal.tags", True),
        ("principal.n in [1, 2]", False),
        ("principal.team in principal.team", Undecided),
        ("principal.tags overlaps ['b', 'c']", True),
        ("principal.tags overlaps ['c']", False),
        ("principal.tags overlaps []", False),
        ("principal.tags overlaps principal.ints", Undecided),
        ("principal.none overlaps principal.ints", False),
        ("principal.team overlaps principal.tags", Undecided),
        ("principal.times overlaps ['2026-03-01T01:00:00+01:00', 'soon']", True),
        ("principal.times overlaps ['soon']", Undecided),
        ("principal.team like 'r?d'", True),
        ("principal.team like '*x*'", False),
        ("principal.n like '*'", Undecided),
        ("principal.tags like '*'", Undecided),
        ("principal.ip within '10.0.0.0/8'", True),
        ("principal.ip within ['192.0.2.0/24']", False),
        ("principal.mapped within '10.1.2.3'", True),
        ("principal.ip within '::/0'", False),
        ("principal.ip within principal.nets", True),
        ("principal.ip within []", False),
        ("principal.team within '10.0.0.0/8'", Undecided),
        ("principal.team within []", Undecided),
        ("principal.ip within principal.broken", Undecided),
        ("principal.ip within principal.ints", Undecided),
        ("principal.n within '10.0.0.0/8'", Undecided),
        ("'192.0.2.7' within principal.broken", True),
        ("resource.members overlaps ['user:in']", True),
        ("resource.members overlaps ['user:out']", False),
    ] {
        assert_eq!(eval(condition), truth, "{condition}");
    }
}

#[test]
fn absent_and_unknown() {
    for (condition, truth) in [
        ("principal.x = 'a'", False),
        ("principal.x != 'a'", Undecided),
        ("principal.x < 1", False),
        ("principal.x in ['a']", False),
        ("'a' in principal.x", False),
        ("principal.x overlaps ['a']", False),
        ("principal.x within ['10.0.0.1']", False),
        ("principal.x like '*'", False),
        ("principal.x", False),
        ("has principal.x", False),
        ("not principal.x", True),
        ("context.x = 'a'", Undecided),
        ("context.x != 'a'", Undecided),
        ("context.x", Undecided),
        ("has context.x", Undecided),
        ("context.x = principal.x", False),
        ("context.x != principal.x", Undecided),
        ("context.x in []", Undecided),
        ("has context.given", True),
        ("context.given", Undecided),
        ("principal.team", Undecided),
        ("principal.yes", True),
        ("principal.no", False),
        ("true", True),
        ("false", False),
        // The rest of a condition may decide it anyway.
        ("context.x and principal.no", False),
        ("context.x or principal.yes", True),
        ("context.x and principal.yes", Undecided),
        ("not context.x", Undecided),
        ("principal.no or context.x and principal.yes", Undecided),
        ("not (context.x or principal.yes)", False),
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
        ("principal.a = 01", F::Number("01".into()), "01"),
        ("principal.a = 1.5", F::Number("1.5".into()), "1.5"),
        ("principal.a = 1x", F::Number("1x".into()), "1x"),
        ("principal.a = --1", F::Number("--1".into()), "--1"),
        (
            "principal.a = 9223372036854775808",
            F::NumberRange("9223372036854775808".into()),
            "9223372036854775808",
        ),
        ("principal.a & principal.b", F::Character('&'), "&"),
        ("principal.a && principal.b", F::OtherSpelling { found: "&&", write: "and" }, "&&"),
        ("!principal.a", F::OtherSpelling { found: "!", write: "not" }, "!"),
        ("principal.a = 'x", F::OpenString, "'x"),
        ("principal.a = 'x\\q'", F::Escape('q'), "\\q"),
        ("tier = 'raw'", F::Word("tier".into()), "tier"),
        ("principal. = 1", F::AttributeName(String::new()), "principal."),
        ("principal.1a = 1", F::AttributeName("1a".into()), "principal.1a"),
        ("principal.a..b = 1", F::AttributeName(String::new()), "principal.a..b"),
        ("'x'", F::LoneOperand("a string"), "'x'"),
        ("3 and true", F::LoneOperand("an integer"), "3"),
        ("['a']", F::LoneOperand("a list"), "['a']"),
        ("principal.a = 1 = 2", F::Chained, "="),
        ("principal.a in [1, 'x']", F::MixedList("integer", "string"), "'x'"),
        ("principal.aé", F::Character('é'), "é"),
    ] {
        assert_eq!(expected(condition), (fault, part.to_owned()), "{condition}");
    }
    for condition in [
        "",
        "and",
        "principal.a and",
        "(principal.a",
        "principal.a)",
        "has",
        "has 'x'",
        "has (principal.a)",
        "not",
        "principal.a = ",
        "principal.a = [",
        "principal.a in [1,]",
        "principal.a in [,1]",
        "principal.a in [[1]]",
        "principal.a in [principal.b]",
        "principal.a principal.b",
        "AND",
        "True",
    ] {
        assert!(parse(condition).is_err(), "{condition}");
    }
    for condition in [
        "not not principal.a",
        "has principal.and",
        "principal.in in['a']",
        "principal.a='x'and true",
        "((principal.a))",
        "principal.a\t=\r\n-0",
        "principal.true = true",
        "context.a-b.c_d = \"it's\"",
        "'x'in principal.a",
        "not principal.a = 1",
    ] {
        assert!(parse(condition).is_ok(), "{condition}");
    }
}

#[test]
fn literals_that_can_never_be_decided() {
    let refused = |condition: &str| {
        Condition::read(condition, &mut AttributeNames::default()).err().map(|faults| faults.len())
    };
    for condition in [
        "principal.a = ['x']",
        "['x'] != principal.a",
        "principal.a < true",
        "principal.a < 'soon'",
        "principal.a >= [1]",
        "['x'] in principal.a",
        "principal.a in 'x'",
        "principal.a overlaps 'x'",
        "3 overlaps principal.a",
        "principal.a like 3",
        "3 like 'x'",
        "principal.a like principal.b",
        "principal.a within '10.0.0.0/33'",
        "principal.a within ['10.0.0.1', 'x']",
        "principal.a within 3",
        "'x' within principal.a",
        "['10.0.0.1'] within principal.a",
        "'10.0.0.0/8' within principal.a",
        "'a' = 1",
        "1 < '2026-01-01T00:00:00Z'",
        "'a' in [1]",
        "'2026-01-01T00:00:00Z' < '2027-01-01T00:00:00Z'",
        "resource.id = 'x'",
        "principal.path = 'x'",
        "has resource.groups",
        "principal.kind",
    ] {
        assert_eq!(refused(condition), Some(1), "{condition}");
    }
    assert_eq!(refused("principal.a = ['x'] or principal.b < true"), Some(2), "all are told");
    for condition in [
        "principal.a = 'soon'",
        "principal.a < '2026-01-01T00:00:00Z'",
        "1 = 1",
        "1 = 2",
        "'a' in []",
        "principal.a overlaps []",
        "principal.a within []",
        "'10.0.0.1' within principal.a",
        "[] overlaps ['a']",
        "context.path = 'x'",
        "resource.manager = principal.manager",
        "principal.time < 3",
        "context.id",
    ] {
        assert_eq!(refused(condition), None, "{condition}");
    }
}

#[test]
fn blame_falls_on_what_decided() {
    let mut names = AttributeNames::default();
    let text = "principal.yes and (principal.team = 'blue' or principal.n > 9) and has context.x";
    let condition = Condition::read(text, &mut names).expect("a condition");
    let known = Known {
        names: &names,
        values: vec![
            ("principal.team", super::tests::text("red")),
            ("principal.yes", Value::Boolean(true)),
        ],
        members: Vec::new(),
    };
    let blamed = condition.blame(&known);
    let told: Vec<(&str, Truth)> =
        blamed.iter().map(|part| (part.text.as_str(), part.truth)).collect();
    assert_eq!(told, [("principal.team = 'blue'", False), ("principal.n > 9", False)]);
    let own =
        |name: &str| Reference::Principal(PrincipalAttribute::Own(names.get(name).expect("known")));
    assert_eq!(blamed[0].references, [own("team")]);
}

#[test]
fn printing_is_short_and_exact() {
    for (written, printed) in [
        (
            "((principal.a)) and (principal.b and principal.c)",
            "principal.a and (principal.b and principal.c)",
        ),
        (
            "(principal.a or principal.b) and principal.c",
            "(principal.a or principal.b) and principal.c",
        ),
        (
            "(principal.a and principal.b) or principal.c",
            "principal.a and principal.b or principal.c",
        ),
        ("not (principal.a = 1)", "not principal.a = 1"),
        ("not (principal.a and principal.b)", "not (principal.a and principal.b)"),
        ("principal.a = \"it's\"", "principal.a = \"it's\""),
        ("principal.a = 'a\\\\b\\n\\''", "principal.a = \"a\\\\b\\n'\""),
        ("principal.a in [ 1,2 ]", "principal.a in [1, 2]"),
    ] {
        assert_eq!(parse(written).expect("a condition").to_string(), printed, "{written}");
    }
}
