//! Requests that were asked of late: one that comes again is the client's, which heard no answer (RFC 5080 section 2.2.2), and gets the same one.

use std::collections::{HashMap, VecDeque};
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use passeur_live::session::LiveSession;

/// For how long an answer is kept. Clients give up before.
const KEPT: Duration = Duration::from_secs(30);
/// The most that are kept.
const KEPT_MAX: usize = 20_000;

/// What tells requests apart: who sent it, its number, and its authenticator, which no two have.
pub type Key = (SocketAddr, u8, [u8; 16]);

/// Whether a request came before.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Seen {
    /// It is new, and is being answered from now on.
    New,
    /// It came before: with what it was answered, or nothing where it is being answered.
    Before(Option<Arc<[u8]>>),
    /// It is new, and no more are kept.
    Full,
}

/// An answer, and the session that it opens.
type Kept = (Arc<[u8]>, Option<Arc<LiveSession>>);

/// What was asked of late.
#[derive(Default)]
pub struct Duplicates {
    answers: HashMap<Key, Option<Kept>>,
    order: VecDeque<(Instant, Key)>,
}

impl Duplicates {
    /// Notes a request.
    pub fn asked(&mut self, key: Key, now: Instant) -> Seen {
        while self.order.front().is_some_and(|(at, _)| now.duration_since(*at) >= KEPT) {
            if let Some((_, old)) = self.order.pop_front() {
                self.answers.remove(&old);
            }
        }
        match self.answers.get(&key) {
            // What let somebody in who was put out since lets nobody in again: it is decided anew.
            Some(Some((_, Some(live)))) if live.is_ended() => {
                self.answers.insert(key, None);
                return Seen::New;
            }
            Some(answer) => return Seen::Before(answer.as_ref().map(|(octets, _)| octets.clone())),
            None => {}
        }
        // One that was dropped and asked again stands in the order twice, and goes with the first.
        if self.order.len() >= KEPT_MAX {
            return Seen::Full;
        }
        self.answers.insert(key, None);
        self.order.push_back((now, key));
        Seen::New
    }

    /// Forgets a request that is not answered: the client may ask again.
    pub fn dropped(&mut self, key: &Key) {
        if self.answers.get(key).is_some_and(Option::is_none) {
            self.answers.remove(key);
        }
    }

    /// Keeps what a request was answered with.
    pub fn answered(&mut self, key: &Key, answer: Arc<[u8]>, opens: Option<Arc<LiveSession>>) {
        if let Some(held) = self.answers.get_mut(key) {
            *held = Some((answer, opens));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_request_that_comes_again_gets_the_same_answer_until_it_is_forgotten() {
        let (mut all, now) = (Duplicates::default(), Instant::now());
        let key: Key = ("192.0.2.1:5000".parse().unwrap(), 7, [1; 16]);
        assert_eq!(all.asked(key, now), Seen::New);
        assert_eq!(all.asked(key, now), Seen::Before(None), "it is being answered");
        let answer: Arc<[u8]> = Arc::from([1u8, 2, 3]);
        all.answered(&key, answer.clone(), None);
        assert_eq!(all.asked(key, now + Duration::from_secs(29)), Seen::Before(Some(answer)));
        all.dropped(&key);
        assert!(matches!(all.asked(key, now), Seen::Before(Some(_))), "what was answered is not forgotten");
        let silent: Key = ("192.0.2.3:5000".parse().unwrap(), 7, [1; 16]);
        assert_eq!(all.asked(silent, now), Seen::New);
        all.dropped(&silent);
        assert_eq!(all.asked(silent, now), Seen::New, "it may be asked again");
        for other in [(key.0, 8, key.2), (key.0, 7, [2; 16]), ("192.0.2.2:5000".parse().unwrap(), 7, key.2)] {
            assert_eq!(all.asked(other, now), Seen::New, "{other:?}");
        }
        assert_eq!(all.asked(key, now + KEPT), Seen::New);
        assert_eq!(all.answers.len(), 1, "what is forgotten is kept no more");
    }

    #[test]
    fn what_let_somebody_in_lets_nobody_in_once_their_session_is_over() {
        let (mut all, now) = (Duplicates::default(), Instant::now());
        let key: Key = ("192.0.2.1:5000".parse().unwrap(), 7, [1; 16]);
        let live =
            Arc::new(LiveSession::new(uuid::Uuid::nil(), chrono::DateTime::UNIX_EPOCH, chrono::DateTime::UNIX_EPOCH, None));
        assert_eq!(all.asked(key, now), Seen::New);
        all.answered(&key, Arc::from([2u8]), Some(live.clone()));
        assert!(matches!(all.asked(key, now), Seen::Before(Some(_))));
        live.end();
        assert_eq!(all.asked(key, now), Seen::New, "it is decided anew");
        assert_eq!(all.asked(key, now), Seen::Before(None), "once");
    }

    #[test]
    fn what_is_kept_is_bounded() {
        let (mut all, now) = (Duplicates::default(), Instant::now());
        let key = |n: usize| -> Key {
            let mut authenticator = [0; 16];
            authenticator[..8].copy_from_slice(&(n as u64).to_be_bytes());
            ("192.0.2.1:5000".parse().unwrap(), 0, authenticator)
        };
        assert!((0..KEPT_MAX).all(|n| all.asked(key(n), now) == Seen::New));
        assert_eq!(all.asked(key(KEPT_MAX), now), Seen::Full);
        assert_eq!(all.asked(key(KEPT_MAX), now + KEPT), Seen::New);
    }
}
