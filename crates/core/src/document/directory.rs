//! Reading of `site::directory` from a document.

use chrono::Duration;
use url::Url;

use crate::address::is_loopback;
use crate::dn;

use super::fields::Fields;
use crate::site::{AttributeId, Directory, DirectorySecurity, FindGroups, GroupSearch, Nested, Octets, Primary, Referrals};

/// The most servers of one directory, and the most directories of one gate.
const SERVERS_MAX: usize = 8;

/// The scheme and host of an LDAP address; none when it is not one.
fn parts_of(url: &str) -> Option<(String, String)> {
    let parsed = Url::parse(url).ok()?;
    let host = parsed.host_str().filter(|h| !h.is_empty())?.to_owned();
    let plain = parsed.query().is_none() && matches!(parsed.path(), "" | "/");
    (matches!(parsed.scheme(), "ldap" | "ldaps") && plain).then(|| (parsed.scheme().to_owned(), host))
}

fn addresses(f: &Fields<'_, '_>, key: &'static str, all: &[String]) -> Vec<(String, String)> {
    let mut out = vec![];
    for url in all {
        match parts_of(url) {
            Some(parts) => out.push(parts),
            None => f.error(
                key,
                format!("\"{url}\" is not an LDAP address"),
                "Write ldaps://host or ldap://host, with a port where it is not the usual one.",
            ),
        }
    }
    out
}

/// Whether text can name an LDAP attribute, with options (RFC 4512 2.5).
fn describes(s: &str) -> bool {
    !s.is_empty() && s.len() <= 200 && s.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'-' | b';' | b'.'))
}

fn check_dn(f: &Fields<'_, '_>, key: &'static str, text: &str, example: &str) {
    // What is missing is told as missing.
    if f.has(key)
        && let Err(why) = dn::check(text)
    {
        f.error(
            key,
            format!("{key} is no distinguished name: {why}"),
            format!("Write it as the directory does, such as {key} = \"{example}\"."),
        );
    }
}

fn check_attribute(f: &Fields<'_, '_>, key: &'static str, name: &str) {
    if !name.is_empty() && !describes(name) {
        f.error(key, format!("\"{name}\" is no LDAP attribute name"), "Use letters, digits and hyphens (RFC 4512 2.5).");
    }
}

/// Where it is, and how the way there is protected.
fn read_servers(f: &Fields<'_, '_>) -> (Vec<String>, DirectorySecurity) {
    let several = f.has("urls");
    if several && f.has("url") {
        f.error("urls", "url and urls stand side by side".into(), "Keep one of them.");
    }
    let servers = match several {
        true => f.texts("urls").unwrap_or_default(),
        false => f.need("url", "\"ldaps://directory.example\"").into_iter().collect(),
    };
    let key = if several { "urls" } else { "url" };
    if several && (servers.is_empty() || servers.len() > SERVERS_MAX) {
        f.error("urls", format!("urls names {} servers", servers.len()), format!("Name one to {SERVERS_MAX}."));
    }
    let parts = addresses(f, key, &servers);
    let start_tls = f.flag("start-tls", false);
    let tls = parts.iter().filter(|(scheme, _)| scheme == "ldaps").count();
    if tls != 0 && tls != parts.len() {
        f.error(key, "some servers are ldaps and some are not".into(), "Protect the way to all of them alike.");
    }
    let security = match (tls > 0, start_tls) {
        (true, _) => DirectorySecurity::Tls,
        (false, true) => DirectorySecurity::StartTls,
        (false, false) => DirectorySecurity::Plain,
    };
    if security == DirectorySecurity::Plain && parts.iter().any(|(_, host)| !is_loopback(host)) {
        f.error(
            key,
            "the connection would be in clear text, which is accepted for this machine only".into(),
            "Use ldaps://, or add start-tls = true.",
        );
    }
    (servers, security)
}

fn read_groups(g: &Fields<'_, '_>) -> GroupSearch {
    let ways = ["member", "member-key", "member-of"];
    let used: Vec<&'static str> = ways.into_iter().filter(|k| g.has(k)).collect();
    if used.len() > 1 {
        g.error(used[1], format!("{} stand side by side", used.join(" and ")), "Groups are found in one way: keep one of them.");
    }
    let find = match used.first() {
        Some(&"member-key") => FindGroups::ByKey(g.need("member-key", "\"memberUid\"").unwrap_or_default()),
        Some(&"member-of") => FindGroups::OfEntry(g.need("member-of", "\"memberOf\"").unwrap_or_default()),
        _ => FindGroups::ByMember(g.text("member").unwrap_or_else(|| "member".into())),
    };
    let (FindGroups::ByKey(attribute) | FindGroups::OfEntry(attribute) | FindGroups::ByMember(attribute)) = &find;
    check_attribute(g, used.first().copied().unwrap_or("member"), attribute);
    let name = g.text("name").unwrap_or_else(|| "cn".into());
    check_attribute(g, "name", &name);
    let chain = g.flag("chain", false);
    let nested = match (g.flag("nested", true), chain) {
        (false, _) => Nested::No,
        (true, false) => Nested::Walk,
        (true, true) => Nested::Chain,
    };
    if chain && (nested == Nested::No || !matches!(find, FindGroups::ByMember(_))) {
        g.error(
            "chain",
            "chain follows members of members, and those are not asked for".into(),
            "Use it with member and nested.",
        );
    }
    let affix = |key: &'static str| {
        let text = g.text(key).unwrap_or_default();
        if text.len() > 60 || text.chars().any(char::is_control) {
            g.error(key, format!("{key} is longer than 60 bytes, or not plain text"), format!("Write {key} = \"HARBOUR\\\\\"."));
        }
        text
    };
    let base = g.need("base", "\"ou=groups,dc=example\"").unwrap_or_default();
    check_dn(g, "base", &base, "ou=groups,dc=example");
    let out = GroupSearch {
        base,
        find,
        name,
        nested,
        primary: g.choice(
            "primary",
            Primary::None,
            &[("none", Primary::None), ("sid", Primary::Sid), ("gid-number", Primary::GidNumber)],
        ),
        prefix: affix("prefix"),
        suffix: affix("suffix"),
    };
    g.finish();
    out
}

