//! Kerberos as it is read here: tables, a token as a real browser made it, and whatever else may come.
#![allow(clippy::unwrap_used)] // A test that cannot go on should say where.

mod caches;
mod configs;
mod faults;
mod files;
mod local;
mod names;
mod tokens;
