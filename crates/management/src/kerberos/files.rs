//! Files of Kerberos, read for whoever has one at hand: what is in it, what is wrong with it, and, where it holds keys and the
//! KDC is asked, whether they fit. Nothing of it needs the service to run.

use std::collections::BTreeSet;
use std::path::Path;

use chrono::{DateTime, Utc};
use passeur_api::{
    KerberosFile, KerberosFileKind, KerberosKey, KerberosNote, KerberosRealm, KerberosService, KerberosSetting, KerberosTicket,
    NoteKind, RealmAnswer, ServiceFound as Found,
};
use passeur_core::survey::{KdcAnswer, ServiceFound};
use passeur_links::files::Root;
use passeur_links::kerberos::config;
use passeur_links::kerberos::look::{Asking, with_keys};
use passeur_protocols::kerberos::config::Oddity;
use passeur_protocols::kerberos::{Cache, Config, Keytab, ccache, enctype};

/// Reads a file: its first bytes say what it is, and whatever is neither keys nor tickets is read as krb5.conf. With `ask` the KDC
/// is asked about every service that a keytab holds keys of; this may wait for it.
///
/// # Errors
/// When the file cannot be read, or is not what it begins as.
pub fn read(path: &Path, ask: bool, now: DateTime<Utc>) -> Result<KerberosFile, String> {
    let path = std::path::absolute(path).map_err(|e| e.to_string())?;
    let name = path.to_string_lossy().into_owned();
    let root = Root::system();
    let bytes = root.read(&name, ccache::FILE_MAX).map_err(|e| e.to_string())?;
    let mut out = KerberosFile {
        path: name.clone(),
        // Whatever is neither keys nor tickets.
        kind: KerberosFileKind::Config,
        keys: vec![],
        owner: None,
        tickets: vec![],
        settings: vec![],
        notes: vec![],
        services: vec![],
        realms: vec![],
    };
    if Keytab::is_one(&bytes) {
        keytab(&mut out, &bytes, ask)?;
    } else if Cache::is_one(&bytes) {
        cache(&mut out, &Cache::read(&bytes).map_err(|e| e.to_string())?, now);
    } else if bytes.contains(&0) || bytes.first() == Some(&5) {
        return Err("it is neither a keytab nor a credential cache that can be read, and no text".to_owned());
    } else {
        let config = config::read(&root, &[name])?;
        if config.settings.is_empty() {
            return Err("no setting stands under a [section]: it is no krb5.conf".to_owned());
        }
        settings(&mut out, &config);
    }
    Ok(out)
}

fn note(kind: NoteKind, at: impl ToString, words: impl ToString) -> KerberosNote {
    KerberosNote { kind, at: at.to_string(), words: words.to_string() }
}

fn keytab(out: &mut KerberosFile, bytes: &[u8], ask: bool) -> Result<(), String> {
    let keytab = Keytab::read(bytes).map_err(|e| e.to_string())?;
    out.kind = KerberosFileKind::Keytab;
    for k in &keytab.keys {
        let (enctype, weak) = (enctype::name(k.enctype), enctype::is_weak(k.enctype));
        if weak {
            out.notes.push(note(NoteKind::Weak, &k.principal, format!("{enctype} is deprecated (RFC 6649, RFC 8429)")));
        }
        out.keys.push(KerberosKey { principal: k.principal.to_string(), kvno: k.kvno, enctype, weak, written: k.written });
    }
    if ask {
        asked(out, &keytab, bytes);
    }
    Ok(())
}

/// What the KDC says of each principal that is a service.
fn asked(out: &mut KerberosFile, keytab: &Keytab, bytes: &[u8]) {
    let mut realms: Vec<&str> = keytab.principals().into_iter().map(|p| p.realm.as_str()).collect();
    realms.sort_unstable();
    realms.dedup();
    for realm in realms {
        let services = keytab.principals().into_iter().filter(|p| p.realm == realm).map(ToString::to_string).collect();
        let seen = with_keys(&Asking { realm: realm.to_owned(), keys: bytes.to_vec(), services, at_least_there: false });
        let (answer, words, ahead) = match seen.answer {
            KdcAnswer::Answered { by, ahead } => (RealmAnswer::Answered, format!("to {by}"), Some(ahead.num_seconds())),
            KdcAnswer::Alive => (RealmAnswer::Alive, "it answers; no key of this file signs in".to_owned(), None),
            KdcAnswer::NotAsked => (RealmAnswer::NotAsked, String::new(), None),
            KdcAnswer::Silent(words) => (RealmAnswer::Silent, words, None),
        };
        out.realms.push(KerberosRealm { realm: realm.to_owned(), answer, words, ahead });
        for (principal, words) in seen.refused {
            out.notes.push(note(NoteKind::Wrong, principal, format!("the KDC does not take this key: {words}")));
        }
        for (service, found) in seen.services {
            let mine: Vec<_> = keytab.keys.iter().filter(|k| k.principal.to_string() == service).collect();
            let (state, words, kvno, enctype) = match found {
                ServiceFound::Unknown => (Found::Unknown, "the KDC knows no such service".to_owned(), None, None),
                ServiceFound::NotAsked(why) => (Found::NotAsked, why, None, None),
                ServiceFound::Sealed { kvno, enctype, enctype_name } => {
                    let version = mine.iter().any(|k| kvno.is_none_or(|v| v == k.kvno));
                    let kind = mine.iter().any(|k| k.enctype == enctype && kvno.is_none_or(|v| v == k.kvno));
                    let theirs = kvno.map_or_else(|| "?".to_owned(), |v| v.to_string());
                    let words = match (version, kind) {
                        (_, true) => "this file holds that key".to_owned(),
                        (true, false) => "this file holds no key of that encryption type".to_owned(),
                        (false, _) => format!("this file holds no key of version {theirs}"),
                    };
                    if !kind {
                        out.notes.push(note(NoteKind::Wrong, &service, format!("{words}: tickets for it do not open")));
                    }
                    (Found::Sealed, words, kvno, Some(enctype_name))
                }
            };
            out.services.push(KerberosService { service, of: String::new(), found: state, words, kvno, enctype });
        }
    }
}

