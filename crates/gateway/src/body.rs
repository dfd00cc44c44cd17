//! Bodies of pages. What streams through a gate is in [`crate::stream`].

use bytes::Bytes;
use http_body_util::combinators::UnsyncBoxBody;
use http_body_util::{BodyExt, Empty, Full};

/// Any error of a body.
pub type BoxError = Box<dyn std::error::Error + Send + Sync>;
/// A body of any origin.
pub type Body = UnsyncBoxBody<Bytes, BoxError>;

/// A body held whole.
pub fn full(bytes: impl Into<Bytes>) -> Body {
    Full::new(bytes.into()).map_err(|e| match e {}).boxed_unsync()
}

/// No body.
pub fn empty() -> Body {
    Empty::new().map_err(|e| match e {}).boxed_unsync()
}
