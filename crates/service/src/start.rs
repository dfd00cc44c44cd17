//! Wiring and start-up.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use chrono::Duration;
use passeur_engine::editions::Load;
use passeur_engine::ring::{self, WrongRing};
use passeur_engine::{Engine, upkeep, watch as seeing};
use passeur_gate_network::plan::Doors;
use passeur_gate_network::resolver::Resolver;
use passeur_gate_network::{NetworkConfig, NetworkGate, keep, portal};
use passeur_gate_vpn::radius::RadiusGate;
use passeur_gate_vpn::radius::connection::{PROTOCOLS, Tls};
use passeur_gate_vpn::radius::tls as radius_tls;
use passeur_gateway::edition::WebLive;
use passeur_gateway::table::Table;
use passeur_gateway::tls::{BadCertificates, Certificates};
use passeur_gateway::tls_radius::Host;
use passeur_gateway::{Cores, Listener, Parts};
use passeur_live::clock::Clock;
use passeur_management::App;
use passeur_store::{Store, StoreError};
use tokio::net::{TcpListener, UdpSocket};
use tokio::runtime::Handle;
use tokio::sync::watch;
use tokio::task::JoinHandle;

use crate::config::{Config, RadiusConfig};
use crate::router;
use crate::web::{Admissions, All, WebGate};

