//! Connections to others: directories, providers' HTTP, a mail server, KDCs. What they answer is handed on as evidence; nothing is decided
//! here. Also files of a machine, where what a connection depends on stands in them.

pub mod client_chain;
pub mod files;
pub mod host;
pub mod http;
pub mod kerberos;
pub mod ldap;
mod pem;
pub mod radius;
pub mod resolve;
pub mod revocation;
pub mod smtp;
