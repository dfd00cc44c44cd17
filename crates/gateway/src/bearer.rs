//! Who a request through a gate is sent for: an admitted session, or nobody, where a section is open.

use std::sync::Arc;

use http::{HeaderName, HeaderValue};
use passeur_core::decide::Opened;
use tokio::sync::futures::OwnedNotified;
use uuid::Uuid;

use crate::admission::{Admission, Counters};
use crate::names::Names;

/// What open sections of a gate share: names to strip, so that nobody delivers to themselves, and counters.
#[derive(Debug)]
pub(crate) struct OpenGate {
    names: Arc<Names>,
    counters: Counters,
}

impl OpenGate {
    pub(crate) fn names(&self) -> &Names {
        &self.names
    }

    pub(crate) fn new(names: Arc<Names>) -> OpenGate {
        OpenGate { names, counters: Counters::default() }
    }
}

/// What goes to an application with the requests of somebody who sends the same cookies, written once for a connection.
#[derive(Debug)]
pub(crate) struct Written {
    /// What it is told of the person.
    pub(crate) headers: Vec<(HeaderName, HeaderValue)>,
    /// The client's cookies without ours.
    pub(crate) cookie: Option<HeaderValue>,
}

/// See the module.
#[derive(Clone, Debug)]
pub(crate) enum Bearer {
    Admitted(Arc<Admission>),
    Open(Opened, Arc<OpenGate>),
}

impl Bearer {
    /// The names of what the gate delivers.
    pub(crate) fn names(&self) -> &Names {
        match self {
            Bearer::Admitted(a) => a.names(),
            Bearer::Open(_, open) => &open.names,
        }
    }

    /// Whether nobody was asked who they are.
    pub(crate) fn is_nobody(&self) -> bool {
        matches!(self, Bearer::Open(..))
    }

    pub(crate) fn counters(&self) -> &Counters {
        match self {
            Bearer::Admitted(a) => &a.counters,
            Bearer::Open(_, open) => &open.counters,
        }
    }

    /// Whether the session was ended or the admission taken back; an open section has none that could be.
    pub(crate) fn is_over(&self) -> bool {
        matches!(self, Bearer::Admitted(a) if a.is_over())
    }

    /// Ready once that may have happened after this was made and polled.
    pub(crate) fn when_over(&self) -> Option<OwnedNotified> {
        match self {
            Bearer::Admitted(a) => Some(a.when_over()),
            Bearer::Open(..) => None,
        }
    }

    /// Returns when that happened.
    pub(crate) async fn until_over(&self) {
        match self {
            Bearer::Admitted(a) => a.until_over().await,
            Bearer::Open(..) => std::future::pending().await,
        }
    }

    /// What an upstream is chosen by.
    pub(crate) fn session(&self) -> Uuid {
        match self {
            Bearer::Admitted(a) => a.session.id,
            Bearer::Open(..) => Uuid::nil(),
        }
    }
}
