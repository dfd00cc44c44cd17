//! Gates of kind `vpn`: a tunnel is opened once its person is signed in, and for no longer than that.
//!
//! A machine at the far end of a tunnel is one that a network gate lets through ([`passeur_gate_network::tunnels`]); this crate speaks with
//! the VPN servers by whose entrances it comes. [`link`] is the connection to one server, [`entrance`] keeps it, [`desk`] is what happens there, [`clients`] who is
//! connected there, [`pool`] which addresses are free, [`told`] what a client is told. [`radius`] answers gateways that are not ours.

pub mod clients;
pub mod decisions;
pub mod desk;
pub mod entrance;
pub mod link;
pub mod pool;
pub mod radius;
pub mod told;

pub use entrance::{TunnelConfig, run};
