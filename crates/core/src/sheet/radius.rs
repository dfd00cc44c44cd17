//! For the team of a gateway that asks by RADIUS: what to enter there, and what it is told.

use super::application::{source_of, where_missing};
use super::{Part, Row};
use crate::site::{Gate, RadiusAsks, RadiusClient, Site};

/// The parts of the clients of a gate.
pub(super) fn parts(site: &Site, gate: &Gate) -> Vec<Part> {
    let clients: Vec<&RadiusClient> = site.radius_clients_of(gate).collect();
    if clients.is_empty() {
        return vec![];
    }
    let mut out: Vec<Part> =
        clients.iter().map(|c| Part { code: "enter", heading: "Please enter for RADIUS", rows: enter(c) }).collect();
    out.push(Part { code: "receive", heading: "What RADIUS answers carry", rows: carries(site, gate) });
    out
}

fn enter(client: &RadiusClient) -> Vec<Row> {
    let mut out = vec![
        Row::new("Client", client.name.clone(), format!("what {} is called here", client.title)),
        Row::new("Sends from", client.senders(), "requests from anywhere else are not answered".to_owned()),
        Row::new(
            "Server",
            "this service, udp/1812 and udp/1813",
            "where passeur serve --radius-listen listens; every node answers alike",
        ),
        Row::new(
            "Shared secret",
            client.secret.clone(),
            "by the name of the secret; at least 16 octets, handed over by another way",
        ),
        Row::new("Message-Authenticator", "with every request", "a request without one is not answered (RFC 3579)"),
    ];
    for asks in &client.takes {
        out.push(match asks {
            RadiusAsks::Password => Row::new("Authentication", "PAP", "CHAP, MS-CHAP and EAP are refused"),
            RadiusAsks::AuthorizeOnly => Row::new(
                "Authorization",
                "Service-Type = Authorize-Only, with User-Name",
                "after a sign-in at the gateway itself",
            ),
        });
    }
    out.push(Row::new(
        "Accounting",
        "to the same server, with Start, Interim-Update and Stop, and Class",
        "tells who had which address, and that a session is over",
    ));
    if let Some(port) = client.orders {
        let port = format!("udp/{port} from this service, same secret");
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
