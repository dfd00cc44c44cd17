//! A fresh proof: what outlives a session (factors, tokens, a command line that is let in) is made only shortly after somebody proved who
//! they are, to a request that asked for it. One rule for all of them.
//!
//! When a provider does not say when somebody proved who they are, that counts as long ago. It is asked for a new proof then
//! (`prompt=login` and `max_age=0`, ForceAuthn), with which it has to say.

use chrono::Duration;
use passeur_core::Moment;
use passeur_core::evidence::{Evidence, WayIn};

/// How long ago the proof may have been, in minutes.
const MINUTES: i64 = 15;

/// Whether the proof of a sign-in is fresh. One that nobody asked for never is, nor is somebody else's word: a guest makes nothing that outlives
/// their session.
pub fn is_fresh(evidence: &Evidence, now: Moment) -> bool {
    !evidence.unasked && evidence.way_in != WayIn::Sponsor && is_recent(evidence.factors.auth_time, now)
}

/// Whether something happened of late, and not in time to come.
pub fn is_recent(at: Option<Moment>, now: Moment) -> bool {
    at.is_some_and(|t| t <= now && now < t + Duration::minutes(MINUTES))
}

/// When somebody proved who they are, by our clock: never after the answer that says so, however far ahead the provider's clock is.
pub fn proven_at(said: Option<Moment>, arrived: Moment) -> Option<Moment> {
    said.map(|t| t.min(arrived))
}

#[cfg(test)]
mod tests {
    use super::*;
    use passeur_core::evidence::Factors;

    #[test]
    fn a_proof_is_fresh_for_a_quarter_of_an_hour_and_one_without_a_time_never() {
        let now = chrono::DateTime::from_timestamp(1_800_000_000, 0).unwrap();
        let at = |ago: Option<i64>| Evidence {
            factors: Factors { auth_time: ago.map(|s| now - Duration::seconds(s)), ..Factors::default() },
            ..Evidence::of(WayIn::Oidc, "p", "s", "i")
        };
        for (ago, fresh) in
            [(None, false), (Some(0), true), (Some(899), true), (Some(900), false), (Some(-1), false), (Some(-600), false)]
        {
            assert_eq!(is_fresh(&at(ago), now), fresh, "{ago:?}");
            assert!(!is_fresh(&Evidence { unasked: true, ..at(ago) }, now), "nobody asked for it");
            assert!(!is_fresh(&Evidence { way_in: WayIn::Sponsor, ..at(ago) }, now), "a guest makes nothing");
        }
        assert_eq!(proven_at(Some(now + Duration::hours(1)), now), Some(now), "a provider whose clock is ahead");
        assert_eq!(proven_at(None, now), None);
    }
}
