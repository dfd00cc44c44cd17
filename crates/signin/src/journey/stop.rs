//! How a sign-in ends that leads nowhere: one type for what went wrong. [`crate::answer`] makes an answer of it.

use axum::response::Response;
use http::StatusCode;
use passeur_core::crossing::Outcome;
use passeur_engine::attempt::Attempt;
use passeur_store::StoreError;

use super::desk::Desk;
use super::destination::Destination;

/// Why a sign-in leads nowhere.
pub enum Why {
    /// The last step says why.
    Ended { outcome: Outcome, status: StatusCode },
    /// The last step says why, and nothing is known of who came: it is recorded with what is alike.
    Nobody { outcome: Outcome, status: StatusCode },
    /// It was recorded already, and this page tells of it.
    Told(Box<Response>),
    /// The edition has nothing that this could lead to.
    NotSetUp,
    /// The trial is over, or was never begun.
    TrialOver,
    /// The store does not answer: nobody is let in, and nothing is shown that was not recorded.
    Store(StoreError),
}

impl Why {
    /// A check of ours failed.
    pub const FAILED_CHECK: Why = Why::Ended { outcome: Outcome::CheckFailed, status: StatusCode::FORBIDDEN };
    /// A part of this node did not answer.
    pub const UNAVAILABLE: Why = Why::Ended { outcome: Outcome::Failed, status: StatusCode::SERVICE_UNAVAILABLE };
    /// A provider, or another part elsewhere, did not answer.
    pub const SILENT: Why = Why::Ended { outcome: Outcome::Failed, status: StatusCode::BAD_GATEWAY };
    /// Nobody could be sent to the provider.
    pub const NOT_SENT: Why = Why::Nobody { outcome: Outcome::Failed, status: StatusCode::BAD_GATEWAY };
    /// What the address says is no request of a gate of ours, or is too old.
    pub const ASK_UNREADABLE: Why = Why::Nobody { outcome: Outcome::CheckFailed, status: StatusCode::BAD_REQUEST };
}

impl From<StoreError> for Why {
    fn from(e: StoreError) -> Why {
        Why::Store(e)
    }
}

impl From<Response> for Why {
    fn from(page: Response) -> Why {
        Why::Told(Box::new(page))
    }
}

/// A sign-in that leads nowhere, with all that answering takes.
pub struct Stop<'a> {
    pub desk: Desk<'a>,
    pub attempt: Attempt,
    /// Where it led, where that was known.
    pub to: Option<Destination>,
    pub why: Why,
    /// Cookies to set with the answer: what began before it stopped.
    pub cookies: Vec<String>,
}
