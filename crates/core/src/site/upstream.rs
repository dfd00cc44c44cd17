//! The application behind a web gate: one or several addresses, how they are reached and how their health is seen.

use chrono::Duration;

/// One address of the application.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Upstream {
    /// Whether it is reached over TLS. Its certificate is always checked.
    pub https: bool,
    pub host: String,
    pub port: u16,
}

impl std::fmt::Display for Upstream {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}://{}:{}", if self.https { "https" } else { "http" }, self.host, self.port)
    }
}

/// What TLS to an application needs beside the system's trust.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct UpstreamTls {
    /// A file of PEM certificates to trust instead of the system's.
    pub ca_file: Option<String>,
    /// Our own certificate and key, as PEM files, where the application asks for one.
    pub client: Option<(String, String)>,
}

/// How the health of each address is asked for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Health {
    /// The path that answers 2xx while the application is well.
    pub path: String,
    pub every: Duration,
}

/// All addresses of one application.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Upstreams {
    /// At least one, in the order written.
    pub members: Vec<Upstream>,
    /// Members that take no new requests; what runs there may end.
    pub draining: Vec<Upstream>,
    pub tls: UpstreamTls,
    pub health: Option<Health>,
}

impl std::fmt::Display for Upstreams {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        for (i, m) in self.members.iter().enumerate() {
            write!(f, "{}{m}", if i == 0 { "" } else { ", " })?;
            if self.draining.contains(m) {
                f.write_str(" (draining)")?;
            }
        }
        Ok(())
    }
}
