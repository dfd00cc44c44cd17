//! The sluice: turns admissions into the state of the kernel's packet filter, and does nothing else.
//!
//! The service decides and has no privilege. This helper has CAP_NET_ADMIN and decides nothing: it speaks the fixed vocabulary of [`words`]
//! over a Unix socket whose peer it checks, and it changes one table of its own, for interfaces that it was started with. [`plan`] says what
//! an edition guards, [`rules`] writes it as rules, [`book`] holds who is let through and finds what the kernel holds otherwise, [`kernel`]
//! changes and reads it, [`guard`] does what is ordered, [`reading`] says what the kernel holds, [`looking`] puts the table back when somebody
//! else changes it, [`server`] listens. [`client`] is the service's side.

pub mod book;
pub mod client;
pub mod guard;
pub mod kernel;
mod looking;
pub mod plan;
mod reading;
pub mod rules;
pub mod server;
pub mod words;
