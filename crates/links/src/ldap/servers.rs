//! The servers of a directory: asked in the order of the site file, passed over for a while when they do not answer.
//!
//! A server that failed rests, twice as long after every failure in a row; while it rests the next one is asked first. When
//! all rest, all are asked again: a short break must not become a long one. A refused account is no failure of a server: it
//! is not tried elsewhere, since every refusal counts towards the account being locked.

use std::sync::Mutex as StdMutex;

use chrono::Duration;
use passeur_core::Moment;
use tokio::sync::Mutex;

/// How long a server rests after its first failure, and at most.
const REST_FIRST_S: i64 = 2;
const REST_MAX_S: i64 = 60;

/// One server of a directory, as this node sees it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ServerState {
    pub address: String,
    /// Whether its last answer was one; true before it was asked.
    pub well: bool,
    pub answers: u64,
    pub failures: u64,
    /// The last failure in words, and when; kept when it is well again.
    pub last_failure: Option<(String, Moment)>,
    pub last_answer: Option<Moment>,
    /// Until when it is passed over.
    pub rests_until: Option<Moment>,
}

#[derive(Default)]
struct Health {
    answers: u64,
    failures: u64,
    in_a_row: u32,
    last_failure: Option<(String, Moment)>,
    last_answer: Option<Moment>,
    rests_until: Option<Moment>,
}

/// A server with its connection.
pub(super) struct Server {
    pub(super) address: String,
    pub(super) connection: Mutex<Option<ldap3::Ldap>>,
    health: StdMutex<Health>,
}

impl Server {
    pub(super) fn new(address: String) -> Server {
        Server { address, connection: Mutex::new(None), health: StdMutex::default() }
    }

    fn health(&self) -> std::sync::MutexGuard<'_, Health> {
        self.health.lock().unwrap_or_else(|e| e.into_inner())
    }

    pub(super) fn answered(&self, now: Moment) {
        let mut h = self.health();
        h.answers += 1;
        (h.in_a_row, h.last_answer, h.rests_until) = (0, Some(now), None);
    }

    pub(super) fn failed(&self, why: &str, now: Moment) {
        let mut h = self.health();
        h.failures += 1;
        h.in_a_row = h.in_a_row.saturating_add(1);
        let rest = (REST_FIRST_S << (h.in_a_row - 1).min(10)).min(REST_MAX_S);
        (h.last_failure, h.rests_until) = (Some((why.to_owned(), now)), Some(now + Duration::seconds(rest)));
    }

    fn rests(&self, now: Moment) -> Option<Moment> {
        self.health().rests_until.filter(|until| now < *until)
    }

    pub(super) fn state(&self) -> ServerState {
        let h = self.health();
        ServerState {
            address: self.address.clone(),
            well: h.in_a_row == 0,
            answers: h.answers,
            failures: h.failures,
            last_failure: h.last_failure.clone(),
            last_answer: h.last_answer,
            rests_until: h.rests_until,
        }
    }
}

/// Servers in the order in which they are to be asked: those that do not rest, then those that rest the shortest.
pub(super) fn order(servers: &[Server], now: Moment) -> Vec<&Server> {
    let mut out: Vec<(Option<Moment>, &Server)> = servers.iter().map(|s| (s.rests(now), s)).collect();
    out.sort_by_key(|(rests, _)| *rests);
    out.into_iter().map(|(_, s)| s).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(seconds: i64) -> Moment {
        chrono::DateTime::from_timestamp(1_795_000_000 + seconds, 0).unwrap_or_default()
    }

    #[test]
    fn a_server_that_fails_is_asked_last_and_rests_longer_each_time() {
        let servers = ["a", "b", "c"].map(|n| Server::new(n.to_owned()));
        let asked = |now| order(&servers, now).iter().map(|s| s.address.clone()).collect::<String>();
        assert_eq!(asked(at(0)), "abc");
        servers[0].failed("no answer", at(0));
        assert_eq!(asked(at(1)), "bca");
        assert_eq!(asked(at(2)), "abc", "it has rested");
        servers[0].failed("no answer", at(2));
        assert_eq!(asked(at(5)), "bca", "twice as long");
        servers[1].failed("no answer", at(5));
        assert_eq!(asked(at(5)), "cab");
        servers[0].answered(at(5));
        assert_eq!(asked(at(5)), "acb");
        for i in 0..80 {
            servers[2].failed("no answer", at(i));
        }
        assert_eq!(servers[2].state().rests_until, Some(at(79 + REST_MAX_S)));
        assert!(!servers[2].state().well && servers[0].state().well);
    }
}
