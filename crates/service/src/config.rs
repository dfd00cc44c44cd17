//! What the service is started with. Everything else is in the edition.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};

use passeur_core::id::Token;
use passeur_core::seal::Ring;
use passeur_gate_network::NetworkConfig;
use passeur_gate_vpn::TunnelConfig;
use passeur_live::clock::Clock;

use passeur_management::emergency::{BadEmergency, Emergency};

/// A TLS listener.
#[derive(Clone, Debug)]
pub struct Tls {
    pub listen: SocketAddr,
    /// A folder with `NAME.pem` and `NAME.key` for each certificate.
    pub certificates: PathBuf,
}

/// Start-up configuration.
pub struct Config {
    /// Where to listen.
    pub listen: SocketAddr,
    /// Where to speak TLS, if anywhere.
    pub tls: Option<Tls>,
    /// PostgreSQL, as a URL. Never printed.
    pub database_url: String,
    pub ring: Ring,
    /// This node's name in crossings.
    pub node: String,
    pub clock: Clock,
    /// An API token with the configure role, registered at start, for setting the site up.
    pub first_token: Option<Token>,
    /// The account that works when everything else is broken.
    pub emergency: Option<Emergency>,
    /// The sluice, where this node guards zones of network gates.
    pub network: Option<NetworkConfig>,
    /// VPN servers whose entrances are at this node; each needs the sluice.
    pub tunnels: Vec<TunnelConfig>,
    /// Where RADIUS clients ask.
    pub radius: RadiusConfig,
    /// The database was restored from a backup: sessions that were ended since may stand there as live ones, so that all are ended.
    pub restored: bool,
}

/// Where RADIUS clients ask, one address a family.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RadiusConfig {
    /// By UDP.
    pub listen: Vec<SocketAddr>,
    /// Over TLS, with the certificates of the TLS listener.
    pub tls: Vec<SocketAddr>,
}

impl std::fmt::Debug for Config {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Config {
            listen,
            tls,
            database_url: _,
            ring,
            node,
            clock: _,
            first_token: _,
            emergency,
            network,
            tunnels,
            radius,
            restored,
        } = self;
        write!(f, "Config({listen} {tls:?} {node} {ring:?} {emergency:?} {network:?} {tunnels:?} {radius:?} {restored})")
    }
}

/// A file the service is started with cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum ConfigError {
    #[error("{what} {path} cannot be read: {why}")]
    Read { what: &'static str, path: PathBuf, why: std::io::Error },
    #[error("{what} {path} may be read by others than its owner (mode {mode:o}); run: chmod 600 {path}")]
    Open { what: &'static str, path: PathBuf, mode: u32 },
    #[error("key ring {path}: {why}")]
    Ring { path: PathBuf, why: passeur_core::seal::BadRing },
    #[error("token file {path} holds no token; make one with `passeur key-ring token {path}`")]
    Token { path: PathBuf },
    #[error("emergency file {path}: {why}")]
    Emergency { path: PathBuf, why: BadEmergency },
}

/// Reads a file that holds secrets and must be its owner's alone.
fn read_private(what: &'static str, path: &Path) -> Result<String, ConfigError> {
    use std::os::unix::fs::PermissionsExt;
    let bad = |why| ConfigError::Read { what, path: path.to_owned(), why };
    let mode = std::fs::metadata(path).map_err(bad)?.permissions().mode() & 0o777;
    if mode & 0o077 != 0 {
        return Err(ConfigError::Open { what, path: path.to_owned(), mode });
    }
    std::fs::read_to_string(path).map_err(bad)
}

/// Reads a key ring file.
pub fn read_ring(path: &Path) -> Result<Ring, ConfigError> {
    let text = read_private("key ring", path)?;
    Ring::parse(&text).map_err(|why| ConfigError::Ring { path: path.to_owned(), why })
}

/// Reads a token file.
pub fn read_token(path: &Path) -> Result<Token, ConfigError> {
    let text = read_private("token file", path)?;
    Token::parse(text.trim()).ok_or(ConfigError::Token { path: path.to_owned() })
}

/// Reads an emergency file.
pub fn read_emergency(path: &Path) -> Result<Emergency, ConfigError> {
    let text = read_private("emergency file", path)?;
    Emergency::parse(&text).map_err(|why| ConfigError::Emergency { path: path.to_owned(), why })
}

/// Reads the database URL from a file.
pub fn read_database_url(path: &Path) -> Result<String, ConfigError> {
    Ok(read_private("database file", path)?.trim().to_owned())
}
