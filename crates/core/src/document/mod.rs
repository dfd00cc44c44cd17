//! Reading an edition: how a site file's TOML becomes a [`crate::site::Site`], with every mistake listed at once.
//!
//! [`compile()`] reads the document through [`fields`], which keeps lines and names unknown keys; each other module reads one kind of part.
//! [`schema`] and the reference of keys are made from what these read.

mod access;
mod callers;
mod client;
mod compile;
mod condition;
mod delivery;
mod device;
mod device_rules;
mod directory;
mod expectation;
mod factor;
mod fields;
mod finding;
mod gate;
mod keys;
mod mapping;
mod names;
mod network;
mod open_network;
mod provider;
mod radius;
mod reach;
mod response;
mod route;
mod rule;
pub mod schema;
mod section;
mod ticket;
mod trace;
mod tunnel;
mod upstream;
mod upstream_ticket;
mod way;

pub use compile::compile;
pub use finding::{Finding, Severity};
