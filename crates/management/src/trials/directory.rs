//! A trial of a directory.

use chrono::Duration;
use passeur_api::{CheckVerdict, DirectoryTrial, TrialAnswer};
use passeur_core::site::{Directory, DirectorySecurity, FindGroups, GroupSearch, Nested, Primary, Referrals, Site};
use passeur_links::ldap::{DirectoryCheck, try_directory};

use super::{Checks, Lacking, Stored, Under};
use crate::app::App;

fn directory_of(site: &Site, ask: &DirectoryTrial) -> Result<Directory, Lacking> {
    let lacking = || Lacking(format!("there is no directory {}: give url, base and key", ask.name));
    let mut d = match site.directory(&ask.name) {
        Some(d) => d.clone(),
        None => Directory {
            name: ask.name.clone(),
            servers: vec![ask.url.clone().ok_or_else(lacking)?],
            security: DirectorySecurity::Plain,
            account: None,
            secret: None,
            base: ask.base.clone().ok_or_else(lacking)?,
            key: ask.key.clone().ok_or_else(lacking)?,
            fed_by: site.attribute("subject").ok_or_else(lacking)?,
            suffixes: vec![],
            cut_suffix: false,
            filter: "(objectClass=*)".into(),
            groups: None,
            referrals: Referrals::Ignore,
            page: 500,
            attributes: vec![],
            octets: std::collections::BTreeMap::new(),
            time_limit: Duration::seconds(3),
            cache: Duration::zero(),
            ca_file: None,
        },
    };
    if let Some(url) = &ask.url {
        d.servers = vec![url.clone()];
    }
    if ask.url.is_some() || ask.start_tls.is_some() {
        let tls = d.servers.iter().all(|s| s.starts_with("ldaps://"));
        d.security = match (tls, ask.start_tls) {
            (true, _) => DirectorySecurity::Tls,
            (false, Some(true)) => DirectorySecurity::StartTls,
            _ => DirectorySecurity::Plain,
        };
    }
    let host = |s: &String| url::Url::parse(s).ok().and_then(|u| u.host_str().map(str::to_owned)).unwrap_or_default();
    let here = |s: &String| passeur_core::address::is_loopback(&host(s));
    if d.security == DirectorySecurity::Plain && !d.servers.iter().all(here) {
        return Err(Lacking("a password is never sent in clear text over a network: use ldaps://, or start_tls".into()));
    }
    for (place, value) in [(&mut d.base, &ask.base), (&mut d.key, &ask.key)] {
        if let Some(v) = value {
            *place = v.clone();
        }
    }
    if let Some(account) = &ask.account {
        d.account = Some(account.clone());
    }
    if let Some(base) = &ask.group_base {
        let usual = GroupSearch {
            base: String::new(),
            find: FindGroups::ByMember("member".into()),
            name: "cn".into(),
            nested: Nested::Walk,
            primary: Primary::None,
            prefix: String::new(),
            suffix: String::new(),
        };
        d.groups = Some(GroupSearch { base: base.clone(), ..d.groups.unwrap_or(usual) });
    }
    if ask.ca_file.is_some() {
        d.ca_file = ask.ca_file.clone();
    }
    Ok(d)
}

/// Whether the live edition sends the same password to the same servers, for the same account and as well protected.
pub(super) fn is_same(live: Option<&Site>, wanted: &Directory) -> bool {
    live.and_then(|l| l.directory(&wanted.name)).is_some_and(|l| {
        (&l.servers, &l.account, &l.secret, l.security, &l.ca_file)
            == (&wanted.servers, &wanted.account, &wanted.secret, wanted.security, &wanted.ca_file)
    })
}

/// Tries a directory.
pub async fn directory(app: &App, under: Under<'_>, ask: &DirectoryTrial) -> Result<TrialAnswer, Lacking> {
    let directory = directory_of(under.site, ask)?;
    let mut c = Checks(vec![]);
    let password = match (&ask.password, &directory.secret) {
        (Some(p), _) => Some(p.clone()),
        (None, None) => None,
        (None, Some(name)) => match under.stored(app, name, ask.secret_version, is_same(under.live, &directory)).await {
            Stored::Value(v) => Some(v),
            Stored::Withheld if !under.is_document() => {
                return Err(Lacking("another address or account needs its own password: give it with the trial".into()));
            }
            Stored::Withheld => {
                let words = format!(
                    "secret {name} goes to another address or account only for whoever stored it, so that nothing was asked"
                );
                c.add("account", CheckVerdict::NotKnown, words, Some("Give the password with the trial, or store it yourself."));
                return Ok(c.answer());
            }
            Stored::Nowhere => {
                c.wrong("account", format!("secret {name} is not stored"), "Store it: passeur secret set NAME");
                return Ok(c.answer());
            }
        },
    };
    for t in try_directory(&directory, password.as_deref(), ask.sample.as_deref().map(|s| directory.typed(s)), app.now()).await {
        let (value, remedy) = match t.check {
            DirectoryCheck::Address => {
                ("address", "Check host, port and TLS from this machine; name the certificate authority with ca-file.")
            }
            DirectoryCheck::Account => ("account", "Compare the account's DN and password with the directory team's."),
            DirectoryCheck::Base => {
                ("base", "Write the base DN as the directory names it; the account must be allowed to read it.")
            }
            DirectoryCheck::GroupBase => ("group base", "Write the groups' base DN as the directory names it."),
            DirectoryCheck::Person => ("sample person", "Key, base or filter do not fit: compare with the person's entry."),
        };
        match t.outcome {
            Ok(words) => c.good(value, words),
            Err(words) => c.wrong(value, words, remedy),
        }
    }
    Ok(c.answer())
}
