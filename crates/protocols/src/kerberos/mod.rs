//! Kerberos (RFC 4120) as far as it is read and explained here. Tickets are judged by GSS-API (`passeur_gss`), never by this:
//! what is read here tells a person's engineer what somebody showed and why it was not taken.
//!
//! * [`negotiate`] what a browser sends (RFC 4559, RFC 4178, NTLM told apart);
//! * [`token`] the outside of a ticket: which service it is for, by which key;
//! * [`bindings`] what ties a ticket to a TLS channel;
//! * [`keytab`] files of keys, without the keys; [`ccache`] files of tickets, without the tickets;
//! * [`config`] krb5.conf, with what it includes;
//! * [`principal`] names of people and services;
//! * [`local`] which account of a machine a principal is;
//! * [`enctype`] encryption types by their registered names;
//! * [`fault`] why a ticket was not taken.

pub mod bindings;
pub mod ccache;
pub mod config;
mod der;
pub mod enctype;
pub mod fault;
pub mod keytab;
pub mod local;
pub mod negotiate;
pub mod principal;
mod reader;
pub mod token;

pub use ccache::{BadCache, Cache, Held};
pub use config::Config;
pub use fault::{Fault, Opened};
pub use keytab::{BadKeytab, Key, Keytab};
pub use negotiate::Shown;
pub use principal::Principal;
pub use token::{Outside, Proof, Ticket};
