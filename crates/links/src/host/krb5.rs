//! krb5.conf and the host's keys.

use std::collections::BTreeMap;
use std::os::unix::fs::MetadataExt;

use passeur_core::host::{Config, HostKey, Keytab, KeytabState, Line, NoConfig, Set};
use passeur_protocols::kerberos::{self, config::Place, enctype, keytab};

use super::{Look, Texts};
use crate::kerberos::config;

const USUAL: &str = "/etc/krb5.conf";
/// Environments that the server is started with on Debian and its kin.
const ENVIRONMENTS: &[&str] = &["/etc/default/ssh", "/etc/sysconfig/sshd", "/etc/environment"];

/// What is read of krb5.conf, also as the parser has it.
pub(super) fn config(look: &Look, texts: &Texts<'_>) -> (Result<Config, NoConfig>, Option<kerberos::Config>) {
    let elsewhere = match look.krb5_config {
        Some(_) => None,
        None => named_elsewhere(texts),
    };
    let files = match (&look.krb5_config, &elsewhere) {
        (Some(files), _) => files.clone(),
        (None, Some((_, other))) => other.split(':').map(str::to_owned).collect(),
        (None, None) => vec![USUAL.to_owned()],
    };
    let path = files.first().cloned().unwrap_or_default();
    let read = match config::read(&look.root, &files) {
        Ok(read) => read,
        Err(words) => return (Err(none(look, &path, words)), None),
    };
    let line = |p: &Place| texts.line(&p.file, p.line);
    let set = |s: &kerberos::config::Setting| Set { value: s.value.clone(), at: Some(line(&s.place)) };
    let dead = read.dead().into_iter().map(|(d, first)| (line(&d.place), d.path.join(" "), line(&first.place)));
    let finds_kdc = read.default_realm().is_none_or(|r| !read.kdcs(r).is_empty()) || read.flag("dns_lookup_kdc", true);
    let canonicalize = read.of_defaults("dns_canonicalize_hostname").map_or("true", |s| s.value.as_str());
    let permitted = read
        .enctypes("permitted_enctypes")
        .map(|(known, _)| Set { value: known, at: read.of_defaults("permitted_enctypes").map(|s| line(&s.place)) });
    let forwardable = Set { value: read.flag("forwardable", false), at: read.of_defaults("forwardable").map(|s| line(&s.place)) };
    let out = Config {
        path,
        elsewhere: elsewhere.map(|(line, other)| (line, other, USUAL.to_owned())),
        twice: twice(look, texts, &read.files),
        troubles: read.troubles.iter().map(|t| (line(&t.place), t.what.to_string())).collect(),
        dead: dead.collect(),
        default_realm: read.of_defaults("default_realm").map(set),
        defaults_at: section(texts, &read.files),
        finds_kdc,
        realm_of_host: None,
        permitted,
        forwardable: Some(forwardable),
        canonicalizes: kerberos::config::boolean(canonicalize).unwrap_or(true),
        qualifies: read.of_defaults("qualify_shortname").map(|s| s.value.clone()),
    };
    (Ok(out), Some(read))
}

/// What `[domain_realm]` says of a host.
pub(super) fn realm_of(read: &kerberos::Config, texts: &Texts<'_>, host: &str) -> Option<Set<String>> {
    let found = read.realm_of(host)?;
    Some(Set { value: found.value.clone(), at: Some(texts.line(&found.place.file, found.place.line)) })
}

fn none(look: &Look, path: &str, words: String) -> NoConfig {
    let dead_link = look.root.link(path).map(|to| (path.to_owned(), to));
    NoConfig { path: path.to_owned(), dead_link, words }
}

/// A line of an environment that names another file.
fn named_elsewhere(texts: &Texts<'_>) -> Option<(Line, String)> {
    ENVIRONMENTS.iter().find_map(|file| {
        let text = texts.of(file)?;
        let mut all = text.lines().enumerate();
        all.find_map(|(i, l)| {
            let set = l.trim().trim_start_matches("export ").strip_prefix("KRB5_CONFIG=")?;
            let other = set.trim().trim_matches(['"', '\'']).to_owned();
            (!other.is_empty() && other != USUAL).then(|| (texts.line(file, i + 1), other))
        })
    })
}

/// Two names of what is one file, or holds the same.
fn twice(look: &Look, texts: &Texts<'_>, files: &[String]) -> Option<(String, String)> {
    let mut seen: BTreeMap<String, &String> = BTreeMap::new();
    for file in files {
        // By where it really lies, and by what it holds.
        let real = look.root.follow(file).map(|l| l.path).ok();
        let holds = texts.of(file).filter(|t| !t.trim().is_empty());
        let keys = [real.map(|r| format!("at {r}")), holds.map(|t| format!("holds {t}"))];
        for key in keys.into_iter().flatten() {
            match seen.get(&key) {
                Some(first) => return Some(((*first).clone(), file.clone())),
                None => drop(seen.insert(key, file)),
            }
        }
    }
    None
}

/// Where `[libdefaults]` begins.
fn section(texts: &Texts<'_>, files: &[String]) -> Option<Line> {
    files.iter().find_map(|file| {
        let text = texts.of(file)?;
        let at = text.lines().position(|l| l.trim().trim_end_matches('*') == "[libdefaults]")?;
        Some(texts.line(file, at + 1))
    })
}

/// The host's keys.
pub(super) fn keytab(look: &Look) -> Keytab {
    let path = look.keytab.clone().unwrap_or_else(|| "/etc/krb5.keytab".to_owned());
    let state = match look.root.read(&path, keytab::FILE_MAX) {
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => KeytabState::Missing,
        Err(e) => KeytabState::Broken(e.to_string()),
        Ok(bytes) => match kerberos::Keytab::read(&bytes) {
            Err(e) => KeytabState::Broken(e.to_string()),
            Ok(read) => KeytabState::Read {
                mode: look.root.meta(&path).map_or(0, |m| m.mode()),
                keys: read.keys.iter().map(key).collect(),
            },
        },
    };
    Keytab { path, state }
}

fn key(k: &kerberos::Key) -> HostKey {
    HostKey {
        principal: k.principal.to_string(),
        enctype: k.enctype,
        enctype_name: enctype::name(k.enctype),
        weak: enctype::is_weak(k.enctype),
    }
}