/// Why the service did not start.
#[derive(Debug, thiserror::Error)]
pub enum StartError {
    #[error("{0}")]
    Store(#[from] StoreError),
    #[error("{0}")]
    Ring(#[from] WrongRing),
    #[error("port {0} cannot be listened on: {1}")]
    Listen(SocketAddr, std::io::Error),
    #[error("certificates: {0}")]
    Certificates(#[from] BadCertificates),
    #[error("the data cores could not be started: {0}")]
    Cores(std::io::Error),
    #[error("the thread that watches what is ended elsewhere could not be started: {0}")]
    Watch(std::io::Error),
}

/// A running service.
pub struct Running {
    pub address: SocketAddr,
    /// Where TLS is spoken, if anywhere.
    pub tls_address: Option<SocketAddr>,
    /// Where RADIUS clients ask: by UDP, and over TLS.
    pub radius: RadiusConfig,
    pub clock: Clock,
    engine: Engine,
    stop: watch::Sender<bool>,
    cores: Cores,
    seeing: std::thread::JoinHandle<()>,
    tasks: Vec<JoinHandle<()>>,
}

impl Running {
    /// Lets running requests end, writes what is counted, and returns.
    pub async fn stop(self) {
        let _ = self.stop.send(true);
        self.cores.ended().await;
        let seeing = self.seeing;
        let _ = tokio::task::spawn_blocking(move || seeing.join()).await;
        for task in self.tasks {
            let _ = task.await;
        }
    }

    /// Removes what has run out, as it is done every few minutes.
    pub async fn sweep(&self) {
        upkeep::clean(&self.engine).await;
    }

    /// Writes everything that waits to be written, so that it can be read.
    pub async fn settle(&self) {
        upkeep::write(&self.engine).await;
        self.engine.recorder.settle().await;
    }
}

/// Starts the service: store, edition, upkeep, listener.
pub async fn start(config: Config) -> Result<Running, StartError> {
    let store = Store::open(&config.database_url, 16).await?;
    not_before(&store, &config.clock).await?;
    ring::check(&store, &config.ring, config.clock.now()).await??;
    let engine = Engine::new(store, config.ring, config.node, config.clock.clone());
    let table = Arc::new(Table::new(engine.sessions.clone()));
    let web = WebLive::following(&engine.live);
    let management = App::new(engine.clone(), web.clone(), config.emergency.map(Arc::new));
    engine.store.make_partitions(engine.now().date_naive()).await?;
    if config.restored {
        let ended = engine.store.end_every_session(engine.now(), engine.own_act("restored", serde_json::json!({}))).await?;
        tracing::warn!(ended, "the database was restored from a backup; every session is ended");
    }
    if let Some(token) = config.first_token {
        let act = engine.own_act("set token", serde_json::json!({"token": "first token", "role": "configure"}));
        engine.store.set_token("first token", "configure", &token.digest(), act).await?;
    }
    engine.load_edition(Load::WhereChanged).await?;
    let listen = |at: SocketAddr| move |e| StartError::Listen(at, e);
    let clear = Listener::bind(config.listen, None).await.map_err(listen(config.listen))?;
    let address = clear.address().map_err(listen(config.listen))?;
    let (stop, stopped) = watch::channel(false);
    let mut listeners = vec![clear];
    let mut tasks = vec![];
    let (mut tls_address, mut own) = (None, None);
    if let Some(tls) = &config.tls {
        let certificates = Certificates::read(&tls.certificates)?;
        let _ = management.certificates.set(certificates.clone());
        let listener = Listener::bind(tls.listen, Some(certificates.clone())).await.map_err(listen(tls.listen))?;
        tls_address = Some(listener.address().map_err(listen(tls.listen))?);
        listeners.push(listener);
        own = Some(certificates.clone());
        tasks.push(tokio::spawn(certificates.watch(stopped.clone())));
    }
    let networks = match &config.network {
        None => None,
        Some(network) => {
            let ports = [Some(address), tls_address].into_iter().flatten().map(|a| a.port()).collect();
            Some(networks(&engine, network, ports, (&mut tasks, &stopped)).await?)
        }
    };
    if let Some(networks) = &networks {
        for tunnel in &config.tunnels {
            tasks.push(tokio::spawn(passeur_gate_vpn::run(networks.clone(), tunnel.clone(), stopped.clone())));
        }
        let _ = management.networks.set(Arc::new(networks.clone()));
    }
    let web_holders = Admissions { table: table.clone(), runtime: Handle::current() };
    let (at_clients, radius) = radius(&engine, (&config.radius, own.as_deref()), (&mut tasks, &stopped)).await?;
    engine.set_holders(All { web: web_holders, networks: networks.clone(), at_clients });
    let pages = router::router(&engine, &management);
    let control = Arc::new(WebGate::new(engine.clone(), table.clone(), management.clone(), (pages, networks)));
    let parts = Parts { control, web, table, clock: engine.clock.clone() };
    let seeing = seeing::start(&engine, config.database_url.clone(), stopped.clone()).map_err(StartError::Watch)?;
    let cores = Cores::start(listeners, &parts, &stopped).map_err(StartError::Cores)?;
    let _ = management.floods.set(cores.counters());
    tasks.push(tokio::spawn(upkeep::run(engine.clone(), stopped)));
    tracing::info!(%address, "listening");
    if let Some(address) = tls_address {
        tracing::info!(%address, "listening, with TLS");
    }
    Ok(Running { address, tls_address, radius, clock: config.clock, engine, stop, cores, seeing, tasks })
}

/// What a node does for RADIUS clients, where it listens for them, with the addresses of its sockets.
async fn radius(
    engine: &Engine,
    (config, certificates): (&RadiusConfig, Option<&Certificates>),
    (tasks, stopped): (&mut Vec<JoinHandle<()>>, &watch::Receiver<bool>),
) -> Result<(Option<RadiusGate>, RadiusConfig), StartError> {
    let (mut sockets, mut listeners, mut out) = (vec![], vec![], RadiusConfig::default());
    for at in &config.listen {
        let failed = |e| StartError::Listen(*at, e);
        let socket = UdpSocket::bind(at).await.map_err(failed)?;
        let address = socket.local_addr().map_err(failed)?;
        tracing::info!(%address, "listening for RADIUS clients");
        out.listen.push(address);
        sockets.push(socket);
    }
    for at in &config.tls {
        let failed = |e| StartError::Listen(*at, e);
        let listener = TcpListener::bind(at).await.map_err(failed)?;
        let address = listener.local_addr().map_err(failed)?;
        tracing::info!(%address, "listening for RADIUS clients, with TLS");
        out.tls.push(address);
        listeners.push(listener);
    }
    if sockets.is_empty() && listeners.is_empty() {
        return Ok((None, out));
    }
    let own: Vec<IpAddr> = out.listen.iter().chain(&out.tls).map(SocketAddr::ip).collect();
    // Over TLS one certificate stands for every client that names no host: that of the sign-in host.
    let live = engine.live.clone();
    let host: Host = Arc::new(move || Some(live.get()?.site.address.name().to_owned()));
    let tls = certificates.map(|c| c.radius(host, &PROTOCOLS)).map(|(server, client)| Tls { server, client });
    let gate = RadiusGate::new(engine.clone(), &own, tls.clone());
    for (listener, tls) in listeners.into_iter().filter_map(|l| Some((l, tls.clone()?))) {
        tasks.push(tokio::spawn(radius_tls::run(gate.clone(), tls, listener, stopped.clone())));
    }
    for socket in sockets {
        tasks.push(tokio::spawn(gate.clone().answer(socket, stopped.clone())));
    }
    tasks.push(tokio::spawn(gate.clone().keep(stopped.clone())));
    Ok((Some(gate), out))
}

/// The network gates of a node, with what runs for them.
async fn networks(
    engine: &Engine,
    config: &NetworkConfig,
    portal: Vec<u16>,
    run: (&mut Vec<JoinHandle<()>>, &watch::Receiver<bool>),
) -> Result<NetworkGate, StartError> {
    let (tasks, stopped) = run;
    let listener = match config.redirect {
        None => None,
        Some(at) => Some(TcpListener::bind(at).await.map_err(|e| StartError::Listen(at, e))?),
    };
    let redirect = listener.as_ref().and_then(|l| l.local_addr().ok()).map(|a| a.port());
    let gate = NetworkGate::new(engine.clone(), config, Doors { portal, redirect }, Handle::current());
    if let Some(listener) = listener {
        tasks.push(tokio::spawn(portal::run(gate.clone(), listener, stopped.clone())));
    }
    if let Some(of) = &config.resolver {
        let resolver = Resolver::new(gate.clone(), of.from);
        for at in &of.listen {
            let failed = |e| StartError::Listen(*at, e);
            let udp = UdpSocket::bind(at).await.map_err(failed)?;
            let tcp = TcpListener::bind(at).await.map_err(failed)?;
            tasks.push(tokio::spawn(resolver.clone().run(udp, tcp, stopped.clone())));
        }
    }
    tasks.push(tokio::spawn(keep::run(gate.clone(), stopped.clone())));
    Ok(gate)
}

/// The furthest a clock that stands behind what was known is moved forward.
const BEHIND_MAX: Duration = Duration::days(1);

/// A clock that was stepped back while nothing ran extends nothing: time goes on from the latest moment any node has known.
/// Where that lies more than a day ahead, one of the two clocks was badly wrong, and no session can be judged: all end.
async fn not_before(store: &Store, clock: &Clock) -> Result<(), StoreError> {
    let Some(latest) = store.latest_moment().await? else { return Ok(()) };
    let behind = latest - clock.now();
    if behind > BEHIND_MAX {
        let ended = store.begin_again(clock.now(), "the clock").await?;
        tracing::error!(%latest, ended, "this clock is more than a day behind what was known; every session is ended");
    } else if behind > Duration::zero() {
        tracing::warn!(%latest, behind_ms = behind.num_milliseconds(), "this clock is behind what was known; time goes on from there");
        clock.advance(behind);
    }
    Ok(())
}
