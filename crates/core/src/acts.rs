//! The record of what engineers do: a chain, each link authenticated under the key ring with the one before it.
//!
//! A link covers what was done in the open and, of the personal data (who did it, whom it concerned), a digest alone, keyed
//! so that nobody can guess it back: names can be erased later and the chain still holds. Whoever can write to the database
//! but has no key can alter, drop or cut nothing unseen, except cut the end together with the head; that shows against the
//! count and head which each node writes to its log.

use std::collections::BTreeSet;

use chrono::SubsecRound;
use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::Moment;
use crate::evidence::sorted;
use crate::id::same_secret;
use crate::seal::Ring;

/// Labels of the keys the chain uses.
const LINK: &str = "passeur acts 1";
const PERSONAL: &str = "passeur acts personal 1";

/// The head before the first act.
pub const BEGINNING: [u8; 32] = [0; 32];

/// What an engineer did, before it is linked.
#[derive(Clone, Debug, PartialEq)]
pub struct Act {
    pub at: Moment,
    /// A stable code, such as `publish`.
    pub what: String,
    /// What it was done to; nothing personal.
    pub about: Value,
    /// Who did it, and whom it concerned.
    pub personal: Personal,
}

/// The personal part of an act. It can be erased.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Personal {
    /// The engineer, or the part of the service that acted by itself.
    pub who: String,
    /// How they came in: `session`, `token`, `emergency` or `service`.
    pub by: String,
    /// People it concerned.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub people: Vec<String>,
}

/// An act in its place in the chain.
#[derive(Clone, Debug, PartialEq)]
pub struct Linked {
    /// From 1, without a gap.
    pub number: i64,
    pub at: Moment,
    pub what: String,
    pub about: Value,
    /// None once erased.
    pub personal: Option<Personal>,
    pub personal_digest: [u8; 32],
    /// The key of the ring that made the link.
    pub key: u16,
    pub mac: [u8; 32],
}

fn field(out: &mut Vec<u8>, bytes: &[u8]) {
    out.extend((bytes.len() as u64).to_be_bytes());
    out.extend(bytes);
}

fn json(value: &impl Serialize) -> Vec<u8> {
    serde_json::to_value(value).map(|v| serde_json::to_vec(&sorted(v)).unwrap_or_default()).unwrap_or_default()
}

fn personal_digest(ring: &Ring, key: u16, number: i64, personal: &Personal) -> Option<[u8; 32]> {
    let mut bytes = number.to_be_bytes().to_vec();
    field(&mut bytes, &json(personal));
    ring.mac_under(key, PERSONAL, &bytes)
}

impl Linked {
    fn digest(&self, ring: &Ring, before: &[u8; 32]) -> Option<[u8; 32]> {
        let mut bytes = before.to_vec();
        bytes.extend(self.number.to_be_bytes());
        bytes.extend(self.at.timestamp_micros().to_be_bytes());
        field(&mut bytes, self.what.as_bytes());
        field(&mut bytes, &json(&self.about));
        bytes.extend(self.personal_digest);
        ring.mac_under(self.key, LINK, &bytes)
    }
}

/// Links an act to the head of the chain. The moment is kept to the microsecond, as the store does.
pub fn link(ring: &Ring, number: i64, before: &[u8; 32], act: Act) -> Linked {
    let key = ring.newest();
    let mut out = Linked {
        number,
        at: act.at.trunc_subsecs(6),
        what: act.what,
        about: sorted(act.about),
        // The newest key is in the ring, so neither of these is ever missing.
        personal_digest: personal_digest(ring, key, number, &act.personal).unwrap_or_default(),
        personal: Some(act.personal),
        key,
        mac: BEGINNING,
    };
    out.mac = out.digest(ring, before).unwrap_or_default();
    out
}

