//! What the facts from outside mean.

use chrono::Duration;

use super::{Code, DirectoryFacts, Facts, Finding, ProviderCheck, UpstreamFacts};
use crate::Moment;
use crate::site::{Access, Site};

/// How long before its end a certificate is told of.
const CERTIFICATE_DAYS: i64 = 30;
/// Another team must enter the next one, which takes them weeks.
const OWN_KEY_DAYS: i64 = 60;
const TOKEN_DAYS: i64 = 14;
const SECRET_DAYS: i64 = 330;
const STANDS_BY_DAYS: i64 = 30;
/// Of so many people at least must something have been asked before its absence means anything.
const PEOPLE_MIN: usize = 5;
const NODE_LOST: Duration = Duration::minutes(2);
const SLOW_MS: u32 = 250;

pub(super) fn look(site: &Site, facts: &Facts, out: &mut Vec<Finding>) {
    providers(facts, out);
    own_saml(facts, out);
    facts.directories.iter().for_each(|d| directory(facts, d, out));
    upstreams(site, facts, out);
    own_certificates(site, facts, out);
    secrets(site, facts, out);
    sources(facts, out);
    service(site, facts, out);
    unused(site, out);
}

fn day(at: Moment) -> String {
    at.format("%Y-%m-%d").to_string()
}

fn certificate(facts: &Facts, place: &str, of: &str, until: Option<Moment>, out: &mut Vec<Finding>) {
    let Some(until) = until else { return };
    let left = until - facts.now;
    let code = match left {
        l if l <= Duration::zero() => Code::CertificateExpired,
        l if l < Duration::days(CERTIFICATE_DAYS) => Code::CertificateSoon,
        _ => return,
    };
    out.push(Finding::new(code, place).with("of", of).with("until", day(until)).with("days", left.num_days()));
}

fn providers(facts: &Facts, out: &mut Vec<Finding>) {
    for p in &facts.providers {
        let place = format!("provider {}", p.name);
        for (check, words) in &p.wrong {
            let code = match check {
                ProviderCheck::Reach => Code::ProviderUnreachable,
                ProviderCheck::Issuer => Code::ProviderIssuer,
                ProviderCheck::Keys => Code::ProviderKeys,
                ProviderCheck::Clock => Code::ProviderClock,
                ProviderCheck::Client => Code::ProviderClient,
                ProviderCheck::Redirect => Code::ProviderRedirect,
                ProviderCheck::Metadata => Code::ProviderMetadata,
            };
            out.push(Finding::new(code, place.as_str()).with("provider", p.name.as_str()).with("words", words.as_str()));
        }
        certificate(facts, &place, &place, p.certificate, out);
        let finding = |code| Finding::new(code, place.as_str()).with("provider", p.name.as_str());
        let soon = facts.now + Duration::days(CERTIFICATE_DAYS);
        for (fingerprint, until) in p.signing.iter().filter(|(_, until)| *until < soon) {
            out.push(finding(Code::SigningSoon).with("fingerprint", fingerprint.as_str()).with("until", day(*until)));
        }
        if let Some(words) = &p.changed {
            out.push(finding(Code::MetadataChanged).with("words", words.as_str()));
        }
        // One or two may be anything; where fewer come in than fail, something is wrong.
        if p.recent.failed >= 3 && p.recent.failed > p.recent.came {
            out.push(
                finding(Code::ProviderFailing)
                    .with("failed", p.recent.failed)
                    .with("came", p.recent.came)
                    .with("because", p.recent.because.as_str())
                    .with("remedy", p.recent.remedy.as_str()),
            );
        }
        // A few people change their mind; when it is one in three something is wrong.
        if p.never_came_back >= 3 && p.never_came_back * 3 >= p.sent {
            out.push(
                Finding::new(Code::NeverCameBack, place)
                    .with("provider", p.name.as_str())
                    .with("never", p.never_came_back)
                    .with("sent", p.sent),
            );
        }
    }
}

fn own_saml(facts: &Facts, out: &mut Vec<Finding>) {
    match &facts.own_saml {
        Some(Err(words)) => out.push(Finding::new(Code::OwnKeyUnusable, "saml").with("words", words.as_str())),
        Some(Ok((fingerprint, until))) if *until < facts.now + Duration::days(OWN_KEY_DAYS) => {
            let finding = Finding::new(Code::OwnCertificateSoon, "saml");
            out.push(finding.with("fingerprint", fingerprint.as_str()).with("until", day(*until)));
        }
        Some(Ok(_)) | None => {}
    }
}

