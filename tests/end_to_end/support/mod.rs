//! What the tests stand on.

mod chromium;
pub mod client;
mod database;
mod raw;
mod stack;

pub use chromium::Browser;
pub use client::Person;
pub use database::Database;
pub use raw::{RawUpstream, raw};
pub use stack::{Stack, binary, env};
