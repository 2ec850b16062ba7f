//! The answer of `ask`: the verdict, then why.

use bexum_core::condition::Reference;
use bexum_core::engine::Obstacle;
use bexum_core::id::{RoleId, StatementId};
use bexum_core::policy::Effect;
use bexum_core::principal::{Membership, Principal, Subject};
use bexum_core::request::Query;
use bexum_core::trace::{
    CeilingFinding, ConditionPart, Finding, NearMiss, SeenAttribute, SeenState, Shortfall,
};
use bexum_core::{Estate, Reason, Request, Time, Trace, Truth, Verdict};
use bexum_files::Sources;

use super::page::Page;
use super::phrases;
use super::style::{self, paint, safe};
use crate::command_line::{self, Of};

/// Most statements of one sort that are shown.
const MOST: usize = 8;

/// Everything an answer is rendered from.
pub(crate) struct Answer<'a> {
    pub(crate) estate: &'a Estate,
    pub(crate) sources: &'a Sources,
    pub(crate) query: &'a Query<'a>,
    pub(crate) trace: &'a Trace,
    pub(crate) asked: Asked<'a>,
}

/// The question as it was typed, so that others like it can be shown.
#[derive(Clone, Copy)]
pub(crate) struct Asked<'a> {
    pub(crate) request: &'a Request<'a>,
    /// The moment, when it was named.
    pub(crate) time: Option<Time>,
    /// The estate that commands are to ask.
    pub(crate) of: Of<'a>,
}

/// What an answer is that comes of supposed edits, and what it is without them; before nothing
/// where it is no request there.
pub(crate) fn before_supposing(before: Option<Reason>, edits: &[String]) -> String {
    let before = match before {
        Some(reason) => format!("{} ({})", reason.verdict(), reason.word()),
        None => "no request: it names what is not there".to_owned(),
    };
    let mut text = format!("{} {before}\n", paint(style::HEADING, "as things are:"));
    for edit in edits {
        let line = format!("{} {}\n", paint(style::HEADING, "supposing:"), safe(edit));
        text.push_str(&line);
    }
    text.push('\n');
    text
}

/// The best way to have a refused request allowed, if one was looked for and found, and the command
/// that finds all.
pub(crate) fn best_way(best: Option<&str>, all: &str, width: usize) -> String {
    let mut page = Page::new(width);
    page.heading("what would allow it");
    if let Some(best) = best {
        page.line(2, &format!("best: {}", safe(best)));
    }
    page.command(2, all);
    page.finish()
}

