//! Programs that come to a gate without a browser: by an access token of a provider, or by a token that somebody made.

use chrono::Duration;

/// The ways by which programs come, as rules name them.
pub const ACCESS_TOKEN: &str = "access-token";
/// The same for a token that somebody made for programs of theirs.
pub const PERSONAL_TOKEN: &str = "personal-token";

/// Which tokens a gate takes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Callers {
    /// Whether people may make tokens for it.
    pub personal: bool,
    /// How long ago the owner of such a token may have signed in.
    pub owner_seen: Duration,
    /// Providers whose access tokens are taken.
    pub access_tokens: Vec<String>,
    /// Whom they must be for (`aud`): the gate's origin unless set.
    pub audience: Option<String>,
    /// Each of these must be among their scopes.
    pub scopes: Vec<String>,
    /// The way in by client certificate that is taken.
    pub certificates: Option<String>,
}
