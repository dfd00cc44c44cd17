//! What the tests stand on.

mod authority;
mod chromium;
pub mod clear;
pub mod client;
mod database;
mod directory;
pub mod forged;
pub mod kerberos;
mod radius;
mod raw;
mod scripted;
mod scripted_vpn;
pub mod stack;
mod tunnel;
mod yard;

pub use authority::Authority;
pub use chromium::Browser;
pub use client::{Page, Person};
pub use database::Database;
pub use directory::Directory;
pub use radius::{Nas, Ordered, Told};
pub use raw::{RawUpstream, raw};
pub use scripted::{OK, Scripted, eventually, read_request};
pub use scripted_vpn::{ScriptedVpn, Talk};
pub use stack::{Stack, Where, another_key, binary, engineer, env, on_port};
pub use tunnel::{Connecting, Sea};
pub use yard::Harbour;
