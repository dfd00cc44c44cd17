//! What a decision is made under, besides who it is about: the moment, the network, and the request.

use std::net::IpAddr;

use crate::Moment;
use crate::forwarded::ProxyField;
use crate::step::Lang;
use crate::tunnel::TunnelFacts;

/// The circumstances of one request, or of one attempt to come in.
#[derive(Clone, Copy, Debug)]
pub struct Circumstances<'a> {
    pub now: Moment,
    /// Where it comes from, as far as it can be believed; none where that is not known.
    pub address: Option<IpAddr>,
    pub method: &'a str,
    /// The path as sent, without its query.
    pub path: &'a str,
    /// The tunnel that asks; none where no tunnel does.
    pub tunnel: Option<&'a TunnelFacts>,
}

impl<'a> Circumstances<'a> {
    /// Of a plain request for the gate's first page.
    pub fn at(now: Moment) -> Circumstances<'a> {
        Circumstances { now, address: None, method: "GET", path: "/", tunnel: None }
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
    /// The tunnel that it is about; none where it is about none.
    pub tunnel: Option<TunnelFacts>,
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
            tunnel: None,
        }
    }

    /// Of a tunnel that asks to be opened for a machine at an address.
    pub fn of_tunnel(address: IpAddr, tunnel: TunnelFacts) -> RequestFacts {
        let (method, target) = (crate::tunnel::METHOD.to_owned(), tunnel.as_target());
        let agent = tunnel.words();
        RequestFacts { method, target, tunnel: Some(tunnel), ..RequestFacts::of_nobody(address, &agent) }
    }

    /// Whether it comes from the small browser that a system opens by itself for a portal: it has no passkeys, forgets its cookies, and may
    /// vanish at any moment. By what it says of itself, so that nothing may hang on it but what is offered.
    pub fn is_mini_browser(&self) -> bool {
        let agent = self.agent.as_str();
        let is_apple = ["(Macintosh;", "(iPhone;", "(iPad;", "(iPod"].iter().any(|p| agent.contains(p));
        // The view of an application: one says so, another leaves out what the browser of its system says.
        agent.contains("; wv)")
            || agent.contains("CaptiveNetworkSupport")
            || (is_apple && agent.contains("AppleWebKit/") && !agent.contains("Safari/"))
    }

    /// What conditions may ask of it.
    pub fn circumstances(&self, now: Moment) -> Circumstances<'_> {
        let path = self.target.split('?').next().unwrap_or("/");
        Circumstances { now, address: Some(self.address), method: &self.method, path, tunnel: self.tunnel.as_ref() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_small_browser_of_a_portal_is_known_by_what_it_says() {
        let webkit = "AppleWebKit/605.1.15 (KHTML, like Gecko)";
        for (agent, is) in [
            (format!("Mozilla/5.0 (iPhone; CPU iPhone OS 18_5 like Mac OS X) {webkit} Mobile/15E148"), true),
            (format!("Mozilla/5.0 (iPhone; CPU iPhone OS 18_5 like Mac OS X) {webkit} Version/18.5 Mobile/15E148 Safari/604.1"), false),
            (format!("Mozilla/5.0 (Macintosh; Intel Mac OS X 10_15_7) {webkit}"), true),
            ("Mozilla/5.0 (Linux; Android 15; Tablet; wv) AppleWebKit/537.36 (KHTML, like Gecko) Version/4.0 Chrome/130.0 Safari/537.36".into(), true),
            ("Mozilla/5.0 (Linux; Android 15) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/130.0 Mobile Safari/537.36".into(), false),
            ("CaptiveNetworkSupport-481.0.2 wispr".into(), true),
            ("curl/8.14.1".into(), false),
            (String::new(), false),
        ] {
            let facts = RequestFacts::of_nobody(IpAddr::from([10, 70, 0, 9]), &agent);
            assert_eq!(facts.is_mini_browser(), is, "{agent}");
        }
    }
}
