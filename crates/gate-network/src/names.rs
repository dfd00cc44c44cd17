//! Where the names of reaches lead: hosts are asked for every few seconds, and whatever a machine asks the zone's resolver for is learnt from
//! its answer ([`crate::resolver`]). An address that a name led to stays open for a while after it does no more: whoever asked just before
//! still goes there.

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::sync::Mutex;

use chrono::Duration;
use passeur_core::Moment;
use passeur_core::guard::check_peer;
use passeur_core::site::{Destination, Reach, Site};
use passeur_sluice::words::Order;

use crate::answers::Leads;
use crate::gate::NetworkGate;
use crate::neighbours::own_addresses;
use crate::plan::guarded;

/// How long an address stays open after a name led there.
const STAYS: Duration = Duration::minutes(10);
/// The most names that are resolved at once.
const AT_ONCE: usize = 16;

/// Whoever was told an address keeps it as long as they were told, and at most so long.
const KEPT_MAX: Duration = Duration::hours(24);
/// The most addresses of a reach's names.
const ADDRESSES_MAX: usize = 10_000;

/// Addresses that are open, by reach.
pub(crate) type Open = BTreeMap<String, BTreeSet<IpAddr>>;

/// Addresses by reach, with the moment until which they are open.
#[derive(Debug, Default)]
pub struct Names(Mutex<BTreeMap<String, BTreeMap<IpAddr, Moment>>>);

impl Names {
    /// Takes what names lead to now, and says what is open for each reach.
    fn take(&self, found: Vec<(String, Vec<IpAddr>)>, reaches: &BTreeSet<String>, now: Moment) -> Open {
        let mut all = self.0.lock().unwrap_or_else(|e| e.into_inner());
        all.retain(|reach, _| reaches.contains(reach));
        for reach in reaches {
            all.entry(reach.clone()).or_default();
        }
        for (reach, addresses) in found {
            let held = all.entry(reach).or_default();
            addresses.into_iter().for_each(|a| keep(held, a, now + STAYS));
        }
        for held in all.values_mut() {
            held.retain(|_, until| *until > now);
        }
        all.iter().map(|(reach, held)| (reach.clone(), held.keys().copied().collect())).collect()
    }

    /// Takes what somebody was told of a name of reaches.
    fn learn(&self, reaches: &[String], to: &[(IpAddr, u32)], now: Moment) {
        let mut all = self.0.lock().unwrap_or_else(|e| e.into_inner());
        for reach in reaches {
            let held = all.entry(reach.clone()).or_default();
            for (address, ttl) in to {
                let told = Duration::seconds(i64::from(*ttl)) + Duration::minutes(1);
                keep(held, *address, now + told.clamp(STAYS, KEPT_MAX));
            }
        }
    }

    /// What is open for some reaches.
    fn of(&self, reaches: &[String]) -> Open {
        let all = self.0.lock().unwrap_or_else(|e| e.into_inner());
        reaches.iter().filter_map(|r| Some((r.clone(), all.get(r)?.keys().copied().collect()))).collect()
    }
}

/// Keeps an address until a moment. Where there are too many, the one that would be over first gives way: whoever was just told an address goes
/// there, and nobody shuts others out by asking for a great many.
fn keep(held: &mut BTreeMap<IpAddr, Moment>, address: IpAddr, until: Moment) {
    let address = address.to_canonical();
    if held.len() >= ADDRESSES_MAX
        && !held.contains_key(&address)
        && let Some(first) = held.iter().min_by_key(|(_, until)| **until).map(|(a, _)| *a)
    {
        held.remove(&first);
    }
    let at = held.entry(address).or_insert(until);
    *at = (*at).max(until);
}

/// Reaches that have names.
fn named(site: &Site) -> BTreeSet<String> {
    site.reaches.iter().filter(|r| r.has_names()).map(|r| r.name.clone()).collect()
}

/// The hosts that reaches name, without those that stand for every name below one: a resolver tells of these.
fn hosts(site: &Site) -> Vec<(String, String)> {
    let of = |d: &Destination| match d {
        Destination::Name(p) => p.host().map(str::to_owned),
        Destination::Network(_) => None,
    };
    site.reaches.iter().flat_map(|r| r.to.iter().filter_map(of).map(|h| (r.name.clone(), h))).collect()
}

impl NetworkGate {
    /// Resolves every name, and tells the sluice. A name that does not resolve just now keeps what it had.
    pub(crate) async fn resolve_names(&self) {
        let Some(edition) = self.engine.live.get() else { return };
        if guarded(&edition.site, &self.interfaces()).next().is_none() {
            return;
        }
        let hosts = hosts(&edition.site);
        let reaches = named(&edition.site);
        if reaches.is_empty() {
            return;
        }
        let Some(own) = own() else { return };
        let (mut found, own) = (vec![], &own);
        for part in hosts.chunks(AT_ONCE) {
            let each = part.iter().map(async |(reach, host)| {
                let addresses = passeur_live::resolve::resolve(host, 0).await.unwrap_or_default();
                (reach.clone(), addresses.iter().map(|a| a.ip()).filter(|a| may_lead(own, *a)).collect::<Vec<_>>())
            });
            found.extend(futures_util::future::join_all(each).await);
        }
        let mut told = self.telling.lock().await;
        let open = self.names.take(found, &reaches, self.engine.now());
        told.clone_from(&open);
        self.tell_names(open, &mut told).await;
    }

