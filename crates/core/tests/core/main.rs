//! The core through its public face, on the demo's own site file: what is compiled, decided, delivered and told.
#![allow(clippy::unwrap_used)] // A test that cannot go on should say where.

mod comparing;
mod conditions;
mod deciding;
mod delivering;
mod devices;
mod directories;
mod expecting;
mod handing_over;
mod harbour;
mod identities;
mod mappings;
mod networks;
mod outside;
mod providers;
mod provoking;
mod radius;
mod rehearsing;
mod schema;
mod site_file;
mod steps;
mod strength;
mod surveying;
mod surveying_kerberos;
mod tunnels;
