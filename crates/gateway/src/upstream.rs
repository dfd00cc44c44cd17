//! The upstream pool. It takes an [`Outgoing`] and nothing else.

use std::future::Future;
use std::io;
use std::net::SocketAddr;
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use http::Response;
use hyper::body::Incoming;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::client::legacy::connect::dns::Name;
use hyper_util::client::legacy::{Client, Error};
use hyper_util::rt::{TokioExecutor, TokioTimer};
use passeur_links::resolve::resolve;

use crate::body::Body;
use crate::control::UpstreamFailure;
use crate::outgoing::Outgoing;

/// How long an upstream may take to accept a connection.
const CONNECT_LIMIT: Duration = Duration::from_secs(5);
/// How long it may take to begin its answer.
const ANSWER_LIMIT: Duration = Duration::from_secs(60);

#[derive(Clone)]
struct Resolver;

impl tower::Service<Name> for Resolver {
    type Response = std::vec::IntoIter<SocketAddr>;
    type Error = io::Error;
    type Future = Pin<Box<dyn Future<Output = io::Result<Self::Response>> + Send>>;

    fn poll_ready(&mut self, _: &mut Context<'_>) -> Poll<io::Result<()>> {
        Poll::Ready(Ok(()))
    }

    fn call(&mut self, name: Name) -> Self::Future {
        Box::pin(async move { resolve(name.as_str(), 0).await.map(Vec::into_iter) })
    }
}

/// Connections to all upstreams.
pub(crate) struct Upstreams {
    client: Client<HttpConnector<Resolver>, Body>,
}

impl Upstreams {
    pub(crate) fn new() -> Upstreams {
        let mut connector = HttpConnector::new_with_resolver(Resolver);
        connector.set_nodelay(true);
        connector.set_connect_timeout(Some(CONNECT_LIMIT));
        let client = Client::builder(TokioExecutor::new())
            .pool_timer(TokioTimer::new())
            .pool_idle_timeout(Duration::from_secs(30))
            .pool_max_idle_per_host(64)
            .build(connector);
        Upstreams { client }
    }

    /// Sends a request. The answer's body streams.
    pub(crate) async fn send(&self, outgoing: Outgoing) -> Result<Response<Incoming>, UpstreamFailure> {
        match tokio::time::timeout(ANSWER_LIMIT, self.client.request(outgoing.into_request())).await {
            Ok(Ok(response)) => Ok(response),
            Ok(Err(e)) => Err(explain(&e)),
            Err(_) => Err(UpstreamFailure::TimeOut),
        }
    }
}

fn explain(e: &Error) -> UpstreamFailure {
    let mut cause: Option<&(dyn std::error::Error + 'static)> = Some(e);
    while let Some(c) = cause {
        if c.downcast_ref::<io::Error>().is_some_and(|e| e.kind() == io::ErrorKind::TimedOut) {
            return UpstreamFailure::TimeOut;
        }
        cause = c.source();
    }
    if e.is_connect() { UpstreamFailure::Connect } else { UpstreamFailure::Protocol }
}
