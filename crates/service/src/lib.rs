//! The service: sign-in pages, management API, console files, wiring and start-up. What can be decided in core is
//! decided there, what a node does without pages is `passeur_engine`; here evidence is gathered and answers are written.

mod api;
mod app;
mod callers;
pub mod config;
mod console;
mod control;
mod emergency;
mod factors;
pub mod findings;
mod guard;
pub mod kerberos;
mod lockout;
mod pages;
mod people;
mod rehearsal;
mod rights;
mod router;
mod signin;
mod standings;
mod start;
mod survey;
mod trials;
mod upkeep;

pub use config::{Config, ConfigError};
pub use emergency::Emergency;
pub use passeur_engine::workers::runtime;
pub use start::{Running, StartError, start};
