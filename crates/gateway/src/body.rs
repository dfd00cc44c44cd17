//! Bodies: streamed, counted, and with trailers cleaned.

use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};

use bytes::Bytes;
use http_body::{Body as HttpBody, Frame, SizeHint};
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

/// Called with the length of each data frame.
pub(crate) type Count = Arc<dyn Fn(u64) + Send + Sync>;
/// Whether a trailer of this name may pass.
pub(crate) type KeepTrailer = Arc<dyn Fn(&http::HeaderName) -> bool + Send + Sync>;

/// Streams another body in constant memory, counting bytes and dropping trailers that may not pass.
pub(crate) struct Through<B> {
    inner: B,
    count: Count,
    keep: KeepTrailer,
}

impl<B> Through<B>
where
    B: HttpBody<Data = Bytes> + Send + Unpin + 'static,
    B::Error: Into<BoxError>,
{
    pub(crate) fn wrap(inner: B, count: Count, keep: KeepTrailer) -> Body {
        Through { inner, count, keep }.boxed_unsync()
    }
}

impl<B> HttpBody for Through<B>
where
    B: HttpBody<Data = Bytes> + Unpin,
    B::Error: Into<BoxError>,
{
    type Data = Bytes;
    type Error = BoxError;

    fn poll_frame(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, BoxError>>> {
        let frame = match std::task::ready!(Pin::new(&mut self.inner).poll_frame(cx)) {
            None => return Poll::Ready(None),
            Some(Err(e)) => return Poll::Ready(Some(Err(e.into()))),
            Some(Ok(f)) => f,
        };
        let frame = match frame.into_trailers() {
            Ok(trailers) => {
                let kept = trailers.iter().filter(|(n, _)| (self.keep)(n)).map(|(n, v)| (n.clone(), v.clone())).collect();
                Frame::trailers(kept)
            }
            Err(frame) => {
                if let Some(data) = frame.data_ref() {
                    (self.count)(data.len() as u64);
                }
                frame
            }
        };
        Poll::Ready(Some(Ok(frame)))
    }

    fn is_end_stream(&self) -> bool {
        self.inner.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.inner.size_hint()
    }
}
