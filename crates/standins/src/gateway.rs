//! The gateway of the quays as far as orders go (RFC 5176): it ends the session that it is ordered to end, and tells that it is over (RFC 2866).
//! It is made from octets and shares no code with what it stands beside.

use std::net::SocketAddr;

use hmac::{Hmac, KeyInit, Mac};
use md5::{Digest, Md5};
use tokio::net::UdpSocket;

const ACCOUNTING: u8 = 4;
const DISCONNECT: u8 = 40;
const COA: u8 = 43;
const USER: u8 = 1;
const STATUS: u8 = 40;
const NUMBER: u8 = 44;
const CAUSE: u8 = 49;
const PROOF: u8 = 80;

/// Takes orders at an address, and tells `server` what came of them.
///
/// # Errors
/// The address is taken.
pub async fn serve(listen: SocketAddr, server: SocketAddr, secret: Vec<u8>) -> std::io::Result<()> {
    let orders = UdpSocket::bind(listen).await?;
    let telling = UdpSocket::bind((listen.ip(), 0)).await?;
    let mut octets = [0; 4_096];
    let mut id = 0;
    loop {
        let (length, from) = orders.recv_from(&mut octets).await?;
        let order = octets.get(..length).unwrap_or_default();
        let Some(answer) = answer(order, &secret) else {
            println!("an order from {from} is not proven: nothing is done");
            continue;
        };
        orders.send_to(&answer, from).await?;
        let user = value(order, USER).map(String::from_utf8_lossy).unwrap_or_default();
        let number = value(order, NUMBER).unwrap_or_default();
        match order.first() {
            Some(&DISCONNECT) => {
                println!("the session {} of {user} is ended", String::from_utf8_lossy(number));
                id = u8::wrapping_add(id, 1);
                telling.send_to(&stop(id, user.as_bytes(), number, &secret), server).await?;
            }
            _ => println!("the session {} of {user} may do something else now", String::from_utf8_lossy(number)),
        }
    }
}

/// The answer to an order; none where it is not proven.
fn answer(order: &[u8], secret: &[u8]) -> Option<Vec<u8>> {
    let code = *order.first().filter(|c| matches!(**c, DISCONNECT | COA))?;
    let mut blank = order.to_vec();
    blank.get_mut(4..20)?.fill(0);
    if order.get(4..20)? != md5(&[&blank, secret]) {
        return None;
    }
    let at = place(order, PROOF)?;
    blank.get_mut(at..at + 16)?.fill(0);
    let mut mac = <Hmac<Md5> as KeyInit>::new_from_slice(secret).ok()?;
    mac.update(&blank);
    if order.get(at..at + 16)? != mac.finalize().into_bytes().as_slice() {
        return None;
    }
    // Yes: the next number (RFC 5176 section 2).
    let mut out = vec![code + 1, *order.get(1)?, 0, 20];
    out.extend(order.get(4..20)?);
    let made = md5(&[&out, secret]);
    out.get_mut(4..20)?.copy_from_slice(&made);
    Some(out)
}

/// What tells that a session is over, by order (Admin-Reset).
fn stop(id: u8, user: &[u8], number: &[u8], secret: &[u8]) -> Vec<u8> {
    let mut out = vec![ACCOUNTING, id, 0, 0];
    out.extend([0; 16]);
    for (kind, value) in [(USER, user), (NUMBER, number), (STATUS, &[0, 0, 0, 2]), (CAUSE, &[0, 0, 0, 6])] {
        let length = u8::try_from(value.len() + 2).ok().filter(|l| *l > 2);
        if let Some(length) = length {
            out.extend([kind, length]);
            out.extend(value);
        }
    }
    let length = u16::try_from(out.len()).unwrap_or_default().to_be_bytes();
    out[2..4].copy_from_slice(&length);
    let made = md5(&[&out, secret]);
    out[4..20].copy_from_slice(&made);
    out
}

fn md5(parts: &[&[u8]]) -> [u8; 16] {
    let mut digest = Md5::new();
    parts.iter().for_each(|p| digest.update(p));
    digest.finalize().into()
}

/// Where the value of an attribute stands.
fn place(packet: &[u8], kind: u8) -> Option<usize> {
    let mut at = 20;
    while packet.get(at).is_some_and(|k| *k != kind) {
        at += usize::from(*packet.get(at + 1)?).max(2);
    }
    packet.get(at).map(|_| at + 2)
}

fn value(packet: &[u8], kind: u8) -> Option<&[u8]> {
    let at = place(packet, kind)?;
    packet.get(at..at - 2 + usize::from(*packet.get(at - 1)?))
}
