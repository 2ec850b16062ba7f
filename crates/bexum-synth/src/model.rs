//! The platform in memory: who there is, what there is, who has what where.

use rand::seq::IndexedRandom as _;
use rand::{Rng as _, SeedableRng as _};
use rand_chacha::ChaCha8Rng;

use crate::astray::Astray;

/// How much of everything.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Size {
    /// Users.
    pub users: usize,
    /// Groups, nested up to five deep.
    pub groups: usize,
    /// Roles.
    pub roles: usize,
    /// Policies.
    pub policies: usize,
    /// Statements of all policies together.
    pub statements: usize,
    /// Attachments.
    pub attachments: usize,
    /// Ceilings.
    pub ceilings: usize,
    /// Scopes.
    pub scopes: usize,
    /// Actions.
    pub actions: usize,
}

impl Size {
    /// As small as the demo estate.
    pub const S: Self = Self {
        users: 15,
        groups: 11,
        roles: 3,
        policies: 22,
        statements: 40,
        attachments: 24,
        ceilings: 2,
        scopes: 26,
        actions: 60,
    };
    /// A thousand people.
    pub const M: Self = Self {
        users: 1_000,
        groups: 120,
        roles: 30,
        policies: 250,
        statements: 750,
        attachments: 2_200,
        ceilings: 40,
        scopes: 5_000,
        actions: 250,
    };
    /// Ten thousand people.
    pub const L: Self = Self {
        users: 10_000,
        groups: 1_000,
        roles: 200,
        policies: 2_000,
        statements: 6_000,
        attachments: 20_000,
        ceilings: 300,
        scopes: 50_000,
        actions: 500,
    };
    /// A hundred thousand people.
    pub const XL: Self = Self {
        users: 100_000,
        groups: 6_000,
        roles: 600,
        policies: 6_000,
        statements: 18_000,
        attachments: 120_000,
        ceilings: 900,
        scopes: 500_000,
        actions: 500,
    };

    /// The size of a letter.
    #[must_use]
    pub fn named(name: &str) -> Option<Self> {
        Some(match name {
            "S" | "s" => Self::S,
            "M" | "m" => Self::M,
            "L" | "l" => Self::L,
            "XL" | "xl" => Self::XL,
            _ => return None,
        })
    }
}

/// A kind of thing with its verbs by level: observe, operate, alter, govern.
#[derive(Debug)]
pub(crate) struct Kind {
    pub(crate) name: String,
    pub(crate) verbs: [Vec<String>; 4],
    /// Verbs asked of the scope that will hold the new thing.
    pub(crate) on_parent: Vec<String>,
    /// The kind of the items below one of these.
    pub(crate) item: Option<usize>,
}

/// Which sort of scope.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Sort {
    Account,
    Subscription,
    Resource,
    Namespace,
}

#[derive(Debug)]
pub(crate) struct Scope {
    pub(crate) path: String,
    pub(crate) sort: Sort,
    pub(crate) kind: usize,
    pub(crate) team: usize,
    pub(crate) tier: usize,
    pub(crate) sealed: bool,
    /// One past the last scope below it.
    pub(crate) end: usize,
}

#[derive(Debug)]
pub(crate) struct User {
    pub(crate) name: String,
    pub(crate) team: usize,
    pub(crate) site: usize,
    pub(crate) clearance: i64,
    pub(crate) enabled: bool,
    pub(crate) managed: bool,
    pub(crate) place: bool,
}

#[derive(Debug, Default)]
pub(crate) struct Group {
    pub(crate) name: String,
    pub(crate) users: Vec<usize>,
    pub(crate) groups: Vec<usize>,
    pub(crate) workloads: Vec<usize>,
    /// Members for a season only.
    pub(crate) guests: Vec<usize>,
}

#[derive(Debug)]
pub(crate) struct Role {
    pub(crate) name: String,
    pub(crate) held_by: Vec<usize>,
    pub(crate) taken_by: Vec<usize>,
}