impl Answer<'_> {
    /// The whole text.
    pub(crate) fn render(&self, width: usize) -> String {
        let mut page = Page::new(width);
        self.verdict(&mut page);
        match self.trace.reason {
            Reason::Granted => {
                self.findings(&mut page, "granted by", &self.trace.allows);
                self.passed_ceilings(&mut page);
            }
            Reason::Denied => {
                self.findings(&mut page, "refused by", &self.trace.denies);
                self.findings(&mut page, "it outranks", &self.trace.allows);
                if self.trace.allows.is_empty() {
                    page.heading("without it");
                    page.line(
                        2,
                        "nothing would grant it either: no allow statement in play matches",
                    );
                }
                self.undecided(&mut page);
            }
            Reason::NotGranted => {
                self.misses(&mut page);
                self.obstructed(&mut page);
                self.lapses(&mut page);
                self.near(&mut page);
                self.undecided(&mut page);
                self.next_steps(&mut page);
            }
            Reason::OverCeiling => {
                for ceiling in self.trace.ceilings.iter().filter(|ceiling| ceiling.bounds) {
                    self.bounding(&mut page, ceiling);
                }
                self.findings(&mut page, "it would be granted by", &self.trace.allows);
                self.undecided(&mut page);
            }
            Reason::RoleRefused => {
                self.role_refused(&mut page);
                self.next_steps(&mut page);
            }
            Reason::Disabled => self.disabled(&mut page),
        }
        page.finish()
    }

    fn verdict(&self, page: &mut Page) {
        let (estate, query, reason) = (self.estate, self.query, self.trace.reason);
        let (style, word, may) = match reason.verdict() {
            Verdict::Allow => (style::ALLOW, "ALLOW", "may do"),
            Verdict::Deny => (style::DENY, "DENY", "may not do"),
        };
        let mut who = estate.principal_id(query.who);
        if let Some(role) = query.take_up {
            who.push_str(&format!(" as role:{}", estate.role(role).identity.name));
        }
        if !query.also.is_empty() {
            let groups: Vec<String> = query
                .also
                .iter()
                .map(|id| format!("group:{}", estate.group(*id).identity.name))
                .collect();
            who.push_str(&format!(", supposed to be in {},", groups.join(" and ")));
        }
        let action = &estate.catalogue.action(query.action).name;
        let path = safe(query.target.path);
        let mark = style.bold().invert();
        page.line(
            0,
            &format!(
                "{mark} {word} {mark:#} {who} {may} {} on {}",
                paint(style::HEADING, action),
                paint(style::NAME, &path),
            ),
        );
        page.line(0, &format!("{}: {}", paint(style, reason.word()), self.meaning()));
    }

    fn meaning(&self) -> &'static str {
        let doubtful = self.trace.denies.iter().all(|deny| deny.truth == Truth::Undecided);
        match self.trace.reason {
            Reason::Denied if doubtful => {
                "a deny statement cannot be ruled out, and doubt never grants"
            }
            reason => phrases::reason(reason),
        }
    }

    fn findings(&self, page: &mut Page, heading: &str, findings: &[Finding]) {
        if findings.is_empty() {
            return;
        }
        page.heading(heading);
        for finding in findings.iter().take(MOST) {
            self.finding(page, finding);
        }
        self.more(page, findings.len());
    }

    fn more(&self, page: &mut Page, count: usize) {
        if count > MOST {
            let left = count - MOST;
            page.line(2, &paint(style::QUIET, &format!("and {left} more (see `--format json`)")));
        }
    }

    fn finding(&self, page: &mut Page, finding: &Finding) {
        let estate = self.estate;
        let candidate = finding.candidate;
        self.statement(page, candidate.statement);
        let attachment = estate.attachment(candidate.attachment);
        let via = if estate.statement(candidate.statement).policy == candidate.policy {
            String::new()
        } else {
            format!("in policy {}, which includes it, ", estate.policy(candidate.policy).name)
        };
        let text = format!(
            "{via}attached to {} at {}, {}",
            phrases::subject(estate, candidate.subject),
            estate.scope(candidate.scope).path,
            phrases::above(finding.distance),
        );
        page.noted(8, &text, &self.sources.shown(attachment.origin));
        let route = self.trace.routes.brief(candidate.subject);
        if let Some(route) = phrases::route(estate, self.query.who, &route) {
            page.line(8, &route);
        }
        self.doubts(page, candidate.statement, finding.path, &finding.braces, &finding.parts);
    }

    /// Why a statement is not simply true.
    fn doubts(
        &self,
        page: &mut Page,
        statement: StatementId,
        path: Truth,
        braces: &[SeenAttribute],
        parts: &[ConditionPart],
    ) {
        if path == Truth::False {
            let on = &self.estate.statement(statement).on;
            let patterns: Vec<String> =
                on.texts().map(|text| format!("`{}`", safe(text))).collect();
            let mut text = format!("its paths ({}) do not lead to the target", patterns.join(", "));
            let filled: Vec<String> =
                braces.iter().map(|seen| phrases::seen(self.estate, seen)).collect();
            if !filled.is_empty() {
                text.push_str(&format!(": {}", filled.join(", ")));
            }
            page.line(8, &text);
            return;
        }
        for seen in braces {
            let seen = phrases::seen(self.estate, seen);
            page.line(8, &format!("its path is undecided: {seen}"));
        }
        self.parts(page, 8, parts);
    }

    fn parts(&self, page: &mut Page, indent: usize, parts: &[ConditionPart]) {
        for part in parts {
            let holds = match part.truth {
                Truth::True => "holds",
                Truth::False => "does not hold",
                Truth::Undecided => "is undecided",
            };
            let mut seen: Vec<String> = Vec::new();
            for item in &part.seen {
                let text = phrases::seen(self.estate, item);
                if !seen.contains(&text) {
                    seen.push(text);
                }
            }
            let text = safe(&part.text);
            // An attribute that stands alone and is there is no boolean.
            let stands_alone = part.truth == Truth::Undecided
                && matches!(&part.seen[..], [SeenAttribute { reference, state: SeenState::Value(..) }]
                    if reference.written(&self.estate.attribute_names) == part.text);
            let expected = if stands_alone { "; true or false is expected" } else { "" };
            page.line(indent, &format!("`{text}` {holds}: {}{expected}", seen.join(", ")));
        }
    }

    /// `allow  spectra-curator "own team"   policies/recordings.toml:14`
    fn statement(&self, page: &mut Page, id: StatementId) {
        let statement = self.estate.statement(id);
        let label = safe(&self.estate.statement_label(id));
        let text =
            format!("{} {}", phrases::effect(statement.effect), paint(style::HEADING, &label));
        page.noted(2, &text, &self.sources.shown(statement.origin));
        if let Some(about) = &statement.about {
            page.line(8, &safe(about));
        }
    }

    fn passed_ceilings(&self, page: &mut Page) {
        if self.trace.ceilings.is_empty() {
            return;
        }
        page.heading("ceilings that let it through");
        for ceiling in self.trace.ceilings.iter().take(MOST) {
            self.ceiling_line(page, ceiling);
        }
        self.more(page, self.trace.ceilings.len());
    }

    fn ceiling_line(&self, page: &mut Page, ceiling: &CeilingFinding) {
        let limit = ceiling.limit;
        let policy = paint(style::HEADING, &self.estate.policy(limit.policy).name);
        let over = match limit.over {
            Some(scope) => format!("over {}", self.estate.scope(scope).path),
            None => "everywhere".to_owned(),
        };
        match limit.ceiling {
            None => page.line(2, &format!("{policy}, for this session (`--under`)")),
            Some(id) => {
                let written = self.estate.ceiling(id);
                let bound: Vec<String> =
                    written.bound.iter().map(|s| phrases::subject(self.estate, *s)).collect();
                let text = format!("{policy} {over}, for {}", bound.join(", "));
                page.noted(2, &text, &self.sources.shown(written.origin));
            }
        }
    }

    fn bounding(&self, page: &mut Page, ceiling: &CeilingFinding) {
        page.heading("bounded by the ceiling");
        self.ceiling_line(page, ceiling);
        let refusing = ceiling.statements.iter().filter(|s| {
            self.estate.statement(s.statement).effect == Effect::Deny && s.truth != Truth::False
        });
        let mut refused = false;
        for found in refusing {
            refused = true;
            self.statement(page, found.statement);
            self.doubts(page, found.statement, found.path, &found.braces, &found.parts);
        }
        if refused {
            return;
        }
        for found in &ceiling.statements {
            if self.estate.statement(found.statement).effect == Effect::Allow {
                self.statement(page, found.statement);
                self.doubts(page, found.statement, found.path, &found.braces, &found.parts);
            }
        }
        page.line(2, "what this ceiling leaves:");
        let allows = &self.estate.policy(ceiling.limit.policy).allows;
        for id in allows.iter().take(MOST) {
            let statement = self.estate.statement(*id);
            let on: Vec<String> = statement.on.texts().map(safe).collect();
            let when = statement.when.as_ref().map(|when| format!(", when {}", safe(&when.text)));
            let text = format!(
                "{} on {}{}",
                statement.do_written.join(" "),
                on.join(" "),
                when.unwrap_or_default(),
            );
            page.line(4, &text);
        }
        self.more(page, allows.len());
    }

    fn misses(&self, page: &mut Page) {
        self.findings(page, "in play, but it does not match", &self.trace.misses);
    }

    fn obstructed(&self, page: &mut Page) {
        if self.trace.obstructed.is_empty() {
            return;
        }
        page.heading("would grant it, but is not in play");
        for (finding, obstacle) in self.trace.obstructed.iter().take(MOST) {
            self.finding(page, finding);
            let text = match obstacle {
                Obstacle::Seal(scope) => {
                    format!("shut out by the seal on {}", self.estate.scope(*scope).path)
                }
                Obstacle::Window(phase) => {
                    let window = self.estate.attachment(finding.candidate.attachment).window;
                    format!("the attachment {}", phrases::phase(*phase, window))
                }
            };
            page.line(8, &paint(style::DENY, &text));
        }
        self.more(page, self.trace.obstructed.len());
    }

    fn lapses(&self, page: &mut Page) {
        if self.trace.lapses.is_empty() {
            return;
        }
        page.heading("memberships at another time");
        for lapse in self.trace.lapses.iter().take(MOST) {
            let text = format!(
                "{} in {} {}",
                self.estate.principal_id(lapse.who),
                self.estate.principal_id(lapse.into),
                phrases::phase(lapse.phase, lapse.window),
            );
            page.line(2, &text);
        }
        self.more(page, self.trace.lapses.len());
    }

    fn near(&self, page: &mut Page) {
        if self.trace.near.is_empty() {
            if self.trace.misses.is_empty() && self.trace.obstructed.is_empty() {
                page.heading("nearest");
                page.line(2, "no other policy allows this action here");
            }
            return;
        }
        page.heading("nearest misses");
        for miss in &self.trace.near {
            self.statement(page, miss.statement);
            let (text, note) = self.shortfall(miss);
            match note {
                Some(note) => page.noted(8, &text, &note),
                None => page.line(8, &text),
            }
        }
    }

    fn shortfall(&self, miss: &NearMiss) -> (String, Option<String>) {
        let estate = self.estate;
        let via = if estate.statement(miss.statement).policy == miss.policy {
            String::new()
        } else {
            format!("in policy {}, ", estate.policy(miss.policy).name)
        };
        match &miss.shortfall {
            Shortfall::ToOthers { attachment, scope } => {
                let written = estate.attachment(*attachment);
                let to: Vec<String> =
                    written.to.iter().map(|s| phrases::subject(estate, s.value)).collect();
                let who = estate.principal_id(self.query.who);
                let text = format!(
                    "{via}attached at {} to {}; {who} is not among them",
                    estate.scope(*scope).path,
                    to.join(", "),
                );
                (text, Some(self.sources.shown(written.origin)))
            }
            Shortfall::Elsewhere { attachment, subject, scope } => {
                let text = format!(
                    "{via}attached to {} at {}, which is not above the target",
                    phrases::subject(estate, *subject),
                    estate.scope(*scope).path,
                );
                (text, Some(self.sources.shown(estate.attachment(*attachment).origin)))
            }
            Shortfall::Unattached => (format!("{via}attached to nobody"), None),
        }
    }

    /// Commands that were tried and are answered with allow, and where what they suppose is written;
    /// apart from them those that are so only if what is undecided comes out in favour.
    fn next_steps(&self, page: &mut Page) {
        let trace = self.trace;
        let roles = trace.roles_that_help.iter().map(|role| Principal::Role(*role));
        let groups = trace.groups_that_help.iter().map(|group| Principal::Group(*group));
        let surely: Vec<Principal> = roles.chain(groups).collect();
        if trace.role_stands_in_the_way || !surely.is_empty() {
            page.heading("what would be allowed");
        }
        if trace.role_stands_in_the_way {
            page.line(2, "without the role: one that is taken up sets one's own allows aside");
            let request = Request { take_up: None, ..self.asked.request.clone() };
            page.command(4, &command_line::ask(self.asked.of, &request, self.asked.time));
        }
        surely.into_iter().for_each(|principal| self.next_step(page, principal));
        if !trace.perhaps.is_empty() {
            page.heading("what may be allowed, when more is given");
        }
        trace.perhaps.iter().for_each(|principal| self.next_step(page, *principal));
    }

    /// The request with a role taken up, or a membership supposed.
    fn next_step(&self, page: &mut Page, principal: Principal) {
        let Some(identity) = self.estate.identity(principal) else { return };
        let written = self.sources.shown(identity.origin);
        let name = self.estate.principal_id(principal);
        let mut request = self.asked.request.clone();
        if let Principal::Role(_) = principal {
            page.noted(2, &format!("with {name}, which may be taken up"), &written);
            request.take_up = Some(name.into());
        } else {
            page.noted(2, &format!("as a member of {name}, whose members stand in"), &written);
            request.also.push(name.into());
        }
        page.command(4, &command_line::ask(self.asked.of, &request, self.asked.time));
    }

    /// What the answer would be if what was not given were known.
    fn undecided(&self, page: &mut Page) {
        let not_given = self.trace.not_given();
        if not_given.is_empty() {
            return;
        }
        page.heading("if more were known");
        let names: Vec<String> = not_given.iter().map(|r| self.given_name(*r)).collect();
        page.line(2, &format!("not given: {}", names.join(", ")));
        let (now, best) = (self.trace.reason, self.trace.at_best);
        let options = || -> String {
            let each = names.iter().map(|name| name.trim_start_matches("given."));
            each.map(|name| format!(" --given {name}=…")).collect()
        };
        match &self.trace.allowed_when {
            Some(request) => {
                page.line(2, "there are circumstances in which it is allowed, these for example:");
                page.command(4, &command_line::ask(self.asked.of, request, self.asked.time));
            }
            None if best == now => {
                page.line(2, &format!("whatever they are, it stays {} ({now})", now.verdict()));
                page.line(2, &format!("say it with{}", options()));
            }
            None => {
                let (verdict, stays) = (best.verdict(), now.verdict());
                page.line(
                    2,
                    &format!(
                        "in favour it may be {verdict} ({best}); else it stays {stays} ({now})"
                    ),
                );
                page.line(2, &format!("say it with{}", options()));
            }
        }
    }

    fn given_name(&self, reference: Reference) -> String {
        reference.written(&self.estate.attribute_names)
    }

    fn role_refused(&self, page: &mut Page) {
        let Some(role) = self.query.take_up else { return };
        page.heading("who may take it up");
        self.holders(page, role);
        self.lapses(page);
    }

    fn holders(&self, page: &mut Page, role: RoleId) {
        let role = self.estate.role(role);
        let note = self.sources.shown(role.identity.origin);
        let lists: [(&str, &[Membership]); 2] =
            [("taken-by", &role.taken_by), ("held-by", &role.held_by)];
        let mut any = false;
        for (key, list) in lists {
            if list.is_empty() {
                continue;
            }
            any = true;
            let names: Vec<String> = list
                .iter()
                .map(|member| {
                    let name = phrases::subject(self.estate, Subject::One(member.who));
                    let phase = member.window.phase(self.query.time);
                    match phase {
                        bexum_core::time::Phase::Open => name,
                        _ => format!("{name} ({})", phrases::phase(phase, member.window)),
                    }
                })
                .collect();
            page.noted(2, &format!("{key}: {}", names.join(", ")), &note);
        }
        if !any {
            page.noted(2, "nobody: its `held-by` and `taken-by` are empty", &note);
        }
    }

    fn disabled(&self, page: &mut Page) {
        if let Principal::User(id) = self.query.who {
            let user = self.estate.user(id);
            page.heading("because");
            let text = format!("user:{} is declared with `enabled = false`", user.identity.name);
            page.noted(2, &text, &self.sources.shown(user.identity.origin));
        }
    }
}
