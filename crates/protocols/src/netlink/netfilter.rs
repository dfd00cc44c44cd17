//! Elements of nf_tables sets and maps, of the family `inet` (linux/netfilter/nf_tables.h): added, deleted and read. Several changes go as
//! one batch, which the kernel makes wholly or not at all; its answer names the change that it refused. Rules are not made here.

use super::{ACK, CREATE, DONE, DUMP, ERROR, Malformed, Message, REQUEST, Writer, attributes, error_of, messages};

/// The family `inet`.
const INET: u8 = 1;
/// The subsystem of nf_tables, in the upper octet of a message's kind.
const NF_TABLES: u16 = 10 << 8;
const BATCH_BEGIN: u16 = 0x10;
const BATCH_END: u16 = 0x11;
/// The netlink group that is told of each change of nf_tables (NFNLGRP_NFTABLES).
pub const CHANGES_GROUP: u32 = 7;

const NEW_TABLE: u16 = NF_TABLES;
const NEW_ELEMENT: u16 = NF_TABLES | 12;
const GET_ELEMENT: u16 = NF_TABLES | 13;
const DELETE_ELEMENT: u16 = NF_TABLES | 14;
const NEW_GENERATION: u16 = NF_TABLES | 15;
const GET_GENERATION: u16 = NF_TABLES | 16;
const NEW_OBJECT: u16 = NF_TABLES | 18;
const DELETE_OBJECT: u16 = NF_TABLES | 20;
/// NFT_OBJECT_QUOTA.
const QUOTA: u32 = 2;
/// NFT_QUOTA_F_INV: matches what is over.
const OVER: u32 = 1;
/// NFT_JUMP.
const JUMP: i32 = -3;
/// NFT_TABLE_F_OWNER and NFT_TABLE_F_PERSIST: only the socket that made it may change it, and it stays when that socket closes.
const OWNED: u32 = 0x2 | 0x4;

