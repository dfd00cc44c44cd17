//! What proves a packet between two that share a secret, and what hides a password on its way.

use aws_lc_rs::constant_time::verify_slices_are_equal;
use hmac::{Hmac, KeyInit, Mac};
use md5::{Digest, Md5};
use thiserror::Error;

use super::attribute::{Attribute, Kind};
use super::packet::{Code, LENGTH_MIN, Packet};

/// The longest password that can be sent (RFC 2865 section 5.2).
const PASSWORD_MAX: usize = 128;
/// A Message-Authenticator before it is made.
const EMPTY: [u8; 16] = [0; 16];

/// What a gateway and this service share, by which packets are proven.
#[derive(Clone)]
pub struct Secret(Shared);

#[derive(Clone)]
enum Shared {
    Octets(Vec<u8>),
    /// Nothing: the connection proves what it carries, and hides it (RFC 9765).
    Nothing,
}

/// The secret of RADIUS over TLS, which everybody knows: the connection proves and hides (RFC 6614 section 2.3).
const OF_TLS: &[u8] = b"radsec";
/// The longest password in a packet that hides nothing itself.
const PLAIN_MAX: usize = 253;

impl std::fmt::Debug for Secret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self.0 {
            Shared::Octets(_) => "Secret(…)",
            Shared::Nothing => "Secret(none)",
        })
    }
}

/// Why a packet is not proven. It is not answered.
#[derive(Clone, Copy, Debug, Error, PartialEq, Eq)]
pub enum Unproven {
    #[error("it has no Message-Authenticator: whoever is on the way may have changed it")]
    Missing,
    #[error("its Message-Authenticator is another: the secret differs, or it was changed on its way")]
    Wrong,
    #[error("it has more than one Message-Authenticator, or one of another length")]
    Odd,
    #[error("its authenticator is another: the secret differs, or it was changed on its way")]
    Authenticator,
}

/// How many octets a token has (RFC 9765 section 4.2.1).
const TOKEN: usize = 4;

/// What stands in an authenticator's place in RADIUS/1.1: the token, and nothing.
fn token_of(authenticator: &[u8; 16]) -> [u8; 16] {
    let mut out = EMPTY;
    out[..TOKEN].copy_from_slice(&authenticator[..TOKEN]);
    out
}

/// The fewest octets of a secret (RFC 2865 section 3), and the fewest different ones.
const SECRET_MIN: usize = 16;
const DIFFERENT_MIN: usize = 6;

fn md5(parts: &[&[u8]]) -> [u8; 16] {
    let mut digest = Md5::new();
    parts.iter().for_each(|p| digest.update(p));
    digest.finalize().into()
}

impl Secret {
    /// From the octets that both have.
    pub fn new(octets: impl Into<Vec<u8>>) -> Secret {
        Secret(Shared::Octets(octets.into()))
    }

    /// From octets that nobody finds out by trying; none of others (RFC 2865 section 3).
    pub fn strong(octets: &[u8]) -> Option<Secret> {
        let different: std::collections::HashSet<&u8> = octets.iter().collect();
        (octets.len() >= SECRET_MIN && different.len() >= DIFFERENT_MIN).then(|| Secret::new(octets))
    }

    /// Of RADIUS over TLS (RFC 6614 section 2.3): in its packets a proof is made as ever, and proves nothing.
    pub fn of_tls() -> Secret {
        Secret::new(OF_TLS)
    }

    /// Of RADIUS/1.1 (RFC 9765), whose packets have a token in the place of an identifier and an authenticator, and no proofs.
    pub fn none() -> Secret {
        Secret(Shared::Nothing)
    }

    fn octets(&self) -> &[u8] {
        match &self.0 {
            Shared::Octets(octets) => octets,
            Shared::Nothing => &[],
        }
    }

    fn is_none(&self) -> bool {
        matches!(self.0, Shared::Nothing)
    }

    fn hmac(&self, octets: &[u8]) -> [u8; 16] {
        match <Hmac<Md5> as KeyInit>::new_from_slice(self.octets()) {
            Ok(mut mac) => {
                mac.update(octets);
                mac.finalize().into_bytes().into()
            }
            // A key may have any length.
            Err(_) => EMPTY,
        }
    }

