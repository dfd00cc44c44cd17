//! Who is connected to a VPN server, as far as this node knows: by the number that the server gave each connection.

use std::collections::{BTreeMap, HashMap};
use std::net::Ipv4Addr;

use passeur_core::Moment;
use passeur_engine::tunnel::TunnelOf;
use passeur_protocols::openvpn::Pending;
use uuid::Uuid;

/// Tunnels that ended of late, and may come back without a new sign-in.
const ROAMS_MAX: usize = 10_000;

/// A client.
#[derive(Clone, Debug)]
pub struct Client {
    /// The number of its key, which orders name.
    pub key: u64,
    pub tunnel: TunnelOf,
    /// Whether it opens an address in a browser, and how it is told to.
    pub browser: Option<Browser>,
    /// The digest of the address at which its person was asked; none where they type a code, or were not asked.
    pub ask: Option<[u8; 32]>,
    pub state: State,
}

/// By which word a client is told to open an address in a browser, as it says of itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Browser {
    WebAuth,
    /// The older one.
    OpenUrl,
}

impl Browser {
    /// What a client can, by what it reports.
    pub fn of(able: &str) -> Option<Browser> {
        let can = |word: &str| able.split(',').any(|w| w.trim() == word);
        match (can("webauth"), can("openurl")) {
            (true, _) => Some(Browser::WebAuth),
            (false, true) => Some(Browser::OpenUrl),
            (false, false) => None,
        }
    }

    /// What it is told.
    pub fn pending(self, url: String) -> Pending {
        match self {
            Browser::WebAuth => Pending::WebAuth(url),
            Browser::OpenUrl => Pending::OpenUrl(url),
        }
    }
}

/// How a client stands.
///
/// ```text
/// Asks ──▶ Waits ──▶ Decided ──▶ Up ──▶ Over
///   │        │          │         │
///   └────────┴──────────┴─────────┴──▶ Over
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum State {
    /// It was not answered yet.
    Asks,
    /// Its person signs in, or looks for a code.
    Waits,
    /// It is being decided on, and has an address set aside.
    Decided { address: Ipv4Addr },
    /// It was let in, at this address.
    Up { id: Uuid, address: Ipv4Addr, since: Moment, established: bool },
    /// It is over, and the server was told; its address is nobody else's until the server says that it is gone.
    Over { address: Option<Ipv4Addr> },
}

impl State {
    /// The address that is set aside for it.
    pub fn address(&self) -> Option<Ipv4Addr> {
        match self {
            State::Asks | State::Waits => None,
            State::Decided { address } | State::Up { address, .. } => Some(*address),
            State::Over { address } => *address,
        }
    }
}

/// A tunnel that is over and may come back.
#[derive(Clone, Debug)]
pub struct Roam {
    pub session: Uuid,
    pub address: Ipv4Addr,
    pub until: Moment,
}

/// Everybody who is connected.
#[derive(Debug, Default)]
pub struct Clients {
    pub all: BTreeMap<u64, Client>,
    roams: HashMap<String, Roam>,
}

impl Clients {
    /// Sets how a client stands, where it is there.
    pub fn set(&mut self, id: u64, state: State) {
        if let Some(client) = self.all.get_mut(&id) {
            client.state = state;
        }
    }

    /// A client waits for what its person says at an address.
    pub fn waits_for(&mut self, id: u64, ask: [u8; 32]) {
        if let Some(client) = self.all.get_mut(&id) {
            (client.ask, client.state) = (Some(ask), State::Waits);
        }
    }

    /// A client that was let in is over. Its address is nobody else's until it is gone.
    pub fn end(&mut self, id: u64) {
        if let Some(client) = self.all.get_mut(&id) {
            client.state = State::Over { address: client.state.address() };
        }
    }

    /// The client whose person was asked at an address.
    pub fn asked(&self, digest: &[u8; 32]) -> Option<(u64, &Client)> {
        self.all.iter().find(|(_, c)| c.ask.as_ref() == Some(digest)).map(|(id, c)| (*id, c))
    }

    /// Whether anybody is being decided on.
    pub fn decides(&self) -> bool {
        self.all.values().any(|c| matches!(c.state, State::Decided { .. }))
    }

    /// Whether anybody waits whose person answers in a browser.
    pub fn is_waited_for(&self) -> bool {
        self.all.values().any(|c| c.ask.is_some() && c.state == State::Waits)
    }

    /// The client that carries an admission.
    pub fn carrying(&self, id: Uuid) -> Option<u64> {
        self.all.iter().find(|(_, c)| matches!(c.state, State::Up { id: of, .. } if of == id)).map(|(n, _)| *n)
    }

