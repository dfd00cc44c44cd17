//! `passeur serve`.

use passeur_live::clock::Clock;
use passeur_service::config::{Config, RadiusConfig, Tls, read_database_url, read_emergency, read_ring, read_token};
use passeur_service::{NetworkConfig, ResolverConfig};
use tracing_subscriber::EnvFilter;

use crate::args::Serve;
use crate::exit::Exit;

/// Runs until SIGINT or SIGTERM.
pub async fn run(args: Serve) -> Result<(), Exit> {
    let filter = EnvFilter::new(&args.log);
    let log = tracing_subscriber::fmt().with_env_filter(filter).with_target(false);
    if args.log_json {
        log.json().init()
    } else {
        log.with_ansi(false).init()
    }
    let failed = |e: &dyn std::fmt::Display| Exit::Failed(e.to_string());
    let config = Config {
        listen: args.listen,
        tls: args.tls_listen.zip(args.certificates).map(|(listen, certificates)| Tls { listen, certificates }),
        database_url: read_database_url(&args.database_file).map_err(|e| failed(&e))?,
        ring: read_ring(&args.key_ring).map_err(|e| failed(&e))?,
        node: args.node,
        clock: Clock::system(),
        emergency: args.emergency_file.as_deref().map(read_emergency).transpose().map_err(|e| failed(&e))?,
        tunnels: args.tunnel,
        radius: RadiusConfig { listen: args.radius_listen, tls: args.radius_tls_listen },
        network: args.sluice.map(|sluice| NetworkConfig {
            sluice,
            redirect: args.led_listen,
            leases: args.leases,
            resolver: args.names_from.map(|from| ResolverConfig { listen: args.names_listen, from }),
        }),
        restored: args.restored,
        first_token: args.first_token_file.as_deref().map(read_token).transpose().map_err(|e| failed(&e))?,
    };
    let running = passeur_service::start(config).await.map_err(|e| failed(&e))?;
    let mut term = tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate()).map_err(|e| failed(&e))?;
    let mut hangup = tokio::signal::unix::signal(tokio::signal::unix::SignalKind::hangup()).map_err(|e| failed(&e))?;
    loop {
        tokio::select! {
            r = tokio::signal::ctrl_c() => break r.map_err(|e| failed(&e))?,
            _ = term.recv() => break,
            // By habit of those who rotate logs or certificates: nothing waits for it here, and it ends nothing.
            _ = hangup.recv() => tracing::info!("SIGHUP: certificates and editions are read again by themselves; the log goes to the error output"),
        }
    }
    tracing::info!("stopping; running requests may end");
    running.stop().await;
    Ok(())
}
