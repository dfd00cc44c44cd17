//! Authorities of devices' certificates that run out, or do not say what they took back; servers for codes that do not answer.

use chrono::Duration;

use super::{Code, Facts, Finding};
use crate::site::Site;
use crate::x509;

/// How long before its end an authority is told of: its devices need new certificates by then.
const SOON: Duration = Duration::days(60);

pub(super) fn look(site: &Site, facts: &Facts, out: &mut Vec<Finding>) {
    let (node, silent) = &facts.code_servers;
    for (server, why) in silent {
        let said = Finding::new(Code::CodeServerSilent, format!("server for codes {server}"));
        out.push(said.with("server", server.as_str()).with("why", why.as_str()).with("node", node.as_str()));
    }
    for check in &site.device_checks {
        let said = |code: Code| Finding::new(code, format!("device check {}", check.name)).with("check", check.name.as_str());
        for der in check.certificate.iter().flat_map(|c| &c.authorities) {
            let Some(of) = x509::read(der) else { continue };
            let code = match of.not_after {
                until if until <= facts.now => Code::DeviceAuthorityOver,
                until if until <= facts.now + SOON => Code::DeviceAuthoritySoon,
                _ => continue,
            };
            let name = x509::holder(der).map_or_else(|| x509::fingerprint(der), |h| h.subject);
            out.push(said(code).with("authority", name).with("until", of.not_after.format("%Y-%m-%d").to_string()));
        }
        for silent in facts.device_authorities.iter().filter(|s| s.check == check.name) {
            let said = said(Code::DeviceAuthoritySilent);
            out.push(said.with("address", silent.address.as_str()).with("why", silent.why.as_str()));
        }
    }
}