fn cache(out: &mut KerberosFile, cache: &Cache, now: DateTime<Utc>) {
    out.kind = KerberosFileKind::Cache;
    out.owner = Some(cache.owner.to_string());
    if let Some(ahead) = cache.ahead.filter(|a| a.num_seconds().abs() > 60) {
        out.notes.push(note(
            NoteKind::Wrong,
            "clock",
            format!("the KDC's clock was {} s ahead when it gave the first ticket", ahead.num_seconds()),
        ));
    }
    for h in &cache.held {
        let service = h.service.to_string();
        if h.ends.is_some_and(|e| e <= now) {
            let renew = h.renewable_until.filter(|u| *u > now && h.renewable()).map(|_| "; kinit -R renews it");
            out.notes.push(note(NoteKind::Wrong, &service, format!("it has expired{}", renew.unwrap_or_default())));
        }
        if h.starts.is_some_and(|s| s > now) {
            out.notes.push(note(NoteKind::Wrong, &service, "it is not valid yet: compare the clocks"));
        }
        if h.grants() && !h.forwardable() {
            out.notes.push(note(
                NoteKind::Wrong,
                &service,
                "it may not be forwarded: kinit -f, or forwardable = true in krb5.conf",
            ));
        }
        let outside = h.outside.as_ref();
        if outside.is_some_and(|o| enctype::is_weak(o.enctype)) || enctype::is_weak(h.session_enctype) {
            out.notes.push(note(NoteKind::Weak, &service, "its encryption type is deprecated (RFC 6649, RFC 8429)"));
        }
        out.tickets.push(KerberosTicket {
            service,
            proven: h.proven,
            starts: h.starts,
            ends: h.ends,
            renewable_until: h.renewable_until.filter(|_| h.renewable()),
            forwardable: h.forwardable(),
            kvno: outside.and_then(|o| o.kvno),
            enctype: outside.map(|o| enctype::name(o.enctype)),
        });
    }
}

fn settings(out: &mut KerberosFile, config: &Config) {
    let mut dead = BTreeSet::new();
    for (oddity, place, words) in config.oddities() {
        match oddity {
            Oddity::Wrong => out.notes.push(note(NoteKind::Wrong, place, words)),
            Oddity::Repeated => {
                out.notes.push(note(NoteKind::Dead, place, format!("it never counts: {words}")));
                dead.insert(place);
            }
            Oddity::Unknown => out.notes.push(note(NoteKind::Dead, place, words)),
        }
    }
    for name in ["default_tkt_enctypes", "default_tgs_enctypes", "permitted_enctypes"] {
        let Some((known, unknown)) = config.enctypes(name) else { continue };
        let at = config.of_defaults(name).map(|s| s.place.to_string()).unwrap_or_default();
        if !known.is_empty() && known.iter().all(|n| enctype::is_weak(*n)) {
            out.notes.push(note(NoteKind::Weak, &at, format!("{name} allows deprecated encryption types alone")));
        }
        if !unknown.is_empty() {
            out.notes.push(note(NoteKind::Dead, &at, format!("no encryption type is called {}", unknown.join(", "))));
        }
    }
    if config.flag("allow_weak_crypto", false) {
        let at = config.of_defaults("allow_weak_crypto").map(|s| s.place.to_string()).unwrap_or_default();
        out.notes.push(note(NoteKind::Weak, at, "allow_weak_crypto lets deprecated keys be used"));
    }
    for realm in config.realms() {
        if config.kdcs(realm).is_empty() && !config.flag("dns_lookup_kdc", true) {
            out.notes.push(note(
                NoteKind::Wrong,
                format!("realm {realm}"),
                "it has no kdc, and dns_lookup_kdc is off: nobody finds its KDC",
            ));
        }
    }
    if config.default_realm().is_none() {
        out.notes.push(note(NoteKind::Wrong, "libdefaults", "there is no default_realm: whoever does not say a realm is nobody"));
    }
    let counts = config.settings.iter().filter(|s| !dead.contains(&s.place));
    out.settings.extend(counts.map(|s| KerberosSetting {
        path: s.path.join(" "),
        value: s.value.clone(),
        at: s.place.to_string(),
    }));
}
