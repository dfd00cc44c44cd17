//! Reach: named destinations that a network or a tunnel opens, and whether one of them covers where somebody wants to go.

use std::fmt;
use std::net::IpAddr;

use ipnet::IpNet;

/// A named destination: where to, and on which protocols and ports.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reach {
    pub name: String,
    /// What people read.
    pub title: String,
    pub to: Vec<Destination>,
    /// Networks within `to` that stay closed.
    pub except: Vec<IpNet>,
    pub services: Vec<Service>,
}

/// Where a reach leads.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Destination {
    Network(IpNet),
    Name(HostPattern),
}

/// Host names: one, or all below one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HostPattern {
    /// In lower case, without a dot at the end.
    name: String,
    /// Written `*.name`: every name below it, and not itself.
    below: bool,
}

/// A protocol, with its ports.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Service {
    /// Everything that travels over IP.
    All,
    /// ICMP and ICMPv6: `ping`, say.
    Icmp,
    /// Ports of one protocol, the first and the last.
    Ports(Transport, u16, u16),
}

/// A protocol that has ports.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Transport {
    Tcp,
    Udp,
}

impl Transport {
    /// With the words of a site file.
    pub const WORDS: [(&'static str, Transport); 2] = [("tcp", Transport::Tcp), ("udp", Transport::Udp)];

    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Transport::Tcp => "tcp",
            Transport::Udp => "udp",
        }
    }
}

impl HostPattern {
    /// From `host.example` or `*.host.example`.
    ///
    /// # Errors
    /// What is wrong with it, as the rest of a sentence.
    pub fn parse(text: &str) -> Result<HostPattern, &'static str> {
        let (below, name) = match text.strip_prefix("*.") {
            Some(rest) => (true, rest),
            None => (false, text),
        };
        let name = name.trim_end_matches('.').to_ascii_lowercase();
        if !is_host_name(&name) {
            return Err("is neither a network nor a host name");
        }
        // What lies below a single label is a whole country, or the whole of an organisation's network.
        if below && !name.contains('.') {
            return Err("stands for every name of a top-level domain");
        }
        Ok(HostPattern { name, below })
    }

    /// The one host that is meant; none where it is all below a name.
    pub fn host(&self) -> Option<&str> {
        (!self.below).then_some(self.name.as_str())
    }

    /// Whether every name that another pattern means is meant.
    pub(crate) fn covers_all(&self, other: &HostPattern) -> bool {
        match (self.below, other.below) {
            (_, false) => self.covers(&other.name),
            (true, true) => self.name == other.name || self.covers(&other.name),
            (false, true) => false,
        }
    }

    /// Whether a host name is meant.
    pub fn covers(&self, name: &str) -> bool {
        let name = name.trim_end_matches('.').to_ascii_lowercase();
        match self.below {
            false => name == self.name,
            true => name.strip_suffix(&self.name).is_some_and(|rest| rest.len() > 1 && rest.ends_with('.')),
        }
    }
}

/// Whether a text is a host name (RFC 1123 2.1): labels of letters, digits and hyphens, and no address.
pub(super) fn is_host_name(name: &str) -> bool {
    let label = |l: &str| {
        !l.is_empty()
            && l.len() <= 63
            && !l.starts_with('-')
            && !l.ends_with('-')
            && l.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-' || b == b'_')
    };
    let numeric = |l: &str| l.bytes().all(|b| b.is_ascii_digit());
    name.len() <= 253 && name.split('.').all(label) && !name.rsplit('.').next().is_some_and(numeric)
}

impl Service {
    /// From `all`, `icmp`, `tcp`, `tcp/443` or `udp/5000-5100`.
    pub fn parse(text: &str) -> Option<Service> {
        match text {
            "all" => return Some(Service::All),
            "icmp" => return Some(Service::Icmp),
            _ => {}
        }
        let (protocol, ports) = text.split_once('/').map_or((text, None), |(p, rest)| (p, Some(rest)));
        let (_, transport) = Transport::WORDS.into_iter().find(|(w, _)| *w == protocol)?;
        let port = |t: &str| t.parse::<u16>().ok().filter(|p| *p > 0 && t.bytes().all(|b| b.is_ascii_digit()));
        let (first, last) = match ports {
            None => (1, u16::MAX),
            Some(one) => match one.split_once('-') {
                None => (port(one)?, port(one)?),
                Some((a, b)) => (port(a)?, port(b)?),
            },
        };
        (first <= last).then_some(Service::Ports(transport, first, last))
    }

    /// Whether everything of another is of this one too.
    pub(crate) fn covers(self, other: Service) -> bool {
        match (self, other) {
            (Service::All, _) | (Service::Icmp, Service::Icmp) => true,
            (Service::Ports(t, a, b), Service::Ports(of, first, last)) => t == of && a <= first && last <= b,
            _ => false,
        }
    }
}

impl Reach {
    /// Whether it leads anywhere by name.
    pub fn has_names(&self) -> bool {
        self.to.iter().any(|d| matches!(d, Destination::Name(_)))
    }

