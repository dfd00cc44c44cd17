//! What an answer of a resolver says of where a name leads (RFC 1035 4.1, RFC 2181 10.1): only what was asked counts, and what it leads to by
//! CNAME. Anything else in an answer is somebody's word about somebody else's name.

use std::net::IpAddr;

use hickory_proto::op::{Message, MessageType, OpCode};
use hickory_proto::rr::{Name, RData, RecordType};

/// The longest chain of CNAMEs that is followed.
const CHAIN_MAX: usize = 16;

/// A question that may be passed on: one name, asked in the ordinary way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Question {
    pub id: u16,
    pub name: Name,
    pub kind: RecordType,
}

/// Where a name leads, and for how many seconds that may be remembered.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Leads {
    /// In lower case, without a dot at the end.
    pub name: String,
    pub to: Vec<(IpAddr, u32)>,
}

/// Reads a question; none where it is no single ordinary one.
pub fn question(octets: &[u8]) -> Option<Question> {
    let message = Message::from_vec(octets).ok()?;
    let [query] = message.queries() else { return None };
    let is_one = message.message_type() == MessageType::Query && message.op_code() == OpCode::Query;
    is_one.then(|| Question { id: message.id(), name: query.name().clone(), kind: query.query_type() })
}

/// Reads the answer to a question; none where it answers another one, or cannot be read.
pub fn answer(octets: &[u8], asked: &Question) -> Option<Leads> {
    let message = Message::from_vec(octets).ok()?;
    let [query] = message.queries() else { return None };
    let is_it = message.message_type() == MessageType::Response
        && message.id() == asked.id
        && query.name() == &asked.name
        && query.query_type() == asked.kind;
    if !is_it {
        return None;
    }
    let (mut at, mut ttl, mut to) = (asked.name.clone(), u32::MAX, vec![]);
    for _ in 0..CHAIN_MAX {
        let here = message.answers().iter().filter(|r| *r.name() == at);
        let mut next = None;
        for record in here {
            match record.data() {
                RData::A(a) => to.push((IpAddr::V4(a.0), record.ttl().min(ttl))),
                RData::AAAA(a) => to.push((IpAddr::V6(a.0), record.ttl().min(ttl))),
                RData::CNAME(c) => {
                    ttl = ttl.min(record.ttl());
                    next = Some(c.0.clone());
                }
                _ => {}
            }
        }
        match next {
            Some(name) if to.is_empty() => at = name,
            _ => break,
        }
    }
    Some(Leads { name: host(&asked.name), to })
}

/// A name as the site file writes it: in lower case, without a dot at the end.
pub fn host(name: &Name) -> String {
    name.to_ascii().trim_end_matches('.').to_ascii_lowercase()
}

/// The question of a message as it was sent: name, type and class.
fn question_octets(octets: &[u8]) -> Option<&[u8]> {
    let mut at = 12;
    loop {
        match *octets.get(at)? {
            0 => return octets.get(12..at + 5),
            // A pointer, which no question that was just read has.
            64.. => return None,
            length => at += 1 + usize::from(length),
        }
    }
}

/// Whether octets answer a question that was sent, as far as that can be told without reading the rest: a record that is odd is for whoever
/// asked to read, and opens nothing.
pub fn echoes(octets: &[u8], sent: &[u8]) -> bool {
    let Some(question) = question_octets(sent) else { return false };
    let (name, kind) = question.split_at(question.len() - 4);
    let told = octets.get(12..12 + question.len()).map(|q| q.split_at(name.len()));
    octets.len() >= 12
        && octets[..2] == sent[..2]
        && octets[2] & 0x80 != 0
        && octets[4..6] == [0, 1]
        && told.is_some_and(|(n, k)| n.eq_ignore_ascii_case(name) && k == kind)
}

/// The same octets under another number.
pub fn numbered(mut octets: Vec<u8>, id: u16) -> Vec<u8> {
    if let Some(head) = octets.get_mut(..2) {
        head.copy_from_slice(&id.to_be_bytes());
    }
    octets
}

#[cfg(test)]
mod tests {
    use super::*;
    use hickory_proto::op::Query;
    use hickory_proto::rr::Record;
    use hickory_proto::rr::rdata::{A, AAAA, CNAME};
    use std::str::FromStr;

    fn name(text: &str) -> Name {
        Name::from_str(text).unwrap()
    }

    fn asked(text: &str) -> Question {
        Question { id: 7, name: name(text), kind: RecordType::A }
    }

