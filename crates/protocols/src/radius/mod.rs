//! RADIUS (RFC 2865, 2866, 2869 section 5.14, 5176; over TLS RFC 6614 and 9765): packets as they travel, what proves them, and what hides a
//! password. No sockets, clock or randomness here.
//!
//! The protocol proves little: a request's own authenticator proves nothing, and MD5 is all there is. So whoever reads requests demands a
//! Message-Authenticator, and whoever answers puts one first, where no prefix can be chosen before it (the attack of 2024 on answers without).

mod attribute;
mod cause;
mod packet;
mod proof;
mod stream;

pub use attribute::{Attribute, Kind, TUNNEL_802, TUNNEL_VLAN};
pub use cause::{SESSION_NOT_FOUND, error_cause, terminate_cause};
pub use packet::{Code, LENGTH_MAX, LENGTH_MIN, Malformed, Packet};
pub use proof::{Secret, Unproven};
pub use stream::{ALPN_1_0, ALPN_1_1, HEAD, length_of};
