//! Small wordings shared by several outputs.

use bexum_core::condition::Reference;
use bexum_core::engine::Source;
use bexum_core::policy::Effect;
use bexum_core::principal::{Principal, Subject};
use bexum_core::time::{Phase, Time, Window};
use bexum_core::trace::{BriefRoute, How, RouteStep, SeenAttribute, SeenState};
use bexum_core::{Estate, Reason};

use super::style;

/// What a reason means, in a sentence.
pub(crate) fn reason(reason: Reason) -> &'static str {
    match reason {
        Reason::Granted => "an allow statement matches, and no deny or ceiling stands in its way",
        Reason::Denied => "a deny statement refuses it, and a deny outranks every allow",
        Reason::NotGranted => {
            "no allow statement in play matches, and what nothing grants is refused"
        }
        Reason::OverCeiling => "it is granted, but a ceiling does not let it through",
        Reason::RoleRefused => "this principal cannot take up that role",
        Reason::Disabled => "this user is not enabled",
    }
}

/// `1 scope`, `3 scopes`.
pub(crate) fn count(n: usize, one: &str, many: &str) -> String {
    format!("{n} {}", if n == 1 { one } else { many })
}

/// How far an attachment's scope is above the target.
pub(crate) fn above(distance: usize) -> String {
    match distance {
        0 => "the target itself".to_owned(),
        1 => "1 level above the target".to_owned(),
        n => format!("{n} levels above the target"),
    }
}

/// `user:ines`, `everyone`.
pub(crate) fn subject(estate: &Estate, subject: Subject) -> String {
    match subject {
        Subject::Everyone => "everyone".to_owned(),
        Subject::One(principal) => estate.principal_id(principal),
    }
}

/// `user:ines → group:imaging`, or nothing when the way has no step; a long way is shortened in
/// the middle.
pub(crate) fn route(estate: &Estate, start: Principal, route: &BriefRoute) -> Option<String> {
    if route.first.is_empty() {
        return None;
    }
    let mut text = estate.principal_id(start);
    route.first.iter().for_each(|step| push_step(estate, &mut text, step));
    if route.left_out > 0 {
        text.push_str(&format!(" → … {} more …", route.left_out));
    }
    route.last.iter().for_each(|step| push_step(estate, &mut text, step));
    Some(text)
}

fn push_step(estate: &Estate, text: &mut String, step: &RouteStep) {
    text.push_str(" → ");
    text.push_str(&estate.principal_id(step.into));
    text.push_str(match step.how {
        How::Member | How::Holds => "",
        How::Condition => " (by its members-when)",
        How::Supposed => " (supposed)",
        How::TakesUp => " (taken up)",
    });
    if step.window != Window::ALWAYS {
        text.push_str(&format!(" ({})", window(step.window)));
    }
}

/// A moment; midnight in UTC as its date alone.
fn moment(at: Time) -> String {
    let text = at.to_string();
    text.strip_suffix("T00:00:00Z").map_or(text.clone(), str::to_owned)
}

/// `from … until …`
pub(crate) fn window(window: Window) -> String {
    let window = (window.from.map(moment), window.until.map(moment));
    match window {
        (Some(from), Some(until)) => format!("from {from} until {until}"),
        (Some(from), None) => format!("from {from}"),
        (None, Some(until)) => format!("until {until}"),
        (None, None) => "always".to_owned(),
    }
}

/// What is wrong with a window that does not hold.
pub(crate) fn phase(phase: Phase, window: Window) -> String {
    match (phase, window.from, window.until) {
        (Phase::Future, Some(from), _) => format!("opens only at {}", moment(from)),
        (Phase::Past, _, Some(until)) => format!("ended at {}", moment(until)),
        _ => "is open".to_owned(),
    }
}

/// An attribute and what was there: `target.tier is 'raw' (from veyra/survey/spectra)`.
pub(crate) fn seen(estate: &Estate, seen: &SeenAttribute) -> String {
    let name = seen.reference.written(&estate.attribute_names);
    match &seen.state {
        SeenState::Absent => format!("{name} is absent"),
        SeenState::Unknown => match seen.reference {
            Reference::Given(_) => format!("{name} was not given"),
            _ => format!("{name} is nobody's in particular"),
        },
        SeenState::Value(value, source) => {
            let from = match source {
                Source::Request => " (from the request)".to_owned(),
                Source::Item => " (from the request's item)".to_owned(),
                Source::Scope(id) => format!(" (from {})", estate.scope(*id).path),
                Source::Identity(principal) => {
                    format!(" (from {})", estate.principal_id(*principal))
                }
                Source::BuiltIn => String::new(),
            };
            format!("{name} is {}{from}", style::safe(&value.to_string()))
        }
    }
}

/// The word of an effect, coloured and padded to five columns.
pub(crate) fn effect(effect: Effect) -> String {
    let style = match effect {
        Effect::Allow => style::ALLOW,
        Effect::Deny => style::DENY,
    };
    format!("{style}{:<5}{style:#}", effect.word())
}
