//! Asking about Kerberos: stored keytabs, the KDCs of their realms, accounts that act for people, what applications offer, names,
//! and this node's own krb5.conf.

use std::collections::BTreeMap;

use futures_util::future::join_all;
use passeur_core::site::{Site, realm_of};
use passeur_core::survey::{
    AccountFacts, AccountTrouble, ConfigFacts, HostFacts, KdcAnswer, KerberosFacts, KeyFacts, KeytabFacts, OfferFacts,
    RealmFacts, ServiceFacts, ServiceOf,
};
use passeur_gateway::edition::WebEdition;
use passeur_links::files::Root;
use passeur_links::kerberos::look::{Asking, canonical, look};
use passeur_links::kerberos::tickets::opened;
use passeur_links::kerberos::{NoTicket, config};
use passeur_protocols::kerberos::config::{Oddity, Place};
use passeur_protocols::kerberos::{Keytab, enctype};
use passeur_store::StoreError;

use crate::app::App;

/// How many things were looked at.
pub fn count(facts: &KerberosFacts) -> usize {
    let keys = facts.keytabs.iter().map(|k| k.keys.as_ref().map_or(1, Vec::len)).sum::<usize>();
    keys + facts.realms.len() + facts.services.len() + facts.accounts.len() + facts.offers.len() + facts.hosts.len()
}

/// Everything; nothing where the site has nothing of Kerberos.
pub async fn look_at(app: &App, edition: &WebEdition) -> Result<KerberosFacts, StoreError> {
    let site = &edition.site;
    let needed = needed(site);
    if needed.is_empty() && !site.gates.iter().any(|g| g.ticket().is_some()) {
        return Ok(KerberosFacts::default());
    }
    let (keytabs, bytes) = keytabs(app, &needed).await?;
    let keys = Keytab::read(&bytes).unwrap_or_default();
    let (asked, accounts, offers, hosts) =
        tokio::join!(realms(app, site, &bytes, &keys), accounts(app, site, &keys), offers(edition), hosts(app, site));
    let (realms, services) = asked;
    Ok(KerberosFacts { keytabs, realms, services, accounts, offers, hosts, config: own_config(app).await })
}

/// Secrets that hold keytabs, and what needs each.
fn needed(site: &Site) -> BTreeMap<String, Vec<String>> {
    let mut out: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for (name, way) in site.ticket_ways() {
        for keytab in &way.keytabs {
            out.entry(keytab.clone()).or_default().push(format!("way in {name}"));
        }
    }
    for gate in &site.gates {
        if let Some(behalf) = gate.ticket().and_then(|t| t.behalf.as_ref()) {
            out.entry(behalf.keytab.clone()).or_default().push(format!("gate {}", gate.name));
        }
    }
    out
}

/// What each kept version holds, and all usable keys together as one keytab.
async fn keytabs(app: &App, needed: &BTreeMap<String, Vec<String>>) -> Result<(Vec<KeytabFacts>, Vec<u8>), StoreError> {
    let (mut out, mut bytes) = (vec![], vec![5u8, 2]);
    for (secret, needed_by) in needed {
        // One that is not stored is told as every other secret.
        for (version, kept) in app.kept_secret(secret).await? {
            let keys = opened(&kept).map(|(b, keytab)| {
                bytes.extend_from_slice(b.get(2..).unwrap_or_default());
                keytab.keys.iter().map(key).collect()
            });
            out.push(KeytabFacts { secret: secret.clone(), version, needed_by: needed_by.clone(), keys });
        }
    }
    Ok((out, bytes))
}

fn key(k: &passeur_protocols::kerberos::Key) -> KeyFacts {
    KeyFacts {
        principal: k.principal.to_string(),
        kvno: k.kvno,
        enctype: k.enctype,
        enctype_name: enctype::name(k.enctype),
        weak: enctype::is_weak(k.enctype),
        written: k.written,
    }
}

