//! The service end to end, against real PostgreSQL and slapd on loopback. `./run test` starts the servers and says where
//! they are; every test has a database, a service, a provider and a ledger of its own, and moves only its own clock.
#![allow(clippy::unwrap_used)] // A test that cannot go on should say where.

mod support;

mod acts;
mod api;
mod authorities;
mod battery;
mod between;
mod bounds;
mod browser;
mod circles;
mod cli;
mod clients;
mod crossings;
mod data_path;
mod described;
mod directories;
mod editions;
mod edits;
mod emergency;
mod expecting;
mod flows;
mod forging;
mod forms;
mod granting;
mod hosts;
mod kept;
mod kerberos;
mod leavers;
mod leaving;
mod mappings;
mod measured;
mod networks;
mod nodes;
mod outliving;
mod radius;
mod rights;
mod ring;
mod roles;
mod rooms;
mod rules;
mod saml;
mod second;
mod secrets;
mod sections;
mod sessions;
mod shots;
mod survey;
mod tls;
mod tokens;
mod trying;
mod tunnels;
mod upstreams;
mod ways;
mod yard;
