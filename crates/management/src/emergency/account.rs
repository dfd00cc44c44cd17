//! The account, from its file, and how often somebody may try its password.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex};

use argon2::password_hash::PasswordHash;
use argon2::{Argon2, PasswordVerifier};
use ipnet::IpNet;
use passeur_core::Moment;
use passeur_core::address::neighbourhood;
/// Failed tries within [`WINDOW_S`] after which an address, and everybody together, must wait.
pub(super) const TRIES: (u32, u32) = (5, 30);
pub(super) const WINDOW_S: i64 = 300;

/// The account, from its file.
pub struct Emergency {
    pub name: String,
    /// Argon2id in PHC form.
    hash: String,
    networks: Vec<IpNet>,
    pub(super) failed: Mutex<HashMap<IpAddr, (i64, u32)>>,
    /// One password is checked at a time: each costs memory and time by design.
    checking: Arc<tokio::sync::Semaphore>,
}

impl std::fmt::Debug for Emergency {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Emergency({} {:?})", self.name, self.networks)
    }
}

/// Why a file does not describe an account.
#[derive(Debug, thiserror::Error)]
pub enum BadEmergency {
    #[error("{0}")]
    Toml(String),
    #[error("networks is empty, or names everybody")]
    Networks,
    #[error("password is no Argon2id hash; make the file with `passeur emergency new`")]
    Password,
}

#[derive(serde::Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    name: String,
    password: String,
    networks: Vec<IpNet>,
}

impl Emergency {
    /// Reads the text of an emergency file.
    pub fn parse(text: &str) -> Result<Emergency, BadEmergency> {
        let file: File = toml::from_str(text).map_err(|e| BadEmergency::Toml(e.message().to_owned()))?;
        if file.networks.is_empty() || file.networks.iter().any(|n| n.prefix_len() == 0) {
            return Err(BadEmergency::Networks);
        }
        let sound = PasswordHash::new(&file.password).is_ok_and(|h| h.algorithm.as_str() == "argon2id");
        if !sound {
            return Err(BadEmergency::Password);
        }
        Ok(Emergency {
            name: file.name,
            hash: file.password,
            networks: file.networks,
            failed: Mutex::default(),
            checking: Arc::new(tokio::sync::Semaphore::new(1)),
        })
    }

    /// How it is called in the record.
    pub fn who(&self) -> String {
        format!("emergency account {}", self.name)
    }

    /// Whether the account is offered to somebody at this address.
    pub fn is_offered_to(&self, address: IpAddr) -> bool {
        let address = address.to_canonical();
        self.networks.iter().any(|n| n.contains(&address))
    }

    /// Whether somebody may try a password now; a failure counts until its window has passed.
    pub(super) fn may_try(&self, address: IpAddr, now: Moment) -> bool {
        let window = now.timestamp().div_euclid(WINDOW_S);
        let mut failed = self.failed.lock().unwrap_or_else(|e| e.into_inner());
        failed.retain(|_, (w, _)| *w == window);
        let all: u32 = failed.values().map(|(_, n)| *n).sum();
        all < TRIES.1 && failed.get(&neighbourhood(address)).is_none_or(|(_, n)| *n < TRIES.0)
    }

    pub(super) fn count_failure(&self, address: IpAddr, now: Moment) {
        let window = now.timestamp().div_euclid(WINDOW_S);
        let mut failed = self.failed.lock().unwrap_or_else(|e| e.into_inner());
        failed.entry(neighbourhood(address)).or_insert((window, 0)).1 += 1;
    }

    pub(super) async fn verifies(self: &Arc<Emergency>, password: String) -> bool {
        let Ok(permit) = self.checking.clone().acquire_owned().await else { return false };
        let account = self.clone();
        let checked = tokio::task::spawn_blocking(move || {
            let _permit = permit;
            PasswordHash::new(&account.hash).is_ok_and(|h| Argon2::default().verify_password(password.as_bytes(), &h).is_ok())
        });
        checked.await.unwrap_or(false)
    }
}
