//! How much an upstream may send before its answer's head is there. A head alone is bounded by the parser's buffer; interim
//! answers (1xx, RFC 9110 15.2) are not, and any number of them may come before it.

use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use std::task::{Context, Poll};

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

/// In bytes: a head of the largest size, what is read ahead of its body, and room for interim answers.
const BEFORE_ANSWER_MAX: i64 = 1024 * 1024;

/// What is left of it, shared by a connection and whoever sends over it.
#[derive(Clone, Debug)]
pub(crate) struct Budget(Arc<AtomicI64>);

impl Default for Budget {
    fn default() -> Budget {
        Budget(Arc::new(AtomicI64::new(BEFORE_ANSWER_MAX)))
    }
}

impl Budget {
    /// A request goes out: what comes now is bounded.
    pub(crate) fn head(&self) {
        self.0.store(BEFORE_ANSWER_MAX, Ordering::Relaxed);
    }

    /// The answer's head is there: what follows is its body, of any size.
    pub(crate) fn body(&self) {
        self.0.store(i64::MAX, Ordering::Relaxed);
    }
}

/// A stream that keeps within the budget.
pub(crate) struct Bounded<T> {
    inner: T,
    budget: Budget,
}

impl<T> Bounded<T> {
    pub(crate) fn new(inner: T, budget: Budget) -> Bounded<T> {
        Bounded { inner, budget }
    }
}

impl<T: AsyncRead + Unpin> AsyncRead for Bounded<T> {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let before = buf.filled().len();
        std::task::ready!(Pin::new(&mut self.inner).poll_read(cx, buf))?;
        let read = (buf.filled().len() - before) as i64;
        if self.budget.0.fetch_sub(read, Ordering::Relaxed) < read {
            return Poll::Ready(Err(io::Error::other("it sent more than 1 MiB before its answer")));
        }
        Poll::Ready(Ok(()))
    }
}

impl<T: AsyncWrite + Unpin> AsyncWrite for Bounded<T> {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &[u8]) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.inner).poll_write(cx, buf)
    }
    fn poll_write_vectored(mut self: Pin<&mut Self>, cx: &mut Context<'_>, bufs: &[io::IoSlice<'_>]) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.inner).poll_write_vectored(cx, bufs)
    }
    fn is_write_vectored(&self) -> bool {
        self.inner.is_write_vectored()
    }
    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_flush(cx)
    }
    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_shutdown(cx)
    }
}
