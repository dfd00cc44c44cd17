//! The service: a node's engine, its gates, sign-in and management, wired and started. What can be decided in core is decided there, what a
//! node does without pages is `passeur_engine`; pages are those of `passeur_signin`, and calls those of `passeur_management`.

pub mod config;
mod guard;
mod router;
mod start;
mod web;

pub use config::{Config, ConfigError};
pub use passeur_engine::workers::runtime;
pub use passeur_gate_network::{NetworkConfig, NetworkGate, ResolverConfig};
pub use passeur_gate_vpn::TunnelConfig;
pub use passeur_management::{Emergency, findings, kerberos};
pub use start::{Running, StartError, start};
