//! Who is on at this node, in memory. The store keeps the same, and outlives the node.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::net::{IpAddr, Ipv4Addr};
use std::sync::Arc;
use std::time::{Duration, Instant};

use passeur_core::Moment;
use passeur_core::session::Lifetimes;
use passeur_core::site::HardwareAddress;
use passeur_engine::tunnel::TunnelOf;
use passeur_live::session::LiveSession;
use passeur_sluice::plan::Class;
use passeur_sluice::words::{Admission, Counted, Holder, MARK_END, MARK_FIRST};
use passeur_store::PresenceRow;
use uuid::Uuid;

use crate::first::FIRST;

/// A machine that is let through.
#[derive(Clone, Debug)]
pub struct Present {
    pub row: PresenceRow,
    /// The person's session; none for a machine without a person.
    pub session: Option<Arc<LiveSession>>,
    /// How it came, where it is at the far end of a tunnel.
    pub tunnel: Option<TunnelOf>,
    pub holder: Holder,
    pub class: Class,
    /// Lifetimes of the session here, as the last decision left them.
    pub limits: Lifetimes,
    /// The moment from which time alone may have changed the decision.
    pub good_until: Option<Moment>,
    /// How many octets may still pass, when the kernel was told last.
    pub left: Option<u64>,
    /// How long it may be silent.
    pub idle: chrono::Duration,
    /// When something passed last.
    pub moved: Moment,
    pub addresses: BTreeSet<IpAddr>,
    /// How many it had in all.
    pub had: usize,
    /// What the kernel had counted when it was asked last.
    counted: Counted,
}

/// How long an admission stays open in the kernel without being renewed.
pub const LEASE_MS: u64 = 60_000;

impl Present {
    /// One that was let through just now.
    pub fn new(row: PresenceRow, holder: Holder, class: Class) -> Present {
        let addresses = row.address.parse().ok().into_iter().collect();
        let counted = Counted { mark: row.mark as u32, up: 0, down: 0 };
        let (moved, tunnel) = (row.began, tunnel_of(&row));
        Present {
            row,
            session: None,
            tunnel,
            holder,
            class,
            limits: Lifetimes::default(),
            good_until: None,
            left: None,
            idle: chrono::Duration::MAX,
            moved,
            had: 1,
            addresses,
            counted,
        }
    }

    /// Its number in the kernel.
    pub fn mark(&self) -> u32 {
        self.row.mark as u32
    }

    /// What the sluice is told.
    pub fn admission(&self) -> Admission {
        Admission {
            mark: self.mark(),
            interface: self.row.interface.clone(),
            holder: self.holder,
            class: self.class.clone(),
            left: self.left,
            lease_ms: LEASE_MS,
        }
    }

    /// Takes what the kernel counts. A counter that went backwards began anew: what it says came on top. What passed is less that
    /// may still. Whether anything passed since.
    pub fn count(&mut self, now: Counted) -> bool {
        let more = |before: u64, now: u64| if now >= before { now - before } else { now };
        let (up, down) = (more(self.counted.up, now.up), more(self.counted.down, now.down));
        self.counted = now;
        self.row.up = self.row.up.saturating_add(i64::try_from(up).unwrap_or(i64::MAX));
        self.row.down = self.row.down.saturating_add(i64::try_from(down).unwrap_or(i64::MAX));
        self.left = self.left.map(|left| left.saturating_sub(up.saturating_add(down)));
        up > 0 || down > 0
    }

    /// Whether it is a machine on which nobody is signed in yet, for a short time.
    pub fn is_first(&self) -> bool {
        self.row.provider == FIRST
    }

    /// Until when its person's session may last at this gate, and no longer.
    pub fn until(&self) -> Option<Moment> {
        self.row.until
    }
}

/// What the machine of a row is known by in the kernel.
pub fn holder_of(row: &PresenceRow) -> Option<Holder> {
    if let Some(text) = &row.hardware {
        return HardwareAddress::parse(text).map(|h| Holder::Link(h.0));
    }
    let address = row.address.parse().ok()?;
    Some(match (address, tunnel_of(row).and_then(|t| t.second)) {
        (IpAddr::V4(first), Some(second)) => Holder::Pair(first, second),
        _ => Holder::Address(address),
    })
}

/// How the machine of a row came, where it is at the far end of a tunnel.
pub fn tunnel_of(row: &PresenceRow) -> Option<TunnelOf> {
    TunnelOf::kept(row.tunnel.as_ref())
}

/// What is to be cut.
#[derive(Clone, Debug)]
pub struct Owed {
    pub over: Instant,
    /// On which interface, and by what it is known there: it is nobody else's until then.
    pub interface: String,
    pub holder: Holder,
}

/// Everybody who is on.
#[derive(Debug, Default)]
pub struct Book {
    pub present: HashMap<Uuid, Present>,
    /// Marks that should be cut and are not, since the sluice did not answer; with the moment at which their lease is over for certain.
    pub owed: BTreeMap<u32, Owed>,
    next: u32,
}