/// The same act, linked under the newest key to the head before it, so that the key which linked it can go. Whoever calls it has walked
/// the chain first: what was altered must not be linked as if it were true.
pub fn relink(ring: &Ring, before: &[u8; 32], act: Linked) -> Linked {
    let key = ring.newest();
    // Of an erased part only the digest is left, and nothing is ever compared with it.
    let digest = match &act.personal {
        Some(p) => personal_digest(ring, key, act.number, p).unwrap_or_default(),
        None => act.personal_digest,
    };
    let mut out = Linked { personal_digest: digest, key, mac: BEGINNING, ..act };
    out.mac = out.digest(ring, before).unwrap_or_default();
    out
}

/// What is wrong with the chain, at the first place where it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Break {
    /// The number of the act.
    pub number: i64,
    pub why: Why,
}

/// Why the chain does not hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Why {
    /// The act is not there, and later ones are.
    Missing,
    /// What it says is not what was linked.
    Altered,
    /// Who did it, or whom it concerned, is not what was linked.
    PersonalAltered,
    /// Who did it is not there, and no later act says that it was erased.
    ErasedUnsaid,
    /// The key that linked it is not in the ring.
    KeyMissing,
    /// Acts up to the head were there and are not.
    TailCut,
    /// The head is not the last act's.
    HeadAltered,
    /// A head that was noted elsewhere is not that of the act of its number.
    NotedHeadDiffers,
}

impl Why {
    /// A stable code.
    pub fn code(self) -> &'static str {
        match self {
            Why::Missing => "missing",
            Why::Altered => "altered",
            Why::PersonalAltered => "personal-altered",
            Why::ErasedUnsaid => "erased-unsaid",
            Why::KeyMissing => "key-missing",
            Why::TailCut => "tail-cut",
            Why::HeadAltered => "head-altered",
            Why::NotedHeadDiffers => "noted-head-differs",
        }
    }

    /// In words, with what to do.
    pub fn words(self) -> &'static str {
        match self {
            Why::Missing => "the act is not there, and later ones are: it was deleted",
            Why::Altered => "what it says is not what was recorded: it was changed in the database",
            Why::PersonalAltered => "who did it, or whom it concerned, was changed in the database",
            Why::ErasedUnsaid => "who did it is not there, and no act says that it was erased: it was taken out in the database",
            Why::KeyMissing => "the key that linked it is not in the key ring; add that key and check again",
            Why::TailCut => "it and those after it were recorded and are not there: the end was cut",
            Why::HeadAltered => "the kept head is not that of the last act: one of the two was changed",
            Why::NotedHeadDiffers => "the head noted in the log is another: the record was written anew from here or before",
        }
    }
}

/// Walks a chain from its beginning, act by act.
#[derive(Clone, Debug)]
pub struct Walk {
    number: i64,
    head: [u8; 32],
    erased: BTreeSet<i64>,
    said: BTreeSet<i64>,
    noted: Option<(i64, [u8; 32])>,
}

/// What the act is called by which names are erased. It says of which acts.
pub const ERASE: &str = "erase names";

/// Numbers as an act of erasing names them: `3-7, 9`.
pub fn ranges(numbers: &[i64]) -> String {
    let mut sorted = numbers.to_vec();
    sorted.sort_unstable();
    let mut out: Vec<(i64, i64)> = vec![];
    for n in sorted {
        match out.last_mut() {
            Some((_, last)) if n <= *last + 1 => *last = n,
            _ => out.push((n, n)),
        }
    }
    let shown = out.iter().map(|(a, b)| if a == b { a.to_string() } else { format!("{a}-{b}") });
    shown.collect::<Vec<_>>().join(", ")
}

/// The numbers below `before` that an act of erasing names.
fn said_in(text: &str, before: i64) -> impl Iterator<Item = i64> {
    text.split(", ").flat_map(move |part| {
        let (from, to) = part.split_once('-').unwrap_or((part, part));
        match (from.parse::<i64>(), to.parse::<i64>()) {
            (Ok(from), Ok(to)) => from.max(1)..to.min(before - 1) + 1,
            _ => 0..0,
        }
    })
}

impl Walk {
    /// From the beginning; `noted` is a count and head from a log, to compare on the way.
    pub fn new(noted: Option<(i64, [u8; 32])>) -> Walk {
        Walk { number: 0, head: BEGINNING, erased: BTreeSet::new(), said: BTreeSet::new(), noted }
    }

