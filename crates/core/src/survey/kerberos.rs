//! What is wrong with Kerberos: keys against what people's browsers ask for and what the KDC gives, clocks, accounts that act
//! for people, and the machine's own configuration.

use super::{AccountTrouble, Code, Finding, KdcAnswer, KerberosFacts, KeyFacts, ServiceFound, ServiceOf};
use crate::site::{Site, TicketWay, name_and_realm};

/// How far clocks may differ, in seconds: beyond it nobody's ticket is taken (the usual of all implementations).
const CLOCK_MAX: i64 = 300;
/// From where a difference is told before it does harm.
const CLOCK_SOON: i64 = 60;

pub(super) fn look(site: &Site, facts: &KerberosFacts, out: &mut Vec<Finding>) {
    keytabs(site, facts, out);
    realms(facts, out);
    services(site, facts, out);
    accounts(facts, out);
    hosts(site, facts, out);
    for o in facts.offers.iter().filter(|o| !o.negotiates()) {
        let finding = Finding::new(Code::NotOffered, format!("gate {}", o.gate)).with("gate", o.gate.as_str());
        out.push(finding.with("address", o.address.as_str()).with("words", o.words()));
    }
    for c in &facts.config {
        let code = if c.dead { Code::ConfigLine } else { Code::ConfigBroken };
        out.push(Finding::new(code, "krb5.conf").with("at", c.place.as_str()).with("words", c.words.as_str()));
    }
}

fn is_of_host(principal: &str, host: &str) -> bool {
    name_and_realm(principal).0.split_once('/').is_some_and(|(service, h)| service == "HTTP" && h.eq_ignore_ascii_case(host))
}

fn keytabs(site: &Site, facts: &KerberosFacts, out: &mut Vec<Finding>) {
    for k in &facts.keytabs {
        let place = format!("secret {}", k.secret);
        let finding = |code| Finding::new(code, place.as_str()).with("secret", k.secret.as_str());
        let keys = match &k.keys {
            Ok(keys) => keys,
            Err(words) => {
                out.push(finding(Code::KeytabUnusable).with("words", words.as_str()));
                continue;
            }
        };
        let uses = |key: &&KeyFacts| {
            let ways = site.ticket_ways().filter(|(_, t)| t.keytabs.contains(&k.secret));
            let accounts = site.gates.iter().filter_map(|g| g.ticket()?.behalf.as_ref());
            ways.flat_map(|(_, t)| &t.hosts).any(|h| is_of_host(&key.principal, h))
                || accounts.filter(|b| b.keytab == k.secret).any(|b| b.account == key.principal)
        };
        let unused: Vec<&str> = unique(keys.iter().filter(|key| !uses(key)).map(|key| key.principal.as_str()));
        if !unused.is_empty() && keys.iter().any(|key| uses(&key)) {
            out.push(finding(Code::KeysUnused).with("principals", unused.join(", ")));
        }
        for principal in unique(keys.iter().filter(uses).map(|key| key.principal.as_str())) {
            let weak = keys.iter().filter(|key| key.principal == principal && key.weak).map(|key| key.enctype_name.as_str());
            let weak = unique(weak);
            if !weak.is_empty() {
                out.push(finding(Code::WeakKeys).with("principal", principal).with("enctypes", weak.join(", ")));
            }
        }
    }
}

/// Keys of a way in, as far as its keytabs can be used.
fn stored<'f>(facts: &'f KerberosFacts, way: &TicketWay) -> impl Iterator<Item = &'f KeyFacts> {
    let mine = facts.keytabs.iter().filter(|k| way.keytabs.contains(&k.secret));
    mine.filter_map(|k| k.keys.as_ref().ok()).flatten()
}

fn unique<'a>(all: impl Iterator<Item = &'a str>) -> Vec<&'a str> {
    let mut out = vec![];
    for one in all {
        if !out.contains(&one) {
            out.push(one);
        }
    }
    out
}