    fn said(of: &str, id: u16, records: &[(&str, u32, RData)]) -> Vec<u8> {
        let mut message = Message::new();
        message.set_id(id).set_message_type(MessageType::Response);
        message.add_query(Query::query(name(of), RecordType::A));
        for (owner, ttl, data) in records {
            message.add_answer(Record::from_rdata(name(owner), *ttl, data.clone()));
        }
        message.to_vec().unwrap()
    }

    fn a(text: &str) -> RData {
        RData::A(A(text.parse().unwrap()))
    }

    #[test]
    fn a_name_leads_where_its_chain_ends_and_nowhere_else() {
        let cname = |to: &str| RData::CNAME(CNAME(name(to)));
        let octets = said(
            "A.Cranes.Example.",
            7,
            &[
                ("a.cranes.example.", 300, cname("edge.cdn.example.")),
                ("edge.cdn.example.", 60, a("192.0.2.3")),
                ("edge.cdn.example.", 60, RData::AAAA(AAAA("2001:db8::3".parse().unwrap()))),
                // Nobody asked for these.
                ("b.cranes.example.", 60, a("10.0.0.1")),
                ("cranes.example.", 60, a("10.0.0.2")),
            ],
        );
        let leads = answer(&octets, &asked("a.cranes.example.")).unwrap();
        assert_eq!(leads.name, "a.cranes.example");
        let to: Vec<String> = leads.to.iter().map(|(a, ttl)| format!("{a} {ttl}")).collect();
        assert_eq!(to, ["192.0.2.3 60", "2001:db8::3 60"]);
    }

    #[test]
    fn answers_to_other_questions_and_rings_of_names_say_nothing() {
        let ring = |to: &str| RData::CNAME(CNAME(name(to)));
        let round = said("a.example.", 7, &[("a.example.", 9, ring("b.example.")), ("b.example.", 9, ring("a.example."))]);
        assert_eq!(answer(&round, &asked("a.example.")).unwrap().to, []);
        let other = said("a.example.", 7, &[("a.example.", 9, a("10.0.0.1"))]);
        assert!(answer(&other, &asked("b.example.")).is_none());
        assert!(answer(&said("a.example.", 8, &[]), &asked("a.example.")).is_none(), "another number");
        let mut sent = Message::new();
        sent.set_id(7).add_query(Query::query(name("a.example."), RecordType::A));
        let sent = sent.to_vec().unwrap();
        assert!(answer(&sent, &asked("a.example.")).is_none(), "a question is no answer");
        assert_eq!(question(&sent), Some(asked("a.example.")));
        assert_eq!(question(&numbered(sent.clone(), 9)).unwrap().id, 9);
    }

    #[test]
    fn an_odd_record_goes_to_whoever_asked_and_opens_nothing() {
        let mut sent = Message::new();
        sent.set_id(7).add_query(Query::query(name("a.example."), RecordType::A));
        let sent = sent.to_vec().unwrap();
        let mut odd = said("A.Example.", 7, &[("a.example.", 9, a("10.0.0.1"))]);
        // Three octets in the place of an address of four.
        let end = odd.len();
        odd[end - 5] = 3;
        odd.pop();
        assert!(answer(&odd, &asked("a.example.")).is_none() && echoes(&odd, &sent));
        for no in [
            said("b.example.", 7, &[]),
            said("a.example.", 8, &[]),
            sent.clone(),
            vec![],
            odd[..20].to_vec(),
            [&[0, 7, 0x80, 0, 0, 2], &odd[6..]].concat(),
        ] {
            assert!(!echoes(&no, &sent), "{no:?}");
        }
        let mut other_type = odd.clone();
        other_type[22 + 1] = 28;
        assert!(!echoes(&other_type, &sent));
        assert!(!echoes(&odd, &[0; 12]) && !echoes(&odd, &[0xc0; 40]));
    }

    #[test]
    fn whatever_comes_in_is_read_or_left() {
        for octets in [vec![], vec![0; 11], vec![0xff; 512], vec![0; 12]] {
            assert!(question(&octets).is_none(), "{octets:?}");
            assert!(answer(&octets, &asked("a.example.")).is_none());
        }
        let whole = said("a.example.", 7, &[("a.example.", 9, a("10.0.0.1"))]);
        for end in 0..whole.len() {
            assert!(answer(&whole[..end], &asked("a.example.")).is_none(), "{end}");
        }
        // A name that points at itself.
        let mut round = whole.clone();
        round[12..14].copy_from_slice(&[0xc0, 0x0c]);
        assert!(answer(&round, &asked("a.example.")).is_none());
    }
}
