//! Look-ups in an LDAP directory (RFC 4511): the person's entry by the gate's key, then the closure over groups.
//!
//! A connection belongs to one service account and is never used for anybody's own bind. It is kept and shared; when it
//! breaks, the look-up is tried once more on a new one, and only then is the directory dead.

mod account;
mod cache;
mod connect;
mod search;
mod trial;

use std::sync::Arc;
use std::time::Instant;

use passeur_core::evidence::{Asked, LookUp, LookUpState};
use passeur_core::site::Directory;
use tokio::sync::Mutex;

use crate::clock::Clock;
pub use connect::LinkError;
pub use trial::{DirectoryCheck, DirectoryTrial, try_directory};

/// A directory as one edition describes it, with its connection and its cache.
pub struct DirectoryLink {
    directory: Directory,
    passwords: Vec<String>,
    connection: Mutex<Option<ldap3::Ldap>>,
    cache: cache::Cache,
    clock: Clock,
}

impl std::fmt::Debug for DirectoryLink {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let DirectoryLink { directory, passwords: _, connection: _, cache: _, clock: _ } = self;
        write!(f, "DirectoryLink({})", directory.name)
    }
}

impl DirectoryLink {
    /// For a directory and the passwords of its service account: the one in use, then one that stands beside it. Connects at the first look-up.
    pub fn new(directory: Directory, passwords: Vec<String>, clock: Clock) -> Arc<DirectoryLink> {
        let cache = cache::Cache::new(directory.cache);
        Arc::new(DirectoryLink { directory, passwords, connection: Mutex::new(None), cache, clock })
    }

    /// Looks a person up, exactly as every gate does. Never fails: each way it can go wrong is a state.
    pub async fn look_up(&self, value: &str) -> LookUp {
        self.find(value, true).await
    }

    /// The same, whatever was answered before.
    pub async fn look_up_anew(&self, value: &str) -> LookUp {
        self.find(value, false).await
    }

    async fn find(&self, value: &str, from_cache: bool) -> LookUp {
        let now = self.clock.now();
        let began = Instant::now();
        let mut out = LookUp {
            directory: self.directory.name.clone(),
            key: self.directory.key.clone(),
            value: Some(value.to_owned()),
            at: now,
            millis: 0,
            cached: false,
            asked: Some(Asked::of(&self.directory)),
            state: LookUpState::NoEntry,
        };
        if let Some((state, at)) = self.cache.get(value, now).filter(|_| from_cache) {
            return LookUp { state, at, cached: true, ..out };
        }
        out.state = match tokio::time::timeout(self.limit(), self.ask(value, now)).await {
            Ok(Ok(state)) => state,
            Ok(Err(e)) => e.state(),
            Err(_) => {
                *self.connection.lock().await = None;
                LookUpState::Dead { detail: format!("no answer within {} s", self.limit().as_secs()) }
            }
        };
        out.millis = began.elapsed().as_millis().min(u128::from(u32::MAX)) as u32;
        if matches!(out.state, LookUpState::Answered { .. } | LookUpState::Disabled { .. }) {
            self.cache.put(value, &out.state, now);
        }
        out
    }

    fn limit(&self) -> std::time::Duration {
        self.directory.time_limit.to_std().unwrap_or(std::time::Duration::from_secs(3))
    }

    async fn ask(&self, value: &str, now: passeur_core::Moment) -> Result<LookUpState, LinkError> {
        let mut kept = self.kept().await;
        for attempt in 0..2 {
            let fresh = kept.is_none();
            let mut ldap = match kept.take() {
                Some(l) => l,
                None => self.connect().await?,
            };
            match search::person(&mut ldap, &self.directory, value, now).await {
                Err(LinkError::Dead(_)) if !fresh && attempt == 0 => {
                    *self.connection.lock().await = None; // A connection that idled may have been closed by the other side.
                }
                other => {
                    if other.is_err() {
                        *self.connection.lock().await = None;
                    }
                    return other;
                }
            }
        }
        Err(LinkError::Dead("the connection breaks again and again".into()))
    }

    async fn kept(&self) -> Option<ldap3::Ldap> {
        let mut guard = self.connection.lock().await;
        let closed = guard.as_mut().is_some_and(|l| l.is_closed());
        if closed {
            *guard = None;
        }
        guard.clone()
    }

    async fn connect(&self) -> Result<ldap3::Ldap, LinkError> {
        let mut found = connect::connect(&self.directory, self.passwords.first().map(String::as_str)).await;
        for password in self.passwords.iter().skip(1) {
            if !matches!(found, Err(LinkError::BindRefused(_))) {
                break;
            }
            found = connect::connect(&self.directory, Some(password)).await;
            if found.is_ok() {
                tracing::warn!(
                    directory = self.directory.name,
                    "the password in use is refused, and the one beside it is taken: use it"
                );
            }
        }
        let ldap = found?;
        *self.connection.lock().await = Some(ldap.clone());
        Ok(ldap)
    }
}