    /// Whether it leads where somebody wants to go, and where not, why.
    pub fn covers(&self, wanted: &Wanted) -> Covers {
        let named =
            wanted.name.as_deref().is_some_and(|n| self.to.iter().any(|d| matches!(d, Destination::Name(p) if p.covers(n))));
        let leads = |a: &IpAddr| named || self.to.iter().any(|d| matches!(d, Destination::Network(n) if n.contains(a)));
        let served = self.services.iter().any(|s| s.covers(wanted.service));
        // A name that has no address yet is judged by itself; what it resolves to must be open as a whole.
        if wanted.addresses.is_empty() {
            return match (named, served) {
                (false, _) => Covers::Elsewhere,
                (true, false) => Covers::OtherServices,
                (true, true) => Covers::Yes,
            };
        }
        if !wanted.addresses.iter().all(leads) {
            return Covers::Elsewhere;
        }
        if let Some(by) = self.except.iter().find(|n| wanted.addresses.iter().any(|a| n.contains(a))) {
            return Covers::Excepted(*by);
        }
        if served { Covers::Yes } else { Covers::OtherServices }
    }
}

/// What a reach says to where somebody wants to go.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Covers {
    Yes,
    /// It leads there, on other protocols or ports.
    OtherServices,
    /// It leads around there: this network is left out.
    Excepted(IpNet),
    Elsewhere,
}

/// Where somebody wants to go: a host, and one service of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wanted {
    /// The host's name, where it was given by name, in lower case.
    pub name: Option<String>,
    /// Its addresses: the one that was given, or what the name resolves to.
    pub addresses: Vec<IpAddr>,
    pub service: Service,
}

impl Wanted {
    /// From `host:port`, `host:port/udp` or `host icmp`; the host is a name, an IPv4 address or an IPv6 address in brackets.
    ///
    /// # Errors
    /// What is wrong with it, as the rest of a sentence.
    pub fn parse(text: &str) -> Result<Wanted, &'static str> {
        let text = text.trim();
        let (host, service) = match text.strip_suffix(" icmp") {
            Some(host) => (host.trim_end(), Service::Icmp),
            None => {
                let (host, rest) =
                    text.rsplit_once(':').ok_or("names no port: write host:port, host:port/udp or \"host icmp\"")?;
                let (port, protocol) = rest.split_once('/').unwrap_or((rest, "tcp"));
                let service = Service::parse(&format!("{protocol}/{port}"));
                let one = service.filter(|s| matches!(s, Service::Ports(_, first, last) if first == last));
                (host, one.ok_or("has no port that is one: write host:443 or host:53/udp")?)
            }
        };
        let bare = host.strip_prefix('[').and_then(|h| h.strip_suffix(']'));
        match bare.unwrap_or(host).parse::<IpAddr>() {
            Ok(IpAddr::V6(_)) if bare.is_none() && service != Service::Icmp => Err("has an IPv6 address without brackets"),
            Ok(address) => Ok(Wanted { name: None, addresses: vec![address.to_canonical()], service }),
            Err(_) => {
                let name = host.trim_end_matches('.').to_ascii_lowercase();
                if bare.is_some() || !is_host_name(&name) {
                    return Err("names no host: write a name, an IPv4 address, or an IPv6 address in brackets");
                }
                Ok(Wanted { name: Some(name), addresses: vec![], service })
            }
        }
    }
}

impl fmt::Display for HostPattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.below {
            f.write_str("*.")?;
        }
        f.write_str(&self.name)
    }
}

impl fmt::Display for Destination {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Destination::Network(n) if n.prefix_len() == n.max_prefix_len() => n.addr().fmt(f),
            Destination::Network(n) => n.fmt(f),
            Destination::Name(p) => p.fmt(f),
        }
    }
}

impl fmt::Display for Service {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Service::All => f.write_str("all"),
            Service::Icmp => f.write_str("icmp"),
            Service::Ports(t, 1, u16::MAX) => f.write_str(t.word()),
            Service::Ports(t, a, b) if a == b => write!(f, "{}/{a}", t.word()),
            Service::Ports(t, a, b) => write!(f, "{}/{a}-{b}", t.word()),
        }
    }
}

impl fmt::Display for Wanted {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let host = match (&self.name, self.addresses.first()) {
            (Some(name), _) => name.clone(),
            (None, Some(IpAddr::V6(a))) if self.service != Service::Icmp => format!("[{a}]"),
            (None, Some(a)) => a.to_string(),
            (None, None) => "?".to_owned(),
        };
        match self.service {
            Service::Ports(Transport::Tcp, port, _) => write!(f, "{host}:{port}"),
            Service::Ports(Transport::Udp, port, _) => write!(f, "{host}:{port}/udp"),
            other => write!(f, "{host} {other}"),
        }
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;

