//! Reading of `site::callers` from a document.

use super::fields::Fields;
use super::names::Names;
use crate::site::Callers;
use chrono::Duration;

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
        certificates: super::names::refer(&f, "certificates", "way in", names.certificate_ways),
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