/// What a map leads an element to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Data<'a> {
    /// A value, in the kernel's order of octets.
    Value(&'a [u8]),
    /// The rules of a chain.
    Jump(&'a str),
    /// An object of the table.
    Object(&'a str),
}

/// One change of a table.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Change<'a> {
    /// A set has an element; it goes by itself after `timeout_ms`. With a key that is there: EEXIST where its data differs, and nothing
    /// changes otherwise.
    Add {
        set: &'a str,
        key: &'a [u8],
        data: Option<Data<'a>>,
        timeout_ms: Option<u64>,
    },
    /// It has it no more. Without one: ENOENT.
    Delete {
        set: &'a str,
        key: &'a [u8],
    },
    /// A quota that matches what is over so many octets; `used` of them are used already.
    AddQuota {
        name: &'a str,
        octets: u64,
        used: u64,
    },
    DeleteQuota {
        name: &'a str,
    },
}

/// Changes that are made wholly or not at all.
#[derive(Debug)]
pub struct Batch {
    writer: Writer,
    table: String,
    first: u32,
    next: u32,
}

impl Batch {
    /// A batch for a table; `sequence` is the number of its first message.
    pub fn new(table: &str, sequence: u32) -> Batch {
        let mut batch = Batch { writer: Writer::default(), table: table.to_owned(), first: sequence, next: sequence };
        batch.edge(BATCH_BEGIN);
        batch
    }

    fn edge(&mut self, kind: u16) {
        let sequence = self.take();
        // The subsystem stands in the resource id, in network order.
        self.writer.message(kind, REQUEST, sequence, |w| w.0.extend([0, 0, 0, (NF_TABLES >> 8) as u8]));
    }

    fn take(&mut self) -> u32 {
        let sequence = self.next;
        self.next = self.next.wrapping_add(1);
        sequence
    }

    /// One more change.
    pub fn push(&mut self, change: &Change<'_>) {
        let (kind, flags) = match change {
            Change::Add { .. } => (NEW_ELEMENT, REQUEST | ACK | CREATE),
            Change::Delete { .. } => (DELETE_ELEMENT, REQUEST | ACK),
            Change::AddQuota { .. } => (NEW_OBJECT, REQUEST | ACK | CREATE),
            Change::DeleteQuota { .. } => (DELETE_OBJECT, REQUEST | ACK),
        };
        let (sequence, table) = (self.take(), self.table.clone());
        self.writer.message(kind, flags, sequence, |w| {
            w.0.extend([INET, 0, 0, 0]);
            w.text(1, &table);
            match change {
                Change::Add { set, key, data, timeout_ms } => element(w, set, key, *data, *timeout_ms),
                Change::Delete { set, key } => element(w, set, key, None, None),
                Change::AddQuota { name, octets, used } => {
                    w.text(2, name);
                    w.attribute(3, &QUOTA.to_be_bytes());
                    w.nested(4, |w| {
                        w.attribute(1, &octets.to_be_bytes());
                        w.attribute(2, &OVER.to_be_bytes());
                        w.attribute(4, &used.to_be_bytes());
                    });
                }
                Change::DeleteQuota { name } => {
                    w.text(2, name);
                    w.attribute(3, &QUOTA.to_be_bytes());
                }
            }
        });
    }

    /// How many changes it holds.
    pub fn changes(&self) -> usize {
        self.next.wrapping_sub(self.first) as usize - 1
    }

    /// What is sent, and the number that the next batch may begin with.
    pub fn finish(mut self) -> (Vec<u8>, u32) {
        self.edge(BATCH_END);
        (self.writer.0, self.next)
    }
}

/// One element of a set (NFTA_SET_ELEM_LIST).
fn element(w: &mut Writer, set: &str, key: &[u8], data: Option<Data<'_>>, timeout_ms: Option<u64>) {
    w.text(2, set);
    w.nested(3, |w| {
        w.nested(1, |w| {
            w.nested(1, |w| w.attribute(1, key));
            match data {
                Some(Data::Value(value)) => w.nested(2, |w| w.attribute(1, value)),
                Some(Data::Jump(chain)) => w.nested(2, |w| {
                    w.nested(2, |w| {
                        w.attribute(1, &JUMP.to_be_bytes());
                        w.text(2, chain);
                    });
                }),
                Some(Data::Object(name)) => w.text(9, name),
                None => {}
            }
            if let Some(ms) = timeout_ms {
                w.attribute(4, &ms.to_be_bytes());
            }
        });
    });
}

/// Makes or takes a table that only the asking socket may change and that stays when the socket closes; kernels since 6.9 know it.
pub fn own_table(table: &str, sequence: u32) -> Vec<u8> {
    let mut batch = Batch::new(table, sequence);
    let number = batch.take();
    batch.writer.message(NEW_TABLE, REQUEST | ACK | CREATE, number, |w| {
        w.0.extend([INET, 0, 0, 0]);
        w.text(1, table);
        w.attribute(2, &OWNED.to_be_bytes());
    });
    batch.finish().0
}

/// Asks for every element of a set.
pub fn ask_elements(table: &str, set: &str, sequence: u32) -> Vec<u8> {
    let mut w = Writer::default();
    w.message(GET_ELEMENT, REQUEST | DUMP, sequence, |w| {
        w.0.extend([INET, 0, 0, 0]);
        w.text(1, table);
        w.text(2, set);
    });
    w.0
}

/// Asks in which generation nf_tables are.
pub fn ask_generation(sequence: u32) -> Vec<u8> {
    let mut w = Writer::default();
    w.message(GET_GENERATION, REQUEST, sequence, |w| w.0.extend([0; 4]));
    w.0
}

/// An element as the kernel holds it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Element {
    pub key: Vec<u8>,
    /// The value that a map leads it to; empty for a set, and for a map to rules or objects.
    pub data: Vec<u8>,
    /// The chain that a map to verdicts leads to, or the name of the object that a map to objects leads to; none otherwise.
    pub leads: Option<String>,
    /// Milliseconds until it goes by itself, where it does.
    pub expires_ms: Option<u64>,
    pub packets: u64,
    pub octets: u64,
}

/// What the kernel says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Answer {
    /// The message of this number worked.
    Done { sequence: u32 },
    /// It did not; `errno` says why.
    Refused { sequence: u32, errno: i32 },
    /// An element that was asked for.
    Element(Element),
    /// All elements were told.
    End { sequence: u32 },
    /// nf_tables are in this generation: each transaction of anybody makes the next.
    Generation(u32),
}

