//! Programs that come to a gate without a browser: by an access token of a provider, or by a token that somebody made.

use chrono::Duration;

use super::access::Names;
use super::read::Fields;

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

/// Reads `[gate.callers]`.
pub(crate) fn read(gate: &Fields<'_, '_>, names: &Names<'_>) -> Option<Callers> {
    let f = gate.table("callers")?;
    let access_tokens = f.texts("access-tokens").unwrap_or_default();
    for p in access_tokens.iter().filter(|p| !names.token_givers.contains(p)) {
        f.error(
            "access-tokens",
            format!("there is no OpenID Connect provider \"{p}\""),
            format!("There are: {}.", names.token_givers.join(", ")),
        );
    }
    let out = Callers {
        personal: f.flag("personal-tokens", false),
        owner_seen: f.duration("owner-seen", Duration::days(30), Duration::hours(1), Duration::days(365)),
        access_tokens,
        audience: f.text("audience"),
        scopes: f.texts("scopes").unwrap_or_default(),
        certificates: super::access::refer(&f, "certificates", "way in", names.certificate_ways),
    };
    if !out.personal && out.access_tokens.is_empty() && out.certificates.is_none() {
        f.error(
            "personal-tokens",
            "no token is taken".into(),
            "Name providers in access-tokens, set personal-tokens = true, or name a way in by certificates.",
        );
    }
    f.finish();
    Some(out)
}