fn read_referrals(f: &Fields<'_, '_>, security: DirectorySecurity) -> Referrals {
    let hosts = f.texts("referral-servers").unwrap_or_default();
    let parts = addresses(f, "referral-servers", &hosts);
    let unlike = |(scheme, host): &(String, String)| match security {
        DirectorySecurity::Tls => scheme != "ldaps",
        DirectorySecurity::StartTls => scheme != "ldap",
        DirectorySecurity::Plain => !is_loopback(host),
    };
    if parts.iter().any(unlike) {
        f.error(
            "referral-servers",
            "a referral would lead over a way that is not protected like this directory's".into(),
            "Name servers with the same scheme as url.",
        );
    }
    match f.choice("referrals", false, &[("ignore", false), ("follow", true)]) {
        true => Referrals::Follow(hosts),
        false => {
            if !hosts.is_empty() {
                f.warn("referral-servers", "referrals are not followed".into(), "Add referrals = \"follow\", or take it away.");
            }
            Referrals::Ignore
        }
    }
}

pub(crate) fn read_directory(
    f: &Fields<'_, '_>,
    name: String,
    attributes: Vec<EntryAttribute>,
    fed_by: Option<AttributeId>,
) -> Directory {
    let (servers, security) = read_servers(f);
    let account = f.text("account");
    let secret = f.text("secret");
    if account.is_some() != secret.is_some() {
        f.error("account", "account and secret belong together".into(), "Write both, or neither for an anonymous bind.");
    }
    // Some directories take a principal name, or a name within a domain, in the place of a DN.
    if let Some(dn) = account.as_deref().filter(|a| a.contains('=') || !a.contains(['@', '\\'])) {
        check_dn(f, "account", dn, "cn=passeur,ou=services,dc=example");
    }
    let filter = f.text("filter").unwrap_or_else(|| "(objectClass=*)".into());
    if !(filter.starts_with('(') && filter.ends_with(')')) {
        f.error(
            "filter",
            format!("\"{filter}\" is not in brackets"),
            "Write an LDAP filter such as (objectClass=inetOrgPerson).",
        );
    }
    let key = f.need("key", "\"uid\"").unwrap_or_default();
    check_attribute(f, "key", &key);
    for a in attributes.iter().filter(|a| !describes(&a.source)) {
        let what = format!("\"{}\" is no LDAP attribute name", a.source);
        f.error("attributes", what, "Use letters, digits and hyphens (RFC 4512 2.5).");
    }
    let suffixes = f.text_or_texts("suffixes").unwrap_or_default();
    if f.has("suffixes") && (suffixes.is_empty() || suffixes.iter().any(|s| s.trim().is_empty())) {
        f.error("suffixes", "suffixes is empty".into(), "Write suffixes = [\"@havrelune.example\"].");
    }
    let cut_suffix = f.flag("cut-suffix", false);
    if cut_suffix && suffixes.is_empty() {
        f.warn("cut-suffix", "there is no suffix to cut".into(), "Add suffixes, or take it away.");
    }
    let groups = f.table("groups").map(|g| read_groups(&g));
    let base = f.need("base", "\"ou=people,dc=example\"").unwrap_or_default();
    check_dn(f, "base", &base, "ou=people,dc=example");
    let s = Duration::seconds;
    let out = Directory {
        name,
        servers,
        security,
        account,
        secret,
        base,
        key,
        fed_by: fed_by.unwrap_or(AttributeId(0)),
        suffixes,
        cut_suffix,
        filter,
        groups,
        octets: attributes.iter().filter_map(|a| Some((a.id, a.octets?))).collect(),
        attributes: attributes.into_iter().map(|a| (a.id, a.source)).collect(),
        referrals: read_referrals(f, security),
        time_limit: f.duration("time-limit", s(3), s(1), s(30)),
        cache: f.duration("cache", s(30), s(0), s(600)),
        page: f.number("page", 500, 10..=5_000) as u16,
        ca_file: f.text("ca-file"),
    };
    f.value("attributes");
    f.finish();
    out
}

/// An attribute of the site that an attribute of a directory feeds.
pub(crate) struct EntryAttribute {
    pub(crate) id: AttributeId,
    pub(crate) source: String,
    /// For bytes: how they are written.
    pub(crate) octets: Option<Octets>,
}
