//! What the calls of the management API share: the node's engine, and what else they tell of or change.

use std::sync::{Arc, Mutex, OnceLock};

use passeur_engine::Engine;
use passeur_engine::guarding::Guarding;
use passeur_gateway::FloodCounters;
use passeur_gateway::edition::WebLive;
use passeur_gateway::tls::Certificates;

use crate::emergency::account::Emergency;
use crate::survey::done::Done;

/// The shared state of the management API. Cheap to clone.
#[derive(Clone)]
pub struct App(Arc<Inner>);

/// See [`App`]. What a node has without an API is its [`Engine`].
pub struct Inner {
    engine: Engine,
    /// What the data path made of the live edition.
    pub web: WebLive,
    /// What the data path accepted and turned away; set once it runs.
    pub floods: OnceLock<Arc<FloodCounters>>,
    /// Certificates of the TLS listener, where there is one.
    pub certificates: OnceLock<Arc<Certificates>>,
    /// The network gates, where this node guards zones.
    pub networks: OnceLock<Arc<dyn Guarding>>,
    /// The account that works when everything else is broken, if there is one.
    pub emergency: Option<Arc<Emergency>>,
    /// Held while this node surveys; and what it found last.
    pub surveying: tokio::sync::Mutex<()>,
    pub surveyed: Mutex<Option<Arc<Done>>>,
}

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

impl App {
    /// The shared state of the API of a node.
    pub fn new(engine: Engine, web: WebLive, emergency: Option<Arc<Emergency>>) -> App {
        App(Arc::new(Inner {
            engine,
            web,
            floods: OnceLock::new(),
            certificates: OnceLock::new(),
            networks: OnceLock::new(),
            emergency,
            surveying: tokio::sync::Mutex::default(),
            surveyed: Mutex::default(),
        }))
    }
}
