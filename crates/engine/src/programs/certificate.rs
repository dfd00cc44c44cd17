//! Client certificates (RFC 5280), as proofs of programs.

use passeur_core::Moment;
use passeur_core::evidence::{Evidence, Factors, WayIn};
use passeur_core::id::sha256;
use passeur_core::site::{Gate, Site, WayKind};
use passeur_core::step;
use passeur_core::x509;
use passeur_links::client_chain;

use super::{Bad, Good, bad};

/// How long what a certificate opened is good, in hours, before the certificate is looked at again.
const CERTIFICATE_HOURS: i64 = 1;

/// What a client certificate stands for at a gate.
pub fn check(site: &Site, gate: &Gate, chain: &[Vec<u8>], now: Moment) -> Result<Good, Bad> {
    let name = gate.access.callers.as_ref().and_then(|c| c.certificates.as_deref()).unwrap_or_default();
    let Some(WayKind::Certificate(way)) = site.way(name).map(|w| &w.kind) else {
        return Err(bad("gate", "a client certificate", "a gate that takes one"));
    };
    client_chain::verify(chain, &way.authorities, now)
        .map_err(|why| bad("chain", why, format!("one of the authorities of {name}")))?;
    let der = chain.first().map(Vec::as_slice).unwrap_or_default();
    let (Some(holder), Some(dates)) = (x509::holder(der), x509::read(der)) else {
        return Err(bad("form", "a certificate without a readable name", "a distinguished name"));
    };
    let expires = dates.not_after.min(now + chrono::Duration::hours(CERTIFICATE_HOURS));
    let mut claims = serde_json::Map::new();
    claims.insert("subject".into(), holder.subject.clone().into());
    claims.insert("issuer".into(), holder.issuer.clone().into());
    for (name, values) in [("cn", &holder.cn), ("mail", &holder.mail), ("dns", &holder.dns), ("uri", &holder.uri)] {
        if !values.is_empty() {
            claims.insert(name.into(), values.clone().into());
        }
    }
    let evidence = Evidence {
        claims,
        factors: Factors { amr: vec!["pop".into()], auth_time: Some(now), ..Factors::default() },
        ..Evidence::of(WayIn::Certificate, name, holder.subject.clone(), holder.issuer.clone())
    };
    let step = step!(CertificateRight {
        subject: holder.subject,
        issuer: holder.issuer,
        fingerprint: x509::fingerprint(der),
        until: dates.not_after.format("%Y-%m-%d %H:%M UTC").to_string()
    });
    let thing = sha256(&[b"certificate\0", der].concat());
    Ok(Good { evidence, expires, thing, ends: dates.not_after, paths: None, personal: None, step })
}
