//! The head of a request as it came, flat. The fields themselves go on to the application, edited in place; where they are needed once
//! more, for a second try or for a record, they are read from here. One copy of a few hundred octets costs less than a second reference to
//! each name and each value.

use http::request::Parts;
use http::{HeaderMap, HeaderName, HeaderValue};

/// See the module.
pub(crate) struct Flat {
    pub(crate) parts: Parts,
    /// Length and octets of each name and each value.
    fields: Vec<u8>,
}

/// What most heads take.
const USUAL: usize = 1024;

impl Flat {
    /// Takes the fields out of a head.
    pub(crate) fn take(mut parts: Parts) -> (Flat, HeaderMap) {
        let headers = std::mem::take(&mut parts.headers);
        let mut fields = Vec::with_capacity(USUAL);
        for (name, value) in &headers {
            for part in [name.as_str().as_bytes(), value.as_bytes()] {
                // A head has 64 KiB at most.
                fields.extend_from_slice(&(part.len() as u32).to_ne_bytes());
                fields.extend_from_slice(part);
            }
        }
        (Flat { parts, fields }, headers)
    }

    /// The fields as they came.
    pub(crate) fn headers(&self) -> HeaderMap {
        let mut rest = &self.fields[..];
        let mut next = || {
            let (length, after) = rest.split_first_chunk::<4>()?;
            let (part, after) = after.split_at_checked(u32::from_ne_bytes(*length) as usize)?;
            rest = after;
            Some(part)
        };
        let mut headers = HeaderMap::new();
        while let (Some(name), Some(value)) = (next(), next()) {
            if let (Ok(name), Ok(value)) = (HeaderName::from_bytes(name), HeaderValue::from_bytes(value)) {
                headers.append(name, value);
            }
        }
        headers
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_fields_are_read_as_they_came() {
        let mut request = http::Request::get("/a?b").body(()).unwrap();
        for (name, value) in [("cookie", "a=1"), ("x-empty", ""), ("cookie", "b=\u{e9}"), ("accept", "text/html")] {
            request.headers_mut().append(name, HeaderValue::from_str(value).unwrap());
        }
        let before = request.headers().clone();
        let (flat, mut headers) = Flat::take(request.into_parts().0);
        assert_eq!(headers, before);
        headers.clear();
        assert_eq!((flat.headers(), flat.parts.uri.path()), (before, "/a"));
    }
}