impl Book {
    /// Notes that a machine is to be cut. Nobody renews it from now on.
    pub fn owe(&mut self, present: &Present) {
        // A second more than its lease, for what was on its way to the kernel.
        let over = Instant::now() + Duration::from_millis(LEASE_MS + 1_000);
        let owed = Owed { over, interface: present.row.interface.clone(), holder: present.holder };
        self.owed.insert(present.mark(), owed);
    }

    /// First addresses of machines that are known by an address, and of those that were and may still be let through by it.
    pub fn first_addresses(&self, interface: &str) -> impl Iterator<Item = Ipv4Addr> {
        let on = self.present.values().map(|p| (p.row.interface.as_str(), &p.holder));
        let owed = self.owed.values().map(|o| (o.interface.as_str(), &o.holder));
        let first = |h: &Holder| match h {
            Holder::Address(IpAddr::V4(a)) | Holder::Pair(a, _) => Some(*a),
            Holder::Address(IpAddr::V6(_)) | Holder::Link(_) => None,
        };
        on.chain(owed).filter(move |(of, _)| *of == interface).filter_map(move |(_, h)| first(h))
    }

    /// A number in the kernel that nobody has.
    pub fn free_mark(&mut self) -> u32 {
        let taken: BTreeSet<u32> = self.present.values().map(Present::mark).chain(self.owed.keys().copied()).collect();
        loop {
            self.next = if self.next + 1 >= MARK_END || self.next < MARK_FIRST { MARK_FIRST } else { self.next + 1 };
            if !taken.contains(&self.next) {
                return self.next;
            }
        }
    }

    /// The machine that a holder is known by on an interface.
    pub fn at(&self, interface: &str, holder: &Holder) -> Option<&Present> {
        // A person's machine counts before the same one without a person.
        self.all_at(interface, holder).into_iter().max_by_key(|p| p.session.is_some())
    }

    /// Everybody who is known by a holder on an interface: a person, or a machine without one; both for a moment, while one gives way.
    pub fn all_at(&self, interface: &str, holder: &Holder) -> Vec<&Present> {
        self.present.values().filter(|p| p.row.interface == interface && p.holder == *holder).collect()
    }

    /// What the sluice is told of everybody but `without`, by holder: nobody is there twice.
    pub fn admissions(&self, without: &[Uuid]) -> Vec<Admission> {
        let without: BTreeSet<&Uuid> = without.iter().collect();
        let mut by_holder: BTreeMap<(String, Holder), Admission> = BTreeMap::new();
        let mut all: Vec<&Present> = self.present.values().filter(|p| !without.contains(&p.row.id)).collect();
        // A person's machine counts before the same one without a person.
        all.sort_by_key(|p| p.session.is_some());
        for p in all.iter().filter(|p| !p.session.as_ref().is_some_and(|s| s.is_ended())) {
            by_holder.insert((p.row.interface.clone(), p.holder), p.admission());
        }
        by_holder.into_values().collect()
    }

    /// Machines of sessions that were ended.
    pub fn of_ended(&self) -> Vec<Uuid> {
        self.present.values().filter(|p| p.session.as_ref().is_some_and(|s| s.is_ended())).map(|p| p.row.id).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::DateTime;

    pub(crate) fn row(mark: u32) -> PresenceRow {
        let at = DateTime::UNIX_EPOCH;
        PresenceRow {
            id: Uuid::from_u128(u128::from(mark)),
            session_id: None,
            gate: "yard".into(),
            zone: "yard".into(),
            node: "n".into(),
            interface: "yard0".into(),
            hardware: None,
            address: "10.70.0.9".into(),
            mark: mark as i32,
            provider: "p".into(),
            authority: "p".into(),
            subject: "s".into(),
            name: "s".into(),
            crossing: String::new(),
            reach: serde_json::json!([]),
            began: at,
            until: None,
            quota: None,
            rate: None,
            up: 0,
            down: 0,
            counted_at: at,
            ended_at: None,
            ended_by: None,
            groups: vec![],
            tunnel: None,
        }
    }

    #[test]
    fn counters_that_went_backwards_began_anew() {
        let mut p = Present::new(row(MARK_FIRST), Holder::Link([2; 6]), Class::default());
        let counted = |up, down| Counted { mark: MARK_FIRST, up, down };
        assert!(p.count(counted(100, 1_000)));
        assert!(!p.count(counted(100, 1_000)));
        assert!(p.count(counted(150, 1_000)));
        // The table was put back: nothing that was counted before is lost, and what came since is on top.
        assert!(p.count(counted(5, 7)));
        assert_eq!((p.row.up, p.row.down), (155, 1_007));
    }

    #[test]
    fn a_mark_is_nobody_elses_and_not_one_that_waits_to_be_cut() {
        let mut book = Book::default();
        for n in [0, 1, 3] {
            let p = Present::new(row(MARK_FIRST + n), Holder::Link([n as u8; 6]), Class::default());
            book.present.insert(p.row.id, p);
        }
        let owed = Owed { over: Instant::now(), interface: "yard0".into(), holder: Holder::Link([9; 6]) };
        book.owed.insert(MARK_FIRST + 2, owed);
        assert_eq!(book.free_mark(), MARK_FIRST + 4);
        book.next = MARK_END - 1;
        assert_eq!(book.free_mark(), MARK_FIRST + 4, "round about");
    }
}
