//! What a KDC gives for services, asked with keys of ours: for finding out what is wrong before people do.

use std::sync::Arc;

use chrono::Duration;
use passeur_core::survey::{KdcAnswer, ServiceFound};
use passeur_gss::{Answered, Failure, Why, ask};
use passeur_protocols::kerberos::{Keytab, Outside, enctype};

use super::pool::Pool;

/// So many keys are tried at most: each that is refused counts against its account.
const TRIED_MAX: usize = 4;

/// What is asked of one realm.
#[derive(Clone, Debug)]
pub struct Asking {
    pub realm: String,
    /// Keys to ask with, as a keytab; those of this realm are tried.
    pub keys: Vec<u8>,
    /// Services, whole.
    pub services: Vec<String>,
    /// Whether to see at least that a KDC is there, where no key is of this realm.
    pub at_least_there: bool,
}

/// What came of it.
#[derive(Clone, Debug)]
pub struct RealmLook {
    pub answer: KdcAnswer,
    /// Principals whose key is not taken, with the KDC's words.
    pub refused: Vec<(String, String)>,
    /// Each service that was asked for.
    pub services: Vec<(String, ServiceFound)>,
}

/// Asks.
pub async fn look(pool: &Arc<Pool>, asking: Asking) -> RealmLook {
    let (realm, services) = (asking.realm.clone(), asking.services.clone());
    match pool.ask(&realm, move || with_keys(&asking)).await {
        Ok(done) => done,
        Err(e) => {
            let not = |s: &String| (s.clone(), ServiceFound::NotAsked(e.to_string()));
            let answer = KdcAnswer::Silent(e.to_string());
            RealmLook { answer, refused: vec![], services: services.iter().map(not).collect() }
        }
    }
}

fn silent(e: &Failure) -> bool {
    matches!(e.why, Why::NoKdc | Why::NoRealm | Why::Config)
}

/// The same, on the thread that asks. May wait long.
pub fn with_keys(asking: &Asking) -> RealmLook {
    let mut out = RealmLook { answer: KdcAnswer::NotAsked, refused: vec![], services: vec![] };
    let keys = Keytab::read(&asking.keys).unwrap_or_default();
    let made = passeur_gss::Keytab::new(&asking.keys);
    let Ok(keytab) = made else { return out };
    let of_realm: Vec<String> =
        keys.principals().into_iter().filter(|p| p.realm == asking.realm).map(ToString::to_string).collect();
    let mut why = format!("no key of realm {} is here to ask with", asking.realm);
    let mut tried = 0;
    for principal in &of_realm {
        if tried == TRIED_MAX {
            break;
        }
        tried += 1;
        match ask(principal, &keytab, &asking.services) {
            Ok(answered) => {
                let ahead = Duration::seconds(answered.ahead);
                out.services = found(&asking.services, answered);
                out.answer = KdcAnswer::Answered { by: principal.clone(), ahead };
                break;
            }
            Err(e) if silent(&e) => {
                out.answer = KdcAnswer::Silent(e.words.clone());
                why = e.words;
                break;
            }
            // A service that is nobody: it is asked for with another's key.
            Err(Failure { why: Why::NoClient, words, .. }) => (why, out.answer) = (words, KdcAnswer::Alive),
            Err(e) => {
                out.answer = KdcAnswer::Alive;
                why = e.words.clone();
                out.refused.push((principal.clone(), e.words));
            }
        }
    }
    if out.answer == KdcAnswer::NotAsked && asking.at_least_there {
        out.answer = there(&asking.realm);
    }
    if out.services.is_empty() {
        out.services = asking.services.iter().map(|s| (s.clone(), ServiceFound::NotAsked(why.clone()))).collect();
    }
    // The version fits; whether the key itself does, signing in with it tells.
    let by = match &out.answer {
        KdcAnswer::Answered { by, .. } => by.clone(),
        _ => return out,
    };
    for (service, found) in &out.services {
        let ServiceFound::Sealed { kvno, enctype, .. } = found else { continue };
        let ours = keys.keys.iter().filter(|k| k.principal.to_string() == *service);
        let fits = ours.into_iter().any(|k| k.enctype == *enctype && kvno.is_none_or(|v| v == k.kvno));
        let known = *service == by || out.refused.iter().any(|(p, _)| p == service);
        if !fits || known || tried >= TRIED_MAX * 2 {
            continue;
        }
        tried += 1;
        if let Err(e) = ask(service, &keytab, &[])
            && matches!(e.why, Why::WrongPassword | Why::Integrity)
        {
            out.refused.push((service.clone(), e.words));
        }
    }
    out
}

fn found(services: &[String], answered: Answered) -> Vec<(String, ServiceFound)> {
    let one = |(service, given): (&String, Result<Vec<u8>, Failure>)| {
        let found = match given {
            Ok(ticket) => match Outside::read(&ticket) {
                Some(Outside { kvno, enctype, .. }) => {
                    ServiceFound::Sealed { kvno, enctype, enctype_name: enctype::name(enctype) }
                }
                None => ServiceFound::NotAsked("the ticket that came cannot be read".to_owned()),
            },
            Err(e) if e.why == Why::NoService => ServiceFound::Unknown,
            Err(e) => ServiceFound::NotAsked(e.words),
        };
        (service.clone(), found)
    };
    services.iter().zip(answered.services).map(one).collect()
}

/// Whether a KDC is there, asked about somebody whom nobody is.
fn there(realm: &str) -> KdcAnswer {
    match passeur_gss::is_there(realm) {
        Ok(()) => KdcAnswer::Alive,
        Err(e) => KdcAnswer::Silent(e.words),
    }
}

/// The name that a host stands for by DNS: itself, or what it is an alias of. None where it is not found. May wait for DNS.
pub fn canonical(host: &str) -> Option<String> {
    let hints =
        dns_lookup::AddrInfoHints { flags: CANONICAL, socktype: dns_lookup::SockType::Stream.into(), ..Default::default() };
    let all = dns_lookup::getaddrinfo(Some(host), None, Some(hints)).ok()?;
    all.filter_map(Result::ok).find_map(|a| a.canonname).map(|n| n.trim_end_matches('.').to_ascii_lowercase())
}

/// `AI_CANONNAME` (RFC 3493 6.1), the same on every system that this runs on.
const CANONICAL: i32 = 2;
