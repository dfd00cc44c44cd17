//! Reading of `site::factor` from a document.

use super::fields::Fields;
use crate::address::network;
use crate::site::OwnFactors;

/// Reads `[factors]`.
pub(crate) fn read(root: &Fields<'_, '_>) -> Option<OwnFactors> {
    let f = root.table("factors")?;
    let mut enrol_from = vec![];
    for text in f.texts("enrol-from").unwrap_or_default() {
        match network(&text) {
            Some(n) => enrol_from.push(n),
            None => f.error("enrol-from", format!("\"{text}\" is no network"), "Write networks such as \"10.20.0.0/16\"."),
        }
    }
    let out = OwnFactors { totp: f.flag("totp", true), passkeys: f.flag("passkeys", true), enrol_from };
    if !out.totp && !out.passkeys {
        f.error("totp", "neither kind of factor is on".into(), "Switch one on, or take [factors] away.");
    }
    f.finish();
    Some(out)
}
