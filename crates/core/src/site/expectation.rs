//! Expectations: who must come in where, with which values, and who must not. They stand in the site file beside the rules
//! they guard, and are tried by the same code that decides live ([`crate::expect`]).

use std::collections::BTreeMap;
use std::net::IpAddr;

use super::place::Place;
use crate::Moment;
use crate::tunnel::TunnelFacts;

/// Somebody described by hand.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Described {
    /// The provider's name in the site.
    pub provider: String,
    /// Claims as the provider would release them.
    pub claims: BTreeMap<String, Vec<String>>,
    /// Authentication methods; none means what the provider's part requires.
    pub amr: Option<Vec<String>>,
    pub acr: Option<String>,
    /// Groups in the directory.
    pub groups: Vec<String>,
    /// Attributes of the directory entry, under the directory's names.
    pub attributes: BTreeMap<String, Vec<String>>,
    /// Checks of devices that theirs passes, and no other.
    pub device: Option<Vec<String>>,
}

/// One expectation.
#[derive(Clone, Debug, PartialEq)]
pub struct Expectation {
    pub name: String,
    /// The line it stands at, from 1.
    pub line: usize,
    /// A gate, or the console.
    pub place: Place,
    pub person: Described,
    /// Where from, when and with which method; otherwise from nowhere known, now, with GET.
    pub from: Option<IpAddr>,
    pub at: Option<Moment>,
    pub method: Option<String>,
    /// By which tunnel, at a gate of kind `vpn`.
    pub tunnel: Option<TunnelFacts>,
    pub enter: bool,
    /// Exactly these, in any order; none is not looked at.
    pub roles: Option<Vec<String>>,
    /// Delivered headers with their values; an empty value means not delivered.
    pub headers: Vec<(String, String)>,
    /// Paths that are reached, and paths that stay closed.
    pub reaches: Vec<String>,
    pub closed: Vec<String>,
}
