//! Wiring and start-up.

use std::net::SocketAddr;
use std::sync::Arc;

use passeur_gateway::{Gateway, Listener, serve};
use passeur_links::clock::Clock;
use passeur_store::{Store, StoreError};
use tokio::sync::watch;
use tokio::task::JoinHandle;

use crate::app::App;
use crate::config::Config;
use crate::control::Service;
use crate::{router, upkeep};

/// Why the service did not start.
#[derive(Debug, thiserror::Error)]
pub enum StartError {
    #[error("{0}")]
    Store(#[from] StoreError),
    #[error("port {0} cannot be listened on: {1}")]
    Listen(SocketAddr, std::io::Error),
}

/// A running service.
pub struct Running {
    pub address: SocketAddr,
    pub clock: Clock,
    app: App,
    stop: watch::Sender<bool>,
    tasks: Vec<JoinHandle<()>>,
}

impl Running {
    /// Lets running requests end, writes what is counted, and returns.
    pub async fn stop(self) {
        let _ = self.stop.send(true);
        for task in self.tasks {
            let _ = task.await;
        }
    }

    /// Writes everything that waits to be written, so that it can be read.
    pub async fn settle(&self) {
        upkeep::write(&self.app).await;
        self.app.recorder.settle().await;
    }
}

/// Starts the service: store, edition, upkeep, listener.
pub async fn start(config: Config) -> Result<Running, StartError> {
    let store = Store::open(&config.database_url, 16).await?;
    let app = App::new(store, config.ring, config.node, config.clock.clone());
    app.store.make_partitions(app.now().date_naive()).await?;
    if let Some(token) = config.first_token {
        app.store.set_token("first token", "configure", &token.digest(), app.now()).await?;
    }
    app.load_edition(false).await?;
    let listener = Listener::bind(config.listen).await.map_err(|e| StartError::Listen(config.listen, e))?;
    let address = listener.address().map_err(|e| StartError::Listen(config.listen, e))?;
    let router = router::router(&app);
    let control = Arc::new(Service::new(app.clone(), router));
    let gateway = Arc::new(Gateway::new(control, app.live.clone(), app.table.clone(), app.clock.clone()));
    let (stop, stopped) = watch::channel(false);
    let tasks = vec![tokio::spawn(serve(listener, gateway, stopped.clone())), tokio::spawn(upkeep::run(app.clone(), stopped))];
    tracing::info!(%address, "listening");
    Ok(Running { address, clock: config.clock, app, stop, tasks })
}