    /// The Message-Authenticator of a packet (RFC 2869 section 5.14), with the authenticator of the request that it answers or is.
    fn message_authenticator(&self, packet: &Packet, request: &[u8; 16]) -> Option<[u8; 16]> {
        let mut blank = Packet { authenticator: *request, ..packet.clone() };
        let own = blank.attributes.iter_mut().find(|a| a.kind == Kind::MessageAuthenticator.number())?;
        own.value = EMPTY.to_vec();
        Some(self.hmac(&blank.wire()?))
    }

    /// Whether a request has a Message-Authenticator that whoever has the secret made.
    ///
    /// # Errors
    /// It has none, or another.
    pub fn proves(&self, request: &Packet) -> Result<(), Unproven> {
        if self.is_none() {
            return Ok(());
        }
        let mut all = request.all(Kind::MessageAuthenticator);
        let said = all.next().ok_or(Unproven::Missing)?;
        if all.next().is_some() || said.len() != EMPTY.len() {
            return Err(Unproven::Odd);
        }
        let made = self.message_authenticator(request, &request.authenticator).ok_or(Unproven::Odd)?;
        verify_slices_are_equal(said, &made).map_err(|_| Unproven::Wrong)
    }

    /// Whether a request whose authenticator is made with the secret (accounting, RFC 2866 section 3; disconnect and change of
    /// authorisation, RFC 5176 section 2.3) was made by whoever has it.
    ///
    /// # Errors
    /// It was not.
    pub fn proves_digest(&self, request: &Packet) -> Result<(), Unproven> {
        if self.is_none() {
            return Ok(());
        }
        let made = self.digest(request, &EMPTY).ok_or(Unproven::Authenticator)?;
        verify_slices_are_equal(&request.authenticator, &made).map_err(|_| Unproven::Authenticator)
    }

    /// The authenticator of a packet, with the sixteen octets that stand in its place while it is made.
    fn digest(&self, packet: &Packet, instead: &[u8; 16]) -> Option<[u8; 16]> {
        let wire = Packet { authenticator: *instead, ..packet.clone() }.wire()?;
        Some(md5(&[&wire, self.octets()]))
    }

    /// A request of our own, as it travels (RFC 5176): its authenticator is made with the secret.
    pub fn request(&self, code: Code, id: u8, attributes: Vec<Attribute>) -> Option<Vec<u8>> {
        let mut packet = Packet { code, id, authenticator: EMPTY, attributes };
        if self.is_none() {
            // RFC 9765 section 4.2: the identifier is nothing, and the token stands first in the authenticator's place.
            (packet.id, packet.authenticator[TOKEN - 1]) = (0, id);
            return packet.wire();
        }
        packet.attributes.insert(0, Attribute::octets(Kind::MessageAuthenticator, EMPTY));
        packet.attributes[0].value = self.message_authenticator(&packet, &EMPTY)?.to_vec();
        packet.authenticator = self.digest(&packet, &EMPTY)?;
        packet.wire()
    }

    /// A request for access of our own, as it travels (RFC 2865 section 4.1): its authenticator is random, and a Message-Authenticator proves it.
    pub fn access_request(&self, id: u8, authenticator: [u8; 16], attributes: Vec<Attribute>) -> Option<Vec<u8>> {
        let mut packet = Packet { code: Code::AccessRequest, id, authenticator, attributes };
        packet.attributes.insert(0, Attribute::octets(Kind::MessageAuthenticator, EMPTY));
        packet.attributes[0].value = self.message_authenticator(&packet, &authenticator)?.to_vec();
        packet.wire()
    }

