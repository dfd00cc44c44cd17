//! The harbour of the end-to-end tests, which `./run bench` measures as a whole.

#![allow(dead_code, clippy::unwrap_used)] // Tests, of which a part is used here.

#[path = "../../tests/end_to_end/support/clear.rs"]
pub mod clear;
#[path = "../../tests/end_to_end/support/client.rs"]
pub mod client;
#[path = "../../tests/end_to_end/support/database.rs"]
pub mod database;
#[path = "../../tests/end_to_end/support/kerberos.rs"]
pub mod kerberos;
#[path = "../../tests/end_to_end/support/stack.rs"]
pub mod stack;

pub use client::Person;
pub use database::Database;
pub use stack::{Stack, env};