    /// The next act in the order of numbers.
    pub fn step(&mut self, ring: &Ring, act: &Linked) -> Result<(), Break> {
        let broken = |number, why| Err(Break { number, why });
        if act.number != self.number + 1 {
            return broken(self.number + 1, Why::Missing);
        }
        let Some(mac) = act.digest(ring, &self.head) else { return broken(act.number, Why::KeyMissing) };
        if !same_secret(&mac, &act.mac) {
            return broken(act.number, Why::Altered);
        }
        match &act.personal {
            None => drop(self.erased.insert(act.number)),
            Some(p) => {
                let digest = personal_digest(ring, act.key, act.number, p);
                if !digest.is_some_and(|d| same_secret(&d, &act.personal_digest)) {
                    return broken(act.number, Why::PersonalAltered);
                }
            }
        }
        if act.what == ERASE {
            self.said.extend(said_in(act.about.get("acts").and_then(Value::as_str).unwrap_or_default(), act.number));
        }
        if self.noted.is_some_and(|(n, head)| n == act.number && !same_secret(&head, &act.mac)) {
            return broken(act.number, Why::NotedHeadDiffers);
        }
        self.number = act.number;
        self.head = act.mac;
        Ok(())
    }

    /// The number of the last act that was walked.
    pub fn number(&self) -> i64 {
        self.number
    }

