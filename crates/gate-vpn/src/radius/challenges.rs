//! Codes that are asked for after a password was proven (Access-Challenge, RFC 2865 section 4.4): what was proven is kept here meanwhile, under a State
//! that is good once, for the client and the name to which it was said.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use passeur_core::evidence::Evidence;
use passeur_core::id::{CrossingId, Token};

/// How long a person may take.
pub const WITHIN: Duration = Duration::from_secs(120);
/// The most that are asked at a time: at a client, and in all.
const OF_CLIENT_MAX: usize = 300;
const OF_ALL_MAX: usize = 2_000;

/// What was proven, and of whom a code is asked.
#[derive(Clone, Debug)]
pub struct Waiting {
    /// The client, and the name as it said it.
    pub client: String,
    pub user: String,
    pub evidence: Evidence,
    pub name: String,
    /// Methods (RFC 8176) of which one is needed.
    pub wanted: Vec<String>,
    /// The crossing in which it was asked.
    pub crossing: CrossingId,
}

/// All that wait.
#[derive(Debug, Default)]
pub struct Challenges(Mutex<HashMap<[u8; 32], (Instant, Waiting)>>);

impl Challenges {
    /// Keeps what was proven until its code comes. Whoever is asked again at the same client is asked the last time only. False where too many wait.
    pub fn ask(&self, state: &Token, waiting: Waiting, now: Instant) -> bool {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let same = |w: &Waiting| w.client == waiting.client && w.evidence.person() == waiting.evidence.person();
        all.retain(|_, (until, w)| *until > now && !same(w));
        let of_client = all.values().filter(|(_, w)| w.client == waiting.client).count();
        if all.len() >= OF_ALL_MAX || of_client >= OF_CLIENT_MAX {
            return false;
        }
        all.insert(state.digest(), (now + WITHIN, waiting));
        true
    }

    /// Takes what waits under a State, which is good once, whoever shows it; none where it is another client's, or another name's.
    pub fn take(&self, state: &[u8], client: &str, user: &str, now: Instant) -> Option<Waiting> {
        let token = Token::parse(std::str::from_utf8(state).ok()?)?;
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let (until, waiting) = all.remove(&token.digest())?;
        let is_theirs = waiting.client == client && waiting.user.eq_ignore_ascii_case(user);
        (until > now && is_theirs).then_some(waiting)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use passeur_core::evidence::WayIn;

    fn waiting(client: &str, user: &str) -> Waiting {
        let evidence =
            Evidence::of(WayIn::Password, "harbour-password".to_owned(), user.to_owned(), "https://x.example".to_owned());
        let crossing = "000-0000-0000".parse().unwrap();
        Waiting { client: client.into(), user: user.into(), evidence, name: user.into(), wanted: vec![], crossing }
    }

    fn token(n: u8) -> Token {
        Token::from_random([n; 32])
    }

    #[test]
    fn a_state_is_good_once_for_its_client_and_its_name() {
        let (all, now) = (Challenges::default(), Instant::now());
        let state = |n: u8| token(n).reveal().as_bytes().to_vec();
        let ask = |n: u8, user: &str| all.ask(&token(n), waiting("doors", user), now);
        assert!(ask(1, "anouk"));
        assert_eq!(all.take(&state(1), "doors", "Anouk", now).unwrap().user, "anouk");
        assert!(all.take(&state(1), "doors", "anouk", now).is_none(), "once");
        for (client, user, at) in [("gateway", "anouk", now), ("doors", "lucie", now), ("doors", "anouk", now + WITHIN)] {
            assert!(ask(2, "anouk"));
            assert!(all.take(&state(2), client, user, at).is_none(), "{client} {user}");
            assert!(all.take(&state(2), "doors", "anouk", now).is_none(), "it is used up");
        }
        assert!(all.take(b"\xff", "doors", "anouk", now).is_none() && all.take(b"", "doors", "anouk", now).is_none());
        // The last question counts.
        assert!(ask(3, "anouk") && ask(4, "anouk"));
        assert!(all.take(&state(3), "doors", "anouk", now).is_none() && all.take(&state(4), "doors", "anouk", now).is_some());
    }

    #[test]
    fn what_waits_is_bounded_and_makes_room_with_time() {
        let (all, now) = (Challenges::default(), Instant::now());
        let many = |from: usize, at: Instant| {
            (from..from + OF_CLIENT_MAX).all(|n| {
                let mut octets = [0; 32];
                octets[..8].copy_from_slice(&(n as u64).to_be_bytes());
                all.ask(&Token::from_random(octets), waiting("doors", &format!("p{n}")), at)
            })
        };
        assert!(many(0, now));
        assert!(!all.ask(&token(255), waiting("doors", "one-more"), now));
        assert!(all.ask(&token(254), waiting("gateway", "another"), now), "another client's people are asked");
        assert!(many(10_000, now + WITHIN));
    }
}
