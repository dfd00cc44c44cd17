//! RADIUS clients that never asked, prove nothing, tell nothing, or do not do what they are ordered.

use chrono::Duration;

use super::{Code, Facts, Finding};
use crate::site::Site;

/// Clients check the moment of an order within five minutes (RFC 5176 section 6.3); whoever is off by more than this is soon there.
const CLOCK_S: i64 = 120;
/// A session of so long is told of, where the client tells of any.
const TELLS_WITHIN: Duration = Duration::minutes(15);

pub(super) fn look(site: &Site, facts: &Facts, out: &mut Vec<Finding>) {
    for client in &site.radius_clients {
        let Some(seen) = facts.radius.iter().find(|r| r.client == client.name) else { continue };
        let said = |code: Code| Finding::new(code, format!("RADIUS client {}", client.name)).with("client", client.name.as_str());
        if seen.unproven > 0 {
            let count = seen.unproven.to_string();
            out.push(match client.secret() {
                Some(secret) => said(Code::RadiusSecretFails).with("count", count).with("secret", secret),
                None => said(Code::RadiusCertificateFails).with("count", count),
            });
        } else if seen.asked.is_none() && seen.let_in.is_none() {
            out.push(said(Code::RadiusNeverAsked).with("addresses", client.senders()));
        }
        if seen.disobeyed > 0 {
            let port = client.orders.map_or_else(|| "3799".to_owned(), |p| p.to_string());
            let port = format!("{}/{port}", if client.certificate().is_some() { "tcp" } else { "udp" });
            out.push(said(Code::RadiusDisobeys).with("count", seen.disobeyed.to_string()).with("port", port));
        }
        if seen.untold > 0 {
            out.push(said(Code::RadiusTakesNoOrders).with("count", seen.untold.to_string()));
        }
        if seen.unknown > 0 {
            out.push(said(Code::RadiusUnknownSessions).with("count", seen.unknown.to_string()));
        }
        if let Some(ahead) = seen.ahead.filter(|s| s.abs() > CLOCK_S) {
            out.push(said(Code::RadiusClock).with("seconds", ahead.to_string()));
        }
        if seen.let_in.is_some_and(|at| facts.now - at > TELLS_WITHIN) && seen.heard.is_none() {
            out.push(said(Code::RadiusTellsNothing));
        }
    }
}
