//! Upstream addresses as the data path holds them: each with what TLS to it needs and with what is known of its health.
//! A target outlives the edition that first named it, so that connections and health survive a publication.

use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};

use passeur_core::id::sha256;
use passeur_core::site::{Gate, Health, Upstream, UpstreamTls};
use passeur_live::clock::ticks;
use uuid::Uuid;

use crate::control::UpstreamFailure;
use crate::upstream::connect;
use crate::upstream::tls::{self, Tls};

/// How long an address that did not accept is passed over, in milliseconds.
const REST_MS: i64 = 2_000;

static NEXT: AtomicU64 = AtomicU64::new(1);

/// One upstream address.
#[derive(Debug)]
pub struct Target {
    pub(crate) id: u64,
    pub address: Upstream,
    pub(crate) tls: Result<Option<Tls>, String>,
    settings: UpstreamTls,
    health: Option<Health>,
    /// False while its health path does not answer 2xx.
    well: AtomicBool,
    resting_until: AtomicI64,
    pub(crate) requests: AtomicU64,
    pub(crate) failures: AtomicU64,
    /// Whether it asked for an authentication of connections (NTLM, Negotiate), which a shared pool cannot carry.
    pub(crate) connection_auth: AtomicBool,
    last_failure: Mutex<Option<String>>,
}

/// What is known of a target, for engineers.
#[allow(clippy::struct_excessive_bools)] // Four independent facts, as they are told.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TargetState {
    pub address: String,
    pub draining: bool,
    pub well: bool,
    /// Whether anything was asked of it since it is in use here; until then nobody knows whether it is well.
    pub tried: bool,
    pub requests: u64,
    pub failures: u64,
    pub last_failure: Option<String>,
    pub connection_auth: bool,
}

impl Target {
    fn new(address: Upstream, settings: UpstreamTls, health: Option<Health>) -> Target {
        let tls = if address.https { tls::client(&address.host, &settings).map(Some) } else { Ok(None) };
        Target {
            id: NEXT.fetch_add(1, Ordering::Relaxed),
            address,
            tls,
            settings,
            health,
            well: AtomicBool::new(true),
            resting_until: AtomicI64::new(i64::MIN),
            requests: AtomicU64::new(0),
            failures: AtomicU64::new(0),
            connection_auth: AtomicBool::new(false),
            last_failure: Mutex::default(),
        }
    }

    /// How its health is asked for, if at all.
    pub(crate) fn health(&self) -> Option<&Health> {
        self.health.as_ref()
    }

    /// Notes whether its health path answered.
    pub(crate) fn seen(&self, well: Result<(), String>) {
        let now_well = well.is_ok();
        if self.well.swap(now_well, Ordering::Relaxed) != now_well {
            match &well {
                Ok(()) => tracing::info!(upstream = %self.address, "upstream is well again"),
                Err(why) => tracing::warn!(upstream = %self.address, why, "upstream is not well; requests go elsewhere"),
            }
        }
        if let Err(why) = well {
            self.keep(why);
        }
    }

    /// Notes that it did not take a request: it rests for a moment.
    pub(crate) fn failed(&self, why: &str) {
        self.failures.fetch_add(1, Ordering::Relaxed);
        self.resting_until.store(ticks() + REST_MS, Ordering::Relaxed);
        self.keep(why.to_owned());
    }

    fn keep(&self, why: String) {
        *self.last_failure.lock().unwrap_or_else(|e| e.into_inner()) = Some(why);
    }

    fn is_up(&self) -> bool {
        self.well.load(Ordering::Relaxed) && self.resting_until.load(Ordering::Relaxed) <= ticks()
    }
}

/// The targets of one gate.
#[derive(Debug)]
pub struct Route {
    members: Vec<(Arc<Target>, bool)>,
}

impl Route {
    /// The targets of a gate; those that an earlier edition had are used again.
    pub(crate) fn new(gate: &Gate, known: &[Arc<Target>]) -> Route {
        // Behind a gate of another kind is no application.
        let Some(u) = gate.web().map(|w| &w.upstreams) else { return Route { members: vec![] } };
        let members = u.members.iter().map(|m| {
            let same = |t: &&Arc<Target>| t.address == *m && t.settings == u.tls && t.health == u.health && t.tls.is_ok();
            let target = known.iter().find(same).cloned();
            (target.unwrap_or_else(|| Arc::new(Target::new(m.clone(), u.tls.clone(), u.health.clone()))), u.draining.contains(m))
        });
        Route { members: members.collect() }
    }

    pub(crate) fn targets(&self) -> impl Iterator<Item = &Arc<Target>> {
        self.members.iter().map(|(t, _)| t)
    }

