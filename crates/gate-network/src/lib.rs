//! Gates of kind `network`: a machine is let through once its person is signed in, and for no longer than that.
//!
//! The same decision as everywhere ([`passeur_engine::grants`]) is carried by an address on a link: [`plan`] says what an edition guards,
//! [`entering`] lets a machine through, [`first`] for a short time before anybody is known, [`standing`] decides for one that is through,
//! [`leaving`] closes, [`keep`] does all day what keeps kernel, database and edition of one mind, and [`book`] knows who is on. [`tunnels`] lets machines through at the far ends of tunnels. [`neighbours`] says which hardware address an address belongs to,
//! [`names`] where names lead, with [`resolver`] and `answers`, which learn it from what machines are told. People meet [`portal`] and [`captive`]; `shares` bounds what they hold. Everything that reaches the kernel goes through the sluice.

mod answers;
pub mod book;
pub mod captive;
pub mod entering;
pub mod first;
pub mod gate;
pub mod keep;
pub mod leaving;
pub mod names;
pub mod neighbours;
pub mod plan;
pub mod portal;
pub mod refusing;
pub mod report;
pub mod resolver;
mod shares;
pub mod standing;
mod trace;
pub mod tunnels;

pub use gate::{NetworkConfig, NetworkGate, ResolverConfig};
