//! Kerberos as engineers see it: [`look`] asks for the survey and for whoever wants to see it alone, [`files`] reads files of it
//! for the command line. How people come in by tickets stands in [`passeur_signin`], how tickets go on in [`passeur_engine::tickets`].

pub mod files;
pub mod look;

use std::time::Instant;

use passeur_api::{
    AccountState, KerberosAccount, KerberosKey, KerberosKeytab, KerberosRealm, KerberosSeen, KerberosService, RealmAnswer,
    ServiceFound as Found,
};
use passeur_core::step::Lang;
use passeur_core::survey::{
    AccountFacts, AccountTrouble, KdcAnswer, KerberosFacts, KeyFacts, KeytabFacts, RealmFacts, ServiceFacts, ServiceFound,
    survey_kerberos,
};
use passeur_gateway::edition::WebEdition;
use passeur_store::StoreError;

use crate::app::App;
use crate::survey::done::shown;

/// Looks now.
pub async fn seen(app: &App, edition: &WebEdition, lang: Lang) -> Result<KerberosSeen, StoreError> {
    let (began, at) = (Instant::now(), app.now());
    let facts = look::look_at(app, edition).await?;
    let findings = shown(&survey_kerberos(&edition.site, &facts), lang);
    let millis = began.elapsed().as_millis().min(u128::from(u32::MAX)) as u32;
    let KerberosFacts { keytabs, realms, services, accounts, .. } = facts;
    Ok(KerberosSeen {
        node: app.node.clone(),
        edition: edition.number,
        at,
        millis,
        keytabs: keytabs.into_iter().map(keytab).collect(),
        realms: realms.iter().map(realm).collect(),
        services: services.iter().map(|s| service(s, &s.of.place())).collect(),
        accounts: accounts.into_iter().map(account).collect(),
        findings,
    })
}

fn keytab(k: KeytabFacts) -> KerberosKeytab {
    let (keys, trouble) = match k.keys {
        Ok(keys) => (keys.into_iter().map(key).collect(), None),
        Err(why) => (vec![], Some(why)),
    };
    KerberosKeytab { secret: k.secret, version: k.version, needed_by: k.needed_by, keys, trouble }
}

fn key(k: KeyFacts) -> KerberosKey {
    KerberosKey { principal: k.principal, kvno: k.kvno, enctype: k.enctype_name, weak: k.weak, written: k.written }
}

fn realm(r: &RealmFacts) -> KerberosRealm {
    let (answer, words, ahead) = match &r.answer {
        KdcAnswer::Answered { by, ahead } => (RealmAnswer::Answered, format!("to {by}"), Some(ahead.num_seconds())),
        KdcAnswer::Alive => (RealmAnswer::Alive, "it answers; no key of ours signs in there".to_owned(), None),
        KdcAnswer::NotAsked => (RealmAnswer::NotAsked, "no key of ours is of this realm".to_owned(), None),
        KdcAnswer::Silent(words) => (RealmAnswer::Silent, words.clone(), None),
    };
    KerberosRealm { realm: r.realm.clone(), answer, words, ahead }
}

fn service(s: &ServiceFacts, of: &str) -> KerberosService {
    let (found, words, kvno, enctype) = match &s.found {
        ServiceFound::Sealed { kvno, enctype_name, .. } => {
            let version = kvno.map_or_else(|| "a version that is not told".to_owned(), |v| format!("version {v}"));
            (Found::Sealed, format!("by a key of {version}, {enctype_name}"), *kvno, Some(enctype_name.clone()))
        }
        ServiceFound::Unknown => (Found::Unknown, "the KDC knows no such service".to_owned(), None, None),
        ServiceFound::NotAsked(words) => (Found::NotAsked, words.clone(), None, None),
    };
    KerberosService { service: s.service.clone(), of: of.to_owned(), found, words, kvno, enctype }
}

fn account(a: AccountFacts) -> KerberosAccount {
    let words = match &a.answer {
        Ok(()) => "it gets tickets for it, as others".to_owned(),
        Err(AccountTrouble::Own(words)) => format!("it cannot sign in: {words}"),
        Err(AccountTrouble::ForNobody) => "it may act for nobody".to_owned(),
        Err(AccountTrouble::NotAllowed) => "it may not act towards that service".to_owned(),
        Err(AccountTrouble::NotKnown(words)) => format!("not known: {words}"),
    };
    let state = match &a.answer {
        Ok(()) => AccountState::Acts,
        Err(AccountTrouble::NotKnown(_)) => AccountState::NotKnown,
        Err(_) => AccountState::Refused,
    };
    KerberosAccount { gate: a.gate, account: a.account, service: a.service, state, words }
}
