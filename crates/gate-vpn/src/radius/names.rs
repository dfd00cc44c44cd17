//! What names a client, and a session at it: in what it asks, in what it tells, and in what it is ordered (RFC 5176 section 3).

use std::net::IpAddr;

use passeur_core::text::{shorten, visible};
use passeur_protocols::radius::{Attribute, Kind, Packet};
use passeur_store::RadiusRow;
use serde_json::{Value, json};
use uuid::Uuid;

/// The longest name that is kept, in characters.
const NAME_MAX: usize = 253;
/// What names a client.
const OF_CLIENT: [Kind; 3] = [Kind::NasIdentifier, Kind::NasIpAddress, Kind::NasIpv6Address];
/// What names a session there where it has no number.
const OF_SESSION: [Kind; 5] =
    [Kind::NasPort, Kind::NasPortId, Kind::CalledStationId, Kind::CallingStationId, Kind::AcctMultiSessionId];

/// Text of a client, as it can be kept: what is no text, or cannot be shown, stands escaped.
fn plain(octets: &[u8]) -> String {
    let text = match std::str::from_utf8(octets) {
        Ok(text) => visible(text),
        Err(_) => octets.escape_ascii().to_string(),
    };
    shorten(&text, NAME_MAX)
}

/// What a client calls itself: several may stand behind one address. Where it says nothing, it is called by that.
pub fn nas(packet: &Packet, from: IpAddr) -> String {
    if let Some(name) = packet.first(Kind::NasIdentifier) {
        return plain(name);
    }
    let own = packet.addresses(Kind::NasIpAddress).chain(packet.addresses(Kind::NasIpv6Address)).next();
    own.unwrap_or(from).to_canonical().to_string()
}

/// The number that a client gives a session; none where it gives none.
pub fn number(packet: &Packet) -> Option<String> {
    packet.first(Kind::AcctSessionId).map(plain)
}

/// The number that the session has here, where the client hands it back.
pub fn class(packet: &Packet) -> Option<Uuid> {
    packet.all(Kind::Class).find_map(|octets| Uuid::from_slice(octets).ok())
}

/// The name of the person.
pub fn user(packet: &Packet) -> String {
    packet.first(Kind::UserName).map(plain).unwrap_or_default()
}

/// What names a session in an order, to be kept with it.
pub fn known_by(packet: &Packet) -> Value {
    let names = std::iter::once(Kind::UserName).chain(OF_CLIENT).chain(OF_SESSION);
    let attributes: Vec<(u8, Vec<u8>)> =
        names.filter_map(|kind| packet.first(kind).map(|octets| (kind.number(), octets.to_vec()))).collect();
    json!({
        "user": user(packet),
        "calling": packet.first(Kind::CallingStationId).map(plain),
        "number": packet.first(Kind::AcctSessionId),
        "attributes": attributes,
    })
}

/// Attributes that name a session in an order: the client, the person, and the session's number there, or where it has none, all that is known.
pub fn in_order(row: &RadiusRow) -> Vec<Attribute> {
    let kept: Vec<(u8, Vec<u8>)> = serde_json::from_value(row.known_by["attributes"].clone()).unwrap_or_default();
    let number: Option<Vec<u8>> = serde_json::from_value(row.known_by["number"].clone()).unwrap_or_default();
    let is_needed = |kind: u8| number.is_none() || !OF_SESSION.iter().any(|k| k.number() == kind);
    let mut out: Vec<Attribute> =
        kept.into_iter().filter(|(kind, _)| is_needed(*kind)).map(|(kind, value)| Attribute { kind, value }).collect();
    match number {
        Some(number) => out.push(Attribute::octets(Kind::AcctSessionId, number)),
        None => {
            let address = row.account().addresses.into_iter().find(IpAddr::is_ipv4);
            if let Some(IpAddr::V4(address)) = address {
                out.push(Attribute::v4(Kind::FramedIpAddress, address));
            }
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use passeur_protocols::radius::Code;

    fn packet(attributes: Vec<Attribute>) -> Packet {
        Packet { code: Code::AccessRequest, id: 1, authenticator: [0; 16], attributes }
    }

    fn row(packet: &Packet) -> RadiusRow {
        RadiusRow {
            presence: Uuid::nil(),
            client: "quay-gateway".into(),
            nas: String::new(),
            acct: number(packet),
            sends_from: "192.0.2.1".into(),
            known_by: known_by(packet),
            given: Value::Null,
            account: json!({"addresses": ["10.0.0.7"]}),
            ordered: None,
        }
    }

    #[test]
    fn a_client_is_called_as_it_says_and_else_by_where_it_sends_from() {
        let from: IpAddr = "192.0.2.1".parse().unwrap();
        let own = Attribute::octets(Kind::NasIpAddress, [10, 0, 0, 1]);
        assert_eq!(nas(&packet(vec![own.clone(), Attribute::octets(Kind::NasIdentifier, *b"quay 4")]), from), "quay 4");
        assert_eq!(nas(&packet(vec![own]), from), "10.0.0.1");
        assert_eq!(nas(&packet(vec![Attribute::octets(Kind::NasIpAddress, *b"short")]), from), "192.0.2.1");
        assert_eq!(number(&packet(vec![Attribute::octets(Kind::AcctSessionId, [0xff, 0])])).unwrap(), "\\xff\\x00");
    }

    #[test]
    fn a_session_is_named_by_its_number_and_else_by_all_that_is_known() {
        let all = vec![
            Attribute::octets(Kind::UserName, *b"anouk"),
            Attribute::octets(Kind::NasIdentifier, *b"quay"),
            Attribute::octets(Kind::CallingStationId, *b"02-00-00-00-00-01"),
        ];
        let kinds = |row: &RadiusRow| in_order(row).iter().map(|a| a.kind).collect::<Vec<_>>();
        let without = row(&packet(all.clone()));
        assert_eq!(kinds(&without), [1, 32, 31, 8]);
        let with = row(&packet([all, vec![Attribute::octets(Kind::AcctSessionId, *b"17")]].concat()));
        assert_eq!(kinds(&with), [1, 32, 44]);
        assert_eq!(in_order(&with)[2].value, b"17");
    }
}