/// Reads what came from the socket. Kinds that nobody asked for are left out.
///
/// # Errors
/// It is cut short or says lengths that it does not have.
pub fn read(octets: &[u8]) -> Result<Vec<Answer>, Malformed> {
    let mut out = vec![];
    for message in messages(octets)? {
        match message.kind {
            ERROR => out.push(match error_of(&message)? {
                0 => Answer::Done { sequence: message.sequence },
                errno => Answer::Refused { sequence: message.sequence, errno },
            }),
            DONE => out.push(Answer::End { sequence: message.sequence }),
            NEW_ELEMENT => elements(&message, &mut out)?,
            NEW_GENERATION => out.push(Answer::Generation(generation(&message)?)),
            _ => {}
        }
    }
    Ok(out)
}

/// What follows the head that netfilter puts before attributes.
fn after_head<'a>(message: &Message<'a>) -> Result<&'a [u8], Malformed> {
    message.body.get(4..).ok_or(Malformed::Short(message.kind))
}

fn generation(message: &Message<'_>) -> Result<u32, Malformed> {
    let all = attributes(after_head(message)?)?;
    Ok(all.iter().find(|(kind, _)| *kind == 1).and_then(|(_, v)| <[u8; 4]>::try_from(*v).ok()).map_or(0, u32::from_be_bytes))
}

fn elements(message: &Message<'_>, out: &mut Vec<Answer>) -> Result<(), Malformed> {
    for (_, list) in attributes(after_head(message)?)?.into_iter().filter(|(kind, _)| *kind == 3) {
        for (_, one) in attributes(list)? {
            out.push(Answer::Element(one_element(one)?));
        }
    }
    Ok(())
}

fn one_element(octets: &[u8]) -> Result<Element, Malformed> {
    let mut element = Element::default();
    for (kind, value) in attributes(octets)? {
        match kind {
            1 => element.key = first_value(value)?,
            2 => {
                element.data = first_value(value)?;
                element.leads = chain(value)?;
            }
            9 => element.leads = text(value),
            5 => element.expires_ms = Some(number(value)),
            7 => counter(value, &mut element)?,
            11 => {
                for (_, expression) in attributes(value)? {
                    counter(expression, &mut element)?;
                }
            }
            _ => {}
        }
    }
    Ok(element)
}

/// The value inside (NFTA_DATA_VALUE); none for a verdict.
fn first_value(octets: &[u8]) -> Result<Vec<u8>, Malformed> {
    Ok(attributes(octets)?.into_iter().find(|(kind, _)| *kind == 1).map(|(_, v)| v.to_vec()).unwrap_or_default())
}

/// The chain of a verdict inside (NFTA_DATA_VERDICT, NFTA_VERDICT_CHAIN); none for a value.
fn chain(octets: &[u8]) -> Result<Option<String>, Malformed> {
    let Some((_, verdict)) = attributes(octets)?.into_iter().find(|(kind, _)| *kind == 2) else { return Ok(None) };
    Ok(attributes(verdict)?.into_iter().find(|(kind, _)| *kind == 2).and_then(|(_, v)| text(v)))
}

/// A name as the kernel writes it, with a zero at its end.
fn text(octets: &[u8]) -> Option<String> {
    let end = octets.iter().position(|b| *b == 0).unwrap_or(octets.len());
    std::str::from_utf8(&octets[..end]).ok().map(str::to_owned)
}

/// A counter among an element's expressions.
fn counter(octets: &[u8], element: &mut Element) -> Result<(), Malformed> {
    let all = attributes(octets)?;
    if !all.iter().any(|(kind, v)| *kind == 1 && v.starts_with(b"counter")) {
        return Ok(());
    }
    for (_, data) in all.into_iter().filter(|(kind, _)| *kind == 2) {
        for (kind, value) in attributes(data)? {
            match kind {
                1 => element.octets = number(value),
                2 => element.packets = number(value),
                _ => {}
            }
        }
    }
    Ok(())
}

