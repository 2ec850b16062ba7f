//! Attachments and ceilings: made, and taken apart where a table ties more than what goes.

use super::Edit;
use super::apply::{Applied, EditFault, new_list};
use super::keys::expect_declared;
use super::lists::{holds_all, written};
use crate::declaration::{Attachment, Ceiling, Declarations, List};
use crate::origin::Origin;

pub(super) fn tie(
    declared: &mut Declarations,
    edit: &Edit,
    applied: &mut Applied,
) -> Result<(), EditFault> {
    match edit {
        Edit::Attach { policies, to, at, window } => {
            let names = policies.iter().map(|name| format!("policy:{name}"));
            let named = names.chain(to.iter().chain(at).cloned());
            named.collect::<Vec<_>>().iter().try_for_each(|one| expect_declared(declared, one))?;
            let is_tied = |policy: &str, who: &str, scope: &str| {
                declared.attachments.iter().any(|known| {
                    has(&known.policy, policy)
                        && has(&known.to, who)
                        && has(&known.at, scope)
                        && holds_all(&known.window, *window)
                })
            };
            let mut some_new = false;
            for (policy, who, scope) in product(policies, to, at) {
                match is_tied(policy, who, scope) {
                    true => applied
                        .note(format!("policy:{policy} is attached to {who} at {scope} already")),
                    false => some_new = true,
                }
            }
            if some_new {
                declared.attachments.push(Attachment {
                    policy: new_list(policies),
                    to: new_list(to),
                    at: new_list(at),
                    window: written(*window),
                    about: None,
                    origin: Origin::default(),
                });
            }
        }
        Edit::Limit { policy, over, bound, window } => {
            let named = [format!("policy:{policy}")].into_iter();
            let named = named.chain(over.iter().chain(bound).cloned());
            named.collect::<Vec<_>>().iter().try_for_each(|one| expect_declared(declared, one))?;
            let all = |list: &Option<List>, wanted: &[String]| match list {
                None => true,
                Some(list) => !wanted.is_empty() && wanted.iter().all(|one| has(list, one)),
            };
            let stands = |known: &Ceiling| {
                has(&known.policy, policy)
                    && all(&known.over, over)
                    && all(&known.bound, bound)
                    && holds_all(&known.window, *window)
            };
            if declared.ceilings.iter().any(stands) {
                applied.note(format!("policy:{policy} is such a ceiling already"));
                return Ok(());
            }
            let list = |names: &[String]| (!names.is_empty()).then(|| new_list(names));
            declared.ceilings.push(Ceiling {
                policy: new_list(std::slice::from_ref(policy)),
                over: list(over),
                bound: list(bound),
                window: written(*window),
                about: None,
                origin: Origin::default(),
            });
        }
        _ => {}
    }
    Ok(())
}

fn has(list: &List, wanted: &str) -> bool {
    list.value.iter().any(|one| one.value == wanted)
}

fn product<'l>(
    first: &'l [String],
    second: &'l [String],
    third: &'l [String],
) -> impl Iterator<Item = (&'l str, &'l str, &'l str)> {
    first.iter().flat_map(move |a| {
        second.iter().flat_map(move |b| third.iter().map(move |c| (&**a, &**b, &**c)))
    })
}

pub(super) fn untie(declared: &mut Declarations, edit: &Edit) -> Result<(), EditFault> {
    match edit {
        Edit::Detach { policies, from, at } => {
            let names = policies.iter().map(|name| format!("policy:{name}"));
            let named = names.chain(from.iter().chain(at).cloned());
            named.collect::<Vec<_>>().iter().try_for_each(|one| expect_declared(declared, one))?;
            if !detach(declared, policies, from, at) {
                let to = if from.is_empty() {
                    String::new()
                } else {
                    format!(" to {}", from.join(", "))
                };
                let at =
                    if at.is_empty() { String::new() } else { format!(" at {}", at.join(", ")) };
                return Err(EditFault::Nothing(format!(
                    "no attachment of {} goes{to}{at}",
                    policies
                        .iter()
                        .map(|name| format!("policy:{name}"))
                        .collect::<Vec<_>>()
                        .join(", ")
                )));
            }
        }
        Edit::Unlimit { policy, over, bound } => {
            let named = [format!("policy:{policy}")].into_iter();
            let named = named.chain(over.iter().chain(bound).cloned());
            named.collect::<Vec<_>>().iter().try_for_each(|one| expect_declared(declared, one))?;
            if !unlimit(declared, policy, over, bound) {
                return Err(EditFault::Nothing(format!("policy:{policy} is no such ceiling")));
            }
        }
        _ => {}
    }
    Ok(())
}