    /// Opens what a name leads to for every reach that has it, before whoever asked is told.
    pub(crate) async fn learn(&self, leads: &Leads) {
        let Some(edition) = self.engine.live.get().filter(|_| !leads.to.is_empty()) else { return };
        let has = |r: &&Reach| r.to.iter().any(|d| matches!(d, Destination::Name(p) if p.covers(&leads.name)));
        let reaches: Vec<String> = edition.site.reaches.iter().filter(has).map(|r| r.name.clone()).collect();
        if reaches.is_empty() {
            return;
        }
        let Some(own) = own() else { return };
        let to: Vec<(IpAddr, u32)> = leads.to.iter().copied().filter(|(a, _)| may_lead(&own, *a)).collect();
        self.names.learn(&reaches, &to, self.engine.now());
        // What is told last is what holds: nobody tells an older list after it. Who waits here is told for by whoever went before.
        let mut told = self.telling.lock().await;
        let is_told = |reach: &String| told.get(reach).is_some_and(|t| to.iter().all(|(a, _)| t.contains(&a.to_canonical())));
        if reaches.iter().all(is_told) {
            return;
        }
        let open = self.names.of(&reaches);
        told.extend(open.clone());
        self.tell_names(open, &mut told).await;
    }

    /// Tells the sluice. What it does not take counts as told to nobody.
    async fn tell_names(&self, open: Open, told: &mut Open) {
        if let Err(e) = self.blocking(move |own| own.sluice.order(&Order::Names(open))).await {
            tracing::warn!(error = %e, "addresses of names could not be opened");
            told.clear();
        }
    }
}

/// Addresses of this machine; none where the kernel does not say, so that nothing is opened.
fn own() -> Option<BTreeSet<IpAddr>> {
    let all = own_addresses().inspect_err(|e| {
        tracing::warn!(error = %e, "this machine's own addresses cannot be read; where names lead is not opened");
    });
    Some(all.ok()?.into_iter().map(|own| own.address.to_canonical()).collect())
}

/// Whether a name may lead to an address: not to this machine, nor to what is nobody's. Who answers for a name would open the router itself.
fn may_lead(own: &BTreeSet<IpAddr>, address: IpAddr) -> bool {
    let address = address.to_canonical();
    !address.is_loopback() && !address.is_multicast() && check_peer(address).is_ok() && !own.contains(&address)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_stays_for_a_while_after_its_name_left_it() {
        let (names, reaches) = (Names::default(), BTreeSet::from(["r".to_owned()]));
        let at = |m: i64| chrono::DateTime::UNIX_EPOCH + Duration::minutes(m);
        let found = |a: &str| vec![("r".to_owned(), vec![a.parse().unwrap()])];
        let open = |all: Open| all["r"].iter().map(ToString::to_string).collect::<Vec<_>>();
        assert_eq!(open(names.take(found("10.0.0.1"), &reaches, at(0))), ["10.0.0.1"]);
        assert_eq!(open(names.take(found("10.0.0.2"), &reaches, at(5))), ["10.0.0.1", "10.0.0.2"]);
        assert_eq!(open(names.take(vec![], &reaches, at(11))), ["10.0.0.2"]);
        // Whoever was told that it holds for an hour goes there for an hour.
        let r = ["r".to_owned()];
        names.learn(&r, &[("10.0.0.9".parse().unwrap(), 3_600), ("10.0.0.2".parse().unwrap(), 1)], at(11));
        names.learn(&r, &[("10.0.0.9".parse().unwrap(), 60)], at(12));
        assert_eq!(open(names.of(&r)), ["10.0.0.2", "10.0.0.9"]);
        assert_eq!(open(names.take(vec![], &reaches, at(71))), ["10.0.0.9"]);
        assert_eq!(open(names.take(vec![], &reaches, at(73))), Vec::<String>::new());
        let many: Vec<(IpAddr, u32)> = (0..20_000u32).map(|n| (IpAddr::from(n.to_be_bytes()), 60)).collect();
        names.learn(&r, &many[..15_000], at(80));
        names.learn(&r, &[("10.0.0.9".parse().unwrap(), 3_600)], at(80));
        names.learn(&r, &many[15_000..], at(81));
        let full = open(names.of(&r));
        assert!(full.len() == ADDRESSES_MAX && full.contains(&"10.0.0.9".to_owned()), "whoever lasts longest stays");
    }

    #[test]
    fn no_name_leads_to_the_router_itself() {
        let own = BTreeSet::from(["10.70.0.1".parse().unwrap()]);
        for no in ["10.70.0.1", "::ffff:10.70.0.1", "127.0.0.1", "::1", "224.0.0.1", "0.0.0.0", "169.254.169.254"] {
            assert!(!may_lead(&own, no.parse().unwrap()), "{no}");
        }
        assert!(may_lead(&own, "10.80.4.7".parse().unwrap()));
    }
}