    /// The end, against the head that is kept beside the acts. Returns how many acts there are, and of how many the names
    /// were erased.
    pub fn end(self, number: i64, head: &[u8; 32]) -> Result<(i64, i64), Break> {
        let noted = self.noted.map_or(0, |(n, _)| n);
        if self.number < number.max(noted) {
            return Err(Break { number: self.number + 1, why: Why::TailCut });
        }
        if self.number > number || !same_secret(head, &self.head) {
            return Err(Break { number: self.number, why: Why::HeadAltered });
        }
        if let Some(number) = self.erased.difference(&self.said).next() {
            return Err(Break { number: *number, why: Why::ErasedUnsaid });
        }
        Ok((self.number, self.erased.len() as i64))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn ring() -> Ring {
        Ring::parse(&Ring::line(1, [1; 32])).unwrap()
    }

    fn chain(ring: &Ring, n: i64) -> Vec<Linked> {
        let at = chrono::DateTime::from_timestamp(1_800_000_000, 0).unwrap();
        let mut head = BEGINNING;
        (1..=n)
            .map(|number| {
                let personal = Personal { who: "Lucie".into(), by: "session".into(), people: vec![] };
                let act = Act { at, what: "publish".into(), about: json!({"edition": number, "a": 1}), personal };
                let linked = link(ring, number, &head, act);
                head = linked.mac;
                linked
            })
            .collect()
    }

    fn check(ring: &Ring, acts: &[Linked], head: (i64, [u8; 32]), noted: Option<(i64, [u8; 32])>) -> Result<(i64, i64), Break> {
        let mut walk = Walk::new(noted);
        for a in acts {
            walk.step(ring, a)?;
        }
        walk.end(head.0, &head.1)
    }

    #[test]
    fn a_chain_that_is_linked_anew_holds_without_the_old_key() {
        let old = ring();
        let mut acts = chain(&old, 5);
        acts[1].personal = None;
        let both = Ring::parse(&format!("{}{}", Ring::line(1, [1; 32]), Ring::line(2, [2; 32]))).unwrap();
        let mut head = BEGINNING;
        let anew: Vec<Linked> = acts
            .into_iter()
            .map(|a| {
                let a = relink(&both, &head, a);
                head = a.mac;
                a
            })
            .collect();
        let newer = Ring::parse(&Ring::line(2, [2; 32])).unwrap();
        assert_eq!(check(&newer, &anew, (5, head), None), Err(Break { number: 2, why: Why::ErasedUnsaid }));
        let mut walk = Walk::new(None);
        assert!(anew.iter().all(|a| walk.step(&newer, a).is_ok()));
        assert_eq!(check(&old, &anew, (5, head), None), Err(Break { number: 1, why: Why::KeyMissing }));
    }

    #[test]
    fn only_what_a_later_act_says_counts_as_erased() {
        assert_eq!(ranges(&[9, 3, 4, 5, 7]), "3-5, 7, 9");
        let ring = ring();
        let mut acts = chain(&ring, 6);
        let erase = |acts: &[Linked], about: Value| {
            let last = &acts[acts.len() - 1];
            let act = Act { at: last.at, what: ERASE.into(), about, personal: Personal::default() };
            link(&ring, last.number + 1, &last.mac, act)
        };
        acts.push(erase(&acts, json!({"acts": ranges(&[2, 3, 5, 40])})));
        let head = (7, acts[6].mac);
        for (gone, want) in [
            (vec![2, 3, 5], Ok((7, 3))),
            (vec![3], Ok((7, 1))),
            (vec![4], Err(Break { number: 4, why: Why::ErasedUnsaid })),
            // The erasing itself cannot hide who erased.
            (vec![7], Err(Break { number: 7, why: Why::ErasedUnsaid })),
        ] {
            let mut changed = acts.clone();
            gone.iter().for_each(|n: &i64| changed[*n as usize - 1].personal = None);
            assert_eq!(check(&ring, &changed, head, None), want, "{gone:?}");
        }
        // What the act says cannot be widened: it is linked.
        acts[6].about = json!({"acts": "1-6"});
        assert_eq!(check(&ring, &acts, head, None), Err(Break { number: 7, why: Why::Altered }));
    }

    #[test]
    fn the_first_break_is_named_whatever_was_done() {
        let ring = ring();
        let acts = chain(&ring, 6);
        let head = (6, acts[5].mac);
        assert_eq!(check(&ring, &acts, head, None), Ok((6, 0)));
        assert_eq!(check(&ring, &acts, head, Some((4, acts[3].mac))), Ok((6, 0)));
        let with = |change: &dyn Fn(&mut Vec<Linked>)| {
            let mut a = acts.clone();
            change(&mut a);
            a
        };
        let b = |number, why| Err(Break { number, why });
        let personal = Personal { who: "Marc".into(), ..Personal::default() };
        for (what, changed, head, want) in [
            ("taken out in the database", with(&|a| a[2].personal = None), head, b(3, Why::ErasedUnsaid)),
            ("deleted", with(&|a| drop(a.remove(2))), head, b(3, Why::Missing)),
            ("altered", with(&|a| a[2].about = json!({"edition": 9})), head, b(3, Why::Altered)),
            ("another time", with(&|a| a[1].at += chrono::Duration::seconds(1)), head, b(2, Why::Altered)),
            ("another name", with(&|a| a[3].personal = Some(personal.clone())), head, b(4, Why::PersonalAltered)),
            ("swapped", with(&|a| a.swap(1, 2)), head, b(2, Why::Missing)),
            ("cut", with(&|a| a.truncate(4)), head, b(5, Why::TailCut)),
            ("all cut", vec![], head, b(1, Why::TailCut)),
            ("head put back", acts.clone(), (5, acts[4].mac), b(6, Why::HeadAltered)),
            ("another head", acts.clone(), (6, acts[4].mac), b(6, Why::HeadAltered)),
        ] {
            assert_eq!(check(&ring, &changed, head, None), want, "{what}");
        }
        // Cut with its head: only what was noted elsewhere tells.
        let cut = (4, acts[3].mac);
        assert_eq!(check(&ring, &acts[..4], cut, None), Ok((4, 0)));
        assert_eq!(check(&ring, &acts[..4], cut, Some((6, acts[5].mac))), b(5, Why::TailCut));
        assert_eq!(check(&ring, &acts, head, Some((3, acts[3].mac))), b(3, Why::NotedHeadDiffers));
        // Another ring with another key of the same number; and one without it.
        let other = Ring::parse(&Ring::line(1, [2; 32])).unwrap();
        assert_eq!(check(&other, &acts, head, None), b(1, Why::Altered));
        let newer = Ring::parse(&Ring::line(2, [2; 32])).unwrap();
        assert_eq!(check(&newer, &acts, head, None), b(1, Why::KeyMissing));
    }
}
