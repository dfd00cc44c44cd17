//! For the team of a directory.

use super::{Part, Row, Sheet, needs};
use crate::site::{Directory, DirectorySecurity, FindGroups, Nested, Site};

/// What tells whether an account may be used, in the directories there are.
const ACCOUNT_STATE: &str = "userAccountControl, accountExpires, pwdAccountLockedTime, shadowExpire, nsAccountLock";

pub(super) fn sheet(site: &Site, name: &str) -> Sheet {
    let directory = site.directory(name);
    Sheet {
        title: format!("{} as a reader of the directory {name}", site.name),
        state: String::new(),
        connected: directory.is_some(),
        parts: vec![
            Part { code: "enter", heading: "Please make this account", rows: account(directory) },
            Part {
                code: "allow",
                heading: "What it must be able to read",
                rows: directory.map_or_else(usual, |d| reads(site, d)),
            },
            Part { code: "send-back", heading: "Please send back", rows: back(directory) },
        ],
        steps: vec![
            format!("We try the values: passeur trial directory {name} --sample USER. It says which one is wrong."),
            format!("We compare one person's groups with you: passeur person USER --directory {name}."),
            "Tell us before a server, a base or the account's password changes: two passwords can stand side by side for a time."
                .to_owned(),
        ],
    }
}

fn account(directory: Option<&Directory>) -> Vec<Row> {
    let dn = directory.and_then(|d| d.account.clone()).unwrap_or_default();
    let protection = match directory.map(|d| d.security) {
        Some(DirectorySecurity::StartTls) => "StartTLS",
        Some(DirectorySecurity::Plain) => "none: it is on this machine",
        Some(DirectorySecurity::Tls) | None => "TLS (ldaps)",
    };
    vec![
        Row::new("Account", dn, "a simple bind; it never writes, and its password does not run out without a word"),
        Row::new("Protection", protection, "a password is never sent in clear text over a network"),
        Row::new("Rights", "read and search, nothing else", "below the bases of this sheet"),
        Row::new(
            "Locking",
            "exempt, or at least 10 refusals",
            "a changed password would lock it within a minute, and with it everybody's sign-in",
        ),
    ]
}

fn usual() -> Vec<Row> {
    vec![
        Row::new("People", "their base", "found by one attribute that is unique, such as uid or sAMAccountName"),
        Row::new("Groups", "their base", "with their members, nested ones included"),
        Row::new("Account state", ACCOUNT_STATE, "whether the account may be used"),
    ]
}

fn reads(site: &Site, d: &Directory) -> Vec<Row> {
    let search = format!("(&{}({}=…))", d.filter, d.key);
    let mut out = vec![
        Row::new("People", d.base.clone(), format!("searched as a whole: {search}")),
        Row::new(d.key.clone(), "of every person", "the search key: equality, unique, and readable"),
        Row::new("Account state", ACCOUNT_STATE, "those of them that you keep: whether the account may be used"),
    ];
    for (id, source) in &d.attributes {
        let gates: Vec<_> = site.gates.iter().filter(|g| g.access.directories.contains(&d.name)).collect();
        let why = needs(site, *id, &gates);
        let why = if why.is_empty() { "mapped, not used yet".to_owned() } else { why.join("; ") };
        out.push(Row::new(source.clone(), site.attribute_name(*id), why));
    }
    if let Some(groups) = &d.groups {
        out.push(Row::new("Groups", groups.base.clone(), "searched as a whole"));
        let by = match &groups.find {
            FindGroups::ByMember(attribute) => format!("{attribute}, which holds DNs of members"),
            FindGroups::ByKey(attribute) => format!("{attribute}, which holds keys of people"),
            FindGroups::OfEntry(attribute) => format!("{attribute} of every person"),
        };
        out.push(Row::new("Members", by, "rules ask for groups"));
        out.push(Row::new("Name of a group", groups.name.clone(), "how rules name it"));
        let nested = match groups.nested {
            Nested::No => "not looked at",
            Nested::Walk => "followed, level by level",
            Nested::Chain => "followed by the server, in one search",
        };
        out.push(Row::new("Groups in groups", nested, "up to 16 levels"));
    }
    let mut asked: Vec<&str> = site.accesses().flat_map(|a| &a.rules[..]).flat_map(|r| r.when.groups()).collect();
    asked.sort_unstable();
    asked.dedup();
    if !asked.is_empty() && d.groups.is_some() {
        out.push(Row::new("Groups that rules ask for", asked.join(", "), "tell us before one is renamed"));
    }
    let every = format!("each person once in {}, and at most every {}", words(d.cache), words(chrono::Duration::minutes(1)));
    out.push(Row::new("How often", every, "at sign-in, and while they are signed in"));
    out
}

fn words(d: chrono::Duration) -> String {
    match d.num_seconds() {
        s if s % 60 == 0 && s > 0 => format!("{} min", s / 60),
        s => format!("{s} s"),
    }
}

fn back(directory: Option<&Directory>) -> Vec<Row> {
    let servers = directory.map(|d| d.servers.join(" ")).unwrap_or_default();
    vec![
        Row::new("Servers", servers, "ldaps:// with the names in their certificates, several where there are several"),
        Row::new("Base of people", directory.map_or("", |d| d.base.as_str()), ""),
        Row::new("Account's DN", directory.and_then(|d| d.account.as_deref()).unwrap_or_default(), ""),
        Row::new("Password", "", "by a safe way; it is stored sealed and never shown again"),
        Row::new("Certificate of the authority", "", "in PEM, where it is your own"),
    ]
}
