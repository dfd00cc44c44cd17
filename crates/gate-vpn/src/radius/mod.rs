//! RADIUS clients: gateways, switches and access points that are not ours, and ask whether somebody may come in (RFC 2865).
//!
//! [`server`] reads what comes at a socket, proves it, and answers each request once; [`asking`] decides, by the same rules as everywhere; [`answer`]
//! is what an answer carries, and `duplicates` what was answered of late. Nothing is computed for an address from which no client sends.

pub mod answer;
pub mod asking;
mod duplicates;
pub mod server;

pub use server::run;