    /// In which order to try for a session: the same session meets the same address while that is up, since legacy
    /// applications keep their own sessions in memory. Draining ones are left out; those that are down come last.
    pub(crate) fn order(&self, session: Uuid) -> Vec<&Arc<Target>> {
        if let [(only, false)] = self.members.as_slice() {
            return vec![only];
        }
        let mut open: Vec<&Arc<Target>> = self.members.iter().filter(|(_, draining)| !draining).map(|(t, _)| t).collect();
        if open.len() > 1 {
            // Rendezvous hashing: one address less moves only the sessions that it had.
            let weight = |t: &Target| {
                let mut bytes = session.as_bytes().to_vec();
                bytes.extend(t.address.to_string().as_bytes());
                sha256(&bytes)
            };
            open.sort_by_cached_key(|t| (!t.is_up(), weight(t)));
        }
        open
    }

    /// Connects to each that takes requests, without one: whether it accepts, and its certificate in DER.
    pub async fn probe(&self) -> Vec<(String, Result<Option<Vec<u8>>, UpstreamFailure>)> {
        let open = self.members.iter().filter(|(_, draining)| !draining);
        let each = open.map(|(t, _)| async move { (t.address.to_string(), connect::probe(t).await) });
        futures_util::future::join_all(each).await
    }

    /// What each address that takes requests answers to somebody who shows nothing: status and `WWW-Authenticate`. Those that do not
    /// answer are passed over.
    pub async fn offers(&self) -> Vec<(String, u16, Vec<String>)> {
        let open = self.members.iter().filter(|(_, draining)| !draining);
        let each = open.map(|(t, _)| async move {
            let head = crate::upstream::answer_to(t, "/").await.ok()?;
            let schemes = head.headers.get_all(http::header::WWW_AUTHENTICATE).iter();
            let text = |v: &http::HeaderValue| String::from_utf8_lossy(v.as_bytes()).chars().take(200).collect();
            Some((t.address.to_string(), head.status.as_u16(), schemes.take(8).map(text).collect()))
        });
        futures_util::future::join_all(each).await.into_iter().flatten().collect()
    }

    /// What is known of each, for engineers.
    pub fn states(&self) -> Vec<TargetState> {
        self.members
            .iter()
            .map(|(t, draining)| TargetState {
                address: t.address.to_string(),
                draining: *draining,
                well: t.is_up(),
                tried: t.health().is_some() || t.requests.load(Ordering::Relaxed) > 0 || t.failures.load(Ordering::Relaxed) > 0,
                requests: t.requests.load(Ordering::Relaxed),
                failures: t.failures.load(Ordering::Relaxed),
                last_failure: t.last_failure.lock().unwrap_or_else(|e| e.into_inner()).clone(),
                connection_auth: t.connection_auth.load(Ordering::Relaxed),
            })
            .collect()
    }
}

/// The host names of a site: which gate each means.
pub(crate) fn hosts(gates: &[Gate]) -> HashMap<String, usize> {
    let mut out = HashMap::new();
    for (i, g) in gates.iter().enumerate() {
        for name in g.address.names() {
            out.insert(name, i);
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn route(n: usize) -> Route {
        let target = |i: usize| {
            let address = Upstream { https: false, host: format!("10.0.0.{i}"), port: 80 };
            (Arc::new(Target::new(address, UpstreamTls::default(), None)), false)
        };
        Route { members: (0..n).map(target).collect() }
    }

    fn first(route: &Route, session: u128) -> u64 {
        route.order(Uuid::from_u128(session))[0].id
    }

    #[test]
    fn a_session_keeps_its_address_and_moves_only_when_that_is_down() {
        let r = route(4);
        let before: Vec<u64> = (0..200).map(|s| first(&r, s)).collect();
        assert_eq!(before, (0..200).map(|s| first(&r, s)).collect::<Vec<_>>());
        for (t, _) in &r.members {
            let share = before.iter().filter(|id| **id == t.id).count();
            assert!((20..90).contains(&share), "{share} of 200 sessions");
        }
        let lost = &r.members[2].0;
        lost.failed("refused");
        for (s, was) in before.iter().enumerate() {
            let now = first(&r, s as u128);
            assert_ne!(now, lost.id);
            assert!(*was == lost.id || now == *was, "a session moved for nothing");
        }
        assert_eq!(r.order(Uuid::nil()).last().unwrap().id, lost.id, "the one that is down is tried last");
    }

    #[test]
    fn draining_takes_nothing_new_and_unwell_comes_last() {
        let mut r = route(3);
        r.members[0].1 = true;
        r.members[1].0.seen(Err("503".into()));
        let order: Vec<u64> = r.order(Uuid::from_u128(7)).iter().map(|t| t.id).collect();
        assert_eq!(order, [r.members[2].0.id, r.members[1].0.id]);
        r.members[1].0.seen(Ok(()));
        assert!(r.states().iter().all(|s| s.well));
        assert!(r.states()[0].draining);
    }
}
