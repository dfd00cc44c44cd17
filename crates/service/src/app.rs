//! What every part of the service shares: the node's engine, and what belongs to its gates, pages and API.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, OnceLock, Weak};

use passeur_api::Role;
use passeur_core::Moment;
use passeur_core::seal::Ring;
use passeur_engine::Engine;
use passeur_engine::engine::Holders;
use passeur_gateway::FloodCounters;
use passeur_gateway::edition::WebLive;
use passeur_gateway::table::Table;
use passeur_gateway::tls::Certificates;
use passeur_live::clock::Clock;
use passeur_store::Store;
use tokio::runtime::Handle;
use uuid::Uuid;

use crate::emergency::Emergency;
use crate::survey::Done;

/// The shared state of the service. Cheap to clone.
#[derive(Clone)]
pub struct App(Arc<Inner>);

/// See [`App`]. What a node has without pages or API is its [`Engine`].
pub struct Inner {
    engine: Engine,
    /// What the data path made of the live edition.
    pub web: WebLive,
    /// What sessions opened at gates of the data path.
    pub table: Arc<Table>,
    /// What the data path accepted and turned away; set once it runs.
    pub floods: OnceLock<Arc<FloodCounters>>,
    /// The account that works when everything else is broken, if there is one.
    pub emergency: Option<Arc<Emergency>>,
    /// How far owners of tokens may go, by the token's digest and where it is used, and when that was found out.
    pub token_roles: Mutex<OwnersRoles>,
    /// Held while this node surveys; and what it found last.
    pub surveying: tokio::sync::Mutex<()>,
    pub surveyed: Mutex<Option<Arc<Done>>>,
    /// Certificates of the TLS listener, where there is one.
    pub certificates: OnceLock<Arc<Certificates>>,
}

/// Roles of tokens' owners: see [`Inner::token_roles`].
pub type OwnersRoles = HashMap<([u8; 32], Option<IpAddr>), (Option<Role>, Moment)>;

impl std::ops::Deref for App {
    type Target = Inner;
    fn deref(&self) -> &Inner {
        &self.0
    }
}

impl std::ops::Deref for Inner {
    type Target = Engine;
    fn deref(&self) -> &Engine {
        &self.engine
    }
}

/// The admissions of the data path, told what becomes of their sessions.
struct Admissions {
    table: Arc<Table>,
    app: Weak<Inner>,
    /// The runtime of pages, calls and look-ups: what the watch must not wait for goes there.
    runtime: Handle,
}

impl Holders for Admissions {
    fn ended(&self) {
        self.table.forget_ended();
    }

    fn rights_changed(&self, ids: &[Uuid]) {
        let held = self.table.take(ids);
        if let Some(app) = self.app.upgrade().filter(|_| !held.is_empty()) {
            // Whoever waits for this node waits for what it knows, not for what it looks up.
            self.runtime.spawn(async move { crate::rights::review(&App(app), held).await });
        }
    }
}

impl App {
    /// The shared state of a service on a store. Must be called on the runtime of pages, calls and look-ups.
    pub fn new(store: Store, ring: Ring, node: String, clock: Clock, emergency: Option<Arc<Emergency>>) -> App {
        let engine = Engine::new(store, ring, node, clock);
        let table = Arc::new(Table::new(engine.sessions.clone()));
        let app = App(Arc::new(Inner {
            web: WebLive::following(&engine.live),
            engine,
            table: table.clone(),
            floods: OnceLock::new(),
            emergency,
            token_roles: Mutex::default(),
            surveying: tokio::sync::Mutex::default(),
            surveyed: Mutex::default(),
            certificates: OnceLock::new(),
        }));
        app.tell(Admissions { table, app: Arc::downgrade(&app.0), runtime: Handle::current() });
        app
    }
}