/// Takes attachments away; whether there was one. No names of one sort mean all of it.
pub(super) fn detach(
    declared: &mut Declarations,
    policies: &[String],
    from: &[String],
    at: &[String],
) -> bool {
    let mut found = Vec::with_capacity(declared.attachments.len());
    let mut any = false;
    for table in std::mem::take(&mut declared.attachments) {
        let lists = [&table.policy, &table.to, &table.at];
        let split = split(lists, [policies, from, at]);
        let Some(parts) = split else {
            found.push(table);
            continue;
        };
        any = true;
        for (i, [policy, to, at]) in parts.into_iter().enumerate() {
            // The first part keeps the table's place.
            let origin = if i == 0 { table.origin } else { Origin::default() };
            found.push(Attachment { policy, to, at, origin, ..table.clone() });
        }
    }
    declared.attachments = found;
    any
}

/// Takes ceilings away; whether there was one.
pub(super) fn unlimit(
    declared: &mut Declarations,
    policy: &str,
    over: &[String],
    bound: &[String],
) -> bool {
    let mut found = Vec::with_capacity(declared.ceilings.len());
    let mut any = false;
    for table in std::mem::take(&mut declared.ceilings) {
        // What is over everything or for everyone has no list to be taken from.
        let whole = List::default();
        let lists = [
            &table.policy,
            table.over.as_ref().unwrap_or(&whole),
            table.bound.as_ref().unwrap_or(&whole),
        ];
        let Some(parts) = split(lists, [&[policy.to_owned()], over, bound]) else {
            found.push(table);
            continue;
        };
        any = true;
        for (i, [policy, over, bound]) in parts.into_iter().enumerate() {
            let origin = if i == 0 { table.origin } else { Origin::default() };
            let over = table.over.as_ref().map(|_| over);
            let bound = table.bound.as_ref().map(|_| bound);
            found.push(Ceiling { policy, over, bound, origin, ..table.clone() });
        }
    }
    declared.ceilings = found;
    any
}

/// What is left of three lists that multiply out when some of each are taken away together, as
/// lists that multiply out to it; `None` where nothing is taken away. No names mean the whole list.
fn split(lists: [&List; 3], wanted: [&[String]; 3]) -> Option<Vec<[List; 3]>> {
    let mut goes: [List; 3] = Default::default();
    let mut stays: [List; 3] = Default::default();
    for i in 0..3 {
        let is_wanted = |one: &str| wanted[i].is_empty() || wanted[i].iter().any(|w| w == one);
        let (out, left): (Vec<_>, Vec<_>) =
            lists[i].value.iter().cloned().partition(|one| is_wanted(&one.value));
        // An empty list stands for one thing that has no name.
        if out.is_empty() && !(lists[i].value.is_empty() && wanted[i].is_empty()) {
            return None;
        }
        goes[i] = List { value: out, origin: lists[i].origin };
        stays[i] = List { value: left, origin: lists[i].origin };
    }
    // What stays of one list goes with all of those after it and with what goes of those before.
    let mut parts = Vec::new();
    for i in (0..3).rev() {
        if stays[i].value.is_empty() {
            continue;
        }
        let part = std::array::from_fn(|j| match j.cmp(&i) {
            std::cmp::Ordering::Less => lists[j].clone(),
            std::cmp::Ordering::Equal => stays[i].clone(),
            std::cmp::Ordering::Greater => goes[j].clone(),
        });
        parts.push(part);
    }
    // Only the first is the old table with something less in it: the others are new.
    for part in parts.iter_mut().skip(1) {
        for list in part {
            list.origin = Origin::default();
            list.value.iter_mut().for_each(|one| one.origin = Origin::default());
        }
    }
    Some(parts)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Whatever is taken away of whatever lists: what is left multiplies out to all the rest, each
    /// once.
    #[test]
    fn what_is_left_is_the_rest() {
        let all: [Vec<String>; 3] =
            ["p", "t", "a"].map(|letter| (0..3).map(|n| format!("{letter}{n}")).collect());
        for code in 0..8_usize.pow(3) {
            let wanted: [Vec<String>; 3] = std::array::from_fn(|i| {
                let bits = code / 8_usize.pow(i as u32) % 8;
                (0..3).filter(|n| bits & (1 << n) != 0).map(|n| all[i][n].clone()).collect()
            });
            let lists = all.each_ref().map(|names| new_list(names));
            let found = split(lists.each_ref(), wanted.each_ref().map(|names| &names[..]));
            let mut left: Vec<[String; 3]> = Vec::new();
            for [p, t, a] in found.expect("each name is there") {
                let texts = |list: &List| list.value.iter().map(|o| o.value.clone()).collect();
                let [p, t, a]: [Vec<String>; 3] = [texts(&p), texts(&t), texts(&a)];
                left.extend(product(&p, &t, &a).map(|(a, b, c)| [a, b, c].map(str::to_owned)));
            }
            left.sort();
            let goes =
                |i: usize, one: &str| wanted[i].is_empty() || wanted[i].iter().any(|w| w == one);
            let rest = product(&all[0], &all[1], &all[2]);
            let rest: Vec<[String; 3]> = rest
                .filter(|(p, t, a)| !(goes(0, p) && goes(1, t) && goes(2, a)))
                .map(|(a, b, c)| [a, b, c].map(str::to_owned))
                .collect();
            assert_eq!(left, rest, "{wanted:?}");
        }
    }
}