    /// An answer to a request, as it travels: a Message-Authenticator first, then what is said, and what proxies on the way left behind in their
    /// order (RFC 2865 section 5.33). An answer about accounting has none: whoever has the secret made its request, and nothing can be chosen in it.
    pub fn answer(&self, code: Code, request: &Packet, said: Vec<Attribute>) -> Option<Vec<u8>> {
        let proxies = request.attributes.iter().filter(|a| a.kind == Kind::ProxyState.number()).cloned();
        if self.is_none() {
            let attributes = said.into_iter().chain(proxies).collect();
            return Packet { code, id: 0, authenticator: token_of(&request.authenticator), attributes }.wire();
        }
        let first = (code != Code::AccountingResponse).then(|| Attribute::octets(Kind::MessageAuthenticator, EMPTY));
        let attributes = first.into_iter().chain(said).chain(proxies).collect();
        let mut packet = Packet { code, id: request.id, authenticator: request.authenticator, attributes };
        if let Some(made) = self.message_authenticator(&packet, &request.authenticator) {
            packet.attributes[0].value = made.to_vec();
        }
        packet.authenticator = self.digest(&packet, &request.authenticator)?;
        packet.wire()
    }

    /// Whether an answer is one to a request of ours, by whoever has the secret. A Message-Authenticator in it has to be right.
    ///
    /// # Errors
    /// It is not.
    pub fn proves_answer(&self, answer: &Packet, request: &[u8; 16]) -> Result<(), Unproven> {
        if self.is_none() {
            let is_its = token_of(&answer.authenticator) == token_of(request);
            return is_its.then_some(()).ok_or(Unproven::Authenticator);
        }
        let made = self.digest(answer, request).ok_or(Unproven::Authenticator)?;
        verify_slices_are_equal(&answer.authenticator, &made).map_err(|_| Unproven::Authenticator)?;
        let Some(said) = answer.first(Kind::MessageAuthenticator) else { return Ok(()) };
        let made = self.message_authenticator(answer, request).ok_or(Unproven::Odd)?;
        verify_slices_are_equal(said, &made).map_err(|_| Unproven::Wrong)
    }

    /// The password in a request (RFC 2865 section 5.2); none where it has none, or one that cannot be. With another secret it is other octets.
    pub fn password(&self, request: &Packet) -> Option<Vec<u8>> {
        let hidden = request.first(Kind::UserPassword)?;
        if self.is_none() {
            return (hidden.len() <= PLAIN_MAX).then(|| hidden.to_vec());
        }
        if hidden.is_empty() || hidden.len() > PASSWORD_MAX || !hidden.len().is_multiple_of(16) {
            return None;
        }
        let (mut out, mut before) = (vec![], request.authenticator.as_slice());
        for block in hidden.chunks(16) {
            out.extend(block.iter().zip(md5(&[self.octets(), before])).map(|(b, k)| b ^ k));
            before = block;
        }
        while out.last() == Some(&0) {
            out.pop();
        }
        Some(out)
    }

    /// A password as it is sent; none where it is too long.
    pub fn hide(&self, password: &[u8], authenticator: &[u8; 16]) -> Option<Vec<u8>> {
        if self.is_none() {
            return (password.len() <= PLAIN_MAX).then(|| password.to_vec());
        }
        if password.len() > PASSWORD_MAX {
            return None;
        }
        let mut padded = password.to_vec();
        padded.resize(password.len().max(1).next_multiple_of(16), 0);
        let mut out: Vec<u8> = vec![];
        for block in padded.chunks(16) {
            let before = if out.is_empty() { authenticator.as_slice() } else { &out[out.len() - 16..] };
            let key = md5(&[self.octets(), before]);
            out.extend(block.iter().zip(key).map(|(b, k)| b ^ k));
        }
        Some(out)
    }
}

