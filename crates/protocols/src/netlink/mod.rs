//! Linux's netlink protocol, as far as a network gate needs it (netlink(7)): [`netfilter`] changes and reads elements of nf_tables sets,
//! [`neighbours`] reads which hardware address an address on a link belongs to, and [`addresses`] those of this machine. Messages are built and read here; whoever holds the socket
//! sends and receives them. Numbers are in the machine's own order of octets, except where netfilter says otherwise.

pub mod addresses;
pub mod neighbours;
pub mod netfilter;

use std::net::IpAddr;

use thiserror::Error;

/// The length of a message's own head.
const HEAD: usize = 16;

/// A message is a request.
const REQUEST: u16 = 0x1;
/// It is answered whether or not it worked.
const ACK: u16 = 0x4;
/// Everything of a kind is asked for.
const DUMP: u16 = 0x300;
/// What does not exist is made.
const CREATE: u16 = 0x400;

/// An error, or an acknowledgement where it holds 0.
const ERROR: u16 = 2;
/// The end of what was asked for.
const DONE: u16 = 3;

/// What came back cannot be read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub enum Malformed {
    #[error("a message says that it is {said} octets long, and {left} are left")]
    Length { said: usize, left: usize },
    #[error("an attribute says that it is {said} octets long, and {left} are left")]
    Attribute { said: usize, left: usize },
    #[error("a message of kind {0:#x} is shorter than its kind")]
    Short(u16),
}

/// What the kernel says to a question for everything of a kind, and by itself of what changes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Told<T> {
    One(T),
    /// All were told.
    End,
    /// It does not say; the system's error.
    Refused(i32),
}

/// Reads what came: `one` makes something of a message, or nothing of kinds that nobody asked for.
fn told<T>(octets: &[u8], one: impl Fn(&Message<'_>) -> Result<Option<T>, Malformed>) -> Result<Vec<Told<T>>, Malformed> {
    let mut out = vec![];
    for message in messages(octets)? {
        match message.kind {
            DONE => out.push(Told::End),
            ERROR => match error_of(&message)? {
                0 => {}
                errno => out.push(Told::Refused(errno)),
            },
            _ => out.extend(one(&message)?.map(Told::One)),
        }
    }
    Ok(out)
}

/// An address of either family, by its length.
pub fn address(octets: &[u8]) -> Option<IpAddr> {
    let v4 = <[u8; 4]>::try_from(octets).map(IpAddr::from);
    v4.or_else(|_| <[u8; 16]>::try_from(octets).map(IpAddr::from)).ok()
}

/// Writes messages one after the other.
#[derive(Debug, Default)]
struct Writer(Vec<u8>);

impl Writer {
    /// One message. `body` writes what follows its head.
    fn message(&mut self, kind: u16, flags: u16, sequence: u32, body: impl FnOnce(&mut Writer)) {
        let at = self.0.len();
        self.0.extend([0; 4]);
        self.0.extend(kind.to_ne_bytes());
        self.0.extend(flags.to_ne_bytes());
        self.0.extend(sequence.to_ne_bytes());
        self.0.extend([0; 4]);
        body(self);
        let length = (self.0.len() - at) as u32;
        self.0[at..at + 4].copy_from_slice(&length.to_ne_bytes());
    }

    /// One attribute, padded to four octets.
    fn attribute(&mut self, kind: u16, value: &[u8]) {
        self.0.extend(((4 + value.len()) as u16).to_ne_bytes());
        self.0.extend(kind.to_ne_bytes());
        self.0.extend(value);
        self.0.resize(self.0.len().next_multiple_of(4), 0);
    }

    /// A text with the zero that ends it.
    fn text(&mut self, kind: u16, value: &str) {
        self.attribute(kind, format!("{value}\0").as_bytes());
    }

    /// An attribute that holds attributes.
    fn nested(&mut self, kind: u16, inside: impl FnOnce(&mut Writer)) {
        let at = self.0.len();
        self.0.extend([0; 4]);
        inside(self);
        let length = (self.0.len() - at) as u16;
        self.0[at..at + 2].copy_from_slice(&length.to_ne_bytes());
        self.0[at + 2..at + 4].copy_from_slice(&(kind | 0x8000).to_ne_bytes());
    }
}

/// A message that came back.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Message<'a> {
    kind: u16,
    sequence: u32,
    body: &'a [u8],
}

/// Two octets at a place, which is known to be there.
fn u16_at(octets: &[u8], at: usize) -> u16 {
    u16::from_ne_bytes([octets[at], octets[at + 1]])
}

/// The same with four.
fn u32_at(octets: &[u8], at: usize) -> u32 {
    u32::from_ne_bytes([octets[at], octets[at + 1], octets[at + 2], octets[at + 3]])
}

/// Splits what was received into messages; nothing may be left.
fn messages(mut octets: &[u8]) -> Result<Vec<Message<'_>>, Malformed> {
    let mut out = vec![];
    while !octets.is_empty() {
        let left = octets.len();
        if left < HEAD {
            return Err(Malformed::Length { said: HEAD, left });
        }
        let said = u32_at(octets, 0) as usize;
        if said < HEAD || said > left {
            return Err(Malformed::Length { said, left });
        }
        out.push(Message { kind: u16_at(octets, 4), sequence: u32_at(octets, 8), body: &octets[HEAD..said] });
        octets = &octets[said.next_multiple_of(4).min(left)..];
    }
    Ok(out)
}

/// Splits attributes, with their kinds; nothing may be left.
fn attributes(mut octets: &[u8]) -> Result<Vec<(u16, &[u8])>, Malformed> {
    let mut out = vec![];
    while !octets.is_empty() {
        let left = octets.len();
        if left < 4 {
            return Err(Malformed::Attribute { said: 4, left });
        }
        let said = usize::from(u16_at(octets, 0));
        if said < 4 || said > left {
            return Err(Malformed::Attribute { said, left });
        }
        out.push((u16_at(octets, 2) & 0x3fff, &octets[4..said]));
        octets = &octets[said.next_multiple_of(4).min(left)..];
    }
    Ok(out)
}

/// What an error message says: 0 for an acknowledgement, and otherwise the system's error.
fn error_of(message: &Message<'_>) -> Result<i32, Malformed> {
    match message.body.len() < 4 {
        true => Err(Malformed::Short(message.kind)),
        false => Ok(i32::from_ne_bytes([message.body[0], message.body[1], message.body[2], message.body[3]]).wrapping_neg()),
    }
}
