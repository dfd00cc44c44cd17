//! Caps against floods: how many connections and handshakes may be open, from one address and in all, and counters of
//! what was turned away. A count that only grows is shown to engineers; the caps hold whether or not anybody looks.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};

use passeur_core::address::neighbourhood;

/// The most connections open at once on a node.
pub(crate) const CONNECTIONS_MAX: usize = 20_000;
/// The most connections open at once from one address.
const ADDRESS_MAX: u32 = 1_000;
/// The most TLS handshakes under way from one address.
const HANDSHAKES_MAX: u32 = 64;

/// What was accepted and what was turned away since the node started.
#[derive(Debug, Default)]
pub struct Counters {
    pub accepted: AtomicU64,
    /// Turned away because the node was full.
    pub full: AtomicU64,
    /// Turned away because the address had too many connections.
    pub address_full: AtomicU64,
    /// Turned away because the address had too many handshakes under way.
    pub handshakes_full: AtomicU64,
    /// TLS handshakes that failed or took too long.
    pub handshakes_failed: AtomicU64,
    /// Connections that ended with an error: a head that was too slow, too large or no HTTP, a reset, a protocol flood.
    pub broken: AtomicU64,
}

/// Counts one more.
pub(crate) fn count(counter: &AtomicU64) {
    counter.fetch_add(1, Ordering::Relaxed);
}

impl Counters {
    /// Each counter by its name.
    pub fn all(&self) -> [(&'static str, u64); 6] {
        let n = |c: &AtomicU64| c.load(Ordering::Relaxed);
        [
            ("accepted", n(&self.accepted)),
            ("turned away, node full", n(&self.full)),
            ("turned away, address full", n(&self.address_full)),
            ("turned away, handshakes", n(&self.handshakes_full)),
            ("handshakes failed", n(&self.handshakes_failed)),
            ("connections broken", n(&self.broken)),
        ]
    }
}

#[derive(Clone, Copy, Debug, Default)]
struct Open {
    connections: u32,
    handshakes: u32,
}

/// What is open, by address.
#[derive(Debug, Default)]
pub(crate) struct Floods {
    open: Mutex<HashMap<IpAddr, Open>>,
    pub(crate) counters: Arc<Counters>,
}

impl Floods {
    fn with<T>(&self, address: IpAddr, change: impl FnOnce(&mut Open) -> T) -> T {
        let mut open = self.open.lock().unwrap_or_else(|e| e.into_inner());
        let entry = open.entry(address).or_default();
        let out = change(entry);
        if entry.connections == 0 && entry.handshakes == 0 {
            open.remove(&address);
        }
        out
    }

    /// A place for a connection; none when its address has too many. A trusted address may have any number.
    pub(crate) fn connection(self: &Arc<Floods>, address: IpAddr, trusted: bool) -> Option<Place> {
        let address = neighbourhood(address);
        let ok = self.with(address, |o| {
            let ok = trusted || o.connections < ADDRESS_MAX;
            o.connections += u32::from(ok);
            ok
        });
        if !ok {
            count(&self.counters.address_full);
        }
        ok.then(|| Place { floods: self.clone(), address, handshake: false })
    }

    /// A place for a handshake; none when its address has too many under way.
    pub(crate) fn handshake(self: &Arc<Floods>, address: IpAddr) -> Option<Place> {
        let address = neighbourhood(address);
        let ok = self.with(address, |o| {
            let ok = o.handshakes < HANDSHAKES_MAX;
            o.handshakes += u32::from(ok);
            ok
        });
        if !ok {
            count(&self.counters.handshakes_full);
        }
        ok.then(|| Place { floods: self.clone(), address, handshake: true })
    }
}

/// A place that is free again when this is dropped.
#[derive(Debug)]
pub(crate) struct Place {
    floods: Arc<Floods>,
    address: IpAddr,
    handshake: bool,
}

impl Drop for Place {
    fn drop(&mut self) {
        self.floods.with(self.address, |o| {
            let n = if self.handshake { &mut o.handshakes } else { &mut o.connections };
            *n = n.saturating_sub(1);
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_has_so_many_places_and_gets_them_back() {
        let floods = Arc::new(Floods::default());
        let (a, b): (IpAddr, IpAddr) = ("192.0.2.7".parse().unwrap(), "192.0.2.8".parse().unwrap());
        let mut held: Vec<Place> = (0..ADDRESS_MAX).map(|_| floods.connection(a, false).unwrap()).collect();
        assert!(floods.connection(a, false).is_none() && floods.connection(b, false).is_some());
        held.pop();
        assert!(floods.connection(a, true).is_some(), "a trusted one has any number");
        assert!(floods.connection(a, false).is_some(), "one left, one came");
        let hands: Vec<Place> = (0..HANDSHAKES_MAX).map(|_| floods.handshake(b).unwrap()).collect();
        assert!(floods.handshake(b).is_none());
        drop((held, hands));
        assert!(floods.open.lock().unwrap().is_empty(), "nothing is remembered of who left");
        assert_eq!(floods.counters.all()[2].1 + floods.counters.all()[3].1, 2);
    }
}
