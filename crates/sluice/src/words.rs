//! The vocabulary: one JSON document a line each way, an answer for each order, in order. Nothing else is understood.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use serde::{Deserialize, Serialize};

use crate::plan::{Class, Plan, Service};

/// The longest line, in octets: the admissions of a large machine, once.
pub const LINE_MAX: u64 = 64 << 20;
/// The most admissions at a time.
pub const ADMISSIONS_MAX: usize = 60_000;
/// Marks of admissions begin here, away from those that an administrator would choose.
pub const MARK_FIRST: u32 = 0x5000_0000;
/// They end before this one.
pub const MARK_END: u32 = 0x6000_0000;

/// How a packet is known to be of an admission.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Holder {
    /// By the hardware address that it comes from: every address of the machine.
    Link([u8; 6]),
    /// By the one address, where another router stands between.
    Address(IpAddr),
    /// By an address of each family, as the far end of a tunnel has them.
    Pair(Ipv4Addr, Ipv6Addr),
}

impl Holder {
    /// Whether a packet may be known to be of both.
    pub fn meets(&self, other: &Holder) -> bool {
        match (self, other) {
            (Holder::Link(one), Holder::Link(two)) => one == two,
            (Holder::Link(_), _) | (_, Holder::Link(_)) => false,
            (one, two) => one.addresses().into_iter().flatten().any(|a| two.addresses().contains(&Some(a))),
        }
    }

    fn addresses(&self) -> [Option<IpAddr>; 2] {
        match self {
            Holder::Link(_) => [None, None],
            Holder::Address(address) => [Some(*address), None],
            Holder::Pair(v4, v6) => [Some((*v4).into()), Some((*v6).into())],
        }
    }
}

/// Who is let through, and to where.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Admission {
    /// Its number in the kernel, from [`MARK_FIRST`] to [`MARK_END`].
    pub mark: u32,
    pub interface: String,
    pub holder: Holder,
    pub class: Class,
    /// How many octets may still pass, both ways together; none for no limit.
    pub left: Option<u64>,
    /// It closes by itself after so many milliseconds, unless it is renewed.
    pub lease_ms: u64,
}

/// What is asked of the sluice.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Order {
    /// Puts an edition into force and compares who is let through: whoever is not named is cut, whoever is missing is let through. One step,
    /// in which nobody who is in both loses a packet.
    Install { plan: Plan, admissions: Vec<Admission> },
    /// Lets one more through, or changes what is open to them.
    Admit(Box<Admission>),
    /// Closes; running flows stop. Marks that are not there are no error.
    Cut(Vec<u32>),
    /// Keeps these open for so much longer.
    Renew { marks: Vec<u32>, lease_ms: u64 },
    /// The addresses that the names of reaches lead to now; others that were told before are closed.
    Names(BTreeMap<String, BTreeSet<IpAddr>>),
    /// How many octets passed.
    Count,
    /// What the kernel holds.
    List,
    /// Where the kernel lets one machine go.
    Way(Ask),
    /// How the sluice is.
    State,
}

/// Whether a machine reaches each of some addresses.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Ask {
    pub interface: String,
    pub holder: Holder,
    pub to: Vec<IpAddr>,
    /// One port of a protocol, or ICMP.
    pub service: Service,
}

/// What the kernel holds of a machine, and whether that leads somewhere. It is read from the kernel, not from what was ordered.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Way {
    /// None where the kernel does not know the machine.
    pub mark: Option<u32>,
    /// Milliseconds until it closes by itself; none where it is closed.
    pub expires_ms: Option<u64>,
    /// Reaches that are open to it alone.
    pub reaches: BTreeSet<String>,
    /// The reach that leads to each, in the order of the question; none where it is refused.
    pub by: Vec<Option<String>>,
}

/// Octets of an admission since it was let through, as the kernel counted them.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Counted {
    pub mark: u32,
    /// From the machine.
    pub up: u64,
    /// To the machine.
    pub down: u64,
}

/// What the kernel holds of an admission.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Held {
    pub interface: String,
    pub holder: Holder,
    pub mark: u32,
    /// Milliseconds until it closes by itself; none where it is closed already.
    pub expires_ms: Option<u64>,
}

/// What a comparison of kernel and order changed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Compared {
    pub added: u32,
    pub cut: u32,
    pub kept: u32,
}

/// How the sluice is.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct State {
    /// The edition in force; none before the first.
    pub edition: Option<i32>,
    /// Interfaces that it was started with: those that may be guarded.
    pub allowed: Vec<String>,
    /// Interfaces that are closed but for what is open.
    pub interfaces: Vec<String>,
    pub admissions: usize,
    /// How often somebody else changed the table and it was put back.
    pub restored: u64,
    /// What was found the last time.
    pub found: Option<String>,
    /// Flow tables of others on interfaces that it was started with: what they carry passes no rule.
    #[serde(default)]
    pub bypassed: Vec<String>,
    /// Why the table could not be put back, where it could not.
    pub trouble: Option<String>,
}

/// What the sluice says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Answer {
    Done,
    Compared(Compared),
    Counted(Vec<Counted>),
    Held(Vec<Held>),
    Way(Way),
    State(State),
    /// Nothing was changed, and why.
    Refused(String),
}
