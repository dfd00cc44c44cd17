//! The bounded recorder's judgement: which anonymous attempts are recorded in full and which are only counted.
//!
//! The first per gate, reason and address a minute is recorded; the rest is counted onto it. The table itself is
//! bounded, so a flood from many addresses costs a fixed amount of memory and at most that many rows a minute.

use std::collections::HashMap;
use std::net::IpAddr;

use crate::Moment;
use crate::address::neighbourhood;
use crate::id::CrossingId;

/// What makes two anonymous attempts alike.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Alike {
    pub gate: String,
    pub reason: String,
    /// The client's address; for IPv6 its /64, since a client owns all of that.
    pub address: IpAddr,
}

impl Alike {
    /// For an attempt from `address`.
    pub fn new(gate: &str, reason: &str, address: IpAddr) -> Alike {
        Alike { gate: gate.to_owned(), reason: crate::text::shorten(reason, 200), address: neighbourhood(address) }
    }
}

/// What to do with an attempt.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// Record it in full.
    Record,
    /// It was counted onto this crossing.
    CountedOn(CrossingId),
    /// The table is full this minute: counted without a crossing.
    Overflow,
}

/// The table of one minute.
pub struct Recorder {
    minute: i64,
    capacity: usize,
    seen: HashMap<Alike, (CrossingId, u64)>,
    overflow: u64,
}

/// Counts to be added to crossings that were recorded.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Counts {
    pub more: Vec<(CrossingId, u64)>,
    /// Attempts that belong to no recorded crossing.
    pub overflow: u64,
}

impl Recorder {
    /// With room for `capacity` different attempts a minute.
    pub fn new(capacity: usize) -> Recorder {
        Recorder { minute: i64::MIN, capacity, seen: HashMap::new(), overflow: 0 }
    }

    /// Judges an attempt that would be crossing `id`. Counts of the minute before are handed out first, once.
    pub fn judge(&mut self, alike: Alike, id: CrossingId, now: Moment) -> (Verdict, Option<Counts>) {
        let minute = now.timestamp().div_euclid(60);
        let past = (minute > self.minute).then(|| self.turn(minute)).flatten();
        let full = self.seen.len() >= self.capacity;
        let verdict = match self.seen.get_mut(&alike) {
            Some((first, more)) => {
                *more += 1;
                Verdict::CountedOn(*first)
            }
            None if full => {
                self.overflow += 1;
                Verdict::Overflow
            }
            None => {
                self.seen.insert(alike, (id, 0));
                Verdict::Record
            }
        };
        (verdict, past)
    }

    /// The counts so far, handed out at the end of a minute or when the service stops.
    pub fn drain(&mut self) -> Option<Counts> {
        let more: Vec<_> = self.seen.values_mut().filter(|v| v.1 > 0).map(|v| (v.0, std::mem::take(&mut v.1))).collect();
        let overflow = std::mem::take(&mut self.overflow);
        (!more.is_empty() || overflow > 0).then_some(Counts { more, overflow })
    }

    fn turn(&mut self, minute: i64) -> Option<Counts> {
        let counts = self.drain();
        self.minute = minute;
        self.seen.clear();
        counts
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_a_minute_is_recorded_and_the_rest_counted_onto_it() {
        let t = chrono::DateTime::from_timestamp(1_795_000_020, 0).unwrap();
        let ip: IpAddr = "192.0.2.7".parse().unwrap();
        let id = |n| CrossingId::new(t, [0, 0, 0, 0, n]);
        let mut r = Recorder::new(2);
        assert_eq!(r.judge(Alike::new("a", "x", ip), id(1), t), (Verdict::Record, None));
        for n in 2..100 {
            assert_eq!(r.judge(Alike::new("a", "x", ip), id(n), t).0, Verdict::CountedOn(id(1)));
        }
        assert_eq!(r.judge(Alike::new("b", "x", ip), id(101), t).0, Verdict::Record);
        assert_eq!(r.judge(Alike::new("c", "x", ip), id(102), t).0, Verdict::Overflow);
        let (verdict, counts) = r.judge(Alike::new("a", "x", ip), id(103), t + chrono::Duration::minutes(1));
        assert_eq!(verdict, Verdict::Record);
        assert_eq!(counts, Some(Counts { more: vec![(id(1), 98)], overflow: 1 }));
        assert_eq!(r.drain(), None);
    }

    #[test]
    fn a_clock_stepped_back_records_no_more_than_its_minute() {
        let t = chrono::DateTime::from_timestamp(1_795_000_020, 0).unwrap();
        let ip: IpAddr = "2001:db8::1".parse().unwrap();
        let other: IpAddr = "2001:db8::ffff".parse().unwrap();
        let id = CrossingId::new(t, [1; 5]);
        let mut r = Recorder::new(10);
        assert_eq!(r.judge(Alike::new("a", "x", ip), id, t).0, Verdict::Record);
        let back = t - chrono::Duration::hours(1);
        assert_eq!(r.judge(Alike::new("a", "x", other), id, back).0, Verdict::CountedOn(id), "one /64 is one client");
    }
}
