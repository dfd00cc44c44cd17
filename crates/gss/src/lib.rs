//! GSS-API (RFC 2743, RFC 2744) with Kerberos (RFC 4121) and SPNEGO (RFC 4178) behind a small safe API, over MIT Kerberos.
//!
//! The only room with unsafe code. Nothing here is asynchronous and everything may block: a call that asks a KDC waits for as
//! long as the library likes. `passeur_links::kerberos` keeps it off the threads that serve, bounds it and gives it deadlines.
//!
//! The library keeps what it calls defaults for a process: a credential cache, a keytab, a replay cache. None of them may ever be
//! used for somebody, so [`prepare`] points each at nothing, and every credential here names its own.
//!
//! * [`keytab`] keys that live in memory alone;
//! * [`acceptor`] whoever shows a ticket;
//! * [`inside`] what a ticket holds, for explaining: it admits nobody;
//! * [`initiator`] tickets for others' services, as a person;
//! * [`ask`] what a KDC gives us, for finding out what is wrong;
//! * [`password`] a name and password that a KDC is asked about;
//! * [`failure`] what went wrong, as far as it can be told apart.

pub mod acceptor;
pub mod ask;
mod credential;
pub mod failure;
pub mod initiator;
pub mod inside;
pub mod keytab;
mod krb5;
pub mod password;

pub use acceptor::{Accepted, Acceptor};
pub use ask::{Answered, ask};
pub use failure::{Failure, Why};
pub use initiator::{Account, Delegated, Delegation, Shown};
pub use inside::Inside;
pub use keytab::Keytab;
pub use password::is_there;

use std::path::Path;

/// Other threads run, so that the environment may not be changed any more.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("Kerberos must be prepared before anything else runs")]
pub struct NotAlone;

/// Points every default of the process at nothing, and the library at its configuration: `krb5.conf` at `config`, where one is
/// given. To be called first in `main`.
///
/// # Errors
/// When this is not the only thread.
pub fn prepare(config: Option<&Path>) -> Result<(), NotAlone> {
    if std::fs::read_dir("/proc/self/task").map_or(0, Iterator::count) != 1 {
        return Err(NotAlone);
    }
    let nothing = [
        // What is initiated with no cache of its own fails instead of going on as somebody else.
        ("KRB5CCNAME", "MEMORY:none"),
        ("KRB5_KTNAME", "MEMORY:none"),
        ("KRB5_CLIENT_KTNAME", "MEMORY:none"),
        // Whoever shows a ticket twice is found out by the service, on every node (see `passeur_signin`).
        ("KRB5RCACHENAME", "none:"),
    ];
    let config = config.map(|path| ("KRB5_CONFIG", path.as_os_str()));
    for (name, value) in nothing.map(|(n, v)| (n, std::ffi::OsStr::new(v))).into_iter().chain(config) {
        // SAFETY: no other thread runs that could read the environment meanwhile.
        unsafe { std::env::set_var(name, value) };
    }
    Ok(())
}
