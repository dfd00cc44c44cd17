//! What the names of a request's fields mean at a gate: what goes no further, and what has to be looked at. The requests of a connection
//! have mostly the same fields in the same order, so that a connection keeps this for the next one.

use std::sync::LazyLock;

use http::HeaderMap;
use http::header::{AUTHORIZATION, CONNECTION, CONTENT_LENGTH, COOKIE, EXPECT, HOST, HeaderName, TRANSFER_ENCODING, UPGRADE};

use crate::claims;
use crate::names::{Folded, Names};

/// A field that has to be looked at where it is there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Field {
    Authorization,
    Connection,
    ContentLength,
    Expect,
    TransferEncoding,
    Upgrade,
}

/// Fields that belong to one connection only (RFC 9110 7.6.1), and those that are written anew.
const DROPPED: &[&str] = &[
    "connection",
    "keep-alive",
    "proxy-connection",
    "proxy-authenticate",
    "proxy-authorization",
    "te",
    "trailer",
    "transfer-encoding",
    "upgrade",
    "cookie",
    "host",
];

static GOES_NO_FURTHER: LazyLock<Folded> = LazyLock::new(|| Folded::of(DROPPED.iter().copied()));

/// Whether a field of the client's may go on by its name, in the head or after the body.
pub(crate) fn passes(name: &HeaderName, gate: &Names) -> bool {
    !(GOES_NO_FURTHER.holds(name.as_str()) || claims::claims(name.as_str()) || gate.strips(name))
}

const FIELDS: [(Field, HeaderName); 6] = [
    (Field::Authorization, AUTHORIZATION),
    (Field::Connection, CONNECTION),
    (Field::ContentLength, CONTENT_LENGTH),
    (Field::Expect, EXPECT),
    (Field::TransferEncoding, TRANSFER_ENCODING),
    (Field::Upgrade, UPGRADE),
];

/// See the module.
#[derive(Debug)]
pub(crate) struct Fields {
    names: Vec<HeaderName>,
    /// A bit for each of [`Field`].
    has: u8,
    /// Whether one names a second method.
    pub(crate) names_method: bool,
    /// Names that go no further.
    pub(crate) gone: Vec<HeaderName>,
    /// Names of headers that only the gate may set.
    pub(crate) forged: Vec<HeaderName>,
}

impl Fields {
    /// Of a request at a gate with these names.
    pub(crate) fn of(headers: &HeaderMap, gate: &Names) -> Fields {
        let names: Vec<HeaderName> = headers.keys().cloned().collect();
        let of = |wanted: &dyn Fn(&HeaderName) -> bool| names.iter().filter(|n| wanted(n)).cloned().collect();
        // Every request has these two, and they are written anew.
        let anew = |n: &HeaderName| n == HOST || n == COOKIE;
        Fields {
            has: FIELDS.iter().filter(|(_, name)| names.contains(name)).fold(0, |has, (field, _)| has | 1 << *field as u8),
            names_method: names.iter().any(|n| claims::names_method(n.as_str())),
            gone: of(&|n| !anew(n) && !passes(n, gate)),
            forged: of(&|n| gate.strips(n)),
            names,
        }
    }

    /// Whether a request has these fields, in this order.
    pub(crate) fn fit(&self, headers: &HeaderMap) -> bool {
        self.names.len() == headers.keys_len() && self.names.iter().eq(headers.keys())
    }

    /// Whether a field is there.
    pub(crate) fn has(&self, field: Field) -> bool {
        self.has & 1 << field as u8 != 0
    }
}

#[cfg(test)]
mod tests {
    use http::HeaderValue;

    use super::*;

    #[test]
    fn fields_fit_the_same_names_alone_and_say_what_is_there() {
        let head = |names: &[&'static str]| {
            let mut headers = HeaderMap::new();
            for name in names {
                headers.append(*name, HeaderValue::from_static("x"));
            }
            headers
        };
        let first = head(&["host", "accept", "x-forwarded-for", "cookie", "upgrade"]);
        let fields = Fields::of(&first, &Names::default());
        assert!(fields.fit(&first) && fields.has(Field::Upgrade) && !fields.has(Field::Connection) && !fields.names_method);
        assert_eq!((fields.gone.len(), fields.forged.len()), (2, 0), "{:?}", fields.gone);
        for other in [
            &["host", "accept", "x-forwarded-for", "cookie"][..],
            &["host", "accept", "x-forwarded-for", "cookie", "upgrade", "x-http-method"],
            &["host", "accept", "x-forwarded-for", "cookie", "x-http-method"],
            &["accept", "host", "x-forwarded-for", "cookie", "upgrade"],
        ] {
            assert!(!fields.fit(&head(other)), "{other:?}");
        }
        assert!(Fields::of(&head(&["x_http_method_override"]), &Names::default()).names_method);
        for (field, name) in FIELDS {
            let fields = Fields::of(&HeaderMap::from_iter([(name, HeaderValue::from_static("x"))]), &Names::default());
            assert!(FIELDS.iter().all(|(other, _)| fields.has(*other) == (*other == field)), "{field:?}");
        }
    }
}
