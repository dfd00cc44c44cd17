//! The management interface of an OpenVPN server, as its `management-notes.txt` documents it: what the server tells ([`Reader`]), and what it
//! is told ([`Command`]). No sockets here.
//!
//! The server passes on what clients say of themselves. Nothing of that is believed: lines have a longest length, a client has so many
//! variables, and only those with a name that is known here are kept. What is sent is made of typed parts, so that no text of anybody's ends a
//! line or a quotation: the server only logs a line that it does not understand, and lets the client in.

mod command;
mod reader;
mod status;

pub use command::{Command, Lines, Pending, Push, Refusal};
pub use reader::{Client, Env, Event, Kind, Malformed, Reader};
pub use status::{Connected, read_status};

/// How long the server lets a client wait, in seconds, where a line of its log says so: it cuts what it is asked for to its own
/// `hand-window`.
pub fn waits_in(log: &str) -> Option<u32> {
    let rest = log.strip_prefix("SENT CONTROL [").or_else(|| log.split_once(" SENT CONTROL [").map(|(_, rest)| rest))?;
    rest.split_once("]: 'AUTH_PENDING,timeout ")?.1.split('\'').next()?.parse().ok()
}

/// The longest line that is read, in octets.
pub const LINE_MAX: usize = 4_096;
/// The longest text behind `WEB_AUTH::` that reaches a client, with that word (the server's own limit on a message).
pub const PENDING_MAX: usize = 246;

#[cfg(test)]
mod tests {
    use super::waits_in;

    #[test]
    fn how_long_a_client_may_wait_is_read_from_what_the_server_sends() {
        assert_eq!(waits_in("SENT CONTROL [client]: 'AUTH_PENDING,timeout 60' (status=1)"), Some(60));
        assert_eq!(waits_in("a/192.0.2.1:5 SENT CONTROL [client]: 'AUTH_PENDING,timeout 60' (status=1)"), Some(60));
        for other in ["", "SENT CONTROL [client]: 'INFO_PRE,WEB_AUTH::x' (status=1)", "AUTH_PENDING,timeout 60"] {
            assert_eq!(waits_in(other), None, "{other}");
        }
    }
}
