//! Kerberos at work: keys of a way in, and the calls of GSS-API, which block.
//!
//! [`pool`] keeps them off the threads that serve: each has a place to run in and a deadline, and a realm whose KDC does not answer
//! fills its own places only. [`tickets`] judges what a browser shows; [`behalf`] gets tickets for applications; [`look`] finds out what is
//! wrong with keys, and [`config`] with `krb5.conf`. What anything means is said by
//! [`passeur_protocols::kerberos`]; who may come in, by core.

pub mod behalf;
pub mod config;
pub mod look;
pub mod pool;
pub mod tickets;

pub use behalf::{Behalf, NoTicket};
pub use passeur_gss::{Delegated, Delegation, Shown, Why, prepare};
pub use pool::{NotRun, Pool};
pub use tickets::{NotTaken, Refused, Taken, Tickets};
