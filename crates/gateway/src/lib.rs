//! The data path: listener → host to gate → cookie to admission → delivery → upstream → response edits → person.
//!
//! Nothing here decides: an admission is made by core from evidence and handed over by [`control::Control`], which also
//! answers everything that is not a plain admitted request. What goes upstream is built by [`outgoing`] alone, and only
//! from an [`admission::Admission`].

pub mod admission;
mod bearer;
pub mod bodies;
pub mod body;
mod caller;
mod claims;
mod conn;
pub mod control;
mod cores;
pub mod edition;
mod edits;
mod fields;
mod flat;
mod floods;
mod head;
mod health;
mod hold;
mod listener;
mod names;
mod outgoing;
mod packed;
mod path;
mod remote;
mod stream;
pub mod table;
pub mod target;
mod ticketed;
pub mod tls;
pub mod tls_radius;
mod unread;
mod upstream;
mod waits;
mod websocket;

pub use cores::{Cores, Parts};
pub use floods::Counters as FloodCounters;
pub use listener::Listener;
