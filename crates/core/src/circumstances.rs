//! What a decision is made under, besides who it is about: the moment, the network, and the request.

use std::net::IpAddr;

use crate::Moment;

/// The circumstances of one request, or of one attempt to come in.
#[derive(Clone, Copy, Debug)]
pub struct Circumstances<'a> {
    pub now: Moment,
    /// Where it comes from, as far as it can be believed; none where that is not known.
    pub address: Option<IpAddr>,
    pub method: &'a str,
    /// The path as sent, without its query.
    pub path: &'a str,
}

impl<'a> Circumstances<'a> {
    /// Of a plain request for the gate's first page.
    pub fn at(now: Moment) -> Circumstances<'a> {
        Circumstances { now, address: None, method: "GET", path: "/" }
    }

    /// The same from an address.
    pub fn from(self, address: IpAddr) -> Circumstances<'a> {
        Circumstances { address: Some(address), ..self }
    }
}
