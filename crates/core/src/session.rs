//! How long a session lives. Core knows the session, not what carries it.

use chrono::Duration;
use serde::{Deserialize, Serialize};

use crate::Moment;

/// Lifetimes of sessions, from the edition. By default nothing lives.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Lifetimes {
    /// Ends this long after the last request.
    pub idle: Duration,
    /// Ends this long after the sign-in, whatever happens.
    pub absolute: Duration,
}

/// The facts of a session that its life depends on. Moments are kept to the millisecond.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Life {
    began: i64,
    last_seen: i64,
    is_ended: bool,
    /// [`i64::MAX`] where the provider does not say.
    until: i64,
}

impl Life {
    /// Of what the store says; `until` is how long the provider's own session lasts, where it says so.
    pub fn new(began: Moment, last_seen: Moment, ended: Option<Moment>, until: Option<Moment>) -> Life {
        let until = until.map_or(i64::MAX, |u| u.timestamp_millis());
        Life::of_millis(began.timestamp_millis(), last_seen.timestamp_millis(), ended.is_some(), until)
    }

    /// Of milliseconds since 1970, for the data path, which asks with each request; `until` is [`i64::MAX`] where the provider does not
    /// say.
    pub fn of_millis(began: i64, last_seen: i64, is_ended: bool, until: i64) -> Life {
        Life { began, last_seen, is_ended, until }
    }
}

/// How far a clock may stand before what was seen of a session.
const BACK_MS: i64 = 300_000;

/// Whether a session may still be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum State {
    Live,
    /// Ended by the person or an engineer.
    Ended,
    /// Not used for longer than the idle lifetime.
    IdleTooLong,
    /// Older than the absolute lifetime.
    TooOld,
}

impl State {
    /// A short code for step parameters.
    pub fn code(&self) -> &'static str {
        match self {
            State::Live => "live",
            State::Ended => "ended",
            State::IdleTooLong => "idle-too-long",
            State::TooOld => "too-old",
        }
    }
}

impl Lifetimes {
    /// The state at `now`. A clock that stands before what was seen of the session extends nothing: it counts as too old.
    pub fn state(&self, life: &Life, now: Moment) -> State {
        let now = now.timestamp_millis();
        if life.is_ended {
            State::Ended
        } else if now < life.began.max(life.last_seen) - BACK_MS || now >= self.latest(life) {
            State::TooOld
        } else if now >= self.idle_at(life) {
            State::IdleTooLong
        } else {
            State::Live
        }
    }

    /// The millisecond beyond which it never lasts.
    fn latest(&self, life: &Life) -> i64 {
        life.began.saturating_add(self.absolute.num_milliseconds()).min(life.until)
    }

    fn idle_at(&self, life: &Life) -> i64 {
        life.last_seen.saturating_add(self.idle.num_milliseconds())
    }

    /// Until when nothing but a revocation can end the session, if it is not used again.
    pub fn good_until(&self, life: &Life) -> Moment {
        let ms = self.latest(life).min(self.idle_at(life));
        Moment::from_timestamp_millis(ms).unwrap_or(Moment::MAX_UTC)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_session_ends_by_each_of_its_limits_and_not_before() {
        let t0 = chrono::DateTime::from_timestamp(1_795_000_000, 0).unwrap();
        let m = Duration::minutes(1);
        let limits = Lifetimes { idle: m * 30, absolute: m * 600 };
        let life = |seen: i32, ended: Option<i32>| Life::new(t0, t0 + m * seen, ended.map(|e| t0 + m * e), None);
        let until = |seen: i32, until: i32| Life::new(t0, t0 + m * seen, None, Some(t0 + m * until));
        let table = [
            (life(0, None), 0, State::Live),
            (life(0, None), 29, State::Live),
            (life(0, None), 30, State::IdleTooLong),
            (life(590, None), 599, State::Live),
            (life(599, None), 600, State::TooOld),
            (life(1, Some(1)), 1, State::Ended),
            (life(0, None), -4, State::Live),
            (life(0, None), -6, State::TooOld),
            (life(20, None), 14, State::TooOld),
            // The provider's own session may end before ours, and never makes it longer.
            (until(40, 45), 44, State::Live),
            (until(40, 45), 45, State::TooOld),
            (until(599, 6_000), 600, State::TooOld),
        ];
        for (life, at, want) in table {
            assert_eq!(limits.state(&life, t0 + m * at), want, "at {at}");
            if want == State::Live && at >= 0 {
                assert!(t0 + m * at < limits.good_until(&life));
            }
        }
    }
}