#[derive(Debug)]
pub(crate) struct Statement {
    pub(crate) allows: bool,
    pub(crate) actions: Vec<String>,
    pub(crate) on: Vec<String>,
    pub(crate) when: Option<String>,
}

#[derive(Debug)]
pub(crate) struct Policy {
    pub(crate) name: String,
    pub(crate) statements: Vec<Statement>,
    pub(crate) include: Option<usize>,
    /// The kind that it is mostly about.
    pub(crate) kind: usize,
}

/// Whom an attachment names.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Whom {
    Everyone,
    User(usize),
    Group(usize),
    Role(usize),
}

#[derive(Debug)]
pub(crate) struct Attachment {
    pub(crate) policy: usize,
    pub(crate) to: Whom,
    pub(crate) at: usize,
    pub(crate) season: bool,
}

#[derive(Debug)]
pub(crate) struct Ceiling {
    pub(crate) policy: usize,
    pub(crate) over: Option<usize>,
    pub(crate) to: Whom,
}

/// A platform.
#[derive(Debug)]
pub struct Model {
    /// How large it is.
    pub size: Size,
    pub(crate) seed: u64,
    pub(crate) kinds: Vec<Kind>,
    pub(crate) scopes: Vec<Scope>,
    pub(crate) users: Vec<User>,
    pub(crate) groups: Vec<Group>,
    pub(crate) roles: Vec<Role>,
    pub(crate) policies: Vec<Policy>,
    pub(crate) attachments: Vec<Attachment>,
    pub(crate) ceilings: Vec<Ceiling>,
    /// The first of the policies that are ceilings.
    pub(crate) first_limit: usize,
    pub(crate) astray: Astray,
}

pub(crate) const TEAMS: [&str; 16] = [
    "imaging", "transit", "pulsar", "hydrogen", "survey", "lensing", "solar", "maser", "timing",
    "burst", "dust", "comet", "cluster", "void", "halo", "relay",
];
pub(crate) const SITES: [&str; 6] = ["mesa", "fjord", "plateau", "atoll", "steppe", "ridge"];
pub(crate) const TIERS: [&str; 4] = ["raw", "reduced", "finished", "public"];

const THINGS: [&str; 12] = [
    "store", "cluster", "vault", "database", "dish", "worker", "queue", "gateway", "notebook",
    "archive", "clock", "relay",
];
const ITEMS: [&str; 6] = ["recording", "job", "secret", "table", "session", "message"];
const VERBS: [[&str; 5]; 4] = [
    ["view", "list", "read", "survey", "count"],
    ["run", "restart", "verify", "drain", "cancel"],
    ["put", "resize", "erase", "move", "rename"],
    ["share", "retag", "assign", "reseal", "hand-over"],
];

/// Few of the first, many of the last: an index below `count`, the small ones far more often.
pub(crate) fn skewed(rng: &mut ChaCha8Rng, count: usize) -> usize {
    let x: f64 = rng.random();
    ((count as f64 * x * x * x) as usize).min(count - 1)
}

impl Model {
    /// Makes the platform up.
    #[must_use]
    pub fn new(size: Size, seed: u64) -> Self {
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        let kinds = kinds(size);
        let scopes = scopes(size, &kinds, &mut rng);
        let users = users(size, &mut rng);
        let groups = groups(size, &users, &scopes, &mut rng);
        let roles = roles(size, &mut rng);
        let mut model = Self {
            size,
            seed,
            kinds,
            scopes,
            users,
            groups,
            roles,
            policies: Vec::new(),
            attachments: Vec::new(),
            ceilings: Vec::new(),
            first_limit: 0,
            astray: Astray::default(),
        };
        model.make_policies(&mut rng);
        model.attach(&mut rng);
        model.lead_astray();
        model
    }

