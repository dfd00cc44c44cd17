//! Where the names of reaches lead, asked anew every few seconds. An address that a name led to stays open for a while after it does no
//! more: whoever asked just before still goes there.

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::sync::Mutex;

use chrono::Duration;
use passeur_core::Moment;
use passeur_core::site::{Destination, Site};
use passeur_sluice::words::Order;

use crate::gate::NetworkGate;
use crate::plan::guarded;

/// How long an address stays open after a name led there.
const STAYS: Duration = Duration::minutes(10);
/// The most names that are resolved at once.
const AT_ONCE: usize = 16;

/// Addresses by reach, with the moment at which a name led there last.
#[derive(Debug, Default)]
pub struct Names(Mutex<BTreeMap<String, BTreeMap<IpAddr, Moment>>>);

impl Names {
    /// Takes what names lead to now, and says what is open for each reach.
    fn take(
        &self,
        found: Vec<(String, Vec<IpAddr>)>,
        reaches: &BTreeSet<String>,
        now: Moment,
    ) -> BTreeMap<String, BTreeSet<IpAddr>> {
        let mut all = self.0.lock().unwrap_or_else(|e| e.into_inner());
        all.retain(|reach, _| reaches.contains(reach));
        for (reach, addresses) in found {
            let held = all.entry(reach).or_default();
            held.extend(addresses.into_iter().map(|a| (a.to_canonical(), now)));
        }
        for held in all.values_mut() {
            held.retain(|_, at| *at > now - STAYS);
        }
        all.iter().map(|(reach, held)| (reach.clone(), held.keys().copied().collect())).collect()
    }
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
        let reaches: BTreeSet<String> = hosts.iter().map(|(r, _)| r.clone()).collect();
        if reaches.is_empty() {
            return;
        }
        let mut found = vec![];
        for part in hosts.chunks(AT_ONCE) {
            let each = part.iter().map(async |(reach, host)| {
                let addresses = passeur_live::resolve::resolve(host, 0).await.unwrap_or_default();
                (reach.clone(), addresses.iter().map(|a| a.ip()).collect::<Vec<_>>())
            });
            found.extend(futures_util::future::join_all(each).await);
        }
        let open = self.names.take(found, &reaches, self.engine.now());
        if let Err(e) = self.blocking(move |own| own.sluice.order(&Order::Names(open))).await {
            tracing::warn!(error = %e, "addresses of names could not be opened");
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_stays_for_a_while_after_its_name_left_it() {
        let (names, reaches) = (Names::default(), BTreeSet::from(["r".to_owned()]));
        let at = |m: i64| chrono::DateTime::UNIX_EPOCH + Duration::minutes(m);
        let found = |a: &str| vec![("r".to_owned(), vec![a.parse().unwrap()])];
        let open = |all: BTreeMap<String, BTreeSet<IpAddr>>| all["r"].iter().map(ToString::to_string).collect::<Vec<_>>();
        assert_eq!(open(names.take(found("10.0.0.1"), &reaches, at(0))), ["10.0.0.1"]);
        assert_eq!(open(names.take(found("10.0.0.2"), &reaches, at(5))), ["10.0.0.1", "10.0.0.2"]);
        assert_eq!(open(names.take(vec![], &reaches, at(11))), ["10.0.0.2"]);
        assert!(names.take(found("10.0.0.3"), &BTreeSet::new(), at(12)).contains_key("r"));
    }
}