    /// A reach with these destinations, exceptions and services, as a site file writes them.
    pub(crate) fn reach(to: &[&str], except: &[&str], services: &[&str]) -> Reach {
        let destination = |t: &&str| match crate::address::network(t) {
            Some(n) => Destination::Network(n),
            None => Destination::Name(HostPattern::parse(t).unwrap()),
        };
        Reach {
            name: "r".into(),
            title: "r".into(),
            to: to.iter().map(destination).collect(),
            except: except.iter().map(|t| crate::address::network(t).unwrap()).collect(),
            services: services.iter().map(|t| Service::parse(t).unwrap()).collect(),
        }
    }

    #[test]
    fn services_are_read_as_they_are_written() {
        for text in ["all", "icmp", "tcp", "udp", "tcp/443", "udp/5000-5100"] {
            assert_eq!(Service::parse(text).map(|s| s.to_string()).as_deref(), Some(text));
        }
        assert_eq!(Service::parse("tcp/1-65535").map(|s| s.to_string()).as_deref(), Some("tcp"));
        for text in ["", "tcp/", "tcp/0", "tcp/65536", "tcp/9-8", "tcp/+80", "sctp/1", "TCP/80", "tcp/80-", "icmp/8", "80"] {
            assert_eq!(Service::parse(text), None, "{text}");
        }
    }

    #[test]
    fn a_host_pattern_covers_what_it_says_and_nothing_beside() {
        let covers = |p: &str, n: &str| HostPattern::parse(p).unwrap().covers(n);
        for (pattern, name, wanted) in [
            ("a.example", "a.example", true),
            ("a.example", "A.Example.", true),
            ("a.example", "b.a.example", false),
            ("a.example", "xa.example", false),
            ("*.a.example", "b.a.example", true),
            ("*.a.example", "c.b.a.example", true),
            ("*.a.example", "a.example", false),
            ("*.a.example", ".a.example", false),
            ("*.a.example", "xa.example", false),
        ] {
            assert_eq!(covers(pattern, name), wanted, "{pattern} {name}");
        }
        for text in ["", "*", "*.", "*.com", "a..b", "-a.example", "a.example:443", "a b", "10.0.0.300", "1.2.3", "*.*.a.example"]
        {
            assert!(HostPattern::parse(text).is_err(), "{text}");
        }
    }

    #[test]
    fn where_somebody_wants_to_go_is_read_and_written_alike() {
        for text in ["10.1.2.3:22", "[2001:db8::1]:443", "a.example:53/udp", "10.1.2.3 icmp", "2001:db8::1 icmp"] {
            assert_eq!(Wanted::parse(text).unwrap().to_string(), text);
        }
        assert_eq!(Wanted::parse("[::ffff:10.1.2.3]:22").unwrap().to_string(), "10.1.2.3:22");
        for text in [
            "",
            "a.example",
            "10.1.2.3",
            "2001:db8::1:443",
            ":22",
            "[a.example]:22",
            "a.example:0",
            "a.example:22-23",
            "a:22/sctp",
        ] {
            assert!(Wanted::parse(text).is_err(), "{text}");
        }
    }

    #[test]
    fn a_reach_covers_a_host_where_all_of_its_addresses_are_covered() {
        let r = reach(&["10.80.4.0/24", "2001:db8:4::/64", "cranes.example"], &["10.80.4.1"], &["tcp/22", "icmp"]);
        let asked = |text: &str, addresses: &[&str]| {
            let mut w = Wanted::parse(text).unwrap();
            w.addresses.extend(addresses.iter().map(|a| a.parse::<IpAddr>().unwrap()));
            r.covers(&w)
        };
        assert_eq!(asked("10.80.4.7:22", &[]), Covers::Yes);
        assert_eq!(asked("10.80.4.7 icmp", &[]), Covers::Yes);
        assert_eq!(asked("[2001:db8:4::9]:22", &[]), Covers::Yes);
        assert_eq!(asked("10.80.4.7:23", &[]), Covers::OtherServices);
        assert_eq!(asked("10.80.4.7:22/udp", &[]), Covers::OtherServices);
        assert_eq!(asked("10.80.4.1:22", &[]), Covers::Excepted("10.80.4.1/32".parse().unwrap()));
        assert_eq!(asked("10.80.5.7:22", &[]), Covers::Elsewhere);
        assert_eq!(asked("cranes.example:22", &[]), Covers::Yes);
        assert_eq!(asked("cranes.example:22", &["10.99.0.1"]), Covers::Yes, "the name is open wherever it leads");
        assert_eq!(asked("cranes.example:22", &["10.80.4.1"]), Covers::Excepted("10.80.4.1/32".parse().unwrap()));
        assert_eq!(asked("other.example:22", &[]), Covers::Elsewhere);
        assert_eq!(asked("other.example:22", &["10.80.4.7"]), Covers::Yes);
        assert_eq!(asked("other.example:22", &["10.80.4.7", "10.99.0.1"]), Covers::Elsewhere, "a client may take the other one");
    }
}