/// Services that are wanted, each with its realm. Those of a way in are of every realm that a key of the host is of; without a
/// key, of the first realm that is taken.
fn wanted(site: &Site, keys: &Keytab) -> Vec<(String, ServiceOf)> {
    let mut out: Vec<(String, ServiceOf)> = vec![];
    for (name, way) in site.ticket_ways() {
        for host in &way.hosts {
            let mine = keys.principals().into_iter().filter(|p| {
                p.components.first().is_some_and(|s| s == "HTTP") && p.host().is_some_and(|h| h.eq_ignore_ascii_case(host))
            });
            let mut realms: Vec<&str> = mine.map(|p| p.realm.as_str()).collect();
            if realms.is_empty() {
                realms.extend(way.realms.first().map(|r| r.realm.as_str()));
            }
            out.extend(realms.into_iter().map(|r| (format!("HTTP/{host}@{r}"), ServiceOf::Way(name.to_owned()))));
        }
    }
    let gates = site.gates.iter().filter_map(|g| Some((g.ticket()?.service.clone(), ServiceOf::Gate(g.name.clone()))));
    out.extend(gates);
    out
}

/// Realms that a site names.
pub fn realms_named(site: &Site) -> Vec<String> {
    let mut names: Vec<String> = site.ticket_ways().flat_map(|(_, t)| &t.realms).map(|r| r.realm.clone()).collect();
    for ticket in site.gates.iter().filter_map(|g| g.ticket()) {
        names.push(realm_of(&ticket.service).to_owned());
        names.extend(ticket.behalf.as_ref().map(|b| realm_of(&b.account).to_owned()));
    }
    names.sort_unstable();
    names.dedup();
    names
}

/// `bytes` hold `keys`, as a keytab.
async fn realms(app: &App, site: &Site, bytes: &[u8], keys: &Keytab) -> (Vec<RealmFacts>, Vec<ServiceFacts>) {
    let wanted = wanted(site, keys);
    let mut names = realms_named(site);
    names.extend(wanted.iter().map(|(service, _)| realm_of(service).to_owned()));
    names.sort_unstable();
    names.dedup();
    let with_password = |name: &str| site.ticket_ways().any(|(_, t)| t.password && t.realms.iter().any(|r| r.realm == name));
    let asked = names.iter().map(|name| {
        let mut services: Vec<String> = wanted.iter().map(|(s, _)| s).filter(|s| realm_of(s) == name.as_str()).cloned().collect();
        services.dedup();
        let at_least_there = with_password(name);
        let asking = Asking { realm: name.clone(), keys: bytes.to_vec(), services, at_least_there };
        look(app.kerberos(), asking)
    });
    // Our clock is the one that tickets are held against, whatever the machine's says.
    let own = app.now() - chrono::Utc::now();
    let (mut realms, mut found) = (vec![], vec![]);
    for (name, seen) in names.iter().zip(join_all(asked).await) {
        let answer = match seen.answer {
            KdcAnswer::Answered { by, ahead } => KdcAnswer::Answered { by, ahead: ahead - whole_seconds(own) },
            other => other,
        };
        realms.push(RealmFacts { realm: name.clone(), answer, refused: seen.refused });
        found.extend(seen.services);
    }
    let services = wanted.into_iter().filter_map(|(service, of)| {
        let found = found.iter().find(|(s, _)| *s == service)?.1.clone();
        Some(ServiceFacts { service, of, found })
    });
    (realms, services.collect())
}

fn whole_seconds(d: chrono::Duration) -> chrono::Duration {
    chrono::Duration::seconds((d.num_milliseconds() as f64 / 1000.0).round() as i64)
}

