//! A gateway that speaks RADIUS, made by hand from octets: it shares no code with what it tests.

use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use md5::{Digest, Md5};
use tokio::net::UdpSocket;

/// A RADIUS client that a test moves.
pub struct Nas {
    socket: UdpSocket,
    to: SocketAddr,
    secret: Vec<u8>,
    next: std::sync::atomic::AtomicU8,
}

/// An answer that came, with its proofs looked at.
#[derive(Debug)]
pub struct Told {
    pub code: u8,
    pub attributes: Vec<(u8, Vec<u8>)>,
}

impl Told {
    /// The values of an attribute as text.
    pub fn texts(&self, kind: u8) -> Vec<String> {
        texts(&self.attributes, kind)
    }

    /// The first number of an attribute.
    pub fn number(&self, kind: u8) -> Option<u32> {
        let value = self.attributes.iter().find(|(k, _)| *k == kind)?.1.as_slice();
        Some(u32::from_be_bytes(value.try_into().ok()?))
    }
}

fn md5(parts: &[&[u8]]) -> [u8; 16] {
    let mut digest = Md5::new();
    parts.iter().for_each(|p| digest.update(p));
    digest.finalize().into()
}

/// HMAC-MD5 (RFC 2104) by hand.
fn hmac_md5(key: &[u8], text: &[u8]) -> [u8; 16] {
    let mut block = [0u8; 64];
    let key = if key.len() > 64 { md5(&[key]).to_vec() } else { key.to_vec() };
    block[..key.len()].copy_from_slice(&key);
    let inner: Vec<u8> = block.iter().map(|b| b ^ 0x36).collect();
    let outer: Vec<u8> = block.iter().map(|b| b ^ 0x5c).collect();
    md5(&[&outer, &md5(&[&inner, text])])
}

impl Nas {
    /// A client at an address of loopback.
    pub async fn at(address: &str, to: SocketAddr, secret: &str) -> Nas {
        let socket = UdpSocket::bind((address.parse::<IpAddr>().unwrap(), 0)).await.unwrap();
        Nas { socket, to, secret: secret.as_bytes().to_vec(), next: 1.into() }
    }

    /// A request for access, as octets, with a right Message-Authenticator at its end.
    pub fn request(&self, attributes: &[(u8, &[u8])]) -> Vec<u8> {
        let mut authenticator = [0; 16];
        aws_lc_rs::rand::fill(&mut authenticator).unwrap();
        let id = self.next.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
        self.packet(1, id, authenticator, attributes, true)
    }

    /// A packet; `proven` says whether it has a Message-Authenticator. A User-Password is hidden (RFC 2865 section 5.2).
    pub fn packet(&self, code: u8, id: u8, authenticator: [u8; 16], attributes: &[(u8, &[u8])], proven: bool) -> Vec<u8> {
        let mut out = vec![code, id, 0, 0];
        out.extend(authenticator);
        for (kind, value) in attributes {
            let value = if *kind == 2 { self.hidden(value, &authenticator) } else { value.to_vec() };
            out.extend([*kind, u8::try_from(value.len() + 2).unwrap()]);
            out.extend(value);
        }
        let at = out.len() + 2;
        if proven {
            out.extend([80, 18]);
            out.extend([0; 16]);
        }
        let length = u16::try_from(out.len()).unwrap().to_be_bytes();
        out[2..4].copy_from_slice(&length);
        if proven {
            let made = hmac_md5(&self.secret, &out);
            out[at..].copy_from_slice(&made);
        }
        out
    }

    /// A request about accounting, whose authenticator is made with the secret (RFC 2866 section 3).
    pub fn accounting(&self, attributes: &[(u8, &[u8])]) -> Vec<u8> {
        let id = self.next.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
        let mut out = self.packet(4, id, [0; 16], attributes, false);
        let made = md5(&[&out, &self.secret]);
        out[4..20].copy_from_slice(&made);
        out
    }

    /// Tells something, and is answered that it is written.
    pub async fn tells(&self, attributes: &[(u8, &[u8])]) {
        let request = self.accounting(attributes);
        self.send(&request).await;
        let octets = self.heard(Duration::from_secs(15)).await.expect("it is written");
        let made = md5(&[&octets[..4], &request[4..20], &octets[20..], &self.secret]);
        assert_eq!((octets[0], octets[1], &octets[4..20]), (5, request[1], &made[..]), "the answer is proven");
    }

    fn hidden(&self, password: &[u8], authenticator: &[u8; 16]) -> Vec<u8> {
        let mut padded = password.to_vec();
        padded.resize(password.len().max(1).div_ceil(16) * 16, 0);
        let (mut out, mut last) = (vec![], authenticator.to_vec());
        for block in padded.chunks(16) {
            let mask = md5(&[&self.secret, &last]);
            last = block.iter().zip(mask).map(|(p, m)| p ^ m).collect();
            out.extend(&last);
        }
        out
    }

