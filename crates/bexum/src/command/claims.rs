//! `bexum claims`: what applications learn of people.

use std::path::Path;
use std::sync::Arc;

use anyhow::bail;
use bexum_core::application::{Application, Signing};
use bexum_core::engine::Engine;
use bexum_core::id::{GroupId, UserId};
use bexum_core::name::nearest;
use bexum_core::{Estate, Principal, RequestFault};
use bexum_wire::claims::{All, Claims as Shape, Person, SignIn, object};

use super::save::replace_file;
use crate::args::claims::{Claims, ClaimsFormat};
use crate::exit::Exit;
use crate::render::claims as render;
use crate::terminal::{self, Helped};

pub(super) fn run(at: Option<&Path>, typed: &Claims) -> anyhow::Result<Exit> {
    let now = super::moment(typed.at_time.as_deref())?;
    let loaded = super::load_supposed(at, &typed.supposed)?;
    let estate = &loaded.estate;
    let engine = Engine::new(Arc::clone(estate));
    let (who, application) = match (typed.all, &typed.names[..]) {
        (true, [application]) => (None, application),
        (true, _) => bail!("`--all` is about everybody: name the application alone"),
        (false, [who, application]) => (Some(who), application),
        (false, _) => {
            bail!("name the user and the application: `bexum claims user:NAME APP`; or `--all APP`")
        }
    };
    let application = find_application(estate, application)?;
    let also: Vec<GroupId> =
        typed.also.iter().map(|name| find_group(estate, name)).collect::<anyhow::Result<_>>()?;
    let signing = Signing::new(&engine, application, also, now);
    let Some(who) = who else {
        let all = everybody(estate, application, &signing, now.to_string());
        terminal::unless_gone(match typed.format {
            ClaimsFormat::Json => terminal::print_json(&all),
            ClaimsFormat::Csv => terminal::print_exactly(&render::people_csv(&all)?),
            ClaimsFormat::Text => {
                terminal::print(&render::everybody(&all, application, typed.full))
            }
        })?;
        return Ok(Exit::Done);
    };
    let user = find_user(estate, who)?;
    let (sights, group) = match &typed.group {
        Some(name) => {
            let group = find_group(estate, name)?;
            (vec![signing.sight_of(user, group)], Some(group))
        }
        None => (signing.sights(user), None),
    };
    let entry = signing.may_sign_in(user);
    let claims = signing.claims(user).ok();
    let shape = Shape::new(estate, application, user, now, (&entry, claims.as_ref()), &sights);
    terminal::unless_gone(match typed.format {
        ClaimsFormat::Json => terminal::print_json(&shape),
        ClaimsFormat::Csv => terminal::print_exactly(&render::groups_csv(&shape)?),
        ClaimsFormat::Text => {
            let asked = render::Asked { estate, application, entry: &entry, sights: &sights };
            terminal::print(&asked.text(&shape, group.is_some())?)
        }
    })?;
    if let (Some(file), Some(claims)) = (&typed.save, &claims) {
        let mut text = serde_json::to_vec_pretty(&object(application, claims))?;
        text.push(b'\n');
        replace_file(file, &text)?;
    }
    let is_well = match group {
        Some(_) => entry.is_ok() && sights.iter().all(|sight| sight.hidden.is_none()),
        None => entry.is_ok(),
    };
    Ok(if is_well { Exit::Done } else { Exit::Denied })
}

fn everybody(estate: &Estate, application: &Application, signing: &Signing<'_>, at: String) -> All {
    let people: Vec<Person> = estate
        .each_user()
        .map(|user| {
            let groups = signing.wanted_count(user);
            Person {
                who: estate.principal_id(Principal::User(user)),
                sign_in: SignIn::new(estate, &signing.may_sign_in(user)),
                groups,
                over: signing.is_over_the_limit(user),
            }
        })
        .collect();
    All {
        version: bexum_wire::VERSION,
        application: application.name.to_string(),
        at,
        at_most: application.at_most,
        may: people.iter().filter(|one| one.sign_in.may).count(),
        over: people.iter().filter(|one| one.over).count(),
        people,
    }
}

/// An application by its name, with or without `application:`.
pub(super) fn find_application<'e>(
    estate: &'e Estate,
    written: &str,
) -> anyhow::Result<&'e Application> {
    let name = written.strip_prefix("application:").unwrap_or(written);
    let found = estate.applications.iter().find(|one| &*one.name == name);
    found.ok_or_else(|| {
        let known = || estate.applications.iter().map(|one| &*one.name);
        let help = match (nearest(name, known()), known().next()) {
            (Some(near), _) => Some(format!("did you mean `{near}`?")),
            (None, Some(_)) => {
                let known: Vec<&str> = known().take(10).collect();
                Some(format!("declared are {}", known.join(", ")))
            }
            (None, None) => Some("the estate declares none: `[application.NAME]`".to_owned()),
        };
        Helped::error(format!("application `{name}` is not declared"), help)
    })
}

fn find_user(estate: &Estate, written: &str) -> anyhow::Result<UserId> {
    match estate.find_principal(written) {
        Some(Principal::User(user)) => Ok(user),
        Some(_) => bail!("`{written}` does not sign in: only users do"),
        None => Err(super::with_hint(&RequestFault::Principal(written.to_owned()), estate)),
    }
}

fn find_group(estate: &Estate, written: &str) -> anyhow::Result<GroupId> {
    match estate.find_principal(written) {
        Some(Principal::Group(group)) => Ok(group),
        _ => Err(super::with_hint(&RequestFault::Group(written.to_owned()), estate)),
    }
}
