//! For the team of an application behind a gate.

use super::{Part, Row, Sheet};
use crate::delivery::{Missing, Piece, ValueOf};
use crate::site::{Gate, Site};

pub(super) fn sheet(site: &Site, gate: &Gate) -> Sheet {
    Sheet {
        title: format!("{} behind the gate {}", gate.title, gate.name),
        state: String::new(),
        connected: true,
        parts: vec![
            Part { code: "enter", heading: "Please enter", rows: enter(site, gate) },
            Part { code: "receive", heading: "What the application is told of the person", rows: receives(site, gate) },
            Part { code: "receive", heading: "What comes with every request", rows: forwarded(gate) },
        ],
        steps: vec![
            "Open the gate's address in a browser, and look at what the application logs as the user.".to_owned(),
            "Ask the application directly, past the gate, with a header of this sheet made up: it must not answer.".to_owned(),
            format!("Where a header is empty, passeur crossings --gate {} tells why, for every sign-in.", gate.name),
        ],
    }
}

fn enter(site: &Site, gate: &Gate) -> Vec<Row> {
    let Some(web) = gate.web() else { return vec![] };
    let mut out = vec![
        Row::new("Public address", gate.address.at("/"), "what people type, and what the application writes into links"),
        Row::new("Sign-out link", gate.address.at("/.passeur/sign-out"), "ends the session here and at every gate"),
        Row::new(
            "Accept from",
            "this gate's machines alone",
            "whoever reaches the application past the gate can write any header",
        ),
        Row::new("Listens at", web.upstreams.to_string(), "where requests are sent"),
        Row::new("Own sign-in page", "off", "the person is known; a second question confuses"),
    ];
    if let Some(h) = &web.upstreams.health {
        out.push(Row::new("Health", h.path.clone(), "answers 2xx while the application is well, without a person"));
    }
    if let Some(t) = gate.ticket() {
        out.push(Row::new("Service name", t.service.clone(), "your own key in Kerberos; the keytab stays with you"));
    }
    if web.upstreams.tls.client.is_some() {
        out.push(Row::new("Client certificate", "ours", "accept no connection without it"));
    }
    let sections = gate.sections().iter().map(|s| Row::new("Section", s.path.clone(), s.sentence(site, crate::step::Lang::En)));
    out.extend(sections);
    out
}

fn receives(site: &Site, gate: &Gate) -> Vec<Row> {
    let ticket = gate.ticket().map(|t| {
        let why = "Negotiate (RFC 4559): a ticket as the person, with every new connection; prove yourselves in the answer";
        Row::new("Authorization", format!("Negotiate, for {}", t.service), why)
    });
    let Some(delivery) = site.delivery(gate) else {
        let none = || Row::new("Nothing", "", "no delivery is attached to the gate");
        return vec![ticket.unwrap_or_else(none)];
    };
    let rows = delivery.headers.iter().map(|h| {
        let missing = where_missing(h.missing);
        let several = match &h.join {
            Some(join) => format!("; a list, whose members are joined by “{join}”"),
            None => String::new(),
        };
        Row::new(
            h.name.clone(),
            source_of(site, &h.value),
            format!("{missing}{several}; taken from what clients send, in every spelling"),
        )
    });
    ticket.into_iter().chain(rows).collect()
}

/// What is told where there is no value.
pub(super) fn where_missing(missing: Missing) -> &'static str {
    match missing {
        Missing::Omit => "left out where there is none",
        Missing::Refuse => "always there: without it nobody enters",
    }
}

/// Where a delivered value comes from, in words.
pub(super) fn source_of(site: &Site, value: &ValueOf) -> String {
    match value {
        ValueOf::Attribute(id) => site.attribute_name(*id).to_owned(),
        ValueOf::Groups => "every group, direct and nested".to_owned(),
        ValueOf::Roles => "roles that rules give".to_owned(),
        ValueOf::Reach => "what rules let somebody reach".to_owned(),
        ValueOf::Given(name) => format!("{name}, as rules give it"),
        ValueOf::Constant(text) => format!("always “{text}”"),
        ValueOf::Template(pieces) => pieces
            .iter()
            .map(|p| match p {
                Piece::Text(text) => text.clone(),
                Piece::Attribute(id) => format!("{{{}}}", site.attribute_name(*id)),
            })
            .collect(),
    }
}

fn forwarded(gate: &Gate) -> Vec<Row> {
    let scheme = if gate.address.https { "https" } else { "http" };
    vec![
        Row::new("Host", gate.address.host.clone(), "as people typed it"),
        Row::new("Forwarded", format!("for=…;host=…;proto={scheme}"), "RFC 7239; written anew, never what a client sent"),
        Row::new("X-Forwarded-For, -Host, -Proto", "the same", "for applications that know nothing else"),
        Row::new("Cookies", "the application's own alone", "ours never reach it, and it cannot set any of ours"),
    ]
}