    fn make_policies(&mut self, rng: &mut ChaCha8Rng) {
        let limits = self.size.policies / 10 + 1;
        self.first_limit = self.size.policies - limits;
        let mut left = self.size.statements;
        for i in 0..self.size.policies {
            let kind = skewed(rng, self.kinds.len());
            let is_limit = i >= self.first_limit;
            let policies_left = self.size.policies - i;
            let count = (left / policies_left).max(1);
            left = left.saturating_sub(count);
            let statements = (0..count)
                .map(|n| self.statement(rng, kind, is_limit, is_limit || n == 0 || i % 7 != 0))
                .collect();
            let include = (i > 20 && i % 9 == 0 && !is_limit).then(|| rng.random_range(0..i / 2));
            let name = format!(
                "{}-{}-{i}",
                self.kinds[kind].name,
                if is_limit { "limit" } else { ["reader", "keeper", "operator"][i % 3] }
            );
            self.policies.push(Policy { name, statements, include, kind });
        }
    }

    fn statement(
        &self,
        rng: &mut ChaCha8Rng,
        kind: usize,
        is_limit: bool,
        allows: bool,
    ) -> Statement {
        let name = &self.kinds[kind].name;
        let item = self.kinds[kind].item.map_or(name, |item| &self.kinds[item].name);
        let actions = if is_limit {
            vec![
                ["*.@observe", "*", "*"][rng.random_range(0..3)].to_owned(),
                "!*.@govern".to_owned(),
            ]
        } else if !allows {
            vec![format!("{item}.@alter"), format!("{name}.@govern")]
        } else {
            match rng.random_range(0..5) {
                0 => vec![format!("{name}.@observe"), format!("{item}.@observe")],
                1 => vec![format!("{name}.*"), format!("{item}.*"), format!("!{name}.@govern")],
                2 => vec![format!("{item}.@operate"), format!("{item}.@observe")],
                3 => vec![format!("{item}.@alter"), format!("{name}.@alter")],
                _ => vec![format!("{name}.@observe")],
            }
        };
        // Half of them look at something: a condition, or a brace in a path.
        let (on, when) = match rng.random_range(0..if allows { 12 } else { 6 }) {
            0 if allows => (vec!["{who.team}/**".to_owned()], None),
            1 if allows => (vec!["**/{who.team}/**".to_owned(), "*".to_owned()], None),
            0 => (Vec::new(), Some("target.tier = 'raw'")),
            1 => (Vec::new(), Some("not given.mfa")),
            2 => (Vec::new(), Some("target.team = who.team")),
            3 => (Vec::new(), Some("given.mfa and who.clearance >= 2")),
            4 => (Vec::new(), Some("given.ip within ['10.20.0.0/16', '10.30.0.0/16']")),
            5 => (Vec::new(), Some("who.device.managed and given.time < '2031-01-01T00:00:00Z'")),
            6 => (vec!["**".to_owned(), "!**/scratch/**".to_owned()], None),
            7 => (vec!["**".to_owned(), "!**/locked".to_owned()], None),
            _ => (Vec::new(), None),
        };
        // A deny in doubt shuts out everybody who does not say: those stay rare.
        let when = if allows { when } else { when.filter(|when| !when.contains("given")) };
        let when = when.or_else(|| (!allows).then_some("target.tier = 'raw'"));
        Statement { allows, actions, on, when: when.map(str::to_owned) }
    }

