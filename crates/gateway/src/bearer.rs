//! Who a request through a gate is sent for: an admitted session, or nobody, where a section is open.

use std::sync::Arc;

use http::{HeaderName, HeaderValue};
use passeur_core::decide::Opened;
use passeur_core::delivery::{fold_name, folds_to};
use passeur_core::site::{Gate, Site};
use tokio::sync::futures::OwnedNotified;
use uuid::Uuid;

use crate::admission::{Admission, Counters};

/// What open sections of a gate share: names to strip, so that nobody delivers to themselves, and counters.
#[derive(Debug, Default)]
pub(crate) struct OpenGate {
    strip: Vec<String>,
    counters: Counters,
}

impl OpenGate {
    pub(crate) fn new(site: &Site, gate: &Gate) -> OpenGate {
        let strip = site.delivery(gate).map(|d| d.headers.iter().map(|h| fold_name(&h.name)).collect()).unwrap_or_default();
        OpenGate { strip, counters: Counters::default() }
    }
}

/// See the module.
#[derive(Clone, Debug)]
pub(crate) enum Bearer {
    Admitted(Arc<Admission>),
    Open(Opened, Arc<OpenGate>),
}

impl Bearer {
    /// Whether a client's header of this name could be taken for a delivered one.
    pub(crate) fn strips(&self, name: &HeaderName) -> bool {
        match self {
            Bearer::Admitted(a) => a.strips(name),
            Bearer::Open(_, open) => open.strip.iter().any(|s| folds_to(name.as_str(), s)),
        }
    }

    /// Headers to insert.
    pub(crate) fn headers(&self) -> &[(HeaderName, HeaderValue)] {
        match self {
            Bearer::Admitted(a) => a.headers(),
            Bearer::Open(..) => &[],
        }
    }

    pub(crate) fn counters(&self) -> &Counters {
        match self {
            Bearer::Admitted(a) => &a.counters,
            Bearer::Open(_, open) => &open.counters,
        }
    }

    /// Whether the session was ended; an open section has none that could be.
    pub(crate) fn is_ended(&self) -> bool {
        matches!(self, Bearer::Admitted(a) if a.session.is_ended())
    }

    /// Ready once the session is ended after this was made and polled.
    pub(crate) fn when_ended(&self) -> Option<OwnedNotified> {
        match self {
            Bearer::Admitted(a) => Some(a.session.when_ended()),
            Bearer::Open(..) => None,
        }
    }

    /// Returns when the session is ended.
    pub(crate) async fn until_ended(&self) {
        match self {
            Bearer::Admitted(a) => a.session.until_ended().await,
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
