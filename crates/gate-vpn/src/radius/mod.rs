//! RADIUS clients: gateways, switches and access points that are not ours, and ask whether somebody may come in (RFC 2865).
//!
//! [`server`] reads what comes at a socket, proves it, and answers each request once; [`asking`] decides, by the same rules as everywhere; [`answer`]
//! is what an answer carries, and `duplicates` what was answered of late. [`accounting`] takes what clients tell of sessions there (RFC 2866),
//! `book` knows who is on at them, `challenges` and `code` ask for a factor of ours, [`again`] decides anew, and [`keeper`] gives the [`orders`] that follow (RFC 5176). `room` says whether one more fits. `names` is what names a
//! session at a client, `secrets` what both share, [`connection`] is what TLS with a client is, and [`tls`] takes its connections (RFC 6614). Nothing is computed for an address from which no client sends.

pub mod accounting;
pub mod again;
pub mod answer;
pub mod asking;
mod book;
mod challenges;
mod code;
pub mod connection;
mod duplicates;
pub mod keeper;
mod names;
pub mod orders;
mod room;
mod secrets;
pub mod server;
pub mod tls;

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};

use passeur_core::site::{RadiusClient, RadiusProof};
use passeur_engine::Engine;
use passeur_engine::engine::Held;
use tokio::net::UdpSocket;
use tokio::sync::{Notify, Semaphore, watch};
use uuid::Uuid;

use book::Book;
use challenges::Challenges;
use connection::Tls;
use orders::Bond;
use secrets::Secrets;

/// What a node does for RADIUS clients, over all its sockets. Cheap to clone.
#[derive(Clone)]
pub struct RadiusGate {
    engine: Engine,
    book: Arc<Book>,
    /// Of whom a code is asked.
    challenges: Arc<Challenges>,
    secrets: watch::Receiver<Arc<Secrets>>,
    told: Arc<watch::Sender<Arc<Secrets>>>,
    /// That something is to be looked at now.
    news: Arc<Notify>,
    /// How it speaks TLS with clients; none where it does not.
    tls: Option<Tls>,
    /// Addresses of its sockets, where these are certain ones: orders come from them.
    own: Arc<Vec<IpAddr>>,
    /// How many are decided on, and ordered about, at a time: in all, and of a client.
    deciding: Arc<Semaphore>,
    ordering: Arc<Semaphore>,
    of_clients: Arc<Mutex<HashMap<String, Arc<Semaphore>>>>,
}

/// The most that are decided on anew at a time.
const DECIDING_MAX: usize = 16;
/// The most orders at a time: in all, and to a client, so that one that is silent keeps no other from being told.
const ORDERING_MAX: usize = 512;
const ORDERING_OF_CLIENT_MAX: usize = 128;

impl std::fmt::Debug for RadiusGate {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("RadiusGate").field("own", &self.own).finish_non_exhaustive()
    }
}

impl RadiusGate {
    /// With the addresses of its sockets, and how it speaks TLS where it does.
    pub fn new(engine: Engine, own: &[IpAddr], tls: Option<Tls>) -> RadiusGate {
        let (told, secrets) = watch::channel(Arc::new(Secrets::new()));
        let own = own.iter().filter(|a| !a.is_unspecified()).copied().collect();
        RadiusGate {
            engine,
            book: Arc::default(),
            challenges: Arc::default(),
            secrets,
            told: Arc::new(told),
            news: Arc::default(),
            tls,
            own: Arc::new(own),
            deciding: Arc::new(Semaphore::new(DECIDING_MAX)),
            ordering: Arc::new(Semaphore::new(ORDERING_MAX)),
            of_clients: Arc::default(),
        }
    }

    /// What bounds orders to a client.
    fn orders_to(&self, client: &str) -> Arc<Semaphore> {
        let mut all = self.of_clients.lock().unwrap_or_else(PoisonError::into_inner);
        all.entry(client.to_owned()).or_insert_with(|| Arc::new(Semaphore::new(ORDERING_OF_CLIENT_MAX))).clone()
    }

    /// Answers at a socket until `stop` changes.
    pub async fn answer(self, socket: UdpSocket, stop: watch::Receiver<bool>) {
        server::run(self, socket, stop).await;
    }

    /// What proves orders to a client; none where its secret is not there, or this node speaks no TLS.
    fn bond(&self, client: &RadiusClient) -> Option<Bond> {
        match &client.proof {
            RadiusProof::Secret(name) => self.secrets.borrow().get(name).cloned().map(Bond::Secret),
            RadiusProof::Certificate(of) => self.tls.clone().map(|tls| Bond::Tls(tls, of.clone())),
        }
    }

    /// Looks after who is on at clients until `stop` changes.
    pub async fn keep(self, stop: watch::Receiver<bool>) {
        let reading = tokio::spawn(secrets::read(self.engine.clone(), self.told.clone(), stop.clone()));
        keeper::run(self, stop).await;
        reading.abort();
    }

    /// Sessions were ended: their clients are told.
    pub fn ended(&self) {
        self.news.notify_one();
    }

    /// Rights of sessions were read again: they are decided on anew.
    pub fn rights_changed(&self, ids: &[Uuid]) {
        if self.book.rights_changed(ids) {
            self.news.notify_one();
        }
    }

    /// What is held for sessions at clients.
    pub fn held(&self) -> Vec<Held> {
        self.book.held()
    }
}