    fn attach(&mut self, rng: &mut ChaCha8Rng) {
        let ordinary = self.first_limit;
        for i in 0..self.size.attachments {
            let policy = skewed(rng, ordinary);
            // Few things are given to everyone.
            let to = match rng.random_range(0..100) {
                0 if i % 20 == 0 => Whom::Everyone,
                0..=69 => Whom::Group(skewed(rng, self.groups.len())),
                70..=84 => Whom::Role(rng.random_range(0..self.roles.len())),
                _ => Whom::User(skewed(rng, self.users.len())),
            };
            let mut at = rng.random_range(0..self.scopes.len());
            // Mostly where there is something of its kind, rarely at the very top.
            for _ in 0..6 {
                let scope = &self.scopes[at];
                if scope.kind == self.policies[policy].kind && scope.sort != Sort::Account {
                    break;
                }
                at = rng.random_range(0..self.scopes.len());
            }
            if to != Whom::Everyone && rng.random_bool(0.25) {
                at = self.above(at, Sort::Subscription);
            }
            let season = rng.random_bool(0.1);
            self.attachments.push(Attachment { policy, to, at, season });
        }
        for i in 0..self.size.ceilings {
            let policy = rng.random_range(self.first_limit..self.policies.len());
            let to = if i == 0 {
                Whom::Everyone
            } else {
                Whom::Group(rng.random_range(0..self.groups.len()))
            };
            let scope = rng.random_range(0..self.scopes.len());
            let over = (i % 3 != 1).then(|| self.above(scope, Sort::Subscription));
            self.ceilings.push(Ceiling { policy, over, to });
        }
    }

    /// The scope of this sort at or above another, or the other.
    fn above(&self, scope: usize, sort: Sort) -> usize {
        (0..=scope)
            .rev()
            .take(scope.min(5_000) + 1)
            .find(|i| self.scopes[*i].sort == sort && self.scopes[*i].end > scope)
            .unwrap_or(scope)
    }
}

fn kinds(size: Size) -> Vec<Kind> {
    let per_kind = 20;
    let count = (size.actions / per_kind).clamp(3, 400);
    let (things, items) = (count - count / 3, count / 3);
    let mut kinds = Vec::with_capacity(count);
    for i in 0..things {
        let round = i / THINGS.len();
        let name = THINGS[i % THINGS.len()];
        let name = if round == 0 { name.to_owned() } else { format!("{name}-{round}") };
        let item = (items > 0).then(|| things + i % items);
        kinds.push(Kind { name, verbs: verbs(per_kind), on_parent: vec!["put".into()], item });
    }
    for i in 0..items {
        let round = i / ITEMS.len();
        let name = ITEMS[i % ITEMS.len()];
        let name = if round == 0 { name.to_owned() } else { format!("{name}-{round}") };
        kinds.push(Kind { name, verbs: verbs(per_kind), on_parent: Vec::new(), item: None });
    }
    kinds
}

fn verbs(per_kind: usize) -> [Vec<String>; 4] {
    VERBS.map(|verbs| verbs.iter().take(per_kind / 4).map(|verb| (*verb).to_owned()).collect())
}

fn scopes(size: Size, kinds: &[Kind], rng: &mut ChaCha8Rng) -> Vec<Scope> {
    let things = kinds.iter().filter(|kind| kind.item.is_some()).count().max(1);
    let accounts = (size.scopes / 12_500).max(1);
    let subscriptions = (size.scopes / 250).max(2);
    let mut scopes: Vec<Scope> = Vec::with_capacity(size.scopes);
    let add = |scopes: &mut Vec<Scope>, path: String, sort, rng: &mut ChaCha8Rng| {
        scopes.push(Scope {
            path,
            sort,
            kind: skewed(rng, things),
            team: rng.random_range(0..TEAMS.len()),
            tier: rng.random_range(0..TIERS.len()),
            sealed: rng.random_bool(0.002),
            end: 0,
        });
        scopes.len() - 1
    };
    let mut subscription = 0;
    for account in 0..accounts {
        let top = if account == 0 { "veyra".to_owned() } else { format!("veyra-{account:02}") };
        let first = add(&mut scopes, top.clone(), Sort::Account, rng);
        for local in 0..(subscriptions / accounts).max(1) {
            let team = TEAMS[subscription % TEAMS.len()];
            let path = format!("{top}/{team}-{local:03}");
            let here = add(&mut scopes, path.clone(), Sort::Subscription, rng);
            subscription += 1;
            let room = (size.scopes * (account + 1) / accounts - scopes.len())
                / (subscriptions / accounts).max(1).saturating_sub(local).max(1);
            let mut made = 0;
            let mut thing = 0;
            while made < room {
                let word = THINGS[rng.random_range(0..THINGS.len())];
                let resource = format!("{path}/{word}-{thing:04}");
                let at = add(&mut scopes, resource.clone(), Sort::Resource, rng);
                (made, thing) = (made + 1, thing + 1);
                // Some hold namespaces, one or two deep.
                for n in 0..if rng.random_bool(0.2) { rng.random_range(1..6) } else { 0 } {
                    if made >= room {
                        break;
                    }
                    let team = TEAMS.choose(rng).copied().unwrap_or("relay");
                    let inner = format!("{resource}/{team}-{n}");
                    let inner_at = add(&mut scopes, inner.clone(), Sort::Namespace, rng);
                    made += 1;
                    if rng.random_bool(0.2) && made < room {
                        let deep = add(&mut scopes, format!("{inner}/night"), Sort::Namespace, rng);
                        scopes[deep].end = scopes.len();
                        made += 1;
                    }
                    scopes[inner_at].end = scopes.len();
                }
                scopes[at].end = scopes.len();
            }
            scopes[here].end = scopes.len();
        }
        scopes[first].end = scopes.len();
    }
    scopes
}

