//! Trials of entrances: an engineer begins one for clients from a network, for a person or for both; whoever connects is decided on as always and
//! told everything, and nothing is opened to them. A connection that began in a trial stays in it: where the trial is over by then, it is refused,
//! and not let through for real.

use std::net::IpAddr;

use chrono::Duration;
use ipnet::IpNet;
use passeur_core::Moment;
use passeur_core::id::CrossingId;
use passeur_store::{EntranceTrialRow, SessionRow, StoreError};
use uuid::Uuid;

use crate::Engine;

/// How long one goes on, unless it is ended before.
pub const OPEN_FOR: Duration = Duration::minutes(30);

/// What a connection that may be of a trial is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Tried {
    /// It is of none: trials are about somebody else, or there never was one.
    No,
    /// Nothing is opened to it.
    By {
        trial: Uuid,
        /// Who began it.
        by: String,
        /// It lasts until then.
        until: Moment,
    },
    /// The trial in which it began is over.
    Over,
}

/// The trials that a client's connection may begin in, by where it comes from, the newest first; whose it is shows later.
///
/// # Errors
/// Those of the store: whether anything may be opened to the client is not known then.
pub async fn of_connection(engine: &Engine, entrance: &str, outside: IpAddr) -> Result<Vec<Uuid>, StoreError> {
    let open = engine.store.open_entrance_trials(Some(entrance), engine.now()).await?;
    Ok(open.into_iter().filter(|t| is_from(t, outside)).map(|t| t.id).collect())
}

/// Whether a trial is about clients at an address. What cannot be read is about everybody: nothing is opened then.
fn is_from(trial: &EntranceTrialRow, outside: IpAddr) -> bool {
    match &trial.network {
        None => true,
        Some(network) => network.parse::<IpNet>().map_or(true, |n| n.contains(&outside.to_canonical())),
    }
}

/// Whether a trial is about somebody: by subject, or by name without regard to case.
pub fn is_about(trial: &EntranceTrialRow, subject: &str, name: &str) -> bool {
    trial.person.as_ref().is_none_or(|p| p == subject || p.to_lowercase() == name.to_lowercase())
}

/// What somebody's connection is that began in trials: the first of them that is about the person counts.
///
/// # Errors
/// Those of the store.
pub async fn stands(engine: &Engine, trials: &[Uuid], whose: &SessionRow) -> Result<Tried, StoreError> {
    for id in trials {
        match engine.store.entrance_trial(*id).await? {
            Some(trial) if !is_about(&trial, &whose.subject, &whose.name) => {}
            Some(trial) if trial.is_open(engine.now()) => {
                return Ok(Tried::By { trial: trial.id, by: trial.begun_by, until: trial.expires_at });
            }
            _ => return Ok(Tried::Over),
        }
    }
    Ok(Tried::No)
}

/// Notes that a crossing tells of trials: of those that are about whose it is, and, before that is known, of those that are about anybody. What
/// cannot be written is told in the log alone: the crossing is there all the same.
pub async fn note(engine: &Engine, trials: &[Uuid], crossing: CrossingId, whose: Option<(&str, &str)>) {
    for id in trials {
        let noted = async {
            let Some(trial) = engine.store.entrance_trial(*id).await? else { return Ok(()) };
            let is_told = match whose {
                Some((subject, name)) => is_about(&trial, subject, name),
                None => trial.person.is_none(),
            };
            match is_told {
                true => engine.store.note_in_entrance_trial(*id, &crossing.to_string()).await,
                false => Ok::<_, StoreError>(()),
            }
        };
        if let Err(e) = noted.await {
            tracing::warn!(error = %e, "that a crossing tells of a trial cannot be written");
        }
    }
}

#[cfg(test)]
mod tests {
    use chrono::DateTime;

    use super::*;

    fn trial(network: Option<&str>, person: Option<&str>) -> EntranceTrialRow {
        let begun = DateTime::UNIX_EPOCH;
        EntranceTrialRow {
            id: Uuid::nil(),
            gate: "tunnel".into(),
            entrance: "pilots".into(),
            network: network.map(str::to_owned),
            person: person.map(str::to_owned),
            begun_by: "Lucie Abgrall".into(),
            begun,
            expires_at: begun + OPEN_FOR,
            ended_at: None,
            ended_by: None,
            crossings: vec![],
        }
    }

    #[test]
    fn a_trial_is_about_clients_of_a_network_and_about_a_person() {
        let at = |text: &str| text.parse::<IpAddr>().unwrap();
        for (network, outside, is) in [
            (None, "198.51.100.7", true),
            (Some("198.51.100.7/32"), "198.51.100.7", true),
            (Some("198.51.100.7/32"), "::ffff:198.51.100.7", true),
            (Some("198.51.100.7/32"), "198.51.100.8", false),
            (Some("2001:db8::/64"), "2001:db8::9", true),
            (Some("2001:db8::/64"), "198.51.100.7", false),
            (Some("neither"), "198.51.100.7", true),
        ] {
            assert_eq!(is_from(&trial(network, None), at(outside)), is, "{network:?} {outside}");
        }
        for (person, is) in
            [(None, true), (Some("p-1001"), true), (Some("anouk tregarec"), true), (Some("P-1001"), false), (Some(""), false)]
        {
            assert_eq!(is_about(&trial(None, person), "p-1001", "Anouk Tregarec"), is, "{person:?}");
        }
    }

    #[test]
    fn a_trial_is_open_until_its_time_is_over_or_somebody_ends_it() {
        let open = trial(None, None);
        assert!(open.is_open(open.begun) && !open.is_open(open.expires_at));
        let ended = EntranceTrialRow { ended_at: Some(open.begun), ..open };
        assert!(!ended.is_open(ended.begun));
    }
}
