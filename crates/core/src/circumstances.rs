//! What a decision is made under, besides who it is about: the moment, the network, and the request.

use std::net::IpAddr;

use crate::Moment;
use crate::forwarded::ProxyField;
use crate::step::Lang;

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

/// What is known of a request before anybody is known.
#[derive(Clone, Debug)]
pub struct RequestFacts {
    /// The method as sent (RFC 9110 9.1).
    pub method: String,
    /// Path and query.
    pub target: String,
    pub address: IpAddr,
    pub agent: String,
    pub lang: Lang,
    /// Whether a person is navigating, so that a redirect leads somewhere.
    pub navigates: bool,
    /// Whether the client asked for HTML.
    pub wants_html: bool,
    /// A field that says where the request came from, and is not believed: the site's proxies write another.
    pub not_believed: Option<ProxyField>,
}

impl RequestFacts {
    /// Of a request that nobody made: what the service does by itself for somebody at an address.
    pub fn of_nobody(address: IpAddr, agent: &str) -> RequestFacts {
        RequestFacts {
            method: "GET".to_owned(),
            target: "/".into(),
            address,
            agent: agent.to_owned(),
            lang: Lang::En,
            navigates: false,
            wants_html: false,
            not_believed: None,
        }
    }

    /// What conditions may ask of it.
    pub fn circumstances(&self, now: Moment) -> Circumstances<'_> {
        let path = self.target.split('?').next().unwrap_or("/");
        Circumstances { now, address: Some(self.address), method: &self.method, path }
    }
}