    /// Admissions that clients carry.
    pub fn carried(&self) -> Vec<(u64, Uuid)> {
        let of = |(n, c): (&u64, &Client)| if let State::Up { id, .. } = c.state { Some((*n, id)) } else { None };
        self.all.iter().filter_map(of).collect()
    }

    /// Addresses that are set aside for clients.
    pub fn addresses(&self) -> impl Iterator<Item = Ipv4Addr> {
        self.all.values().filter_map(|c| c.state.address())
    }

    /// The client that is up in the same session of the server: the one that comes again is it.
    pub fn same_session(&self, server_session: &str) -> Option<(u64, Uuid, Ipv4Addr)> {
        self.all.iter().find_map(|(n, c)| match c.state {
            State::Up { id, address, .. } if c.tunnel.server_session.as_deref() == Some(server_session) => {
                Some((*n, id, address))
            }
            _ => None,
        })
    }

    /// Remembers a tunnel that is over and may come back.
    pub fn may_come_back(&mut self, server_session: &str, roam: Roam, now: Moment) {
        if self.roams.len() >= ROAMS_MAX {
            self.roams.retain(|_, r| r.until > now);
        }
        if self.roams.len() < ROAMS_MAX {
            self.roams.insert(server_session.to_owned(), roam);
        }
    }

    /// Takes what is remembered of a tunnel that comes back.
    pub fn comes_back(&mut self, server_session: &str, now: Moment) -> Option<Roam> {
        self.roams.remove(server_session).filter(|r| r.until > now)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::{DateTime, Duration};
    use passeur_core::tunnel::TunnelFacts;

    fn client(state: State, session: &str) -> Client {
        let facts = TunnelFacts::new("pilots", None, None);
        let tunnel = TunnelOf {
            outside: [192, 0, 2, 1].into(),
            facts,
            second: None,
            profile: None,
            server_session: Some(session.into()),
            trials: vec![],
        };
        Client { key: 1, tunnel, browser: None, ask: None, state }
    }

    #[test]
    fn a_client_is_told_by_the_newest_word_that_it_knows() {
        for (able, by) in [
            ("webauth,openurl,crtext", Some(Browser::WebAuth)),
            ("openurl,crtext", Some(Browser::OpenUrl)),
            ("crtext", None),
            ("webauthn", None),
            ("", None),
        ] {
            assert_eq!(Browser::of(able), by, "{able}");
        }
    }

    #[test]
    fn an_address_is_set_aside_until_the_server_says_that_the_client_is_gone() {
        let mut clients = Clients::default();
        let (address, since, id) = (Ipv4Addr::from([10, 71, 0, 2]), DateTime::UNIX_EPOCH, Uuid::from_u128(7));
        let has = |clients: &Clients| clients.addresses().any(|a| a == address);
        clients.all.insert(4, client(State::Asks, "a"));
        assert!(!clients.is_waited_for());
        clients.waits_for(4, [1; 32]);
        assert!(clients.is_waited_for() && !has(&clients));
        let asked = |digest| clients.asked(&digest).map(|(id, _)| id);
        assert_eq!((asked([1; 32]), asked([2; 32])), (Some(4), None));
        for state in [
            State::Decided { address },
            State::Up { id, address, since, established: true },
            State::Over { address: Some(address) },
        ] {
            let is_up = matches!(state, State::Up { .. });
            clients.all.insert(4, client(state, "a"));
            assert!(has(&clients));
            assert_eq!(clients.same_session("a").is_some(), is_up);
            assert_eq!(clients.carrying(id).is_some(), is_up);
        }
        clients.all.insert(4, client(State::Up { id, address, since, established: true }, "a"));
        clients.end(4);
        assert!(has(&clients) && clients.carrying(id).is_none(), "nobody else's while the server still has it");
        clients.all.remove(&4);
        assert!(!has(&clients));
    }

    #[test]
    fn a_tunnel_comes_back_once_and_within_its_time() {
        let mut clients = Clients::default();
        let now = DateTime::UNIX_EPOCH;
        let roam = |until| Roam { session: Uuid::from_u128(1), address: [10, 71, 0, 2].into(), until };
        clients.may_come_back("a", roam(now + Duration::minutes(1)), now);
        clients.may_come_back("b", roam(now), now);
        assert!(clients.comes_back("b", now).is_none(), "too late");
        assert!(clients.comes_back("a", now).is_some());
        assert!(clients.comes_back("a", now).is_none(), "once");
    }
}