fn realms(facts: &KerberosFacts, out: &mut Vec<Finding>) {
    for r in &facts.realms {
        let finding = |code| Finding::new(code, format!("realm {}", r.realm)).with("realm", r.realm.as_str());
        match &r.answer {
            KdcAnswer::Silent(words) => out.push(finding(Code::KdcSilent).with("words", words.as_str())),
            KdcAnswer::Answered { ahead, .. } if ahead.num_seconds().abs() > CLOCK_SOON => {
                let code = if ahead.num_seconds().abs() > CLOCK_MAX { Code::KdcClock } else { Code::KdcClockDrifts };
                out.push(finding(code).with("seconds", ahead.num_seconds()));
            }
            KdcAnswer::Answered { .. } | KdcAnswer::Alive | KdcAnswer::NotAsked => {}
        }
        for (principal, words) in &r.refused {
            out.push(finding(Code::KeyDiffers).with("principal", principal.as_str()).with("words", words.as_str()));
        }
    }
}

/// Each service against what the KDC gives for it and the keys that are there.
fn services(site: &Site, facts: &KerberosFacts, out: &mut Vec<Finding>) {
    for s in &facts.services {
        let place = s.of.place();
        let finding = |code| Finding::new(code, place.as_str()).with("service", s.service.as_str());
        let way = match &s.of {
            ServiceOf::Way(name) => site.ticket_ways().find(|(n, _)| n == name).map(|(_, t)| t),
            ServiceOf::Gate(_) => None,
        };
        if s.found == ServiceFound::Unknown {
            out.push(finding(Code::NoService).with("of", place.as_str()));
            continue;
        }
        // Keys of an application's own service are not ours to compare.
        let Some(way) = way else { continue };
        let mine: Vec<&KeyFacts> = stored(facts, way).filter(|k| k.principal == s.service).collect();
        if mine.is_empty() {
            out.push(finding(Code::NoKeyOf).with("of", place.as_str()));
            continue;
        }
        let ServiceFound::Sealed { kvno, enctype, enctype_name } = &s.found else { continue };
        let of_version: Vec<&&KeyFacts> = mine.iter().filter(|k| kvno.is_none_or(|v| k.kvno == v)).collect();
        let versions = unique_numbers(mine.iter().map(|k| k.kvno));
        if of_version.is_empty() {
            let theirs = i64::from(kvno.unwrap_or_default());
            out.push(finding(Code::KeyVersion).with("ours", versions).with("theirs", theirs));
        } else if !of_version.iter().any(|k| k.enctype == *enctype) {
            let ours = unique(of_version.iter().map(|k| k.enctype_name.as_str())).join(", ");
            out.push(finding(Code::KeyEnctype).with("ours", ours).with("theirs", enctype_name.as_str()));
        }
    }
}

fn unique_numbers(all: impl Iterator<Item = u32>) -> String {
    let mut all: Vec<u32> = all.collect();
    all.sort_unstable();
    all.dedup();
    all.iter().map(u32::to_string).collect::<Vec<_>>().join(", ")
}

fn accounts(facts: &KerberosFacts, out: &mut Vec<Finding>) {
    for a in &facts.accounts {
        let Err(trouble) = &a.answer else { continue };
        let finding = |code| {
            let finding = Finding::new(code, format!("gate {}", a.gate)).with("gate", a.gate.as_str());
            finding.with("account", a.account.as_str())
        };
        out.push(match trouble {
            AccountTrouble::Own(words) => finding(Code::AccountCannot).with("words", words.as_str()),
            AccountTrouble::ForNobody => finding(Code::ActsForNobody),
            AccountTrouble::NotAllowed => finding(Code::NotAllowedTo).with("service", a.service.as_str()),
            AccountTrouble::NotKnown(_) => continue,
        });
    }
}

/// Names that are aliases: some browsers ask for a ticket for what they stand for.
fn hosts(site: &Site, facts: &KerberosFacts, out: &mut Vec<Finding>) {
    for h in &facts.hosts {
        let Some(canonical) = h.canonical.as_ref().filter(|c| !c.eq_ignore_ascii_case(&h.host)) else { continue };
        for (name, way) in site.ticket_ways().filter(|(_, t)| t.hosts.contains(&h.host)) {
            let taken = way.hosts.iter().any(|w| w.eq_ignore_ascii_case(canonical));
            let has_key = stored(facts, way).any(|k| is_of_host(&k.principal, canonical));
            if !(taken && has_key) {
                let finding = Finding::new(Code::HostAlias, format!("way in {name}")).with("host", h.host.as_str());
                out.push(finding.with("canonical", canonical.as_str()));
            }
        }
    }
}
