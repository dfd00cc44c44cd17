//! What an answer carries: what the delivery gives, how long it lasts, and words for the person.

use passeur_core::decide::Admitted;
use passeur_core::session::Lifetimes;
use passeur_core::site::{Delivery, RadiusAttribute, RadiusClient, RadiusPlace, RadiusValue};
use passeur_protocols::radius::{Attribute, Kind};
use uuid::Uuid;

/// The longest text of one Reply-Message, in octets.
const TEXT_MAX: usize = 253;
/// The most words for the person, each in an attribute of its own.
const MESSAGES_MAX: usize = 5;

/// What a client is told of somebody whom it lets in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Said {
    pub attributes: Vec<Attribute>,
    /// Each in words, as `Name = value`.
    pub words: Vec<String>,
    /// How many of the first words are of the delivery.
    pub delivered: usize,
}

impl Said {
    fn add(&mut self, name: &str, value: String, attributes: Vec<Attribute>) {
        self.words.push(format!("{name} = {value}"));
        self.attributes.extend(attributes);
    }
}

/// What lets somebody in.
pub fn accept(
    client: &RadiusClient,
    delivery: Option<&Delivery>,
    admitted: &Admitted,
    limits: &Lifetimes,
    session: Uuid,
) -> Said {
    let mut said = Said { attributes: vec![], words: vec![], delivered: 0 };
    let mut filters = vec![];
    for h in admitted.headers() {
        let of = delivery.into_iter().flat_map(|d| &d.headers).filter_map(|rule| rule.fit.as_ref());
        let Some(fit) = of.map(|f| &f.attribute).find(|a| a.name == h.name) else { continue };
        let text = String::from_utf8_lossy(&h.value);
        if fit.value == RadiusValue::Filter {
            said.words.push(format!("{} = {text}", fit.name));
            filters.push(text.into_owned());
        } else if let Some(attributes) = written(fit, &text) {
            said.add(&fit.name, text.into_owned(), attributes);
        }
    }
    said.attributes.extend(Attribute::filters(&filters));
    said.delivered = said.words.len();
    for message in admitted.terms().iter().flat_map(|t| &t.messages).take(MESSAGES_MAX) {
        let text = cut(message);
        said.add("Reply-Message", text.to_owned(), vec![Attribute::octets(Kind::ReplyMessage, text.as_bytes())]);
    }
    for (name, kind, of) in [
        ("Session-Timeout", Kind::SessionTimeout, limits.absolute),
        ("Idle-Timeout", Kind::IdleTimeout, limits.idle.min(limits.absolute)),
        ("Acct-Interim-Interval", Kind::AcctInterimInterval, client.interim),
    ] {
        let seconds = u32::try_from(of.num_seconds().max(1)).unwrap_or(u32::MAX);
        said.add(name, seconds.to_string(), vec![Attribute::number(kind, seconds)]);
    }
    // What the client says again with everything that it tells of the session.
    said.add("Class", session.to_string(), vec![Attribute::octets(Kind::Class, *session.as_bytes())]);
    said
}

/// What keeps somebody out: words for the person, and a clean end for whoever asked by EAP (RFC 3579 section 2.6).
pub fn reject(words: &str, eap: Option<u8>) -> Vec<Attribute> {
    vec![match eap {
        // No words go along with EAP-Message (RFC 3579 section 2.6.5).
        Some(id) => Attribute::octets(Kind::EapMessage, [4, id, 0, 4]),
        None => words_for(words),
    }]
}

/// Words for the person.
pub fn words_for(words: &str) -> Attribute {
    Attribute::octets(Kind::ReplyMessage, cut(words).as_bytes())
}

/// An attribute as it travels; none where its value cannot be.
fn written(of: &RadiusAttribute, text: &str) -> Option<Vec<Attribute>> {
    if of.value == RadiusValue::Vlan {
        return Some(Attribute::vlan(text).to_vec());
    }
    let octets = match of.value {
        RadiusValue::Text | RadiusValue::Vlan | RadiusValue::Filter => text.as_bytes().to_vec(),
        RadiusValue::Number => text.parse::<u32>().ok()?.to_be_bytes().to_vec(),
        RadiusValue::Address => text.parse::<std::net::Ipv4Addr>().ok()?.octets().to_vec(),
        RadiusValue::Address6 => text.parse::<std::net::Ipv6Addr>().ok()?.octets().to_vec(),
    };
    Some(vec![match of.place {
        RadiusPlace::Own(kind) => Attribute { kind, value: octets },
        RadiusPlace::Vendor(vendor, kind) => Attribute::vendor(vendor, kind, &octets)?,
    }])
}

fn cut(text: &str) -> &str {
    text.get(..text.floor_char_boundary(TEXT_MAX)).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn attributes_travel_as_their_kind_is_written() {
        let of = |name: &str| RadiusAttribute::standard(name).unwrap();
        let values = |of: &RadiusAttribute, text: &str| {
            written(of, text).map(|all| all.into_iter().map(|a| (a.kind, a.value)).collect::<Vec<_>>())
        };
        assert_eq!(values(&of("Filter-Id"), "quays"), Some(vec![(11, b"quays".to_vec())]));
        assert_eq!(values(&of("Framed-IP-Address"), "10.0.0.7"), Some(vec![(8, vec![10, 0, 0, 7])]));
        assert_eq!(values(&of("Framed-IP-Address"), "quays"), None);
        let vlan = values(&of("VLAN"), "crews").unwrap();
        assert_eq!(vlan.iter().map(|(k, _)| *k).collect::<Vec<_>>(), [64, 65, 81]);
        let vendors = RadiusAttribute { place: RadiusPlace::Vendor(32_473, 7), value: RadiusValue::Number, ..of("Filter-Id") };
        assert_eq!(values(&vendors, "5"), Some(vec![(26, vec![0, 0, 126, 217, 7, 6, 0, 0, 0, 5])]));
    }

    #[test]
    fn words_are_cut_between_characters_and_none_stand_beside_eap() {
        let said = reject(&"é".repeat(200), None);
        assert_eq!(said[0].value.len(), 252);
        let said = reject("no", Some(9));
        assert_eq!((said.len(), said[0].value.as_slice()), (1, &[4u8, 9, 0, 4][..]));
    }
}
