//! An upload that waits for the application's word (RFC 9110 10.1.1): a client that sent `Expect: 100-continue` is told to go on when
//! the application says so, and not because we would like the body. An application that refuses is answered for before a byte was sent.

use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::task::{Context, Poll};
use std::time::Duration;

use futures_util::task::AtomicWaker;
use http::header::EXPECT;
use http::{HeaderMap, StatusCode};
use tokio::time::Sleep;

/// How long an application that knows nothing of the expectation may keep silent before the body goes to it all the same.
const SILENCE: Duration = Duration::from_secs(1);

/// The word that is waited for, between whoever reads the application's answers and whoever sends the body.
#[derive(Debug, Default)]
pub(crate) struct Word {
    said: AtomicBool,
    waker: AtomicWaker,
}

impl Word {
    /// Hears the application's interim answers to a request.
    pub(crate) fn heard_on<B>(self: &Arc<Word>, request: &mut http::Request<B>) {
        let word = self.clone();
        hyper::ext::on_informational(request, move |answer| {
            if answer.status() == StatusCode::CONTINUE {
                word.said.store(true, Ordering::Release);
                word.waker.wake();
            }
        });
    }
}

/// A body that waits for the word.
#[derive(Debug)]
pub(crate) struct Hold {
    word: Arc<Word>,
    silence: Option<Pin<Box<Sleep>>>,
}

impl Hold {
    /// Where a client waits to be told before it sends its body.
    pub(crate) fn of(headers: &HeaderMap) -> Option<Hold> {
        let expects = headers.get(EXPECT).is_some_and(|v| v.as_bytes().eq_ignore_ascii_case(b"100-continue"));
        expects.then(|| Hold { word: Arc::default(), silence: None })
    }

    pub(crate) fn word(&self) -> &Arc<Word> {
        &self.word
    }

    /// Ready once the body may go.
    pub(crate) fn poll(&mut self, cx: &mut Context<'_>) -> Poll<()> {
        self.word.waker.register(cx.waker());
        if self.word.said.load(Ordering::Acquire) {
            return Poll::Ready(());
        }
        self.silence.get_or_insert_with(|| Box::pin(tokio::time::sleep(SILENCE))).as_mut().poll(cx)
    }
}
