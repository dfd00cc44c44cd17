//! Tickets that no KDC gave: made with a service's own key (RFC 4120, RFC 3961, RFC 3962), with whatever in them a test wants. An
//! honest client refuses to send some of what a service must know how to refuse.

use aes::Aes256;
use aes::cipher::{Array, BlockCipherEncrypt, KeyInit};
use chrono::{DateTime, Duration, Utc};
use hmac::{Hmac, Mac};
use sha1::Sha1;

/// `aes256-cts-hmac-sha1-96`.
const ENCTYPE: u8 = 18;

/// A ticket and its proof, as they are to be.
#[derive(Clone)]
pub struct Forged {
    /// Name and realm of the service.
    pub service: (Vec<String>, String),
    pub kvno: u8,
    pub key: [u8; 32],
    pub client: (String, String),
    /// Who the proof says it is.
    pub proof_of: String,
    pub flags: u32,
    pub starts: DateTime<Utc>,
    pub ends: DateTime<Utc>,
    /// When the proof was made.
    pub made: DateTime<Utc>,
    /// The key of client and service in the ticket, and the one that the proof is really made with.
    pub session: [u8; 32],
    pub proof_key: [u8; 32],
}

fn tlv(tag: u8, content: &[u8]) -> Vec<u8> {
    let length = match content.len() {
        n if n < 128 => vec![n as u8],
        n if n < 256 => vec![0x81, n as u8],
        n => vec![0x82, (n >> 8) as u8, n as u8],
    };
    [&[tag][..], &length, content].concat()
}

fn field(n: u8, content: &[u8]) -> Vec<u8> {
    tlv(0xa0 + n, content)
}

fn sequence(parts: &[Vec<u8>]) -> Vec<u8> {
    tlv(0x30, &parts.concat())
}

fn application(n: u8, content: &[u8]) -> Vec<u8> {
    tlv(0x60 + n, content)
}

fn integer(n: u32) -> Vec<u8> {
    let bytes = n.to_be_bytes();
    let from = bytes.iter().position(|b| *b != 0).unwrap_or(3);
    // One more byte where the first would read as a sign.
    let sign = if bytes[from] & 0x80 != 0 { vec![0] } else { vec![] };
    tlv(2, &[sign, bytes[from..].to_vec()].concat())
}

fn text(t: &str) -> Vec<u8> {
    tlv(0x1b, t.as_bytes())
}

fn bits(flags: u32) -> Vec<u8> {
    tlv(3, &[&[0][..], &flags.to_be_bytes()].concat())
}

fn time(t: DateTime<Utc>) -> Vec<u8> {
    tlv(0x18, t.format("%Y%m%d%H%M%SZ").to_string().as_bytes())
}

fn name(components: &[String]) -> Vec<u8> {
    let all: Vec<Vec<u8>> = components.iter().map(|c| text(c)).collect();
    sequence(&[field(0, &integer(if components.len() > 1 { 3 } else { 1 })), field(1, &sequence(&all))])
}

fn block(key: &[u8; 32], input: [u8; 16]) -> [u8; 16] {
    let mut out = Array::from(input);
    Aes256::new(&Array::from(*key)).encrypt_block(&mut out);
    out.into()
}

/// RFC 3961 5.1: bytes stretched or folded to sixteen.
fn fold(input: &[u8]) -> [u8; 16] {
    fn gcd(a: usize, b: usize) -> usize {
        if b == 0 { a } else { gcd(b, a % b) }
    }
    let (n, bits) = (16, input.len() * 8);
    let whole = input.len() * n / gcd(input.len(), n);
    let bit = |at: usize| input[(at % bits) / 8] >> (7 - (at % bits) % 8) & 1;
    // Each copy is turned right by thirteen bits more than the one before.
    let byte = |i: usize| {
        let (copy, within) = (i / input.len(), i % input.len());
        (0..8).fold(0u16, |all, b| {
            let at = (within * 8 + b + bits * 13 * copy).wrapping_sub(13 * copy) % bits;
            all << 1 | u16::from(bit(at))
        })
    };
    let mut out = [0u16; 16];
    for i in 0..whole {
        out[i % n] += byte(i);
    }
    // Added with the carry that comes round.
    loop {
        let mut carry = 0;
        for b in out.iter_mut().rev() {
            *b += carry;
            carry = *b >> 8;
            *b &= 0xff;
        }
        if carry == 0 {
            break;
        }
        out[15] += carry;
    }
    out.map(|b| b as u8)
}

/// RFC 3961 5.1: the key for one use.
fn derived(key: &[u8; 32], usage: u32, kind: u8) -> [u8; 32] {
    let constant = [&usage.to_be_bytes()[..], &[kind]].concat();
    let first = block(key, fold(&constant));
    let second = block(key, first);
    let mut out = [0; 32];
    out[..16].copy_from_slice(&first);
    out[16..].copy_from_slice(&second);
    out
}

