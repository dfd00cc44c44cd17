//! Connections to others: directories, providers' HTTP, a mail server, KDCs. What they answer is handed on as evidence; nothing is decided
//! here. Also the two things every connection needs: the one clock and the resolver that knows loopback names;
//! and files of a machine, where what a connection depends on stands in them.

pub mod clock;
pub mod files;
pub mod guard;
pub mod host;
pub mod http;
pub mod kerberos;
pub mod ldap;
mod pem;
pub mod resolve;
pub mod smtp;

/// The innermost cause of an error in words: the outer ones repeat what is known, and may hold parameters.
pub fn innermost(e: &dyn std::error::Error) -> String {
    let mut cause = e;
    while let Some(inner) = cause.source() {
        cause = inner;
    }
    cause.to_string()
}
