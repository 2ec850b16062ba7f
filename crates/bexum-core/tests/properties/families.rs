//! What conditions of laws ask about, and values to try that the code under test did not choose.

use std::borrow::Cow;

use bexum_core::attribute::Value;

/// Circumstances that conditions of one case may ask about, and all that is tried for each: what
/// occurs in conditions, what does not, neighbours, absent, not given.
pub(crate) struct Family {
    pub(crate) atoms: &'static [&'static str],
    pub(crate) tried: fn() -> Vec<Circumstances>,
}

pub(crate) type Circumstances = Vec<(Cow<'static, str>, Option<Value>)>;

fn each(name: &'static str, values: Vec<Value>) -> Vec<Circumstances> {
    // Of sorts that no condition expects, too.
    let odd = [Value::Integer(77), texts(&[]), texts(&["odd"])];
    let odd = odd.into_iter().filter(|odd| !values.contains(odd)).collect::<Vec<_>>();
    let given = values.into_iter().chain(odd).map(|value| vec![(Cow::from(name), Some(value))]);
    [vec![], vec![(Cow::from(name), None)]].into_iter().chain(given).collect()
}

pub(crate) fn text(text: &str) -> Value {
    Value::Text(text.into())
}

fn texts(items: &[&str]) -> Value {
    Value::List(items.iter().map(|item| text(item)).collect())
}

/// The last are asked about only where a law may be left undecided.
pub(crate) const FAMILIES: [Family; 19] = [
    Family {
        atoms: &["given.mfa", "given.mfa is set", "not given.mfa", "given.mfa = true"],
        tried: || each("mfa", vec![Value::Boolean(true), Value::Boolean(false), text("other")]),
    },
    Family {
        atoms: &[
            "given.count < who.level",
            "given.count in [1, 2]",
            "given.count >= 3",
            "given.count != 2",
        ],
        tried: || each("count", (-1..6).map(Value::Integer).chain([text("other")]).collect()),
    },
    Family {
        atoms: &[
            "given.ip within '10.0.0.0/8'",
            "given.ip within ['10.1.0.0/16', '::1']",
            "given.ip within '0.0.0.0/0'",
            "given.ip within '10.1.0.0'",
            "given.ip != '10.1.0.0'",
            "given.ip != '::1'",
            "given.ip is set",
        ],
        tried: || {
            // Ends of the ranges and what lies beside them, insides, both families, other spellings.
            let wide = [
                "9.255.255.255",
                "10.0.0.0",
                "10.0.0.1",
                "10.0.255.255",
                "10.1.0.0",
                "10.1.0.1",
                "10.1.77.5",
                "10.1.255.255",
                "10.2.0.0",
                "10.200.3.4",
                "11.0.0.0",
                "0.0.0.0",
                "192.168.7.9",
                "255.255.255.255",
                "::",
                "::1",
                "::2",
                "2001:db8::5",
                "fe80::1",
                "::ffff:10.1.0.0",
                "::ffff:10.9.9.9",
                "0:0:0:0:0:0:0:1",
                "other",
                "",
            ];
            each("ip", wide.iter().map(|address| text(address)).collect())
        },
    },
    Family {
        atoms: &[
            "given.folder != 'red'",
            "given.folder fits 'r*'",
            "given.folder fits '*n'",
            "given.folder = target.name",
        ],
        tried: || {
            let words = ["red", "r", "n", "rn", "other", "run", "u0", "g1", "x", "store", "c", "v"];
            let mut all = each("folder", words.iter().map(|word| text(word)).collect());
            all.extend(
                ["s", "p", "n", "inner", "o", "r0", "xn", "a", "b", "job-1"]
                    .map(|word| vec![(Cow::from("folder"), Some(text(word)))]),
            );
            all
        },
    },
    Family {
        atoms: &["given.dev.ok", "given.dev is set", "not given.dev.ok", "given.dev.ok is set"],
        tried: || {
            let mut all =
                each("dev.ok", vec![Value::Boolean(true), Value::Boolean(false), text("other")]);
            all.extend([
                vec![("dev".into(), None)],
                vec![("dev".into(), Some(text("other")))],
                vec![("dev.other".into(), Some(Value::Boolean(true)))],
            ]);
            all
        },
    },
    Family {
        atoms: &[
            "'red' in given.tags",
            "given.tags overlaps who.tags",
            "not (given.tags overlaps ['blue'])",
        ],
        tried: || {
            let lists: [&[&str]; 7] = [
                &[],
                &["red"],
                &["blue"],
                &["other"],
                &["red", "blue"],
                &["red", "other"],
                &["blue", "other"],
            ];
            each("tags", lists.iter().map(|list| texts(list)).collect())
        },
    },
    Family {
        atoms: &[
            "given.time < given.end",
            "given.end = '1970-01-01T00:00:02.5Z'",
            "given.end != '1970-01-01T00:00:01Z'",
            "given.end <= '1970-01-01T00:00:04Z'",
            "given.end > target.since",
        ],
        tried: || {
            let times = [
                "0001-01-01T00:00:00Z",
                "1970-01-01T00:00:00Z",
                "1970-01-01T00:00:00.7Z",
                "1970-01-01T00:00:01Z",
                "1970-01-01T01:00:01+01:00",
                "1970-01-01T00:00:01.7Z",
                "1970-01-01T00:00:02Z",
                "1970-01-01T00:00:02.000001Z",
                "1970-01-01T00:00:02.2Z",
                "1970-01-01T00:00:02.5Z",
                "1970-01-01T00:00:02.500001Z",
                "1970-01-01T00:00:03.3Z",
                "1970-01-01T00:00:04Z",
                "1970-01-01T00:00:05Z",
                "2040-06-01T00:00:00Z",
                "other",
            ];
            each("end", times.iter().map(|time| text(time)).collect())
        },
    },
    Family {
        atoms: &[
            "given.stamp = target.since",
            "given.stamp = given.time",
            "given.stamp < target.since",
            "given.stamp != '1970-01-01T00:00:02Z'",
            "given.stamp != '1970-01-01T00:00:03Z'",
            "given.stamp fits '*+01:00'",
            "given.stamp fits '*.0*'",
        ],
        tried: || {
            // The same moments in different spellings, and moments around them.
            let times = [
                "1970-01-01T00:00:01Z",
                "1970-01-01T00:00:01.999999Z",
                "1970-01-01T01:00:01.999999+01:00",
                "1970-01-01T00:00:02Z",
                "1970-01-01T00:00:02.0Z",
                "1970-01-01T00:00:02.000+00:00",
                "1970-01-01T01:00:02+01:00",
                "1970-01-01T01:00:02.00+01:00",
                "1969-12-31T23:00:02-01:00",
                "1970-01-01T00:00:03Z",
                "1970-01-01T00:00:03.0Z",
                "1970-01-01T01:00:03+01:00",
                "1970-01-01T01:00:03.0+01:00",
                "1970-01-01T00:00:00Z",
                "1970-01-01T01:00:00+01:00",
                "other",
            ];
            each("stamp", times.iter().map(|time| text(time)).collect())
        },
    },
    Family {
        atoms: &[
            "given.at within given.nets",
            "'10.0.0.1' within given.nets",
            "given.at within '10.0.0.0/8'",
            "given.nets = '10.0.0.0/8'",
            "'10.0.0.1' in given.nets",
            "given.nets overlaps ['10.0.0.0/8', '10.0.0.0/31']",
            "given.at != '10.0.0.1'",
        ],
        tried: nets,
    },
    // No range stands anywhere but the one that is asked about.
    Family {
        atoms: &[
            "given.at within given.nets",
            "'10.0.0.1' within given.nets",
            "'10.0.0.1' in given.nets",
            "given.nets is set",
        ],
        tried: nets,
    },
    // Moments long before, that a pattern fits.
    Family {
        atoms: &[
            "given.stamp < target.since",
            "given.stamp fits '1968*'",
            "given.stamp fits '*5Z'",
            "given.stamp is set",
        ],
        tried: || {
            let times = [
                "1968-01-01T00:00:05Z",
                "1968-01-01T00:00:00Z",
                "1969-01-01T00:00:05Z",
                "1969-01-01T00:00:00Z",
                "2001-01-01T00:00:05Z",
                "2001-01-01T00:00:00Z",
                "1968",
                "5Z",
            ];
            each("stamp", times.iter().map(|time| text(time)).collect())
        },
    },
    // Two texts that one pattern fits.
    Family {
        atoms: &[
            "given.one fits 'x?' and given.two fits 'x?'",
            "given.one = given.two",
            "given.one != given.two",
            "given.one is set",
            "given.two is set",
        ],
        tried: || two_texts(&["xa", "xb", "x", "other", "else"]),
    },
    // What stands in a path may be a text, an address, a number, a boolean.
    Family {
        atoms: &[
            "given.seg",
            "given.seg = 1",
            "given.seg < 3",
            "given.seg fits 'x*'",
            "given.seg fits '*y'",
            "given.seg within '10.0.0.0/8'",
            "target.name within '10.0.0.0/8'",
            "target.name < given.time",
            "target.name fits '*y'",
            "given.seg != 'red'",
        ],
        tried: segments,
    },
    // Attributes compared with each other: whole numbers beside times, two texts beside patterns.
    Family {
        atoms: &[
            "given.a >= given.c",
            "given.b is set or given.time >= given.a",
            "given.time >= given.a",
            "given.a = '1970-01-01T00:00:03Z'",
            "given.c != 2",
        ],
        tried: || {
            let times =
                ["1970-01-01T00:00:00Z", "1970-01-01T00:00:02.2Z", "1970-01-01T00:00:03Z", "other"];
            let values: Vec<Value> =
                (0..3).map(Value::Integer).chain(times.iter().map(|time| text(time))).collect();
            let b = each("b", vec![Value::Integer(1)]);
            let (a, c) = (each("a", values.clone()), each("c", values));
            let both = a.iter().flat_map(|a| c.iter().map(move |c| [&a[..], &c[..]].concat()));
            both.flat_map(|both| b.iter().map(move |b| [&both[..], &b[..]].concat())).collect()
        },
    },
    Family {
        atoms: &[
            "given.one fits 'x*'",
            "given.two fits '*y'",
            "given.one = given.two",
            "given.one != given.two",
            "given.two != 'xy'",
            "given.one fits 'x?'",
        ],
        tried: || two_texts(&["x", "xy", "xz", "xw", "y", "zy", "xzy", "xwy", "other", ""]),
    },
    // What stands in a path, asked about as one sort of value alone.
    Family {
        atoms: &["given.seg fits 'x*'", "given.seg fits '*y'", "given.seg is set"],
        tried: segments,
    },
    Family { atoms: &["given.seg", "given.seg = true", "given.seg is set"], tried: segments },
    Family {
        atoms: &["given.seg < 10", "given.seg > 3", "given.seg != 10", "given.seg is set"],
        tried: segments,
    },
    Family { atoms: &["given.seg != 'red'", "given.seg is set"], tried: segments },
];

/// Families about what stands in a path.
pub(crate) const SEGMENTS: [usize; 4] = [12, 15, 16, 17];

fn nets() -> Vec<Circumstances> {
    let nets = ["0.0.0.0/0", "10.0.0.0/8", "10.0.0.1", "10.0.0.0/31", "10.9.0.0/16", "::/0"];
    let mut lists: Vec<Value> = nets.iter().map(|net| text(net)).collect();
    lists.extend(nets.iter().map(|net| texts(&[net])));
    lists.extend(nets.windows(2).map(texts));
    let at = ["10.0.0.1", "10.0.0.0", "10.9.9.9", "11.0.0.1", "::1", "other", "::ffff:10.0.0.1"];
    let at = each("at", at.iter().map(|at| text(at)).collect());
    let nets = each("nets", lists);
    at.iter().flat_map(|at| nets.iter().map(|nets| [&at[..], &nets[..]].concat())).collect()
}

fn two_texts(words: &[&str]) -> Vec<Circumstances> {
    let words: Vec<Value> = words.iter().map(|word| text(word)).collect();
    let (one, two) = (each("one", words.clone()), each("two", words));
    one.iter().flat_map(|a| two.iter().map(move |b| [&a[..], &b[..]].concat())).collect()
}

fn segments() -> Vec<Circumstances> {
    let words = ["x", "xy", "y", "zy", "10.0.0.1", "11.0.0.1", "red", "a", "store/red"];
    let scalars = words.iter().map(|word| text(word)).chain((-1..7).map(Value::Integer));
    each("seg", scalars.chain([true, false].map(Value::Boolean)).collect())
}

/// Families of which every law is decided.
pub(crate) const DECIDED: usize = 7;
