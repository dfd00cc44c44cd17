//! Bodies that are held whole before anybody is known: forms, messages of providers, and what a missing session interrupts. How many
//! bytes of them one network may have under way, how many there may be in all, and how fast they must come.

use std::collections::HashMap;
use std::future::Future;
use std::net::IpAddr;
use std::pin::Pin;
use std::sync::{Arc, Mutex};
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::Bytes;
use http::{HeaderMap, header};
use http_body::{Body as HttpBody, Frame, SizeHint};
use http_body_util::{BodyExt, Limited};
use passeur_core::address::neighbourhood;
use tokio::time::{Instant, Sleep};

use crate::body::{Body, BoxError};

/// Bytes of bodies under way that a node holds for people it does not know.
const ALL_MAX: usize = 64 << 20;
/// The same for one network: thousands of forms, or tens of the largest messages.
const NETWORK_MAX: usize = 8 << 20;
/// How long any body may take, and how many bytes a second it must bring beyond that.
const GRACE: Duration = Duration::from_secs(10);
const LEAST_RATE: usize = 4 * 1024;

/// What a place reads of a request's body.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Bound {
    /// The most bytes.
    pub max: usize,
    /// Whether it is read only once somebody is known.
    pub known: bool,
}

#[derive(Debug, Default)]
struct Held {
    all: usize,
    networks: HashMap<IpAddr, usize>,
}

/// See the module.
#[derive(Debug, Default)]
pub(crate) struct Bodies(Mutex<Held>);

/// A body came too slowly.
#[derive(Debug, thiserror::Error)]
#[error("the body came too slowly")]
struct TooSlow;

impl Bodies {
    /// Room for a body; none where its network, or everybody together, has too much under way.
    pub(crate) fn room(self: &Arc<Bodies>, address: IpAddr, headers: &HeaderMap, max: usize) -> Option<Room> {
        let said = headers.get(header::CONTENT_LENGTH).and_then(|v| v.to_str().ok()).and_then(|v| v.parse::<usize>().ok());
        let bytes = said.map_or(max, |n| n.min(max));
        let network = neighbourhood(address);
        let mut held = self.0.lock().unwrap_or_else(|e| e.into_inner());
        let theirs = held.networks.get(&network).copied().unwrap_or(0);
        if held.all + bytes > ALL_MAX || theirs + bytes > NETWORK_MAX {
            return None;
        }
        held.all += bytes;
        held.networks.insert(network, theirs + bytes);
        Some(Room { bodies: self.clone(), network, bytes })
    }
}

/// Room for one body, given back when this is dropped.
#[derive(Debug)]
pub(crate) struct Room {
    bodies: Arc<Bodies>,
    network: IpAddr,
    bytes: usize,
}

impl Drop for Room {
    fn drop(&mut self) {
        let mut held = self.bodies.0.lock().unwrap_or_else(|e| e.into_inner());
        held.all -= self.bytes;
        if let Some(theirs) = held.networks.get_mut(&self.network) {
            *theirs -= self.bytes;
            if *theirs == 0 {
                held.networks.remove(&self.network);
            }
        }
    }
}

/// A body that is read whole: within its bound, and in time.
struct Paced {
    body: Limited<Body>,
    _room: Option<Room>,
    began: Instant,
    seen: usize,
    late: Option<Pin<Box<Sleep>>>,
}

/// Bounds a body; the room is held while it is read.
pub(crate) fn paced(body: Body, max: usize, room: Option<Room>) -> Body {
    Paced { body: Limited::new(body, max), _room: room, began: Instant::now(), seen: 0, late: None }.boxed_unsync()
}

impl Paced {
    fn due(&self) -> Instant {
        self.began + GRACE + Duration::from_millis((self.seen * 1000 / LEAST_RATE) as u64)
    }
}

impl HttpBody for Paced {
    type Data = Bytes;
    type Error = BoxError;

    fn poll_frame(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, BoxError>>> {
        let me = &mut *self;
        match Pin::new(&mut me.body).poll_frame(cx) {
            Poll::Ready(frame) => {
                if let Some(Ok(f)) = &frame {
                    me.seen += f.data_ref().map_or(0, Bytes::len);
                }
                Poll::Ready(frame)
            }
            Poll::Pending => {
                let due = me.due();
                let late = me.late.get_or_insert_with(|| Box::pin(tokio::time::sleep_until(due)));
                if late.deadline() != due {
                    late.as_mut().reset(due);
                }
                late.as_mut().poll(cx).map(|()| Some(Err(TooSlow.into())))
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

#[cfg(test)]
mod tests {
    use futures_util::StreamExt;
    use http_body_util::StreamBody;

    use super::*;

    fn declared(bytes: usize) -> HeaderMap {
        HeaderMap::from_iter([(header::CONTENT_LENGTH, http::HeaderValue::from(bytes))])
    }

    #[test]
    fn one_network_fills_its_own_room_and_no_more_and_gets_it_back() {
        let bodies = Arc::new(Bodies::default());
        let (a, b): (IpAddr, IpAddr) = ("2001:db8::1".parse().unwrap(), "192.0.2.8".parse().unwrap());
        let neighbour: IpAddr = "2001:db8::2".parse().unwrap();
        let max = 512 * 1024;
        let held: Vec<_> = (0..NETWORK_MAX / max).map(|_| bodies.room(a, &HeaderMap::new(), max).unwrap()).collect();
        assert!(bodies.room(a, &declared(1), max).is_none() && bodies.room(neighbour, &declared(1), max).is_none());
        assert!(bodies.room(b, &declared(max * 9), max).is_some(), "no more is counted than is read");
        drop(held);
        assert!(bodies.room(a, &HeaderMap::new(), max).is_some());
        assert!(bodies.0.lock().unwrap().networks.is_empty());
        // In all: many networks together.
        let of = |i: usize| IpAddr::from([10, (i >> 8) as u8, i as u8, 1]);
        let everybody: Vec<_> = (0..).map_while(|i| bodies.room(of(i), &HeaderMap::new(), NETWORK_MAX)).collect();
        assert_eq!(everybody.len(), ALL_MAX / NETWORK_MAX);
        assert!(bodies.room(b, &declared(1), max).is_none());
    }

    /// A body of one part that came so long ago, with nothing after it.
    async fn stalled(bytes: usize, ago: Duration) -> Option<Result<Frame<Bytes>, BoxError>> {
        let first = futures_util::stream::iter([Ok::<_, BoxError>(Frame::data(Bytes::from(vec![0; bytes])))]);
        let body = StreamBody::new(first.chain(futures_util::stream::pending())).boxed_unsync();
        let began = Instant::now() - ago;
        let mut paced = Paced { body: Limited::new(body, 1 << 20), _room: None, began, seen: 0, late: None };
        paced.frame().await.unwrap().unwrap();
        futures_util::FutureExt::now_or_never(paced.frame()).flatten()
    }

    #[tokio::test]
    async fn a_body_that_drips_is_ended_and_one_that_moves_is_not() {
        let (soon, later) = (Duration::from_secs(9), Duration::from_secs(12));
        assert!(stalled(1, soon).await.is_none());
        assert!(stalled(1, later).await.unwrap().unwrap_err().is::<TooSlow>());
        assert!(stalled(3 * LEAST_RATE, later).await.is_none());
        let large = crate::body::full(vec![0; 64 * 1024 + 1]);
        assert!(paced(large, 64 * 1024, None).collect().await.unwrap_err().is::<http_body_util::LengthLimitError>());
    }
}
