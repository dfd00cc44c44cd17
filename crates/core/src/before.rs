//! What a browser must reach before anybody is signed in, so that they can sign in: which of it a zone opens, and what would have to be
//! written for the rest. Where providers send people is asked by the service and comes in as [`Need`]s.

use std::collections::BTreeMap;
use std::net::IpAddr;

use url::{Host, Url};

use crate::site::{Covers, Gate, Reach, Service, Site, Transport, Wanted, Zone};
use crate::step::Lang;

/// Something that a browser must reach.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Need {
    /// The provider for whose sign-in it is needed.
    pub way: String,
    /// A host name in lower case, or an address.
    pub host: String,
    pub port: u16,
    pub why: Why,
    /// The host's addresses, as the node resolves them; empty where it does not.
    pub addresses: Vec<IpAddr>,
}

/// What for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Why {
    /// People sign in there.
    SignIn,
    /// They sign out there.
    SignOut,
    /// Lists of certificates that were taken back (RFC 5280 4.2.1.13): some clients ask before they trust the provider's page.
    Crl,
    /// The same, one certificate at a time (RFC 6960).
    Ocsp,
    /// A machine on which nobody was signed in asked for its name: a real browser that goes through a sign-in asks for all that it takes.
    Asked,
}

impl Why {
    /// A stable code.
    pub fn code(self) -> &'static str {
        match self {
            Why::SignIn => "sign-in",
            Why::SignOut => "sign-out",
            Why::Crl => "crl",
            Why::Ocsp => "ocsp",
            Why::Asked => "asked",
        }
    }

    /// In words, for the provider that it is needed for.
    pub fn words(self, way: &str, lang: Lang) -> String {
        match (self, lang) {
            (Why::SignIn, Lang::En) => format!("{way} signs people in there"),
            (Why::SignIn, Lang::Fr) => format!("{way} y connecte les gens"),
            (Why::SignOut, Lang::En) => format!("{way} signs people out there"),
            (Why::SignOut, Lang::Fr) => format!("{way} y déconnecte les gens"),
            (Why::Crl, Lang::En) => format!("the certificate of {way} names it for revoked certificates"),
            (Why::Crl, Lang::Fr) => format!("le certificat de {way} le nomme pour les certificats révoqués"),
            (Why::Asked, Lang::En) => format!("{way} asked for its name while nobody was signed in there"),
            (Why::Asked, Lang::Fr) => format!("{way} a demandé son nom alors que personne n'y était connecté"),
            (Why::Ocsp, Lang::En) => format!("the certificate of {way} names it for its state (OCSP)"),
            (Why::Ocsp, Lang::Fr) => format!("le certificat de {way} le nomme pour son état (OCSP)"),
        }
    }
}

impl Need {
    /// Of an address; none where it is not of http or https.
    pub fn of(way: &str, address: &Url, why: Why) -> Option<Need> {
        let port = address.port_or_known_default().filter(|_| matches!(address.scheme(), "http" | "https"))?;
        let (host, addresses) = match address.host()? {
            Host::Domain(name) => (name.trim_end_matches('.').to_ascii_lowercase(), vec![]),
            Host::Ipv4(a) => (a.to_string(), vec![IpAddr::V4(a)]),
            Host::Ipv6(a) => (a.to_string(), vec![IpAddr::V6(a).to_canonical()]),
        };
        Some(Need { way: way.to_owned(), host, port, why, addresses })
    }

    /// Whether the host is a name, and not an address.
    pub fn is_name(&self) -> bool {
        self.host.parse::<IpAddr>().is_err()
    }

    fn wanted(&self) -> Wanted {
        let name = self.is_name().then(|| self.host.clone());
        Wanted { name, addresses: self.addresses.clone(), service: Service::Ports(Transport::Tcp, self.port, self.port) }
    }
}

/// What a zone makes of a need before anybody is signed in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Passage {
    /// This reach opens it to every machine.
    Open(String),
    /// It is in the zone itself: nothing stands between.
    Inside,
    /// It is closed before sign-in; rules give it with these reaches, to those who are signed in already.
    Shut { by_rules: Vec<String> },
}

/// Ways in that may be used in a zone by a machine on which nobody is signed in. Whoever comes by a tunnel is signed in before they are there.
pub fn ways_of<'a>(gate: &'a Gate, zone: &'a Zone) -> &'a [String] {
    match (zone.tunnel(), zone.ways.is_empty()) {
        (Some(_), _) => &[],
        (None, true) => &gate.access.ways,
        (None, false) => &zone.ways,
    }
}

/// What a zone of a gate makes of a need before anybody is signed in.
pub fn passage(site: &Site, gate: &Gate, zone: &Zone, need: &Need) -> Passage {
    let wanted = need.wanted();
    let covers = |r: &&Reach| r.covers(&wanted) == Covers::Yes;
    if let Some(open) = zone.before.iter().filter_map(|name| site.reach(name)).find(covers) {
        return Passage::Open(open.name.clone());
    }
    if !need.addresses.is_empty() && need.addresses.iter().all(|a| zone.holds(*a)) {
        return Passage::Inside;
    }
    let given = |r: &&Reach| gate.access.rules.iter().any(|rule| rule.effect.opens(&r.name));
    let by_rules = site.reaches.iter().filter(given).filter(covers).map(|r| r.name.clone()).collect();
    Passage::Shut { by_rules }
}

/// The parts of a site file that would open what is closed, ready to be pasted; none where nothing is. One reach for each port, so that no
/// host is opened on the port of another.
pub fn proposal(zone: &Zone, shut: &[&Need]) -> Option<String> {
    let mut by_port: BTreeMap<(bool, u16), Vec<&str>> = BTreeMap::new();
    for need in shut {
        // What a machine asked for is kept apart: it asks for more than signing in takes.
        let hosts = by_port.entry((need.why == Why::Asked, need.port)).or_default();
        if !hosts.contains(&need.host.as_str()) {
            hosts.push(&need.host);
        }
    }
    let (mut out, mut before) = (String::new(), zone.before.clone());
    for ((is_asked, port), hosts) in &by_port {
        let (what, title, warning) = match is_asked {
            false => ("sign-in", "what signing in needs", ""),
            true => ("asked", "what a sign-in asked for", "# Keep what signing in needs: a machine asks for more than that.\n"),
        };
        let name = format!("{}-{what}-{port}", zone.name);
        out += &format!(
            "{warning}[[reach]]\nname = {name:?}\ntitle = {title:?}\nto = [{}]\nservices = [\"tcp/{port}\"]\n\n",
            quoted(hosts)
        );
        before.push(name);
    }
    (!by_port.is_empty()).then(|| format!("{out}# In [[zone]] {}:\nbefore = [{}]\n", zone.name, quoted(&before)))
}

/// Texts of a list in TOML.
fn quoted(all: &[impl std::fmt::Debug]) -> String {
    all.iter().map(|t| format!("{t:?}")).collect::<Vec<_>>().join(", ")
}