fn directory(facts: &Facts, d: &DirectoryFacts, out: &mut Vec<Finding>) {
    let place = format!("directory {}", d.name);
    let finding = |code| Finding::new(code, place.as_str()).with("directory", d.name.as_str());
    let down: Vec<(&str, &str)> =
        d.servers.iter().filter_map(|s| Some((s.address.as_str(), s.answer.as_ref().err()?.as_str()))).collect();
    if down.len() == d.servers.len() && !down.is_empty() {
        let all: Vec<String> = down.iter().map(|(_, words)| (*words).to_owned()).collect();
        out.push(finding(Code::DirectoryUnreachable).with("words", all.join("; ")));
    } else {
        for (server, words) in down {
            out.push(finding(Code::DirectoryServerDown).with("server", server).with("words", words));
        }
    }
    for s in &d.servers {
        certificate(facts, &place, &s.address, s.certificate, out);
    }
    if let Some(Err(words)) = &d.account {
        out.push(finding(Code::DirectoryAccount).with("words", words.as_str()));
    }
    for words in &d.bases {
        out.push(finding(Code::DirectoryBase).with("words", words.as_str()));
    }
    if let Some((sample, Err(words))) = &d.sample {
        out.push(finding(Code::DirectoryPerson).with("sample", sample.as_str()).with("words", words.as_str()));
    }
    if d.chain == Some(false) {
        out.push(finding(Code::ChainNotOffered));
    }
}

fn upstreams(site: &Site, facts: &Facts, out: &mut Vec<Finding>) {
    for gate in &site.gates {
        let mine: Vec<&UpstreamFacts> = facts.upstreams.iter().filter(|u| u.gate == gate.name).collect();
        let place = format!("gate {}", gate.name);
        let finding = |code| Finding::new(code, place.as_str()).with("gate", gate.name.as_str());
        let mut down = vec![];
        for u in &mine {
            certificate(facts, &place, &u.address, u.certificate, out);
            match &u.answer {
                Ok(()) => {}
                Err(t) if t.certificate => {
                    out.push(
                        finding(Code::UpstreamCertificate).with("address", u.address.as_str()).with("words", t.words.as_str()),
                    );
                }
                Err(t) => down.push((u.address.as_str(), t.words.as_str())),
            }
        }
        if !down.is_empty() && down.len() == mine.len() {
            let all: Vec<String> = down.iter().map(|(address, words)| format!("{address}: {words}")).collect();
            out.push(finding(Code::UpstreamUnreachable).with("words", all.join("; ")));
            continue;
        }
        for (address, words) in down {
            out.push(finding(Code::UpstreamDown).with("address", address).with("words", words));
        }
    }
}

fn own_certificates(site: &Site, facts: &Facts, out: &mut Vec<Finding>) {
    let Some(all) = &facts.certificates else { return };
    for c in all {
        certificate(facts, "this node", &c.of, Some(c.until), out);
    }
    let covers = |host: &str| {
        all.iter().flat_map(|c| &c.names).any(|name| match name.strip_prefix("*.") {
            Some(rest) => host.split_once('.').is_some_and(|(_, r)| r.eq_ignore_ascii_case(rest)),
            None => name.eq_ignore_ascii_case(host),
        })
    };
    let sign_in = [(&site.address, "the sign-in host".to_owned())];
    let hosts = site.gates.iter().map(|g| (&g.address, format!("gate {}", g.name))).chain(sign_in);
    for (address, of) in hosts.filter(|(a, _)| a.https && !covers(a.name())) {
        out.push(Finding::new(Code::CertificateHost, of.as_str()).with("host", address.host.as_str()).with("of", of.as_str()));
    }
}

fn secrets(site: &Site, facts: &Facts, out: &mut Vec<Finding>) {
    let needed = site.secrets();
    for (name, by) in &needed {
        if !facts.secrets.iter().any(|s| s.name == *name) {
            out.push(Finding::new(Code::SecretMissing, by.as_str()).with("name", name.as_str()).with("by", by.as_str()));
        }
    }
    for s in &facts.secrets {
        let place = format!("secret {}", s.name);
        let finding = |code| Finding::new(code, place.as_str()).with("name", s.name.as_str());
        if !needed.iter().any(|(name, _)| *name == s.name) {
            out.push(finding(Code::SecretUnused));
            continue;
        }
        let days = (facts.now - s.stored_at).num_days();
        if days >= SECRET_DAYS {
            out.push(finding(Code::SecretOld).with("days", days));
        }
        if let Some((version, since)) = s.next
            && (facts.now - since).num_days() >= STANDS_BY_DAYS
        {
            let days = (facts.now - since).num_days();
            out.push(finding(Code::SecretStandsBy).with("version", i64::from(version)).with("days", days));
        }
    }
}

