//! Bodies of the data path, streamed in constant memory: what a person uploads, and what an upstream answers. Both look
//! at the session while they run, so that ending it cuts them.

use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::Bytes;
use http_body::{Body as HttpBody, Frame, SizeHint};
use hyper::body::Incoming;
use passeur_live::clock::ticks;
use tokio::sync::futures::OwnedNotified;

use crate::bearer::Bearer;
use crate::body::{Body, BoxError};
use crate::conn::Runs;
use crate::edits;
use crate::edits::html::Turned;
use crate::fields;
use crate::hold::{Hold, Word};
use crate::upstream::pool::Lease;
use crate::waits::Wait;

/// How long a body may stand still.
const STILL_LIMIT: Duration = Duration::from_secs(600);

/// Why a body was cut.
#[derive(Debug, thiserror::Error)]
pub(crate) enum Cut {
    #[error("the session was ended, or the gate opens for it no more")]
    Ended,
    #[error("nothing moved for {} s", STILL_LIMIT.as_secs())]
    Still,
    #[error("it came too slowly for somebody who is not signed in")]
    Slow,
}

/// How long the upload of somebody who is not signed in may take. It gains a millisecond with each byte (1 KiB/s).
const STRANGER_GRACE_MS: i64 = 30_000;

/// How far an upload has come, seen by whoever waits for the answer.
#[derive(Debug, Default)]
pub(crate) struct Progress {
    moved: AtomicU64,
    done: AtomicBool,
    broken: AtomicBool,
}

impl Progress {
    /// Frames so far.
    pub(crate) fn moved(&self) -> u64 {
        self.moved.load(Ordering::Relaxed)
    }
    /// Whether the client broke it off, or the session ended under it: nothing that the upstream did.
    pub(crate) fn broken(&self) -> bool {
        self.broken.load(Ordering::Acquire)
    }
    /// Whether the upload ended cleanly.
    pub(crate) fn done(&self) -> bool {
        self.done.load(Ordering::Acquire)
    }
}

/// Whether a stranger's upload has brought too little in its time.
fn is_dripping(ms: i64, bytes: u64) -> bool {
    let gained = i64::try_from(bytes).unwrap_or(i64::MAX);
    ms > STRANGER_GRACE_MS.saturating_add(gained)
}

/// What goes to the upstream.
pub(crate) enum Upload {
    None,
    /// Boxed: most requests have no body, and each is moved a dozen times on its way.
    Stream(Box<Streaming>),
}

/// A body that goes to the upstream.
pub(crate) struct Streaming {
    body: Incoming,
    bearer: Bearer,
    progress: Arc<Progress>,
    /// In [`ticks`].
    began: i64,
    bytes: u64,
    hold: Option<Hold>,
}

impl Upload {
    /// A person's body, with its progress; none where there is no body. It waits where its sender does.
    pub(crate) fn of(body: Incoming, bearer: &Bearer, hold: Option<Hold>) -> (Upload, Option<Arc<Progress>>) {
        if body.is_end_stream() {
            return (Upload::None, None);
        }
        let progress = Arc::new(Progress::default());
        let stream = Streaming { body, bearer: bearer.clone(), progress: progress.clone(), began: ticks(), bytes: 0, hold };
        (Upload::Stream(Box::new(stream)), Some(progress))
    }

    /// The word that it waits for.
    pub(crate) fn word(&self) -> Option<&Arc<Word>> {
        match self {
            Upload::Stream(stream) => stream.hold.as_ref().map(Hold::word),
            Upload::None => None,
        }
    }
}

impl HttpBody for Upload {
    type Data = Bytes;
    type Error = BoxError;

    fn poll_frame(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, BoxError>>> {
        let Upload::Stream(stream) = self.get_mut() else { return Poll::Ready(None) };
        let Streaming { body, bearer, progress, began, bytes, hold } = &mut **stream;
        if bearer.is_over() {
            progress.broken.store(true, Ordering::Release);
            return Poll::Ready(Some(Err(Cut::Ended.into())));
        }
        if let Some(held) = hold {
            std::task::ready!(held.poll(cx));
            *hold = None;
            *began = ticks();
        }
        let frame = match std::task::ready!(Pin::new(&mut *body).poll_frame(cx)) {
            None => {
                progress.done.store(true, Ordering::Release);
                return Poll::Ready(None);
            }
            Some(Err(e)) => {
                progress.broken.store(true, Ordering::Release);
                return Poll::Ready(Some(Err(e.into())));
            }
            Some(Ok(f)) => f,
        };
        *bytes += frame.data_ref().map_or(0, |d| d.len() as u64);
        if bearer.is_nobody() && is_dripping(ticks() - *began, *bytes) {
            progress.broken.store(true, Ordering::Release);
            return Poll::Ready(Some(Err(Cut::Slow.into())));
        }
        progress.moved.fetch_add(1, Ordering::Relaxed);
        let frame = match frame.into_trailers() {
            Ok(trailers) => {
                let passes = |n: &http::HeaderName| fields::passes(n, bearer.names()) && edits::may_trail(n);
                Frame::trailers(trailers.iter().filter(|(n, _)| passes(n)).map(|(n, v)| (n.clone(), v.clone())).collect())
            }
            Err(frame) => {
                if let Some(data) = frame.data_ref() {
                    bearer.counters().received(data.len() as u64);
                }
                frame
            }
        };
        if body.is_end_stream() {
            progress.done.store(true, Ordering::Release);
        }
        Poll::Ready(Some(Ok(frame)))
    }

    fn is_end_stream(&self) -> bool {
        match self {
            Upload::None => true,
            Upload::Stream(stream) => stream.body.is_end_stream(),
        }
    }

    fn size_hint(&self) -> SizeHint {
        match self {
            Upload::None => SizeHint::with_exact(0),
            Upload::Stream(stream) => stream.body.size_hint(),
        }
    }
}

/// What waits while nothing comes from the upstream; made only for bodies that have to wait.
struct Waiting {
    over: Option<Pin<Box<OwnedNotified>>>,
    still: Wait,
}

/// An upstream's body on its way to a person.
pub(crate) struct Download {
    body: Incoming,
    bearer: Bearer,
    lease: Lease,
    upload: Option<Arc<Progress>>,
    waiting: Option<Box<Waiting>>,
}

impl Download {
    pub(crate) fn new(body: Incoming, bearer: Bearer, lease: Lease, upload: Option<Arc<Progress>>) -> Download {
        let mut out = Download { body, bearer, lease, upload, waiting: None };
        if out.body.is_end_stream() {
            out.ended();
        }
        out
    }