const _: () = assert!(LENGTH_MIN == 4 + EMPTY.len());

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// RFC 2865 section 7.1: a user who is let in to a host.
    const REQUEST: &str =
        "0100003 80f403f9473978057bd83d5cb98f4227a01066e656d6f02120dbe708d93d413ce3196e43f782a0aee0406c0a80110050600000003";
    const ACCEPT: &str = "02000026 86fe220e7624ba2a1005f6bf9b55e0b20606000000010f06000000000e06c0a80103";

    fn octets(hex: &str) -> Vec<u8> {
        let hex: Vec<u8> = hex.bytes().filter(|b| *b != b' ').collect();
        hex.chunks(2).map(|p| u8::from_str_radix(std::str::from_utf8(p).unwrap(), 16).unwrap()).collect()
    }

    #[test]
    fn the_standards_own_example_is_read_and_proven() {
        let secret = Secret::new(*b"xyzzy5461");
        let request = Packet::read(&octets(REQUEST)).unwrap();
        assert_eq!((request.code, request.id, request.text(Kind::UserName)), (Code::AccessRequest, 0, Some("nemo")));
        assert_eq!(secret.password(&request).unwrap(), b"arctangent");
        assert_eq!(secret.hide(b"arctangent", &request.authenticator).unwrap(), request.first(Kind::UserPassword).unwrap());
        let accept = Packet::read(&octets(ACCEPT)).unwrap();
        secret.proves_answer(&accept, &request.authenticator).unwrap();
        assert_eq!(Secret::new(*b"xyzzy5462").proves_answer(&accept, &request.authenticator), Err(Unproven::Authenticator));
        assert_eq!(secret.proves(&request), Err(Unproven::Missing), "a request of that time proves nothing");
    }

    fn asking(secret: &Secret, attributes: Vec<Attribute>) -> Packet {
        let mut all = vec![Attribute::octets(Kind::MessageAuthenticator, EMPTY)];
        all.extend(attributes);
        let mut packet = Packet { code: Code::AccessRequest, id: 9, authenticator: [5; 16], attributes: all };
        packet.attributes[0].value = secret.message_authenticator(&packet, &[5; 16]).unwrap().to_vec();
        packet
    }

    #[test]
    fn short_and_dull_secrets_are_weak() {
        for (secret, strong) in [
            ("", false),
            ("testing123", false),
            ("fifteen-octets!", false),
            ("aaaaaaaaaaaaaaaaaaaaaaaa", false),
            ("abababababababababababab", false),
            ("a-long-one-of-many-octets", true),
            ("0f1e2d3c4b5a69788796a5b4", true),
        ] {
            assert_eq!(Secret::strong(secret.as_bytes()).is_some(), strong, "{secret}");
        }
    }

    #[test]
    fn a_request_of_ours_for_access_is_proven_and_hides_its_code() {
        let secret = Secret::new(*b"spring tide at noon");
        let hidden = secret.hide(b"111111", &[7; 16]).unwrap();
        let said = vec![Attribute::octets(Kind::UserName, *b"benoit"), Attribute::octets(Kind::UserPassword, hidden)];
        let wire = secret.access_request(7, [7; 16], said).unwrap();
        let request = Packet::read(&wire).unwrap();
        assert_eq!(request.attributes[0].kind, Kind::MessageAuthenticator.number());
        secret.proves(&request).unwrap();
        assert_eq!(secret.password(&request).unwrap(), b"111111");
        assert!(!wire.windows(6).any(|w| w == b"111111"));
        assert!(Secret::new(*b"neap tide at noon").proves(&request).is_err());
    }

    #[test]
    fn a_request_that_was_changed_or_made_by_others_is_not_proven() {
        let secret = Secret::new(*b"spring tide at noon");
        let request = asking(&secret, vec![Attribute::octets(Kind::UserName, *b"anouk")]);
        secret.proves(&request).unwrap();
        assert_eq!(Secret::new(*b"neap tide at noon").proves(&request), Err(Unproven::Wrong));
        let mut changed = request.clone();
        changed.attributes[1].value[0] ^= 1;
        assert_eq!(secret.proves(&changed), Err(Unproven::Wrong));
        let mut other = request.clone();
        other.authenticator[0] ^= 1;
        assert_eq!(secret.proves(&other), Err(Unproven::Wrong));
        let mut twice = request.clone();
        twice.attributes.push(twice.attributes[0].clone());
        assert_eq!(secret.proves(&twice), Err(Unproven::Odd));
        let mut short = request.clone();
        short.attributes[0].value.pop();
        assert_eq!(secret.proves(&short), Err(Unproven::Odd));
        let mut without = request;
        without.attributes.remove(0);
        assert_eq!(secret.proves(&without), Err(Unproven::Missing));
    }

    #[test]
    fn an_answer_proves_itself_first_and_hands_back_what_proxies_left_in_their_order() {
        let secret = Secret::new(*b"spring tide at noon");
        let proxies = [b"one".to_vec(), b"two".to_vec()].map(|v| Attribute::octets(Kind::ProxyState, v));
        let request = asking(&secret, proxies.to_vec());
        let said = vec![Attribute::octets(Kind::ReplyMessage, *b"Welcome")];
        let answer = Packet::read(&secret.answer(Code::AccessAccept, &request, said).unwrap()).unwrap();
        secret.proves_answer(&answer, &request.authenticator).unwrap();
        assert_eq!((answer.id, answer.attributes[0].kind), (9, Kind::MessageAuthenticator.number()));
        assert_eq!(answer.all(Kind::ProxyState).collect::<Vec<_>>(), [b"one", b"two"]);
        let mut forged = answer.clone();
        forged.code = Code::AccessReject;
        assert_eq!(secret.proves_answer(&forged, &request.authenticator), Err(Unproven::Authenticator));
        assert!(secret.proves_answer(&answer, &[6; 16]).is_err(), "an answer to another request");
    }

    #[test]
    fn our_own_requests_are_proven_both_ways() {
        let secret = Secret::new(*b"spring tide at noon");
        let wire =
            secret.request(Code::DisconnectRequest, 3, vec![Attribute::number(Kind::EventTimestamp, 1_800_000_000)]).unwrap();
        let packet = Packet::read(&wire).unwrap();
        secret.proves_digest(&packet).unwrap();
        assert_eq!(secret.message_authenticator(&packet, &EMPTY).unwrap(), packet.first(Kind::MessageAuthenticator).unwrap());
        assert_eq!(Secret::new(*b"another").proves_digest(&packet), Err(Unproven::Authenticator));
    }

    proptest! {
        #[test]
        fn a_password_comes_out_as_it_went_in(password in "[^\\x00]{0,40}", key in prop::collection::vec(any::<u8>(), 1..40), at in any::<[u8; 16]>()) {
            let secret = Secret::new(key);
            let hidden = secret.hide(password.as_bytes(), &at);
            prop_assume!(hidden.is_some());
            let attributes = vec![Attribute::octets(Kind::UserPassword, hidden.unwrap())];
            let packet = Packet { code: Code::AccessRequest, id: 0, authenticator: at, attributes };
            prop_assert_eq!(secret.password(&packet).unwrap(), password.as_bytes());
        }
    }

    #[test]
    fn without_a_secret_the_connection_proves_and_a_token_tells_answers_apart() {
        let none = Secret::none();
        let mut authenticator = [7; 16];
        let attributes =
            vec![Attribute::octets(Kind::UserPassword, "spring-tide"), Attribute::octets(Kind::ProxyState, "on the way")];
        let request = Packet { code: Code::AccessRequest, id: 9, authenticator, attributes };
        assert_eq!((none.proves(&request), none.proves_digest(&request)), (Ok(()), Ok(())));
        assert_eq!(none.password(&request).unwrap(), b"spring-tide");
        let answer = Packet::read(&none.answer(Code::AccessAccept, &request, vec![]).unwrap()).unwrap();
        // Neither an identifier nor a proof, and nothing behind the token (RFC 9765 section 4.2).
        assert_eq!((answer.id, &answer.authenticator[..4], &answer.authenticator[4..]), (0, &[7; 4][..], &[0; 12][..]));
        assert_eq!(answer.attributes, [Attribute::octets(Kind::ProxyState, "on the way")]);
        assert_eq!(none.proves_answer(&answer, &authenticator), Ok(()));
        authenticator[3] ^= 1;
        assert_eq!(none.proves_answer(&answer, &authenticator), Err(Unproven::Authenticator));
        let order = Packet::read(&none.request(Code::DisconnectRequest, 5, vec![]).unwrap()).unwrap();
        assert_eq!((order.id, order.authenticator[..4].to_vec(), order.attributes.len()), (0, vec![0, 0, 0, 5], 0));
        let long = Packet { attributes: vec![Attribute::octets(Kind::UserPassword, [b'x'; 254])], ..request };
        assert_eq!(none.password(&long), None);
    }

    #[test]
    fn the_secret_of_tls_is_the_standards_own() {
        let (tls, same) = (Secret::of_tls(), Secret::new(*b"radsec"));
        let request = asking(&same, vec![]);
        assert_eq!(tls.proves(&request), Ok(()));
    }
}
