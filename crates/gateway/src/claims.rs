//! Fields by which a client could claim what is not its to say: another path, method, host, scheme or address than those of its
//! request. Applications behind proxies read them; here they come from nobody but the gate.

use std::sync::LazyLock;

use passeur_core::delivery::folds_to;

use crate::names::Folded;

/// Families of names: every name that begins so. They and the second methods begin with `x`, which is looked at first.
const FAMILIES: &[&str] = &["x-forwarded", "x-original-", "x-rewrite-"];

/// Single names, by what they claim.
const NAMES: &[&str] = &[
    // where a request comes from
    "forwarded",
    "forwarded-for",
    "x-real-ip",
    "x-client-ip",
    "x-cluster-client-ip",
    "x-remote-ip",
    "x-remote-addr",
    "x-originating-ip",
    "x-proxyuser-ip",
    "true-client-ip",
    "client-ip",
    "proxy-client-ip",
    "wl-proxy-client-ip",
    // where it goes to
    "x-host",
    "x-http-host-override",
    "forwarded-host",
    "x-proxy-url",
    "x-url",
    "x-uri",
    "x-request-uri",
    "base-url",
    "x-base-url",
    // over what
    "forwarded-proto",
    "x-scheme",
    "x-url-scheme",
    "x-https",
    "front-end-https",
    // through what: programs of the common gateway interface take it for the name of a proxy (HTTP_PROXY)
    "proxy",
];

/// Fields that name another method than the request's. Without them the request would mean something else, so that it is refused
/// rather than stripped.
const METHODS: &[&str] =
    &["x-http-method-override", "x-http-method", "x-method-override", "x-original-method", "x-rewrite-method"];

static CLAIMS: LazyLock<Folded> = LazyLock::new(|| Folded::of(NAMES.iter().copied()));

/// Whether a client's field claims what only the gate says.
pub(crate) fn claims(name: &str) -> bool {
    let begins = |family: &&str| name.get(..family.len()).is_some_and(|head| folds_to(head, family));
    name.starts_with('x') && FAMILIES.iter().any(begins) || CLAIMS.holds(name)
}

/// Whether a field names a second method.
pub(crate) fn names_method(name: &str) -> bool {
    name.starts_with('x') && METHODS.iter().any(|m| folds_to(name, m))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn families_and_methods_begin_with_the_letter_that_is_looked_at_first() {
        assert!(FAMILIES.iter().chain(METHODS).all(|n| n.starts_with('x')));
    }

    #[test]
    fn claims_are_known_in_every_spelling_that_an_application_may_fold() {
        for name in [
            "x-original-url",
            "x_original_url",
            "x-rewrite-url",
            "x-forwarded-prefix",
            "x-forwarded",
            "x-forwarded-user",
            "x_forwarded_proto",
            "true-client-ip",
            "x-client_ip",
            "front-end-https",
            "proxy",
        ] {
            assert!(claims(name), "{name}");
        }
        for name in ["x-origin", "x-forward", "accept", "x-requested-with", "origin", "referer", "proxy-status", "client"] {
            assert!(!claims(name), "{name}");
        }
        assert!(names_method("x-http-method-override") && names_method("x_http_method") && !names_method("x-method"));
    }
}
