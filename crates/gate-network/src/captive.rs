//! What a network says to a machine's system of itself (RFC 8908): whether it is captive, where its person signs in, and how long it lasts.

use serde::Serialize;

/// The media type (RFC 8908 section 4.1).
pub const MEDIA_TYPE: &str = "application/captive+json";

/// The document (RFC 8908 section 5).
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Captive {
    /// Whether the machine has to do something before it is let through.
    pub captive: bool,
    /// Where a person signs in.
    pub user_portal_url: String,
    /// How long it is let through, in whole seconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub seconds_remaining: Option<i64>,
    /// How much may still pass.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes_remaining: Option<u64>,
    /// Whether signing in again makes it longer.
    pub can_extend_session: bool,
}
