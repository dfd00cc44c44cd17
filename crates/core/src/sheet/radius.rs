//! For the team of a gateway that asks by RADIUS: what to enter there, and what it is told.

use super::application::{source_of, where_missing};
use super::{Part, Row};
use crate::site::{Gate, RadiusAsks, RadiusClient, RadiusProof, Site};

/// The parts of the clients of a gate.
pub(super) fn parts(site: &Site, gate: &Gate) -> Vec<Part> {
    let clients: Vec<&RadiusClient> = site.radius_clients_of(gate).collect();
    if clients.is_empty() {
        return vec![];
    }
    let mut out: Vec<Part> = clients
        .iter()
        .map(|c| Part { code: "enter", heading: "Please enter for RADIUS", rows: enter(c, site.address.name()) })
        .collect();
    out.push(Part { code: "receive", heading: "What RADIUS answers carry", rows: carries(site, gate) });
    out
}

fn enter(client: &RadiusClient, host: &str) -> Vec<Row> {
    let mut out = vec![
        Row::new("Client", client.name.clone(), format!("what {} is called here", client.title)),
        Row::new("Sends from", client.senders(), "requests from anywhere else are not answered".to_owned()),
    ];
    match &client.proof {
        RadiusProof::Secret(secret) => out.extend([
            Row::new(
                "Server",
                "this service, udp/1812 and udp/1813",
                "where passeur serve --radius-listen listens; every node answers alike",
            ),
            Row::new(
                "Shared secret",
                secret.clone(),
                "by the name of the secret; at least 16 octets, handed over by another way",
            ),
            Row::new("Message-Authenticator", "with every request", "a request without one is not answered (RFC 3579)"),
        ]),
        RadiusProof::Certificate(of) => out.extend([
            Row::new(
                "Server",
                "this service, tcp/2083, RADIUS over TLS (RFC 6614)",
                "where passeur serve --radius-tls-listen listens; every node answers alike",
            ),
            Row::new(
                "TLS",
                "1.3, with RADIUS/1.1 (RFC 9765) where the gateway can; else 1.2 or 1.3",
                "the connection proves what it carries",
            ),
            Row::new("Server certificate", format!("of {host}"), "the gateway has to check that name and the authority"),
            Row::new(
                "Client certificate",
                match &of.host {
                    Some(host) => format!("of {host}, by the authority in the site file"),
                    None => format!("the one in the site file{}", if of.own.len() > 1 { ", or its successor" } else { "" }),
                },
                "send a new one before the old one ends: both may stand in the site file",
            ),
            Row::new("Shared secret", "radsec", "what RFC 6614 section 2.3 says, and proves nothing; none with RADIUS/1.1"),
        ]),
    }
    for asks in &client.takes {
        out.push(match asks {
            RadiusAsks::Password => Row::new("Authentication", "PAP", "CHAP, MS-CHAP and EAP are refused"),
            RadiusAsks::AuthorizeOnly => Row::new(
                "Authorization",
                "Service-Type = Authorize-Only, with User-Name",
                "after a sign-in at the gateway itself",
            ),
            RadiusAsks::Machine => Row::new(
                "Machines",
                "Service-Type = Call-Check, with the hardware address as User-Name and Calling-Station-Id",
                "where a machine says nothing by itself; nothing is proven by it",
            ),
        });
    }
    out.push(Row::new(
        "Accounting",
        "to the same server, with Start, Interim-Update and Stop, and Class",
        "tells who had which address, and that a session is over",
    ));
    if let Some(port) = client.orders {
        let port = match client.proof {
            RadiusProof::Secret(_) => format!("udp/{port} from this service, same secret"),
            RadiusProof::Certificate(_) => format!("tcp/{port} from this service, over TLS with the same certificates"),
        };
        out.push(Row::new(
            "Dynamic authorization",
            port,
            "Disconnect and CoA (RFC 5176) end a session at once when access is taken away",
        ));
    }
    out.push(Row::new("Time-out and tries", "10 s, 3 times", "a look-up in a directory that is far takes seconds"));
    out.push(Row::new(
        "Calling-Station-Id",
        "the address of the person's machine",
        "rules on networks see it, and wrong passwords are counted by it",
    ));
    out
}

fn carries(site: &Site, gate: &Gate) -> Vec<Row> {
    let headers = site.delivery(gate).into_iter().flat_map(|d| &d.headers);
    let delivered = headers.map(|h| Row::new(h.name.clone(), source_of(site, &h.value), where_missing(h.missing).to_owned()));
    let own = [
        ("Reply-Message", "words of rules", "shown to the person where the gateway can"),
        ("Session-Timeout, Idle-Timeout", "the lifetimes of the gate", "end the session there"),
        ("Acct-Interim-Interval", "as the site file says", "how often it tells what passes"),
        ("Class", "the session's number here", "sent back with everything that is told of the session"),
    ];
    delivered.chain(own.map(|(name, value, why)| Row::new(name, value, why.to_owned()))).collect()
}