fn sources(facts: &Facts, out: &mut Vec<Finding>) {
    for s in facts.sources.iter().filter(|s| s.asked >= PEOPLE_MIN && s.held == 0) {
        let count = s.asked as i64;
        if let Some(provider) = &s.provider {
            out.push(
                Finding::new(Code::NeverReleased, format!("provider {provider}"))
                    .with("attribute", s.attribute.as_str())
                    .with("claim", s.source.as_str())
                    .with("provider", provider.as_str())
                    .with("count", count),
            );
        }
        if let Some(directory) = &s.directory {
            out.push(
                Finding::new(Code::NeverInEntry, format!("directory {directory}"))
                    .with("attribute", s.attribute.as_str())
                    .with("source", s.source.as_str())
                    .with("directory", directory.as_str())
                    .with("count", count),
            );
        }
    }
}

fn service(site: &Site, facts: &Facts, out: &mut Vec<Finding>) {
    let at = |m: Moment| m.format("%Y-%m-%d %H:%M UTC").to_string();
    for b in &facts.expectations {
        out.push(
            Finding::new(Code::ExpectationBroken, format!("gate {}", b.place))
                .with("name", b.name.as_str())
                .with("what", b.what.join("; "))
                .with("because", b.because.as_str()),
        );
    }
    if let Some(number) = facts.acts_break {
        out.push(Finding::new(Code::ActsBroken, "the record of acts").with("number", number));
    }
    if let Some((node, words)) = &facts.trouble {
        out.push(
            Finding::new(Code::NodeTrouble, format!("node {node}")).with("node", node.as_str()).with("words", words.as_str()),
        );
    }
    for n in facts.nodes.iter().filter(|n| facts.now - n.seen_at > NODE_LOST) {
        out.push(
            Finding::new(Code::NodeLost, format!("node {}", n.name)).with("node", n.name.as_str()).with("at", at(n.seen_at)),
        );
    }
    if facts.database.millis > SLOW_MS {
        out.push(Finding::new(Code::DatabaseSlow, "the database").with("millis", i64::from(facts.database.millis)));
    }
    let tomorrow = facts.now.date_naive().succ_opt().unwrap_or(facts.now.date_naive());
    if facts.database.partitions_until.is_none_or(|until| until < tomorrow) {
        out.push(Finding::new(Code::PartitionMissing, "the database").with("day", tomorrow.to_string()));
    }
    if let (Some(p), (0, count @ 1..)) = (&site.proxies, facts.proxied) {
        let finding = Finding::new(Code::ProxyField, "trusted proxies");
        let count = i64::try_from(count).unwrap_or(i64::MAX);
        out.push(finding.with("wanted", p.write.name()).with("other", p.write.other().name()).with("count", count));
    }
    if let Some(by) = facts.confirm_by {
        out.push(Finding::new(Code::NotConfirmed, "the live edition").with("by", at(by)));
    }
    for t in &facts.tokens {
        let place = format!("token {}", t.name);
        if !t.has_owner {
            out.push(Finding::new(Code::FirstToken, place.as_str()));
        }
        let left = t.until.map(|until| (until, until - facts.now));
        if let Some((until, left)) = left.filter(|(_, left)| *left < Duration::days(TOKEN_DAYS)) {
            let finding = Finding::new(Code::TokenSoon, place).with("name", t.name.as_str());
            out.push(finding.with("until", day(until)).with("days", left.num_days()));
        }
    }
    if !facts.has_emergency {
        out.push(Finding::new(Code::NoEmergency, "the emergency account"));
    }
}

/// Providers and directories that no gate names.
fn unused(site: &Site, out: &mut Vec<Finding>) {
    let providers = site.providers.iter().filter(|p| !site.accesses().any(|a| a.ways.contains(&p.name)));
    let directories = site.directories.iter().filter(|d| !site.accesses().any(|a| a.directories.contains(&d.name)));
    let takes = |a: &Access, way: &String| {
        a.ways.contains(way) || a.callers.as_ref().is_some_and(|c| c.certificates.as_ref() == Some(way))
    };
    let ways = site.ways.iter().filter(|w| !site.accesses().any(|a| takes(a, &w.name)));
    let ways = ways.map(|w| format!("way in {}", w.name));
    let all =
        providers.map(|p| format!("provider {}", p.name)).chain(ways).chain(directories.map(|d| format!("directory {}", d.name)));
    for what in all {
        out.push(Finding::new(Code::SourceUnused, what.as_str()).with("what", what.as_str()));
    }
}