/// A number in network order.
fn number(octets: &[u8]) -> u64 {
    <[u8; 8]>::try_from(octets).map_or(0, u64::from_be_bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// As the kernel answers: an element with a counter and a time, seen on the wire.
    fn answer_of_the_kernel() -> Vec<u8> {
        let mut w = Writer::default();
        w.message(NEW_ELEMENT, 2, 7, |w| {
            w.0.extend([INET, 0, 0, 0]);
            w.text(1, "t");
            w.text(2, "up");
            w.nested(3, |w| {
                w.nested(1, |w| {
                    w.nested(1, |w| w.attribute(1, &5u32.to_ne_bytes()));
                    w.attribute(5, &1_500u64.to_be_bytes());
                    w.nested(7, |w| {
                        w.text(1, "counter");
                        w.nested(2, |w| {
                            w.attribute(1, &1_234u64.to_be_bytes());
                            w.attribute(2, &9u64.to_be_bytes());
                        });
                    });
                });
            });
        });
        w.message(DONE, 2, 7, |w| w.0.extend([0; 4]));
        w.0
    }

    #[test]
    fn elements_are_read_with_what_they_counted() {
        let element = Element {
            key: 5u32.to_ne_bytes().to_vec(),
            expires_ms: Some(1_500),
            packets: 9,
            octets: 1_234,
            ..Element::default()
        };
        assert_eq!(read(&answer_of_the_kernel()), Ok(vec![Answer::Element(element), Answer::End { sequence: 7 }]));
    }

    #[test]
    fn an_error_names_the_message_that_was_refused() {
        let mut w = Writer::default();
        w.message(ERROR, 0, 12, |w| w.0.extend((-17i32).to_ne_bytes()));
        w.message(ERROR, 0, 13, |w| w.0.extend(0i32.to_ne_bytes()));
        let told = vec![Answer::Refused { sequence: 12, errno: 17 }, Answer::Done { sequence: 13 }];
        assert_eq!(read(&w.0), Ok(told));
    }

    #[test]
    fn a_batch_is_framed_and_counted() {
        let mut batch = Batch::new("passeur", 100);
        batch.push(&Change::Add { set: "way", key: &[1, 0, 0, 0], data: Some(Data::Jump("class-1")), timeout_ms: Some(9_000) });
        batch.push(&Change::Delete { set: "way", key: &[2, 0, 0, 0] });
        assert_eq!(batch.changes(), 2);
        let (sent, next) = batch.finish();
        assert_eq!(next, 104);
        let all = messages(&sent).unwrap();
        let kinds: Vec<_> = all.iter().map(|m| (m.kind, m.sequence)).collect();
        assert_eq!(kinds, [(BATCH_BEGIN, 100), (NEW_ELEMENT, 101), (DELETE_ELEMENT, 102), (BATCH_END, 103)]);
        // Each message holds what it says and nothing more.
        for message in &all[1..3] {
            let names: Vec<_> = attributes(&message.body[4..]).unwrap().into_iter().map(|(k, v)| (k, v.to_vec())).collect();
            assert_eq!(names[0], (1, b"passeur\0".to_vec()));
            assert_eq!(names[1], (2, b"way\0".to_vec()));
        }
    }

    #[test]
    fn what_is_cut_short_is_not_read() {
        let whole = answer_of_the_kernel();
        for end in 0..whole.len() {
            let got = read(&whole[..end]);
            assert!(got.is_err() || end == 0 || end == whole.len() - 20, "{end}: {got:?}");
        }
        let mut lies = whole.clone();
        lies[0..4].copy_from_slice(&u32::MAX.to_ne_bytes());
        assert!(matches!(read(&lies), Err(Malformed::Length { .. })));
    }

    proptest! {
        #[test]
        fn nothing_that_comes_makes_reading_panic(octets in proptest::collection::vec(any::<u8>(), 0..400)) {
            let _ = read(&octets);
        }

        #[test]
        fn nothing_inside_an_element_makes_reading_panic(at in 16usize..92, with in any::<u8>()) {
            let mut octets = answer_of_the_kernel();
            octets[at] = with;
            let _ = read(&octets);
        }
    }
}
