//! Addresses that an entrance gives out: a machine has the same place in the networks of both families.

use std::net::{Ipv4Addr, Ipv6Addr};

use ipnet::IpNet;
use passeur_core::site::Zone;

/// The most addresses that are looked at for a free one.
const PLACES_MAX: u32 = 60_000;

/// The networks of an entrance.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pool {
    pub first: ipnet::Ipv4Net,
    pub second: Option<ipnet::Ipv6Net>,
}

impl Pool {
    /// Of an entrance; none where it has no IPv4 network, which the site file does not allow.
    pub fn of(zone: &Zone) -> Option<Pool> {
        let first = zone.networks.iter().find_map(|n| if let IpNet::V4(n) = n { Some(n.trunc()) } else { None })?;
        let second = zone.networks.iter().find_map(|n| if let IpNet::V6(n) = n { Some(n.trunc()) } else { None });
        Some(Pool { first, second })
    }

    /// The server's own addresses: the first of each network.
    pub fn server(&self) -> (Ipv4Addr, Option<Ipv6Addr>) {
        (at(self.first.network(), 1), self.second.map(|n| at6(n.network(), 1)))
    }

    /// A free place: the one that is wanted, or the lowest.
    pub fn take(&self, wanted: Option<Ipv4Addr>, is_taken: impl Fn(Ipv4Addr) -> bool) -> Option<Ipv4Addr> {
        let own = |a: &Ipv4Addr| self.first.contains(a) && self.is_given_out(*a);
        if let Some(wanted) = wanted.filter(own).filter(|a| !is_taken(*a)) {
            return Some(wanted);
        }
        let hosts = (2..PLACES_MAX).map(|n| at(self.first.network(), n));
        hosts.take_while(|a| self.first.contains(a) && *a != self.first.broadcast()).find(|a| !is_taken(*a))
    }

    /// How many machines have a place.
    pub fn places(&self) -> usize {
        let all = 1usize << (32 - u32::from(self.first.prefix_len()));
        all.min(PLACES_MAX as usize).saturating_sub(3)
    }

    fn is_given_out(&self, address: Ipv4Addr) -> bool {
        ![self.first.network(), self.first.broadcast(), at(self.first.network(), 1)].contains(&address)
    }

    /// The second address of the machine that has a first.
    pub fn second_of(&self, first: Ipv4Addr) -> Option<Ipv6Addr> {
        let place = u32::from(first).wrapping_sub(u32::from(self.first.network()));
        let second = self.second?;
        let address = at6(second.network(), place);
        second.contains(&address).then_some(address)
    }
}

fn at(network: Ipv4Addr, place: u32) -> Ipv4Addr {
    u32::from(network).wrapping_add(place).into()
}

fn at6(network: Ipv6Addr, place: u32) -> Ipv6Addr {
    u128::from(network).wrapping_add(u128::from(place)).into()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    fn pool(first: &str, second: Option<&str>) -> Pool {
        Pool { first: first.parse().unwrap(), second: second.map(|s| s.parse().unwrap()) }
    }

    #[test]
    fn every_address_but_the_networks_the_servers_and_the_broadcast_is_given_out_once() {
        let pool = pool("10.71.0.0/29", Some("fd71::/64"));
        let mut taken = BTreeSet::new();
        while let Some(a) = pool.take(None, |a| taken.contains(&a)) {
            assert!(taken.insert(a));
        }
        let all: Vec<String> = taken.iter().map(ToString::to_string).collect();
        assert_eq!(all, ["10.71.0.2", "10.71.0.3", "10.71.0.4", "10.71.0.5", "10.71.0.6"]);
        assert_eq!(pool.second_of([10, 71, 0, 5].into()), Some("fd71::5".parse().unwrap()));
        assert_eq!(pool.server(), ([10, 71, 0, 1].into(), Some("fd71::1".parse().unwrap())));
    }

    #[test]
    fn what_is_wanted_is_given_where_it_is_free_and_the_entrances_own() {
        let pool = pool("10.71.0.0/24", None);
        let none = |_| false;
        assert_eq!(pool.take(Some([10, 71, 0, 9].into()), none), Some([10, 71, 0, 9].into()));
        for other in [[10, 71, 0, 0], [10, 71, 0, 1], [10, 71, 0, 255], [10, 72, 0, 9]] {
            assert_eq!(pool.take(Some(other.into()), none), Some([10, 71, 0, 2].into()), "{other:?}");
        }
        assert_eq!(pool.take(Some([10, 71, 0, 9].into()), |a| a == Ipv4Addr::from([10, 71, 0, 9])), Some([10, 71, 0, 2].into()));
        assert_eq!(pool.second_of([10, 71, 0, 9].into()), None);
    }

    #[test]
    fn a_second_network_that_is_too_small_gives_no_address_of_anybody_elses() {
        assert_eq!(pool("10.71.0.0/24", Some("fd71::/125")).second_of([10, 71, 0, 9].into()), None);
    }
}
