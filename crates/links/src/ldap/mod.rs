//! Look-ups in an LDAP directory (RFC 4511): the person's entry by the gate's key, then the closure over groups.
//!
//! A connection belongs to one service account and is never used for anybody's own bind. It is kept and shared; when it
//! breaks, the look-up is tried once more on a new one, then at the directory's next server ([`servers`]), and only then is
//! the directory dead. [`query`] makes one search whole, [`person`] and [`groups`] say what is searched for.

mod account;
mod cache;
mod connect;
mod groups;
mod password;
mod person;
mod query;
mod servers;
mod survey;
mod trial;

use std::sync::Arc;
use std::time::Instant;

use passeur_core::Moment;
use passeur_core::evidence::{AskedFor, LookUp, LookUpState};
use passeur_core::site::Directory;

pub use connect::{LinkError, ServerLook};
use passeur_live::clock::Clock;
pub use password::{Bound, NotBound, Unusable};
use query::Query;
pub use servers::ServerState;
use servers::{Server, order};
pub use survey::DirectoryLook;
pub use trial::{DirectoryCheck, DirectoryTrial, try_directory};

/// A directory as one edition describes it, with its connections and its cache.
pub struct DirectoryLink {
    directory: Directory,
    passwords: Vec<String>,
    servers: Vec<Server>,
    cache: cache::Cache,
    clock: Clock,
}

impl std::fmt::Debug for DirectoryLink {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let DirectoryLink { directory, passwords: _, servers: _, cache: _, clock: _ } = self;
        write!(f, "DirectoryLink({})", directory.name)
    }
}

/// Whether an answer that is kept serves.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Recall {
    Kept,
    Anew,
}

impl DirectoryLink {
    /// For a directory and the passwords of its service account: the one in use, then one that stands beside it. Connects at
    /// the first look-up.
    pub fn new(directory: Directory, passwords: Vec<String>, clock: Clock) -> Arc<DirectoryLink> {
        let cache = cache::Cache::new(directory.cache);
        let servers = directory.servers.iter().cloned().map(Server::new).collect();
        Arc::new(DirectoryLink { directory, passwords, servers, cache, clock })
    }

    /// The directory as the edition describes it.
    pub fn directory(&self) -> &Directory {
        &self.directory
    }

    /// Whether what the edition names as the account's secret is stored.
    pub fn has_secret(&self) -> bool {
        self.directory.secret.is_none() || !self.passwords.is_empty()
    }

    /// Its servers, as this node sees them.
    pub fn servers(&self) -> Vec<ServerState> {
        self.servers.iter().map(Server::state).collect()
    }

    /// Looks a person up, exactly as every gate does. Never fails: each way it can go wrong is a state.
    pub async fn look_up(&self, value: &str) -> LookUp {
        self.find(value, Recall::Kept).await
    }

    /// The same; an answer that is kept serves unless it is asked anew.
    pub async fn find(&self, value: &str, recall: Recall) -> LookUp {
        let now = self.clock.now();
        let began = Instant::now();
        let mut out = LookUp {
            directory: self.directory.name.clone(),
            key: self.directory.key.clone(),
            value: Some(value.to_owned()),
            at: now,
            millis: 0,
            cached: false,
            tried: vec![],
            asked: Some(AskedFor::of(&self.directory)),
            state: LookUpState::NoEntry,
        };
        if let Some((state, at)) = self.cache.get(value, now).filter(|_| recall == Recall::Kept) {
            return LookUp { state, at, cached: true, ..out };
        }
        out.state = self.find_anywhere(value, &mut out.tried).await;
        out.millis = began.elapsed().as_millis().min(u128::from(u32::MAX)) as u32;
        if matches!(out.state, LookUpState::Answered { .. } | LookUpState::Disabled { .. }) {
            self.cache.put(value, &out.state, now);
        }
        out
    }

    /// Asks one server after the other until one answers. Those that did not are noted.
    async fn find_anywhere(&self, value: &str, tried: &mut Vec<(String, String)>) -> LookUpState {
        let limit = connect::limit(&self.directory);
        for server in order(&self.servers, self.clock.now()) {
            let now = self.clock.now();
            let answer = match tokio::time::timeout(limit, self.ask(server, value, now)).await {
                Ok(answer) => answer,
                Err(_) => {
                    *server.connection.lock().await = None;
                    Err(LinkError::Dead(format!("no answer within {} s", limit.as_secs())))
                }
            };
            match answer {
                Ok(state) => {
                    server.answered(now);
                    return state;
                }
                Err(LinkError::Dead(detail)) => {
                    tracing::warn!(directory = self.directory.name, server = server.address, detail, "a server does not answer");
                    server.failed(&detail, now);
                    tried.push((server.address.clone(), detail));
                }
                // The server answers; what it says would be the same at the others.
                Err(e) => {
                    server.answered(now);
                    return e.state();
                }
            }
        }
        let detail = match tried.as_slice() {
            [(_, only)] => only.clone(),
            all => all.iter().map(|(server, detail)| format!("{server}: {detail}")).collect::<Vec<_>>().join("; "),
        };
        tried.clear();
        LookUpState::Dead { detail }
    }

    async fn ask(&self, server: &Server, value: &str, now: Moment) -> Result<LookUpState, LinkError> {
        let mut kept = kept(server).await;
        for attempt in 0..2 {
            let fresh = kept.is_none();
            let ldap = match kept.take() {
                Some(l) => l,
                None => self.connect(server).await?,
            };
            match person::find(&mut Query::new(ldap, &self.directory, &self.passwords), value, now).await {
                Err(LinkError::Dead(_)) if !fresh && attempt == 0 => {
                    *server.connection.lock().await = None; // A connection that idled may have been closed by the other side.
                }
                other => {
                    if other.is_err() {
                        *server.connection.lock().await = None;
                    }
                    return other;
                }
            }
        }
        Err(LinkError::Dead("the connection breaks again and again".into()))
    }

    async fn connect(&self, server: &Server) -> Result<ldap3::Ldap, LinkError> {
        let ldap = connect::connect_with(&self.directory, &server.address, &self.passwords).await?;
        *server.connection.lock().await = Some(ldap.clone());
        Ok(ldap)
    }
}

async fn kept(server: &Server) -> Option<ldap3::Ldap> {
    let mut guard = server.connection.lock().await;
    let closed = guard.as_mut().is_some_and(|l| l.is_closed());
    if closed {
        *guard = None;
    }
    guard.clone()
}