/// RFC 3962 5, 6: with a confounder before and a digest after, the last two blocks changed about.
fn encrypted(key: &[u8; 32], usage: u32, data: &[u8]) -> Vec<u8> {
    let plain = [uuid::Uuid::new_v4().as_bytes(), data].concat();
    let ke = derived(key, usage, 0xaa);
    let mut blocks: Vec<[u8; 16]> = vec![];
    for chunk in plain.chunks(16) {
        let mut one = [0; 16];
        one[..chunk.len()].copy_from_slice(chunk);
        let before = blocks.last().copied().unwrap_or([0; 16]);
        one.iter_mut().zip(before).for_each(|(a, b)| *a ^= b);
        blocks.push(block(&ke, one));
    }
    let n = blocks.len();
    blocks.swap(n - 2, n - 1);
    let mut out = blocks.concat();
    out.truncate(plain.len());
    let mut mac = <Hmac<Sha1> as KeyInit>::new_from_slice(&derived(key, usage, 0x55)).unwrap();
    mac.update(&plain);
    out.extend_from_slice(&mac.finalize().into_bytes()[..12]);
    out
}

fn sealed(key: &[u8; 32], usage: u32, kvno: Option<u8>, data: &[u8]) -> Vec<u8> {
    let mut parts = vec![field(0, &integer(u32::from(ENCTYPE)))];
    parts.extend(kvno.map(|k| field(1, &integer(u32::from(k)))));
    parts.push(field(2, &tlv(4, &encrypted(key, usage, data))));
    sequence(&parts)
}

impl Forged {
    /// What the KDC itself could have given to somebody, with a service's key from its keytab.
    pub fn good(keytab: &std::path::Path, host: &str, client: &str) -> Forged {
        let bytes = std::fs::read(keytab).unwrap();
        let (kvno, key) = key_of(&bytes).unwrap_or_else(|| panic!("{} has no key to forge with", keytab.display()));
        let session: [u8; 32] = [*uuid::Uuid::new_v4().as_bytes(), *uuid::Uuid::new_v4().as_bytes()].concat().try_into().unwrap();
        let now = Utc::now();
        Forged {
            service: (vec!["HTTP".into(), host.into()], super::kerberos::REALM.into()),
            kvno,
            key,
            client: (client.into(), super::kerberos::REALM.into()),
            proof_of: client.into(),
            flags: 0x0000_0000,
            starts: now - Duration::minutes(1),
            ends: now + Duration::hours(1),
            made: now,
            session,
            proof_key: session,
        }
    }

    /// The token that shows it (RFC 4121 4.1).
    pub fn token(&self) -> Vec<u8> {
        let (client, realm) = &self.client;
        let inside = application(
            3,
            &sequence(&[
                field(0, &bits(self.flags)),
                field(1, &sequence(&[field(0, &integer(u32::from(ENCTYPE))), field(1, &tlv(4, &self.session))])),
                field(2, &text(realm)),
                field(3, &name(std::slice::from_ref(client))),
                field(4, &sequence(&[field(0, &integer(1)), field(1, &tlv(4, &[]))])),
                field(5, &time(self.starts)),
                field(6, &time(self.starts)),
                field(7, &time(self.ends)),
            ]),
        );
        let ticket = application(
            1,
            &sequence(&[
                field(0, &integer(5)),
                field(1, &text(&self.service.1)),
                field(2, &name(&self.service.0)),
                field(3, &sealed(&self.key, 2, Some(self.kvno), &inside)),
            ]),
        );
        // GSS-API's checksum: no channel bindings, mutual authentication.
        let checksum = [&16u32.to_le_bytes()[..], &[0; 16], &2u32.to_le_bytes()].concat();
        let proof = application(
            2,
            &sequence(&[
                field(0, &integer(5)),
                field(1, &text(realm)),
                field(2, &name(std::slice::from_ref(&self.proof_of))),
                field(3, &sequence(&[field(0, &integer(0x8003)), field(1, &tlv(4, &checksum))])),
                field(4, &integer(7)),
                field(5, &time(self.made)),
            ]),
        );
        let request = application(
            14,
            &sequence(&[
                field(0, &integer(5)),
                field(1, &integer(14)),
                field(2, &bits(0x2000_0000)),
                field(3, &ticket),
                field(4, &sealed(&self.proof_key, 11, None, &proof)),
            ]),
        );
        let kerberos = [0x06, 0x09, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x12, 0x01, 0x02, 0x02, 0x01, 0x00];
        tlv(0x60, &[&kerberos[..], &request].concat())
    }
}

/// The newest key of the kind that is forged with, from a keytab (file format 0502).
fn key_of(bytes: &[u8]) -> Option<(u8, [u8; 32])> {
    let mut rest = bytes.get(2..)?;
    let mut found = None;
    while rest.len() > 4 {
        let size = i32::from_be_bytes(rest[..4].try_into().ok()?);
        let record = rest.get(4..4 + size.unsigned_abs() as usize)?;
        rest = &rest[4 + size.unsigned_abs() as usize..];
        if size < 0 {
            continue;
        }
        let short = |at: usize| record.get(at..at + 2).map(|b| usize::from(u16::from_be_bytes([b[0], b[1]])));
        let mut at = 2;
        for _ in 0..=short(0)? {
            at += 2 + short(at)?;
        }
        let kvno = *record.get(at + 8)?;
        if short(at + 9)? == usize::from(ENCTYPE) {
            found = Some((kvno, record.get(at + 13..at + 45)?.try_into().ok()?));
        }
    }
    found
}

/// RFC 3961 A.1, RFC 3962 B: what is made here is what the standards make.
#[test]
fn keys_are_derived_as_the_standard_says() {
    assert_eq!(fold(b"kerberos"), *b"\x6b\x65\x72\x62\x65\x72\x6f\x73\x7b\x9b\x5b\x2b\x93\x13\x2b\x93");
}
