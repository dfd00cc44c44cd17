//! What was seen of Kerberos, as data.

use chrono::Duration;

use crate::Moment;

/// All of it, as far as the site uses it.
#[derive(Clone, Debug, Default)]
pub struct KerberosFacts {
    pub keytabs: Vec<KeytabFacts>,
    pub realms: Vec<RealmFacts>,
    pub services: Vec<ServiceFacts>,
    pub accounts: Vec<AccountFacts>,
    pub offers: Vec<OfferFacts>,
    pub hosts: Vec<HostFacts>,
    pub config: Vec<ConfigFacts>,
}

/// A secret that is a keytab, in one version of it.
#[derive(Clone, Debug)]
pub struct KeytabFacts {
    pub secret: String,
    pub version: i32,
    /// What needs it, such as `way in ticket`.
    pub needed_by: Vec<String>,
    /// What it holds, without the keys, or why it cannot be used.
    pub keys: Result<Vec<KeyFacts>, String>,
}

/// One key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeyFacts {
    /// Whole, with its realm.
    pub principal: String,
    pub kvno: u32,
    pub enctype: i32,
    pub enctype_name: String,
    /// Whether its kind is deprecated.
    pub weak: bool,
    /// When it was written.
    pub written: Option<Moment>,
}

/// A realm, as its KDC answered.
#[derive(Clone, Debug)]
pub struct RealmFacts {
    pub realm: String,
    pub answer: KdcAnswer,
    /// Principals of ours whose key the KDC does not take, with its words.
    pub refused: Vec<(String, String)>,
}

/// What a KDC answered.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum KdcAnswer {
    /// One of our principals signed in. Its clock is so far ahead of the one that it is held against.
    Answered { by: String, ahead: Duration },
    /// It answers; there is no key of ours to ask it with.
    Alive,
    /// Nothing here asks it: no key of ours is of that realm, and no password is taken for it.
    NotAsked,
    /// It does not answer, or cannot be found.
    Silent(String),
}

/// A service that somebody asks the KDC for.
#[derive(Clone, Debug)]
pub struct ServiceFacts {
    /// Whole, with its realm.
    pub service: String,
    pub of: ServiceOf,
    pub found: ServiceFound,
}

/// What a service is needed for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ServiceOf {
    /// Browsers ask for it, and show it at this way in.
    Way(String),
    /// The application behind this gate is it.
    Gate(String),
}

impl ServiceOf {
    /// In words.
    pub fn place(&self) -> String {
        match self {
            ServiceOf::Way(name) => format!("way in {name}"),
            ServiceOf::Gate(name) => format!("gate {name}"),
        }
    }
}

/// What the KDC gives for a service.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ServiceFound {
    /// A ticket that is sealed by this key of the service.
    Sealed { kvno: Option<u32>, enctype: i32, enctype_name: String },
    /// It knows no such service.
    Unknown,
    /// It could not be asked.
    NotAsked(String),
}

/// An account of ours that acts for people at a gate.
#[derive(Clone, Debug)]
pub struct AccountFacts {
    pub gate: String,
    pub account: String,
    pub service: String,
    /// Whether it gets a ticket for the service as somebody else.
    pub answer: Result<(), AccountTrouble>,
}

/// Why an account does not act for people.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum AccountTrouble {
    /// It cannot sign in.
    Own(String),
    /// What the KDC gives it may not be forwarded.
    ForNobody,
    /// It may not act towards that service.
    NotAllowed,
    /// It could not be found out.
    NotKnown(String),
}

/// What an application that takes tickets answers to whoever shows none.
#[derive(Clone, Debug)]
pub struct OfferFacts {
    pub gate: String,
    pub address: String,
    pub status: u16,
    /// Values of `WWW-Authenticate`.
    pub schemes: Vec<String>,
}

impl OfferFacts {
    /// Whether it offers SPNEGO (RFC 4559 4.1). One that lets everybody read its first page may offer it elsewhere.
    pub fn negotiates(&self) -> bool {
        self.status != 401 || self.schemes.iter().flat_map(|v| v.split([',', ' '])).any(|w| w.eq_ignore_ascii_case("negotiate"))
    }

    /// What it answered.
    pub fn words(&self) -> String {
        match self.schemes.is_empty() {
            true => format!("{}, offering nothing", self.status),
            false => format!("{}, offering {}", self.status, self.schemes.join(", ")),
        }
    }
}

/// A host as which tickets are taken.
#[derive(Clone, Debug)]
pub struct HostFacts {
    pub host: String,
    /// The name it stands for by DNS; none where it is not found.
    pub canonical: Option<String>,
}

/// A line of this node's krb5.conf that is not as it should be.
#[derive(Clone, Debug)]
pub struct ConfigFacts {
    /// File and line.
    pub place: String,
    pub words: String,
    /// It merely never counts.
    pub dead: bool,
}