    pub async fn send(&self, octets: &[u8]) {
        self.socket.send_to(octets, self.to).await.unwrap();
    }

    /// The next answer, as octets; none where none comes in time.
    pub async fn heard(&self, within: Duration) -> Option<Vec<u8>> {
        let mut octets = [0; 4_096];
        let (length, from) = tokio::time::timeout(within, self.socket.recv_from(&mut octets)).await.ok()?.unwrap();
        assert_eq!(from, self.to);
        Some(octets[..length].to_vec())
    }

    /// Sends a request and reads the answer, whose proofs are right.
    pub async fn asks(&self, request: &[u8]) -> Told {
        self.send(request).await;
        let octets = self.heard(Duration::from_secs(15)).await.expect("it is answered");
        self.reads(request, &octets)
    }

    /// Reads an answer to a request. The Message-Authenticator is its first attribute.
    pub fn reads(&self, request: &[u8], octets: &[u8]) -> Told {
        assert_eq!(octets[1], request[1], "the number is the request's");
        assert_eq!(usize::from(u16::from_be_bytes([octets[2], octets[3]])), octets.len());
        let made = md5(&[&octets[..4], &request[4..20], &octets[20..], &self.secret]);
        assert_eq!(octets[4..20], made, "the authenticator is right");
        assert_eq!(octets[20..22], [80, 18], "the Message-Authenticator comes first");
        let mut blank = octets.to_vec();
        blank[4..20].copy_from_slice(&request[4..20]);
        blank[22..38].fill(0);
        assert_eq!(octets[22..38], hmac_md5(&self.secret, &blank), "and is right");
        Told { code: octets[0], attributes: attributes(octets) }
    }
}

/// Where a gateway takes orders (RFC 5176).
pub struct Ordered {
    socket: UdpSocket,
    secret: Vec<u8>,
}

/// An order that came, whose proofs are right.
#[derive(Debug)]
pub struct Order {
    pub code: u8,
    pub attributes: Vec<(u8, Vec<u8>)>,
    octets: Vec<u8>,
    from: SocketAddr,
}

impl Order {
    /// The values of an attribute as text.
    pub fn texts(&self, kind: u8) -> Vec<String> {
        texts(&self.attributes, kind)
    }
}

impl Ordered {
    /// At an address of loopback, at any port.
    pub async fn at(address: &str, secret: &str) -> Ordered {
        let socket = UdpSocket::bind((address.parse::<IpAddr>().unwrap(), 0)).await.unwrap();
        Ordered { socket, secret: secret.as_bytes().to_vec() }
    }

    pub fn port(&self) -> u16 {
        self.socket.local_addr().unwrap().port()
    }

    /// The next order; none where none comes in time.
    pub async fn heard(&self, within: Duration) -> Option<Order> {
        let mut octets = [0; 4_096];
        let (length, from) = tokio::time::timeout(within, self.socket.recv_from(&mut octets)).await.ok()?.unwrap();
        let octets = octets[..length].to_vec();
        let mut blank = octets.clone();
        blank[4..20].fill(0);
        assert_eq!(octets[4..20], md5(&[&blank, &self.secret]), "its authenticator is made with the secret");
        assert_eq!(octets[20..22], [80, 18], "the Message-Authenticator comes first");
        blank[22..38].fill(0);
        assert_eq!(octets[22..38], hmac_md5(&self.secret, &blank), "and is right");
        Some(Order { code: octets[0], attributes: attributes(&octets), octets, from })
    }

    /// The next order, which comes.
    pub async fn next(&self) -> Order {
        self.heard(Duration::from_secs(10)).await.expect("an order comes")
    }

    /// Answers an order.
    pub async fn answers(&self, order: &Order, code: u8, said: &[(u8, &[u8])]) {
        let mut out = vec![code, order.octets[1], 0, 0];
        out.extend(&order.octets[4..20]);
        for (kind, value) in said {
            out.extend([*kind, u8::try_from(value.len() + 2).unwrap()]);
            out.extend(*value);
        }
        let length = u16::try_from(out.len()).unwrap().to_be_bytes();
        out[2..4].copy_from_slice(&length);
        let made = md5(&[&out, &self.secret]);
        out[4..20].copy_from_slice(&made);
        self.socket.send_to(&out, order.from).await.unwrap();
    }
}

fn texts(attributes: &[(u8, Vec<u8>)], kind: u8) -> Vec<String> {
    attributes.iter().filter(|(k, _)| *k == kind).map(|(_, v)| String::from_utf8_lossy(v).into_owned()).collect()
}

fn attributes(octets: &[u8]) -> Vec<(u8, Vec<u8>)> {
    let (mut out, mut at) = (vec![], 20);
    while at < octets.len() {
        let length = usize::from(octets[at + 1]);
        out.push((octets[at], octets[at + 2..at + length].to_vec()));
        at += length;
    }
    out
}
