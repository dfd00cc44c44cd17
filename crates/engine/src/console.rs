//! How far somebody may go in the console and the management API: by the rules of `[engineers]`, for themselves and for the tokens they own.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Mutex, MutexGuard};

use chrono::Duration;
use passeur_core::Moment;
use passeur_core::circumstances::Circumstances;
use passeur_core::decide::console_roles;
use passeur_core::evidence::{Evidence, PersonKey};
use passeur_core::role::Role;
use passeur_core::site::Site;
use passeur_core::step::Silent;
use passeur_store::StoreError;

use crate::engine::Engine;
use crate::look_up::{self, Recall};

/// How long it is believed how far the owner of a token may go.
const BELIEVED_FOR: Duration = Duration::seconds(60);

/// A token by its digest, and where it is used from.
pub type Used = ([u8; 32], Option<IpAddr>);

/// How far owners of tokens may go, and when that was found out.
#[derive(Default)]
pub struct TokenRoles(Mutex<Believed>);

#[derive(Default)]
struct Believed {
    roles: HashMap<Used, (Option<Role>, Moment)>,
    /// How often everything was forgotten: what was found out before is not kept after.
    forgotten: u64,
}

impl TokenRoles {
    fn lock(&self) -> MutexGuard<'_, Believed> {
        self.0.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Forgets everything: rights changed, so that owners are judged anew.
    pub fn forget(&self) {
        let mut all = self.lock();
        all.roles.clear();
        all.forgotten += 1;
    }

    /// What is believed of a token; or else how often everything was forgotten, to keep what is found out now with.
    fn get(&self, token: &Used, now: Moment) -> Result<Option<Role>, u64> {
        let all = self.lock();
        all.roles.get(token).filter(|(_, at)| now < *at + BELIEVED_FOR).map(|(role, _)| *role).ok_or(all.forgotten)
    }

    /// Keeps what was found out, unless everything was forgotten since.
    fn keep(&self, token: Used, role: Option<Role>, now: Moment, forgotten: u64) {
        let mut all = self.lock();
        if all.forgotten == forgotten {
            all.roles.retain(|_, (_, at)| now < *at + BELIEVED_FOR);
            all.roles.insert(token, (role, now));
        }
    }
}

/// How far the rules let somebody go now.
pub fn role(engine: &Engine, site: &Site, evidence: &Evidence, address: Option<IpAddr>) -> Option<Role> {
    let at = Circumstances { address, ..Circumstances::at(engine.now()) };
    console_roles(site, evidence, &at, &mut Silent).iter().filter_map(|r| Role::parse(r)).max()
}

/// How far the owner of a token may go now, by what is known of them, with the directory asked again.
///
/// # Errors
/// The store does not answer.
pub async fn role_of_owner(engine: &Engine, token: Used, owner: &PersonKey) -> Result<Option<Role>, StoreError> {
    let now = engine.now();
    let forgotten = match engine.token_roles.get(&token, now) {
        Ok(role) => return Ok(role),
        Err(forgotten) => forgotten,
    };
    // What programs of theirs, or a passkey, did since says nothing of how they come to the console.
    let known = match engine.store.latest_own_evidence(owner).await? {
        Some((known, _)) => Some(known),
        None => engine.store.latest_evidence(owner).await?,
    };
    let role = match (engine.live.get(), known) {
        (Some(edition), Some(mut known)) => match &edition.site.engineers {
            Some(access) => {
                look_up::fill(engine, &edition.site, access, &mut known).await;
                look_up::again(engine, &edition.site, access, &mut known, edition.since, Recall::Anew).await;
                role(engine, &edition.site, &known, token.1)
            }
            None => None,
        },
        _ => None,
    };
    engine.token_roles.keep(token, role, now, forgotten);
    Ok(role)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_found_out_before_everything_was_forgotten_is_not_kept() {
        let roles = TokenRoles::default();
        let now = chrono::DateTime::from_timestamp(1_800_000_000, 0).unwrap();
        let token = ([7; 32], None);
        let forgotten = roles.get(&token, now).unwrap_err();
        roles.keep(token, Some(Role::Configure), now, forgotten);
        assert_eq!(roles.get(&token, now), Ok(Some(Role::Configure)));
        assert!(roles.get(&token, now + BELIEVED_FOR).is_err(), "for a minute");
        roles.forget();
        roles.keep(token, Some(Role::Configure), now, forgotten);
        assert!(roles.get(&token, now).is_err(), "it was found out before");
    }
}