fn users(size: Size, rng: &mut ChaCha8Rng) -> Vec<User> {
    const FIRST: [&str; 20] = [
        "ines", "tomas", "rafi", "lin", "wanja", "eun", "noor", "mirek", "petra", "sol", "yara",
        "juno", "theo", "dag", "amara", "kei", "oda", "pim", "ulla", "vito",
    ];
    (0..size.users)
        .map(|i| User {
            name: if i < FIRST.len() {
                FIRST[i].to_owned()
            } else {
                format!("{}-{i}", FIRST[i % FIRST.len()])
            },
            team: rng.random_range(0..TEAMS.len()),
            site: rng.random_range(0..SITES.len()),
            clearance: rng.random_range(1..5),
            enabled: i < 5 || !rng.random_bool(0.02),
            managed: rng.random_bool(0.7),
            place: rng.random_bool(0.3),
        })
        .collect()
}

/// A forest: group `i` lies in one of lower number, at most five deep.
fn groups(size: Size, users: &[User], scopes: &[Scope], rng: &mut ChaCha8Rng) -> Vec<Group> {
    let mut groups: Vec<Group> = (0..size.groups)
        .map(|i| Group { name: format!("{}-crew-{i}", TEAMS[i % TEAMS.len()]), ..Group::default() })
        .collect();
    let mut depth = vec![1; groups.len()];
    for i in 1..groups.len() {
        let parent = rng.random_range(0..i);
        if rng.random_bool(0.7) && depth[parent] < 5 {
            depth[i] = depth[parent] + 1;
            groups[parent].groups.push(i);
        }
    }
    for (user, known) in users.iter().enumerate() {
        for n in 0..1 + skewed(rng, 4) {
            // People are in groups of their own team, where it has one.
            let group = skewed(rng, groups.len());
            let own = group - group % TEAMS.len() + known.team;
            let group = if own < groups.len() { own } else { group };
            if n > 1 && rng.random_bool(0.2) {
                groups[group].guests.push(user);
            } else if !groups[group].users.contains(&user) {
                groups[group].users.push(user);
            }
        }
    }
    let resources: Vec<usize> =
        (0..scopes.len()).filter(|i| scopes[*i].sort == Sort::Resource).collect();
    for _ in 0..size.groups / 4 {
        if let Some(workload) = resources.choose(rng) {
            let group = rng.random_range(0..groups.len());
            groups[group].workloads.push(*workload);
        }
    }
    groups
}

fn roles(size: Size, rng: &mut ChaCha8Rng) -> Vec<Role> {
    (0..size.roles)
        .map(|i| Role {
            name: format!("{}-keeper-{i}", SITES[i % SITES.len()]),
            held_by: (0..i % 2).map(|_| rng.random_range(0..size.groups)).collect(),
            taken_by: (0..1 + i % 3).map(|_| rng.random_range(0..size.groups)).collect(),
        })
        .collect()
}
