//! Entrances of tunnels: a VPN server's interface as a zone, with what its clients are told.

use std::fmt;
use std::net::IpAddr;

use chrono::Duration;
use ipnet::IpNet;

use super::reach::Transport;

/// What an entrance has besides being a zone: the VPN server that people's machines connect to, and what those are told.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Tunnel {
    /// Where clients connect to, the first one first.
    pub servers: Vec<Server>,
    /// Networks that clients send into the tunnel; empty where it is those of the reach that each is given.
    pub routes: Vec<IpNet>,
    /// Whether everything that a client sends goes into the tunnel.
    pub whole: bool,
    /// Resolvers that clients ask.
    pub dns: Vec<IpAddr>,
    /// Domains that those resolvers are asked about.
    pub domains: Vec<String>,
    /// Further options for clients, each as the client reads it.
    pub options: Vec<PushedOption>,
    /// How long a person may take to sign in.
    pub patience: Duration,
    /// For how long a client that was cut off comes back without a new sign-in.
    pub roam: Duration,
    pub browser: Browser,
    pub profiles: Profiles,
    /// Whether everything is decided and nothing is opened.
    pub trial: bool,
}

/// Where a VPN server is reached.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Server {
    /// A name, or an address.
    pub host: String,
    pub port: u16,
    pub transport: Transport,
}

impl Server {
    /// From `host:port`, `host:port/udp` or `host:port/tcp`; UDP unless it says.
    ///
    /// # Errors
    /// What is wrong with it, as the rest of a sentence.
    pub fn parse(text: &str) -> Result<Server, &'static str> {
        let (text, transport) = match text.rsplit_once('/') {
            None => (text, Transport::Udp),
            Some((text, word)) => {
                let found = Transport::WORDS.into_iter().find(|(w, _)| *w == word);
                (text, found.ok_or("has another protocol than udp and tcp")?.1)
            }
        };
        let (host, port) = text.rsplit_once(':').ok_or("has no port: write vpn.example.org:1194")?;
        let port = port.parse::<u16>().ok().filter(|p| *p > 0 && port.bytes().all(|b| b.is_ascii_digit()));
        let port = port.ok_or("has no port that is one")?;
        let bare = host.strip_prefix('[').and_then(|h| h.strip_suffix(']'));
        let is_host = match (bare.unwrap_or(host).parse::<IpAddr>(), bare) {
            (Ok(IpAddr::V6(_)), Some(_)) | (Ok(IpAddr::V4(_)), None) => true,
            (Err(_), None) => super::reach::is_host_name(&host.to_ascii_lowercase()),
            _ => false,
        };
        if !is_host {
            return Err("names no host: write a name, an IPv4 address, or an IPv6 address in brackets");
        }
        Ok(Server { host: bare.unwrap_or(host).to_ascii_lowercase(), port, transport })
    }
}

impl fmt::Display for Server {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.host.contains(':') {
            true => write!(f, "[{}]:{}/{}", self.host, self.port, self.transport.word()),
            false => write!(f, "{}:{}/{}", self.host, self.port, self.transport.word()),
        }
    }
}

/// From where the browser may come in which a person signs in for their machine.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Browser {
    /// From the address that the machine connects from; of IPv6, from the same /64.
    SameAddress,
    /// From anywhere: the person is shown both addresses.
    Anywhere,
}

impl Browser {
    /// With the words of a site file.
    pub const WORDS: [(&'static str, Browser); 2] = [("same-address", Browser::SameAddress), ("anywhere", Browser::Anywhere)];
}

/// Whose certificates clients bring.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Profiles {
    /// Anybody's: one for everybody, or none.
    Shared,
    /// One of the gate's own, made for the person who signs in.
    Personal,
}

impl Profiles {
    /// With the words of a site file.
    pub const WORDS: [(&'static str, Profiles); 2] = [("shared", Profiles::Shared), ("personal", Profiles::Personal)];
}

/// An option that a client takes from its server. Only those are known that change nothing on the client but the tunnel itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PushedOption(String);

/// Options that may be pushed, with how many numbers each takes.
const PUSHED: [(&str, usize, usize); 11] = [
    ("block-ipv6", 0, 0),
    ("block-outside-dns", 0, 0),
    ("explicit-exit-notify", 0, 1),
    ("inactive", 1, 2),
    ("ping", 1, 1),
    ("ping-exit", 1, 1),
    ("ping-restart", 1, 1),
    ("rcvbuf", 1, 1),
    ("register-dns", 0, 0),
    ("route-metric", 1, 1),
    ("sndbuf", 1, 1),
];

impl PushedOption {
    /// The names of those that are known.
    pub fn known() -> impl Iterator<Item = &'static str> {
        PUSHED.iter().map(|(name, ..)| *name)
    }

    /// From a line such as `ping 10`.
    pub fn parse(text: &str) -> Option<PushedOption> {
        let mut words = text.split(' ').filter(|w| !w.is_empty());
        let name = words.next()?;
        let (_, least, most) = PUSHED.iter().find(|(known, ..)| *known == name)?;
        let numbers: Vec<&str> = words.collect();
        let number = |w: &&str| w.len() <= 9 && w.bytes().all(|b| b.is_ascii_digit());
        let fits = (*least..=*most).contains(&numbers.len()) && numbers.iter().all(number);
        fits.then(|| PushedOption([&[name], numbers.as_slice()].concat().join(" ")))
    }

    /// As the client reads it.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn servers_are_read_and_written_alike() {
        for text in ["vpn.example.org:1194/udp", "192.0.2.1:443/tcp", "[2001:db8::1]:1194/udp"] {
            assert_eq!(Server::parse(text).unwrap().to_string(), text);
        }
        assert_eq!(Server::parse("VPN.example.org:1194").unwrap().to_string(), "vpn.example.org:1194/udp");
        for text in [
            "",
            "vpn.example.org",
            "vpn.example.org:0",
            "a b:1194",
            "2001:db8::1:1194",
            "[vpn]:1194",
            "vpn:1194/sctp",
            "vpn:+1194",
        ] {
            assert!(Server::parse(text).is_err(), "{text}");
        }
    }

    #[test]
    fn no_option_that_a_client_would_run_or_write_is_pushed() {
        for text in ["ping 10", "block-ipv6", "inactive 300 2000", "explicit-exit-notify"] {
            assert_eq!(PushedOption::parse(text).unwrap().as_str(), text);
        }
        for text in
            ["", "up /bin/sh", "ping", "ping 10\"", "ping ten", "ping 10 20", "setenv A b", "ping 10\nup x", "block-ipv6 1"]
        {
            assert!(PushedOption::parse(text).is_none(), "{text}");
        }
    }
}