/// Each account acts for a service, which is somebody as well as anybody: no person is needed to find out whether it may.
async fn accounts(app: &App, site: &Site, keys: &Keytab) -> Vec<AccountFacts> {
    let gates = site.gates.iter().filter_map(|g| Some((g, g.ticket()?, app.behalf(&g.name)?)));
    let asked = gates.map(|(gate, ticket, behalf)| {
        // The application itself, and where the KDC knows it as a service alone, others that we hold keys of.
        let others = keys.principals().into_iter().map(ToString::to_string);
        let mut anybody = vec![ticket.service.clone()];
        anybody.extend(others.filter(|p| *p != behalf.principal() && realm_of(p) == realm_of(behalf.principal())).take(3));
        (gate, ticket, behalf, anybody)
    });
    let asked = asked.map(|(gate, ticket, behalf, anybody)| async move {
        let mut answer = Err(AccountTrouble::NotKnown("the KDC takes no principal of ours for a person".to_owned()));
        for person in &anybody {
            match behalf.first(person, &ticket.service).await {
                Ok(_) => answer = Ok(()),
                Err(NoTicket::Nobody) => continue,
                Err(e) => answer = Err(trouble(e)),
            }
            break;
        }
        AccountFacts { gate: gate.name.clone(), account: behalf.principal().to_owned(), service: ticket.service.clone(), answer }
    });
    join_all(asked).await
}

/// What a refusal means for the account.
fn trouble(e: NoTicket) -> AccountTrouble {
    let not_known = |words: &str| AccountTrouble::NotKnown(words.to_owned());
    match e {
        NoTicket::NotAllowed => AccountTrouble::NotAllowed,
        NoTicket::Account => AccountTrouble::ForNobody,
        NoTicket::Own(words) => AccountTrouble::Own(words),
        // Told of themselves by findings of their own, or of a stand-in for a person.
        NoTicket::NoService => not_known("the KDC knows no such service"),
        NoTicket::Person | NoTicket::Revoked | NoTicket::Nobody => not_known("no principal of ours may be acted for"),
        NoTicket::Silent(words) | NoTicket::Failed(words) => AccountTrouble::NotKnown(words),
    }
}

async fn offers(edition: &WebEdition) -> Vec<OfferFacts> {
    let gates = edition.site.gates.iter().filter(|g| g.ticket().is_some());
    let asked = gates.filter_map(|g| Some((g.name.clone(), edition.route(&g.name)?))).map(|(gate, route)| async move {
        let all = route.offers().await.into_iter();
        all.map(|(address, status, schemes)| OfferFacts { gate: gate.clone(), address, status, schemes }).collect::<Vec<_>>()
    });
    join_all(asked).await.into_iter().flatten().collect()
}

async fn hosts(app: &App, site: &Site) -> Vec<HostFacts> {
    let mut names: Vec<String> = site.ticket_ways().flat_map(|(_, t)| t.hosts.clone()).collect();
    names.sort_unstable();
    names.dedup();
    let one = |host: String| async move {
        // Names under localhost are this machine's, and nobody's alias (RFC 6761 6.3).
        let canonical = match passeur_core::address::is_loopback(&host) {
            true => Some(host.clone()),
            false => {
                let asked = host.clone();
                app.kerberos().reckon(move || canonical(&asked)).await.ok().flatten()
            }
        };
        HostFacts { host, canonical }
    };
    join_all(names.into_iter().map(one)).await
}

/// This node's krb5.conf.
async fn own_config(app: &App) -> Vec<ConfigFacts> {
    let read = app.kerberos().reckon(|| config::read(&Root::system(), &config::files())).await;
    let broken = |words: String| vec![ConfigFacts { place: config::files().join(", "), words, dead: false }];
    let config = match read {
        Ok(Ok(config)) => config,
        Ok(Err(words)) => return broken(words),
        Err(e) => return broken(e.to_string()),
    };
    let one = |(oddity, place, words): (Oddity, &Place, String)| ConfigFacts {
        place: place.to_string(),
        words,
        dead: oddity != Oddity::Wrong,
    };
    config.oddities().into_iter().map(one).collect()
}
