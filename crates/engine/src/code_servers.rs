//! Servers for codes that did not answer of late, in this node's memory.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::Mutex;

use passeur_core::Moment;

/// For how long a server that did not answer is asked last.
const REST: chrono::Duration = chrono::Duration::minutes(1);

/// Servers that did not answer of late, each with when and why.
#[derive(Default)]
pub struct Silent(Mutex<HashMap<SocketAddr, (Moment, String)>>);

impl Silent {
    /// Servers that did not answer the last time they were asked.
    pub fn all(&self) -> Vec<(SocketAddr, String)> {
        let all = self.0.lock().unwrap_or_else(|e| e.into_inner());
        let mut out: Vec<_> = all.iter().map(|(server, (_, why))| (*server, why.clone())).collect();
        out.sort();
        out
    }

    /// Servers in the order in which they are asked.
    pub fn order(&self, servers: &[SocketAddr], now: Moment) -> Vec<SocketAddr> {
        let all = self.0.lock().unwrap_or_else(|e| e.into_inner());
        let rests = |s: &SocketAddr| all.get(s).is_some_and(|(at, _)| now < *at + REST);
        let (later, first): (Vec<_>, Vec<_>) = servers.iter().copied().partition(rests);
        first.into_iter().chain(later).collect()
    }

    /// Notes what came of asking a server: that it answered, or why not.
    pub fn note(&self, server: SocketAddr, silence: Option<(Moment, String)>) {
        let mut all = self.0.lock().unwrap_or_else(|e| e.into_inner());
        match silence {
            Some(silence) => all.insert(server, silence),
            None => all.remove(&server),
        };
    }

    /// Forgets servers that the site names no more.
    pub fn forget_others(&self, servers: &[SocketAddr]) {
        self.0.lock().unwrap_or_else(|e| e.into_inner()).retain(|s, _| servers.contains(s));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_server_that_did_not_answer_is_asked_last_for_a_minute() {
        let servers: Vec<SocketAddr> =
            ["192.0.2.1:1812", "192.0.2.2:1812", "192.0.2.3:1812"].map(|s| s.parse().unwrap()).to_vec();
        let now = Moment::from_timestamp(1_800_000_000, 0).unwrap();
        let silent = Silent::default();
        silent.note(servers[0], Some((now, "no answer".into())));
        let order = |seconds| silent.order(&servers, now + chrono::Duration::seconds(seconds));
        assert_eq!(order(59), [servers[1], servers[2], servers[0]]);
        assert_eq!(order(60), servers);
        assert_eq!(silent.all(), [(servers[0], "no answer".to_owned())]);
        silent.note(servers[0], None);
        assert!(silent.all().is_empty());
    }
}