    /// The upstream's body ended cleanly: the connection goes back, unless it answered before it had the whole request.
    fn ended(&mut self) {
        if self.upload.as_ref().is_none_or(|u| u.done()) {
            self.lease.release();
        } else {
            self.lease.spend();
        }
    }

    /// Registers for whatever may cut a body that stands still.
    fn poll_cut(&mut self, cx: &mut Context<'_>) -> Option<Cut> {
        let bearer = &self.bearer;
        let waiting = self.waiting.get_or_insert_with(|| {
            Box::new(Waiting { over: bearer.when_over().map(Box::pin), still: self.lease.waits().begin(STILL_LIMIT) })
        });
        // Something of the session ended, perhaps another gate's admission: a new listener stands before the flag is read.
        while waiting.over.as_mut().is_some_and(|e| e.as_mut().poll(cx).is_ready()) {
            waiting.over = bearer.when_over().map(Box::pin);
        }
        if bearer.is_over() {
            return Some(Cut::Ended);
        }
        waiting.still.is_over(cx).then_some(Cut::Still)
    }
}

impl HttpBody for Download {
    type Data = Bytes;
    type Error = BoxError;

    fn poll_frame(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, BoxError>>> {
        let me = &mut *self;
        if me.bearer.is_over() {
            me.lease.spend();
            return Poll::Ready(Some(Err(Cut::Ended.into())));
        }
        match Pin::new(&mut me.body).poll_frame(cx) {
            Poll::Pending => match me.poll_cut(cx) {
                Some(cut) => {
                    me.lease.spend();
                    Poll::Ready(Some(Err(cut.into())))
                }
                None => Poll::Pending,
            },
            Poll::Ready(None) => {
                me.ended();
                Poll::Ready(None)
            }
            Poll::Ready(Some(Err(e))) => {
                me.lease.spend();
                Poll::Ready(Some(Err(e.into())))
            }
            Poll::Ready(Some(Ok(frame))) => {
                if let Some(data) = frame.data_ref() {
                    me.bearer.counters().sent(data.len() as u64);
                }
                if let Some(w) = &me.waiting {
                    w.still.again();
                }
                // The server stops asking once the last byte of a known length is there.
                if me.body.is_end_stream() {
                    me.ended();
                }
                let frame = match frame.into_trailers() {
                    Ok(trailers) => Frame::trailers(edits::clean_trailers(trailers)),
                    Err(frame) => frame,
                };
                Poll::Ready(Some(Ok(frame)))
            }
        }
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}

/// The body of an answer at a gate: the upstream's, or a page of ours.
pub(crate) enum Reply {
    Page(Body),
    Stream(Download),
    Turned(Box<Turned<Download>>),
}

impl Reply {
    pub(crate) fn turned(page: Turned<Download>) -> Reply {
        Reply::Turned(Box::new(page))
    }

    /// Whom it is for; none for a page of ours.
    pub(crate) fn bearer(&self) -> Option<&Bearer> {
        match self {
            Reply::Page(_) => None,
            Reply::Stream(body) => Some(&body.bearer),
            Reply::Turned(page) => Some(&page.inner().bearer),
        }
    }
}

impl HttpBody for Reply {
    type Data = Bytes;
    type Error = BoxError;

    fn poll_frame(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, BoxError>>> {
        match self.get_mut() {
            Reply::Page(b) => Pin::new(b).poll_frame(cx),
            Reply::Stream(b) => Pin::new(b).poll_frame(cx),
            Reply::Turned(b) => Pin::new(b).poll_frame(cx),
        }
    }

    fn is_end_stream(&self) -> bool {
        match self {
            Reply::Page(b) => b.is_end_stream(),
            Reply::Stream(b) => b.is_end_stream(),
            Reply::Turned(b) => b.is_end_stream(),
        }
    }

    fn size_hint(&self) -> SizeHint {
        match self {
            Reply::Page(b) => b.size_hint(),
            Reply::Stream(b) => b.size_hint(),
            Reply::Turned(b) => b.size_hint(),
        }
    }
}

/// An answer on its way over a connection: while it lives, its request runs.
pub(crate) struct UnderWay {
    pub(crate) reply: Reply,
    pub(crate) runs: Runs,
}

impl HttpBody for UnderWay {
    type Data = Bytes;
    type Error = BoxError;

    fn poll_frame(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, BoxError>>> {
        let me = &mut *self;
        me.runs.running.asked();
        let frame = Pin::new(&mut me.reply).poll_frame(cx);
        if let Poll::Ready(Some(Ok(f))) = &frame {
            me.runs.running.gave(f.data_ref().map_or(0, Bytes::len));
        }
        frame
    }

    fn is_end_stream(&self) -> bool {
        self.reply.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.reply.size_hint()
    }
}
